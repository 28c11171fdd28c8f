//! A temporary folder with the example game, a stand-in storefront, and the built program.

use std::collections::BTreeMap;
use std::fs;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex};

use jiff::{SignedDuration, Timestamp};
use lantern_core::bytes;
use lantern_core::system::System;
use lantern_rehearsal::exports::{self, GameVersion};
use lantern_rehearsal::server::Running;
use lantern_rehearsal::stand_in::{StandIn, StandInDocument};
use lantern_store::room_left;
use lantern_storefront::protocol::Title;
use serde_json::Value;

pub const BINARY: &str = env!("CARGO_BIN_EXE_lantern");

/// Three desktops; what they share is in the depots.
const DESKTOPS: &str = r#"[game]
name = "Saltmarsh Post"
studio = "Paper Heron"
identity = "example.paperheron.saltmarsh"
version = "1.3.2"

[targets.windows]
export = "exports/windows"
install-folder = "Saltmarsh Post"
keep-aside = ["*.pdb"]

[targets.macos]
export = "exports/macos"

[targets.linux]
export = "exports/linux"
starts = "saltmarsh"
leave-out = ["notes/**"]
"#;

/// Three desktops, the voices that they share, and Brambleyard.
pub fn desktops(address: &str) -> String {
    [DESKTOPS, exports::config::DESKTOP_DEPOTS, &exports::config::brambleyard(address, "")].join("\n")
}

/// Lets a test give versions that the builds of other systems do not have inside.
pub const TRIED_VERSIONS: &str =
    "[checks]\naccept = [{ code = \"version-differs\", because = \"only tried\" }]\n\n[targets.linux]";

pub struct TestEnv {
    temp: tempfile::TempDir,
    running: Option<Running>,
    /// How many programs were started: each has a minute of its own, and randomness of its own.
    started: AtomicU32,
}

/// When a test begins.
const BEGIN: Timestamp = Timestamp::constant(1_795_773_600, 0);

/// What a run printed and how it ended.
pub struct Ran {
    pub output: Output,
}

impl Ran {
    pub fn stdout(&self) -> String {
        String::from_utf8_lossy(&self.output.stdout).into_owned()
    }

    pub fn stderr(&self) -> String {
        String::from_utf8_lossy(&self.output.stderr).into_owned()
    }

    pub fn code(&self) -> i32 {
        self.output.status.code().unwrap_or(-1)
    }

    #[track_caller]
    pub fn success(self) -> Self {
        assert_eq!(self.code(), 0, "stdout:\n{}\nstderr:\n{}", self.stdout(), self.stderr());
        self
    }

    #[track_caller]
    pub fn fails(self, code: i32) -> Self {
        assert_eq!(self.code(), code, "stdout:\n{}\nstderr:\n{}", self.stdout(), self.stderr());
        self
    }

    #[track_caller]
    pub fn json(&self) -> Value {
        let document: Value = serde_json::from_slice(&self.output.stdout)
            .unwrap_or_else(|e| panic!("{e}\nstdout:\n{}\nstderr:\n{}", self.stdout(), self.stderr()));
        crate::schema::check(&document);
        document
    }

    /// What the document says of the only release, push or edition in it.
    #[track_caller]
    pub fn one(&self) -> Value {
        let document = self.json();
        let lists = ["releases", "pushes", "editions"].into_iter().filter_map(|list| document[list].as_array());
        let all: Vec<&Value> = lists.flatten().collect();
        assert_eq!(all.len(), 1, "{document}");
        all[0].clone()
    }

    /// Everything in one text, for a snapshot.
    pub fn whole(&self) -> String {
        let mut out = self.stdout();
        if !self.output.stderr.is_empty() {
            out += &format!("------- stderr -------\n{}", self.stderr());
        }
        if self.code() != 0 {
            out += &format!("[exit status: {}]\n", self.code());
        }
        out
    }
}

/// Room that a disk in memory must have to be used, in bytes.
const ROOM_IN_MEMORY: u64 = 4 * 1024 * 1024 * 1024;

