//! Output fits into the window that COLUMNS names, and is not folded where nobody says how wide it is.

use unicode_width::UnicodeWidthStr;

use crate::env::{Ran, TestEnv};

/// Everything that lays a table or a plan out. The last ones change something.
const COMMANDS: [&[&str]; 19] = [
    &[],
    &["check"],
    &["depots"],
    &["depots", "--as", "tree"],
    &["inspect", "exports/windows"],
    &["releases"],
    &["releases", "1"],
    &["releases", "1", "--files"],
    &["keep", "--plan", "--last", "0", "--live-within", "0"],
    &["number"],
    &["live"],
    &["history"],
    &["history", "--all"],
    &["prepare"],
    &[
        "push",
        "brambleyard",
        "--plan",
        "--message",
        "what is new is the harbour, and the letters that come with the tide",
    ],
    &["promote", "brambleyard", "open-water", "--plan", "--because", "everybody waits for the harbour since the fair"],
    &["invite", "brambleyard", "creek"],
    &["releases", "withdraw", "1", "--because", "a save bug", "--plan"],
    &["rollback", "brambleyard", "open-water"],
];

fn in_window(env: &TestEnv, columns: usize, arguments: &[&str]) -> Ran {
    let mut command = env.command(arguments);
    command.env("COLUMNS", columns.to_string());
    Ran { output: command.output().unwrap() }
}

#[test]
fn every_line_fits_into_the_window() {
    let env = TestEnv::desktops();
    env.connect();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    for branch in ["creek", "open-water"] {
        env.lantern(&["promote", "brambleyard", branch, "--confirm", "1.3.2 (1)"]).success();
        env.pass_hours(24);
    }
    env.next_version();
    env.lantern(&["prepare"]).success();
    let mut folded = 0;
    for columns in [60, 80] {
        for command in COMMANDS {
            let (narrow, wide) = (in_window(&env, columns, command), env.lantern(command));
            let text = narrow.stdout() + &narrow.stderr();
            for line in text.lines() {
                // A command to copy stays as it is, and a word is never cut.
                let can_fold = !line.starts_with("next: ") && line.trim().contains(' ');
                assert!(!can_fold || line.width() <= columns, "{columns}, {command:?}: {line:?}\n{text}");
            }
            // Folding changes where lines end, and nothing of what they say. A table that becomes blocks repeats its head.
            let words = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
            let wide = wide.stdout() + &wide.stderr();
            folded += usize::from(words(&text) == words(&wide) && text != wide);
        }
    }
    assert!(folded > 5, "only {folded} outputs were folded");
}

#[test]
fn a_table_in_a_narrow_window() {
    let env = TestEnv::live();
    env.next_version();
    env.release("1.4.0 (2)");
    snapshot!(in_window(&env, 60, &["rollback", "brambleyard", "open-water", "--plan"]).whole(), @"
    Put back 1.3.2 (1) on open-water at Brambleyard

      linux-x86_64
        players have: 1.4.0 (2)
        they get: 1.3.2 (1)
        update download: 169 kB
        full download: 4.34 MB
        on disk: 8.57 MB

      everyone: open-water is the line that every player follows
      careful: players go back to an older release
    ");
    snapshot!(in_window(&env, 60, &["releases"]).whole(), @"
      release     sealed             where
      1.4.0 (2)   2026-11-27 10:05   brambleyard: open-water
      1.3.2 (1)   2026-11-27 10:02   brambleyard

    next: lantern releases 2   shows what it contains
    ");
    snapshot!(in_window(&env, 40, &["releases"]).whole(), @"
      1.4.0 (2)
        sealed: 2026-11-27 10:05
        where: brambleyard: open-water
      1.3.2 (1)
        sealed: 2026-11-27 10:02
        where: brambleyard

    next: lantern releases 2
          shows what it contains
    ");
}
