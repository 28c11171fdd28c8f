//! The whole project on a disk that is full, and on one that can only be read. `scripts/other-disks.sh` makes both.

use std::collections::BTreeMap;
use std::io::Write;
use std::path::Path;
use std::process::Command;

use crate::env::{TestEnv, files};

/// Commands that only look.
const READING: [&[&str]; 11] = [
    &[],
    &["live"],
    &["releases"],
    &["releases", "2"],
    &["history"],
    &["number"],
    &["verify"],
    &["check"],
    &["depots"],
    &["keep", "--last", "1", "--plan"],
    &["ledger", "export"],
];

/// Three releases, of which the second can go, and exports of which no release was made yet.
fn three_releases(env: &TestEnv) {
    env.connect();
    env.release("1.3.2 (1)");
    for version in ["1.4.0", "1.4.1"] {
        env.write("lantern.toml", &env.config(version));
        env.write("exports/linux/songs.txt", &songs(version, 400));
        env.release(&format!("{version} ({})", if version == "1.4.0" { 2 } else { 3 }));
    }
    env.write("lantern.toml", &env.config("1.5.0"));
    env.write("exports/linux/songs.txt", &songs("1.5.0", 20_000));
}

/// Text that nothing packs well.
fn songs(seed: &str, lines: u64) -> String {
    (0..lines).map(|n| lantern_core::digest::Digest::of(format!("{seed} {n}").as_bytes()).hex() + "\n").collect()
}

/// Takes all the room of a disk; returns the file that has it.
fn fill(env: &TestEnv) -> std::path::PathBuf {
    let path = env.path("../filler");
    let mut file = std::fs::File::create(&path).unwrap();
    for len in [1 << 20, 1 << 12, 1] {
        while file.write_all(&vec![7; len]).and_then(|()| file.sync_all()).is_ok() {}
    }
    path
}

fn state(env: &TestEnv) -> BTreeMap<String, Vec<u8>> {
    files(&env.path(".lantern/store"))
}

#[test]
fn on_a_full_disk_everything_can_be_read_and_room_can_be_made() {
    let env = TestEnv::on_disk("LANTERN_FULL_DISK");
    three_releases(&env);
    let filler = fill(&env);
    let plans: [&[&str]; 2] =
        [&["push", "brambleyard", "--plan"], &["rollback", "brambleyard", "open-water", "--plan"]];
    for arguments in READING.into_iter().chain(plans) {
        env.lantern(arguments).success();
    }
    // Nothing of what cannot be finished is left behind.
    let before = state(&env);
    let ran = env.lantern(&["prepare"]).fails(6);
    assert!(ran.stderr().contains("careful: ") && ran.stderr().contains("free some disk space"), "{}", ran.stderr());
    assert_eq!(state(&env), before);
    let ran = env.lantern(&["try", "--yes"]).fails(6);
    assert!(ran.stderr().contains("free some disk space"), "{}", ran.stderr());
    let install = ["install", "brambleyard", "open-water", "player", "--target", "linux"];
    let ran = env.lantern(&install).fails(6);
    assert!(ran.stderr().contains("free some disk space"), "{}", ran.stderr());
    assert!(!env.path("player").exists() || files(&env.path("player")).is_empty());
    // Other people's actions are seen, and this computer's go on where the ledger has room again.
    env.lantern(&["keep", "--last", "1", "--yes"]).success();
    env.lantern(&["verify"]).success();
    assert!(env.lantern(&["releases"]).success().stdout().contains("1.4.0 (2)"));
    std::fs::remove_file(filler).unwrap();
    env.release("1.5.0 (4)");
    env.lantern(&install).success();
    env.lantern(&["verify"]).success();
}

fn remount(env: &TestEnv, how: &str) {
    let disk = env.path("..").canonicalize().unwrap();
    let status = Command::new("mount").args(["-o", &format!("remount,{how}")]).arg(Path::new(&disk)).status().unwrap();
    assert!(status.success(), "{how}");
}

#[test]
fn on_a_disk_that_can_only_be_read_everything_can_be_read() {
    let mut env = TestEnv::on_disk("LANTERN_READ_ONLY_DISK");
    three_releases(&env);
    // The storefront lies elsewhere.
    let elsewhere = tempfile::tempdir().unwrap();
    let port = env.close_storefront();
    crate::env::copy(&env.path("storefront"), elsewhere.path());
    env.open_storefront_in(elsewhere.path(), crate::env::one_line(), port);
    remount(&env, "ro");
    for arguments in READING {
        env.lantern(arguments).success();
    }
    for arguments in [
        &["prepare"][..],
        &["push", "brambleyard", "--yes"],
        &["keep", "--last", "1", "--yes"],
        &["number", "--next", "40"],
        &["repair"],
        &["ledger", "backup"],
        &["releases", "write", "1", "out"],
        &["install", "brambleyard", "open-water", "player", "--target", "linux"],
    ] {
        let ran = env.lantern(arguments).fails(6);
        assert!(ran.stderr().contains("fix: "), "{arguments:?}: {}", ran.stderr());
    }
    remount(&env, "rw");
    env.release("1.5.0 (4)");
    env.lantern(&["verify"]).success();
}
