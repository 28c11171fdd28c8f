//! The demo, whole, and the folder that it leaves.

use std::io::{BufRead, BufReader};
use std::process::Stdio;

use crate::env::{Ran, TestEnv};

#[test]
fn the_demo_shows_every_command_before_its_output_and_leaves_a_folder_to_go_on_in() {
    let env = TestEnv::without_storefront();
    // What is signed has a size of its own with each key.
    let output = env.command(&["demo", "here"]).env("LANTERN_KEY_SEED", "7").output().unwrap();
    let ran = Ran { output }.success();
    // Elsewhere another system's program is started.
    if cfg!(all(target_os = "linux", target_arch = "x86_64")) {
        crate::env::settings().bind(|| insta::assert_snapshot!("demo", ran.whole()));
    }
    let again = env.lantern(&["demo", "here"]).fails(2);
    assert!(again.stderr().contains("overwrites nothing"), "{}", again.stderr());
    let mut rehearsal =
        env.command_in("here", &["rehearse", "--state", "rehearsal"]).stdout(Stdio::piped()).spawn().unwrap();
    let mut lines = BufReader::new(rehearsal.stdout.take().unwrap()).lines();
    let first = lines.next().unwrap().unwrap();
    assert!(first.contains("Brambleyard is open at http://127.0.0.1:"), "{first}");
    // Access is kept in the demo's own folder, as its last lines say, and nowhere else.
    assert!(!env.path("home").exists());
    let home = env.path("here/home");
    let output = env.command_in("here", &["live", "--json"]).env("LANTERN_HOME", home).output().unwrap();
    let live = Ran { output }.success().json();
    assert_eq!(live["storefronts"][0]["answered_now"], true);
    assert_eq!(live["storefronts"][0]["branches"][0]["targets"]["linux"]["version"], "1.4.0");
    rehearsal.kill().unwrap();
    rehearsal.wait().unwrap();
}

#[cfg(unix)]
#[test]
fn ctrl_c_closes_the_rehearsal_within_a_second() {
    let env = TestEnv::new();
    let mut child = env.command(&["rehearse", "--port", "0", "--json"]).stdout(Stdio::piped()).spawn().unwrap();
    let mut reader = BufReader::new(child.stdout.take().unwrap());
    let mut document = String::new();
    while !document.ends_with("}\n") {
        assert_ne!(reader.read_line(&mut document).unwrap(), 0, "it ended early: {document}");
    }
    let document: serde_json::Value = serde_json::from_str(&document).unwrap();
    assert_eq!(document["client"], "paper-heron");
    let pid = child.id().to_string();
    assert!(std::process::Command::new("kill").args(["-INT", &pid]).status().unwrap().success());
    let started = std::time::Instant::now();
    assert!(child.wait().unwrap().success());
    assert!(started.elapsed() < std::time::Duration::from_secs(3));
    env.lantern(&["prepare"]).success();
}
