//! Bundles for macOS that a vendor looks at before they are sealed; the stand-in is a program in Python.

use lantern_core::digest::Digest;
use lantern_rehearsal::server::NOON_GUN;

use crate::env::{Ran, files};
use crate::keys::PASSPHRASE;
use crate::macs::{MAC, Yard};

const OFFICE: &str = "[approvals.harbour-office]\ntargets = [\"mac\"]\n";
const PROGRAM: &str =
    "run = [\"python3\", \"harbour_office.py\"]\nvalues = { desk = \"desk\" }\nusually = \"2 hours\"\n";

impl Yard {
    /// A bundle for macOS that the stand-in looks at.
    fn with_office(program: &str) -> Self {
        let yard = Self::new(&[MAC, OFFICE, program]);
        let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/examples/harbour_office.py");
        std::fs::copy(script, yard.env.path("harbour_office.py")).unwrap();
        yard
    }

    fn run_with_path(&self, arguments: &[&str]) -> Ran {
        let path = std::env::var_os("PATH").unwrap();
        let mut command = self.env.command(arguments);
        Ran { output: command.env("LANTERN_KEY_PASSPHRASE", PASSPHRASE).env("PATH", path).output().unwrap() }
    }

    /// What the ledger has of approvals, oldest first: version, standing, and what goes with that.
    fn said(&self) -> Vec<String> {
        let document = self.run(&["history", "--all", "--count", "1000", "--json"]).success().json();
        let events = document["events"].as_array().unwrap().iter().rev();
        let said = events.filter(|event| event["kind"] == "approval-said").map(|event| &event["payload"]);
        let words = |said: &serde_json::Value| {
            let text = |key: &str| said[key].as_str().unwrap_or("-").to_owned();
            [text("target"), text("version"), text("standing"), text("because")].join(" ")
        };
        said.map(words).collect()
    }

    fn answer(&self, word: &str) {
        self.env.write("desk/answer", word);
    }

    /// What was handed over.
    fn archive(&self) -> Vec<u8> {
        self.env.read(".lantern/approvals/harbour-office/mac/Saltmarsh Post.zip")
    }
}

/// Handed over, waited for, answered: the release is sealed with the ticket, and nothing else of the bundle is other than it was.
#[test]
fn a_bundle_is_looked_at_before_it_is_sealed() {
    let yard = Yard::with_office(PROGRAM);
    // A time stamp is another one each time: what was signed has to lie ready while it is waited for.
    let clock = format!("[time-stamps]\nauthority = \"{}{NOON_GUN}\"\n", yard.env.running().origin());
    let config = String::from_utf8(yard.env.read("lantern.toml")).unwrap();
    yard.env.write("lantern.toml", &format!("{config}\n{clock}"));
    yard.answer("later");
    let first = yard.run_with_path(&["prepare"]).fails(7);
    assert!(first.stderr().contains("mac waits for harbour-office: it was handed over on"), "{}", first.whole());
    assert!(first.whole().contains("it lies on the desk"), "{}", first.whole());
    let archive = yard.archive();
    let again = yard.run_with_path(&["prepare"]).fails(7);
    assert!(
        !again.whole().contains("it lies on the desk"),
        "it is asked, and not handed over again: {}",
        again.whole()
    );
    assert!(yard.archive() == archive);
    let alone = yard.run(&[]).success();
    assert!(alone.stdout().contains("waiting: its look at mac, due"), "{}", alone.whole());
    assert_eq!(yard.run(&["--json"]).json()["editions"][0]["approvals"][0]["approval"], "harbour-office");
    let late = yard.run_with_path(&["wait", "harbour-office", "--at-most", "1 second"]).fails(4);
    assert!(late.stderr().contains("there was no answer until then"), "{}", late.whole());
    yard.answer("yes");
    let answered = yard.run_with_path(&["wait", "harbour-office"]).success();
    assert!(answered.stdout().contains("harbour-office has answered"), "{}", answered.whole());
    assert_eq!(yard.said(), ["mac 1.4.0 waiting -", "mac 1.4.0 approved -"], "once each, as soon as it is known");
    let sealed = yard.run(&["prepare"]).success();
    let history = yard.run(&["history"]).success();
    for says in ["mac of 1.4.0 waits for harbour-office", "harbour-office approved mac of 1.4.0"] {
        assert!(history.stdout().contains(says), "{says} in {}", history.whole());
    }
    assert!(sealed.stdout().contains("mac by harbour-office: its ticket is attached"), "{}", sealed.whole());
    yard.written();
    let seen = yard.run(&["inspect", "out/Saltmarsh Post.app"]).success().stdout();
    assert!(seen.contains("its ticket is attached") && seen.contains("intact"), "{seen}");
    assert!(yard.verified_by_others("out/Saltmarsh Post.app"));
    assert!(yard.run(&["prepare"]).success().stdout().contains("nothing changed"));
    let alone = yard.run(&[]).success();
    assert!(!alone.stdout().contains("harbour-office"), "{}", alone.whole());
    // What was handed over, and the ticket: nothing else.
    yard.env.write_bytes("handed.zip", &archive);
    yard.unpack("handed.zip", "handed");
    let (handed, mut sealed) = (files(&yard.env.path("handed")), files(&yard.env.path("out")));
    sealed.retain(|path, _| path.starts_with("Saltmarsh Post.app/"));
    assert!(sealed.remove("Saltmarsh Post.app/Contents/CodeResources").is_some());
    assert!(handed == sealed);
}

