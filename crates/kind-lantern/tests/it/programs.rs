//! Builds for Windows, Linux and browsers that are signed on their way to a release.

use lantern_rehearsal::exports::{GameVersion, windows_program_with_version, write_windows};
use lantern_rehearsal::server::NOON_GUN;

use crate::env::{Ran, TestEnv, copy};
use crate::keys::PASSPHRASE;

/// A game for Windows with three programs, which a key signs.
struct Desk(TestEnv);

const GAME: &str = "[game]\nname = \"Saltmarsh Post\"\nstudio = \"Paper Heron\"\nidentity = \"example.paperheron.saltmarsh\"\nversion = \"1.4.0\"\n";
const WINDOWS: &str = "[targets.windows]\nsystems = [\"windows-x86_64\"]\nexport = \"exports/windows\"\nstarts = [\"Saltmarsh Post.exe\"]\nkeep-aside = [\"*.pdb\"]\nsign = \"studio\"\n";

impl Desk {
    fn new() -> Self {
        let env = TestEnv::new();
        // The certificates of the samples are younger than the tests' clock.
        env.pass_hours(72);
        write_windows(&env.path("exports/windows"), GameVersion::New).unwrap();
        let program = env.read("exports/windows/Saltmarsh Post.exe");
        for name in ["oar.dll", "tide.dll"] {
            let own = [&program[..], name.as_bytes()].concat();
            std::fs::write(env.path(&format!("exports/windows/{name}")), own).unwrap();
        }
        env.write("lantern.toml", &format!("{GAME}\n{WINDOWS}"));
        Self(env)
    }

    fn with_key() -> Self {
        let desk = Self::new();
        desk.run(&["key", "new", "studio", "--kind", "p-256"]).success();
        desk
    }

    fn add(&self, text: &str) {
        let config = String::from_utf8(self.0.read("lantern.toml")).unwrap();
        self.0.write("lantern.toml", &format!("{config}\n{text}"));
    }

    fn with_clock(&self, unreachable: &str) {
        let address = format!("{}{NOON_GUN}", self.0.running().origin());
        self.add(&format!("[time-stamps]\nauthority = \"{address}\"\nunreachable = \"{unreachable}\"\n"));
    }

    fn run(&self, arguments: &[&str]) -> Ran {
        let mut command = self.0.command(arguments);
        Ran { output: command.env("LANTERN_KEY_PASSPHRASE", PASSPHRASE).output().unwrap() }
    }

    /// Python and openssl are found by PATH, which tests clear.
    #[cfg(target_os = "linux")]
    fn with_path(&self, arguments: &[&str]) -> Ran {
        let path = std::env::var_os("PATH").unwrap();
        Ran { output: self.0.command(arguments).env("PATH", path).output().unwrap() }
    }

    fn written(&self, of: &str) {
        let _ = std::fs::remove_dir_all(self.0.path("out"));
        self.run(&["releases", "write", of, "out"]).success();
    }

    fn verified(&self, file: &str) -> serde_json::Value {
        self.run(&["verify", file, "--json"]).json()
    }
}

/// The doctor asks the authority for a time stamp, and says how it answered.
#[test]
fn the_doctor_asks_the_authority() {
    let mut desk = Desk::with_key();
    desk.with_clock("stop");
    let clock = |desk: &Desk| {
        let document = desk.run(&["doctor", "--json"]).json();
        let all = document["checks"].as_array().unwrap().clone();
        let one = all.into_iter().find(|check| check["what"] == "time stamps").unwrap();
        (one["state"].as_str().unwrap().to_owned(), one["said"].as_str().unwrap().to_owned())
    };
    let (state, said) = clock(&desk);
    assert!(state == "well" && said.ends_with("/noon-gun answers rightly"), "{state}: {said}");
    desk.0.edit("lantern.toml", NOON_GUN, "/no-such");
    let (state, said) = clock(&desk);
    assert!(state == "wrong" && said.contains("did not answer: it answered with 404"), "{state}: {said}");
    desk.0.edit("lantern.toml", "\"stop\"", "\"go-on\"");
    let (state, said) = clock(&desk);
    assert!(state == "absent" && said.contains("what is signed goes without"), "{state}: {said}");
    desk.0.close_storefront();
    assert!(clock(&desk).1.contains("refused"));
}

