//! Passphrases in the key store of a desktop, played by a real one on a bus of its own; scripts/key-store.sh installs both.

use std::process::Command;

use lantern_rehearsal::exports::GameVersion;

use crate::env::{Ran, TestEnv, holds};

/// Begins a desktop's session with a key store that is unlocked, and runs something in it.
const SESSION: &str = include_str!("key_store/session.sh");

/// A computer with a desktop.
struct Desktop(TestEnv);

impl Desktop {
    fn new() -> Self {
        let env = TestEnv::without_storefront();
        env.write("session.sh", SESSION);
        env.write(
            "lantern.toml",
            "[game]\nname = \"Saltmarsh Post\"\nstudio = \"Paper Heron\"\nidentity = \"example.paperheron.saltmarsh\"\nversion = \"1.3.2\"\n\n\
             [targets.linux]\nexport = \"exports/linux\"\nsign = \"studio\"\n",
        );
        env.export(GameVersion::Old);
        Self(env)
    }

    /// In the session; nobody gives a passphrase.
    fn run(&self, arguments: &[&str]) -> Ran {
        self.run_with(None, arguments)
    }

    fn run_with(&self, passphrase: Option<&str>, arguments: &[&str]) -> Ran {
        let lantern = self.0.command(arguments);
        let mut session = Command::new("/usr/bin/dbus-run-session");
        session.args(["--", "/bin/bash", "session.sh"]).arg(lantern.get_program()).args(lantern.get_args());
        session.current_dir(self.0.path(".")).env_clear();
        session.envs(lantern.get_envs().filter_map(|(name, value)| Some((name, value?))));
        session.env("PATH", "/usr/bin:/bin").env("STORE", self.0.path("store"));
        session.envs(passphrase.map(|text| ("LANTERN_KEY_PASSPHRASE", text)));
        Ran { output: session.output().unwrap() }
    }

    /// Another release, in which something is to be signed.
    fn next(&self, from: &str, to: &str) {
        self.0.edit("lantern.toml", from, to);
        self.0.write("exports/linux/letters/en.txt", &format!("a letter of {to}"));
    }

    fn kept(&self) -> bool {
        self.run(&["key", "show", "studio", "--json"]).json()["passphrase_in_key_store"] == true
    }
}

const MINE: &str = "the tide comes in slowly";

#[test]
fn a_passphrase_that_nobody_has_to_know() {
    let desktop = Desktop::new();
    let made = desktop.run(&["key", "new", "studio", "--kind", "p-256", "--in-key-store"]).success().stdout();
    assert!(made.contains("its passphrase is in the key store of this system alone"), "{made}");
    assert!(desktop.kept());
    // It signs without a question, also where the environment has the passphrase of another key; what a file gives counts.
    desktop.run(&["prepare"]).success();
    desktop.run(&["releases", "write", "1.3.2", "out"]).success();
    assert!(desktop.0.path("out/SHA256SUMS.sig").exists());
    desktop.next("1.3.2", "1.3.3");
    desktop.0.write("another", "another one");
    let wrong = desktop.run(&["prepare", "--passphrase-file", "another"]).fails(3);
    assert!(wrong.stderr().contains("the passphrase is not the right one"), "{}", wrong.whole());
    desktop.run_with(Some("another one"), &["prepare"]).success();
    // A copy gets a passphrase that somebody knows, and is drilled with it.
    let nobody = desktop.run(&["key", "backup", "studio", "copy.p12"]).fails(7);
    assert!(nobody.stderr().contains("the passphrase is missing") && !desktop.0.path("copy.p12").exists());
    desktop.run_with(Some(MINE), &["key", "backup", "studio", "copy.p12"]).success();
    desktop.run_with(Some(MINE), &["key", "drill", "studio", "copy.p12"]).success();
    desktop.run(&["key", "backup", "studio", "sheets", "--sheets", "2/3"]).success();
    desktop.run(&["key", "drill", "studio", "sheets/sheet-1.html", "sheets/sheet-3.html"]).success();
    // Nobody takes out what nobody knows.
    desktop.run(&["key", "remember", "studio"]).fails(7);
    desktop.run_with(Some(MINE), &["key", "remember", "studio"]).fails(3);
    assert!(desktop.kept());
    // On another computer there is the copy, and a passphrase of one's own.
    std::fs::remove_dir_all(desktop.0.path("store")).unwrap();
    desktop.next("1.3.3", "1.3.4");
    let elsewhere = desktop.run(&["prepare"]).fails(3).stderr();
    assert!(elsewhere.contains("it has none of this key") && elsewhere.contains("fix: "), "{elsewhere}");
    let other = desktop.run_with(Some("another one"), &["prepare"]).fails(3).stderr();
    assert!(other.contains("it has none of this key; the variable LANTERN_KEY_PASSPHRASE is taken"), "{other}");
    desktop.run_with(Some(MINE), &["key", "import", "second", "copy.p12"]).success();
    desktop.0.edit("lantern.toml", "sign = \"studio\"", "sign = \"second\"");
    desktop.run_with(Some(MINE), &["prepare"]).success();
}

#[test]
fn a_passphrase_of_ones_own_is_kept_and_taken_out_again() {
    let desktop = Desktop::new();
    desktop.run_with(Some(MINE), &["key", "new", "studio", "--kind", "p-256"]).success();
    assert!(!desktop.kept());
    desktop.run_with(Some("another one"), &["key", "remember", "studio", "--in-key-store"]).fails(3);
    assert!(!desktop.kept());
    let kept = desktop.run_with(Some(MINE), &["key", "remember", "studio", "--in-key-store"]).success().stdout();
    assert!(kept.contains("the passphrase of the key studio is in the key store of this system"), "{kept}");
    desktop.run(&["prepare"]).success();
    let asked = desktop.run_with(Some(MINE), &["key", "remember", "studio"]).success().stdout();
    assert!(asked.contains("is asked for") && !desktop.kept(), "{asked}");
    desktop.next("1.3.2", "1.3.3");
    assert!(desktop.run(&["prepare"]).fails(3).stderr().contains("the passphrase of the key studio is missing"));
    // Not a file of the project or the keyring has it.
    let all = crate::env::paths(&desktop.0.path("."));
    for (name, path) in all.into_iter().filter(|(name, _)| !name.starts_with("store/")) {
        let bytes = std::fs::read(path).unwrap();
        assert!(!holds(&bytes, MINE), "{name}");
    }
}
