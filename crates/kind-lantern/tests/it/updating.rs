//! Update files, from push to player.

use std::path::Path;

use lantern_core::config::{ProtocolStorefront, StorefrontKind};
use lantern_core::digest::{Digest, RecipeId};
use lantern_core::names::Name;
use lantern_rehearsal::exports::GameVersion;
use lantern_rehearsal::stand_in::StandInDocument;
use lantern_storefront::{Opening, StorefrontError};
use serde_json::Value;

use crate::env::{TestEnv, files};

const INSTALL: [&str; 6] = ["install", "brambleyard", "open-water", "player", "--target", "linux"];

/// Bytes that look random and are the same everywhere.
fn noise(seed: u64, len: usize) -> Vec<u8> {
    let mut state = seed;
    let next = |_| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 56) as u8
    };
    (0..len).map(next).collect()
}

/// A file that is edited in many places, otherwise for each `edit`.
fn edited(edit: u8) -> Vec<u8> {
    let mut pack = noise(7, 900_000);
    for at in (1_000..900_000).step_by(30_000) {
        pack[at] ^= edit;
    }
    pack
}

/// The next version: one file more than the chunks of an edit take, edited in many places.
fn edit(env: &TestEnv) {
    env.export(GameVersion::New);
    env.write_bytes("exports/linux/marsh.pak", &edited(0x55));
    env.write("lantern.toml", &env.config("1.4.0"));
}

fn first(env: &TestEnv) {
    env.write_bytes("exports/linux/marsh.pak", &noise(7, 900_000));
    env.connect();
    env.release("1.3.2 (1)");
}

/// The first release is live and installed, the next one prepared.
fn next_prepared() -> TestEnv {
    let env = TestEnv::new();
    first(&env);
    env.lantern(&INSTALL).success();
    edit(&env);
    env.lantern(&["prepare"]).success();
    env
}

fn update_files(folder: &Path) -> usize {
    files(folder).keys().filter(|path| path.contains("updates/")).count()
}

#[test]
fn a_push_brings_one_and_players_take_it() {
    let env = next_prepared();
    let pushed = env.lantern(&["push", "brambleyard", "--yes", "--json"]).success().json();
    let update = &pushed["pushes"][0]["updates"][0];
    assert_eq!(update["from"]["version"], "1.3.2");
    let (bytes, chunks) = (update["bytes"].as_u64().unwrap(), update["chunk_bytes"].as_u64().unwrap());
    assert!(chunks > 800_000 && bytes < chunks / 5, "{bytes} of {chunks}");
    let plan = env.lantern(&["promote", "brambleyard", "open-water", "--plan", "--json"]).success().json();
    // With what the recipe of the new build takes.
    let update_bytes = plan["changes"][0]["update_bytes"].as_u64().unwrap();
    assert!((bytes + 1..bytes + 20_000).contains(&update_bytes), "{plan}");
    env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"]).success();
    env.write("player/saves/one.sav", "my punt");
    let updated = env.lantern(&[&INSTALL[..], &["--json"]].concat()).success().json();
    assert_eq!(updated["received_bytes"], update_bytes, "{updated}");
    assert_eq!(env.read("player/saves/one.sav"), b"my punt");
    env.lantern(&["verify", "player"]).success();
    std::fs::remove_dir_all(env.path("player/saves")).unwrap();
    let kept = files(&env.path("exports/linux"));
    let kept = kept.into_iter().filter(|(path, _)| !path.starts_with("notes/"));
    assert!(files(&env.path("player")) == kept.collect());
}

/// A new player gets all of it as chunks, also those that the storefront put together.
#[test]
fn a_push_sends_it_in_place_of_chunks() {
    let env = next_prepared();
    let plan = env.lantern(&["push", "brambleyard", "--plan", "--json"]).success().json();
    let pushed = env.lantern(&["push", "brambleyard", "--yes", "--json"]).success().json();
    let pushed = &pushed["pushes"][0];
    let (upload, sent) = (&plan["pushes"][0]["upload_bytes"], &pushed["sent_bytes"]);
    assert_eq!(upload, sent);
    assert!(sent.as_u64().unwrap() * 4 < pushed["updates"][0]["chunk_bytes"].as_u64().unwrap(), "{pushed}");
    let moved = env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)", "--json"]);
    let other = INSTALL.map(|word| if word == "player" { "other-player" } else { word });
    let installed = env.lantern(&[&other[..], &["--json"]].concat()).success().json();
    assert_eq!(installed["received_bytes"], moved.success().json()["changes"][0]["whole_bytes"], "{installed}");
    env.lantern(&["verify", "other-player"]).success();
    assert!(env.read("other-player/marsh.pak") == env.read("exports/linux/marsh.pak"));
}

