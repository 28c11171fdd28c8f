//! The chain in bad weather: each command is done once, or not done and says so; asked again it is done.

use std::collections::BTreeMap;
use std::process::Stdio;
use std::time::Duration;

use lantern_rehearsal::weather::{Fault, Weather};

use serde_json::Value;

use crate::env::rounds;
use crate::stops::{Scene, next_release};

/// How many of a hundred requests meet a fault.
const STORM: u64 = 20;
/// How often a command is asked for again.
const TRIES: usize = 12;

/// The commands that speak to a storefront, in the order of the chain.
const CHAIN: [&[&str]; 7] = [
    &["live"],
    &["push", "brambleyard", "--yes"],
    &["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"],
    &["install", "brambleyard", "open-water", "player", "--target", "linux"],
    &["releases", "withdraw", "2", "--because", "a save bug", "--yes"],
    &["rollback", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"],
    &["connect", "brambleyard", "--client", "paper-heron"],
];

/// A prepared release, and what the chain makes of it in good weather.
fn chain() -> (Scene, BTreeMap<String, Value>) {
    let scene = Scene::new(|env| {
        next_release(env);
        env.lantern(&["prepare"]).success();
    });
    for command in CHAIN {
        scene.env.lantern(command).success();
    }
    let expected = scene.state();
    (scene, expected)
}

fn in_weather(faults: &[Fault]) {
    let (mut scene, expected) = chain();
    let (mut met, mut shown) = (0, 0);
    for seed in 0..rounds(2) {
        scene.put_back();
        scene.env.running().stand_in().set_weather(Some(Weather::new(faults.to_vec(), STORM, seed)));
        for command in CHAIN {
            let mut tries = 0;
            loop {
                let ran = scene.env.lantern(command);
                // Not reached, or what came was damaged: said so, with what to do. Nothing else may happen.
                match ran.code() {
                    0 => break,
                    4 | 5 => assert!(ran.stderr().contains("fix:"), "{}", ran.whole()),
                    _ => panic!("{faults:?}, seed {seed}, {command:?}: {}", ran.whole()),
                }
                met += 1;
                tries += 1;
                assert!(tries < TRIES, "{faults:?}, seed {seed}, {command:?}: {}", ran.whole());
            }
        }
        shown += scene.env.running().stand_in().weather().map_or(0, |weather| weather.shown());
        scene.env.running().stand_in().set_weather(None);
        assert_eq!(scene.state(), expected, "{faults:?}, seed {seed}, after {met} failures");
    }
    // Weather that does nothing proves nothing. One fault in four requests, and a chain makes dozens of them.
    assert!(shown >= 5, "{faults:?}: only {shown} faults were shown");
}

#[test]
fn cuts() {
    in_weather(&[Fault::Cut]);
}

#[test]
fn lost_answers() {
    in_weather(&[Fault::LostAnswer]);
}

#[test]
fn failing_servers() {
    in_weather(&[Fault::Failing, Fault::FailingLate]);
}

#[test]
fn busy_servers_and_expired_access() {
    in_weather(&[Fault::Busy, Fault::Expired, Fault::Slow]);
}

#[test]
fn restarts() {
    in_weather(&[Fault::Restart]);
}

#[test]
fn a_full_disk_and_a_wrong_clock_there() {
    in_weather(&[Fault::FullDisk, Fault::WrongClock, Fault::LostAnswer]);
}

/// No weather: the storefront really ends while it is asked, and is there again a moment later.
#[test]
fn a_storefront_that_ends_and_starts_again() {
    let (mut scene, expected) = chain();
    for round in 0..rounds(4) {
        scene.put_back();
        for command in CHAIN {
            let mut child = scene.env.command(command).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
            std::thread::sleep(Duration::from_millis(3 + 4 * round % 40));
            let port = scene.env.close_storefront();
            std::thread::sleep(Duration::from_millis(30));
            scene.env.open_storefront(port);
            let code = child.wait().unwrap().code();
            assert!(matches!(code, Some(0 | 4)), "{command:?}: {code:?}");
            scene.env.lantern(command).success();
        }
        assert_eq!(scene.state(), expected, "round {round}");
    }
}

#[test]
fn wrong_bytes() {
    in_weather(&[Fault::WrongBytes]);
}

#[test]
fn everything_at_once() {
    in_weather(&Fault::ALL);
}