/// A temporary folder: in memory where Linux has a disk there, unless `TMPDIR` says where. On a real disk the tests wait for it half of the time;
/// `scripts/other-disks.sh` tries real ones.
pub fn folder() -> tempfile::TempDir {
    let memory = Path::new("/dev/shm");
    let is_wanted = cfg!(target_os = "linux") && std::env::var_os("TMPDIR").is_none();
    let has_room = || room_left::free(memory).is_some_and(|free| free >= ROOM_IN_MEMORY);
    if is_wanted && memory.is_dir() && has_room() {
        return tempfile::tempdir_in(memory).unwrap();
    }
    tempfile::tempdir().unwrap()
}

impl TestEnv {
    /// A folder with the old export and a finished `lantern.toml`; the stand-in runs and has the title.
    pub fn new() -> Self {
        let mut env = Self::without_storefront();
        env.open_storefront(0);
        env.make_title();
        env.write("lantern.toml", &env.config("1.3.2"));
        env
    }

    pub fn without_storefront() -> Self {
        let env = Self { temp: folder(), running: None, started: AtomicU32::default() };
        env.export(GameVersion::Old);
        env
    }

    /// As [`TestEnv::new`], on a disk of its own.
    #[cfg(feature = "other-disks")]
    pub fn on_disk(variable: &str) -> Self {
        let disk = std::env::var(variable).unwrap_or_else(|_| panic!("{variable}: see scripts/other-disks.sh"));
        let mut env = Self { temp: tempfile::tempdir_in(disk).unwrap(), running: None, started: AtomicU32::default() };
        env.export(GameVersion::Old);
        env.open_storefront(0);
        env.make_title();
        env.write("lantern.toml", &env.config("1.3.2"));
        env
    }

    /// The whole chain up to the first release being live.
    pub fn live() -> Self {
        let env = Self::new();
        env.connect();
        env.release("1.3.2 (1)");
        env
    }

    /// The exports of three desktops with voices that they share, and Brambleyard with all its lines; connected.
    pub fn desktops() -> Self {
        let mut env = Self { temp: folder(), running: None, started: AtomicU32::default() };
        env.open_stand_in(StandInDocument::brambleyard(), 0);
        env.export_desktops(GameVersion::Old);
        env.write("lantern.toml", &desktops(&env.running().origin()));
        let handles = ["sp-win", "sp-mac", "sp-linux", "sp-voices", "sp-voix", "sp-koe", "sp-tide"];
        for (handle, name) in [("saltmarsh-post", "Saltmarsh Post"), ("sp-first-tide", "Saltmarsh Post: First Tide")] {
            env.make_title_of(handle, name, &handles);
        }
        env.connect();
        env
    }

    pub fn export_desktops(&self, version: GameVersion) {
        let folder = self.path("exports");
        exports::write_all(&folder, version, System::LinuxX86_64).unwrap();
    }

    pub fn make_title_of(&self, handle: &str, name: &str, depots: &[&str]) {
        let title = Title {
            handle: handle.parse().unwrap(),
            name: name.into(),
            identity: "example.paperheron.saltmarsh".parse().unwrap(),
            depots: depots.iter().map(|d| d.parse().unwrap()).collect(),
        };
        self.running().stand_in().make_title(&title).unwrap();
    }

    /// Opens the stand-in with everybody's line alone; its other lines have tests of their own.
    pub fn open_storefront(&mut self, port: u16) {
        self.open_stand_in(one_line(), port);
    }

    pub fn open_stand_in(&mut self, document: StandInDocument, port: u16) {
        self.open_storefront_in(&self.path("storefront"), document, port);
    }

    pub fn open_storefront_in(&mut self, folder: &Path, document: StandInDocument, port: u16) {
        // A port that is opened again may be another test's for a moment.
        let open = || Running::start(StandIn::open(folder, document.clone()).unwrap(), port);
        let mut tries = 0;
        self.running = Some(loop {
            match open() {
                Ok(running) => break running,
                Err(error) if tries == 100 => panic!("{error:?}"),
                Err(_) => {
                    tries += 1;
                    std::thread::sleep(std::time::Duration::from_millis(100));
                }
            }
        });
    }

    pub fn close_storefront(&mut self) -> u16 {
        let running = self.running.take().unwrap();
        running.origin().rsplit(':').next().unwrap().parse().unwrap()
    }

    pub fn running(&self) -> &Running {
        self.running.as_ref().unwrap()
    }

