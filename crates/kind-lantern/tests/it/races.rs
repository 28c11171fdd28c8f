//! Two at once: one wins, the other says so.

use std::process::Stdio;

use crate::env::{Ran, TestEnv, copy, rounds};

#[test]
fn two_prepares_in_one_folder_make_one_release() {
    let env = TestEnv::new();
    for round in 0..rounds(5) {
        env.write("exports/linux/letters/en.txt", &format!("letter {round}"));
        let spawn =
            || env.command(&["prepare", "--json"]).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let children = [spawn(), spawn(), spawn()];
        let ran: Vec<Ran> = children.map(|c| Ran { output: c.wait_with_output().unwrap() }).into_iter().collect();
        let made = ran.iter().filter(|r| r.code() == 0 && r.one()["made"] == true).count();
        let whole: Vec<String> = ran.iter().map(Ran::whole).collect();
        assert_eq!(made, 1, "{}", whole.join("\n"));
        for other in ran.iter().filter(|r| r.code() != 0) {
            assert_eq!(other.code(), 6, "{}", other.stderr());
            assert!(other.stdout().contains("another lantern is at work here"), "{}", other.stdout());
        }
    }
    let document = env.lantern(&["prepare", "--json"]).success().one();
    assert_eq!(document["release"]["number"], rounds(5));
}

#[test]
fn readers_do_not_wait_for_a_lantern_at_work() {
    let env = TestEnv::live();
    let lock = std::fs::File::open(env.path(".lantern/lock")).unwrap();
    lock.lock().unwrap();
    let ran = env.lantern(&["live"]).success();
    assert!(
        ran.stdout().contains("1.3.2 (1)") && ran.stderr().contains("another lantern is at work"),
        "{}",
        ran.whole()
    );
    env.lantern(&["history"]).success();
    env.lantern(&[]).success();
    env.lantern(&["verify"]).success();
    let busy = env.lantern(&["prepare"]).fails(6);
    assert!(busy.stderr().contains("(process "), "{}", busy.stderr());
    lock.unlock().unwrap();
    env.lantern(&["prepare"]).success();
}

/// Two projects of one game, as two people have them.
fn two_people() -> TestEnv {
    let env = TestEnv::live();
    for folder in ["other/exports", "other/.lantern"] {
        std::fs::create_dir_all(env.path(folder)).unwrap();
    }
    copy(&env.path("exports"), &env.path("other/exports"));
    copy(&env.path(".lantern"), &env.path("other/.lantern"));
    std::fs::copy(env.path("lantern.toml"), env.path("other/lantern.toml")).unwrap();
    env
}

#[test]
fn two_people_who_take_the_same_number_are_told() {
    let env = two_people();
    env.write("exports/linux/letters/en.txt", "mine");
    env.write("other/exports/linux/letters/en.txt", "yours");
    let run = |folder: &str, arguments: &[&str]| Ran { output: env.command_in(folder, arguments).output().unwrap() };
    run(".", &["prepare"]).success();
    run("other", &["prepare"]).success();
    run(".", &["push", "brambleyard", "--yes"]).success();
    let refused = run("other", &["push", "brambleyard", "--yes"]).fails(3);
    assert!(refused.stderr().contains("the number 2 is taken"), "{}", refused.stderr());
    // The number was seen now: preparing anew gives one above.
    run("other", &["prepare", "--version", "1.3.3"]).success();
    let document = run("other", &["push", "brambleyard", "--yes", "--json"]).success().one();
    assert_eq!((&document["release"]["number"], &document["build"]), (&3.into(), &3.into()));
}

