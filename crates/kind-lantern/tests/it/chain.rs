//! The chain from `init` to `history`, every output whole.

use std::fs::File;
use std::io::{Seek, SeekFrom, Write};
use std::time::{Duration, SystemTime};

use lantern_core::rules::Texts;

use crate::env::{TestEnv, files, holds, one_line};

#[test]
fn the_whole_chain_reads_well() {
    let env = TestEnv::new();
    snapshot!(env.lantern(&["connect", "brambleyard", "--client", "paper-heron"]).whole(), @"
    connected to Brambleyard as paper-heron

      title            saltmarsh-post, Saltmarsh Post
      depots           sp-linux
      branches         open-water (everyone)
      your rights      read, send, release, setup
      access kept in   HOME/access/ORIGIN.json

    next: lantern prepare
    ");
    snapshot!(env.lantern(&["live"]).whole(), @"
    Saltmarsh Post

      brambleyard   nothing sealed yet
        open-water   nothing yet

    next: lantern prepare
    ");
    snapshot!(env.lantern(&["prepare"]).whole(), @"
    sealed Saltmarsh Post 1.3.2 (1)

      linux   linux-x86_64   9 files   8.57 MB   starts saltmarsh

      added to the store   4.34 MB  (the first release)
      release id  ID

    next: lantern push brambleyard
    ");
    snapshot!(env.lantern(&["push", "brambleyard", "--message", "first", "--yes"]).whole(), @"
    Push 1.3.2 (1) to Brambleyard

      depot   there      files   size      for
      linux   sp-linux   9       8.57 MB   linux

      to upload      4.34 MB at most
      players        notice nothing: no branch changes
      for the team   first

    pushed 1.3.2 (1) to Brambleyard; its number there is 1
      4.34 MB sent, as estimated

    next: lantern promote brambleyard open-water
    ");
    snapshot!(env.lantern(&["live"]).whole(), @"
    Saltmarsh Post

      brambleyard   newest sealed: 1.3.2 (1)
        open-water   nothing yet

    next: lantern promote brambleyard open-water
    ");
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"]).whole(), @"
    Promote 1.3.2 (1) to open-water at Brambleyard

      system         players have   they get    update download   full download   on disk
      linux-x86_64   nothing        1.3.2 (1)   –                 4.34 MB         8.57 MB

      everyone: open-water is the line that every player follows
      tried: not tried yet

    live: 1.3.2 (1) on open-water at Brambleyard

    next: lantern live   asks the storefronts themselves
    ");
    snapshot!(env.lantern(&["install", "brambleyard", "open-water", "player", "--target", "linux"]).whole(), @"
    installed Saltmarsh Post 1.3.2 (1) in player
      4.34 MB downloaded, 9 files written, all 9 files checked, 8.57 MB
    ");
    env.next_version();
    snapshot!(env.lantern(&["prepare"]).whole(), @"
    sealed Saltmarsh Post 1.4.0 (2)

      linux   linux-x86_64   8 files   8.66 MB   starts saltmarsh

      added to the store   130 kB  (what 1.3.2 (1) had is stored once)
      release id  ID

    next: lantern push brambleyard
    ");
    snapshot!(env.lantern(&["push", "brambleyard", "--yes"]).whole(), @"
    Push 1.4.0 (2) to Brambleyard

      depot   there      files   size      for
      linux   sp-linux   8       8.66 MB   linux

      to upload   122 kB at most
      players     notice nothing: no branch changes

    pushed 1.4.0 (2) to Brambleyard; its number there is 2
      122 kB sent, as estimated
      update files from 1.3.2 (1): 114 kB in all, in place of 203 kB

    next: lantern promote brambleyard open-water
    ");
    snapshot!(env.lantern(&["live"]).whole(), @"
    Saltmarsh Post

      brambleyard   newest sealed: 1.4.0 (2)
        open-water   1.3.2 (1)   behind
                     linux
                     since 2026-11-27 10:06 by paper-heron, number there 1
                     first

    next: lantern promote brambleyard open-water
    ");
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water", "--plan"]).whole(), @"
    Promote 1.4.0 (2) to open-water at Brambleyard

      system         players have   they get    update download   full download   on disk
      linux-x86_64   1.3.2 (1)      1.4.0 (2)   122 kB            4.38 MB         8.66 MB

      everyone: open-water is the line that every player follows
      tried: not tried yet
    ");
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water", "1.4.0", "--confirm", "1.4.0 (2)"]).whole(), @"
    Promote 1.4.0 (2) to open-water at Brambleyard

      system         players have   they get    update download   full download   on disk
      linux-x86_64   1.3.2 (1)      1.4.0 (2)   122 kB            4.38 MB         8.66 MB

      everyone: open-water is the line that every player follows
      tried: not tried yet

    live: 1.4.0 (2) on open-water at Brambleyard

    next: lantern live   asks the storefronts themselves
    ");
    snapshot!(env.lantern(&["install", "brambleyard", "open-water", "player", "--target", "linux"]).whole(), @"
    updated 1.3.2 (1) to Saltmarsh Post 1.4.0 (2) in player
      122 kB downloaded, 3 files written, 1 removed, all 8 files checked, 8.66 MB
    ");
    snapshot!(env.lantern(&["verify", "player"]).whole(), @"intact: Saltmarsh Post 1.4.0 (2): 8 files, 8.66 MB");
    snapshot!(env.lantern(&["verify"]).whole(), @"intact: 2 releases, 4.47 MB");
    snapshot!(env.lantern(&["live"]).whole(), @"
    Saltmarsh Post

      brambleyard   newest sealed: 1.4.0 (2)
        open-water   1.4.0 (2)   newest
                     linux
                     since 2026-11-27 10:12 by paper-heron, number there 2

    next: lantern install brambleyard open-water DIR   gets it as a player does
    ");
    snapshot!(env.lantern(&["history"]).whole(), @"
    UTC
    2026-11-27 10:12:00   wren   put 1.4.0 (2) on open-water at brambleyard
    2026-11-27 10:09:00   wren   pushed 1.4.0 (2) to brambleyard, number there 2, 122 kB
    2026-11-27 10:08:00   wren   sealed 1.4.0 (2)
    2026-11-27 10:06:00   wren   put 1.3.2 (1) on open-water at brambleyard
    2026-11-27 10:04:00   wren   pushed 1.3.2 (1) to brambleyard, number there 1, 4.34 MB: first
    2026-11-27 10:03:00   wren   sealed 1.3.2 (1)
    2026-11-27 10:01:00   wren   saw the branch open-water at brambleyard, with nothing on it yet
    2026-11-27 10:01:00   wren   connected to brambleyard as paper-heron
    ");
    assert_eq!(files(&env.path("player")), files(&env.path("exports/linux")));
}

#[test]
fn lantern_alone_says_where_the_game_stands_and_the_one_next_step() {
    let env = TestEnv::new();
    snapshot!(env.lantern(&[]).whole(), @"
    Saltmarsh Post

      newest sealed   nothing yet
      exports         ready to be taken in
      brambleyard     not connected

    next: lantern prepare
    ");
    env.lantern(&["prepare"]).success();
    snapshot!(env.lantern(&[]).whole(), @"
    Saltmarsh Post

      newest sealed   1.3.2 (1)
      exports         as sealed
      brambleyard     not connected

    next: lantern connect brambleyard
    ");
    env.connect();
    snapshot!(env.lantern(&[]).whole(), @"
    Saltmarsh Post

      newest sealed   1.3.2 (1)
      exports         as sealed
      brambleyard     not there yet

    next: lantern push brambleyard
    ");
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    snapshot!(env.lantern(&[]).whole(), @"
    Saltmarsh Post

      newest sealed   1.3.2 (1)
      exports         as sealed
      brambleyard     there, not live on open-water

    next: lantern promote brambleyard open-water
    ");
    env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"]).success();
    snapshot!(env.lantern(&[]).whole(), @"
    Saltmarsh Post

      newest sealed   1.3.2 (1)
      exports         as sealed
      brambleyard     live on open-water

    next: lantern live   asks the storefronts themselves
    ");
    env.write("exports/linux/letters/en.txt", "new");
    assert_eq!(env.lantern(&["--json"]).success().one()["exports"], "changed");
    std::fs::remove_file(env.path("exports/linux/saltmarsh")).unwrap();
    snapshot!(env.lantern(&[]).whole(), @"
    Saltmarsh Post

      newest sealed   1.3.2 (1)
      exports         wrong: cannot be taken in as they are
      brambleyard     live on open-water

    next: lantern check
    ");
}

#[test]
fn doing_it_again_makes_nothing_new() {
    let env = TestEnv::live();
    let events = env.event_kinds();
    snapshot!(env.lantern(&["prepare"]).whole(), @"
    nothing changed: Saltmarsh Post 1.3.2 (1) has exactly this content

    next: lantern live   asks the storefronts themselves
    ");
    snapshot!(env.lantern(&["prepare", "--read-all"]).whole(), @"
    nothing changed: Saltmarsh Post 1.3.2 (1) has exactly this content

    next: lantern live   asks the storefronts themselves
    ");
    snapshot!(env.lantern(&["push", "brambleyard"]).whole(), @"
    nothing to send: 1.3.2 (1) is at Brambleyard already; its number there is 1

    next: lantern live   asks the storefronts themselves
    ");
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water"]).whole(), @"nothing to do: open-water at Brambleyard has 1.3.2 (1) already");
    env.lantern(&["install", "brambleyard", "open-water", "player", "--target", "linux"]).success();
    snapshot!(env.lantern(&["install", "brambleyard", "open-water", "player", "--target", "linux"]).whole(), @"Saltmarsh Post 1.3.2 (1) is in player already, every file as it should be");
    assert_eq!(env.event_kinds(), events);
}

#[test]
fn new_times_alone_change_nothing() {
    let env = TestEnv::new();
    let first = env.lantern(&["prepare", "--json"]).success().one();
    for (name, bytes) in files(&env.path("exports/linux")) {
        std::fs::write(env.path("exports/linux").join(name), bytes).unwrap();
    }
    let second = env.lantern(&["prepare", "--json"]).success().one();
    assert_eq!((&first["made"], &second["made"]), (&true.into(), &false.into()));
    assert_eq!(first["id"], second["id"]);
}

/// From 64 MiB on several processors read one file; sealing hashes it on and on.
#[test]
fn a_large_file_is_known_again_and_a_byte_of_it_counts() {
    let env = TestEnv::new();
    let path = env.path("exports/linux/large.pack");
    let large = File::create(&path).unwrap();
    large.set_len((64 << 20) + 12_345).unwrap();
    let made = || env.lantern(&["prepare", "--read-all", "--json"]).success().one()["made"].clone();
    assert_eq!(made(), true);
    large.set_modified(SystemTime::now() + Duration::from_secs(1)).unwrap();
    assert_eq!(made(), false);
    for at in [0, 40 << 20, (64 << 20) + 12_344] {
        let mut file = File::options().write(true).open(&path).unwrap();
        file.seek(SeekFrom::Start(at)).unwrap();
        file.write_all(b"x").unwrap();
        assert_eq!(made(), true, "{at}");
        assert_eq!(made(), false, "{at}");
    }
}

#[test]
fn the_same_input_gives_the_same_ids_in_another_place() {
    let (one, two) = (TestEnv::new(), TestEnv::new());
    let first = one.lantern(&["prepare", "--json"]).success().one();
    let second = two.lantern(&["prepare", "--json"]).success().one();
    assert_eq!(first["id"], second["id"]);
    assert_eq!(first["release"], second["release"]);
    // The number is a label: with another one it is another release of the same trees.
    let third = {
        let env = TestEnv::new();
        env.lantern(&["prepare", "--version", "0.9"]).success();
        env.lantern(&["prepare", "--json"]).success().one()
    };
    assert_eq!(third["release"]["number"], 2);
    assert_ne!(third["id"], first["id"]);
    assert_eq!(third["release"]["targets"], first["release"]["targets"]);
    assert_eq!(third["stored_bytes"], 0);
}

#[test]
fn what_is_estimated_is_what_travels() {
    let env = TestEnv::new();
    env.connect();
    for version in [None, Some(())] {
        if version.is_some() {
            env.next_version();
        }
        env.lantern(&["prepare"]).success();
        let plan = env.lantern(&["push", "brambleyard", "--plan", "--json"]).success().one();
        assert_eq!(plan["done"], false);
        let done = env.lantern(&["push", "brambleyard", "--yes", "--json"]).success().one();
        assert_eq!(done["sent_bytes"], plan["upload_bytes"]);
    }
    let live = env.lantern(&["promote", "brambleyard", "open-water", "1", "--confirm", "1.3.2 (1)", "--json"]);
    let whole = live.success().json()["changes"][0]["whole_bytes"].clone();
    let player = ["install", "brambleyard", "open-water", "player", "--target", "linux", "--json"];
    let first = env.lantern(&player).success().json();
    let near = |a: &serde_json::Value, b: &serde_json::Value| {
        let (a, b) = (a.as_u64().unwrap(), b.as_u64().unwrap());
        assert!(a <= b + b / 20 + 20_000 && b <= a, "{a} {b}");
    };
    near(&first["received_bytes"], &whole);
    let plan = env.lantern(&["promote", "brambleyard", "open-water", "2", "--confirm", "1.4.0 (2)", "--json"]);
    let update = plan.success().json()["changes"][0]["update_bytes"].clone();
    near(&env.lantern(&player).success().json()["received_bytes"], &update);
    assert!(update.as_u64().unwrap() < whole.as_u64().unwrap() / 10);
}

#[test]
fn everyones_line_is_never_moved_by_a_plain_yes() {
    let env = TestEnv::new();
    env.connect();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water", "--yes"]).whole(), @r#"
    Promote 1.3.2 (1) to open-water at Brambleyard

      system         players have   they get    update download   full download   on disk
      linux-x86_64   nothing        1.3.2 (1)   –                 4.34 MB         8.57 MB

      everyone: open-water is the line that every player follows
      tried: not tried yet
    ------- stderr -------
    error: your confirmation, the release's own name, is missing
      fix: give it with --confirm "1.3.2 (1)"
    [exit status: 7]
    "#);
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (2)"]).fails(2).stderr(), @r#"
    error: --confirm names "1.3.2 (2)", the plan is for "1.3.2 (1)"
      fix: check the plan, then confirm the release that it names
    "#);
    assert_eq!(env.on_branch(), "nothing (null) build null revision 0");
}

#[test]
fn plans_change_nothing() {
    let env = TestEnv::new();
    env.connect();
    env.lantern(&["prepare"]).success();
    let events = env.event_kinds();
    env.lantern(&["push", "brambleyard", "--plan"]).success();
    assert_eq!(env.event_kinds(), events);
    assert!(!env.path("storefront/titles/saltmarsh-post").exists(), "nothing travelled");
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "open-water", "--plan"]).success();
    assert_eq!(env.on_branch(), "nothing (null) build null revision 0");
}

#[test]
fn going_back_to_an_older_release_is_said_aloud() {
    let env = TestEnv::live();
    env.next_version();
    env.release("1.4.0 (2)");
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water", "1.3.2", "--plan"]).whole(), @"
    Promote 1.3.2 (1) to open-water at Brambleyard

      system         players have   they get    update download   full download   on disk
      linux-x86_64   1.4.0 (2)      1.3.2 (1)   169 kB            4.34 MB         8.57 MB

      everyone: open-water is the line that every player follows
      tried: not tried yet
      careful: players go back to an older release
    ");
}

#[test]
fn a_rollback_goes_back_and_further_back_and_never_forth() {
    let env = TestEnv::live();
    let rollback = ["rollback", "brambleyard", "open-water"];
    snapshot!(env.lantern(&rollback).whole(), @"
    ------- stderr -------
    error: open-water at brambleyard had nothing before
      fix: choose a release yourself: lantern promote brambleyard open-water VERSION
    [exit status: 3]
    ");
    env.next_version();
    env.release("1.4.0 (2)");
    env.write("exports/linux/letters/en.txt", "a bad letter");
    env.edit("lantern.toml", "\"1.4.0\"", "\"1.4.1\"");
    env.release("1.4.1 (3)");
    snapshot!(env.lantern(&[&rollback[..], &["--yes"]].concat()).whole(), @r#"
    Put back 1.4.0 (2) on open-water at Brambleyard

      system         players have   they get    update download   full download   on disk
      linux-x86_64   1.4.1 (3)      1.4.0 (2)   9.12 kB           4.38 MB         8.66 MB

      everyone: open-water is the line that every player follows
      careful: players go back to an older release
    ------- stderr -------
    error: your confirmation, the release's own name, is missing
      fix: give it with --confirm "1.4.0 (2)"
    [exit status: 7]
    "#);
    assert_eq!(env.on_branch(), "1.4.1 (3) build 3 revision 3");
    let back = |name: &str| env.lantern(&[&rollback[..], &["--confirm", name, "--because", "saves are lost"]].concat());
    snapshot!(back("1.4.0 (2)").whole(), @"
    Put back 1.4.0 (2) on open-water at Brambleyard

      system         players have   they get    update download   full download   on disk
      linux-x86_64   1.4.1 (3)      1.4.0 (2)   9.12 kB           4.38 MB         8.66 MB

      everyone: open-water is the line that every player follows
      because: saves are lost
      careful: players go back to an older release

    back: 1.4.0 (2) on open-water at Brambleyard

    next: lantern live   asks the storefronts themselves
    ");
    assert_eq!(env.on_branch(), "1.4.0 (2) build 2 revision 4");
    // Right behind a rollback, the same command names no release: it may be the same wish twice.
    let twice = env.lantern(&[&rollback[..], &["--confirm", "1.3.2 (1)"]].concat());
    snapshot!(twice.whole(), @r#"
    ------- stderr -------
    error: open-water at brambleyard went back to 1.4.0 (2) only 2 minutes ago
      fix: if that is what you wanted, nothing is left to do
      fix: to go back once more: lantern rollback brambleyard open-water "1.3.2 (1)"
    [exit status: 3]
    "#);
    let to = |release: &str, name: &str| env.lantern(&[&rollback[..], &[release, "--confirm", name]].concat());
    let comment = ["1.3.2", "--confirm", "1.3.2 (1)", "--because", "saves are lost"];
    env.lantern(&[&rollback[..], &comment].concat()).success();
    assert_eq!(env.on_branch(), "1.3.2 (1) build 1 revision 5");
    // A release that is named is gone back to once, however often it is asked for.
    assert!(to("1.3.2", "1.3.2 (1)").success().stdout().contains("has 1.3.2 (1) already"));
    let never = to("7", "1.4.0 (7)").fails(3).stderr();
    assert!(
        never.contains("never had number 7") && never.contains("it had 1.4.0 (2), 1.4.1 (3), 1.4.0 (2)"),
        "{never}"
    );
    assert_eq!(env.on_branch(), "1.3.2 (1) build 1 revision 5");
    let document = env.lantern(&["history", "--json"]).success().json();
    assert_eq!(document["events"][0]["payload"]["restores"], 1);
    // A promotion begins again: before it was what the last rollback put back.
    env.lantern(&["promote", "brambleyard", "open-water", "2", "--confirm", "1.4.0 (2)"]).success();
    let plan = env.lantern(&[&rollback[..], &["--plan", "--json"]].concat()).success().json();
    assert_eq!((&plan["restores"], &plan["release"]["version"]), (&5.into(), &"1.3.2".into()));
    let player = ["install", "brambleyard", "open-water", "player", "--target", "linux"];
    env.lantern(&player).success();
    back("1.3.2 (1)").success();
    env.lantern(&player).success();
    env.lantern(&["verify", "player"]).success();
    snapshot!(env.lantern(&["history", "--count", "3"]).whole(), @"
    UTC
    2026-11-27 10:26:00   wren   put 1.3.2 (1) back on open-water at brambleyard: saves are lost
    2026-11-27 10:23:00   wren   put 1.4.0 (2) on open-water at brambleyard
    2026-11-27 10:17:00   wren   put 1.3.2 (1) back on open-water at brambleyard: saves are lost

    12 older ones: --count 15
    ");
}

#[test]
fn a_rollback_of_someone_elses_build_needs_nothing_of_it_here() {
    let env = TestEnv::live();
    env.next_version();
    env.release("1.4.0 (2)");
    // As on another computer: the store holds nothing of what was pushed.
    std::fs::remove_dir_all(env.path(".lantern/store")).unwrap();
    let plan = env.lantern(&["rollback", "brambleyard", "open-water", "--plan", "--json"]).success().json();
    let (update, whole) = (plan["changes"][0]["update_bytes"].as_u64(), plan["changes"][0]["whole_bytes"].as_u64());
    assert!(update.unwrap() > 10_000 && whole.unwrap() > 4_000_000, "{plan}");
    env.lantern(&["rollback", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"]).success();
}

#[test]
fn sealed_releases_are_listed_and_shown() {
    let env = TestEnv::new();
    snapshot!(env.lantern(&["releases"]).whole(), @"
    nothing is sealed yet

    next: lantern prepare
    ");
    env.connect();
    env.release("1.3.2 (1)");
    env.next_version();
    env.lantern(&["prepare"]).success();
    snapshot!(env.lantern(&["releases"]).whole(), @"
      release     sealed             where
      1.4.0 (2)   2026-11-27 10:06
      1.3.2 (1)   2026-11-27 10:03   brambleyard: open-water

    next: lantern releases 2   shows what it contains
    ");
    snapshot!(env.lantern(&["releases", "1.4.0", "--files"]).whole(), @"
    1.4.0 (2) 81517f0ee3fe, sealed 2026-11-27 10:06

      linux   linux-x86_64   8 files   8.66 MB   starts saltmarsh

      depot   files   size      tree           for
      linux   8       8.66 MB   5bdb957e63f2   linux

      linux   206 B     8051f78c52d2             letters/en.txt
      linux   1.30 MB   66d4bb5b5448             music/ebb.snd
      linux   1.10 MB   e5e307afc09a             music/flood.snd
      linux   213 B     600988c82578   program   saltmarsh
      linux   4.26 MB   eb719f26e792             saltmarsh.dat
      linux   400 kB    526b76d849d6             textures/punt.tex
      linux   700 kB    9031898d3018             textures/reeds.tex
      linux   900 kB    5fb14ae9e331             textures/water.tex
    ");
    let document = env.lantern(&["releases", "1", "--files", "--json"]).success().json();
    assert_eq!(document["release"]["version"], "1.3.2");
    let files = document["files"].as_array().unwrap();
    let program = files.iter().find(|f| f["path"] == "saltmarsh").unwrap();
    let expected = lantern_core::digest::Digest::of(&env.read("exports/linux/textures/reeds.tex")).to_string();
    assert_eq!(program["executable"], true);
    assert_eq!(files.iter().find(|f| f["path"] == "textures/reeds.tex").unwrap()["digest"], expected);
    assert_eq!(env.lantern(&["releases", "9"]).code(), 2);
}

#[test]
fn releases_are_asked_for_in_several_ways() {
    let env = TestEnv::live();
    env.next_version();
    env.lantern(&["prepare"]).success();
    for asked in ["1", "1.3.2", "1.3.2 (1)"] {
        let document = env.lantern(&["push", "brambleyard", asked, "--json"]).success().one();
        assert_eq!(document["number_there"], 1, "{asked}");
    }
    snapshot!(env.lantern(&["push", "brambleyard", "2.0"]).whole(), @"
    ------- stderr -------
    error: there is no release 2.0
      fix: one of 1.4.0 (2), 1.3.2 (1)
    [exit status: 2]
    ");
    snapshot!(env.lantern(&["push", "bramble"]).whole(), @r#"
    ------- stderr -------
    error: lantern.toml has no storefront "bramble"
      fix: the only one is brambleyard
    [exit status: 2]
    "#);
    snapshot!(env.lantern(&["promote", "brambleyard", "open-watre"]).whole(), @r#"
    ------- stderr -------
    error: brambleyard does not accept this
      why: there is no branch "open-watre"
      fix: did you mean "open-water"?
    [exit status: 3]
    "#);
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water"]).whole(), @r#"
    ------- stderr -------
    error: 1.4.0 (2) is not at brambleyard yet
      fix: lantern push brambleyard "1.4.0 (2)"
    [exit status: 3]
    "#);
}

#[test]
fn texts_travel_with_the_build() {
    let env = TestEnv::new();
    env.connect();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--message", "for us", "--notes", "for you", "--yes"]).success();
    let state = env.read("storefront/state.db-wal");
    assert!(holds(&state, "for us") && holds(&state, "for you"));
}

#[test]
fn help_has_examples_everywhere() {
    let env = TestEnv::without_storefront();
    let commands = [
        "init", "check", "prepare", "releases", "connect", "push", "promote", "rollback", "live", "history", "install",
        "verify", "rehearse", "demo",
    ];
    for command in commands {
        let help = env.lantern(&[command, "--help"]).success().stdout();
        let examples =
            help.lines().skip_while(|line| !line.contains("Examples:")).filter(|l| l.contains("lantern ")).count();
        assert!(examples >= 2, "{command}: {help}");
        assert!(help.lines().all(|line| line.chars().count() <= 120), "{command}");
    }
    assert!(env.lantern(&[]).success().stdout().contains("lantern demo"));
    for shell in ["bash", "zsh", "fish", "powershell", "elvish"] {
        assert!(env.lantern(&["completions", shell]).success().stdout().contains("promote"), "{shell}");
    }
    assert_eq!(env.lantern(&["prmote"]).code(), 2);
}

/// Notes that the storefront does not take are refused before anything travels.
#[test]
fn notes_are_as_long_as_the_storefront_takes_them() {
    let mut env = TestEnv::without_storefront();
    let mut document = one_line();
    document.rules.texts = Some(Texts { notes_max: 12 });
    env.open_stand_in(document, 0);
    env.make_title();
    env.write("lantern.toml", &env.config("1.3.2"));
    env.connect();
    env.lantern(&["prepare"]).success();
    env.write("notes.txt", "# en\nIt is lit.\n# ja\n灯台に明かりが灯りました。\n");
    let push = ["push", "brambleyard", "--notes-from", "notes.txt", "--yes"];
    let refused = env.lantern(&push).fails(3).stderr();
    assert!(refused.contains("the notes (ja) have 13 characters, 12 are taken"), "{refused}");
    env.write("notes.txt", "# en\nIt is lit.\n# ja\n灯りました。\n");
    env.lantern(&push).success();
}
