//! What is private stays private: what leaves this computer, what a storefront hands out, and to whom.

use std::collections::BTreeSet;
use std::path::Path;

use lantern_core::config::{ProtocolStorefront, StorefrontKind};
use lantern_core::digest::{Digest, RecipeId};
use lantern_core::names::{Handle, Name};
use lantern_store::recipe::different_chunks;
use lantern_store::store::Store;
use lantern_storefront::{Invited, Opening, StorefrontError};

use crate::editions::with_first_tide;
use crate::env::{Ran, TestEnv, copy, holds, paths_without};

/// What the storefront keeps of the game.
fn at_the_place(env: &TestEnv) -> Store {
    Store::at(env.path("storefront/titles/saltmarsh-post"))
}

fn chunks_in(store: &Store) -> BTreeSet<Digest> {
    let packs = store.packs().unwrap();
    packs.iter().flat_map(|pack| store.pack_table(pack).unwrap().1).map(|entry| entry.digest).collect()
}

/// A file that is one chunk, and its digest.
fn small(text: &str) -> Digest {
    Digest::of(text.as_bytes())
}

#[test]
fn files_that_were_taken_out_again_are_never_sent() {
    let env = TestEnv::new();
    env.connect();
    let secret = "the wifi of our studio: ebb-and-flood";
    env.write("exports/linux/credits-draft.txt", secret);
    env.lantern(&["prepare"]).success();
    // Seen in time: taken out, sealed again, and nearly all of the first release's pack is what the next one is made of.
    std::fs::remove_file(env.path("exports/linux/credits-draft.txt")).unwrap();
    env.edit("lantern.toml", "1.3.2", "1.3.3");
    env.lantern(&["prepare"]).success();
    assert!(chunks_in(&Store::at(env.path(".lantern/store"))).contains(&small(secret)));
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    assert!(!chunks_in(&at_the_place(&env)).contains(&small(secret)));
    // The first one goes, and what is left is written once more.
    env.edit("lantern.toml", "1.3.3", "1.3.4");
    env.write("exports/linux/letters/en.txt", "Dear Wren");
    env.lantern(&["prepare"]).success();
    env.lantern(&["keep", "--last", "1", "--yes"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    assert!(!chunks_in(&at_the_place(&env)).contains(&small(secret)));
}

#[test]
fn what_is_kept_aside_and_what_other_targets_have_is_never_sent() {
    let env = TestEnv::new();
    let (symbols, for_others) = ("every name in our program", "press copies only: ends before the last letter");
    env.write("exports/linux/saltmarsh.dbg", symbols);
    copy(&env.path("exports/linux"), &env.path("exports/press"));
    env.write("exports/press/watermark.txt", for_others);
    // What goes with the first release, so that little of each pack is needed afterwards.
    let much: String = (0..200_u64).map(|n| Digest::of(&n.to_le_bytes()).hex()).collect();
    env.write("exports/linux/old.dbg", &much);
    env.write("exports/press/old-kit.txt", &much.replace('a', "z"));
    let config = env.config("1.3.2").replace("must-have", "keep-aside = [\"*.dbg\"]\nmust-have");
    let linux = &config[config.find("[targets.linux]").unwrap()..config.find("[storefronts").unwrap()];
    let config = config.replacen("[storefronts", &format!("{}[storefronts", linux.replace("linux]", "press]")), 1);
    let config = config.replacen("export = \"exports/linux\"", "export = \"exports/press\"", 2);
    let config = config.replacen("export = \"exports/press\"", "export = \"exports/linux\"", 1);
    let config = config.replace("handle = ", "targets = [\"linux\"]\nhandle = ");
    env.write("lantern.toml", &config);
    env.connect();
    let ours = Store::at(env.path(".lantern/store"));
    let of_linux = || -> BTreeSet<Digest> {
        let records = ours.records().unwrap().into_iter().map(|id| ours.record(id).unwrap());
        let targets: Vec<_> = records.flat_map(|record| record.targets).collect();
        let linux = targets.iter().filter(|t| t.target.as_str() == "linux");
        // Of a release that went there is only the record.
        let trees = linux.flat_map(|t| &t.depots).map(|d| d.tree).filter(|tree| ours.recipe_of(*tree).is_ok());
        trees.flat_map(|tree| chunks_of(&ours, tree)).collect()
    };
    env.lantern(&["prepare"]).success();
    assert!([symbols, for_others].iter().all(|text| chunks_in(&ours).contains(&small(text))));
    // Releases go, and what is still needed of their packs is written once more.
    for folder in ["linux", "press"] {
        for gone in ["music", "textures", "saltmarsh.dat", "old.dbg", "old-kit.txt"] {
            let path = env.path(&format!("exports/{folder}/{gone}"));
            match path.is_dir() {
                true => std::fs::remove_dir_all(&path).unwrap(),
                false if path.exists() => std::fs::remove_file(&path).unwrap(),
                false => {}
            }
        }
        env.write(&format!("exports/{folder}/saltmarsh.dat"), "less");
    }
    env.edit("lantern.toml", "1.3.2", "1.4.0");
    env.lantern(&["prepare"]).success();
    env.lantern(&["keep", "--last", "1", "--yes"]).success();
    let packs = ours.packs().unwrap();
    let holding: Vec<_> = packs.iter().map(|pack| ours.pack_table(pack).unwrap().1).collect();
    assert!([symbols, for_others].iter().all(|text| chunks_in(&ours).contains(&small(text))));
    let mixed = holding.iter().find(|entries| {
        let has = |chunk: &Digest| entries.iter().any(|entry| entry.digest == *chunk);
        (has(&small(symbols)) || has(&small(for_others))) && of_linux().iter().any(has)
    });
    assert!(mixed.is_none(), "{mixed:?}");
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    assert_eq!(chunks_in(&at_the_place(&env)), of_linux());
}

fn chunks_of(store: &Store, tree: lantern_core::digest::TreeId) -> Vec<Digest> {
    different_chunks(&store.recipe(store.recipe_of(tree).unwrap()).unwrap().1)
}

/// Everything that one of those who ask got, of everything there is.
#[derive(Debug, Default, PartialEq, Eq)]
struct Got {
    recipes: BTreeSet<RecipeId>,
    locators: BTreeSet<Digest>,
    segments: BTreeSet<Digest>,
    chunks: BTreeSet<Digest>,
}

/// Asks for every object of every build that a storefront has.
fn ask_for_everything(env: &TestEnv, branch: &str, invited: Option<Invited>) -> Got {
    let kind = StorefrontKind::Protocol(ProtocolStorefront { address: env.running().origin() });
    let at = lantern_storefront::open(&kind, Opening { invited, ..Opening::default() }).unwrap();
    let player = at.player().unwrap();
    let (title, branch): (Handle, Name) = ("saltmarsh-post".parse().unwrap(), branch.parse().unwrap());
    let had = |asked: Result<Vec<u8>, StorefrontError>| match asked {
        Ok(_) => true,
        Err(StorefrontError::Refused(_)) => false,
        Err(error) => panic!("{error}"),
    };
    let store = at_the_place(env);
    let mut got = Got::default();
    for recipe in store.recipes().unwrap() {
        if had(player.recipe(&title, &branch, recipe)) {
            got.recipes.insert(recipe);
        }
        for segment in store.recipe_root(recipe).unwrap().segments {
            if had(player.segment(&title, &branch, &segment.digest)) {
                got.segments.insert(segment.digest);
            }
            if had(player.locator(&title, &branch, &segment.digest)) {
                got.locators.insert(segment.digest);
            }
        }
    }
    for pack in store.packs().unwrap() {
        let (len, entries) = store.pack_table(&pack).unwrap();
        for entry in &entries {
            if had(player.pack(&title, &branch, &pack, entry.offset, entry.stored_len)) {
                got.chunks.insert(entry.digest);
            }
        }
        // What lies around the chunks says what else is in the pack.
        assert!(!had(player.pack(&title, &branch, &pack, 0, len)), "a whole pack");
        assert!(!had(player.pack(&title, &branch, &pack, len - 8, 8)), "the end of a pack");
    }
    got
}

/// What there is of these depots of these releases.
fn of(store: &Store, releases: &[&str], depots: &[&str]) -> Got {
    let mut got = Got::default();
    for id in store.records().unwrap() {
        let record = store.record(id).unwrap();
        if !releases.contains(&record.name().to_string().as_str()) {
            continue;
        }
        for depot in record.targets.iter().flat_map(|t| &t.depots).filter(|d| depots.contains(&d.depot.as_str())) {
            let recipe = store.recipe_of(depot.tree).unwrap();
            got.recipes.insert(recipe);
            let segments = store.recipe_root(recipe).unwrap().segments;
            got.locators.extend(segments.iter().filter(|s| s.chunks > 0).map(|s| s.digest));
            got.segments.extend(segments.iter().map(|s| s.digest));
            got.chunks.extend(chunks_of(store, depot.tree));
        }
    }
    got
}

#[test]
fn strangers_get_what_is_theirs_and_nothing_else() {
    let env = with_first_tide();
    env.make_an_add_on_of_voices_ja();
    env.edit("lantern.toml", "[targets.linux]", crate::env::TRIED_VERSIONS);
    let push = |version: &str, number: u64, branches: &[&str]| {
        env.write("exports/linux/letters/en.txt", &format!("Dear Wren, this is {version}."));
        for system in ["windows", "macos", "linux"] {
            let letters = format!("{version} in Japanese").repeat(50);
            env.write(&format!("exports/{system}/voices/ja/letters.snd"), &letters);
        }
        env.edit("lantern.toml", "version = \"1.", &format!("version = \"{version}\" # 1."));
        env.lantern(&["prepare", "--edition", "full"]).success();
        env.lantern(&["push", "brambleyard", "--edition", "full", "--yes"]).success();
        for branch in branches {
            let name = format!("{version} ({number})");
            let promote = ["promote", "brambleyard", branch, "--edition", "full", "--confirm", &name];
            env.lantern(&promote).success();
            env.pass_hours(24);
        }
    };
    let all = ["creek", "open-water"];
    push("1.5.0", 1, &all);
    push("1.5.1", 2, &all);
    push("1.5.2", 3, &all);
    push("1.6.0", 4, &all[..1]);
    push("1.7.0", 5, &[]);
    // The third turned out bad: everybody went back, and it was withdrawn.
    let back = ["rollback", "brambleyard", "open-water", "--edition", "full", "--confirm", "1.5.1 (2)"];
    env.lantern(&back).success();
    env.lantern(&["releases", "withdraw", "3", "--because", "it eats saved games", "--yes"]).success();
    let ours = Store::at(env.path(".lantern/store"));
    let open = ["linux", "macos", "windows", "voices-en", "voices-fr"];
    let with_owned = [&open[..], &["voices-ja"]].concat();

    assert_eq!(ask_for_everything(&env, "open-water", None), of(&ours, &["1.5.0 (1)", "1.5.1 (2)"], &open));
    assert_eq!(ask_for_everything(&env, "creek", None), Got::default(), "creek is for those who were invited");
    let invite = |branch: &str, more: &[&str]| {
        let all =
            [&["invite", "brambleyard", branch, "--edition", "full", "--for", "testers", "--json"], more].concat();
        let made = env.lantern(&all).success().json();
        Some(Invited { invitation: made["invitation"].as_str().unwrap().parse().unwrap(), folder: "one".to_owned() })
    };
    let tester = invite("creek", &[]);
    let owner = invite("creek", &["--owns", "songs"]);
    let owner_of_the_open_line = invite("open-water", &["--owns", "songs"]);
    let on_creek = ["1.5.0 (1)", "1.5.1 (2)", "1.6.0 (4)"];
    assert_eq!(ask_for_everything(&env, "creek", tester.clone()), of(&ours, &on_creek, &open));
    assert_eq!(ask_for_everything(&env, "creek", owner), of(&ours, &on_creek, &with_owned));
    let open_line = ["1.5.0 (1)", "1.5.1 (2)"];
    let owned = ask_for_everything(&env, "open-water", owner_of_the_open_line);
    assert_eq!(owned, of(&ours, &open_line, &with_owned));
    // An invitation is one to a branch; to another it is none, and what everybody has needs none.
    assert_eq!(ask_for_everything(&env, "open-water", tester), of(&ours, &open_line, &open));
    // Nobody got what never left the studio or was never promoted.
    let never = of(&ours, &["1.7.0 (5)"], &with_owned).recipes;
    assert!(never.iter().any(|recipe| !owned.recipes.contains(recipe)), "{never:?}");
}

/// Every file below a folder that holds a text.
fn files_with(folder: &Path, text: &str) -> Vec<String> {
    let all = paths_without(folder, &[]).into_iter();
    all.filter(|(_, path)| holds(&std::fs::read(path).unwrap(), text)).map(|(name, _)| name).collect()
}

const INSTALL: [&str; 6] = ["install", "brambleyard", "creek", "player", "--target", "linux"];

/// A game on the testers' line, and a tester's own computer: a project that knows the storefront, without access.
fn with_testers() -> TestEnv {
    let env = TestEnv::desktops();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "creek", "--yes"]).success();
    std::fs::create_dir(env.path("tester")).unwrap();
    std::fs::copy(env.path("lantern.toml"), env.path("tester/lantern.toml")).unwrap();
    env
}

