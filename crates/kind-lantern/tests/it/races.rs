//! Two at once: one wins, the other says so.

use std::process::Stdio;
use std::time::Duration;

use crate::env::{Ran, TestEnv, copy, line_to, rounds};

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
            assert!(other.stdout().contains("another lantern is working here"), "{}", other.stdout());
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
        ran.stdout().contains("1.3.2 (1)") && ran.stderr().contains("another lantern is working"),
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

/// Two commands at once, each in its folder.
fn both(env: &TestEnv, commands: [(&str, &[&str]); 2]) -> [Ran; 2] {
    let children = commands.map(|(folder, arguments)| {
        let mut command = env.command_in(folder, arguments);
        command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
    });
    children.map(|child| Ran { output: child.wait_with_output().unwrap() })
}

/// The other person comes to know what this one knows.
fn share(env: &TestEnv) {
    std::fs::remove_dir_all(env.path("other/.lantern")).unwrap();
    copy(&env.path(".lantern"), &env.path("other/.lantern"));
}

fn builds(env: &TestEnv) -> usize {
    let folder = env.path("storefront/state.db");
    let storefront = rusqlite::Connection::open(folder).unwrap();
    storefront.query_row("SELECT count(*) FROM builds", [], |row| row.get(0)).unwrap()
}

#[test]
fn two_pushes_make_one_build() {
    let env = two_people();
    for round in 0..rounds(4) {
        let before = builds(&env);
        env.write("exports/linux/letters/en.txt", &format!("letter {round}"));
        env.lantern(&["prepare", "--version", &format!("1.4.{round}")]).success();
        share(&env);
        let push: &[&str] = &["push", "brambleyard", "--yes"];
        let ran = both(&env, [(".", push), (if round % 2 == 0 { "." } else { "other" }, push)]);
        assert!(ran.iter().any(|r| r.code() == 0), "{}{}", ran[0].whole(), ran[1].whole());
        for loser in ran.iter().filter(|r| r.code() != 0) {
            // In one folder the second one may find the first at work.
            assert_eq!((loser.code(), round % 2), (6, 0), "{}", loser.whole());
            assert!(loser.stderr().contains("another lantern is working here"), "{}", loser.whole());
        }
        assert_eq!(builds(&env), before + 1);
    }
}

#[test]
fn two_releases_of_one_number_do_not_both_arrive() {
    let env = two_people();
    let mut number = 1;
    for round in 0..rounds(4) {
        let before = builds(&env);
        number += 1;
        let version = format!("1.4.{round}");
        for (folder, who) in [(".", "mine"), ("other", "yours")] {
            env.write(&format!("{folder}/exports/linux/letters/en.txt"), &format!("{who} {round}"));
            let prepare = env.command_in(folder, &["prepare", "--version", &version]).output().unwrap();
            assert!(prepare.status.success());
        }
        let push: &[&str] = &["push", "brambleyard", "--yes"];
        let ran = both(&env, [(".", push), ("other", push)]);
        let mut codes = ran.each_ref().map(Ran::code);
        codes.sort_unstable();
        assert_eq!(codes, [0, 3], "{}{}", ran[0].whole(), ran[1].whole());
        let loser = ran.iter().find(|r| r.code() == 3).unwrap();
        assert!(loser.stderr().contains(&format!("the number {number} is taken")), "{}", loser.stderr());
        assert_eq!(builds(&env), before + 1);
        share(&env);
        env.lantern(&["live"]).success();
        share(&env);
    }
}

#[test]
fn two_promotions_in_one_folder_move_once() {
    let env = TestEnv::live();
    env.next_version();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    for round in 0..rounds(6) {
        let (number, name) = if round % 2 == 0 { ("2", "1.4.0 (2)") } else { ("1", "1.3.2 (1)") };
        let promote: &[&str] = &["promote", "brambleyard", "open-water", number, "--confirm", name];
        let ran = both(&env, [(".", promote), (".", promote)]);
        assert!(ran.iter().any(|r| r.code() == 0));
        for loser in ran.iter().filter(|r| r.code() != 0) {
            assert_eq!(loser.code(), 6, "{}", loser.whole());
        }
        assert!(env.on_branch().ends_with(&format!("revision {}", round + 2)), "{}", env.on_branch());
    }
}

