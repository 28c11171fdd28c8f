//! What players get: by invitation, by what they choose, and whole again when it was damaged.

use std::fs;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::sync::{Arc, Mutex};

use lantern_core::choices::{Asked, NotOffered};
use lantern_core::finding::Code;
use lantern_core::names::Name;
use lantern_core::progress::Silent;
use lantern_project::{
    InstallWanted, InviteError, InviteWanted, PlayError, PrepareOptions, ProjectError, install_branch,
    repair_installed, verify_installed,
};

use crate::scene::{Scene, name};

/// French letters in a depot of both targets, for players who chose them.
const SHARED: &str = r#"
[choices.letters]
default = "by-language"

[depots.windows]
from = "windows"
leave-out = ["letters-fr/**"]

[depots.linux]
from = "linux"
leave-out = ["letters-fr/**"]

[depots.french]
from = ["windows", "linux"]
only = ["letters-fr/**"]
choice = { letters = "fr" }
"#;

/// A game with French letters for all.
fn with_french() -> Scene {
    let scene = Scene::new();
    let config = fs::read_to_string(scene.path("game/lantern.toml")).unwrap();
    let config = config.replace("linux = \"sp-linux\" }", "linux = \"sp-linux\", french = \"sp-french\" }") + SHARED;
    fs::write(scene.path("game/lantern.toml"), config).unwrap();
    for target in ["windows", "linux"] {
        fs::create_dir_all(scene.path(&format!("game/exports/{target}/letters-fr"))).unwrap();
        fs::write(scene.path(&format!("game/exports/{target}/letters-fr/1.txt")), "Chère Wren").unwrap();
    }
    scene
}

#[test]
fn a_shared_depot_is_one_and_must_be_the_same() {
    let scene = with_french();
    let shown = scene.project().depots(&Name::full_edition());
    let french = shown.depots.iter().find(|depot| depot.depot == name("french")).unwrap();
    assert_eq!((french.targets.as_slice(), french.files.len()), (&[name("linux"), name("windows")][..], 1));
    let sealed = scene.prepare(&PrepareOptions::default());
    let of = |target: usize| sealed.record.targets[target].depots.iter().find(|d| d.depot == name("french")).unwrap();
    assert_eq!(of(0), of(1));
    // Of the same length: only the bytes say it.
    fs::write(scene.path("game/exports/windows/letters-fr/1.txt"), "Chère Mika").unwrap();
    let error = scene.session().prepare(&Name::full_edition(), &PrepareOptions::default(), &Silent).unwrap_err();
    let ProjectError::Findings(findings) = error else { panic!("{error:?}") };
    assert_eq!(findings.iter().map(|finding| finding.code).collect::<Vec<_>>(), [Code::DepotDiffers]);
}

#[test]
fn players_have_what_they_choose() {
    let scene = with_french();
    scene.release(&scene.prepare(&PrepareOptions::default()));
    let install = |choices: &[(&str, &[&str])]| {
        let options = |names: &[&str]| names.iter().map(|option| name(option)).collect();
        let choices = choices.iter().map(|(choice, names)| (name(choice), options(names))).collect();
        let asked = Asked { choices, add_ons: None };
        let (target, folder) = (Some(name("linux")), Some(scene.path("player")));
        let wanted = InstallWanted { target, folder, asked, ..InstallWanted::default() };
        install_branch(&scene.project(), "brambleyard", &name("open-water"), &wanted, &Silent)
    };
    let has_french = || scene.path("player/letters-fr/1.txt").is_file();
    install(&[("letters", &["fr"])]).unwrap();
    assert!(has_french());
    install(&[]).unwrap();
    assert!(has_french(), "what was chosen stays");
    install(&[("letters", &[])]).unwrap();
    assert!(!has_french());
    let error = install(&[("letters", &["ja"])]).unwrap_err();
    let ProjectError::Play(PlayError::NotOffered { what, .. }) = &error else { panic!("{error:?}") };
    let NotOffered::Option { there, .. } = what.as_ref() else { panic!("{what:?}") };
    assert_eq!(*there, [name("fr")]);
    assert!(!has_french(), "nothing was installed");
}