fn as_tester(env: &TestEnv, arguments: &[&str]) -> Ran {
    let mut command = env.command_in("tester", arguments);
    command.env("LANTERN_HOME", env.path("tester/home")).env_remove("LANTERN_SECRET");
    Ran { output: command.output().unwrap() }
}

fn invite(env: &TestEnv, more: &[&str]) -> (String, String) {
    let made = env.lantern(&[&["invite", "brambleyard", "creek", "--json"], more].concat()).success().json();
    let text = |field: &str| made[field].as_str().unwrap().to_owned();
    (text("invitation"), text("id"))
}

#[test]
fn testers_are_invited_and_nobody_else_gets_in() {
    let env = with_testers();
    snapshot!(as_tester(&env, &INSTALL).fails(3).whole(), @"
    ------- stderr -------
    error: brambleyard: creek is for those who were invited
      fix: ask the maker of the game for an invitation, then install with --invitation TEXT
      fix: if you are the maker of the game: lantern connect brambleyard
    [exit status: 3]
    ");
    assert!(!env.path("tester/player").exists(), "nothing half-made is left");
    let made = env.lantern(&["invite", "brambleyard", "creek", "--for", "Marsh testers", "--until", "2031-01-31"]);
    snapshot!(made.success().whole(), @"
    invited Marsh testers to creek at Brambleyard, until 2031-01-31

      b7d2-a544-pvky-rtnc-x6et-18rd-q4kf

      It is shown this once, and kept nowhere. Testers install with:
      lantern install brambleyard creek DIR --invitation b7d2-a544-pvky-rtnc-x6et-18rd-q4kf

    next: lantern invite brambleyard creek   lists the invitations
    ");
    let (text, id) = invite(&env, &["--for", "Marsh testers", "--copies", "1"]);
    snapshot!(as_tester(&env, &[&INSTALL[..], &["--invitation", &text]].concat()).success().whole(), @"
    installed Saltmarsh Post 1.3.2 (1) in player
      choices: voices=none
      4.64 MB downloaded, 10 files written, all 10 files checked, 9.17 MB
    ");
    // It is kept by the folder, and used for what comes next.
    env.write("exports/linux/letters/en.txt", "Dear Aldous, the lighthouse is lit.");
    env.edit("lantern.toml", "1.3.2", "1.4.0");
    env.edit("lantern.toml", "[targets.linux]", crate::env::TRIED_VERSIONS);
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "creek", "--yes"]).success();
    let ran = as_tester(&env, &INSTALL).success();
    assert!(ran.stdout().starts_with("updated 1.3.2 (1) to Saltmarsh Post 1.4.0 (2)"), "{}", ran.stdout());
    // One copy, it was said; a second one is not let in.
    let other = ["install", "brambleyard", "creek", "other", "--target", "linux", "--invitation", &text];
    snapshot!(as_tester(&env, &other).fails(3).whole(), @"
    ------- stderr -------
    error: brambleyard: this invitation is for one copy, and one is installed already
      fix: ask the maker of the game for another one, then install with --invitation TEXT
      fix: if you are the maker of the game: lantern connect brambleyard
    [exit status: 3]
    ");
    let mut settings = insta::Settings::clone_current();
    settings.add_filter(r"(?m)^( *)[0-9a-f]{8}\b", "${1}ID      ");
    settings.add_filter(r"(?m)\d{4}-\d\d-\d\d$", "YYYY-MM-DD");
    settings.bind(|| {
        snapshot!(env.lantern(&["invite", "brambleyard", "creek"]).success().whole(), @"
        invitations to creek at Brambleyard

          id         for             until        used by         last used
          ID         Marsh testers   2031-01-31   0 copies        never
          ID         Marsh testers   no end       1 of 1 copies   YYYY-MM-DD

        next: lantern invite brambleyard creek --end ID   ends one
        ");
    });
    // Ended, no update comes; what is there stays as it is.
    env.lantern(&["invite", "brambleyard", "creek", "--end", &id]).success();
    let stderr = as_tester(&env, &INSTALL).fails(3).stderr();
    assert!(stderr.contains("this invitation was ended by the maker of the game"), "{stderr}");
    as_tester(&env, &["verify", "player"]).success();
    let kinds = env.event_kinds();
    assert_eq!(kinds.iter().filter(|kind| *kind == "invited" || *kind == "invitation-ended").count(), 3, "{kinds:?}");
}

#[test]
fn an_invitation_stands_in_one_file_alone() {
    let env = with_testers();
    let (text, _) = invite(&env, &["--for", "Marsh testers"]);
    as_tester(&env, &[&INSTALL[..], &["--invitation", &text]].concat()).success();
    let typed = text.to_uppercase().replace('-', " ");
    as_tester(&env, &["install", "brambleyard", "creek", "other", "--target", "linux", "--invitation", &typed])
        .success();
    let kept = ["tester/other/.lantern-install/private.json", "tester/player/.lantern-install/private.json"];
    let mut found = files_with(&env.path("."), &text);
    found.sort();
    assert_eq!(found, kept);
    assert_eq!(files_with(&env.path("."), &typed), Vec::<String>::new());
    for ran in [
        as_tester(&env, &["help-me"]),
        env.lantern(&["help-me"]),
        as_tester(&env, &["verify", "player", "--json"]),
        env.lantern(&["invite", "brambleyard", "creek", "--json"]),
        env.lantern(&["history", "--all", "--json"]),
        as_tester(&env, &[&INSTALL[..], &["--json"]].concat()),
    ] {
        let ran = ran.success();
        assert!(!ran.whole().contains(&text) && !ran.whole().contains(&typed), "{}", ran.whole());
    }
    #[cfg(unix)]
    for path in kept {
        use std::os::unix::fs::PermissionsExt;
        let mode = std::fs::metadata(env.path(path)).unwrap().permissions().mode();
        assert_eq!(mode & 0o077, 0, "{path}: others on this computer can read it");
    }
    // What is mistyped is not repeated either.
    let other = if text.starts_with('7') { '8' } else { '7' };
    let mistyped = format!("{other}{}", &text[1..]);
    let stderr = as_tester(&env, &[&INSTALL[..], &["--invitation", &mistyped]].concat()).fails(2).stderr();
    assert!(stderr.contains("mistyped") && !stderr.contains(&mistyped[5..]), "{stderr}");
    assert_eq!(files_with(&env.path("."), &mistyped), Vec::<String>::new());
}

#[test]
fn invitations_end_by_themselves() {
    let env = with_testers();
    let (text, _) = invite(&env, &["--for", "Mika", "--until", "2026-11-28"]);
    as_tester(&env, &[&INSTALL[..], &["--invitation", &text]].concat()).success();
    let past = env.lantern(&["invite", "brambleyard", "creek", "--for", "Mika", "--until", "2026-01-01"]);
    assert!(past.fails(2).stderr().contains("would have ended already"));
    // Still on the last day, and then a day later.
    env.running().stand_in().pass_time(jiff::SignedDuration::from_hours(24));
    as_tester(&env, &INSTALL).success();
    env.running().stand_in().pass_time(jiff::SignedDuration::from_hours(24));
    let stderr = as_tester(&env, &INSTALL).fails(3).stderr();
    assert!(stderr.contains("this invitation ended on 2026-11-28"), "{stderr}");
}

#[test]
fn what_someone_owns_is_proved() {
    let env = with_first_tide();
    env.make_an_add_on_of_voices_ja();
    let full = ["--edition", "full"];
    env.lantern(&[&["prepare"], &full[..]].concat()).success();
    env.lantern(&[&["push", "brambleyard", "--yes"], &full[..]].concat()).success();
    for branch in ["creek", "open-water"] {
        let promote = ["promote", "brambleyard", branch, "--confirm", "1.3.2 (1)"];
        env.lantern(&[&promote, &full[..]].concat()).success();
        env.pass_hours(24);
    }
    std::fs::create_dir(env.path("tester")).unwrap();
    std::fs::copy(env.path("lantern.toml"), env.path("tester/lantern.toml")).unwrap();
    let install = ["install", "brambleyard", "open-water", "player", "--target", "linux", "--edition", "full"];
    let with = |more: &[&str]| as_tester(&env, &[&install, more].concat());
    snapshot!(with(&["--add-on", "songs"]).fails(3).whole(), @"
    ------- stderr -------
    error: brambleyard: this is for those who own songs
      fix: an invitation can state that the player owns it: install with --invitation TEXT
      fix: to install without it: --add-on none
    [exit status: 3]
    ");
    let made = ["invite", "brambleyard", "open-water", "--for", "Mika", "--json"];
    env.lantern(&[&made, &full[..]].concat()).fails(2);
    let made = env.lantern(&[&made, &full[..], &["--owns", "songs"]].concat()).success().json();
    let invitation = made["invitation"].as_str().unwrap();
    with(&["--add-on", "songs", "--invitation", invitation]).success();
    assert!(env.path("tester/player/voices/ja/letters.snd").is_file());
    // Once it has ended, what everybody has still comes; what was owned says why it does not.
    env.lantern(&[&["invite", "brambleyard", "open-water", "--end", "Mika"], &full[..]].concat()).success();
    std::fs::remove_file(env.path("tester/player/voices/ja/letters.snd")).unwrap();
    let stderr = with(&[]).fails(3).stderr();
    assert!(stderr.contains("those who own songs, and this invitation was ended"), "{stderr}");
    with(&["--add-on", "none"]).success();
}
