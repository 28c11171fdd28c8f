//! What of our own is lost or damaged is noticed, never spread, and made again.

use std::path::PathBuf;

use lantern_rehearsal::exports::GameVersion;
use lantern_store::store::Store;

use crate::env::{Ran, TestEnv, files};

/// Two releases, the first one live, and something to say of each.
fn two_releases() -> TestEnv {
    let env = TestEnv::live();
    env.next_version();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--message", "with the lighthouse", "--yes"]).success();
    env
}

fn remove_ledger(env: &TestEnv) {
    for ending in ["", "-wal", "-shm"] {
        let _ = std::fs::remove_file(env.path(&format!(".lantern/ledger.db{ending}")));
    }
}

fn releases(env: &TestEnv) -> String {
    env.lantern(&["releases"]).success().stdout()
}

/// Every command that needs the ledger; none may go on as if there had been nothing.
fn nothing_goes_on(env: &TestEnv, why: &str) {
    let before = files(&env.path(".lantern/store"));
    for arguments in [
        &["live"][..],
        &["releases"],
        &["history"],
        &["verify"],
        &["number"],
        &["prepare"],
        &["push", "brambleyard", "--yes"],
        &["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"],
        &["keep", "--last", "1", "--yes"],
        &["ledger", "export"],
        &["ledger", "backup"],
        &["repair"],
        &[],
    ] {
        let ran = env.lantern(arguments).fails(5);
        let stderr = ran.stderr();
        assert!(stderr.contains(why) && stderr.contains("lantern ledger rebuild"), "{arguments:?}: {stderr}");
    }
    assert_eq!(files(&env.path(".lantern/store")), before);
}

