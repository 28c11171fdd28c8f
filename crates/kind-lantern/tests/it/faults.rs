//! Kills at random times, answers that were lost, a damaged store.

use std::process::Stdio;
use std::time::Duration;

use crate::env::{TestEnv, files, rounds};

/// Runs a command several times and kills it a little later each time.
fn kill_many_times(env: &TestEnv, arguments: &[&str], step: Duration) {
    let kills = u32::try_from(rounds(8)).unwrap();
    let step = step * 8 / kills;
    for n in 0..kills {
        let mut child = env.command(arguments).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(step * n);
        // It may have ended by itself; then there is nothing to kill.
        let _ = child.kill();
        child.wait().unwrap();
    }
}

/// Kills a command many times, then runs it to its end.
fn kill_again_and_again(env: &TestEnv, arguments: &[&str], step: Duration) {
    kill_many_times(env, arguments, step);
    env.lantern(arguments).success();
}

/// As if the program had been killed after the storefront had answered: the last event never came to be.
fn forget_last_event(env: &TestEnv) {
    let ledger = rusqlite::Connection::open(env.path(".lantern/ledger.db")).unwrap();
    let sql = "DELETE FROM events WHERE position = (SELECT max(position) FROM events)";
    assert_eq!(ledger.execute(sql, []).unwrap(), 1);
    std::fs::remove_file(env.path(".lantern/ledger.head")).unwrap();
}

#[test]
fn killed_at_any_time_the_same_command_finishes_the_work() {
    let env = TestEnv::new();
    env.connect();
    let step = Duration::from_millis(9);
    kill_again_and_again(&env, &["prepare"], step);
    kill_again_and_again(&env, &["push", "brambleyard", "--yes"], step);
    kill_again_and_again(&env, &["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"], step);
    let install = ["install", "brambleyard", "open-water", "player", "--target", "linux"];
    kill_again_and_again(&env, &install, step);
    assert_eq!(env.on_branch(), "1.3.2 (1) build 1 revision 1", "nothing doubled");
    assert_eq!(files(&env.path("player")), files(&env.path("exports/linux")));
    env.next_version();
    kill_again_and_again(&env, &["prepare"], step);
    kill_again_and_again(&env, &["push", "brambleyard", "--yes"], step);
    kill_again_and_again(&env, &["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"], step);
    kill_again_and_again(&env, &install, step);
    assert_eq!(env.on_branch(), "1.4.0 (2) build 2 revision 2", "nothing doubled");
    kill_rollback(&env, step);
    assert_eq!(files(&env.path("player")), files(&env.path("exports/linux")));
    env.lantern(&["verify"]).success();
    env.lantern(&["prepare"]).success();
    let unfinished = files(&env.path(".lantern/store")).into_keys().filter(|name| name.contains(".part-"));
    assert_eq!(unfinished.count(), 0, "what kills left is removed");
    let left: Vec<String> = env.event_kinds().into_iter().filter(|k| k == "number-reserved").collect();
    assert_eq!(left.len(), 2, "a break gives no number away");
}