#[test]
fn what_is_refused_for_good_is_closed() {
    let env = two_people();
    let origin = env.running().origin();
    for (folder, who) in [(".", "mine"), ("other", "yours")] {
        env.write(&format!("{folder}/exports/linux/letters/en.txt"), who);
        assert!(env.command_in(folder, &["prepare", "--version", "1.4.0"]).output().unwrap().status.success());
    }
    // The other person is faster by a moment: after the plan was made, before the build is asked for.
    let mut faster = env.command_in("other", &["push", "brambleyard", "--yes"]);
    let through = line_to(&origin, "POST /v1/titles/saltmarsh-post/builds", move || {
        assert!(faster.output().unwrap().status.success());
    });
    env.edit("lantern.toml", &origin, &through);
    env.connect();
    let refused = env.lantern(&["push", "brambleyard", "--yes"]).fails(3);
    assert!(refused.stderr().contains("the number 2 is taken"), "{}", refused.stderr());
    assert_eq!(env.event_kinds().iter().rev().take(2).collect::<Vec<_>>(), ["not-done", "asked"]);
    // Nothing is on its way any more: the release may go.
    env.write("exports/linux/letters/en.txt", "mine, later");
    env.lantern(&["prepare", "--version", "1.4.1"]).success();
    let plan = env.lantern(&["keep", "--last", "1", "--yes", "--json"]).success().json();
    let stays = |number: u64| {
        let releases = plan["releases"].as_array().unwrap();
        releases.iter().find(|release| release["number"] == number).unwrap()["stays"].clone()
    };
    assert_eq!((stays(1), stays(2), stays(3)), (true.into(), false.into(), true.into()), "{plan}");
    env.lantern(&["verify"]).success();
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
    // The same command says what helps, and it does: preparing again gives the next number.
    assert!(run("other", &[]).success().stdout().contains("next: lantern prepare"));
    let sealed = run("other", &["prepare"]).success().stdout();
    assert!(sealed.contains("sealed Saltmarsh Post 1.3.2 (3)"), "{sealed}");
    let document = run("other", &["push", "brambleyard", "--yes", "--json"]).success().one();
    assert_eq!((&document["release"]["number"], &document["number_there"]), (&3.into(), &3.into()));
}

#[test]
fn of_two_promotions_one_wins_and_no_update_is_lost() {
    let env = two_people();
    env.next_version();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    share(&env);
    for round in 0..rounds(12) {
        let name = if round % 2 == 0 { "1.4.0 (2)" } else { "1.3.2 (1)" };
        let number = if round % 2 == 0 { "2" } else { "1" };
        let promote: &[&str] = &["promote", "brambleyard", "open-water", number, "--confirm", name, "--json"];
        let ran = both(&env, [(".", promote), ("other", promote)]);
        assert!(ran.iter().any(|r| r.code() == 0));
        for loser in ran.iter().filter(|r| r.code() != 0) {
            assert_eq!(loser.code(), 3, "{}", loser.stdout());
            assert!(loser.stdout().contains("moved by someone else"), "{}", loser.stdout());
        }
        assert!(env.on_branch().ends_with(&format!("revision {}", round + 2)), "{}", env.on_branch());
    }
}

