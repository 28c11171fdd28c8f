//! The chain from `init` to `history`, every output whole.

use crate::env::{TestEnv, files, settings};

macro_rules! snapshot {
    ($text:expr, @$expected:literal) => {
        settings().bind(|| insta::assert_snapshot!($text, @$expected))
    };
}

#[test]
fn the_whole_chain_reads_well() {
    let env = TestEnv::new();
    snapshot!(env.lantern(&["connect", "brambleyard", "--client", "paper-heron"]).whole(), @"");
    snapshot!(env.lantern(&["live"]).whole(), @"");
    snapshot!(env.lantern(&["prepare"]).whole(), @"");
    snapshot!(env.lantern(&["push", "brambleyard", "--message", "first", "--yes"]).whole(), @"");
    snapshot!(env.lantern(&["live"]).whole(), @"");
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"]).whole(), @"");
    snapshot!(env.lantern(&["install", "brambleyard", "open-water", "player", "--target", "linux"]).whole(), @"");
    env.next_version();
    snapshot!(env.lantern(&["prepare"]).whole(), @"");
    snapshot!(env.lantern(&["push", "brambleyard", "--yes"]).whole(), @"");
    snapshot!(env.lantern(&["live"]).whole(), @"");
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water", "--plan"]).whole(), @"");
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water", "1.4.0", "--confirm", "1.4.0 (2)"]).whole(), @"");
    snapshot!(env.lantern(&["install", "brambleyard", "open-water", "player", "--target", "linux"]).whole(), @"");
    snapshot!(env.lantern(&["verify", "player"]).whole(), @"");
    snapshot!(env.lantern(&["verify"]).whole(), @"");
    snapshot!(env.lantern(&["live"]).whole(), @"");
    snapshot!(env.lantern(&["history"]).whole(), @"");
    assert_eq!(files(&env.path("player")), files(&env.path("exports/linux")));
}

#[test]
fn doing_it_again_makes_nothing_new() {
    let env = TestEnv::live();
    let events = env.event_kinds();
    snapshot!(env.lantern(&["prepare"]).whole(), @"");
    snapshot!(env.lantern(&["prepare", "--read-all"]).whole(), @"");
    snapshot!(env.lantern(&["push", "brambleyard"]).whole(), @"");
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water"]).whole(), @"");
    env.lantern(&["install", "brambleyard", "open-water", "player", "--target", "linux"]).success();
    snapshot!(env.lantern(&["install", "brambleyard", "open-water", "player", "--target", "linux"]).whole(), @"");
    assert_eq!(env.event_kinds(), events);
}

#[test]
fn new_times_alone_change_nothing() {
    let env = TestEnv::new();
    let first = env.lantern(&["prepare", "--json"]).success().json();
    for (name, bytes) in files(&env.path("exports/linux")) {
        std::fs::write(env.path("exports/linux").join(name), bytes).unwrap();
    }
    let second = env.lantern(&["prepare", "--json"]).success().json();
    assert_eq!((&first["made"], &second["made"]), (&true.into(), &false.into()));
    assert_eq!(first["id"], second["id"]);
}

#[test]
fn the_same_input_gives_the_same_ids_in_another_place() {
    let (one, two) = (TestEnv::new(), TestEnv::new());
    let first = one.lantern(&["prepare", "--json"]).success().json();
    let second = two.lantern(&["prepare", "--json"]).success().json();
    assert_eq!(first["id"], second["id"]);
    assert_eq!(first["release"], second["release"]);
    // The number is a label: with another one it is another release of the same trees.
    let third = {
        let env = TestEnv::new();
        env.lantern(&["prepare", "--version", "0.9"]).success();
        env.lantern(&["prepare", "--json"]).success().json()
    };
    assert_eq!(third["release"]["number"], 2);
    assert_ne!(third["id"], first["id"]);
    assert_eq!(third["release"]["targets"], first["release"]["targets"]);
    assert_eq!(third["stored_bytes"], 0);
}

