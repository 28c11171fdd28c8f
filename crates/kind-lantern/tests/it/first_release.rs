//! `docs/first-release.md`, run as it stands.

use lantern_core::system::System;
use lantern_rehearsal::exports::{self, GameVersion};

use crate::env::TestEnv;

/// Cuts a line of a shell into words; quotes hold together.
fn words(line: &str) -> Vec<String> {
    let (mut words, mut word, mut is_quoted) = (Vec::new(), String::new(), false);
    for c in line.chars() {
        match c {
            '"' => is_quoted = !is_quoted,
            ' ' if !is_quoted => words.push(std::mem::take(&mut word)),
            c => word.push(c),
        }
    }
    words.push(word);
    words.retain(|word| !word.is_empty());
    words
}

#[test]
fn every_block_of_the_page_runs() {
    let page = include_str!("../../../../docs/first-release.md");
    let env = TestEnv::without_storefront();
    std::fs::remove_dir_all(env.path("exports")).unwrap();
    exports::write_linux(&env.path("exports/linux"), GameVersion::Old, System::LinuxX86_64).unwrap();
    let blocks = page.split("```sh\n").skip(1).map(|rest| rest.split("```").next().unwrap());
    let lines: Vec<&str> = blocks.flat_map(str::lines).filter(|line| !line.is_empty()).collect();
    assert!(lines.len() > 10, "{lines:?}");
    let mut last = String::new();
    for line in &lines {
        let words = words(line);
        assert_eq!(words[0], "lantern", "{line}");
        let arguments: Vec<&str> = words[1..].iter().map(String::as_str).collect();
        last = env.lantern(&arguments).success().stdout();
    }
    // The last one is the history: everything that the page did.
    for said in [
        "adopted 1.2.9 (24)",
        "sealed 1.3.2 (25)",
        "brought 1.3.2 (25) to old-pier, number there 10",
        "put 1.2.9 (24) back",
    ] {
        assert!(last.contains(said), "{said}:\n{last}");
    }
}
