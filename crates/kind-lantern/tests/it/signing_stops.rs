//! What signs, and makes keys, cut at every point at which it could be cut.

use lantern_rehearsal::exports::{GameVersion, write_android, write_windows};

use crate::env::{TestEnv, files, rounds};
use crate::stops::{STOPPED, Scene};

/// A release that is stamped, and that a key signs for the first time: sealed, with the key pinned in `lantern.toml`.
#[test]
fn a_signed_release() {
    let mut scene = Scene::new(|env| {
        write_android(&env.path("exports/saltmarsh.apk"), GameVersion::Old, false).unwrap();
        let phone = "[targets.phone]\nsystems = [\"android\"]\nexport = \"exports/saltmarsh.apk\"\nstamp = true\nsign = \"mobile\"\n";
        let config = env.config("1.3.2").replace("depots = { ", "depots = { phone = \"sp-phone\", ");
        env.write("lantern.toml", &format!("{config}\n{phone}\n[sealing]\nstatement = \"mobile\"\n"));
        env.write("passphrase", "the tide comes in slowly");
        env.lantern(&["number", "--next", "26"]).success();
        env.lantern(&["key", "new", "mobile", "--kind", "p-256", "--passphrase-file", "passphrase"]).success();
    });
    let prepare = ["prepare", "--passphrase-file", "passphrase"];
    let expected = scene.undisturbed(&prepare);
    assert!(expected["pinned"].is_string() && expected.contains_key(".lantern/statements/1.3.2-26.json"));
    // Most of its points are those of every release, at which others are cut: some are left out where nobody asks for more.
    scene.cut_at_points(&prepare, &expected, if rounds(1) == 1 { 4 } else { 1 });
}

/// A small build for Windows with two programs, and a key that signs them.
fn programs(env: &TestEnv) {
    write_windows(&env.path("all"), GameVersion::Old).unwrap();
    let program = env.read("all/Saltmarsh Post.exe");
    std::fs::remove_dir_all(env.path("all")).unwrap();
    std::fs::create_dir_all(env.path("exports/windows")).unwrap();
    std::fs::write(env.path("exports/windows/Saltmarsh Post.exe"), &program).unwrap();
    std::fs::write(env.path("exports/windows/tide.dll"), [&program[..], b"tide"].concat()).unwrap();
    env.write("passphrase", "the tide comes in slowly");
    env.lantern(&["key", "new", "studio", "--kind", "p-256", "--passphrase-file", "passphrase"]).success();
}

/// Programs that are signed one by one on their way to a release.
#[test]
fn signed_programs() {
    let mut scene = Scene::new(|env| {
        programs(env);
        let desk = "[targets.windows]\nsystems = [\"windows-x86_64\"]\nexport = \"exports/windows\"\nstarts = [\"Saltmarsh Post.exe\"]\nsign = \"studio\"\n";
        let config = env.config("1.3.2").replace("depots = { ", "depots = { windows = \"sp-win\", ");
        env.write("lantern.toml", &format!("{config}\n{desk}"));
    });
    let prepare = ["prepare", "--passphrase-file", "passphrase"];
    let expected = scene.undisturbed(&prepare);
    let points = scene.cut_at_points(&prepare, &expected, if rounds(1) == 1 { 3 } else { 1 });
    scene.cut_twice(&prepare, points / 4, &expected);
}

/// Cut anywhere, each program of a folder is as it was or signed, and the same command again signs the others.
#[test]
fn loose_programs() {
    let mut scene = Scene::new(programs);
    let sign = ["sign", "exports/windows", "--key", "studio", "--passphrase-file", "passphrase"];
    let both = |scene: &Scene| {
        ["Saltmarsh Post.exe", "tide.dll"].map(|name| scene.env.read(&format!("exports/windows/{name}")))
    };
    let before = both(&scene);
    assert_eq!(scene.run(&sign, &[]).code(), 0);
    let signed = both(&scene);
    for number in 1.. {
        scene.put_back();
        if scene.run(&sign, &[("LANTERN_STOP_AT", &number.to_string())]).code() != STOPPED {
            assert!(number > 4, "only {number} points");
            break;
        }
        for ((now, before), signed) in both(&scene).iter().zip(&before).zip(&signed) {
            assert!(now == before || now == signed, "cut at {number}");
        }
        let second = scene.run(&sign, &[("LANTERN_STOP_AT", "2")]);
        assert!([0, STOPPED].contains(&second.code()), "cut at {number} and 2: {}", second.whole());
        assert_eq!(scene.run(&sign, &[]).code(), 0, "cut at {number}");
        assert!(both(&scene) == signed, "cut at {number}");
        let left: Vec<String> = files(&scene.env.path("exports/windows")).into_keys().collect();
        assert_eq!(left.len(), 2, "cut at {number}: {left:?}");
    }
}