#[test]
fn an_invitation_is_for_a_branch_that_is_not_for_everyone() {
    let scene = Scene::new();
    let wanted = |owns: &[Name]| InviteWanted { whom: "Mika".into(), until: None, folders: None, owns: owns.to_vec() };
    let error = scene.session().invite("brambleyard", &name("open-water"), &wanted(&[])).unwrap_err();
    assert!(matches!(error, ProjectError::Invite(InviteError::OpenBranch { .. })), "{error:?}");
    scene.session().invite("brambleyard", &name("creek"), &wanted(&[])).unwrap();
    let there = || scene.project().open().unwrap().invitations("brambleyard", &name("creek")).unwrap().invitations;
    assert_eq!((there().len(), there()[0].ended_at), (1, None));
    let error = scene.session().end_invitation("brambleyard", &name("creek"), "Wren").unwrap_err();
    assert!(matches!(error, ProjectError::Invite(InviteError::NoInvitation { several: false, .. })), "{error:?}");
    scene.session().end_invitation("brambleyard", &name("creek"), "Mika").unwrap();
    assert!(there()[0].ended_at.is_some());
}

#[test]
fn a_damaged_copy_is_whole_again() {
    let scene = Scene::new();
    scene.release(&scene.prepare(&PrepareOptions::default()));
    scene.install("linux", "player");
    let file = scene.path("player/saltmarsh.dat");
    let good = fs::read(&file).unwrap();
    fs::write(&file, "damaged").unwrap();
    let (_, verified) = verify_installed(&scene.path("player"), &Silent).unwrap();
    assert_eq!(verified.wrong.len(), 1);
    repair_installed(&scene.project(), &scene.path("player"), &Silent).unwrap();
    assert_eq!(fs::read(&file).unwrap(), good);
    let (_, verified) = verify_installed(&scene.path("player"), &Silent).unwrap();
    assert!(verified.wrong.is_empty());
}

/// What a storefront says that stands where another one was, and would like to have what belongs to that one.
const WHO: (&str, &str, &str) = (
    "200 OK",
    "json",
    r#"{"id":"another","name":"Another","protocol":1,"token_path":"/v1/token",
        "limits":{"pack_bytes":1,"recipe_bytes":1,"chunk_bytes":1}}"#,
);
const NOT_INVITED: (&str, &str, &str) = (
    "403 Forbidden",
    "problem+json",
    r#"{"type":"/problems/not-invited","title":"Not invited","status":403,"detail":"say who you are","fix":"connect"}"#,
);

/// Another storefront answers where the one was that gave access: it learns nothing of it.
#[test]
fn access_goes_to_nobody_but_the_storefront_that_gave_it() {
    let mut scene = Scene::new();
    scene.release(&scene.prepare(&PrepareOptions::default()));
    scene.install("linux", "player");
    let (address, secret) = scene.close();
    let heard = Arc::new(Mutex::new(Vec::new()));
    let listener = TcpListener::bind(address).unwrap();
    let all = heard.clone();
    std::thread::spawn(move || {
        for mut client in listener.incoming().map_while(Result::ok) {
            let mut buffer = [0; 16 * 1024];
            let len = client.read(&mut buffer).unwrap_or(0);
            all.lock().unwrap().extend_from_slice(&buffer[..len]);
            let is_asked_who = buffer.starts_with(b"GET /.well-known/");
            let (status, kind, body) = if is_asked_who { WHO } else { NOT_INVITED };
            let head = format!("HTTP/1.1 {status}\r\nContent-Type: application/{kind}\r\nConnection: close\r\n");
            let answer = format!("{head}Content-Length: {}\r\n\r\n{body}", body.len());
            let _ = client.write_all(answer.as_bytes());
        }
    });
    fs::remove_file(scene.path("player/saltmarsh.dat")).unwrap();
    let error = repair_installed(&scene.project(), &scene.path("player"), &Silent).unwrap_err();
    assert!(matches!(error, ProjectError::Play(PlayError::NoStorefrontFor { .. })), "{error:?}");
    let wanted =
        InstallWanted { folder: Some(scene.path("player")), target: Some(name("linux")), ..InstallWanted::default() };
    let error = install_branch(&scene.project(), "brambleyard", &name("open-water"), &wanted, &Silent);
    assert!(error.is_err());
    let heard = String::from_utf8_lossy(&heard.lock().unwrap()).to_lowercase();
    assert!(heard.contains("/.well-known/"), "it was asked who it is: {heard}");
    assert!(!heard.contains("authorization") && !heard.contains(&secret) && !heard.contains("/v1/token"), "{heard}");
}