/// A depot that the storefront has as it is needs neither chunks nor an update file, whatever it was before.
#[test]
fn nothing_is_counted_of_a_depot_that_did_not_change() {
    let env = TestEnv::desktops();
    let release = |linux: u8, windows: u8| {
        env.write_bytes("exports/linux/marsh.pak", &edited(linux));
        env.write_bytes("exports/windows/marsh.pak", &edited(windows));
        env.lantern(&["prepare"]).success();
        env.lantern(&["push", "brambleyard", "--yes", "--json"]).success().json()["pushes"][0].clone()
    };
    release(1, 1);
    release(2, 1);
    let pushed = release(2, 3);
    assert_eq!(pushed["upload_bytes"], pushed["sent_bytes"], "{pushed}");
}

/// Depots that have much of their new content in common: players of each get an update file, and nothing comes as chunks that is in one.
#[test]
fn what_depots_have_in_common_comes_out_of_update_files() {
    let env = TestEnv::desktops();
    let push = |version: &str| {
        env.lantern(&["prepare", "--version", version]).success();
        env.lantern(&["push", "brambleyard", "--yes", "--json"]).success().json()["pushes"][0].clone()
    };
    push("1.3.2");
    env.export_desktops(GameVersion::Candidate);
    let pushed = push("1.4.0-rc");
    let bytes = |value: &Value| value.as_u64().unwrap();
    let updates: u64 = pushed["updates"].as_array().unwrap().iter().map(|update| bytes(&update["bytes"])).sum();
    assert_eq!(pushed["upload_bytes"], pushed["sent_bytes"], "{pushed}");
    assert!(bytes(&pushed["sent_bytes"]) < updates + 200_000, "{pushed}");
    assert_eq!(pushed["sent_after_bytes"], 0, "{pushed}");
}

/// Players who skipped a release get an update file, too, and the plan says so.
#[test]
fn what_travels_after_the_build_is_said_before() {
    let env = TestEnv::desktops();
    let release = |edit: u8, flag: &str| {
        env.write_bytes("exports/linux/marsh.pak", &edited(edit));
        env.lantern(&["prepare"]).success();
        env.lantern(&["push", "brambleyard", flag, "--json"]).success().json()["pushes"][0].clone()
    };
    release(1, "--yes");
    release(2, "--yes");
    let plan = release(3, "--plan");
    assert_eq!(plan["updates_after"][0]["number"], 1, "{plan}");
    let pushed = release(3, "--yes");
    assert_eq!(pushed["updates"].as_array().unwrap().len(), 2, "{pushed}");
    assert_eq!(pushed["sent_after_bytes"], pushed["updates"][1]["bytes"], "{pushed}");
}

#[test]
fn what_a_storefront_cannot_put_together_comes_as_chunks() {
    let env = next_prepared();
    std::fs::remove_dir_all(env.path("storefront/titles/saltmarsh-post/packs")).unwrap();
    let pushed = env.lantern(&["push", "brambleyard", "--yes", "--json"]).success().json();
    let pushed = &pushed["pushes"][0];
    let (upload, sent) = (pushed["upload_bytes"].as_u64().unwrap(), pushed["sent_bytes"].as_u64().unwrap());
    assert!(sent > upload + pushed["updates"][0]["chunk_bytes"].as_u64().unwrap() / 2, "{pushed}");
}

