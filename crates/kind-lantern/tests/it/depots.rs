//! Depots: what lands where, and what a player's machine gets of it.

use crate::env::{TestEnv, files};

#[test]
fn what_lands_where() {
    let env = TestEnv::desktops();
    snapshot!(env.lantern(&["depots"]).whole(), @"
      depot       files   size      for
      linux       9       8.57 MB   linux
      voices-en   1       600 kB    linux, macos, windows
      voices-fr   1       600 kB    linux, macos, windows, voices=fr
      voices-ja   1       600 kB    linux, macos, windows, voices=ja
      macos       9       8.62 MB   macos
      windows     8       8.57 MB   windows

      kept aside   1 file   300 kB   of windows: sealed, never sent

    next: lantern depots --as tree   shows their folders
    ");
    snapshot!(env.lantern(&["depots", "linux", "voices-fr", "--as", "tree"]).whole(), @"
    linux  9 files, 8.57 MB  for linux
      hints/          32 B      1 file
      letters/        136 B     1 file
      music/          2.40 MB   2 files
      saltmarsh       213 B
      saltmarsh.dat   4.17 MB
      textures/       2.00 MB   3 files

    voices-fr  1 file, 600 kB  for linux, macos, windows, voices=fr
      voices/   600 kB   1 file
        fr/     600 kB   1 file

    next: lantern prepare
    ");
    snapshot!(env.lantern(&["depots", "voices-fr", "voices-ja", "--as", "files"]).whole(), @"
    voices-fr  1 file, 600 kB  for linux, macos, windows, voices=fr
      600 kB   voices/fr/letters.snd

    voices-ja  1 file, 600 kB  for linux, macos, windows, voices=ja
      600 kB   voices/ja/letters.snd

    next: lantern prepare
    ");
    let document = env.lantern(&["depots", "--json"]).success().json();
    let depots = document["editions"][0]["depots"].as_array().unwrap();
    let depot = depots.iter().find(|depot| depot["depot"] == "voices-en").unwrap();
    assert_eq!(depot["handles"]["brambleyard"], "sp-voices");
    assert!(env.lantern(&["depots", "voices-de"]).fails(2).stderr().contains("there is no depot \"voices-de\""));
}

#[test]
fn in_none_and_in_two_stop_and_are_shown() {
    let env = TestEnv::desktops();
    env.edit(
        "lantern.toml",
        "from = \"linux\"\nleave-out = [\"voices/**\"]",
        "from = \"linux\"\nonly = [\"sal*\", \"voices/en/**\"]",
    );
    snapshot!(env.lantern(&["depots"]).whole(), @r#"
      depot       files   size      for
      linux       3       4.77 MB   linux
      voices-en   1       600 kB    linux, macos, windows
      voices-fr   1       600 kB    linux, macos, windows, voices=fr
      voices-ja   1       600 kB    linux, macos, windows, voices=ja
      macos       9       8.62 MB   macos
      windows     8       8.57 MB   windows

      kept aside   1 file    300 kB    of windows: sealed, never sent
      in none      7 files   4.40 MB   of linux: no player gets them
      in two       1 file    600 kB    of linux: in linux and in voices-en

      lantern.toml, line 15, column 10
        [targets.linux]
                 ~~~~~
      error: 7 files of linux in no depot: hints/old-map.txt, letters/en.txt, music/ebb.snd, … (unmapped-files)
      fix: add a depot for them, or name them in the target's leave-out

      lantern.toml, line 36, column 8
        from = ["windows", "macos", "linux"]  # the same files in each
               ~~~~~~~~~~~~~~~~~~~~~~~~~~~~~
      error: 1 file of linux in two depots, linux and voices-en: voices/en/letters.snd (overlapping-depots)
      fix: name them in the leave-out of one of the two

    next: fix it in lantern.toml, then run: lantern depots
    "#);
    let stderr = env.lantern(&["prepare"]).fails(1).stderr();
    assert!(stderr.contains("unmapped-files") && stderr.contains("overlapping-depots"), "{stderr}");
}

#[test]
fn a_bundle_is_not_split() {
    let env = TestEnv::desktops();
    env.edit("lantern.toml", "from = \"macos\"\n", "from = \"macos\"\nonly = [\"**/MacOS/**\"]\n");
    let more = "\n[depots.mac-data]\nfrom = \"macos\"\nleave-out = [\"voices/**\", \"**/MacOS/**\"]\n";
    env.edit("lantern.toml", "\n[depots.linux]", &format!("{more}\n[depots.linux]"));
    env.edit("lantern.toml", "macos = \"sp-mac\"", "macos = \"sp-mac\"\nmac-data = \"sp-macdata\"");
    let stdout = env.lantern(&["check"]).fails(1).stdout();
    assert!(stdout.contains("Saltmarsh Post.app would be split between mac-data, macos (bundle-split)"), "{stdout}");
}

#[test]
fn the_start_file_is_with_everybody() {
    let env = TestEnv::desktops();
    env.edit("lantern.toml", "from = \"linux\"\n", "from = \"linux\"\nchoice = { voices = \"fr\" }\n");
    let stdout = env.lantern(&["check"]).fails(1).stdout();
    assert!(stdout.contains("which not every player downloads (voices=fr) (start-optional)"), "{stdout}");
}

#[test]
fn a_shared_depot_that_is_not_the_same_everywhere() {
    let env = TestEnv::desktops();
    assert!(!env.lantern(&["check"]).success().stdout().contains("depot-differs"));
    let letters = env.read("exports/linux/voices/en/letters.snd");
    let stops = |what: &str| {
        for command in ["check", "prepare"] {
            let said = env.lantern(&[command]).fails(1).whole();
            assert!(said.contains(what) && said.contains("(depot-differs)"), "{command}: {said}");
        }
    };
    // Of the same size: only what is inside differs.
    let mut other = letters.clone();
    other[70_000] ^= 1;
    std::fs::write(env.path("exports/linux/voices/en/letters.snd"), &other).unwrap();
    stops(
        "the depot voices-en is not the same in linux and macos: 1 file with different content: voices/en/letters.snd",
    );
    env.write("exports/linux/voices/en/letters.snd", "an older letter");
    stops("the depot voices-en is not the same in linux and macos: 1 file in different sizes: voices/en/letters.snd");
    std::fs::write(env.path("exports/linux/voices/en/letters.snd"), &letters).unwrap();
    env.write("exports/windows/voices/en/more.snd", "one more");
    stops("the depot voices-en is not the same in linux and windows: 1 file only in one of them: voices/en/more.snd");
    std::fs::remove_file(env.path("exports/windows/voices/en/more.snd")).unwrap();
    env.lantern(&["prepare"]).success();
    // A copy that changes later is noticed although the depot is made of another target.
    other[70_001] ^= 1;
    std::fs::write(env.path("exports/windows/voices/en/letters.snd"), &other).unwrap();
    stops("the depot voices-en is not the same in linux and windows");
}

#[test]
fn a_part_has_what_is_shared_of_its_own() {
    let env = TestEnv::desktops();
    env.write("exports/windows/voices/en/letters.snd", "what Windows has");
    let stderr = env.lantern(&["prepare"]).fails(1).stderr();
    assert!(stderr.contains("depot-differs"), "{stderr}");
    let document = env.lantern(&["prepare", "--target", "windows", "--json"]).success().one();
    let depots = document["release"]["targets"][0]["depots"].as_array().unwrap();
    let voices = depots.iter().find(|depot| depot["depot"] == "voices-en").unwrap();
    assert_eq!(voices["size"], "what Windows has".len());
}

#[test]
fn players_get_what_they_have_and_what_they_ask_for() {
    let env = TestEnv::desktops();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "creek", "--yes"]).success();
    let install = |more: &[&str]| {
        let all = [&["install", "brambleyard", "creek", "player", "--target", "linux"], more].concat();
        env.lantern(&all)
    };
    install(&[]).success();
    let voices = || -> Vec<String> {
        let names = files(&env.path("player")).into_keys();
        names.filter(|name| name.starts_with("voices/")).collect()
    };
    assert_eq!(voices(), ["voices/en/letters.snd"]);
    snapshot!(install(&["--choose", "voices=fr"]).whole(), @"
    updated Saltmarsh Post 1.3.2 (1) in player
      choices: voices=fr
      304 kB downloaded, 1 file written, all 11 files checked, 9.77 MB
    ");
    assert_eq!(voices(), ["voices/en/letters.snd", "voices/fr/letters.snd"]);
    // What was chosen stays over updates.
    env.export_desktops(lantern_rehearsal::exports::GameVersion::New);
    env.edit("lantern.toml", "version = \"1.3.2\"", "version = \"1.4.0\"");
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "creek", "--yes"]).success();
    install(&[]).success();
    assert_eq!(voices().len(), 4);
    install(&["--choose", "voices=none"]).success();
    assert_eq!(voices(), ["voices/en/letters.snd", "voices/en/lighthouse.snd"]);
    snapshot!(install(&["--choose", "voices=de"]).whole(), @"
    ------- stderr -------
    error: creek does not offer the option de of the choice voices for linux
      fix: one of fr, ja, or none
    [exit status: 2]
    ");
    snapshot!(install(&["--choose", "voice=fr"]).whole(), @"
    ------- stderr -------
    error: creek does not offer the choice voice for linux
      fix: the only one is voices
    [exit status: 2]
    ");
    snapshot!(install(&["--choose", "voices"]).whole(), @"
    ------- stderr -------
    error: --choose: write it as CHOICE=OPTION, such as voices=fr
      fix: lantern install --help shows what it takes
    [exit status: 2]
    ");
    snapshot!(install(&["--choose", "voices=fr,none"]).whole(), @"
    ------- stderr -------
    error: --choose: none stands alone
      fix: lantern install --help shows what it takes
    [exit status: 2]
    ");
    snapshot!(install(&["--add-on", "songs"]).whole(), @"
    ------- stderr -------
    error: creek does not offer the add-on songs for linux
      fix: it offers none: leave --add-on out
    [exit status: 2]
    ");
    assert_eq!(voices(), ["voices/en/letters.snd", "voices/en/lighthouse.snd"], "nothing was installed");
    install(&["--choose", "voices=fr,ja"]).success();
    assert_eq!(voices().len(), 6);
}

#[test]
fn a_choice_follows_the_language_of_the_computer() {
    let env = TestEnv::desktops();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "creek", "--yes"]).success();
    let install = |folder: &str, language: &str| {
        let mut command = env.command(&["install", "brambleyard", "creek", folder, "--target", "linux"]);
        assert!(command.env("LC_ALL", language).output().unwrap().status.success());
        let has = |name: &&str| env.path(&format!("{folder}/voices/{name}")).is_dir();
        ["en", "fr", "ja"].into_iter().filter(has).collect::<Vec<_>>().join(" ")
    };
    assert_eq!(install("wren", "ja_JP.UTF-8"), "en ja");
    assert_eq!(install("otter", "fr_CA"), "en fr");
    assert_eq!(install("heron", "de_DE.UTF-8"), "en");
    assert_eq!(install("crane", "C"), "en");
    assert_eq!(install("wren", "fr_FR.UTF-8"), "en ja", "what was chosen stays over updates");
}

#[test]
fn shared_depots_travel_once() {
    let env = TestEnv::desktops();
    env.lantern(&["prepare"]).success();
    let plan = env.lantern(&["push", "brambleyard", "--plan", "--json"]).success().one();
    let depots: Vec<&str> = plan["depots"].as_array().unwrap().iter().map(|d| d["depot"].as_str().unwrap()).collect();
    assert_eq!(depots, ["linux", "voices-en", "voices-fr", "voices-ja", "macos", "windows"]);
    let done = env.lantern(&["push", "brambleyard", "--yes", "--json"]).success().one();
    assert_eq!(done["sent_bytes"], plan["upload_bytes"]);
}

#[test]
fn a_storefront_gets_only_the_targets_that_are_for_it() {
    let env = TestEnv::desktops();
    env.edit(
        "lantern.toml",
        "handle = \"saltmarsh-post\"\n",
        "handle = \"saltmarsh-post\"\ntargets = [\"linux\", \"windows\"]\n",
    );
    env.lantern(&["prepare"]).success();
    let plan = env.lantern(&["push", "brambleyard", "--yes", "--json"]).success().one();
    assert_eq!(plan["left_here"][0], "macos");
    env.lantern(&["promote", "brambleyard", "creek", "--yes"]).success();
    // macOS is added later: the same release goes there again, with all of it.
    env.edit("lantern.toml", "targets = [\"linux\", \"windows\"]\n", "");
    let again = env.lantern(&["push", "brambleyard", "--yes", "--json"]).success().one();
    assert_eq!((&again["number_there"], again["left_here"].as_array().unwrap().len()), (&2.into(), 0));
    snapshot!(env.lantern(&["live"]).whole(), @"
    Saltmarsh Post

      brambleyard   newest sealed: 1.3.2 (1)
        creek        1.3.2 (1)   newest
                     linux, windows
                     since 2026-11-27 10:04 by paper-heron, number there 1
        open-water   nothing yet

    next: lantern promote brambleyard creek
    ");
    env.lantern(&["promote", "brambleyard", "creek", "--yes"]).success();
    let live = env.lantern(&["live", "--json"]).success().json();
    assert_eq!(live["storefronts"][0]["branches"][0]["targets"]["macos"]["number_there"], 2);
}

#[test]
fn what_is_kept_aside_is_sealed_and_never_sent() {
    let env = TestEnv::desktops();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "creek", "--yes"]).success();
    env.lantern(&["install", "brambleyard", "creek", "player", "--target", "windows"]).success();
    assert!(!env.path("player/saltmarsh.pdb").exists());
    env.lantern(&["releases", "write", "1", "symbols", "--aside", "--target", "windows"]).success();
    assert_eq!(env.read("symbols/saltmarsh.pdb"), env.read("exports/windows/saltmarsh.pdb"));
    let all = env.lantern(&["releases", "write", "1", "aside", "--aside", "--json"]).success().json();
    assert_eq!(all["targets"], serde_json::json!(["windows"]));
    let none = env.lantern(&["releases", "write", "1", "none", "--aside", "--target", "linux"]).fails(2);
    assert!(none.stderr().contains("nothing of 1.3.2 (1) was kept aside"), "{}", none.whole());
    assert!(!env.path("none").exists());
    env.edit("lantern.toml", "\"*.pdb\"", "\"*.exe\"");
    let stdout = env.lantern(&["check"]).fails(1).stdout();
    assert!(stdout.contains("start-aside"), "{stdout}");
}
