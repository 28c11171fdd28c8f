//! What `prepare` says of exports that cannot be taken as they are.

use crate::env::TestEnv;

#[test]
fn an_export_that_is_not_there_or_empty() {
    let env = TestEnv::new();
    env.edit("lantern.toml", "exports/linux", "exports/linus");
    snapshot!(env.lantern(&["prepare"]).whole(), @r#"
    ------- stderr -------
    error: the exports cannot be sealed: 1 finding stops

      lantern.toml, line 8, column 1
        export = "exports/linus"
        ~~~~~~~~~~~~~~~~~~~~~~~~
      stops: the export exports/linus is not there (export-missing)
      try: there is a folder "linux" beside it; mend the path, or export the game there
    [exit status: 1]
    "#);
    std::fs::create_dir(env.path("exports/linus")).unwrap();
    snapshot!(env.lantern(&["prepare"]).whole(), @r#"
    ------- stderr -------
    error: the exports cannot be sealed: 1 finding stops

      lantern.toml, line 8, column 1
        export = "exports/linus"
        ~~~~~~~~~~~~~~~~~~~~~~~~
      stops: the export exports/linus is empty (export-empty)
      try: export the game there, or mend the path
    [exit status: 1]
    "#);
    env.edit("lantern.toml", "exports/linus", "exports/linux/saltmarsh");
    snapshot!(env.lantern(&["prepare"]).whole(), @r#"
    ------- stderr -------
    error: the exports cannot be sealed: 1 finding stops

      lantern.toml, line 8, column 1
        export = "exports/linux/saltmarsh"
        ~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~
      stops: the export exports/linux/saltmarsh is a file, not a folder (export-not-folder)
      try: unpack it, and name the folder
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
    error: the exports cannot be sealed: 1 finding stops

      lantern.toml, line 10, column 1
        starts = "Saltmarsh"
        ~~~~~~~~~~~~~~~~~~~~
      stops: the start file Saltmarsh is not in the export (start-case)
      try: letter case counts: write starts = "saltmarsh"
    "#);
    snapshot!(start("starts = \"Saltmarsh\"", "starts = \"bin/saltmarsh\""), @r#"
    error: the exports cannot be sealed: 1 finding stops

      lantern.toml, line 10, column 1
        starts = "bin/saltmarsh"
        ~~~~~~~~~~~~~~~~~~~~~~~~
      stops: the start file bin/saltmarsh is not in the export (start-missing)
      try: it lies at starts = "saltmarsh"
    "#);
    snapshot!(start("starts = \"bin/saltmarsh\"", "starts = \"punt\""), @r#"
    error: the exports cannot be sealed: 1 finding stops

      lantern.toml, line 10, column 1
        starts = "punt"
        ~~~~~~~~~~~~~~~
      stops: the start file punt is not in the export (start-missing)
      try: export again, or mend starts
    "#);
    snapshot!(start("starts = \"punt\"", "starts = \"letters/en.txt\""), @r#"
    error: the exports cannot be sealed: 1 finding stops

      lantern.toml, line 10, column 1
        starts = "letters/en.txt"
        ~~~~~~~~~~~~~~~~~~~~~~~~~
      stops: the start file letters/en.txt is not a Linux program (it is data) (not-a-program)
      try: name the program itself, not a script or another system's file
    "#);
}

#[test]
fn the_start_file_is_for_something_else() {
    let env = TestEnv::new();
    env.edit("lantern.toml", "linux-x86_64", "linux-aarch64");
    snapshot!(env.lantern(&["prepare"]).whole(), @r#"
    ------- stderr -------
    error: the exports cannot be sealed: 1 finding stops

      lantern.toml, line 9, column 1
        systems = ["linux-aarch64"]
        ~~~~~~~~~~~~~~~~~~~~~~~~~~~
      stops: the start file saltmarsh is for linux-x86_64, the target says linux-aarch64 (wrong-system)
      try: export for the right system, or mend systems
    [exit status: 1]
    "#);
    env.edit("lantern.toml", "[\"linux-aarch64\"]", "[\"linux-x86_64\", \"linux-aarch64\"]");
    snapshot!(env.lantern(&["prepare"]).whole(), @r#"
    ------- stderr -------
    error: the exports cannot be sealed: 1 finding stops

      lantern.toml, line 9, column 1
        systems = ["linux-x86_64", "linux-aarch64"]
        ~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~
      stops: the start file saltmarsh is for linux-x86_64 only, not for linux-aarch64 (wrong-system)
      try: make a target of its own for linux-aarch64
    [exit status: 1]
    "#);
    env.write("lantern.toml", &env.config("1.3.2"));
    for (bytes, expected) in [
        (b"MZ\x90\0".as_slice(), "it is a Windows program"),
        (b"#!/bin/sh\n", "it is a script"),
        (b"", "it is empty"),
        (b"\x7fELF\x02\x01\x01", "cut off"),
        (b"\x7fELF\x09\x01\x01\0", "EI_CLASS is 9"),
    ] {
        std::fs::write(env.path("exports/linux/saltmarsh"), bytes).unwrap();
        let stderr = env.lantern(&["prepare"]).fails(1).stderr();
        assert!(stderr.contains(expected), "{stderr}");
    }
}

#[test]
fn what_can_be_seen_need_not_be_said() {
    let env = TestEnv::new();
    env.edit("lantern.toml", "systems = [\"linux-x86_64\"]\nstarts = \"saltmarsh\"\n", "");
    let document = env.lantern(&["prepare", "--json"]).success().json();
    let target = &document["release"]["targets"][0];
    assert_eq!((&target["starts"]["file"], &target["systems"][0]), (&"saltmarsh".into(), &"linux-x86_64".into()));
    std::fs::copy(env.path("exports/linux/saltmarsh"), env.path("exports/linux/editor")).unwrap();
    snapshot!(env.lantern(&["prepare"]).whole(), @r#"
    ------- stderr -------
    error: the exports cannot be sealed: 1 finding stops

      stops: several programs lie at the top of the export: editor, saltmarsh (no-start)
      try: say which one starts the game: starts = "editor"
    [exit status: 1]
    "#);
    std::fs::remove_file(env.path("exports/linux/editor")).unwrap();
    std::fs::remove_file(env.path("exports/linux/saltmarsh")).unwrap();
    let stderr = env.lantern(&["prepare"]).fails(1).stderr();
    assert!(stderr.contains("no program lies at the top"), "{stderr}");
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
    let before = env.lantern(&["prepare", "--json"]).success().json();
    env.write("exports/linux/notes/more.txt", "x");
    env.write("exports/linux/.lantern/x", "x");
    let after = env.lantern(&["prepare", "--json"]).success().json();
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
    error: the exports cannot be sealed: 6 findings stop

      stops: the name a\b holds a control character or a backslash (name)
      try: rename the file

      stops: the name bell\u{7}\u{1b}[31m holds a control character or a backslash (name)
      try: rename the file

      stops: the name latin� is not UTF-8 (name)
      try: rename the file

      stops: passwords is a link to /etc/passwd, which is outside of the export (link-leaves)
      try: put the file itself there, or name the link in leave-out

      stops: pipe is neither a file nor a folder nor a link (special-file)
      try: remove it, or name it in leave-out

      stops: letters/secret is a link to ../../../secret, which is outside of the export (link-leaves)
      try: put the file itself there, or name the link in leave-out
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
    let document = env.lantern(&["prepare", "--json"]).success().json();
    assert_eq!(document["made"], true, "the bit is part of the tree");
}

#[cfg(target_os = "linux")]
#[test]
fn a_file_that_cannot_be_read_is_named() {
    let env = TestEnv::new();
    // A file of another process's memory: listed, of size 0, and reading it fails.
    let path = env.path("exports/linux/letters/gone.txt");
    std::os::unix::fs::symlink("nowhere", &path).unwrap();
    let document = env.lantern(&["prepare", "--json"]).success().json();
    assert_eq!(document["made"], true, "a link to nothing inside the tree is a link");
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