/// Cut anywhere, making a key leaves none or a whole one.
#[test]
fn a_new_key() {
    let scene = Scene::new(|env| env.write("passphrase", "the tide comes in slowly"));
    let new = ["key", "new", "mobile", "--kind", "p-256", "--passphrase-file", "passphrase"];
    let key = scene.env.path("home/keys/mobile.p12");
    let mut kept = 0;
    for number in 1.. {
        let _ = std::fs::remove_dir_all(scene.env.path("home/keys"));
        if scene.run(&new, &[("LANTERN_STOP_AT", &number.to_string())]).code() != STOPPED {
            assert!(number > 3, "only {number} points");
            break;
        }
        let left = std::fs::read(&key).ok();
        let again = scene.run(&new, &[]);
        match &left {
            None => assert_eq!(again.code(), 0, "cut at {number}: {}", again.whole()),
            Some(bytes) => {
                kept += 1;
                assert_eq!(again.code(), 2, "cut at {number}: {}", again.whole());
                assert_eq!(&std::fs::read(&key).unwrap(), bytes, "it is never replaced");
            }
        }
        let backup = ["key", "backup", "mobile", "copy.p12", "--passphrase-file", "passphrase"];
        let opened = scene.run(&backup, &[]);
        assert_eq!(opened.code(), 0, "cut at {number}: {}", opened.whole());
        std::fs::remove_file(scene.env.path("copy.p12")).unwrap();
    }
    assert!(kept > 0, "it was never cut after the key was there");
}

/// Cut anywhere, sheets are there whole or not at all, and the key is as it was.
#[test]
fn sheets_of_a_key() {
    let scene = Scene::new(|env| {
        env.write("passphrase", "the tide comes in slowly");
        let new = ["key", "new", "mobile", "--kind", "p-256", "--subject", "CN=Paper Heron"];
        env.lantern(&[&new[..], &["--passphrase-file", "passphrase"]].concat()).success();
    });
    let backup = ["key", "backup", "mobile", "sheets", "--sheets", "2/3", "--passphrase-file", "passphrase"];
    let mut points = 0;
    for number in 1.. {
        let _ = std::fs::remove_dir_all(scene.env.path("sheets"));
        if scene.run(&backup, &[("LANTERN_STOP_AT", &number.to_string())]).code() != STOPPED {
            break;
        }
        points += 1;
        for sheet in 1..=3 {
            // What is there is a whole page.
            let page = std::fs::read_to_string(scene.env.path(&format!("sheets/sheet-{sheet}.html")));
            assert!(page.is_err() || page.unwrap().ends_with("</html>\n"), "cut at {number}");
        }
        if scene.env.path("sheets").exists() {
            // Nothing is mixed with what was begun.
            assert_eq!(scene.run(&backup, &[]).code(), 2, "cut at {number}");
        }
    }
    assert!(points > 3, "only {points} points");
    // A disk that is full, or fails this once, is named with what to do, and what is left is the whole set or nothing.
    let (mut writes, mut whole) = (0, 0);
    // A set takes half a second to draw: some points are left out where nobody asks for more.
    let every = if rounds(1) == 1 { 3 } else { 1 };
    for (number, how) in (1..).step_by(every).zip(["full", "once"].iter().cycle()) {
        let _ = std::fs::remove_dir_all(scene.env.path("sheets"));
        let ran = scene.run(&backup, &[("LANTERN_FAIL_AT", &number.to_string()), ("LANTERN_FAIL_AS", how)]);
        if !ran.stderr().contains("(the disk fails here)") {
            break;
        }
        writes += 1;
        let said = format!("{how}, write {number}: {}", ran.whole());
        if ran.code() != 0 {
            assert!(ran.code() == 6 && ran.stderr().contains("fix: "), "{said}");
        }
        if scene.env.path("sheets").exists() {
            whole += 1;
            assert!(ran.code() == 0 || ran.stderr().contains("the sheets in sheets are whole"), "{said}");
            assert_eq!(files(&scene.env.path("sheets")).len(), 3, "{said}");
            let drill = ["key", "drill", "mobile", "sheets/sheet-1.html", "sheets/sheet-3.html"];
            assert_eq!(scene.run(&drill, &[]).code(), 0, "{said}");
        }
    }
    assert!(writes > 3 && whole > 0 && whole < writes, "{writes} writes, whole after {whole}");
    let drilled = scene.run(&["key", "drill", "mobile", "sheets/sheet-1.html", "sheets/sheet-3.html"], &[]);
    assert_eq!(drilled.code(), 0, "{}", drilled.whole());
}