#[test]
fn what_someone_else_did_is_seen_and_recorded() {
    let env = two_people();
    let run = |folder: &str, arguments: &[&str]| Ran { output: env.command_in(folder, arguments).output().unwrap() };
    env.write("other/exports/linux/letters/en.txt", "yours");
    run("other", &["prepare"]).success();
    run("other", &["push", "brambleyard", "--yes"]).success();
    run("other", &["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (2)"]).success();
    assert_eq!(env.on_branch(), "1.3.2 (2) build 2 revision 2");
    let kinds = env.event_kinds();
    assert_eq!(kinds.iter().rev().take(2).collect::<Vec<_>>(), ["branch-reported", "build-found"]);
    // A plan against a build of someone else fetches its recipe to estimates the download.
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
        share(&env);
        let (name, number) = (format!("{version} ({number})"), number.to_string());
        let promote: &[&str] = &["promote", "brambleyard", "open-water", &number, "--confirm", &name];
        let withdraw: &[&str] = &["releases", "withdraw", &number, "--because", "a save bug", "--yes"];
        // From two folders, and from one, where the second may find the first at work: then it is asked again.
        let other = if round % 2 == 0 { "other" } else { "." };
        let [mut promoted, withdrawn] = both(&env, [(".", promote), (other, withdraw)]);
        if withdrawn.code() == 6 && round % 2 == 1 {
            env.lantern(withdraw).success();
        } else {
            withdrawn.success();
        }
        if promoted.code() == 6 && round % 2 == 1 {
            promoted = env.lantern(promote);
        }
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

/// Waits until something is so.
#[cfg(all(target_os = "linux", target_arch = "x86_64"))]
fn until(what: &str, mut is_so: impl FnMut() -> bool) {
    for _ in 0..600 {
        if is_so() {
            return;
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    panic!("{what}: not within half a minute");
}

#[test]
fn whoever_reads_the_store_and_whoever_removes_from_it_wait_for_each_other() {
    let env = TestEnv::live();
    env.next_version();
    env.lantern(&["prepare"]).success();
    env.write("exports/linux/letters/en.txt", "a third");
    env.lantern(&["prepare", "--version", "1.4.1"]).success();
    let lock = std::fs::File::options().create(true).append(true).open(env.path(".lantern/store.lock")).unwrap();
    let run = |arguments: &[&str]| {
        let mut command = env.command(arguments);
        command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
    };
    // Someone removes: readers wait.
    lock.lock().unwrap();
    let readers = [&["verify"][..], &["releases", "write", "1", "out"]].map(run);
    std::thread::sleep(Duration::from_millis(400));
    let mut readers = readers.map(|mut child| {
        assert!(child.try_wait().unwrap().is_none(), "it did not wait");
        child
    });
    lock.unlock().unwrap();
    readers.iter_mut().for_each(|child| assert!(child.wait().unwrap().success()));
    // Someone reads: those who remove wait, and others read on.
    lock.lock_shared().unwrap();
    let mut keep = run(&["keep", "--last", "1", "--yes"]);
    std::thread::sleep(Duration::from_millis(400));
    assert!(keep.try_wait().unwrap().is_none(), "it did not wait");
    env.lantern(&["verify"]).success();
    lock.unlock().unwrap();
    assert!(keep.wait().unwrap().success());
    env.lantern(&["verify"]).success();
}

#[cfg(all(target_os = "linux", target_arch = "x86_64"))]
#[test]
fn while_someone_plays_a_trial_the_work_goes_on() {
    let env = TestEnv::new();
    let (started, ends) = (env.path("started"), env.path("ends"));
    let game =
        format!("#!/bin/sh\ntouch '{}'\nwhile [ ! -e '{}' ]; do sleep 0.05; done\n", started.display(), ends.display());
    env.write("exports/linux/saltmarsh", &game);
    env.lantern(&["prepare"]).success();
    let mut command = env.command(&["try", "--yes"]);
    let mut trial = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    until("the game starts", || started.exists());
    env.write("exports/linux/letters/en.txt", "another letter");
    env.lantern(&["prepare", "--version", "1.4.0"]).success();
    env.lantern(&["verify"]).success();
    let second = env.lantern(&["try", "--yes"]).fails(6);
    assert!(second.stderr().contains("is being tried"), "{}", second.stderr());
    assert!(trial.try_wait().unwrap().is_none());
    std::fs::write(ends, "").unwrap();
    assert!(trial.wait().unwrap().success());
    assert_eq!(env.event_kinds().last().unwrap(), "tried");
}
