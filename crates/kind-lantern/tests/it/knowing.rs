//! The board, the numbers and the next step say no more than is known, and no less.

use lantern_rehearsal::exports::{self, GameVersion};
use lantern_rehearsal::stand_in::StandInDocument;

use crate::env::{Ran, TestEnv, copy};

/// Another computer with the same `lantern.toml` and exports, and nothing of the state; connected.
fn laptop(env: &TestEnv) {
    copy(&env.path("exports"), &env.path("laptop/exports"));
    std::fs::copy(env.path("lantern.toml"), env.path("laptop/lantern.toml")).unwrap();
    on(env, "laptop", &["connect", "brambleyard", "--client", "paper-heron"]).success();
}

fn on(env: &TestEnv, folder: &str, arguments: &[&str]) -> Ran {
    Ran { output: env.command_in(folder, arguments).output().unwrap() }
}

/// What stands behind "next:".
#[track_caller]
fn next(ran: Ran) -> String {
    let stdout = ran.success().stdout();
    stdout.rsplit_once("next: ").unwrap_or_else(|| panic!("{stdout}")).1.trim().to_owned()
}

#[test]
fn a_storefront_that_came_back_from_a_backup_is_shown_as_it_is() {
    let mut env = TestEnv::live();
    let port = env.close_storefront();
    copy(&env.path("storefront"), &env.path("backup"));
    env.open_storefront(port);
    env.next_version();
    env.release("1.4.0 (2)");
    env.lantern(&["promote", "brambleyard", "open-water", "1", "--confirm", "1.3.2 (1)"]).success();
    env.lantern(&["promote", "brambleyard", "open-water", "2", "--confirm", "1.4.0 (2)"]).success();
    env.close_storefront();
    std::fs::remove_dir_all(env.path("storefront")).unwrap();
    copy(&env.path("backup"), &env.path("storefront"));
    env.open_storefront(port);
    assert_eq!(env.on_branch(), "1.3.2 (1) build 1 revision 1");
    let history = env.lantern(&["history", "--count", "2"]).success().stdout();
    assert!(history.contains("open-water at brambleyard is at revision 1 again, after 4"), "{history}");
    assert!(history.contains("1.4.0 (2) is not at brambleyard any more, number there 2"), "{history}");
    // What is not there any more is pushed again, and the board follows.
    assert_eq!(next(env.lantern(&["live"])), "lantern push brambleyard");
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"]).success();
    assert_eq!(env.on_branch(), "1.4.0 (2) build 2 revision 2");
    // What is live stays, what a revision of before named does not count.
    let kept = env.lantern(&["keep", "--last", "0", "--live-within", "0", "--plan"]).success().stdout();
    assert!(kept.contains("1.4.0 (2)   stays") && kept.contains("1.3.2 (1)   goes"), "{kept}");
}

#[test]
fn a_storefront_that_was_set_up_again_is_another_one() {
    let mut env = TestEnv::live();
    let port = env.close_storefront();
    env.open_storefront_in(&env.path("fresh"), crate::env::one_line(), port);
    env.make_title();
    env.connect();
    let board = env.lantern(&["live"]).success().stdout();
    assert!(board.contains("nothing yet") && !board.contains("1.3.2 (1)   newest"), "{board}");
    let status = env.lantern(&[]).success().stdout();
    assert!(status.contains("not there yet") && status.ends_with("next: lantern push brambleyard\n"), "{status}");
    // What only the old one has is live nowhere.
    env.next_version();
    env.lantern(&["prepare"]).success();
    let kept = env.lantern(&["keep", "--last", "1", "--live-within", "0", "--plan"]).success().stdout();
    assert!(kept.contains("1.3.2 (1)   goes"), "{kept}");
}

#[test]
fn a_storefront_keeps_its_history_when_it_gets_another_name_here() {
    let env = TestEnv::live();
    let text = String::from_utf8(env.read("lantern.toml")).unwrap();
    env.write("lantern.toml", &text.replace("storefronts.brambleyard", "storefronts.yard"));
    let board = env.lantern(&["live"]).success().stdout();
    assert!(board.contains("yard") && board.contains("1.3.2 (1)   newest"), "{board}");
    assert!(env.lantern(&[]).success().stdout().contains("live on open-water"));
}