/// What Android demands of a key, and what its loss means there, is not said of one that signs programs.
#[test]
fn the_doctor_speaks_of_what_a_key_signs() {
    let desk = Desk::new();
    desk.run(&["key", "new", "studio", "--kind", "p-256", "--years", "3"]).success();
    let ill = desk.run(&["doctor"]).fails(1).stdout();
    assert!(ill.contains("if this disk fails, what comes later is signed with another key"), "{ill}");
    desk.run(&["key", "backup", "studio", "copy.p12"]).success();
    desk.run(&["key", "drill", "studio", "copy.p12"]).success();
    let well = desk.run(&["doctor"]).stdout();
    assert!(well.contains("its certificate is valid until 2029"), "{well}");
    // A package for phones whose certificate comes from an authority and can be had again.
    desk.run(&["key", "new", "team", "--kind", "p-256"]).success();
    desk.add("[targets.phone]\nsystems = [\"ios\"]\nexport = \"exports/saltmarsh.ipa\"\nsign = \"team\"\n");
    for said in [desk.run(&[]).stdout(), desk.run(&["doctor"]).fails(1).stdout()] {
        assert!(said.contains("no backup of the key team") && !said.contains("never be updated"), "{said}");
    }
    // Nothing of this name is looked for.
    desk.add("[targets.mac]\nsystems = [\"macos-universal\"]\nexport = \"exports/mac\"\nsign = \"ad-hoc\"\n");
    let said = desk.run(&["doctor"]).fails(1).stdout();
    assert!(!said.contains("ad-hoc"), "{said}");
}

#[test]
fn programs_are_signed_stamped_and_time_stamped() {
    let desk = Desk::with_key();
    desk.with_clock("stop");
    // What the build is for is seen from it.
    desk.0.edit("lantern.toml", "systems = [\"windows-x86_64\"]\n", "");
    desk.0.edit("lantern.toml", "sign = \"studio\"", "sign = \"studio\"\nstamp = true");
    std::fs::write(desk.0.path("exports/windows/Saltmarsh Post.exe"), windows_program_with_version(GameVersion::Old))
        .unwrap();
    let checked = desk.run(&["check"]).success();
    assert!(checked.stdout().contains("studio is asked for 3 signatures (programs-to-sign)"), "{}", checked.whole());
    let sealed = desk.run(&["prepare"]).success();
    assert!(sealed.stdout().contains("windows with the key studio"), "{}", sealed.whole());
    assert!(sealed.stdout().contains("windows in the version resource"), "{}", sealed.whole());
    desk.written("1.4.0");
    for name in ["Saltmarsh Post.exe", "oar.dll", "tide.dll"] {
        let seen = desk.verified(&format!("out/{name}"));
        assert_eq!((&seen["intact"], &seen["signed_by"]), (&true.into(), &"Paper Heron".into()), "{seen}");
    }
    let whole = desk.run(&["verify", "out/oar.dll"]).success().stdout();
    assert!(whole.contains("time stamp by") && whole.contains("Noon Gun"), "{whole}");
    let seen = desk.run(&["inspect", "out/Saltmarsh Post.exe", "--json"]).json()["things"][0].clone();
    assert_eq!(seen["version"], "1.4.0", "{seen}");
    assert!(seen.to_string().contains("1.4.0.1"), "{seen}");
    // What was exported is as it was, and nothing is signed again.
    assert!(desk.run(&["verify", "exports/windows/oar.dll"]).fails(3).stderr().contains("has no signature"));
    assert!(desk.run(&["prepare"]).success().stdout().contains("nothing changed"));
    // A byte of what is signed.
    let mut changed = desk.0.read("out/oar.dll");
    changed[700] ^= 1;
    std::fs::write(desk.0.path("out/oar.dll"), changed).unwrap();
    let wrong = desk.run(&["verify", "out/oar.dll"]).fails(5);
    assert!(wrong.stdout().contains("the program was changed after it was signed"), "{}", wrong.whole());
}

#[test]
fn what_others_have_signed_stays_as_it_is() {
    let desk = Desk::with_key();
    desk.run(&["key", "new", "marsh", "--kind", "p-256", "--subject", "CN=Marsh Library"]).success();
    desk.0.edit("lantern.toml", "sign = \"studio\"", "sign = \"marsh\"");
    desk.run(&["prepare"]).success();
    desk.written("1.4.0");
    std::fs::copy(desk.0.path("out/oar.dll"), desk.0.path("exports/windows/oar.dll")).unwrap();
    desk.0.edit("lantern.toml", "sign = \"marsh\"", "sign = \"studio\"");
    let sealed = desk.run(&["prepare", "--version", "1.4.1"]).success();
    let says = "1 program is signed by Marsh Library and stays as it is";
    assert!(sealed.stdout().contains(says), "{}", sealed.whole());
    desk.written("1.4.1");
    assert_eq!(desk.verified("out/oar.dll")["signed_by"], "Marsh Library");
    assert_eq!(desk.verified("out/tide.dll")["signed_by"], "Paper Heron");
    // Unless it is said, or only some are meant.
    desk.0.edit("lantern.toml", "sign = \"studio\"", "sign = \"studio\"\nsign-again = true\nsign-files = [\"*.dll\"]");
    desk.run(&["prepare", "--version", "1.4.2"]).success();
    desk.written("1.4.2");
    assert_eq!(desk.verified("out/oar.dll")["signed_by"], "Paper Heron");
    assert_eq!(desk.verified("out/Saltmarsh Post.exe")["intact"], false);
}