#[test]
fn what_a_push_could_not_bring_comes_with_the_promotion() {
    let env = next_prepared();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    let place = env.path("storefront/titles/saltmarsh-post/updates");
    assert_eq!(update_files(&env.path("storefront")), 1);
    std::fs::remove_dir_all(&place).unwrap();
    let promoted = env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"]).success();
    assert!(promoted.stdout().contains("update files from 1.3.2 (1)"), "{}", promoted.whole());
    assert_eq!(update_files(&env.path("storefront")), 1);
    // Back needs none, and brings none.
    env.lantern(&["rollback", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"]).success();
    assert_eq!(update_files(&env.path("storefront")), 1);
    env.lantern(&INSTALL).success();
    env.lantern(&["verify", "player"]).success();
}

#[test]
fn a_damaged_one_is_no_loss() {
    let env = next_prepared();
    env.release("1.4.0 (2)");
    let place = env.path("storefront/titles/saltmarsh-post/updates");
    let path = crate::env::paths(&place).into_values().next().unwrap();
    let mut bytes = std::fs::read(&path).unwrap();
    for byte in bytes.iter_mut().step_by(50) {
        *byte ^= 1;
    }
    std::fs::write(&path, bytes).unwrap();
    env.lantern(&INSTALL).success();
    env.lantern(&["verify", "player"]).success();
    assert!(env.lantern(&["live"]).success().stdout().contains("1.4.0"));
}

/// Who keeps a build keeps its update files, and with it they go.
#[test]
fn they_go_with_their_builds() {
    let env = TestEnv::new();
    first(&env);
    edit(&env);
    env.release("1.4.0 (2)");
    assert_eq!(update_files(&env.path(".lantern/store")), 1);
    env.lantern(&["keep", "--last", "1", "--live-within", "0", "--yes"]).success();
    assert_eq!(update_files(&env.path(".lantern/store")), 0);
    env.lantern(&["verify"]).success();
}

/// What is on a branch for testers alone is not handed out to everybody, in no form.
#[test]
fn a_testers_build_leaves_by_no_update_file() {
    let mut env = TestEnv::without_storefront();
    let mut document = StandInDocument::brambleyard();
    document.rules.branches.fixed.iter_mut().for_each(|branch| branch.carried = None);
    env.open_stand_in(document, 0);
    env.make_title();
    let config = env.config("1.3.2") + "creek = { audience = \"invited\" }\n";
    env.write("lantern.toml", &config);
    env.write_bytes("exports/linux/marsh.pak", &noise(7, 900_000));
    env.connect();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "creek", "--confirm", "1.3.2 (1)"]).success();
    edit(&env);
    env.write("lantern.toml", &config.replace("1.3.2", "1.4.0"));
    env.release("1.4.0 (2)");
    let place = env.path("storefront/titles/saltmarsh-post/updates");
    let (to_and_from, _) = files(&place).into_iter().next().unwrap();
    let (to, from) = to_and_from.split_once('/').unwrap();
    let id = |hex: &str| RecipeId(Digest::from_hex(hex).unwrap());
    let (from, to) = (id(from), id(to));
    let kind = StorefrontKind::Protocol(ProtocolStorefront { address: env.running().origin() });
    let at = lantern_storefront::open(&kind, Opening::default()).unwrap();
    let player = at.player().unwrap();
    let title = "saltmarsh-post".parse().unwrap();
    let refusal = |result: Result<Vec<u8>, StorefrontError>| match result {
        Err(StorefrontError::Refused(problem)) => problem.kind,
        other => panic!("{other:?}"),
    };
    let [open, closed] = ["open-water", "creek"].map(|name| name.parse::<Name>().unwrap());
    // Not even that there is something is said.
    let play = player.branch(&title, &open).unwrap();
    let depots = play.builds.values().flat_map(|target| &target.depots);
    assert!(depots.into_iter().all(|depot| depot.updates.is_empty()), "{play:?}");
    // 1.4.0 is for everybody, 1.3.2 never was; a difference between the two says something of both.
    player.recipe(&title, &open, to).unwrap();
    assert_eq!(refusal(player.recipe(&title, &open, from)), "/problems/not-found");
    assert_eq!(refusal(player.update(&title, &open, (from, to), 0, 10)), "/problems/not-found");
    assert_eq!(refusal(player.update(&title, &closed, (from, to), 0, 10)), "/problems/not-invited");
}