#[test]
fn after_going_back_to_an_older_export_there_is_a_number_for_it() {
    let env = TestEnv::new();
    env.connect();
    env.lantern(&["prepare"]).success();
    env.write("exports/linux/letters/en.txt", "a detour");
    env.release("1.3.2 (2)");
    // The first one was never pushed, and its number is passed there.
    env.export(GameVersion::Old);
    let sealed = env.lantern(&["prepare"]).success().stdout();
    assert!(sealed.contains("sealed Saltmarsh Post 1.3.2 (3)"), "{sealed}");
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    // What is there already needs no other number.
    env.write("exports/linux/letters/en.txt", "a detour");
    let same = env.lantern(&["prepare"]).success().stdout();
    assert!(same.contains("nothing changed: Saltmarsh Post 1.3.2 (2) has exactly this content"), "{same}");
}

#[test]
fn a_number_far_above_is_not_followed_unless_someone_says_so() {
    let env = TestEnv::live();
    laptop(&env);
    on(&env, "laptop", &["number", "--next", "2000000000"]).success();
    env.write("laptop/exports/linux/letters/en.txt", "with a number that nobody meant");
    on(&env, "laptop", &["prepare"]).success();
    on(&env, "laptop", &["push", "brambleyard", "--yes"]).success();
    env.lantern(&["live"]).success();
    snapshot!(env.lantern(&["number"]).whole(), @"
    the next release gets the number 2
      the highest so far is 1
      brambleyard has 1.3.2 (2000000000), far above; numbers here do not follow it
    ");
    env.next_version();
    let ran = env.lantern(&["prepare"]).success();
    assert!(ran.stdout().contains("sealed Saltmarsh Post 1.4.0 (2)"), "{}", ran.whole());
    snapshot!(ran.stderr(), @"
    warns: brambleyard has 1.3.2 (2000000000), far above the numbers here; it is not followed
      try: to follow it: lantern number --next 2000000001
    ");
    // Where numbers must rise the storefront says so; anyone who follows it can, and can take it back.
    env.lantern(&["number", "--next", "2000000001"]).success();
    env.write("exports/linux/letters/en.txt", "Dear Wren, once more");
    let sealed = env.lantern(&["prepare"]).success().stdout();
    assert!(sealed.contains("1.4.0 (2000000001)"), "{sealed}");
    env.lantern(&["number", "--next", "2"]).fails(2);
    env.lantern(&["number", "--next", "3"]).success();
    env.write("exports/linux/letters/en.txt", "Dear Wren, and once more");
    assert!(env.lantern(&["prepare"]).success().stdout().contains("1.4.0 (3)"));
}

#[test]
fn what_a_build_says_of_itself_must_agree_with_its_release() {
    let env = TestEnv::live();
    let phone = "[targets.phone]\nexport = \"exports/saltmarsh.apk\"\n\n[targets.linux]";
    env.edit("lantern.toml", "[targets.linux]", phone);
    env.edit("lantern.toml", "depots = { linux", "depots = { phone = \"sp-phone\", linux");
    env.make_title_of("saltmarsh-post", "Saltmarsh Post", &["sp-linux", "sp-phone"]);
    exports::write_android(&env.path("exports/saltmarsh.apk"), GameVersion::Old, false).unwrap();
    snapshot!(env.lantern(&["prepare"]).whole(), @"
    ------- stderr -------
    error: the exports cannot be sealed: 1 error

      error: phone has the number 25 inside, and the release gets 2 (number-differs)
      fix: set the number 2 in the engine and export again; or stamp = true, and lantern writes it; or: lantern number --next 25
    [exit status: 1]
    ");
    let codes = env.lantern(&["check"]).fails(1).stdout();
    assert!(codes.contains("number-differs"), "{codes}");
    env.lantern(&["number", "--next", "25"]).success();
    env.release("1.3.2 (25)");
    assert!(!env.lantern(&["check"]).success().stdout().contains("number-differs"), "it is sealed");
    // The others were exported again, the package was forgotten: it is the very file of the last release.
    env.export(GameVersion::New);
    env.edit("lantern.toml", "1.3.2", "1.4.0");
    let stderr = env.lantern(&["prepare"]).fails(1).stderr();
    assert!(stderr.contains("phone calls itself 1.3.2, and the release gets 1.4.0 (version-differs)"), "{stderr}");
    assert!(stderr.contains("phone has the number 25 inside, and the release gets 26 (number-differs)"), "{stderr}");
    let accept = "[checks]\naccept = [\n  { code = \"version-differs\", because = \"the phone waits\" },\n  \
        { code = \"number-differs\", because = \"the phone waits\" },\n]\n\n[targets.phone]";
    env.edit("lantern.toml", "[targets.phone]", accept);
    snapshot!(env.lantern(&["prepare"]).success().whole(), @"
    sealed Saltmarsh Post 1.4.0 (26)

      linux   linux-x86_64   8 files   8.66 MB   starts saltmarsh
      phone   android        1 file    2.00 MB   unchanged since 1.3.2 (25)

      added to the store   130 kB  (what 1.3.2 (25) had is stored once)
      release id  ID

      5 warnings: lantern check shows how to fix them
        phone: the package has no icon (no-icon)
        phone: lib/arm64-v8a/libsaltmarsh.so is not aligned to 16 KB: devices with large pages do not start it (unaligned-library)
        phone: the package is not signed: no device accepts it (unsigned)
        phone: built for pages of 4 KB, and not loaded by devices with larger ones: lib/arm64-v8a/libsaltmarsh.so (small-pages)
        phone is exactly what it was in 1.3.2 (25), although others changed (unchanged-target)

    next: lantern push brambleyard
    ");
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (26)"]).success();
    snapshot!(env.lantern(&["live"]).success().whole(), @"
    Saltmarsh Post

      brambleyard   newest sealed: 1.4.0 (26)
        open-water   1.4.0 (26)   newest
                     linux, phone
                     differs: phone declares version 1.3.2, number 25
                     phone: unchanged since 1.3.2 (25)
                     since 2026-11-27 10:15 by paper-heron, number there 3

    next: lantern install brambleyard open-water DIR   gets it as a player does
    ");
    let list = env.lantern(&["releases"]).success().stdout();
    assert!(list.contains("differs inside: phone"), "{list}");
    let shown = env.lantern(&["releases", "26"]).success().stdout();
    assert!(shown.contains("differs: phone declares version 1.3.2, number 25"), "{shown}");
    assert!(shown.contains("unchanged since 1.3.2 (25)"), "{shown}");
}

#[test]
fn a_release_of_a_part_moves_its_part_alone() {
    let env = TestEnv::desktops();
    let out = |release: &str| {
        env.lantern(&["promote", "brambleyard", "creek", "--yes"]).success();
        env.pass_hours(24);
        env.lantern(&["promote", "brambleyard", "open-water", "--confirm", release]).success()
    };
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    out("1.3.2 (1)");
    env.write("exports/windows/letters/en.txt", "Dear Wren, only you need this.");
    // An export that is missing stops only what needs it.
    std::fs::rename(env.path("exports/macos"), env.path("exports/macos-away")).unwrap();
    env.lantern(&["prepare"]).fails(1);
    snapshot!(env.lantern(&["prepare", "--target", "windows", "--version", "1.3.3"]).success().whole(), @"
    sealed Saltmarsh Post 1.3.3 (2)

      windows   windows-x86_64   11 files   10.4 MB   starts Saltmarsh Post.exe

      depots               voices-en, voices-fr, voices-ja, windows
      kept aside           1 file, 300 kB
      added to the store   100 B  (what 1.3.2 (1) had is stored once)
      release id  ID

      3 warnings: lantern check shows how to fix them
        windows: Saltmarsh Post.exe is not signed: Windows warns everyone who downloads and starts it (unsigned)
        windows: Saltmarsh Post.exe has no icon (no-icon)
        windows: Saltmarsh Post.exe opens a console window next to the game (console-window)

    next: lantern push brambleyard
    ");
    std::fs::rename(env.path("exports/macos-away"), env.path("exports/macos")).unwrap();
    assert_eq!(next(env.lantern(&[])), "lantern push brambleyard");
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    snapshot!(out("1.3.3 (2)").whole(), @"
    Promote 1.3.3 (2) to open-water at Brambleyard

      system           players have   they get    update download   full download   on disk
      windows-x86_64   1.3.2 (1)      1.3.3 (2)   8.96 kB           4.64 MB         9.17 MB

      unchanged: linux, macos stay at 1.3.2 (1)

      optional, not counted: voices-fr (voices=fr), voices-ja (voices=ja)

      everyone: open-water is the line that every player follows
      tried: not tried yet
      warns: 3 warnings when it was sealed: lantern check

    live: 1.3.3 (2) on open-water at Brambleyard

    next: lantern live   asks the storefronts themselves
    ");
    snapshot!(env.lantern(&["live"]).success().whole(), @"
    Saltmarsh Post

      brambleyard   newest sealed: 1.3.3 (2)
        creek        1.3.3 (2)   newest
                     windows
                     since 2026-11-28 10:10 by paper-heron, number there 2
                     1.3.2 (1)   not in 1.3.3 (2)
                     linux, macos
                     since 2026-11-27 10:04 by paper-heron, number there 1
        open-water   1.3.3 (2)   newest
                     windows
                     since 2026-11-29 10:11 by paper-heron, number there 2
                     1.3.2 (1)   not in 1.3.3 (2)
                     linux, macos
                     since 2026-11-28 10:05 by paper-heron, number there 1

    next: lantern install brambleyard open-water DIR   gets it as a player does
    ");
    // The part of a whole release can be moved as well.
    env.edit("lantern.toml", "[targets.linux]", crate::env::TRIED_VERSIONS);
    env.write("exports/linux/letters/en.txt", "Dear Aldous");
    env.lantern(&["prepare", "--version", "1.3.4"]).success();
    env.lantern(&["push", "brambleyard", "--target", "linux", "--yes"]).success();
    let promote = ["promote", "brambleyard", "creek", "--target", "linux", "--yes"];
    let moved = env.lantern(&promote).success().stdout();
    assert!(moved.contains("unchanged: macos stays at 1.3.2 (1)"), "{moved}");
    assert!(moved.contains("unchanged: windows stays at 1.3.3 (2)"), "{moved}");
    let stderr = env.lantern(&["prepare", "--target", "amiga"]).fails(2).stderr();
    assert!(stderr.contains("there is no target amiga") && stderr.contains("linux"), "{stderr}");
}

#[test]
fn the_wrong_game_is_noticed_by_its_content() {
    let env = TestEnv::live();
    // Engines name files alike: the same names, the same sizes, other bytes.
    for path in crate::env::files(&env.path("exports/linux")).into_keys() {
        let file = format!("exports/linux/{path}");
        let bytes: Vec<u8> = env.read(&file).iter().map(|byte| byte ^ 0x55).collect();
        if path != "saltmarsh" {
            std::fs::write(env.path(&file), bytes).unwrap();
        }
    }
    let program = env.read("exports/linux/saltmarsh");
    std::fs::write(env.path("exports/linux/saltmarsh"), [&program[..], b"another program"].concat()).unwrap();
    let stderr = env.lantern(&["prepare", "--version", "1.4.0"]).fails(1).stderr();
    assert!(
        stderr.contains("linux has nothing in common with 1.3.2 (1)") && stderr.contains("another-game"),
        "{stderr}"
    );
    assert_eq!(env.event_kinds().iter().filter(|kind| *kind == "sealed").count(), 1);
}

#[test]
fn another_computer_goes_on_with_what_a_build_machine_pushed() {
    let env = TestEnv::live();
    env.next_version();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--message", "for the launch", "--yes"]).success();
    laptop(&env);
    let list = on(&env, "laptop", &["releases"]).success().stdout();
    assert!(list.contains("1.4.0 (2)") && list.contains("sealed elsewhere"), "{list}");
    let shown = on(&env, "laptop", &["releases", "2"]).success().stdout();
    assert!(shown.contains("for the launch") && shown.contains("found at brambleyard"), "{shown}");
    assert!(shown.contains("linux-x86_64") && shown.contains("sp") | shown.contains("linux"), "{shown}");
    // Nothing is proposed that would number it once more.
    assert_eq!(next(on(&env, "laptop", &["live"])), "lantern prepare");
    std::fs::remove_dir_all(env.path("laptop/exports")).unwrap();
    assert_eq!(next(on(&env, "laptop", &["live"])), "lantern promote brambleyard open-water");
    let promoted = on(&env, "laptop", &["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"]).success();
    assert!(promoted.stdout().contains("live: 1.4.0 (2)"), "{}", promoted.whole());
    let stderr = on(&env, "laptop", &["releases", "write", "2", "out"]).fails(2).stderr();
    assert!(stderr.contains("was sealed on another computer"), "{stderr}");
    on(&env, "laptop", &["try", "2"]).fails(2);
    on(&env, "laptop", &["releases", "withdraw", "1.4.0", "--because", "a save bug", "--yes"]).success();
    assert!(env.lantern(&["live"]).success().stdout().contains("withdrawn: a save bug"));
}

#[test]
fn nobody_is_sent_back_over_a_colleagues_newer_build() {
    let env = TestEnv::live();
    laptop(&env);
    env.write("laptop/exports/linux/letters/en.txt", "newer");
    on(&env, "laptop", &["prepare", "--version", "2.0.0"]).success();
    on(&env, "laptop", &["push", "brambleyard", "--yes"]).success();
    on(&env, "laptop", &["promote", "brambleyard", "open-water", "--confirm", "2.0.0 (2)"]).success();
    let board = env.lantern(&["live"]).success().stdout();
    assert!(board.contains("2.0.0 (2)   newest") && !board.contains("next: lantern promote"), "{board}");
    assert!(!env.lantern(&[]).success().stdout().contains("lantern promote"));
}

#[test]
fn after_a_withdrawal_the_same_exports_are_no_release() {
    let env = TestEnv::live();
    env.next_version();
    env.release("1.4.0 (2)");
    let withdrawn = env.lantern(&["releases", "withdraw", "1.4.0", "--because", "a save bug", "--yes"]).success();
    assert_eq!(next(withdrawn), "lantern rollback brambleyard open-water");
    env.lantern(&["rollback", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"]).success();
    snapshot!(env.lantern(&[]).whole(), @"
    Saltmarsh Post

      newest sealed   1.3.2 (1)
      exports         exactly a release that was withdrawn
      brambleyard     live on open-water

    next: export the game again, then: lantern prepare
    ");
    snapshot!(env.lantern(&["prepare"]).whole(), @"
    ------- stderr -------
    error: the exports cannot be sealed: 1 error

      error: the exports are exactly 1.4.0 (2), which was withdrawn: a save bug (withdrawn-before)
      fix: export the game again, or raise the version to release the very same once more
    [exit status: 1]
    ");
    // The very same may go out once more under another version.
    env.edit("lantern.toml", "1.4.0", "1.4.1");
    assert!(env.lantern(&["prepare"]).success().stdout().contains("sealed Saltmarsh Post 1.4.1 (3)"));
}

#[test]
fn the_forgotten_version_is_noticed() {
    let env = TestEnv::live();
    // Another content of the same size, twice: what is live counts, not only what was sealed last.
    for letter in ["a", "b"] {
        let text = String::from_utf8(env.read("exports/linux/letters/en.txt")).unwrap();
        env.write("exports/linux/letters/en.txt", &text.replacen(|c: char| c.is_ascii_lowercase(), letter, 1));
        let sealed = env.lantern(&["prepare"]).success().stdout();
        assert!(
            sealed.contains("open-water has 1.3.2 (1), and this is something else under the same version"),
            "{sealed}"
        );
    }
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    let plan = env.lantern(&["promote", "brambleyard", "open-water", "--plan"]).success().stdout();
    assert!(plan.contains("careful: players have another release of the same version, 1.3.2 (1)"), "{plan}");
    assert!(plan.contains("1 warning when it was sealed"), "{plan}");
}

#[cfg(unix)]
#[test]
fn a_no_is_shown_wherever_a_yes_would_be() {
    let env = TestEnv::live();
    env.export(GameVersion::New);
    std::fs::write(env.path("exports/linux/saltmarsh"), "#!/bin/sh\nexit 3\n").unwrap();
    env.lantern(&["prepare", "--version", "1.4.0"]).success();
    env.lantern(&["try", "--yes"]).fails(5);
    assert!(env.lantern(&["releases"]).success().stdout().contains("tried, no: linux"));
    assert!(env.lantern(&[]).success().stdout().contains("no: linux"));
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    let promote = ["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"];
    let ran = env.lantern(&promote).fails(1);
    assert!(ran.stderr().contains("failed") && ran.stderr().contains("--anyway"), "{}", ran.whole());
    env.lantern(&[&promote[..], &["--anyway"]].concat()).success();
    // A program that a signal ended says nothing about the build.
    std::fs::write(env.path("exports/linux/saltmarsh"), "#!/bin/sh\nkill -9 $$\n").unwrap();
    env.lantern(&["prepare", "--version", "1.4.1"]).success();
    let before = env.event_kinds().len();
    assert!(env.lantern(&["try", "--yes"]).fails(6).stderr().contains("ended by a signal"));
    assert_eq!(env.event_kinds().len(), before);
}

#[test]
fn a_title_of_another_game_is_found_before_anything_travels() {
    let env = TestEnv::live();
    let title = lantern_storefront::protocol::Title {
        handle: "punt-and-oar".parse().unwrap(),
        name: "Punt and Oar".into(),
        identity: "example.paperheron.puntandoar".parse().unwrap(),
        depots: vec!["sp-linux".parse().unwrap()],
    };
    env.running().stand_in().make_title(&title).unwrap();
    env.next_version();
    env.edit("lantern.toml", "handle = \"saltmarsh-post\"", "handle = \"punt-and-oar\"");
    env.lantern(&["prepare"]).success();
    let packs = || crate::env::files(&env.path("storefront")).len();
    let before = packs();
    snapshot!(env.lantern(&["push", "brambleyard", "--yes"]).whole(), @"
    ------- stderr -------
    error: the title punt-and-oar at brambleyard belongs to another game, example.paperheron.puntandoar
      fix: fix the handle in [storefronts.brambleyard]; in lantern.toml this game is example.paperheron.saltmarsh
    [exit status: 3]
    ");
    assert_eq!(packs(), before);
    assert!(
        env.lantern(&["connect", "brambleyard", "--client", "paper-heron"]).fails(3).stderr().contains("another game")
    );
    // The board shows what it knows, and says why it could not ask.
    assert!(env.lantern(&["live"]).success().stdout().contains("belongs to another game"));
}

#[test]
fn branches_that_the_place_lacks_are_told_and_not_proposed() {
    let env = TestEnv::new();
    let testers = "[storefronts.brambleyard.branches]\ntesters = { audience = \"invited\" }\n";
    env.edit("lantern.toml", "[storefronts.brambleyard.branches]\n", testers);
    let connected = env.lantern(&["connect", "brambleyard", "--client", "paper-heron"]).success().stdout();
    assert!(connected.contains("testers in lantern.toml is not a branch there"), "{connected}");
    env.lantern(&["prepare"]).success();
    assert_eq!(next(env.lantern(&["push", "brambleyard", "--yes"])), "lantern promote brambleyard open-water");
    let board = env.lantern(&["live"]).success().stdout();
    assert!(board.contains("testers      not a branch there"), "{board}");
}

#[test]
fn push_says_that_the_exports_changed_since_sealing() {
    let env = TestEnv::new();
    env.connect();
    env.lantern(&["prepare"]).success();
    env.write("exports/linux/letters/en.txt", "exported again");
    let ran = env.lantern(&["push", "brambleyard", "--plan"]).success().stdout();
    assert!(ran.contains("careful: the exports changed since it was sealed"), "{ran}");
}

/// A copy of the same bytes, or another export of the same: nobody has read them yet.
#[test]
fn new_times_are_not_said_to_be_a_change() {
    let env = TestEnv::new();
    env.connect();
    env.lantern(&["prepare"]).success();
    let letter = env.read("exports/linux/letters/en.txt");
    env.write_bytes("exports/linux/letters/en.txt", &letter);
    let plan = || env.lantern(&["push", "brambleyard", "--plan"]).success().stdout();
    let careful =
        "careful: files of the exports have other times since it was sealed; if they changed, that is not in it";
    assert!(plan().contains(careful), "{}", plan());
    let status = env.lantern(&[]).success().stdout();
    assert!(status.contains("maybe changed since then: some files have other times"), "{status}");
    assert!(env.lantern(&["prepare"]).success().stdout().contains("nothing changed"));
    assert!(!plan().contains("careful"), "{}", plan());
}

#[test]
fn two_targets_for_one_system_are_a_finding() {
    let env = TestEnv::without_storefront();
    let config = "[game]\nname = \"Saltmarsh Post\"\nstudio = \"Paper Heron\"\nidentity = \"example.paperheron.saltmarsh\"\n\
        version = \"1.3.2\"\n\n[targets.linux]\nexport = \"exports/linux\"\nstarts = \"saltmarsh\"\n\n\
        [targets.also]\nexport = \"exports/linux\"\nstarts = \"saltmarsh\"\n";
    env.write("lantern.toml", config);
    let stdout = env.lantern(&["check"]).success().stdout();
    assert!(stdout.contains("also, linux are all for linux-x86_64") && stdout.contains("duplicate-system"), "{stdout}");
}

#[test]
fn what_was_said_at_a_push_is_shown_again() {
    let env = TestEnv::new();
    env.connect();
    env.lantern(&["prepare"]).success();
    env.write("news.md", "# en\nThe lighthouse is lit.\n\n# de\nDer Leuchtturm brennt.\n");
    let push = ["push", "brambleyard", "--message", "fog fix", "--notes-from", "news.md", "--yes"];
    let pushed = env.lantern(&push).success().stdout();
    assert!(pushed.contains("for players, de") && pushed.contains("The lighthouse is lit."), "{pushed}");
    env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"]).success();
    let shown = env.lantern(&["releases", "1"]).success().stdout();
    assert!(
        shown.contains("for the team: fog fix") && shown.contains("for players, en: The lighthouse is lit."),
        "{shown}"
    );
    assert!(env.lantern(&["history"]).success().stdout().contains("number there 1, 4.34 MB: fog fix"));
    assert!(env.lantern(&["live"]).success().stdout().contains("fog fix"));
    env.write("news.md", "# what is new\nlight\n");
    let stderr = env.lantern(&push).fails(2).stderr();
    assert!(stderr.contains("news.md: line 1: \"what is new\" is not a language"), "{stderr}");
}

#[test]
fn every_edition_is_pushed_unless_one_is_named() {
    let env = crate::editions::with_first_tide();
    env.lantern(&["prepare"]).success();
    let document = env.lantern(&["push", "brambleyard", "--yes", "--json"]).success().json();
    let editions: Vec<_> = document["pushes"].as_array().unwrap().iter().map(|push| push["edition"].clone()).collect();
    assert_eq!(editions, ["full", "first-tide"]);
}

#[test]
fn a_place_with_more_lines_has_none_forgotten() {
    let mut env = TestEnv::new();
    let port = env.close_storefront();
    env.open_stand_in(StandInDocument::brambleyard(), port);
    env.connect();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    // Those that lantern.toml does not name are shown, and not proposed.
    let board = env.lantern(&["live"]).success().stdout();
    assert!(board.contains("creek        nothing yet") && board.contains("open-water   nothing yet"), "{board}");
    assert!(board.ends_with("next: lantern promote brambleyard open-water\n"), "{board}");
}

/// What a branch needs is asked for before it moves, of each release again.
#[test]
fn a_branch_takes_what_was_tried_and_looked_at() {
    let mut env = TestEnv::live();
    let needs = |env: &TestEnv, version: &str| {
        let text = env.config(version).replace(
            "audience = \"everyone\"",
            "audience = \"everyone\", needs = [\"trial\", \"last-look\"], trial-of = [\"linux\"]",
        );
        let questions =
            "\n[last-look]\nquestions = [\"Do the credits name everyone?\", \"Does the feedback link open?\"]\n";
        env.write("lantern.toml", &(text + questions));
    };
    needs(&env, "1.4.0");
    env.export(GameVersion::New);
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    assert_eq!(env.lantern(&["--json"]).json()["next"], "lantern try --target linux");
    let promote = ["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"];
    let refused = env.lantern(&promote).fails(1);
    snapshot!(refused.whole(), @r#"
    Promote 1.4.0 (2) to open-water at Brambleyard

      system         players have   they get    update download   full download   on disk
      linux-x86_64   1.3.2 (1)      1.4.0 (2)   122 kB            4.38 MB         8.66 MB

      everyone: open-water is the line that every player follows
      tried: not tried yet
      needs trial: no, nobody tried linux yet (lantern try "1.4.0 (2)" --target linux)
      needs last-look: no, 2 questions are not answered with yes (lantern last-look "1.4.0 (2)")
    ------- stderr -------
    error: open-water needs more of 1.4.0 (2): nobody tried linux yet; 2 questions are not answered with yes
      fix: lantern try "1.4.0 (2)" --target linux
      fix: lantern last-look "1.4.0 (2)"
    [exit status: 1]
    "#);
    let mut said = String::new();
    for line in [
        &["last-look", "--answer", "1=yes", "--answer", "2=no"][..],
        &["last-look"],
        &["last-look", "--answer", "3=yes"],
        &["last-look", "--answer", "1=perhaps"],
        &["last-look", "--answer", "2=yes"],
        &["history", "--count", "3"],
    ] {
        said += &format!("$ lantern {}\n{}\n", line.join(" "), env.lantern(line).whole());
    }
    snapshot!(said, @"
    $ lantern last-look --answer 1=yes --answer 2=no
    Last look at 1.4.0 (2)

      1  yes  Do the credits name everyone?   by wren, just now
      2  no   Does the feedback link open?   by wren, just now

    next: lantern last-look 2   asks again what is not a yes

    $ lantern last-look
    Last look at 1.4.0 (2)

      1  yes  Do the credits name everyone?   by wren, 1 minute ago
      2  no   Does the feedback link open?   by wren, 1 minute ago

    next: lantern last-look 2   asks again what is not a yes

    $ lantern last-look --answer 3=yes
    ------- stderr -------
    error: there is no question 3
      fix: there are 2
    [exit status: 2]

    $ lantern last-look --answer 1=perhaps
    ------- stderr -------
    error: --answer: write it as 1=yes or 1=no
      fix: lantern last-look --help shows what it takes
    [exit status: 2]

    $ lantern last-look --answer 2=yes
    Last look at 1.4.0 (2)

      1  yes  Do the credits name everyone?   by wren, 4 minutes ago
      2  yes  Does the feedback link open?   by wren, just now

    next: lantern try --target linux

    $ lantern history --count 3
      UTC
      2026-11-27 10:13:00   wren   answered yes for 1.4.0 (2): Does the feedback link open?
      2026-11-27 10:09:00   wren   answered no for 1.4.0 (2): Does the feedback link open?
      2026-11-27 10:09:00   wren   answered yes for 1.4.0 (2): Do the credits name everyone?

      7 older ones: --count 10
    ");
    // Looked at and not tried is not enough; plans and rollbacks are free.
    env.lantern(&promote).fails(1);
    env.lantern(&["promote", "brambleyard", "open-water", "--plan"]).success();
    env.lantern(&["rollback", "brambleyard", "open-water", "--plan"]).fails(3);
    if cfg!(target_os = "linux") {
        env.lantern(&["try", "--yes"]).success();
        assert_eq!(env.lantern(&["--json"]).json()["next"], "lantern promote brambleyard open-water");
        env.lantern(&["last-look", "--answer", "1=no"]).success();
        assert_eq!(env.lantern(&["--json"]).json()["next"], "lantern last-look");
        env.lantern(&["last-look", "--answer", "1=yes"]).success();
        env.lantern(&promote).success();
    }
    // Another release is asked for again, and so is another wording.
    needs(&env, "1.4.1");
    env.write("exports/linux/letters/en.txt", "Dear Aldous, the lighthouse is lit.");
    env.lantern(&["prepare"]).success();
    let looks = env.lantern(&["last-look", "--json"]).json();
    assert!(looks["done"] == false && looks["questions"][0]["yes"].is_null(), "{looks}");
    env.lantern(&["last-look", "1.4.0", "--answer", "1=yes"]).success();
    for wrong in ["needs = [\"moon\"]", "needs = [\"trial\"], trial-of = [\"moon\"]", "trial-of = [\"linux\"]"] {
        let text = env.config("1.4.1").replace("audience = \"everyone\"", &format!("audience = \"everyone\", {wrong}"));
        env.write("lantern.toml", &text);
        env.lantern(&["live", "--offline"]).fails(2);
    }
    let alone =
        env.config("1.4.1").replace("audience = \"everyone\"", "audience = \"everyone\", needs = [\"last-look\"]");
    env.write("lantern.toml", &alone);
    let what = env.lantern(&["live", "--offline"]).fails(2).stderr();
    assert!(what.contains("the last look has no questions"), "{what}");
    env.close_storefront();
}