#[test]
fn an_authority_that_is_away_stops_or_is_done_without() {
    let mut desk = Desk::with_key();
    desk.with_clock("stop");
    desk.0.close_storefront();
    let stopped = desk.run(&["prepare"]).fails(3);
    assert!(
        stopped.stderr().contains("did not answer") && stopped.stderr().contains("unreachable = \"go-on\""),
        "{}",
        stopped.whole()
    );
    assert!(!desk.0.event_kinds().iter().any(|kind| kind == "sealed"));
    desk.0.edit("lantern.toml", "unreachable = \"stop\"", "unreachable = \"go-on\"");
    let sealed = desk.run(&["prepare"]).success();
    assert!(sealed.stdout().contains("3 of its programs were signed without a time stamp"), "{}", sealed.whole());
    assert_eq!(sealed.stderr().matches("what is signed now has no time stamp").count(), 1, "{}", sealed.whole());
    desk.written("1.4.0");
    assert_eq!(desk.verified("out/oar.dll")["intact"], true);
}

/// A signer that counts how often it was asked, and does not answer for the third time.
#[cfg(target_os = "linux")]
const COUNTING: &str = r#"
import base64, json, os, pathlib, subprocess, sys
asked = json.loads(sys.stdin.readline())
count = pathlib.Path("count")
number = int(count.read_text()) + 1 if count.exists() else 1
count.write_text(str(number))
if number == 3 and os.path.exists("fails"):
    print(json.dumps({"refused": "the token was pulled out"})); sys.exit(0)
digest = bytes.fromhex(asked["digest"])
made = subprocess.run(["openssl", "pkeyutl", "-sign", "-inkey", "key.pem", "-pkeyopt", "digest:sha256"], input=digest, capture_output=True)
print(json.dumps({"signature": base64.b64encode(made.stdout).decode()}))
"#;

/// An external signer is not asked twice for the same: not after a run that was cut short, and not for what an earlier
/// release has.
#[cfg(target_os = "linux")]
#[test]
fn only_missing_signatures_are_asked_for() {
    let desk = Desk::new();
    desk.0.write("sign.py", COUNTING);
    desk.0.write("fails", "");
    for (name, from) in [("key.pem", "ec.pem"), ("token.crt", "ec.crt")] {
        desk.0.write(name, &std::fs::read_to_string(crate::keys::sample(from)).unwrap());
    }
    desk.add("[signers.studio]\nrun = [\"python3\", \"sign.py\"]\ncertificate = \"token.crt\"\ntime-limit = \"20 seconds\"\n");
    let count = || String::from_utf8(desk.0.read("count")).unwrap().parse::<u32>().unwrap();
    let stopped = desk.with_path(&["prepare"]).fails(3);
    assert!(stopped.stderr().contains("the token was pulled out"), "{}", stopped.whole());
    assert_eq!(count(), 3);
    std::fs::remove_file(desk.0.path("fails")).unwrap();
    desk.with_path(&["prepare"]).success();
    assert_eq!(count(), 4, "two were there already");
    // One library is new; the others are taken from the release before.
    let changed = [&desk.0.read("exports/windows/oar.dll")[..], b" and more"].concat();
    std::fs::write(desk.0.path("exports/windows/oar.dll"), changed).unwrap();
    let sealed = desk.with_path(&["prepare", "--version", "1.4.1"]).success();
    assert!(sealed.stdout().contains("studio is asked for up to 3 signatures"), "{}", sealed.whole());
    assert_eq!(count(), 5);
    desk.written("1.4.1");
    for name in ["Saltmarsh Post.exe", "oar.dll", "tide.dll"] {
        assert_eq!(desk.verified(&format!("out/{name}"))["intact"], true, "{name}");
    }
}

/// Time stamps differ, so that two computers that seal the same exports make two releases of one number. Each knows its own again when it
/// has heard of the other's.
#[test]
fn two_computers_that_seal_the_same_each_know_their_own_again() {
    let desk = Desk::with_key();
    desk.with_clock("stop");
    copy(&desk.0.path("exports"), &desk.0.path("second/exports"));
    std::fs::copy(desk.0.path("lantern.toml"), desk.0.path("second/lantern.toml")).unwrap();
    let second = |arguments: &[&str]| {
        let mut command = desk.0.command_in("second", arguments);
        Ran { output: command.env("LANTERN_KEY_PASSPHRASE", PASSPHRASE).output().unwrap() }
    };
    desk.run(&["prepare"]).success();
    assert!(second(&["prepare"]).success().stdout().contains("sealed"));
    desk.run(&["ledger", "backup", "--to", "copy.jsonl"]).success();
    second(&["ledger", "import", "../copy.jsonl"]).success();
    for _ in 0..2 {
        let again = second(&["prepare"]).success();
        assert!(again.stdout().contains("nothing changed"), "{}", again.whole());
    }
}

