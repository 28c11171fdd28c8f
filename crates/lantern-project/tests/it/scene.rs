//! A project with two exports, and a stand-in storefront that it is connected to.

use std::fs;
use std::path::PathBuf;
use std::sync::Arc;

use lantern_core::names::Name;
use lantern_core::progress::Silent;
use lantern_core::system::System;
use lantern_project::{
    Access, InstallDone, InstallWanted, PrepareOptions, Prepared, Project, PushDone, PushTexts, Session, install_branch,
};
use lantern_rehearsal::exports::{GameVersion, write_linux, write_windows};
use lantern_rehearsal::server::Running;
use lantern_rehearsal::stand_in::{CLIENT_ID, StandIn, StandInDocument};
use lantern_storefront::protocol::Title;

pub struct Scene {
    temp: tempfile::TempDir,
    running: Option<Running>,
}

pub fn name(text: &str) -> Name {
    text.parse().unwrap()
}

impl Scene {
    pub fn new() -> Self {
        let temp = tempfile::tempdir().unwrap();
        let mut document = StandInDocument::brambleyard();
        document.rules.branches.fixed.iter_mut().for_each(|branch| branch.carried = None);
        let stand_in = StandIn::open(&temp.path().join("storefront"), document).unwrap();
        let handle = |text: &str| text.parse().unwrap();
        stand_in
            .make_title(&Title {
                handle: handle("saltmarsh-post"),
                name: "Saltmarsh Post".into(),
                identity: "example.paperheron.saltmarsh".parse().unwrap(),
                depots: vec![handle("sp-windows"), handle("sp-linux"), handle("sp-french")],
            })
            .unwrap();
        let running = Running::start(stand_in, 0).unwrap();
        let scene = Self { temp, running: Some(running) };
        scene.configure("1.4.0");
        scene.export(GameVersion::Old);
        let access =
            Access { client_id: CLIENT_ID.into(), client_secret: scene.running().stand_in().secret().to_owned() };
        scene.session().connect("brambleyard", access).unwrap();
        scene
    }

    fn running(&self) -> &Running {
        self.running.as_ref().unwrap()
    }

    /// Ends the storefront; returns where it was, and the secret that it gave access for.
    pub fn close(&mut self) -> (String, String) {
        let running = self.running.take().unwrap();
        let address = running.origin().strip_prefix("http://").unwrap().to_owned();
        (address, running.stand_in().secret().to_owned())
    }

    pub fn configure(&self, version: &str) {
        let text = format!(
            r#"
[game]
name = "Saltmarsh Post"
studio = "Paper Heron"
identity = "example.paperheron.saltmarsh"
version = "{version}"

[targets.windows]
export = "exports/windows"
starts = ["Saltmarsh Post.exe"]
keep-aside = ["*.pdb"]

[targets.linux]
export = "exports/linux"
starts = ["saltmarsh"]

[storefronts.brambleyard]
kind = "protocol"
address = "{}"
handle = "saltmarsh-post"
depots = {{ windows = "sp-windows", linux = "sp-linux" }}
branches = {{ open-water = {{ audience = "everyone" }} }}
"#,
            self.running().origin()
        );
        fs::create_dir_all(self.path("game")).unwrap();
        fs::write(self.path("game/lantern.toml"), text).unwrap();
    }

    pub fn export(&self, version: GameVersion) {
        write_windows(&self.path("game/exports/windows"), version).unwrap();
        self.export_linux(version);
    }

    pub fn export_linux(&self, version: GameVersion) {
        write_linux(&self.path("game/exports/linux"), version, System::LinuxX86_64).unwrap();
    }

    pub fn path(&self, path: &str) -> PathBuf {
        self.temp.path().join(path)
    }

    pub fn project(&self) -> Project {
        let mut project = Project::find(&self.path("game"), Arc::default()).unwrap();
        project.keep_access_in(self.path("home"));
        project
    }

    pub fn session(&self) -> Session {
        self.project().open().unwrap().lock().unwrap()
    }

    pub fn prepare(&self, options: &PrepareOptions) -> Prepared {
        self.session().prepare(&Name::full_edition(), options, &Silent).unwrap()
    }

    /// Exports the game, seals it under a version, and pushes it.
    pub fn push_next(&self, version: &str, export: GameVersion) -> Prepared {
        self.configure(version);
        self.export(export);
        let prepared = self.prepare(&PrepareOptions::default());
        self.push(&prepared);
        prepared
    }

    pub fn push(&self, prepared: &Prepared) -> PushDone {
        let mut session = self.session();
        let plan = session.plan_push("brambleyard", prepared.release.clone(), PushTexts::default(), &Silent).unwrap();
        session.push(&plan, &Silent).unwrap()
    }

    /// Pushes a release, and puts it where everybody gets it.
    pub fn release(&self, prepared: &Prepared) {
        self.push(prepared);
        self.promote(prepared);
    }

    pub fn promote(&self, prepared: &Prepared) {
        let mut session = self.session();
        let branch = name("open-water");
        let plan = session.plan_promote("brambleyard", &branch, prepared.release.clone(), None).unwrap();
        session.move_branch(&plan).unwrap();
    }

    /// Installs a target into a folder.
    pub fn install(&self, target: &str, folder: &str) -> InstallDone {
        let wanted =
            InstallWanted { target: Some(name(target)), folder: Some(self.path(folder)), ..InstallWanted::default() };
        install_branch(&self.project(), "brambleyard", &name("open-water"), &wanted, &Silent).unwrap()
    }
}