#[test]
fn a_bundle_that_is_refused_is_not_sealed() {
    let yard = Yard::with_office(PROGRAM);
    yard.answer("later");
    yard.run_with_path(&["prepare"]).fails(7);
    yard.answer("the helper is too old");
    let refused = yard.run_with_path(&["prepare"]).fails(3);
    assert!(refused.stderr().contains("harbour-office refused it: the helper is too old"), "{}", refused.whole());
    assert_eq!(yard.said(), ["mac 1.4.0 waiting -", "mac 1.4.0 refused the helper is too old"]);
    assert!(!yard.run(&[]).success().stdout().contains("waiting"), "nothing waits any more");
    let nothing = yard.run_with_path(&["wait", "harbour-office"]).fails(2);
    assert!(
        nothing.stderr().contains("nothing that this computer handed over waits for harbour-office"),
        "{}",
        nothing.whole()
    );
    // Another build is another case, and so is the same one after a refusal.
    yard.answer("later");
    let again = yard.run_with_path(&["prepare"]).fails(7);
    assert!(again.whole().contains("it lies on the desk"), "{}", again.whole());
    let letters = "exports/mac/Saltmarsh Post.app/Contents/Resources/letters/en.txt";
    yard.env.write(letters, "Dear Aldous, once more");
    let other = yard.run_with_path(&["prepare"]).fails(7);
    assert!(other.whole().contains("it lies on the desk"), "{}", other.whole());
    // A program that is gone, or lies.
    yard.env.write("harbour_office.py", "print('{\"done\": {\"ticket\": \"lantern.toml\"}}')");
    let lies = yard.run_with_path(&["prepare"]).fails(3);
    assert!(lies.stderr().contains("is not one for this build"), "{}", lies.whole());
    yard.env.write("harbour_office.py", "raise SystemExit(9)");
    let silent = yard.run_with_path(&["prepare"]).fails(3);
    assert!(silent.stderr().contains("not known whether it was done"), "{}", silent.whole());
}

/// What a break left out of the ledger is said by the next run; a teammate with the same ledger sees what waits.
#[test]
fn others_see_what_waits() {
    let yard = Yard::with_office(PROGRAM);
    yard.answer("later");
    let state = yard.env.path(".lantern/approvals/harbour-office/mac/state.json");
    // The program ends the lantern that asks it.
    let script = yard.env.read("harbour_office.py");
    yard.env.write(
        "harbour_office.py",
        "import os, signal\nos.kill(os.getppid(), getattr(signal, 'SIGKILL', signal.SIGTERM))",
    );
    let ended = yard.run_with_path(&["prepare"]);
    assert!(!ended.output.status.success() && ended.output.status.code() != Some(7), "{}", ended.whole());
    assert!(state.exists() && yard.said().is_empty(), "it is cut between both");
    yard.env.write_bytes("harbour_office.py", &script);
    yard.run_with_path(&["prepare"]).fails(7);
    assert_eq!(yard.said(), ["mac 1.4.0 waiting -"]);
    yard.run(&["ledger", "backup"]).success();
    let config = yard.env.read("lantern.toml");
    yard.env.write_bytes("theirs/lantern.toml", &config);
    let theirs = |arguments: &[&str]| yard.run(&[&["--project", "theirs"], arguments].concat());
    theirs(&["ledger", "import", ".lantern/ledger-copy.jsonl"]).success();
    let alone = theirs(&[]).success();
    assert!(alone.stdout().contains("its look at mac, due"), "{}", alone.whole());
    assert!(alone.stdout().contains("on another computer"), "{}", alone.whole());
    let waiting = theirs(&["--json"]).json()["editions"][0]["approvals"].clone();
    assert_eq!((waiting.as_array().unwrap().len(), waiting[0]["elsewhere"].is_string()), (1, true));
    assert_eq!(yard.run(&["--json"]).json()["editions"][0]["approvals"][0]["elsewhere"], serde_json::Value::Null);
    // A ledger that was rebuilt is that of another computer, as it were; it is still this one that waits.
    std::fs::remove_file(yard.env.path(".lantern/ledger.db")).unwrap();
    yard.run(&["ledger", "rebuild"]).success();
    let here = yard.run(&["--json"]).json()["editions"][0]["approvals"].clone();
    assert_eq!((here.as_array().unwrap().len(), &here[0]["elsewhere"]), (1, &serde_json::Value::Null), "{here}");
    // What others have heard is known here.
    yard.answer("yes");
    yard.run_with_path(&["wait", "harbour-office"]).success();
    yard.run(&["ledger", "export", "more.jsonl"]).success();
    theirs(&["ledger", "import", "more.jsonl"]).success();
    let alone = theirs(&[]).success();
    assert!(!alone.stdout().contains("waiting"), "it is answered: {}", alone.whole());
}