#[test]
fn unsigned_must_be_said_is_shown_and_may_be_refused() {
    let desk = Desk::with_key();
    let nobody = desk.0.lantern(&["prepare"]).fails(3);
    assert!(nobody.stderr().contains("the passphrase of the key studio is missing"), "{}", nobody.whole());
    let sealed = desk.0.lantern(&["prepare", "--unsigned"]).success();
    assert!(
        sealed.stdout().contains("not signed") && sealed.stdout().contains("windows, as --unsigned says"),
        "{}",
        sealed.whole()
    );
    let again = desk.0.lantern(&["prepare", "--unsigned"]).success();
    assert!(again.stdout().contains("not signed: windows, as someone said"), "{}", again.whole());
    let next = desk.0.lantern(&[]).success();
    assert!(!next.stdout().contains("the exports changed"), "{}", next.whole());
    // A ledger that was lost is written again from the records, and knows it.
    for file in ["ledger.db", "ledger.head", "ledger-copy.jsonl"] {
        std::fs::remove_file(desk.0.path(&format!(".lantern/{file}"))).unwrap();
    }
    desk.0.lantern(&["ledger", "rebuild"]).success();
    let rebuilt = desk.0.lantern(&["prepare", "--unsigned"]).success();
    assert!(rebuilt.stdout().contains("not signed: windows, as someone said"), "{}", rebuilt.whole());
    // With signatures it is another release.
    let signed = desk.run(&["prepare"]).success();
    assert!(signed.stdout().contains("sealed"), "{}", signed.whole());
}

#[cfg(target_os = "linux")]
#[test]
fn a_list_of_all_files_is_signed_for_linux() {
    use std::process::{Command, Stdio};

    use lantern_core::system::System;
    use lantern_rehearsal::exports::write_linux;

    let desk = Desk::with_key();
    write_linux(&desk.0.path("exports/linux"), GameVersion::New, System::LinuxX86_64).unwrap();
    let target = "[targets.linux]\nsystems = [\"linux-x86_64\"]\nexport = \"exports/linux\"\nstarts = [\"saltmarsh\"]\nsign = \"studio\"\nversion-file = \"version.txt\"\n";
    desk.0.write("lantern.toml", &format!("{GAME}\n{target}"));
    desk.run(&["prepare"]).success();
    desk.written("1.4.0");
    let run = |program: &str, arguments: &[&str], stdin: Stdio| {
        let mut command = Command::new(program);
        command
            .args(arguments)
            .current_dir(desk.0.path("out"))
            .stdin(stdin)
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        command.status().unwrap().success()
    };
    assert!(run("sha256sum", &["--check", "--strict", "SHA256SUMS"], Stdio::null()));
    let list = String::from_utf8(desk.0.read("out/SHA256SUMS")).unwrap();
    assert!(list.contains("  version.txt\n") && !list.contains("SHA256SUMS"), "{list}");
    let line = desk.run(&["key", "show", "studio", "--json"]).json()["ssh"].as_str().unwrap().to_owned();
    desk.0.write("allowed", &format!("paper-heron {line}\n"));
    let signed = || std::fs::File::open(desk.0.path("out/SHA256SUMS")).unwrap().into();
    let verify = ["-Y", "verify", "-f", "../allowed", "-I", "paper-heron", "-n", "file", "-s", "SHA256SUMS.sig"];
    assert!(run("ssh-keygen", &verify, signed()));
    let seen = desk.run(&["verify", "out/SHA256SUMS"]).success();
    assert!(seen.stdout().contains("and every file that it lists"), "{}", seen.whole());
    // A file of the build, the list, and one that is missing.
    std::fs::write(desk.0.path("out/version.txt"), "1.4.1\n1\n").unwrap();
    let wrong = desk.run(&["verify", "out/SHA256SUMS"]).fails(5);
    assert!(wrong.stdout().contains("version.txt: different content"), "{}", wrong.whole());
    assert!(!run("sha256sum", &["--check", "--strict", "SHA256SUMS"], Stdio::null()));
    std::fs::remove_file(desk.0.path("out/version.txt")).unwrap();
    let missing = desk.run(&["verify", "out/SHA256SUMS"]).fails(5);
    assert!(missing.stdout().contains("version.txt: missing"), "{}", missing.whole());
    desk.0.write("out/SHA256SUMS", &list.replace("version.txt", "version.md"));
    let changed = desk.run(&["verify", "out/SHA256SUMS"]).fails(5);
    assert!(changed.stdout().contains("what was signed has changed"), "{}", changed.whole());
    assert!(!run("ssh-keygen", &verify, signed()));
}
