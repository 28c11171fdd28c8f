//! A ledger that is long enough for what follows from it to be kept: whatever becomes of that file, the answers are those
//! of the events.

use lantern_ledger::samples::busy;
use lantern_store::durable;

use crate::env::TestEnv;

const KEPT: &str = ".lantern/cache/boards";
const RECENT: &str = ".lantern/cache/boards-recent";
const QUESTIONS: [&[&str]; 5] = [&["live", "--offline"], &["releases"], &["number"], &["history", "--count", "3"], &[]];

/// The ledger of a busy studio, brought in as a copy of another computer's.
fn long() -> TestEnv {
    let env = TestEnv::new();
    let mut text = "{\"format\":\"lantern.ledger-export/1\"}\n".to_owned();
    busy(101, |line| text += &format!("{line}\n"));
    env.write("busy.jsonl", &text);
    env.lantern(&["ledger", "import", "busy.jsonl"]).success();
    env
}

fn answers(env: &TestEnv) -> Vec<String> {
    QUESTIONS.iter().map(|question| env.lantern(question).whole()).collect()
}

/// By the events alone.
fn expected(env: &TestEnv) -> Vec<String> {
    let ask = |question: &&[&str]| {
        let _ = std::fs::remove_file(env.path(KEPT));
        env.lantern(question).whole()
    };
    QUESTIONS.iter().map(ask).collect()
}

#[test]
fn answers_do_not_depend_on_what_was_kept() {
    let env = long();
    let expected = expected(&env);
    assert!(expected[0].contains("1.10.1 (101)") && expected[2].contains("102"), "{expected:?}");
    env.lantern(&["live", "--offline"]).success();
    let good = env.read(KEPT);
    assert_eq!(answers(&env), expected);
    // Damaged, cut off, of someone else.
    let mut changed = good.clone();
    changed[good.len() / 2] ^= 1;
    for bytes in [&changed[..], &good[..good.len() / 2], b"", b"not ours"] {
        std::fs::write(env.path(KEPT), bytes).unwrap();
        assert_eq!(answers(&env), expected);
    }
    // What happens after it was kept is known at once.
    std::fs::write(env.path(KEPT), &good).unwrap();
    env.lantern(&["number", "--next", "5000"]).success();
    assert!(env.lantern(&["number"]).success().stdout().contains("5000"));
}

#[test]
fn verify_compares_what_was_kept_with_the_events() {
    let env = long();
    env.lantern(&["live", "--offline"]).success();
    let differs = || env.lantern(&["verify"]).fails(5).whole().contains("what was kept of the ledger differs");
    assert!(!differs());
    // As a program with a mistake would have written it: whole, and not what the events say.
    let good = durable::read_kept(&env.path(KEPT), u64::MAX).unwrap();
    let (from, to) = (b"fog fix for testers", b"fog fix for tasters");
    let at = good.windows(from.len()).position(|bytes| bytes == from).unwrap();
    let lie = [&good[..at], to, &good[at + to.len()..]].concat();
    durable::write_kept(&env.path(KEPT), &lie).unwrap();
    assert!(differs());
    std::fs::remove_file(env.path(KEPT)).unwrap();
    assert!(!differs());
}

/// Of hundreds of releases only the recent ones are read to say what is live, and what comes next.
#[test]
fn a_history_of_years_answers_from_its_recent_part() {
    let env = TestEnv::new();
    let mut text = "{\"format\":\"lantern.ledger-export/1\"}\n".to_owned();
    busy(500, |line| text += &format!("{line}\n"));
    env.write("busy.jsonl", &text);
    env.lantern(&["ledger", "import", "busy.jsonl"]).success();
    let forget = || {
        let _ = std::fs::remove_file(env.path(KEPT));
        let _ = std::fs::remove_file(env.path(RECENT));
    };
    forget();
    let from_all = answers(&env);
    assert!(env.path(RECENT).is_file(), "what the answers came from is kept");
    assert_eq!(answers(&env), from_all);
    // A question about what happened long ago is not answered with "never".
    let shown = env.lantern(&["releases", "1"]).whole();
    assert!(!shown.contains("there is no release"), "{shown}");
    let lie = {
        let good = durable::read_kept(&env.path(RECENT), u64::MAX).unwrap();
        let (from, to) = (b"fog fix for testers", b"fog fix for tasters");
        let at = good.windows(from.len()).position(|bytes| bytes == from).unwrap();
        [&good[..at], to, &good[at + to.len()..]].concat()
    };
    let differs = || env.lantern(&["verify"]).fails(5).whole().contains("what was kept of the ledger differs");
    assert!(!differs());
    durable::write_kept(&env.path(RECENT), &lie).unwrap();
    assert!(differs());
    // Something happens: the recent part is behind, and made again.
    env.lantern(&["number", "--next", "5000"]).success();
    env.lantern(&["connect", "brambleyard", "--client", "paper-heron"]).success();
    let now = answers(&env);
    forget();
    assert_eq!(answers(&env), now);
}

#[cfg(debug_assertions)]
#[test]
fn keeping_it_can_be_cut_and_refused_at_any_point() {
    let env = long();
    let expected = expected(&env);
    let run = |name: &str, value: u32, how: &str| {
        let _ = std::fs::remove_file(env.path(KEPT));
        let mut command = env.command(&["live", "--offline"]);
        command.env(name, value.to_string()).env("LANTERN_FAIL_AS", how).output().unwrap()
    };
    let mut points = 0;
    while run("LANTERN_STOP_AT", points + 1, "").status.code() == Some(86) {
        points += 1;
        run("LANTERN_STOP_AT", points, "");
        assert_eq!(answers(&env), expected, "cut at point {points}, twice");
    }
    assert!(points > 2, "{points}");
    for how in ["full", "read-only", "once"] {
        for write in 1..=points {
            let output = run("LANTERN_FAIL_AT", write, how);
            let shown = String::from_utf8(output.stdout).unwrap();
            assert!(output.status.success() && expected[0].starts_with(shown.trim_end()), "{how} at {write}: {shown}");
        }
    }
    assert_eq!(answers(&env), expected);
}

#[test]
fn several_at_once_keep_one() {
    let env = long();
    let expected = expected(&env);
    let _ = std::fs::remove_file(env.path(KEPT));
    std::thread::scope(|scope| {
        let ask = || assert_eq!(env.lantern(QUESTIONS[0]).whole(), expected[0]);
        let all: Vec<_> = (0..6).map(|_| scope.spawn(ask)).collect();
        all.into_iter().for_each(|one| one.join().unwrap());
    });
    assert_eq!(answers(&env), expected);
}