    pub fn make_title(&self) {
        self.make_title_of("saltmarsh-post", "Saltmarsh Post", &["sp-linux"]);
    }

    pub fn config(&self, version: &str) -> String {
        format!(
            r#"[game]
name = "Saltmarsh Post"
studio = "Paper Heron"
identity = "example.paperheron.saltmarsh"
version = "{version}"

[targets.linux]
export = "exports/linux"
systems = ["linux-x86_64"]
starts = "saltmarsh"
leave-out = ["notes/**"]
must-have = ["saltmarsh.dat"]

[storefronts.brambleyard]
kind = "protocol"
address = "{}"
handle = "saltmarsh-post"
depots = {{ linux = "sp-linux" }}

[storefronts.brambleyard.branches]
open-water = {{ audience = "everyone" }}
"#,
            self.running().origin()
        )
    }

    pub fn export(&self, version: GameVersion) {
        exports::write_linux(&self.path("exports/linux"), version, System::LinuxX86_64).unwrap();
    }

    /// The new export, with the version raised.
    pub fn next_version(&self) {
        self.export(GameVersion::New);
        self.write("lantern.toml", &self.config("1.4.0"));
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.temp.path().join(name)
    }

    pub fn write(&self, name: &str, text: &str) {
        self.write_bytes(name, text.as_bytes());
    }

    pub fn write_bytes(&self, name: &str, bytes: &[u8]) {
        let path = self.path(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }

    pub fn read(&self, name: &str) -> Vec<u8> {
        fs::read(self.path(name)).unwrap()
    }

    pub fn edit(&self, name: &str, from: &str, to: &str) {
        let text = fs::read_to_string(self.path(name)).unwrap();
        assert!(text.contains(from), "{from:?} is not in {name}");
        self.write(name, &text.replacen(from, to, 1));
    }

    /// The minute of the program that was started last.
    pub fn minute(&self) -> u32 {
        self.started.load(Ordering::Relaxed)
    }

    /// Goes back to an earlier minute, as everything else has.
    pub fn set_minute(&self, minute: u32) {
        self.started.store(minute, Ordering::Relaxed);
    }

    /// Lets time pass, here and at the storefront.
    pub fn pass_hours(&self, hours: u32) {
        self.started.fetch_add(hours * 60, Ordering::Relaxed);
    }

    /// From now on the Japanese voices come with an add-on.
    pub fn make_an_add_on_of_voices_ja(&self) {
        self.edit("lantern.toml", "choice = { voices = \"ja\" }\n", "");
        let songs = "[editions.songs]\nname = \"Saltmarsh Songs\"\nkind = \"add-on\"\ndepots = [\"voices-ja\"]\n\n";
        self.edit("lantern.toml", "[choices.voices]", &format!("{songs}[choices.voices]"));
    }

    /// The program with a cleared environment, in a folder below the temporary one.
    pub fn command_in(&self, folder: &str, arguments: &[&str]) -> Command {
        let started = self.started.fetch_add(1, Ordering::Relaxed) + 1;
        let now = BEGIN + SignedDuration::from_mins(i64::from(started));
        let mut command = Command::new(BINARY);
        command
            .args(arguments)
            .current_dir(self.path(folder))
            .env_clear()
            .env("LANTERN_HOME", self.path("home"))
            .env("USER", "wren")
            .env("TZ", "UTC")
            .env("LANTERN_CLOCK", now.to_string())
            .env("LANTERN_SEED", started.to_string())
            .env("LANTERN_KEY_ROUNDS", "1000")
            .stdin(Stdio::null());
        if let Some(running) = &self.running {
            command.env("LANTERN_SECRET", running.stand_in().secret());
            running.stand_in().set_clock(now);
        }
        command
    }

    pub fn command(&self, arguments: &[&str]) -> Command {
        self.command_in(".", arguments)
    }

    pub fn lantern(&self, arguments: &[&str]) -> Ran {
        Ran { output: self.command(arguments).output().unwrap() }
    }

    pub fn connect(&self) {
        self.lantern(&["connect", "brambleyard", "--client", "paper-heron"]).success();
    }

    /// Prepares, pushes and promotes; the release must come to have this name.
    #[track_caller]
    pub fn release(&self, name: &str) {
        self.lantern(&["prepare"]).success();
        self.lantern(&["push", "brambleyard", "--yes"]).success();
        self.lantern(&["promote", "brambleyard", "open-water", "--confirm", name]).success();
    }

    /// A kind of every event in the ledger, oldest first.
    pub fn event_kinds(&self) -> Vec<String> {
        let document = self.lantern(&["history", "--all", "--count", "1000", "--json"]).success().json();
        let events = document["events"].as_array().unwrap();
        events.iter().rev().map(|e| e["kind"].as_str().unwrap().to_owned()).collect()
    }

    /// What the storefront itself says is on the line, as `release build revision`.
    pub fn on_branch(&self) -> String {
        let document = self.lantern(&["live", "--json"]).success().json();
        let branch = &document["storefronts"][0]["branches"][0];
        let build = &branch["targets"]["linux"];
        let version = build["version"].as_str().unwrap_or("nothing");
        format!("{version} ({}) build {} revision {}", build["number"], build["number_there"], branch["revision"])
    }
}

/// A line to a server on which something happens once, just before a request of a certain beginning comes through.
/// Returns its address.
pub fn line_to(origin: &str, before: &'static str, happens: impl FnOnce() + Send + 'static) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    let server = origin.strip_prefix("http://").unwrap().to_owned();
    let happens = Arc::new(Mutex::new(Some(happens)));
    std::thread::spawn(move || {
        for client in listener.incoming().map(Result::unwrap) {
            let (server, happens) = (TcpStream::connect(&server).unwrap(), happens.clone());
            let (mut answers, mut to_client) = (server.try_clone().unwrap(), client.try_clone().unwrap());
            // Both directions end when one side hangs up.
            std::thread::spawn(move || std::io::copy(&mut answers, &mut to_client));
            std::thread::spawn(move || forward(client, server, before, &happens));
        }
    });
    address
}