#[test]
fn a_ledger_that_was_lost_is_noticed_and_made_again() {
    let env = two_releases();
    let (before, live) = (releases(&env), env.on_branch());
    remove_ledger(&env);
    nothing_goes_on(&env, "the file is not there");
    snapshot!(env.lantern(&["live"]).fails(5).whole(), @"
    ------- stderr -------
    error: the ledger FOLDER/.lantern/ledger.db is lost or out of date: the file is not there
      fix: to rebuild it from its copy, the store and the storefronts: lantern ledger rebuild
      fix: or put the right file back from a backup of yours. Nothing was changed
    [exit status: 5]
    ");
    snapshot!(env.lantern(&["ledger", "rebuild"]).success().whole(), @"
    rebuilt the ledger

      from old file and copy   10 events
      from the store           nothing more
      from storefronts         1 build, at brambleyard
      not known: 2 events after 2026-11-27 10:05, except what storefronts reported above

    next: lantern verify   then: lantern live
    ");
    assert_eq!((releases(&env), env.on_branch()), (before, live));
    env.lantern(&["verify"]).success();
    // Everything goes on where it was: what is sealed is known, and numbers go on.
    let again = env.lantern(&["prepare", "--json"]).success().one();
    assert_eq!((&again["made"], &again["release"]["number"]), (&false.into(), &2.into()));
    env.edit("lantern.toml", "1.4.0", "1.5.0");
    env.release("1.5.0 (3)");
    assert_eq!(env.on_branch(), "1.5.0 (3) build 3 revision 2");
    assert!(env.event_kinds().contains(&"rebuilt".to_owned()));
}

#[test]
fn without_a_copy_it_is_made_of_records_and_storefronts() {
    let env = two_releases();
    let (before, live) = (releases(&env), env.on_branch());
    remove_ledger(&env);
    std::fs::remove_file(env.path(".lantern/ledger.head")).unwrap();
    std::fs::remove_file(env.path(".lantern/ledger-copy.jsonl")).unwrap();
    nothing_goes_on(&env, "the file is not there");
    snapshot!(env.lantern(&["ledger", "rebuild"]).success().whole(), @"
    rebuilt the ledger

      from old file and copy   0 events
      from the store           1.3.2 (1), 1.4.0 (2)
      from storefronts         2 builds, at brambleyard
      not known: who sealed these releases and when, and the results of their trials
      not known: which of them were withdrawn here and at no storefront

    next: lantern verify   then: lantern live
    ");
    assert_eq!(env.on_branch(), live);
    let known = |text: &str| text.lines().filter(|l| l.contains("1.")).map(|l| l[..14].to_owned()).collect::<Vec<_>>();
    assert_eq!(known(&releases(&env)), known(&before));
    env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"]).success();
    assert_eq!(env.lantern(&["number", "--json"]).success().json()["next"], 3);
}

#[test]
fn a_ledger_that_was_emptied_or_is_an_older_one_is_noticed() {
    let env = TestEnv::live();
    env.lantern(&["number"]).success();
    let older = env.read(".lantern/ledger.db");
    env.next_version();
    env.lantern(&["prepare"]).success();
    let newest = env.read(".lantern/ledger.db");
    remove_ledger(&env);
    std::fs::write(env.path(".lantern/ledger.db"), &older).unwrap();
    nothing_goes_on(&env, "is missing, and perhaps others");
    // Without its head the records of the store know better.
    let head = env.read(".lantern/ledger.head");
    std::fs::remove_file(env.path(".lantern/ledger.head")).unwrap();
    nothing_goes_on(&env, "it does not contain 1.4.0 (2), whose record is in the store");
    std::fs::write(env.path(".lantern/ledger.head"), head).unwrap();
    remove_ledger(&env);
    std::fs::write(env.path(".lantern/ledger.db"), "").unwrap();
    nothing_goes_on(&env, "is missing, and perhaps others");
    // The right one is put back by hand, and all is well.
    remove_ledger(&env);
    std::fs::write(env.path(".lantern/ledger.db"), newest).unwrap();
    env.lantern(&["live"]).success();
}

#[test]
fn a_damaged_ledger_gives_what_it_still_has() {
    let env = two_releases();
    let before = env.event_kinds();
    for noise in [&b"no database at all"[..], &[0; 8192]] {
        remove_ledger(&env);
        std::fs::write(env.path(".lantern/ledger.db"), noise).unwrap();
        let stderr = env.lantern(&["live"]).fails(5).stderr();
        assert!(stderr.contains("lantern ledger rebuild"), "{stderr}");
        env.lantern(&["ledger", "rebuild"]).success();
        let after = env.event_kinds();
        // All but what came after the copy of the last prepare, which the storefront knows.
        assert!(before.iter().filter(|kind| *kind == "sealed").all(|kind| after.contains(kind)), "{after:?}");
        assert_eq!(
            after.iter().filter(|kind| matches!(kind.as_str(), "pushed" | "build-found")).count(),
            2,
            "{after:?}"
        );
    }
    let aside: Vec<PathBuf> = (1..3).map(|n| env.path(&format!(".lantern/ledger.db.before-{n}"))).collect();
    assert!(aside.iter().all(|path| path.is_file()), "the old ones stay: {aside:?}");
}

#[test]
fn what_could_not_be_found_out_is_said() {
    let mut env = two_releases();
    remove_ledger(&env);
    std::fs::remove_file(env.path(".lantern/ledger-copy.jsonl")).unwrap();
    std::fs::remove_dir_all(env.path(".lantern/store/recipes")).unwrap();
    env.close_storefront();
    snapshot!(env.lantern(&["ledger", "rebuild"]).success().whole(), @"
    rebuilt the ledger

      from old file and copy   0 events
      from the store           1.3.2 (1), 1.4.0 (2)
      from storefronts         none could be asked
      careful: only the record of 1.3.2 (1) is left, its files are gone
      careful: only the record of 1.4.0 (2) is left, its files are gone
      careful: brambleyard could not be asked: http://127.0.0.1:PORT could not be reached: Connection refused (os error 111)
      not known: 12 events, except what storefronts reported above
      not known: who sealed these releases and when, and the results of their trials
      not known: which of them were withdrawn here and at no storefront
      not known: what is at brambleyard: run lantern live when it answers

    next: lantern verify   then: lantern live
    ");
    let document = env.lantern(&["ledger", "rebuild", "--json"]).success().json();
    assert_eq!(document["unreachable"][0]["storefront"], "brambleyard");
    assert!(document["not_known"].as_array().is_some_and(|all| !all.is_empty()), "{document}");
}

#[test]
fn a_ledger_is_exported_backed_up_and_brought_in() {
    let env = two_releases();
    let exported = env.lantern(&["ledger", "export"]).success().stdout();
    assert!(exported.starts_with("{\"format\":\"lantern.ledger-export/1\"}\n"), "{exported}");
    let count = exported.lines().count() - 1;
    assert_eq!(count, env.event_kinds().len());
    let said = env.lantern(&["ledger", "export", "all.jsonl"]).success().stdout();
    assert!(said.starts_with(&format!("wrote all.jsonl, {count} events, ")), "{said}");
    env.lantern(&["ledger", "export", "all.jsonl"]).fails(2);
    // The copy of the last prepare is brought up to date, and so is one elsewhere; what is none is never written over.
    env.lantern(&["ledger", "backup"]).success();
    assert_eq!(env.read(".lantern/ledger-copy.jsonl"), exported.as_bytes());
    env.lantern(&["ledger", "backup", "--to", "stick/ledger.jsonl"]).success();
    env.lantern(&["number", "--next", "7"]).success();
    env.lantern(&["ledger", "backup", "--to", "stick/ledger.jsonl"]).success();
    assert_eq!(env.read("stick/ledger.jsonl").iter().filter(|byte| **byte == b'\n').count(), count + 2);
    let refused = env.lantern(&["ledger", "backup", "--to", "lantern.toml"]).fails(2).stderr();
    assert!(refused.contains("it is not an older copy of this ledger"), "{refused}");
    // A colleague's computer knows nothing yet, and all of it afterwards.
    std::fs::create_dir(env.path("laptop")).unwrap();
    std::fs::copy(env.path("lantern.toml"), env.path("laptop/lantern.toml")).unwrap();
    let laptop = |arguments: &[&str]| Ran { output: env.command_in("laptop", arguments).output().unwrap() };
    assert_eq!(laptop(&["number", "--json"]).success().json()["next"], 1);
    snapshot!(laptop(&["ledger", "import", "../stick/ledger.jsonl"]).success().whole(), @"added 13 events");
    assert_eq!(laptop(&["number", "--json"]).success().json()["next"], 7);
    assert_eq!(laptop(&["releases"]).success().stdout(), releases(&env));
    let again = laptop(&["ledger", "import", "../stick/ledger.jsonl", "--json"]).success().json();
    assert_eq!(again["added"], 0);
    // Cut off in its last line it is a copy that ends earlier; changed in the middle it is none.
    std::fs::write(env.path("cut.jsonl"), &exported[..exported.len() - 10]).unwrap();
    laptop(&["ledger", "import", "../cut.jsonl"]).success();
    std::fs::write(env.path("changed.jsonl"), exported.replacen("1.3.2", "1.3.3", 1)).unwrap();
    let stderr = laptop(&["ledger", "import", "../changed.jsonl"]).fails(2).stderr();
    assert!(stderr.contains("line "), "{stderr}");
    laptop(&["ledger", "import", "../lantern.toml"]).fails(2);
}

/// Turns one bit in the middle of every pack of the store; returns how many there are.
fn damage_packs(env: &TestEnv) -> usize {
    let store = Store::at(env.path(".lantern/store"));
    let packs = store.packs().unwrap();
    for pack in &packs {
        let path = store.pack_path(pack);
        let mut bytes = std::fs::read(&path).unwrap();
        let middle = bytes.len() / 2;
        bytes[middle] ^= 1;
        std::fs::write(path, bytes).unwrap();
    }
    packs.len()
}

#[test]
fn damage_is_named_by_its_files_and_repaired_from_the_exports() {
    let env = TestEnv::new();
    env.lantern(&["prepare"]).success();
    assert_eq!(damage_packs(&env), 1);
    let before = files(&env.path(".lantern/store"));
    snapshot!(env.lantern(&["verify"]).fails(5).whole(), @"
      wrong the pack blake3:db16dd9e47fbfa60ddc58f6b5232844bb190ab51c2b85dce379bbed03cadf2f6 in the store is damaged: its bytes do not match its name
      wrong 1.3.2 (1): saltmarsh.dat, of the depot linux, is damaged or lost
    ------- stderr -------
    error: the store is damaged: 1.3.2 (1) is not whole
      fix: lantern repair
    [exit status: 5]
    ");
    assert_eq!(files(&env.path(".lantern/store")), before, "verify only reads");
    snapshot!(env.lantern(&["repair"]).success().whole(), @"
      damaged: 1 file of the store
      taken: what the exports still have
    repaired: 1.3.2 (1)

    next: lantern verify
    ");
    env.lantern(&["verify"]).success();
    snapshot!(env.lantern(&["repair"]).success().whole(), @"intact: 1 release, everything as it should be: nothing to repair");
}

#[test]
fn what_the_exports_have_no_longer_comes_from_a_storefront() {
    let env = two_releases();
    damage_packs(&env);
    std::fs::remove_dir_all(env.path(".lantern/store/trees")).unwrap();
    std::fs::remove_dir_all(env.path("exports")).unwrap();
    snapshot!(env.lantern(&["repair", "--release", "1.3.2"]).success().whole(), @"
      damaged: 2 files of the store
      fetched: 20.1 kB from brambleyard
    repaired: 1.3.2 (1)

    next: lantern verify
    ");
    env.lantern(&["repair"]).success();
    env.lantern(&["verify"]).success();
    env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"]).success();
}

#[test]
fn what_is_nowhere_is_said_to_be_lost() {
    let env = TestEnv::new();
    env.lantern(&["prepare"]).success();
    damage_packs(&env);
    std::fs::remove_dir_all(env.path("exports")).unwrap();
    env.write("exports/linux/saltmarsh.dat", "another game's");
    snapshot!(env.lantern(&["repair"]).fails(5).whole(), @"
      damaged: 1 file of the store
      careful: brambleyard could not be asked: there is no access to http://127.0.0.1:PORT on this computer
    lost: 1.3.2 (1): saltmarsh.dat, of the depot linux, is damaged or lost
    ------- stderr -------
    error: 1.3.2 (1) cannot be repaired from what is here
      fix: bring back its export, or connect a storefront that has it, then: lantern repair
    [exit status: 5]
    ");
    // What is sound of it was not thrown away: with the old exports back, all of it is whole.
    std::fs::remove_dir_all(env.path("exports")).unwrap();
    env.export(GameVersion::Old);
    env.lantern(&["repair"]).success();
    env.lantern(&["verify"]).success();
}

#[test]
fn damage_is_not_sent_and_what_was_asked_for_is_closed() {
    let env = TestEnv::new();
    env.connect();
    env.lantern(&["prepare"]).success();
    damage_packs(&env);
    let stderr = env.lantern(&["push", "brambleyard", "--yes"]).fails(5).stderr();
    assert!(stderr.contains("is damaged") && stderr.contains("lantern repair"), "{stderr}");
    let there = Store::at(env.path("storefront/titles/saltmarsh-post"));
    assert_eq!(there.packs().unwrap(), []);
    assert_eq!(env.event_kinds().last().unwrap(), "not-done");
    env.lantern(&["repair"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    assert!(there.packs().unwrap().iter().all(|pack| there.is_sound(pack)));
}

#[test]
fn damage_is_healed_by_the_next_release_that_relies_on_it() {
    let env = TestEnv::new();
    env.connect();
    env.lantern(&["prepare"]).success();
    damage_packs(&env);
    env.next_version();
    snapshot!(env.lantern(&["prepare"]).success().whole(), @"
    sealed Saltmarsh Post 1.4.0 (2)

      linux   linux-x86_64   8 files   8.66 MB   starts saltmarsh

      added to the store   4.38 MB  (with what was missing or damaged)
      release id  ID

      warning: a file of the store is damaged: what this release needs of it was taken from the exports again (store-damaged)
      fix: earlier releases may lack something: lantern repair

    next: lantern push brambleyard
    ");
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"]).success();
    env.lantern(&["install", "brambleyard", "open-water", "player", "--target", "linux"]).success();
    // The same exports, read once more, make the first release whole, too.
    let stderr = env.lantern(&["verify"]).fails(5).stderr();
    assert!(stderr.contains("1.3.2 (1)") && !stderr.contains("1.4.0 (2)"), "{stderr}");
    env.export(GameVersion::Old);
    env.write("lantern.toml", &env.config("1.3.2"));
    env.lantern(&["prepare", "--read-all"]).success();
    let stderr = env.lantern(&["verify"]).fails(5).stderr();
    assert!(stderr.contains("no release needs them"), "{stderr}");
    env.lantern(&["repair"]).success();
    env.lantern(&["verify"]).success();
}

/// Although nothing is new.
#[test]
fn what_the_store_lost_comes_back_with_the_next_prepare_which_says_so() {
    let env = TestEnv::new();
    env.lantern(&["prepare"]).success();
    std::fs::remove_dir_all(env.path(".lantern/store/packs")).unwrap();
    snapshot!(env.lantern(&["prepare"]).success().whole(), @"
    nothing changed: Saltmarsh Post 1.3.2 (1) has exactly this content

      warning: files of the store were missing: what this release needs of them was taken from the exports again (store-damaged)
      fix: earlier releases may lack something: lantern repair

    next: lantern connect brambleyard
    ");
    env.lantern(&["verify"]).success();
    assert!(!env.lantern(&["prepare"]).success().whole().contains("store-damaged"));
}

/// It is no warning of the release: nobody finds it again later.
#[test]
fn what_the_store_lost_is_said_once() {
    let env = TestEnv::new();
    env.lantern(&["prepare"]).success();
    std::fs::remove_dir_all(env.path(".lantern/store/packs")).unwrap();
    env.edit("lantern.toml", "1.3.2", "1.4.0");
    let said = env.lantern(&["prepare"]).success().whole();
    assert!(said.contains("(store-damaged)") && said.contains("(with what was missing or damaged)"), "{said}");
    let again = env.lantern(&["prepare"]).success().whole();
    assert!(again.contains("nothing changed") && !again.contains("warning"), "{again}");
}

#[test]
fn keep_copies_no_damage() {
    let env = TestEnv::new();
    env.lantern(&["prepare"]).success();
    // Little of the first release is needed by the second.
    for gone in ["music", "textures"] {
        std::fs::remove_dir_all(env.path(&format!("exports/linux/{gone}"))).unwrap();
    }
    env.write("exports/linux/saltmarsh.dat", "less");
    env.edit("lantern.toml", "1.3.2", "1.4.0");
    env.lantern(&["prepare"]).success();
    let store = Store::at(env.path(".lantern/store"));
    let old = store.packs().unwrap().into_iter().max_by_key(|pack| store.pack_table(pack).unwrap().0).unwrap();
    // Damage in the program, which both have.
    let program = std::fs::read(env.path("exports/linux/saltmarsh")).unwrap();
    let digest = lantern_core::digest::Digest::of(&program);
    let entry = store.pack_table(&old).unwrap().1.into_iter().find(|entry| entry.digest == digest).unwrap();
    let mut bytes = std::fs::read(store.pack_path(&old)).unwrap();
    bytes[entry.offset as usize] ^= 1;
    std::fs::write(store.pack_path(&old), &bytes).unwrap();
    let ran = env.lantern(&["keep", "--last", "1", "--yes"]).fails(5);
    assert!(ran.stderr().contains("is damaged") && ran.stderr().contains("lantern repair"), "{}", ran.stderr());
    assert_eq!(std::fs::read(store.pack_path(&old)).unwrap(), bytes, "what can be saved of it is still there");
    env.lantern(&["repair"]).success();
    env.lantern(&["keep", "--last", "1", "--yes"]).success();
    env.lantern(&["verify"]).success();
}
