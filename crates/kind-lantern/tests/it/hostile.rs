//! Exports and files that nobody would make on purpose.

use crate::env::TestEnv;

#[test]
fn three_hundred_folders_deep() {
    let env = TestEnv::live();
    let deep = "d/".repeat(300);
    env.write(&format!("exports/linux/{deep}letter.txt"), "down here");
    env.lantern(&["prepare", "--version", "1.4.0"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"]).success();
    env.lantern(&["install", "brambleyard", "open-water", "player", "--target", "linux"]).success();
    assert_eq!(env.read(&format!("player/{deep}letter.txt")), b"down here");
    env.lantern(&["releases", "write", "2", "out.tar.gz"]).success();
    env.write(
        "lantern.toml",
        &env.config("1.4.0").replace("exports/linux", "out.tar.gz").replace("leave-out = [\"notes/**\"]\n", ""),
    );
    assert_eq!(env.lantern(&["prepare", "--json"]).success().one()["made"], false);
}

#[test]
fn a_configuration_that_is_none() {
    let env = TestEnv::new();
    let huge = format!("[game]\n{}", "a = 1\n".repeat(1_000_000));
    env.write("lantern.toml", &huge);
    let stderr = env.lantern(&["check"]).fails(6).stderr();
    assert!(stderr.contains("far larger than any real one"), "{stderr}");
    let many: String = (0..60_000).map(|i| format!("k{i} = 1\n")).collect();
    env.write("lantern.toml", &format!("[game]\n{many}"));
    let ran = env.lantern(&["check"]).fails(2);
    assert!(ran.whole().len() < 200_000, "{} bytes of findings", ran.whole().len());
}

#[cfg(unix)]
#[test]
fn names_that_would_fool_a_terminal() {
    let env = TestEnv::new();
    env.write("exports/linux/letters/\u{202e}txt.exe", "who am I");
    for command in [
        ["depots", "--as", "files"].as_slice(),
        &["depots", "--as", "tree"],
        &["prepare"],
        &["releases", "1", "--files"],
    ] {
        let ran = env.lantern(command).success();
        assert!(!ran.whole().contains('\u{202e}'), "{}", ran.whole());
    }
    assert!(env.lantern(&["releases", "1", "--files"]).success().stdout().contains("\\u{202e}txt.exe"));
}