fn forward(mut from: TcpStream, mut to: TcpStream, before: &str, happens: &Mutex<Option<impl FnOnce()>>) {
    let mut buffer = [0; 64 * 1024];
    while let Ok(len @ 1..) = from.read(&mut buffer) {
        if buffer[..len].starts_with(before.as_bytes())
            && let Some(happens) = happens.lock().unwrap().take()
        {
            happens();
        }
        if to.write_all(&buffer[..len]).is_err() {
            break;
        }
    }
    let _ = to.shutdown(std::net::Shutdown::Both);
}

/// A line to a server that changes its JSON answers by the path that was asked for. Returns its address.
pub fn rewriting_line_to(origin: &str, change: fn(&str, Value) -> Value) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    let server = origin.strip_prefix("http://").unwrap().to_owned();
    std::thread::spawn(move || {
        for client in listener.incoming().map(Result::unwrap) {
            let server = server.clone();
            std::thread::spawn(move || answer_changed(client, &server, change));
        }
    });
    address
}

/// Passes one request on, and its answer back; the connection ends with it.
fn answer_changed(mut client: TcpStream, server: &str, change: fn(&str, Value) -> Value) {
    let Some((head, body)) = read_message(&mut client) else { return };
    let path = head.split(' ').nth(1).unwrap_or_default().to_owned();
    let mut server = TcpStream::connect(server).unwrap();
    let lines: Vec<&str> = head.lines().filter(|l| !l.to_lowercase().starts_with("connection:")).collect();
    let sent = format!("{}\r\nConnection: close\r\n\r\n", lines.join("\r\n"));
    server.write_all(sent.as_bytes()).and_then(|()| server.write_all(&body)).unwrap();
    let Some((head, mut body)) = read_message(&mut server) else { return };
    if head.to_lowercase().contains("content-type: application/json")
        && let Ok(value) = serde_json::from_slice::<Value>(&body)
    {
        body = change(&path, value).to_string().into_bytes();
    }
    let is_kept = |line: &&str| {
        let line = line.to_lowercase();
        !["content-length:", "connection:", "transfer-encoding:"].iter().any(|name| line.starts_with(name))
    };
    let lines: Vec<&str> = head.lines().filter(is_kept).collect();
    let head = format!("{}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n", lines.join("\r\n"), body.len());
    // Anyone who asked may have gone.
    let _ = client.write_all(head.as_bytes()).and_then(|()| client.write_all(&body));
}

