//! What was out before this tool came, and three releases after it.

use lantern_core::system::System;
use lantern_rehearsal::exports::{self, GameVersion};

use crate::env::TestEnv;

const OLD_PIER: &str = r#"
[storefronts.old-pier]
kind = "by-hand"
branches = { pier = { audience = "everyone" } }
"#;

fn env() -> TestEnv {
    let mut env = TestEnv::without_storefront();
    env.open_storefront(0);
    env.make_title();
    env.write("lantern.toml", &(env.config("1.3.2") + OLD_PIER));
    env
}

/// What the board has at Old Pier: target, release and number there.
fn board(env: &TestEnv) -> Vec<String> {
    let live = env.lantern(&["live", "--offline", "--json"]).json();
    let at = live["storefronts"].as_array().unwrap().iter().find(|at| at["storefront"] == "old-pier").unwrap();
    let targets = at["branches"][0]["targets"].as_object().unwrap();
    let one = |(target, build): (&String, &serde_json::Value)| {
        let (version, number) = (build["version"].as_str().unwrap(), &build["number"]);
        format!("{target} {version} ({number}) there {} since {}", build["number_there"], build["since"])
    };
    targets.iter().map(one).collect()
}

fn to_players(env: &TestEnv, version: &str, export: GameVersion, release: &str) {
    env.write("lantern.toml", &(env.config(version) + OLD_PIER));
    env.export(export);
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "old-pier", "--yes"]).success();
    env.lantern(&["confirm", "old-pier", "upload"]).success();
    env.lantern(&["promote", "old-pier", "pier", "--confirm", release]).success();
    env.lantern(&["confirm", "old-pier", "put-on"]).success();
}