/// A rollback that went through is refused the second time: its name is no longer what would be put back.
fn kill_rollback(env: &TestEnv, step: Duration) {
    let rollback = ["rollback", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"];
    kill_many_times(env, &rollback, step);
    let code = env.lantern(&rollback).code();
    assert!(code == 0 || code == 3, "{code}");
    assert_eq!(env.on_branch(), "1.3.2 (1) build 1 revision 3", "nothing doubled");
    env.lantern(&["promote", "brambleyard", "open-water", "2", "--confirm", "1.4.0 (2)"]).success();
}

#[test]
fn a_promotion_whose_answer_was_lost_is_settled_by_asking() {
    let env = TestEnv::new();
    env.connect();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"]).success();
    forget_last_event(&env);
    assert_eq!(env.event_kinds().last().unwrap(), "asked");
    let ran = env.lantern(&["promote", "brambleyard", "open-water"]).success();
    assert!(ran.stdout().contains("has 1.3.2 (1) already"), "{}", ran.stdout());
    assert_eq!(env.event_kinds().last().unwrap(), "moved");
    assert_eq!(env.on_branch(), "1.3.2 (1) build 1 revision 1");
}

#[test]
fn a_rollback_whose_answer_was_lost_does_not_go_back_twice() {
    let env = TestEnv::live();
    env.next_version();
    env.release("1.4.0 (2)");
    env.edit("lantern.toml", "\"1.4.0\"", "\"1.4.1\"");
    env.release("1.4.1 (3)");
    let rollback = ["rollback", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"];
    env.lantern(&rollback).success();
    forget_last_event(&env);
    let ran = env.lantern(&rollback).success();
    assert!(ran.stdout().contains("has 1.4.0 (2) already"), "{}", ran.stdout());
    assert_eq!(env.on_branch(), "1.4.0 (2) build 2 revision 4");
    assert_eq!(env.event_kinds().last().unwrap(), "moved");
}

#[test]
fn a_promotion_that_never_arrived_is_recorded_as_not_done() {
    let env = TestEnv::live();
    env.next_version();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"]).success();
    forget_last_event(&env);
    let storefront = rusqlite::Connection::open(env.path("storefront/state.db")).unwrap();
    storefront.execute("DELETE FROM moves WHERE revision = 2", []).unwrap();
    storefront.execute("DELETE FROM answers", []).unwrap();
    drop(storefront);
    assert_eq!(env.on_branch(), "1.3.2 (1) build 1 revision 1");
    assert_eq!(env.event_kinds().last().unwrap(), "not-done");
    env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"]).success();
    assert_eq!(env.on_branch(), "1.4.0 (2) build 2 revision 2");
}

#[test]
fn a_push_whose_answer_was_lost_is_settled_as_the_build_that_it_made() {
    let env = TestEnv::desktops();
    let handle = "handle = \"saltmarsh-post\"\n";
    env.edit("lantern.toml", handle, &format!("{handle}targets = [\"linux\"]\n"));
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    // The same release for more systems is another build of it.
    env.edit("lantern.toml", "targets = [\"linux\"]\n", "targets = [\"linux\", \"windows\"]\n");
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    forget_last_event(&env);
    env.lantern(&["live"]).success();
    let document = env.lantern(&["history", "--all", "--json"]).success().json();
    let pushed = document["events"].as_array().unwrap().iter().find(|event| event["kind"] == "pushed").unwrap();
    assert_eq!(pushed["payload"]["number_there"], 2, "{pushed}");
}

#[test]
fn a_push_that_was_cut_goes_on_with_what_had_arrived() {
    let env = TestEnv::new();
    env.connect();
    env.lantern(&["prepare"]).success();
    let whole = env.lantern(&["push", "brambleyard", "--plan", "--json"]).success().one();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    // As if it had been cut before the build was made.
    let storefront = rusqlite::Connection::open(env.path("storefront/state.db")).unwrap();
    storefront.execute("DELETE FROM builds", []).unwrap();
    storefront.execute("DELETE FROM answers", []).unwrap();
    let ledger = rusqlite::Connection::open(env.path(".lantern/ledger.db")).unwrap();
    ledger.execute("DELETE FROM events WHERE kind = 'pushed'", []).unwrap();
    drop((ledger, storefront));
    std::fs::remove_file(env.path(".lantern/ledger.head")).unwrap();
    let again = env.lantern(&["push", "brambleyard", "--yes", "--json"]).success().one();
    assert!(again["sent_bytes"].as_u64().unwrap() < whole["upload_bytes"].as_u64().unwrap() / 100, "{again}");
    let kinds = env.event_kinds();
    assert_eq!(kinds.iter().filter(|k| *k == "asked").count(), 1, "the open action was taken up: {kinds:?}");
}

#[test]
fn a_damaged_store_is_found_and_named() {
    let env = TestEnv::live();
    let mut packs: Vec<_> = files(&env.path(".lantern/store/packs")).into_iter().collect();
    let (name, mut bytes) = packs.remove(0);
    bytes[100] ^= 1;
    let path = env.path(".lantern/store/packs").join(&name);
    std::fs::write(&path, &bytes).unwrap();
    let ran = env.lantern(&["verify"]).fails(5);
    assert!(ran.stdout().contains("is damaged") && ran.stderr().contains("1.3.2 (1)"), "{}", ran.whole());
    assert_eq!(env.lantern(&["verify", "--json"]).fails(5).json()["broken"][0]["number"], 1);
    std::fs::write(&path, &bytes[..bytes.len() / 2]).unwrap();
    // Nothing that is damaged is relied on: what the next release needs is taken from its export.
    env.next_version();
    let ran = env.lantern(&["prepare"]).success();
    assert!(ran.stdout().contains("store-damaged"), "{}", ran.whole());
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["verify"]).fails(5);
    // What the earlier one lost and the new export does not have comes from the storefront.
    env.lantern(&["repair"]).success();
    env.lantern(&["verify"]).success();
}

#[test]
fn a_lost_recipe_is_made_again_under_the_same_number() {
    let env = TestEnv::live();
    for folder in ["recipes", "by-tree", "releases"] {
        std::fs::remove_dir_all(env.path(".lantern/store").join(folder)).unwrap();
    }
    let document = env.lantern(&["prepare", "--json"]).success().one();
    assert_eq!((&document["made"], &document["release"]["number"]), (&true.into(), &1.into()));
    env.lantern(&["verify"]).success();
    assert_eq!(env.lantern(&["prepare", "--json"]).success().one()["made"], false);
}

#[test]
fn the_cache_may_be_deleted_or_damaged_at_any_time() {
    let env = TestEnv::live();
    for damage in [None, Some(""), Some("{\"format\":\"lantern.seen/1\"}"), Some("\u{0}")] {
        match damage {
            None => std::fs::remove_dir_all(env.path(".lantern/cache")).unwrap(),
            Some(text) => env.write(".lantern/cache/digests", text),
        }
        assert_eq!(env.lantern(&["prepare", "--json"]).success().one()["made"], false, "{damage:?}");
    }
}

#[test]
fn a_damaged_ledger_is_an_error_that_changes_nothing() {
    let env = TestEnv::live();
    let ledger = env.path(".lantern/ledger.db");
    let connection = rusqlite::Connection::open(&ledger).unwrap();
    connection.execute("DELETE FROM events WHERE kind = 'sealed'", []).unwrap();
    drop(connection);
    let ran = env.lantern(&["live"]).fails(5);
    snapshot!(ran.stderr(), @"
    error: event 5 of the ledger does not follow the one before it: something was removed or changed
      fix: lantern ledger rebuild
      fix: it rebuilds the ledger from its copy, the store and the storefronts. Nothing was changed now
    ");
    env.lantern(&["prepare"]).fails(5);
    for name in ["ledger.db-wal", "ledger.db-shm"] {
        let _ = std::fs::remove_file(env.path(".lantern").join(name));
    }
    std::fs::write(&ledger, "this is no database, whatever its name says").unwrap();
    let stderr = env.lantern(&["live"]).fails(5).stderr();
    assert!(stderr.contains("lantern ledger rebuild") && !stderr.contains("full"), "{stderr}");
}

/// Sends Ctrl-C to a program, which has to end soon and as one that was stopped; returns what it said.
#[cfg(unix)]
fn interrupted(child: std::process::Child) -> std::process::Output {
    let pid = child.id().to_string();
    assert!(std::process::Command::new("kill").args(["-INT", &pid]).status().unwrap().success());
    let started = std::time::Instant::now();
    let output = child.wait_with_output().unwrap();
    assert!(started.elapsed() < Duration::from_secs(2), "{:?}", started.elapsed());
    assert_eq!(output.status.code(), Some(130));
    output
}

#[cfg(target_os = "linux")]
#[test]
fn ctrl_c_while_sealing_ends_soon_and_says_what_is_safe() {
    let env = TestEnv::new();
    // Large enough to be in the middle of it; sparse, so that it costs no disk.
    let large = std::fs::File::create(env.path("exports/linux/large.bin")).unwrap();
    large.set_len(40 << 30).unwrap();
    let child = env.command(&["prepare"]).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    // At work for certain: it holds the lock, and has read for a while.
    while !env.path(".lantern/lock").exists() {
        std::thread::sleep(Duration::from_millis(10));
    }
    std::thread::sleep(Duration::from_millis(700));
    let output = interrupted(child);
    let stderr = String::from_utf8(output.stderr).unwrap();
    // A disk that has less room than that is said first.
    let said: Vec<&str> = stderr.lines().filter(|line| !line.contains("GB are free")).collect();
    snapshot!(said.join("\n"), @"
    stopped: nothing is half done
      fix: run the same command again to continue
    ");
}

#[cfg(unix)]
#[test]
fn ctrl_c_ends_a_request_that_hangs() {
    let env = TestEnv::live();
    // Someone who listens and never answers.
    let silent = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let origin = format!("http://{}", silent.local_addr().unwrap());
    env.edit("lantern.toml", &env.running().origin(), &origin);
    let mut command = env.command(&["connect", "brambleyard", "--client", "x"]);
    let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let _connection = silent.accept().unwrap();
    std::thread::sleep(Duration::from_millis(200));
    interrupted(child);
    env.lantern(&["live", "--offline"]).success();
}

#[cfg(unix)]
#[test]
fn ctrl_c_while_an_action_is_not_answered_does_not_say_that_nothing_was_done() {
    use std::sync::atomic::{AtomicBool, Ordering};
    let env = TestEnv::live();
    env.next_version();
    env.lantern(&["prepare", "--version", "1.4.0"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    let origin = env.running().origin();
    // The storefront does it, and its answer is kept back.
    static IS_DONE: AtomicBool = AtomicBool::new(false);
    let through = crate::env::rewriting_line_to(&origin, |path, answer| {
        if path.ends_with("/moves") {
            IS_DONE.store(true, Ordering::Relaxed);
            std::thread::sleep(Duration::from_secs(10));
        }
        answer
    });
    env.edit("lantern.toml", &origin, &through);
    env.connect();
    let mut command = env.command(&["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"]);
    let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    while !IS_DONE.load(Ordering::Relaxed) {
        std::thread::sleep(Duration::from_millis(10));
    }
    let output = interrupted(child);
    let stderr = String::from_utf8(output.stderr).unwrap().replace(&through, "http://ADDRESS");
    snapshot!(stderr, @"
    stopped: brambleyard was asked, and no answer came: whether it was done is not known yet
      why: it was stopped before http://ADDRESS answered
      fix: run the same command again: it asks the storefront what happened before it does anything
    ");
    // The same command finds it done.
    env.edit("lantern.toml", &through, &origin);
    env.connect();
    let ran = env.lantern(&["promote", "brambleyard", "open-water"]).success();
    assert!(ran.stdout().contains("has 1.4.0 (2) already"), "{}", ran.stdout());
    assert_eq!(env.event_kinds().last().unwrap(), "moved");
}

#[cfg(unix)]
#[test]
fn ctrl_c_while_files_travel_says_that_no_answer_came() {
    let env = TestEnv::live();
    env.next_version();
    env.lantern(&["prepare"]).success();
    let origin = env.running().origin();
    let ((sent, is_sent), (end, has_ended)) = (std::sync::mpsc::channel(), std::sync::mpsc::channel::<()>());
    let through = crate::env::line_to(&origin, "PUT /v1/titles/saltmarsh-post/", move || {
        sent.send(()).unwrap();
        let _ = has_ended.recv();
    });
    env.edit("lantern.toml", &origin, &through);
    env.connect();
    let mut command = env.command(&["push", "brambleyard", "--yes"]);
    let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    is_sent.recv_timeout(Duration::from_secs(60)).unwrap();
    snapshot!(String::from_utf8(interrupted(child).stderr).unwrap(), @"
    stopped: brambleyard was asked, and had not answered yet
      fix: run the same command again to continue
    ");
    drop(end);
    env.edit("lantern.toml", &through, &origin);
    env.connect();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
}