/// Reads the head of a message and its body; without a length the body is all that comes, or nothing.
fn read_message(from: &mut TcpStream) -> Option<(String, Vec<u8>)> {
    let mut bytes = Vec::new();
    let mut buffer = [0; 64 * 1024];
    let end = loop {
        if let Some(at) = bytes.windows(4).position(|w| w == b"\r\n\r\n") {
            break at;
        }
        match from.read(&mut buffer) {
            Ok(len @ 1..) => bytes.extend_from_slice(&buffer[..len]),
            _ => return None,
        }
    };
    let head = String::from_utf8_lossy(&bytes[..end]).into_owned();
    let mut body = bytes.split_off(end + 4);
    let len = head.lines().find_map(|l| l.to_lowercase().strip_prefix("content-length:")?.trim().parse::<usize>().ok());
    let wanted = len.unwrap_or(if head.starts_with("HTTP/") { usize::MAX } else { 0 });
    while body.len() < wanted {
        match from.read(&mut buffer) {
            Ok(len @ 1..) => body.extend_from_slice(&buffer[..len]),
            _ => break,
        }
    }
    Some((head, body))
}

/// Brambleyard with everybody's line alone.
pub fn one_line() -> StandInDocument {
    let mut document = StandInDocument::brambleyard();
    document.rules.branches.fixed.retain(|branch| branch.name.as_str() == "open-water");
    document.rules.branches.fixed.iter_mut().for_each(|branch| branch.carried = None);
    document
}

/// Replaces what differs from run to run.
pub fn settings() -> insta::Settings {
    let mut settings = insta::Settings::clone_current();
    settings.set_prepend_module_to_snapshot(false);
    settings.add_filter(r"127\.0\.0\.1:\d+", "127.0.0.1:PORT");
    settings.add_filter(r"/[^ \n]*/home/access/[0-9a-f]{12}\.json", "HOME/access/ORIGIN.json");
    settings.add_filter(r"/[^ \n]*/(\.tmp[A-Za-z0-9]+)", "FOLDER");
    settings.add_filter(r"(?m)release id +[0-9a-f]{12}", "release id  ID");
    settings.add_filter(r"in \d+\.\d seconds", "in S seconds");
    settings.add_filter(r"PATH=[^ \n]*:\$PATH", "PATH=BIN:$$PATH");
    settings.add_filter(r"process \d+", "process PID");
    settings
}

/// Every regular file below a folder, by name, but our own state.
pub fn files(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    paths(folder).into_iter().map(|(name, path)| (name, fs::read(path).unwrap())).collect()
}

/// Whether bytes hold others.
pub fn holds(bytes: &[u8], what: impl AsRef<[u8]>) -> bool {
    bytes::find(bytes, what.as_ref(), 0).is_some()
}

/// Where the files of a folder lie, by their name in it, without what belongs to the way it was installed.
pub fn paths(folder: &Path) -> BTreeMap<String, PathBuf> {
    paths_without(folder, &[".lantern-install", "notes"])
}

/// As [`paths`], without what has one of these names.
pub fn paths_without(folder: &Path, names: &[&str]) -> BTreeMap<String, PathBuf> {
    let mut out = BTreeMap::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(at) = folders.pop() {
        for entry in fs::read_dir(&at).unwrap() {
            let path = entry.unwrap().path();
            if names.iter().any(|name| path.file_name().is_some_and(|n| n == *name)) {
                continue;
            }
            if path.is_dir() {
                folders.push(path);
            } else {
                let name = path.strip_prefix(folder).unwrap().to_str().unwrap().replace('\\', "/");
                out.insert(name, path);
            }
        }
    }
    out
}

/// Copies a folder with all that is in it.
pub fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap().map(Result::unwrap) {
        let target = to.join(entry.file_name());
        match entry.file_type().unwrap().is_dir() {
            true => copy(&entry.path(), &target),
            false => {
                fs::copy(entry.path(), target).unwrap();
            }
        }
    }
}

/// How often something that depends on chance is tried; `LANTERN_ROUNDS` asks for more than every run has time for.
pub fn rounds(usual: u64) -> u64 {
    std::env::var("LANTERN_ROUNDS").ok().and_then(|text| text.parse().ok()).unwrap_or(usual)
}