#[test]
fn what_is_foretold_is_what_travels() {
    let env = TestEnv::new();
    env.connect();
    for version in [None, Some(())] {
        if version.is_some() {
            env.next_version();
        }
        env.lantern(&["prepare"]).success();
        let plan = env.lantern(&["push", "brambleyard", "--plan", "--json"]).success().json();
        assert_eq!(plan["done"], false);
        let done = env.lantern(&["push", "brambleyard", "--yes", "--json"]).success().json();
        assert_eq!(done["sent_bytes"], plan["upload_bytes"]);
    }
    let live = env.lantern(&["promote", "brambleyard", "open-water", "1", "--confirm", "1.3.2 (1)", "--json"]);
    let whole = live.success().json()["changes"][0]["whole_bytes"].clone();
    let player = ["install", "brambleyard", "open-water", "player", "--target", "linux", "--json"];
    let first = env.lantern(&player).success().json();
    let near = |a: &serde_json::Value, b: &serde_json::Value| {
        let (a, b) = (a.as_u64().unwrap(), b.as_u64().unwrap());
        assert!(a <= b + b / 20 + 20_000 && b <= a, "{a} {b}");
    };
    near(&first["received_bytes"], &whole);
    let plan = env.lantern(&["promote", "brambleyard", "open-water", "2", "--confirm", "1.4.0 (2)", "--json"]);
    let update = plan.success().json()["changes"][0]["update_bytes"].clone();
    near(&env.lantern(&player).success().json()["received_bytes"], &update);
    assert!(update.as_u64().unwrap() < whole.as_u64().unwrap() / 10);
}

#[test]
fn everyones_line_is_never_moved_by_a_plain_yes() {
    let env = TestEnv::new();
    env.connect();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water", "--yes"]).whole(), @"");
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (2)"]).fails(2).stderr(), @"");
    assert_eq!(env.on_branch(), "nothing (null) build null revision null");
}

#[test]
fn plans_change_nothing() {
    let env = TestEnv::new();
    env.connect();
    env.lantern(&["prepare"]).success();
    let events = env.event_kinds();
    env.lantern(&["push", "brambleyard", "--plan"]).success();
    assert_eq!(env.event_kinds(), events);
    assert!(!env.path("place/titles/saltmarsh-post").exists(), "nothing travelled");
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "open-water", "--plan"]).success();
    assert_eq!(env.on_branch(), "nothing (null) build null revision null");
}

#[test]
fn going_back_to_an_older_release_is_said_aloud() {
    let env = TestEnv::live();
    env.next_version();
    env.release("1.4.0 (2)");
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water", "1.3.2", "--plan"]).whole(), @"");
}

#[test]
fn releases_are_asked_for_in_several_ways() {
    let env = TestEnv::live();
    env.next_version();
    env.lantern(&["prepare"]).success();
    for asked in ["1", "1.3.2", "1.3.2 (1)"] {
        let document = env.lantern(&["push", "brambleyard", asked, "--json"]).success().json();
        assert_eq!(document["build"], 1, "{asked}");
    }
    snapshot!(env.lantern(&["push", "brambleyard", "2.0"]).whole(), @"");
    snapshot!(env.lantern(&["push", "bramble"]).whole(), @"");
    snapshot!(env.lantern(&["promote", "brambleyard", "open-watre"]).whole(), @"");
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water"]).whole(), @"");
}

#[test]
fn texts_travel_with_the_build() {
    let env = TestEnv::new();
    env.connect();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--message", "for us", "--notes", "for you", "--yes"]).success();
    let state = env.read("place/state.db-wal");
    let holds = |text: &str| state.windows(text.len()).any(|w| w == text.as_bytes());
    assert!(holds("for us") && holds("for you"));
}

#[test]
fn help_has_examples_everywhere() {
    let env = TestEnv::without_storefront();
    let commands =
        ["init", "prepare", "connect", "push", "promote", "live", "history", "install", "verify", "rehearse", "demo"];
    for command in commands {
        let help = env.lantern(&[command, "--help"]).success().stdout();
        let examples =
            help.lines().skip_while(|line| !line.contains("Examples:")).filter(|l| l.contains("lantern ")).count();
        assert!(examples >= 2, "{command}: {help}");
        assert!(help.lines().all(|line| line.chars().count() <= 120), "{command}");
    }
    assert!(env.lantern(&[]).success().stdout().contains("lantern demo"));
    for shell in ["bash", "zsh", "fish", "powershell", "elvish"] {
        assert!(env.lantern(&["completions", shell]).success().stdout().contains("promote"), "{shell}");
    }
    assert_eq!(env.lantern(&["prmote"]).code(), 2);
}
