//! Installing as a player does: damage, other games, starting.

use crate::env::{TestEnv, files};

const INSTALL: [&str; 6] = ["install", "brambleyard", "open-water", "player", "--target", "linux"];

#[test]
fn damage_is_named_and_repaired() {
    let env = TestEnv::live();
    env.lantern(&INSTALL).success();
    let path = env.path("player/saltmarsh.dat");
    let mut bytes = std::fs::read(&path).unwrap();
    bytes[0x10_0000] ^= 1;
    std::fs::write(&path, bytes).unwrap();
    std::fs::remove_file(env.path("player/letters/en.txt")).unwrap();
    snapshot!(env.lantern(&["verify", "player"]).whole(), @"
      wrong letters/en.txt: missing
      wrong saltmarsh.dat: different content
    ------- stderr -------
    error: 2 of 9 files of Saltmarsh Post 1.3.2 (1) are wrong
      fix: lantern repair player
    [exit status: 5]
    ");
    let document = env.lantern(&["verify", "player", "--json"]).fails(5).json();
    assert_eq!(document["wrong"].as_array().unwrap().len(), 2);
    let repaired = env.lantern(&["repair", "player"]).success();
    assert!(repaired.stdout().starts_with("repaired"), "{}", repaired.stdout());
    env.lantern(&["verify", "player"]).success();
    // Whether a file was damaged or changed nobody can tell: the one that was there is kept.
    std::fs::remove_file(env.path("player/saltmarsh.dat.yours")).unwrap();
    assert_eq!(files(&env.path("player")), files(&env.path("exports/linux")));
    std::fs::remove_file(env.path("player/letters/en.txt")).unwrap();
    assert!(env.lantern(&INSTALL).success().stdout().starts_with("repaired"));
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
      fix: nothing was promoted to this branch yet
    [exit status: 2]
    ");
    let stderr = env.lantern(&["verify", "player"]).fails(2).stderr();
    assert!(stderr.contains("contains no installed build"), "{stderr}");
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
fn files_of_the_players_own_are_moved_aside_and_named() {
    let env = TestEnv::live();
    env.write("player/saltmarsh/mine.txt", "a folder where a file must go");
    env.write("player/letters/en.txt", "a letter of my own");
    snapshot!(env.lantern(&[&INSTALL[..], &["--own-files", "stop"]].concat()).whole(), @"
    ------- stderr -------
    error: letters/en.txt, saltmarsh in player are in the way of the build
      fix: move it away yourself, or leave out --own-files stop: then it is moved aside. Nothing was changed
    [exit status: 6]
    ");
    assert!(!env.path("player/saltmarsh.dat").exists());
    let document = env.lantern(&[&INSTALL[..], &["--json"]].concat()).success().json();
    assert_eq!(
        document["moved_aside"],
        serde_json::json!([
            { "path": "letters/en.txt", "to": "letters/en.txt.yours" },
            { "path": "saltmarsh", "to": "saltmarsh.yours" },
        ])
    );
    assert_eq!(env.read("player/saltmarsh.yours/mine.txt"), b"a folder where a file must go");
    assert_eq!(env.read("player/letters/en.txt.yours"), b"a letter of my own");
    // What a build brought and the player changed is kept as well, by an update and by a repair.
    env.write("player/letters/en.txt", "as I like it");
    snapshot!(env.lantern(&["repair", "player"]).whole(), @"
    repaired Saltmarsh Post 1.3.2 (1) in player
      1.23 kB downloaded, 1 file written, all 9 files checked, 8.57 MB
      moved aside: letters/en.txt is now letters/en.txt.yours-2
    ");
    env.lantern(&["verify", "player"]).success();
}

#[test]
fn an_update_can_be_given_up() {
    let env = TestEnv::live();
    env.lantern(&INSTALL).success();
    env.next_version();
    env.release("1.4.0 (2)");
    let before = files(&env.path("player"));
    // Cut in the middle of the switch.
    let mut begun = 0;
    for point in 1..400 {
        let mut command = env.command(&INSTALL);
        if command.env("LANTERN_STOP_AT", point.to_string()).output().unwrap().status.success() {
            break;
        }
        let verified = env.lantern(&["verify", "player"]);
        if !verified.stderr().contains("not finished") {
            continue;
        }
        begun += 1;
        if begun == 1 {
            snapshot!(verified.whole(), @"
            ------- stderr -------
            error: the switch to another build is not finished in player
              fix: run the install again: it finishes the switch, and needs no storefront for that
              fix: or go back to what was there: lantern install --give-up player
            [exit status: 5]
            ");
        }
        let given_up = env.lantern(&["install", "--give-up", "player"]).success();
        assert_eq!(given_up.stdout(), "given up: Saltmarsh Post 1.3.2 (1) is in player, as before\n");
        assert_eq!(files(&env.path("player")), before, "at point {point}");
        env.lantern(&["verify", "player"]).success();
    }
    assert!(begun > 5, "{begun}");
    let nothing = env.lantern(&["install", "--give-up", "player", "--json"]).success().json();
    assert_eq!(nothing["given_up"], false);
}

#[test]
fn a_folder_of_another_place_is_not_mixed() {
    let mut env = TestEnv::live();
    env.lantern(&INSTALL).success();
    let port = env.close_storefront();
    std::fs::rename(env.path("storefront"), env.path("storefront-before")).unwrap();
    env.open_storefront(port);
    env.make_title();
    env.connect();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"]).success();
    let stderr = env.lantern(&INSTALL).fails(2).stderr();
    assert!(stderr.contains("from another storefront"), "{stderr}");
}

/// Trying again would not help.
#[test]
fn what_only_a_newer_lantern_reads_asks_for_one() {
    let env = TestEnv::live();
    // From here on the storefront knows what it hands out.
    env.lantern(&INSTALL.map(|word| if word == "player" { "other-player" } else { word })).success();
    for path in crate::env::paths(&env.path("storefront/titles/saltmarsh-post/locators")).into_values() {
        let mut bytes = std::fs::read(&path).unwrap();
        bytes[4] = 3;
        std::fs::write(path, bytes).unwrap();
    }
    let stderr = env.lantern(&INSTALL).fails(5).stderr();
    assert!(stderr.contains("a newer lantern wrote it"), "{stderr}");
    assert!(stderr.contains("fix: install a newer lantern, then run the same command again"), "{stderr}");
}

#[test]
fn a_folder_that_lost_its_state_gets_it_again() {
    let env = TestEnv::live();
    env.lantern(&INSTALL).success();
    for lost in ["segments", "recipes"] {
        std::fs::remove_dir_all(env.path("player/.lantern-install").join(lost)).unwrap();
        let stderr = env.lantern(&["verify", "player"]).fails(5).stderr();
        assert!(stderr.contains("is missing or damaged") && stderr.contains("install again"), "{stderr}");
        env.lantern(&["repair", "player"]).success();
        env.lantern(&["verify", "player"]).success();
    }
    env.write("player/.lantern-install/installed.json", "{");
    let stderr = env.lantern(&["verify", "player"]).fails(5).stderr();
    assert!(stderr.contains("installed.json is damaged"), "{stderr}");
    let again = env.lantern(&INSTALL).success();
    assert!(again.stdout().contains("the list of the earlier build's files is lost"), "{}", again.stdout());
    env.lantern(&["verify", "player"]).success();
}
