//! Installing as a player does: damage, other games, starting.

use crate::env::{TestEnv, files};

const INSTALL: [&str; 6] = ["install", "brambleyard", "open-water", "player", "--target", "linux"];

#[test]
fn damage_is_named_and_mended() {
    let env = TestEnv::live();
    env.lantern(&INSTALL).success();
    let path = env.path("player/saltmarsh.dat");
    let mut bytes = std::fs::read(&path).unwrap();
    bytes[0x10_0000] ^= 1;
    std::fs::write(&path, bytes).unwrap();
    std::fs::remove_file(env.path("player/letters/en.txt")).unwrap();
    snapshot!(env.lantern(&["verify", "player"]).whole(), @"
      wrong letters/en.txt: missing
      wrong saltmarsh.dat: another content
    ------- stderr -------
    error: 2 of 9 files of Saltmarsh Post 1.3.2 (1) are wrong
      try: lantern install STOREFRONT open-water player
    [exit status: 5]
    ");
    let document = env.lantern(&["verify", "player", "--json"]).fails(5).json();
    assert_eq!(document["wrong"].as_array().unwrap().len(), 2);
    let mended = env.lantern(&INSTALL).success();
    assert!(mended.stdout().starts_with("mended"), "{}", mended.stdout());
    env.lantern(&["verify", "player"]).success();
    assert_eq!(files(&env.path("player")), files(&env.path("exports/linux")));
}

#[test]
fn saved_games_stay() {
    let env = TestEnv::live();
    env.lantern(&INSTALL).success();
    env.write("player/saves/one.sav", "my punt");
    env.next_version();
    env.release("1.4.0 (2)");
    env.lantern(&INSTALL).success();
    assert_eq!(env.read("player/saves/one.sav"), b"my punt");
    assert!(!env.path("player/hints").exists(), "what the build no longer has is gone");
}

#[test]
fn nothing_is_installed_yet() {
    let env = TestEnv::new();
    snapshot!(env.lantern(&INSTALL).fails(2).whole(), @"
    ------- stderr -------
    error: open-water at brambleyard has nothing for linux
      try: nothing was promoted to this branch yet
    [exit status: 2]
    ");
    let stderr = env.lantern(&["verify", "player"]).fails(2).stderr();
    assert!(stderr.contains("holds no installed build"), "{stderr}");
    assert!(!env.path("player").exists());
}

#[test]
fn another_target_is_named() {
    let env = TestEnv::live();
    let stderr =
        env.lantern(&["install", "brambleyard", "open-water", "player", "--target", "windows"]).fails(2).stderr();
    assert!(stderr.contains("has nothing for windows") && stderr.contains("--target: linux"), "{stderr}");
}

#[test]
fn players_need_no_access() {
    let env = TestEnv::live();
    std::fs::remove_dir_all(env.path("home")).unwrap();
    env.lantern(&INSTALL).success();
}

#[cfg(all(target_os = "linux", target_arch = "x86_64"))]
#[test]
fn the_very_file_that_players_get_is_started() {
    let env = TestEnv::live();
    let start = ["install", "brambleyard", "open-water", "player", "--start"];
    let ran = env.lantern(&start).success();
    assert!(
        ran.stdout().ends_with("Saltmarsh Post 1.3.2: the tide is out, the letters are dry.\n"),
        "{}",
        ran.stdout()
    );
    let document = env.lantern(&[&start[..], &["--json"]].concat()).success();
    assert_eq!(document.json()["exit_code"], 0);
    assert!(document.stderr().contains("the tide is out"), "its output must not mix with the document");
}

#[test]
fn somebody_elses_files_in_the_way_stop_it_early() {
    let env = TestEnv::live();
    env.write("player/saltmarsh/mine.txt", "a folder where a file must go");
    let stderr = env.lantern(&INSTALL).fails(6).stderr();
    assert!(stderr.contains("is in the way"), "{stderr}");
    assert_eq!(env.read("player/saltmarsh/mine.txt"), b"a folder where a file must go");
    assert!(!env.path("player/saltmarsh.dat").exists());
}

#[test]
fn a_folder_of_another_place_is_not_mixed() {
    let mut env = TestEnv::live();
    env.lantern(&INSTALL).success();
    let port = env.close_storefront();
    std::fs::rename(env.path("place"), env.path("place-before")).unwrap();
    env.open_storefront(port);
    env.make_title();
    env.connect();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"]).success();
    let stderr = env.lantern(&INSTALL).fails(2).stderr();
    assert!(stderr.contains("from another place"), "{stderr}");
}

#[test]
fn a_damaged_state_is_an_error_not_a_crash() {
    let env = TestEnv::live();
    env.lantern(&INSTALL).success();
    env.write("player/.lantern-install/installed.json", "{");
    let stderr = env.lantern(&["verify", "player"]).fails(5).stderr();
    assert!(stderr.contains("installed.json is damaged"), "{stderr}");
    env.lantern(&INSTALL).fails(5);
}
