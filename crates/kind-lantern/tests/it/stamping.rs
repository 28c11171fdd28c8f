//! Version and number that lantern writes into builds itself.

use std::fs;

use lantern_rehearsal::exports::{self, GameVersion};

use crate::env::{Ran, TestEnv, files};

const GAME: &str = "[game]\nname = \"Saltmarsh Post\"\nstudio = \"Paper Heron\"\n\
                    identity = \"example.paperheron.saltmarsh\"\nversion = \"1.5.0\"\n";

/// A game with a package, a bundle or a folder in its exports, and what stands below its only target.
fn env(export: &str, target: &str) -> TestEnv {
    let env = TestEnv::without_storefront();
    exports::write_android(&env.path("exports/saltmarsh.apk"), GameVersion::Old, false).unwrap();
    exports::write_bundle(&env.path("exports/saltmarsh.aab"), GameVersion::Old).unwrap();
    env.write("lantern.toml", &format!("{GAME}\n[targets.it]\nexport = \"exports/{export}\"\n{target}"));
    env.lantern(&["number", "--next", "40"]).success();
    env
}

fn run(env: &TestEnv, arguments: &[&str]) -> Ran {
    let output = env.command(arguments).env("LANTERN_KEY_PASSPHRASE", "the tide comes in slowly").output().unwrap();
    Ran { output }
}

fn with_key(env: &TestEnv) {
    run(env, &["key", "new", "saltmarsh-mobile", "--kind", "p-256"]).success();
}

#[test]
fn a_package_and_a_bundle_say_what_their_release_is() {
    for file in ["saltmarsh.apk", "saltmarsh.aab"] {
        let env = env(file, "sign = \"saltmarsh-mobile\"\n");
        with_key(&env);
        // Without the stamp they must agree, and the cure names both ways.
        let differs = run(&env, &["check"]).fails(1).stdout();
        for part in ["it calls itself 1.3.2", "it has the number 25 inside, and the release gets 40", "stamp = true"] {
            assert!(differs.contains(part), "{part}: {differs}");
        }
        env.edit("lantern.toml", "sign =", "stamp = true\nsign =");
        let checked = run(&env, &["check"]).success().stdout();
        assert!(!checked.contains("number-differs") && !checked.contains("version-differs"), "{checked}");
        let exported = env.read(&format!("exports/{file}"));
        let sealed = run(&env, &["prepare"]).success().stdout();
        assert!(sealed.contains("sealed Saltmarsh Post 1.5.0 (40)"), "{sealed}");
        assert!(sealed.contains("stamped") && sealed.contains("it in the manifest"), "{sealed}");
        assert_eq!(env.read(&format!("exports/{file}")), exported, "the export is as it was");
        run(&env, &["releases", "write", "1.5.0", "out"]).success();
        let seen = run(&env, &["inspect", &format!("out/{file}"), "--json"]).json()["things"][0].clone();
        assert_eq!((&seen["version"], &seen["number"]), (&"1.5.0".into(), &"40".into()), "{seen}");
        assert!(!seen.to_string().contains("broken-signature"), "{seen}");
        // The same exports make nothing, and a check has nothing against them.
        assert!(run(&env, &["prepare"]).success().stdout().contains("nothing changed"));
        assert!(run(&env, &["prepare", "--read-all"]).success().stdout().contains("nothing changed"));
        run(&env, &["check"]).success();
        // The next version, without another export.
        env.edit("lantern.toml", "1.5.0", "1.5.1");
        let next = run(&env, &["prepare"]).success().stdout();
        assert!(next.contains("sealed Saltmarsh Post 1.5.1 (41)"), "{next}");
        run(&env, &["releases", "write", "1.5.1", "next"]).success();
        let seen = run(&env, &["inspect", &format!("next/{file}"), "--json"]).json()["things"][0].clone();
        assert_eq!((&seen["version"], &seen["number"]), (&"1.5.1".into(), &"41".into()), "{seen}");
    }
}

#[test]
fn two_computers_stamp_and_sign_the_same_bytes() {
    let one = env("saltmarsh.apk", "stamp = true\nsign = \"saltmarsh-mobile\"\n");
    with_key(&one);
    let other = env("saltmarsh.apk", "stamp = true\nsign = \"saltmarsh-mobile\"\n");
    run(&one, &["key", "backup", "saltmarsh-mobile", "copy.p12"]).success();
    let copy = one.path("copy.p12");
    run(&other, &["key", "import", "saltmarsh-mobile", copy.to_str().unwrap()]).success();
    let id = |env: &TestEnv| run(env, &["prepare", "--json"]).one()["id"].clone();
    assert_eq!(id(&one), id(&other));
}