/// A person hands it over, and hands in the ticket that comes back.
#[test]
fn a_bundle_is_handed_over_by_a_person() {
    let yard =
        Yard::with_office("how = \"Hand the archive in at the desk.\"\naddress = \"https://harbour-office.example\"\n");
    let first = yard.run(&["prepare"]).fails(7);
    for says in [
        "Saltmarsh Post.zip lies ready",
        "Hand the archive in at the desk (https://harbour-office.example)",
        "--ticket FILE",
    ] {
        let text = first.stderr().split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(text.contains(says), "{says} in {}", first.whole());
    }
    let make = "import sys; sys.path.insert(0, '.'); import harbour_office as office; \
                open('ticket', 'wb').write(office.ticket('.lantern/approvals/harbour-office/mac/Saltmarsh Post.zip'))";
    let made = std::process::Command::new("python3").args(["-c", make]).current_dir(yard.env.path("")).status();
    assert!(made.unwrap().success());
    yard.env.write("other", "s8ch and nothing that fits");
    let other = yard.run(&["prepare", "--ticket", "other"]).fails(3);
    assert!(other.stderr().contains("is for another build"), "{}", other.whole());
    yard.run(&["prepare", "--ticket", "ticket"]).success();
    yard.written();
    yard.run(&["verify", "out/Saltmarsh Post.app"]).success();
    assert!(yard.env.path("out/Saltmarsh Post.app/Contents/CodeResources").exists());
}

/// What a newer lantern has noted is not thrown away, and not asked about in a way that it may not mean.
#[test]
fn what_a_newer_lantern_handed_over_stays() {
    let yard = Yard::with_office(PROGRAM);
    yard.answer("later");
    yard.run_with_path(&["prepare"]).fails(7);
    let state = ".lantern/approvals/harbour-office/mac/state.json";
    let noted = String::from_utf8(yard.env.read(state)).unwrap();
    let (_, noted) = noted.split_once('\n').unwrap();
    let newer = noted.replace("\"version\":1", "\"version\":2,\"clerk\":\"Ebb\"");
    assert_ne!(newer, noted);
    yard.env.write(state, &format!("{}\n{newer}", Digest::of(newer.as_bytes())));
    let kept = files(&yard.env.path(".lantern/approvals"));
    for arguments in [&["prepare"][..], &["wait", "harbour-office"]] {
        let refused = yard.run_with_path(arguments).fails(3);
        assert!(refused.stderr().contains("a newer lantern"), "{}", refused.whole());
        assert!(files(&yard.env.path(".lantern/approvals")) == kept);
    }
    assert!(yard.run(&[]).success().stdout().contains("a newer lantern"));
    // One that is damaged says nothing: it is handed over once more.
    yard.env.write(state, "{");
    let again = yard.run_with_path(&["prepare"]).fails(7);
    assert!(again.whole().contains("it lies on the desk"), "{}", again.whole());
}

/// A script that waits reads one document.
#[test]
fn waiting_has_a_document() {
    let yard = Yard::with_office(PROGRAM);
    yard.answer("later");
    yard.run_with_path(&["prepare"]).fails(7);
    let late = yard.run_with_path(&["wait", "harbour-office", "--at-most", "1 second", "--json"]).fails(4).json();
    assert_eq!(late["schema"], "lantern.error/1");
    yard.answer("yes");
    let answered = yard.run_with_path(&["wait", "harbour-office", "--json"]).success().json();
    assert_eq!((&answered["schema"], &answered["approval"]), (&"lantern.wait/1".into(), &"harbour-office".into()));
    assert_eq!(answered["answered"], serde_json::json!(["mac"]));
}
