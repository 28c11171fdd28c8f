//! What `prepare` says of exports that cannot be taken as they are.

use lantern_core::system::System;
use lantern_rehearsal::exports::{self, GameVersion};

use crate::env::TestEnv;

#[test]
fn an_export_that_is_not_there_or_empty() {
    let env = TestEnv::new();
    env.edit("lantern.toml", "exports/linux", "exports/linus");
    snapshot!(env.lantern(&["prepare"]).whole(), @r#"
    ------- stderr -------
    error: the exports cannot be sealed: 1 error

      lantern.toml, line 8, column 10
        export = "exports/linus"
                 ~~~~~~~~~~~~~~~
      error: the export exports/linus is not there (export-missing)
      fix: there is "linux" next to it; fix the path, or export the game there
    [exit status: 1]
    "#);
    std::fs::create_dir(env.path("exports/linus")).unwrap();
    snapshot!(env.lantern(&["prepare"]).whole(), @r#"
    ------- stderr -------
    error: the exports cannot be sealed: 1 error

      lantern.toml, line 11, column 13
        leave-out = ["notes/**"]
                    ~~~~~~~~~~~~
      warning: notes/** in leave-out matches nothing in the export (unused-pattern)
      fix: remove it, or fix it so that it matches

      lantern.toml, line 8, column 10
        export = "exports/linus"
                 ~~~~~~~~~~~~~~~
      error: the export exports/linus is empty (export-empty)
      fix: export the game there, or fix the path
    [exit status: 1]
    "#);
    env.edit("lantern.toml", "exports/linus", "exports/linux/saltmarsh");
    snapshot!(env.lantern(&["prepare"]).whole(), @r#"
    ------- stderr -------
    error: the exports cannot be sealed: 1 error

      lantern.toml, line 8, column 10
        export = "exports/linux/saltmarsh"
                 ~~~~~~~~~~~~~~~~~~~~~~~~~
      error: the export exports/linux/saltmarsh is neither a folder nor an archive nor a package (export-form)
      fix: name a folder, or a file that ends in one of .tar.gz, .tgz, .tar.zst, .tzst, .tar, .zip, .apk, .aab, .ipa
    [exit status: 1]
    "#);
}

#[test]
fn the_start_file_is_somewhere_else() {
    let env = TestEnv::new();
    let start = |from: &str, to: &str| {
        env.edit("lantern.toml", from, to);
        env.lantern(&["prepare"]).fails(1).stderr()
    };
    snapshot!(start("starts = \"saltmarsh\"", "starts = \"Saltmarsh\""), @r#"
    error: the exports cannot be sealed: 1 error

      lantern.toml, line 10, column 10
        starts = "Saltmarsh"
                 ~~~~~~~~~~~
      error: the start file Saltmarsh is not in the export (start-case)
      fix: letter case counts: write starts = "saltmarsh"
    "#);
    snapshot!(start("starts = \"Saltmarsh\"", "starts = \"bin/saltmarsh\""), @r#"
    error: the exports cannot be sealed: 1 error

      lantern.toml, line 10, column 10
        starts = "bin/saltmarsh"
                 ~~~~~~~~~~~~~~~
      error: the start file bin/saltmarsh is not in the export (start-missing)
      fix: it is at starts = "saltmarsh"
    "#);
    snapshot!(start("starts = \"bin/saltmarsh\"", "starts = \"punt\""), @r#"
    error: the exports cannot be sealed: 1 error

      lantern.toml, line 10, column 10
        starts = "punt"
                 ~~~~~~
      error: the start file punt is not in the export (start-missing)
      fix: export again, or fix starts
    "#);
    snapshot!(start("starts = \"punt\"", "starts = \"letters/en.txt\""), @r#"
    error: the exports cannot be sealed: 1 error

      lantern.toml, line 10, column 10
        starts = "letters/en.txt"
                 ~~~~~~~~~~~~~~~~
      error: the start file letters/en.txt is not a program (it is data) (not-a-program)
      fix: name the program itself
    "#);
}

#[test]
fn the_start_file_is_for_something_else() {
    let env = TestEnv::new();
    env.edit("lantern.toml", "linux-x86_64", "linux-aarch64");
    snapshot!(env.lantern(&["prepare"]).whole(), @r#"
    ------- stderr -------
    error: the exports cannot be sealed: 1 error

      lantern.toml, line 9, column 11
        systems = ["linux-aarch64"]
                  ~~~~~~~~~~~~~~~~~
      error: the start file saltmarsh is for linux-x86_64, the target has linux-aarch64 (wrong-system)
      fix: export for the right system, or fix systems
    [exit status: 1]
    "#);
    env.edit("lantern.toml", "[\"linux-aarch64\"]", "[\"linux-x86_64\", \"linux-aarch64\"]");
    snapshot!(env.lantern(&["prepare"]).whole(), @r#"
    ------- stderr -------
    error: the exports cannot be sealed: 1 error

      lantern.toml, line 9, column 11
        systems = ["linux-x86_64", "linux-aarch64"]
                  ~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~
      error: the start file saltmarsh is for linux-x86_64 only, not for linux-aarch64 (wrong-system)
      fix: add a target of its own for linux-aarch64, or give each system its start
    [exit status: 1]
    "#);
    env.write("lantern.toml", &env.config("1.3.2"));
    for (bytes, expected) in [
        (b"MZ\x90\0".as_slice(), "cut off"),
        (b"", "it is empty"),
        (b"\x7fELF\x02\x01\x01", "cut off"),
        (b"\x7fELF\x09\x01\x01\0", "EI_CLASS is 9"),
    ] {
        std::fs::write(env.path("exports/linux/saltmarsh"), bytes).unwrap();
        let stderr = env.lantern(&["prepare"]).fails(1).stderr();
        assert!(stderr.contains(expected), "{stderr}");
    }
    // A script says nothing of systems: they must be stated, and be ones that start scripts.
    std::fs::write(env.path("exports/linux/saltmarsh"), "#!/bin/sh\nexec ./game\n").unwrap();
    env.lantern(&["check"]).success();
    env.edit("lantern.toml", "systems = [\"linux-x86_64\"]\n", "");
    let stdout = env.lantern(&["check"]).fails(1).stdout();
    assert!(stdout.contains("it is a script, which starts only on Linux and macOS)"), "{stdout}");
    assert!(stdout.contains("write systems = [\"linux-x86_64\"]"), "{stdout}");
}

#[test]
fn what_can_be_seen_need_not_be_said() {
    let env = TestEnv::new();
    env.edit("lantern.toml", "systems = [\"linux-x86_64\"]\nstarts = \"saltmarsh\"\n", "");
    let document = env.lantern(&["prepare", "--json"]).success().one();
    let target = &document["release"]["targets"][0];
    assert_eq!((&target["starts"][0]["file"], &target["systems"][0]), (&"saltmarsh".into(), &"linux-x86_64".into()));
    std::fs::copy(env.path("exports/linux/saltmarsh"), env.path("exports/linux/editor")).unwrap();
    snapshot!(env.lantern(&["prepare"]).whole(), @r#"
    ------- stderr -------
    error: the exports cannot be sealed: 1 error

      lantern.toml, line 7, column 10
        [targets.linux]
                 ~~~~~
      error: there are several programs at the top of exports/linux: editor, saltmarsh (no-start)
      fix: say which one starts the game: starts = "editor"
    [exit status: 1]
    "#);
    std::fs::remove_file(env.path("exports/linux/editor")).unwrap();
    std::fs::remove_file(env.path("exports/linux/saltmarsh")).unwrap();
    let stderr = env.lantern(&["prepare"]).fails(1).stderr();
    assert!(stderr.contains("there is no program at the top"), "{stderr}");
}

#[test]
fn what_must_be_there_and_is_not() {
    let env = TestEnv::new();
    std::fs::remove_file(env.path("exports/linux/saltmarsh.dat")).unwrap();
    env.edit("lantern.toml", "starts = \"saltmarsh\"", "starts = \"punt\"");
    let stderr = env.lantern(&["prepare"]).fails(1).stderr();
    assert!(stderr.contains("must-have") && stderr.contains("start-missing"), "all in one go: {stderr}");
    assert!(!env.path(".lantern/store").exists(), "nothing was sealed");
}

#[test]
fn what_is_left_out_is_not_in_it() {
    let env = TestEnv::new();
    let before = env.lantern(&["prepare", "--json"]).success().one();
    env.write("exports/linux/notes/more.txt", "x");
    env.write("exports/linux/.lantern/x", "x");
    let after = env.lantern(&["prepare", "--json"]).success().one();
    assert_eq!(after["made"], false);
    assert_eq!(before["release"], after["release"]);
}

#[cfg(unix)]
#[test]
fn links_special_files_and_names() {
    use std::os::unix::ffi::OsStrExt;
    use std::os::unix::fs::symlink;
    let env = TestEnv::new();
    let folder = env.path("exports/linux");
    symlink("saltmarsh", folder.join("start")).unwrap();
    env.lantern(&["prepare"]).success();
    symlink("/etc/passwd", folder.join("passwords")).unwrap();
    symlink("../../../secret", folder.join("letters/secret")).unwrap();
    std::fs::write(folder.join("a\\b"), "x").unwrap();
    std::fs::write(folder.join("bell\u{7}\u{1b}[31m"), "x").unwrap();
    std::fs::write(folder.join(std::ffi::OsStr::from_bytes(b"latin\xe9")), "x").unwrap();
    assert!(std::process::Command::new("mkfifo").arg(folder.join("pipe")).status().unwrap().success());
    let ran = env.lantern(&["prepare"]).fails(1);
    assert!(!ran.stderr().contains('\u{1b}') && !ran.stderr().contains('\u{7}'), "no escape reaches the terminal");
    snapshot!(ran.whole(), @r"
    ------- stderr -------
    error: the exports cannot be sealed: 6 errors

      error: the name a\b contains a control character or a backslash (bad-name)
      fix: rename the file

      error: the name bell\u{7}\u{1b}[31m contains a control character or a backslash (bad-name)
      fix: rename the file

      error: the name latin� is not UTF-8 (bad-name)
      fix: rename the file

      error: pipe is neither a file nor a folder nor a link (special-file)
      fix: remove it, or name it in leave-out

      error: letters/secret is a link to ../../../secret, which is outside of the export (escaping-link)
      fix: put the file itself there, or name the link in leave-out

      error: passwords is a link to /etc/passwd, a path that exists only on this computer (escaping-link)
      fix: make it relative, put the file itself there, or name it in leave-out
    [exit status: 1]
    ");
}

#[cfg(unix)]
#[test]
fn executable_bits_come_from_content_not_from_the_disk() {
    use std::os::unix::fs::PermissionsExt;
    let env = TestEnv::new();
    let set = |name: &str, mode: u32| {
        std::fs::set_permissions(env.path("exports/linux").join(name), std::fs::Permissions::from_mode(mode)).unwrap();
    };
    set("saltmarsh", 0o644);
    set("saltmarsh.dat", 0o755);
    env.connect();
    env.release("1.3.2 (1)");
    env.lantern(&["install", "brambleyard", "open-water", "player", "--target", "linux"]).success();
    let mode = |name: &str| std::fs::metadata(env.path("player").join(name)).unwrap().permissions().mode() & 0o777;
    assert_eq!((mode("saltmarsh"), mode("saltmarsh.dat")), (0o755, 0o644));
    env.edit("lantern.toml", "must-have", "executable = [\"*.dat\"]\nmust-have");
    let document = env.lantern(&["prepare", "--json"]).success().one();
    assert_eq!(document["made"], true, "the bit is part of the tree");
}

#[cfg(unix)]
#[test]
fn a_link_to_nothing_inside_the_tree_is_a_link() {
    let env = TestEnv::new();
    std::os::unix::fs::symlink("nowhere", env.path("exports/linux/letters/gone.txt")).unwrap();
    assert_eq!(env.lantern(&["prepare", "--json"]).success().one()["made"], true);
}

/// A Windows program's first bytes.
fn pe(machine: u16) -> Vec<u8> {
    let mut file = b"MZ".to_vec();
    file.resize(0x3c, 0);
    file.extend(0x40_u32.to_le_bytes());
    file.extend(b"PE\0\0");
    file.extend(machine.to_le_bytes());
    file.extend([0; 16]);
    file.extend(0x22_u16.to_le_bytes());
    file
}

/// A macOS program's first bytes, for both processors.
fn universal() -> Vec<u8> {
    let mut file = vec![0xca, 0xfe, 0xba, 0xbe, 0, 0, 0, 2];
    for (i, cputype) in [0x0100_0007_u32, 0x0100_000c].into_iter().enumerate() {
        for value in [cputype, 0, 64 + 32 * i as u32, 32, 0] {
            file.extend(value.to_be_bytes());
        }
    }
    for cputype in [0x0100_0007_u32, 0x0100_000c] {
        file.resize(file.len().next_multiple_of(32), 0);
        file.extend([0xcf, 0xfa, 0xed, 0xfe]);
        for value in [cputype, 0, 2] {
            file.extend(value.to_le_bytes());
        }
    }
    file.resize(128, 0);
    file
}

/// Adds exports for Windows and macOS to the project.
fn three_systems() -> TestEnv {
    let env = TestEnv::new();
    let write = |name: &str, bytes: Vec<u8>| {
        env.write(name, "");
        std::fs::write(env.path(name), bytes).unwrap();
    };
    exports::write_all(&env.path("made"), GameVersion::Old, System::LinuxX86_64).unwrap();
    let bundle = "macos/Saltmarsh Post.app/Contents";
    for file in
        ["windows/Saltmarsh Post.exe".to_owned(), format!("{bundle}/MacOS/saltmarsh"), format!("{bundle}/Info.plist")]
    {
        write(&format!("exports/{file}"), env.read(&format!("made/{file}")));
    }
    write("exports/windows/saltmarsh.dat", vec![7; 100_000]);
    write("exports/macos/Saltmarsh Post.app/Contents/Resources/saltmarsh.dat", vec![7; 100_000]);
    let targets = "[targets.windows]\nexport = \"exports/windows\"\n\n[targets.macos]\nexport = \"exports/macos\"\n\n";
    env.edit("lantern.toml", "[storefronts.brambleyard]", &format!("{targets}[storefronts.brambleyard]"));
    env.edit("lantern.toml", "{ linux =", "{ windows = \"sp-win\", macos = \"sp-mac\", linux =");
    env.running()
        .stand_in()
        .make_title(&lantern_storefront::protocol::Title {
            handle: "saltmarsh-post".parse().unwrap(),
            name: "Saltmarsh Post".into(),
            identity: "example.paperheron.saltmarsh".parse().unwrap(),
            depots: ["sp-win", "sp-mac"].map(|d| d.parse().unwrap()).into(),
        })
        .unwrap();
    env
}

#[test]
fn three_systems_go_the_whole_way() {
    let env = three_systems();
    env.connect();
    snapshot!(env.lantern(&["prepare"]).whole(), @"
    sealed Saltmarsh Post 1.3.2 (1)

      linux     linux-x86_64      9 files   8.57 MB   starts saltmarsh
      macos     macos-universal   3 files   150 kB    starts Saltmarsh Post.app/Contents/MacOS/saltmarsh
      windows   windows-x86_64    2 files   101 kB    starts Saltmarsh Post.exe

      added to the store   4.34 MB  (the first release)
      release id  ID

      5 warnings: lantern check shows how to fix them
        macos: Saltmarsh Post.app has no icon (no-icon)
        macos: Saltmarsh Post.app/Contents/MacOS/saltmarsh is not signed at all: Macs with Apple silicon do not start it (unsigned)
        windows: Saltmarsh Post.exe is not signed: Windows warns everyone who downloads and starts it (unsigned)
        windows: Saltmarsh Post.exe has no icon (no-icon)
        windows: Saltmarsh Post.exe opens a console window next to the game (console-window)

    next: lantern push brambleyard
    ");
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"]).whole(), @"
    Promote 1.3.2 (1) to open-water at Brambleyard

      system            players have   they get    update download   full download   on disk
      linux-x86_64      nothing        1.3.2 (1)   –                 4.34 MB         8.57 MB
      macos-universal   nothing        1.3.2 (1)   –                 1.13 kB         150 kB
      windows-x86_64    nothing        1.3.2 (1)   –                 750 B           101 kB

      everyone: open-water is the line that every player follows
      tried: not tried yet
      warns: 5 warnings when it was sealed: lantern check

    live: 1.3.2 (1) on open-water at Brambleyard

    next: lantern live   asks the storefronts themselves
    ");
    for target in ["windows", "macos", "linux"] {
        env.lantern(&["install", "brambleyard", "open-water", target, "--target", target]).success();
        let export = crate::env::files(&env.path(&format!("exports/{target}")));
        assert_eq!(crate::env::files(&env.path(target)), export);
    }
    // A release without macOS leaves macOS visibly behind.
    env.edit("lantern.toml", "[targets.macos]\nexport = \"exports/macos\"\n", "");
    env.edit("lantern.toml", "macos = \"sp-mac\", ", "");
    env.edit("lantern.toml", "\"1.3.2\"", "\"1.4.0\"");
    env.release("1.4.0 (2)");
    snapshot!(env.lantern(&["live"]).whole(), @"
    Saltmarsh Post

      brambleyard   newest sealed: 1.4.0 (2)
        open-water   1.4.0 (2)   newest
                     linux, windows
                     unchanged since 1.3.2 (1)
                     since 2026-11-27 10:10 by paper-heron, number there 2
                     1.3.2 (1)   not in 1.4.0 (2)
                     macos
                     since 2026-11-27 10:04 by paper-heron, number there 1

    next: lantern install brambleyard open-water DIR   gets it as a player does
    ");
}

#[test]
fn an_export_that_was_forgotten_is_a_warning() {
    let env = three_systems();
    env.edit("lantern.toml", "[targets.linux]", crate::env::TRIED_VERSIONS);
    env.lantern(&["prepare"]).success();
    env.write("exports/linux/letters/en.txt", "new");
    env.write("exports/windows/saltmarsh.dat", "new");
    let document = env.lantern(&["prepare", "--json"]).success().one();
    let found = |document: &serde_json::Value| {
        let findings = document["findings"].as_array().unwrap().clone();
        findings.into_iter().filter(|finding| finding["code"] == "unchanged-target").collect::<Vec<_>>()
    };
    let findings = found(&document);
    assert_eq!(findings.len(), 1);
    assert_eq!(findings[0]["severity"], "warning");
    assert!(findings[0]["what"].as_str().unwrap().starts_with("macos is exactly what it was in 1.3.2 (1)"));
    // A new version of the same trees is no mistake.
    let document = env.lantern(&["prepare", "--version", "1.3.3", "--json"]).success().one();
    assert_eq!(found(&document), [serde_json::Value::Null; 0]);
}

#[test]
fn check_shows_everything_and_makes_nothing() {
    let env = three_systems();
    snapshot!(env.lantern(&["check"]).whole(), @"
      linux     linux-x86_64      9 files   8.57 MB   starts saltmarsh
      macos     macos-universal   3 files   150 kB    starts Saltmarsh Post.app/Contents/MacOS/saltmarsh
      windows   windows-x86_64    2 files   101 kB    starts Saltmarsh Post.exe

      macos
      warning: Saltmarsh Post.app has no icon (no-icon)
      fix: set one in the engine and export again

      warning: Saltmarsh Post.app/Contents/MacOS/saltmarsh is not signed at all: Macs with Apple silicon do not start it (unsigned)
      fix: sign it, ad hoc at least

      windows
      warning: Saltmarsh Post.exe is not signed: Windows warns everyone who downloads and starts it (unsigned)
      fix: sign it, as the very last step

      warning: Saltmarsh Post.exe has no icon (no-icon)
      fix: set one in the engine and export again

      warning: Saltmarsh Post.exe opens a console window next to the game (console-window)
      fix: is it a developer's build? Export a release build

    checked: no errors, 5 warnings

    next: lantern prepare
    ");
    env.edit("lantern.toml", "notes/**", "note/**");
    snapshot!(env.lantern(&["check"]).whole(), @r#"
      linux     linux-x86_64      10 files   8.57 MB   starts saltmarsh
      macos     macos-universal   3 files    150 kB    starts Saltmarsh Post.app/Contents/MacOS/saltmarsh
      windows   windows-x86_64    2 files    101 kB    starts Saltmarsh Post.exe

      lantern.toml, line 11, column 13
        leave-out = ["note/**"]
                    ~~~~~~~~~~~
      warning: note/** in leave-out matches nothing in the export (unused-pattern)
      fix: remove it, or fix it so that it matches

      macos
      warning: Saltmarsh Post.app has no icon (no-icon)
      fix: set one in the engine and export again

      warning: Saltmarsh Post.app/Contents/MacOS/saltmarsh is not signed at all: Macs with Apple silicon do not start it (unsigned)
      fix: sign it, ad hoc at least

      windows
      warning: Saltmarsh Post.exe is not signed: Windows warns everyone who downloads and starts it (unsigned)
      fix: sign it, as the very last step

      warning: Saltmarsh Post.exe has no icon (no-icon)
      fix: set one in the engine and export again

      warning: Saltmarsh Post.exe opens a console window next to the game (console-window)
      fix: is it a developer's build? Export a release build

    checked: no errors, 6 warnings

    next: lantern prepare
    "#);
    env.lantern(&["check", "--strict"]).fails(1);
    std::fs::remove_file(env.path("exports/linux/saltmarsh.dat")).unwrap();
    std::fs::remove_file(env.path("exports/windows/Saltmarsh Post.exe")).unwrap();
    snapshot!(env.lantern(&["check"]).whole(), @r#"
      macos     macos-universal      3 files   150 kB   starts Saltmarsh Post.app/Contents/MacOS/saltmarsh
      linux     cannot be taken in
      windows   cannot be taken in

      lantern.toml, line 12, column 13
        must-have = ["saltmarsh.dat"]
                    ~~~~~~~~~~~~~~~~~
      error: saltmarsh.dat must be in the export and is not (must-have)
      fix: export again, or fix must-have

      lantern.toml, line 11, column 13
        leave-out = ["note/**"]
                    ~~~~~~~~~~~
      warning: note/** in leave-out matches nothing in the export (unused-pattern)
      fix: remove it, or fix it so that it matches

      macos
      warning: Saltmarsh Post.app has no icon (no-icon)
      fix: set one in the engine and export again

      warning: Saltmarsh Post.app/Contents/MacOS/saltmarsh is not signed at all: Macs with Apple silicon do not start it (unsigned)
      fix: sign it, ad hoc at least

      lantern.toml, line 14, column 10
        [targets.windows]
                 ~~~~~~~
      error: there is no program at the top of exports/windows (no-start)
      fix: say which file starts the game: starts = "FILE"

    checked: 2 errors (linux: must-have, windows: no-start), 3 warnings

    next: fix them, then run: lantern check
    [exit status: 1]
    "#);
    let document = env.lantern(&["check", "--json"]).fails(1).json();
    assert_eq!((&document["passes"], document["findings"].as_array().unwrap().len()), (&false.into(), 5));
    assert!(!env.path(".lantern").exists(), "nothing is written");
}

#[test]
fn another_systems_program_is_noticed() {
    let env = three_systems();
    std::fs::write(env.path("exports/windows/Saltmarsh Post.exe"), pe(0xaa64)).unwrap();
    env.edit(
        "lantern.toml",
        "export = \"exports/windows\"",
        "export = \"exports/windows\"\nsystems = [\"windows-x86_64\"]",
    );
    let stderr = env.lantern(&["prepare"]).fails(1).stderr();
    assert!(stderr.contains("is for windows-arm64, the target has windows-x86_64"), "{stderr}");
    std::fs::write(env.path("exports/windows/Saltmarsh Post.exe"), universal()).unwrap();
    let stderr = env.lantern(&["prepare"]).fails(1).stderr();
    assert!(stderr.contains("is for macos-universal"), "{stderr}");
    std::fs::write(env.path("exports/windows/Saltmarsh Post.exe"), pe(0x1c4)).unwrap();
    let stderr = env.lantern(&["prepare"]).fails(1).stderr();
    assert!(stderr.contains("which no target can be"), "{stderr}");
}

#[cfg(target_os = "linux")]
#[test]
fn names_that_windows_refuses_or_takes_for_one_another() {
    let env = three_systems();
    for name in ["con.txt", "what?.txt", "Data/a", "data/b"] {
        env.write(&format!("exports/windows/{name}"), "x");
    }
    env.write("exports/linux/con.txt", "a good name on Linux");
    snapshot!(env.lantern(&["prepare"]).whole(), @r#"
    ------- stderr -------
    error: the exports cannot be sealed: 3 errors

      error: Windows refuses the name con.txt: it has the name of a device (windows-name)
      fix: rename it, or name it in leave-out

      error: Windows refuses the name what?.txt: it has one of the characters < > : " | ? * (windows-name)
      fix: rename it, or name it in leave-out

      error: these are one name for Windows and macOS: Data, data (case-conflict)
      fix: rename all but one
    [exit status: 1]
    "#);
}

#[test]
fn init_sees_whose_export_it_is() {
    let env = TestEnv::without_storefront();
    std::fs::remove_dir_all(env.path("exports/linux")).unwrap();
    env.write("exports/mac/Saltmarsh Post.app/Contents/MacOS/saltmarsh", "");
    std::fs::write(env.path("exports/mac/Saltmarsh Post.app/Contents/MacOS/saltmarsh"), universal()).unwrap();
    let arguments =
        ["init", "--name", "S", "--studio", "P", "--identity", "example.paperheron.saltmarsh", "--version", "1"];
    env.lantern(&arguments).success();
    let text = String::from_utf8(env.read("lantern.toml")).unwrap();
    assert!(text.contains("[targets.macos]") && text.contains("systems = [\"macos-universal\"]"), "{text}");
    assert!(text.contains("starts = \"Saltmarsh Post.app/Contents/MacOS/saltmarsh\""), "{text}");
}

#[test]
fn ten_lines_are_enough() {
    let env = TestEnv::without_storefront();
    env.write(
        "lantern.toml",
        "[game]\nname = \"Saltmarsh Post\"\nstudio = \"Paper Heron\"\nidentity = \"example.paperheron.saltmarsh\"\n\
         version = \"1.3.2\"\n\n[targets.linux]\nexport = \"exports/linux\"\n",
    );
    env.lantern(&["prepare"]).success();
}