#[test]
fn a_version_file_lies_in_a_build_without_a_manifest() {
    for export in ["linux", "linux.zip"] {
        let env =
            env(export, "starts = \"saltmarsh\"\nleave-out = [\"notes/**\"]\nversion-file = \"data/version.txt\"\n");
        if export.ends_with("zip") {
            let file = fs::File::create(env.path("exports/linux.zip")).unwrap();
            let mut zip = lantern_formats::zip::write::ZipWriter::new(file);
            for (name, bytes) in files(&env.path("exports/linux")) {
                let method = lantern_formats::zip::Method::Stored;
                zip.file(&name, method, 0o755, bytes.len() as u64, |out| out.write_all(&bytes)).unwrap();
            }
            zip.finish().unwrap();
        }
        let sealed = run(&env, &["prepare"]).success().stdout();
        assert!(sealed.contains("stamped") && sealed.contains("it in data/version.txt"), "{sealed}");
        assert!(run(&env, &["prepare"]).success().stdout().contains("nothing changed"));
        run(&env, &["releases", "write", "1.5.0", "out"]).success();
        assert_eq!(env.read("out/data/version.txt"), b"1.5.0\n40\n");
        assert!(!env.path("exports/linux/data/version.txt").exists(), "the export is as it was");
        // What the engine wrote there is written over.
        if export == "linux" {
            env.write("exports/linux/data/version.txt", "a placeholder");
            env.edit("lantern.toml", "1.5.0", "1.5.1");
            run(&env, &["prepare"]).success();
            run(&env, &["releases", "write", "1.5.1", "next"]).success();
            assert_eq!(env.read("next/data/version.txt"), b"1.5.1\n41\n");
        }
    }
}

#[test]
fn what_cannot_be_stamped_is_said_before_anything_is_made() {
    let linux = "starts = \"saltmarsh\"\n";
    let cases = [
        ("linux", format!("{linux}stamp = true\n"), "stamp is for packages, and for Windows and macOS"),
        ("saltmarsh.apk", "stamp = true\n".to_owned(), "the stamp changes it, and it has no valid signature then"),
        ("saltmarsh.apk", "version-file = \"a.txt\"\n".to_owned(), "version-file is for folders and archives"),
        ("linux", format!("{linux}version-file = \"letters\"\n"), "no file can lie at letters in it"),
        ("linux", format!("{linux}version-file = \"saltmarsh/v.txt\"\n"), "no file can lie at saltmarsh/v.txt in it"),
        (
            "linux",
            format!("{linux}version-file = \"v.txt\"\nkeep-aside = [\"*.txt\"]\n"),
            "keep-aside covers v.txt, so players would not get it",
        ),
    ];
    for (export, target, expected) in cases {
        let env = env(export, &target);
        let refused = run(&env, &["prepare"]);
        assert!(refused.code() == 1 || refused.code() == 2, "{}", refused.whole());
        assert!(refused.stderr().contains(expected) && refused.stderr().contains("fix: "), "{}", refused.whole());
        assert!(!env.event_kinds().iter().any(|kind| kind == "sealed" || kind == "number-reserved"));
    }
    // A signed bundle stays closed.
    let env = env("macos", "version-file = \"Saltmarsh Post.app/Contents/version.txt\"\n");
    exports::write_macos(&env.path("exports/macos"), GameVersion::Old).unwrap();
    env.write("exports/macos/Saltmarsh Post.app/Contents/_CodeSignature/CodeResources", "<plist/>");
    let refused = run(&env, &["check"]).fails(1).stdout();
    assert!(refused.contains("one more file makes its signature invalid"), "{refused}");
}

#[test]
fn nobody_looked_at_the_screen_since_the_stamp() {
    let env = env("saltmarsh.apk", "stamp = true\nsign = \"saltmarsh-mobile\"\n");
    with_key(&env);
    run(&env, &["prepare"]).success();
    let says = || run(&env, &["check"]).success().stdout();
    assert!(!says().contains("stamp-not-seen"), "nobody ever tried one");
    run(&env, &["try", "--target", "it", "--by-hand", "--yes"]).success();
    assert!(!says().contains("stamp-not-seen"));
    env.edit("lantern.toml", "1.5.0", "1.5.1");
    run(&env, &["prepare"]).success();
    let said = says();
    for part in ["it was stamped with 1.5.1 (41), and the last one that someone tried is 1.5.0 (40)", "stamp-not-seen"]
    {
        assert!(said.contains(part), "{part}: {said}");
    }
    run(&env, &["try", "--target", "it", "--by-hand", "--yes"]).success();
    assert!(!says().contains("stamp-not-seen"));
}
