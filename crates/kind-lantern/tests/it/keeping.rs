//! Keeping releases, writing them out, trying them.

use std::collections::BTreeMap;

use lantern_formats::{tar, zip};

use crate::env::{TestEnv, files};

fn store_size(env: &TestEnv) -> usize {
    files(&env.path(".lantern/store/packs")).values().map(Vec::len).sum()
}

#[test]
fn by_rule_what_matters_stays_and_the_rest_goes() {
    let env = TestEnv::live();
    for (version, content) in [("1.3.3", vec![1; 3_000_000]), ("1.3.4", vec![2; 10])] {
        let noise: Vec<u8> =
            content.iter().zip(0_u32..).map(|(a, b)| (b.wrapping_mul(2_654_435_761) >> 13) as u8 ^ a).collect();
        std::fs::write(env.path("exports/linux/extra.dat"), noise).unwrap();
        env.lantern(&["prepare", "--version", version]).success();
    }
    let keep = |more: &[&str]| env.lantern(&[&["keep", "--last", "1"], more].concat());
    let before = store_size(&env);
    let plan = keep(&["--plan", "--json"]).success().json();
    assert_eq!(store_size(&env), before);
    let stays: Vec<bool> = plan["releases"].as_array().unwrap().iter().map(|r| r["stays"] == true).collect();
    assert_eq!(stays, [true, false, true], "{plan}");
    keep(&["--yes"]).success();
    assert!(store_size(&env) < before, "{before}");
    snapshot!(keep(&["--yes"]).whole(), @"
      1.3.4 (3)   stays   one of the newest
      1.3.2 (1)   stays   live on open-water at brambleyard

    nothing to free
    ");
    env.lantern(&["verify"]).success();
    // Its record is left, and the same exports bring it back under its number.
    assert!(env.lantern(&["releases", "2"]).success().stdout().contains("only its record is left"));
    assert!(env.lantern(&["push", "brambleyard", "2", "--yes"]).fails(2).stderr().contains("was freed"));
    let noise: Vec<u8> = vec![1_u8; 3_000_000]
        .iter()
        .zip(0_u32..)
        .map(|(a, b)| (b.wrapping_mul(2_654_435_761) >> 13) as u8 ^ a)
        .collect();
    std::fs::write(env.path("exports/linux/extra.dat"), noise).unwrap();
    let again = env.lantern(&["prepare", "--version", "1.3.3", "--json"]).success().one();
    assert_eq!((&again["made"], &again["release"]["number"]), (&true.into(), &2.into()));
    env.lantern(&["push", "brambleyard", "2", "--yes"]).fails(0);
    env.lantern(&["verify"]).success();
}

#[test]
fn a_release_is_written_out_the_same_every_time() {
    let env = TestEnv::desktops();
    env.lantern(&["prepare"]).success();
    env.lantern(&["releases", "write", "1", "all"]).success();
    let written = files(&env.path("all"));
    assert_eq!(written["linux/saltmarsh.dat"], env.read("exports/linux/saltmarsh.dat"));
    assert!(written.contains_key("macos/voices/fr/letters.snd") && !written.contains_key("windows/saltmarsh.pdb"));
    for name in ["linux.zip", "linux.tar", "linux.tar.gz", "linux.tar.zst"] {
        env.lantern(&["releases", "write", "1", name, "--target", "linux"]).success();
        env.lantern(&["releases", "write", "1", &format!("again-{name}"), "--target", "linux"]).success();
        assert_eq!(env.read(name), env.read(&format!("again-{name}")), "{name}");
    }
    let expected: BTreeMap<String, usize> =
        written.iter().filter_map(|(k, v)| Some((k.strip_prefix("linux/")?.to_owned(), v.len()))).collect();
    let entries = zip::read(&mut std::fs::File::open(env.path("linux.zip")).unwrap()).unwrap();
    let zipped = entries.iter().map(|e| (String::from_utf8(e.name.clone()).unwrap(), e.packed.len as usize)).collect();
    assert_eq!(expected, zipped);
    let entries = tar::read(&mut std::fs::File::open(env.path("linux.tar")).unwrap(), u64::MAX).unwrap();
    let tarred = entries.iter().map(|e| (String::from_utf8(e.name.clone()).unwrap(), e.len as usize)).collect();
    assert_eq!(expected, tarred);
    snapshot!(env.lantern(&["releases", "write", "1", "linux.zip"]).whole(), @"
    ------- stderr -------
    error: linux.zip is there already
      fix: name a path where nothing is yet; nothing is overwritten
    [exit status: 2]
    ");
    snapshot!(env.lantern(&["releases", "write", "1", "x", "--target", "amiga"]).whole(), @"
    ------- stderr -------
    error: 1.3.2 (1) has no target amiga
      fix: one of linux, macos, windows
    [exit status: 2]
    ");
    // What was written out is an export again, and makes the very same trees.
    let config = String::from_utf8(env.read("lantern.toml")).unwrap();
    env.write("lantern.toml", &config.replace("exports/linux", "linux.tar.gz"));
    assert_eq!(env.lantern(&["prepare", "--json"]).success().one()["made"], false);
}

#[cfg(all(target_os = "linux", target_arch = "x86_64"))]
#[test]
fn what_was_sealed_is_tried() {
    let env = TestEnv::new();
    env.lantern(&["prepare"]).success();
    // The export has moved on: what was sealed is started, not what lies there.
    env.export(lantern_rehearsal::exports::GameVersion::New);
    snapshot!(env.lantern(&["try", "--yes"]).whole(), @"
    laid out 1.3.2 (1), linux: every file is unchanged since sealing

    starting saltmarsh
    Saltmarsh Post 1.3.2: the tide is out, the letters are dry.
    yes recorded: linux of 1.3.2 (1) shows what it should
    ");
    assert!(env.lantern(&["releases"]).success().stdout().contains("tried linux"));
    assert!(env.lantern(&["try"]).fails(7).stderr().contains("--yes"));
    std::fs::write(env.path("exports/linux/saltmarsh"), "#!/bin/sh\necho the sluice is stuck\nexit 3\n").unwrap();
    env.lantern(&["prepare", "--version", "1.4.1"]).success();
    snapshot!(env.lantern(&["try", "--yes"]).whole(), @"
    laid out 1.4.1 (2), linux: every file is unchanged since sealing

    starting saltmarsh
    the sluice is stuck
    ------- stderr -------
    error: saltmarsh ended with exit code 3
      fix: check its output above; it is the file that players get
    [exit status: 5]
    ");
    assert_eq!(env.event_kinds().iter().filter(|kind| *kind == "tried").count(), 2);
}

#[test]
fn what_does_not_start_here_is_said() {
    let env = TestEnv::desktops();
    env.lantern(&["prepare"]).success();
    snapshot!(env.lantern(&["try", "--target", "windows", "--yes"]).whole(), @"
    ------- stderr -------
    error: 1.3.2 (1) has nothing that starts on this computer
      fix: try it on the device itself; sealed are linux, macos, windows
    [exit status: 2]
    ");
    snapshot!(env.lantern(&["try", "--target", "amiga", "--yes"]).whole(), @"
    ------- stderr -------
    error: 1.3.2 (1) has no target amiga
      fix: one of linux, macos, windows
    [exit status: 2]
    ");
}