#[test]
fn of_two_promotions_one_wins_and_no_update_is_lost() {
    let env = two_people();
    env.next_version();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    std::fs::remove_dir_all(env.path("other/.lantern")).unwrap();
    copy(&env.path(".lantern"), &env.path("other/.lantern"));
    for round in 0..rounds(12) {
        let name = if round % 2 == 0 { "1.4.0 (2)" } else { "1.3.2 (1)" };
        let number = if round % 2 == 0 { "2" } else { "1" };
        let spawn = |folder: &str| {
            let mut command =
                env.command_in(folder, &["promote", "brambleyard", "open-water", number, "--confirm", name, "--json"]);
            command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
        };
        let children = [spawn("."), spawn("other")];
        let ran: Vec<Ran> = children.map(|c| Ran { output: c.wait_with_output().unwrap() }).into_iter().collect();
        assert!(ran.iter().any(|r| r.code() == 0));
        for loser in ran.iter().filter(|r| r.code() != 0) {
            assert_eq!(loser.code(), 3, "{}", loser.stdout());
            assert!(loser.stdout().contains("moved by somebody else"), "{}", loser.stdout());
        }
        assert!(env.on_branch().ends_with(&format!("revision {}", round + 2)), "{}", env.on_branch());
    }
}

#[test]
fn what_somebody_else_did_is_seen_and_recorded() {
    let env = two_people();
    let run = |folder: &str, arguments: &[&str]| Ran { output: env.command_in(folder, arguments).output().unwrap() };
    env.write("other/exports/linux/letters/en.txt", "yours");
    run("other", &["prepare"]).success();
    run("other", &["push", "brambleyard", "--yes"]).success();
    run("other", &["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (2)"]).success();
    assert_eq!(env.on_branch(), "1.3.2 (2) build 2 revision 2");
    let kinds = env.event_kinds();
    assert_eq!(kinds.iter().rev().take(2).collect::<Vec<_>>(), ["number-seen", "seen"]);
    // A plan against a build of somebody else fetches its manifest to foretell the download.
    let plan = env.lantern(&["promote", "brambleyard", "open-water", "1", "--plan", "--json"]).success().json();
    let update = plan["changes"][0]["update_bytes"].as_u64().unwrap();
    assert!(update > 0 && update < 10_000, "{update}");
    let document = run(".", &["prepare", "--version", "1.3.9", "--json"]).success().one();
    assert_eq!(document["release"]["number"], 3, "above the highest number seen anywhere");
}

#[test]
fn promote_against_withdraw() {
    let env = two_people();
    for round in 0..rounds(3) {
        let number = round + 2;
        env.write("exports/linux/letters/en.txt", &format!("letter {round}"));
        let version = format!("1.4.{round}");
        env.lantern(&["prepare", "--version", &version]).success();
        env.lantern(&["push", "brambleyard", "--yes"]).success();
        std::fs::remove_dir_all(env.path("other/.lantern")).unwrap();
        copy(&env.path(".lantern"), &env.path("other/.lantern"));
        let (name, number) = (format!("{version} ({number})"), number.to_string());
        let spawn = |folder: &str, arguments: &[&str]| {
            let mut command = env.command_in(folder, arguments);
            command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
        };
        let promote = spawn(".", &["promote", "brambleyard", "open-water", &number, "--confirm", &name]);
        let withdraw = spawn("other", &["releases", "withdraw", &number, "--because", "a save bug", "--yes"]);
        let promoted = Ran { output: promote.wait_with_output().unwrap() };
        Ran { output: withdraw.wait_with_output().unwrap() }.success();
        // Either it was promoted before, or it is refused because of the withdrawal; and now everybody knows.
        if promoted.code() != 0 {
            assert!(promoted.code() == 3 && promoted.stderr().contains("withdrawn"), "{}", promoted.whole());
        }
        let live = env.lantern(&["live", "--json"]).success().json();
        let here = &live["storefronts"][0]["branches"][0]["targets"]["linux"];
        assert_eq!(here["version"] == version.as_str(), promoted.code() == 0, "{live}");
        assert_eq!(here["withdrawn"] == "a save bug", promoted.code() == 0, "{live}");
        env.lantern(&["promote", "brambleyard", "open-water", &number, "--confirm", &name]).fails(3);
        if promoted.code() == 0 {
            let back = env.lantern(&["rollback", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"]);
            assert_eq!(back.code(), 0, "{}", back.whole());
        }
    }
}
