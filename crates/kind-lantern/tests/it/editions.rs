//! Editions: products of their own, made of one project.

use crate::env::{TestEnv, desktops};

pub fn with_first_tide() -> TestEnv {
    let env = TestEnv::desktops();
    env.write("exports/tide/index.html", "<!doctype html><title>First Tide</title>");
    env.write("exports/tide/tide.js", "document.title = \"First Tide\";");
    let more = "[editions.first-tide]\nname = \"Saltmarsh Post: First Tide\"\nkind = \"demo\"\n\n\
        [targets.tide]\nedition = \"first-tide\"\nexport = \"exports/tide\"\n\n[depots.windows]";
    let text = desktops(&env.running().origin())
        .replacen("[depots.windows]", more, 1)
        .replace(
            "handle = \"saltmarsh-post\"",
            "handle = { full = \"saltmarsh-post\", first-tide = \"sp-first-tide\" }",
        )
        .replace("voices-ja = \"sp-koe\"", "voices-ja = \"sp-koe\"\ntide = \"sp-tide\"");
    env.write("lantern.toml", &text);
    env.connect();
    env
}

#[test]
fn each_edition_has_its_releases_and_its_title() {
    let env = with_first_tide();
    snapshot!(env.lantern(&["prepare"]).whole(), @"
    sealed Saltmarsh Post 1.3.2 (1)

      linux     linux-x86_64      12 files   10.4 MB   starts saltmarsh
      macos     macos-universal   12 files   10.4 MB   starts Saltmarsh Post.app/Contents/MacOS/saltmarsh
      windows   windows-x86_64    11 files   10.4 MB   starts Saltmarsh Post.exe

      depots               linux, voices-en, voices-fr, voices-ja, macos, windows
      kept aside           1 file, 300 kB
      added to the store   5.40 MB  (the first release)
      release id  ID

      5 warnings: lantern check shows how to fix them
        macos: Saltmarsh Post.app has no icon (no-icon)
        macos: Saltmarsh Post.app/Contents/MacOS/saltmarsh is not signed at all: Macs with Apple silicon do not start it (unsigned)
        windows: Saltmarsh Post.exe is not signed: Windows warns everyone who downloads and starts it (unsigned)
        windows: Saltmarsh Post.exe has no icon (no-icon)
        windows: Saltmarsh Post.exe opens a console window next to the game (console-window)

    sealed Saltmarsh Post: First Tide 1.3.2 (2)

      tide   web   2 files   70 B   starts index.html

      added to the store   188 B  (the first release)
      release id  ID

    next: lantern push brambleyard
    ");
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    // A number names one release of the game, and so its edition.
    env.lantern(&["push", "brambleyard", "2", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "creek", "2", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "creek", "1", "--yes"]).success();
    snapshot!(env.lantern(&["live"]).whole(), @"
    Saltmarsh Post

      brambleyard, full   newest sealed: 1.3.2 (1)
        creek        1.3.2 (1)   newest
                     linux, macos, windows
                     since 2026-11-27 10:07 by paper-heron, number there 1
        open-water   nothing yet

      brambleyard, first-tide   newest sealed: 1.3.2 (2)
        creek        1.3.2 (2)   newest
                     tide
                     since 2026-11-27 10:06 by paper-heron, number there 1
        open-water   nothing yet

    next: lantern promote brambleyard open-water
    ");
    snapshot!(env.lantern(&["releases"]).whole(), @"
      release     edition      sealed             where
      1.3.2 (2)   first-tide   2026-11-27 10:03   brambleyard: creek
      1.3.2 (1)   full         2026-11-27 10:03   brambleyard: creek

    next: lantern releases 2   shows what it contains
    ");
    snapshot!(env.lantern(&[]).whole(), @"
    Saltmarsh Post

      newest sealed   1.3.2 (1)
      exports         as sealed
      brambleyard     live on creek, not on open-water

    Saltmarsh Post: First Tide

      newest sealed   1.3.2 (2)
      exports         as sealed
      brambleyard     live on creek, not on open-water

    next: lantern promote brambleyard open-water
    ");
}

#[test]
fn one_edition_alone() {
    let env = with_first_tide();
    let document = env.lantern(&["prepare", "--edition", "first-tide", "--json"]).success().json();
    assert_eq!(document["releases"].as_array().unwrap().len(), 1);
    assert_eq!(document["releases"][0]["release"]["edition"], "first-tide");
    let live = env.lantern(&["live", "--edition", "first-tide", "--json"]).success().json();
    assert_eq!(live["storefronts"].as_array().unwrap().len(), 1);
    assert!(
        env.lantern(&["prepare", "--edition", "second-tide"]).fails(2).stderr().contains("one of full, first-tide")
    );
    env.lantern(&["install", "brambleyard", "creek", "--edition", "first-tide"]).fails(2);
}

/// Also what stands below another command is about the edition that is named behind it.
#[test]
fn one_edition_alone_below_releases() {
    let env = with_first_tide();
    env.lantern(&["prepare"]).success();
    for arguments in [&["write", "1", "out"][..], &["withdraw", "1", "--because", "a save bug", "--yes"]] {
        let of_another = [&["releases"], arguments, &["--edition", "first-tide"]].concat();
        let ran = env.lantern(&of_another).fails(2);
        assert!(ran.stderr().contains("there is no release number 1"), "{}", ran.stderr());
        let of_none = [&["releases"], arguments, &["--edition", "nope"]].concat();
        assert!(env.lantern(&of_none).fails(2).stderr().contains("no targets of an edition"));
    }
    assert!(!env.path("out").exists() && !env.event_kinds().contains(&"withdrawn".to_owned()));
}

#[test]
fn a_storefront_without_an_edition_says_so() {
    let env = with_first_tide();
    env.edit("lantern.toml", "{ full = \"saltmarsh-post\", first-tide = \"sp-first-tide\" }", "\"saltmarsh-post\"");
    env.lantern(&["prepare"]).success();
    snapshot!(env.lantern(&["push", "brambleyard", "2"]).whole(), @r#"
    ------- stderr -------
    error: brambleyard does not have the edition first-tide
      fix: add its handle to [storefronts.brambleyard]: handle = { first-tide = "…" }
    [exit status: 2]
    "#);
    snapshot!(env.lantern(&[]).whole(), @"
    Saltmarsh Post

      newest sealed   1.3.2 (1)
      exports         as sealed
      brambleyard     not there yet

    Saltmarsh Post: First Tide

      newest sealed   1.3.2 (2)
      exports         as sealed

    next: lantern push brambleyard
    ");
    snapshot!(env.lantern(&["history", "--count", "2"]).whole(), @"
    UTC
    2026-11-27 10:03:00   first-tide   wren   sealed 1.3.2 (2)
    2026-11-27 10:03:00   full         wren   sealed 1.3.2 (1)

    7 older ones: --count 9
    ");
}

#[test]
fn a_companion_starts_nothing() {
    let env = with_first_tide();
    env.edit("lantern.toml", "kind = \"demo\"", "kind = \"companion\"");
    std::fs::remove_file(env.path("exports/tide/index.html")).unwrap();
    env.write("exports/tide/ebb.ogg", "music");
    let document = env.lantern(&["prepare", "--edition", "first-tide", "--json"]).success().one();
    assert_eq!(document["release"]["targets"][0]["starts"].as_array().unwrap().len(), 0);
    env.edit("lantern.toml", "kind = \"companion\"", "kind = \"demo\"");
    env.lantern(&["prepare", "--edition", "first-tide"]).fails(1);
}

#[test]
fn a_depot_for_those_who_own_another_edition() {
    let env = with_first_tide();
    env.make_an_add_on_of_voices_ja();
    let stdout = env.lantern(&["depots"]).success().stdout();
    assert!(stdout.contains("add-on songs"), "{stdout}");
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--edition", "full", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "creek", "--edition", "full", "--yes"]).success();
    let install = |more: &[&str]| {
        let first = ["install", "brambleyard", "creek", "player", "--edition", "full", "--target", "linux"];
        env.lantern(&[&first, more].concat()).success();
        env.path("player/voices/ja").is_dir()
    };
    assert!(!install(&[]), "nobody said that they own it");
    assert!(install(&["--add-on", "songs"]));
    // An edition that is none.
    env.edit("lantern.toml", "depots = [\"voices-ja\"]", "depots = [\"voices-jp\"]");
    let stderr = env.lantern(&["prepare"]).fails(2).stderr();
    assert!(stderr.contains("voices-jp") && stderr.contains("fix:"), "{stderr}");
}

#[test]
fn what_is_about_one_edition_touches_no_other() {
    let env = with_first_tide();
    env.edit("lantern.toml", "[targets.linux]", crate::env::TRIED_VERSIONS);
    for version in ["1.3.2", "1.3.3", "1.3.4"] {
        env.write("exports/linux/letters/en.txt", &format!("Dear Wren, {version}"));
        env.write("exports/tide/tide.js", &format!("document.title = \"{version}\";"));
        env.lantern(&["prepare", "--version", version]).success();
    }
    snapshot!(env.lantern(&["keep", "--edition", "first-tide", "--last", "1", "--live-within", "0", "--yes"]).whole(), @"
      1.3.4 (6)   stays   one of the newest
      1.3.3 (4)   goes    its record is kept
      1.3.2 (2)   goes    its record is kept

      disk space that is freed: 95 B

    freed 95 B
    ");
    // Those of the other one are all whole, and only theirs went.
    env.lantern(&["verify"]).success();
    for number in ["1", "3", "5", "6"] {
        env.lantern(&["releases", "write", number, &format!("out-{number}")]).success();
    }
    for number in ["2", "4"] {
        env.lantern(&["releases", "write", number, &format!("out-{number}")]).fails(2);
    }
    for arguments in
        [&["keep", "--last", "1", "--yes"][..], &["verify"], &["releases"], &["history"], &["prepare"], &["check"]]
    {
        let refused = env.lantern(&[arguments, &["--edition", "nope"]].concat()).fails(2).stderr();
        assert!(refused.contains("nope"), "{arguments:?}: {refused}");
    }
}