#[test]
fn numbers_and_history_go_on_from_what_was_out() {
    let env = env();
    let line = [
        "adopt",
        "old-pier",
        "pier",
        "--version",
        "1.2.9",
        "--number",
        "24",
        "--number-there",
        "9",
        "--since",
        "2026-03-01",
    ];
    let plan = env.lantern(&[&line[..], &["--plan"]].concat()).success();
    snapshot!(plan.whole(), @"
    Adopt what is out at old-pier

      release      on     since        number there   targets   files
      1.2.9 (24)   pier   2026-03-01   9              linux     none: known by name
    ");
    assert!(env.lantern(&["history"]).success().stdout().contains("nothing has happened yet"));
    let adopted = env.lantern(&[&line[..], &["--yes"]].concat()).success();
    snapshot!(adopted.whole(), @"
    Adopt what is out at old-pier

      release      on     since        number there   targets   files
      1.2.9 (24)   pier   2026-03-01   9              linux     none: known by name

    adopted: 1 release

    next: lantern prepare
    ");
    let again = env.lantern(&line).success().stdout();
    assert!(again.contains("nothing to do"), "{again}");
    assert_eq!(board(&env), ["linux 1.2.9 (24) there 9 since \"2026-03-01T00:00:00Z\""]);
    // What is known by name alone is nowhere to be had.
    let push = env.lantern(&["push", "old-pier", "1.2.9"]).fails(2).stderr();
    assert!(push.contains("1.2.9 (24) was adopted without its files"), "{push}");
    to_players(&env, "1.3.2", GameVersion::Old, "1.3.2 (25)");
    assert!(board(&env)[0].starts_with("linux 1.3.2 (25) there 10 "), "{:?}", board(&env));
    to_players(&env, "1.4.0-rc", GameVersion::Candidate, "1.4.0-rc (26)");
    env.lantern(&["releases", "withdraw", "1.4.0-rc", "--because", "a save bug", "--yes"]).success();
    env.lantern(&["confirm", "old-pier", "take-away"]).success();
    to_players(&env, "1.4.0", GameVersion::New, "1.4.0 (27)");
    assert!(board(&env)[0].starts_with("linux 1.4.0 (27) there 12 "), "{:?}", board(&env));
    // Back over what was withdrawn, and once more to what was out before.
    env.lantern(&["rollback", "old-pier", "pier", "--confirm", "1.3.2 (25)"]).success();
    env.lantern(&["confirm", "old-pier", "put-back"]).success();
    env.lantern(&["rollback", "old-pier", "pier", "1.2.9", "--confirm", "1.2.9 (24)"]).success();
    env.lantern(&["confirm", "old-pier", "put-back"]).success();
    assert!(board(&env)[0].starts_with("linux 1.2.9 (24) there 9 "), "{:?}", board(&env));
    let history = env.lantern(&["history", "--storefront", "old-pier", "--count", "99"]).success().stdout();
    assert!(history.contains("adopted 1.2.9 (24), which is on pier at old-pier since 2026-03-01, number there 9"));
}

#[test]
fn with_its_files_a_release_can_be_compared_written_and_pushed() {
    let env = env();
    exports::write_linux(&env.path("old/saltmarsh-1.2.9"), GameVersion::Old, System::LinuxX86_64).unwrap();
    let target = ["--target", "linux=old/saltmarsh-1.2.9"];
    let line = ["adopt", "old-pier", "pier", "--version", "1.2.9", "--number", "24", "--yes"];
    env.lantern(&[&line[..], &target].concat()).success();
    let shown = env.lantern(&["releases", "1.2.9"]).success().stdout();
    assert!(shown.contains("saltmarsh"), "{shown}");
    env.lantern(&["releases", "write", "1.2.9", "back"]).success();
    assert_eq!(
        std::fs::read(env.path("back/saltmarsh.dat")).unwrap(),
        std::fs::read(env.path("old/saltmarsh-1.2.9/saltmarsh.dat")).unwrap()
    );
    env.lantern(&["verify"]).success();
    // Files that are not there are an error, and nothing is recorded.
    let gone = ["adopt", "old-pier", "--version", "1.2.8", "--number", "23", "--target", "linux=nowhere", "--yes"];
    env.lantern(&gone).fails(1);
    assert!(!env.lantern(&["history"]).success().stdout().contains("1.2.8"));
    assert_eq!(env.lantern(&["number", "--json"]).json()["next"], 25);
}

/// A release that was prepared here and carried there without this tool is that release, and no second one of its name.
#[test]
fn what_was_sealed_here_is_adopted_as_that_release() {
    let env = env();
    env.lantern(&["prepare"]).success();
    let line = ["adopt", "old-pier", "pier", "--version", "1.3.2", "--number", "1", "--yes"];
    exports::write_linux(&env.path("other"), GameVersion::New, System::LinuxX86_64).unwrap();
    let other = env.lantern(&[&line[..], &["--target", "linux=other"]].concat()).fails(3).stderr();
    assert!(other.contains("1.3.2 (1) was sealed here, with other files than these"), "{other}");
    let adopted = env.lantern(&line).success().stdout();
    assert!(adopted.contains("as sealed here"), "{adopted}");
    let releases = env.lantern(&["releases", "--json"]).json();
    assert_eq!(releases["releases"].as_array().unwrap().len(), 1, "{releases}");
    assert!(env.lantern(&["live", "--offline"]).success().stdout().contains("newest"));
    assert!(env.lantern(&["push", "old-pier", "--yes"]).success().stdout().contains("is at old-pier already"));
}

#[test]
fn a_file_has_many_and_what_came_later_stays() {
    let env = env();
    let file = r#"
[[release]]
branch = "pier"
version = "1.2.9"
number = 24
number-there = 9
since = "2026-03-01"

[[release]]
branch = "pier"
version = "1.2.0"
number = 20
number-there = 7
since = "2025-11-20"
"#;
    env.write("what-is-out.toml", file);
    env.lantern(&["adopt", "old-pier", "--from", "what-is-out.toml", "--yes"]).success();
    assert_eq!(board(&env), ["linux 1.2.9 (24) there 9 since \"2026-03-01T00:00:00Z\""]);
    // One that is still older, remembered later.
    let late = ["adopt", "old-pier", "pier", "--version", "1.1.0", "--number", "15", "--since", "2025-05-01", "--yes"];
    env.lantern(&late).success();
    assert_eq!(board(&env), ["linux 1.2.9 (24) there 9 since \"2026-03-01T00:00:00Z\""]);
    // The plan said so; and the history knows where each belongs.
    let still_older = ["adopt", "old-pier", "pier", "--version", "1.0.0", "--number", "9"];
    let plan = env.lantern(&[&still_older[..], &["--since", "2025-01-05", "--plan"]].concat()).success().stdout();
    assert!(plan.contains("pier keeps 1.2.9 (24): 1.0.0 (9) goes into the history before it"), "{plan}");
    let plan = env.lantern(&[&still_older[..], &["--plan", "--json"]].concat()).success().json();
    assert_eq!(plan["releases"][0]["later"]["version"], "1.2.9");
    env.lantern(&["rollback", "old-pier", "pier", "--confirm", "1.2.0 (20)"]).success();
    env.lantern(&["confirm", "old-pier", "put-back"]).success();
    assert!(board(&env)[0].starts_with("linux 1.2.0 (20) there 7 "), "{:?}", board(&env));
    env.lantern(&["rollback", "old-pier", "pier", "1.1.0", "--confirm", "1.1.0 (15)"]).success();
    env.lantern(&["confirm", "old-pier", "put-back"]).success();
    assert!(board(&env)[0].starts_with("linux 1.1.0 (15) "), "{:?}", board(&env));
    env.lantern(&["rollback", "old-pier", "pier", "1.0.0"]).fails(3);
    for (line, code) in [
        (&["--version", "1.2.8", "--number", "24"][..], 3),
        (&["--version", "1.2.8", "--number", "23", "--number-there", "9"], 3),
        (&["--version", "one", "--number", "23"], 2),
        (&["--version", "1.2.8", "--number", "0"], 2),
        (&["--version", "1.2.8", "--number", "23", "--target", "moon"], 2),
        (&["--version", "1.2.8", "--number", "23", "--since", "yesterday"], 2),
        (&["--version", "1.2.8"], 7),
    ] {
        env.lantern(&[&["adopt", "old-pier", "pier", "--yes"], line].concat()).fails(code);
    }
    env.lantern(&["adopt", "old-pier", "peer", "--version", "1.2.8", "--number", "23", "--yes"]).fails(3);
    for wrong in [
        "[[release]]\nversion = \"1\"",
        "release = []",
        "[[relase]]",
        "[[release]]\nversion = \"1\"\nnumber = 1\nsince = \"x\"",
    ] {
        env.write("wrong.toml", wrong);
        env.lantern(&["adopt", "old-pier", "--from", "wrong.toml", "--yes"]).fails(2);
    }
}
