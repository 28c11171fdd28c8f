//! Keeping releases, writing them out, trying them.

use std::collections::BTreeMap;

use lantern_core::digest::Digest;
use lantern_formats::{tar, zip};
use lantern_store::codec::Codec;
use lantern_store::store::Store;

use crate::env::{TestEnv, copy, files};

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

/// Two million bytes in pieces of 50 kB, each of which is its own.
fn marsh() -> Vec<u8> {
    let line = |n: u64| *Digest::of(&n.to_le_bytes()).as_bytes();
    (0..62_500).flat_map(line).collect()
}

/// The same with some bytes of every tenth piece changed, and the last twenty pieces in another order.
fn marsh_after(bytes: &[u8], round: u8) -> Vec<u8> {
    let mut pieces: Vec<Vec<u8>> = bytes.chunks(50_000).map(<[u8]>::to_vec).collect();
    pieces.iter_mut().step_by(10).for_each(|piece| piece[usize::from(round) * 100..][..50].fill(round));
    pieces[20..].rotate_left(7);
    pieces[20..].swap(2, 11);
    pieces.concat()
}

#[test]
fn a_release_that_follows_takes_little_and_leaves_whole() {
    let env = TestEnv::new();
    env.connect();
    let store = Store::at(env.path(".lantern/store"));
    let differences = |store: &Store| {
        let tables = store.packs().unwrap().into_iter().flat_map(|pack| store.pack_table(&pack).unwrap().1);
        tables.filter(|entry| entry.codec == Codec::Difference).count()
    };
    let mut bytes = marsh();
    let mut sizes = Vec::new();
    for (round, version) in (1..).zip(["1.3.2", "1.4.0", "1.4.1"]) {
        std::fs::write(env.path("exports/linux/marsh.pack"), &bytes).unwrap();
        env.lantern(&["prepare", "--version", version]).success();
        sizes.push(store_size(&env));
        bytes = marsh_after(&bytes, round);
    }
    let bytes = env.read("exports/linux/marsh.pack");
    assert!(sizes[0] > 2_000_000 && sizes[2] - sizes[0] < 100_000, "{sizes:?}");
    assert!(differences(&store) > 20);
    env.lantern(&["verify"]).success();
    // A storefront that had none before gets whole chunks, as many bytes as was said.
    let push = |flag: &str| env.lantern(&["push", "brambleyard", flag, "--json"]).success().json()["pushes"][0].clone();
    let (plan, pushed) = (push("--plan"), push("--yes"));
    assert!(plan["upload_bytes"].as_u64().unwrap() > 2_000_000, "{plan}");
    assert_eq!(pushed["sent_bytes"], plan["upload_bytes"], "{plan} {pushed}");
    assert_eq!(differences(&Store::at(env.path("storefront/titles/saltmarsh-post"))), 0);
    env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.4.1 (3)"]).success();
    env.lantern(&["install", "brambleyard", "open-water", "player", "--target", "linux"]).success();
    assert!(env.read("player/marsh.pack") == bytes);
    // The releases before go: what this one is a difference to stays, and it can still be written out.
    env.lantern(&["keep", "--last", "1", "--yes"]).success();
    assert!(differences(&store) > 5);
    env.lantern(&["verify"]).success();
    env.lantern(&["releases", "write", "3", "out"]).success();
    assert!(files(&env.path("out")).into_iter().any(|(name, found)| name.ends_with("marsh.pack") && found == bytes));
}

#[test]
fn a_release_that_comes_back_takes_as_little_as_before() {
    let env = TestEnv::new();
    std::fs::write(env.path("exports/linux/marsh.pack"), marsh()).unwrap();
    env.lantern(&["prepare", "--version", "1.3.2"]).success();
    copy(&env.path(".lantern/store"), &env.path("backup"));
    std::fs::write(env.path("exports/linux/marsh.pack"), marsh_after(&marsh(), 1)).unwrap();
    env.lantern(&["prepare", "--version", "1.4.0"]).success();
    let size = store_size(&env);
    // The store is that of a backup from before the second release, which the ledger knows.
    std::fs::remove_dir_all(env.path(".lantern/store")).unwrap();
    copy(&env.path("backup"), &env.path(".lantern/store"));
    let out = env.lantern(&["prepare", "--version", "1.4.0"]).success();
    assert!(out.stdout().contains("1.4.0 (2)"), "{}", out.whole());
    assert_eq!(store_size(&env), size);
    env.lantern(&["verify"]).success();
}

#[test]
fn a_base_that_is_gone_is_found_and_repaired() {
    let env = TestEnv::new();
    let store = Store::at(env.path(".lantern/store"));
    let (old, new) = (marsh(), marsh_after(&marsh(), 1));
    for (version, bytes) in [("1.3.2", &old), ("1.4.0", &new)] {
        std::fs::write(env.path("exports/linux/marsh.pack"), bytes).unwrap();
        env.lantern(&["prepare", "--version", version]).success();
    }
    // The pack that holds most of the first release goes as a whole.
    let largest = store.packs().unwrap().into_iter().max_by_key(|pack| store.pack_table(pack).unwrap().0).unwrap();
    std::fs::remove_file(store.pack_path(&largest)).unwrap();
    let said = env.lantern(&["verify"]).fails(5).whole();
    assert!(
        ["1.3.2 (1)", "1.4.0 (2)", "is stored as a difference to"].iter().all(|part| said.contains(part)),
        "{said}"
    );
    // What the exports have makes the second release whole again, without anything of the first.
    env.lantern(&["repair"]).fails(5);
    let stderr = env.lantern(&["verify"]).fails(5).stderr();
    assert!(stderr.contains("1.3.2 (1)") && !stderr.contains("1.4.0 (2)"), "{stderr}");
    std::fs::write(env.path("exports/linux/marsh.pack"), &old).unwrap();
    env.lantern(&["prepare", "--version", "1.3.2", "--read-all"]).success();
    env.lantern(&["verify"]).success();
}
