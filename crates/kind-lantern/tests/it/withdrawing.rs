//! Withdrawing, lines that wait, and several storefronts at once.

use lantern_rehearsal::exports::GameVersion;
use lantern_rehearsal::stand_in::StandInDocument;

use crate::env::TestEnv;

fn promoted_to_creek() -> TestEnv {
    let env = TestEnv::desktops();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "creek", "--yes"]).success();
    env
}

fn candidate(env: &TestEnv) {
    env.export_desktops(GameVersion::Candidate);
    env.lantern(&["prepare", "--version", "1.4.0-rc"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "creek", "--yes"]).success();
}

#[test]
fn everyones_line_takes_what_testers_have_had_for_a_day() {
    let env = TestEnv::desktops();
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"]).whole(), @"
    ------- stderr -------
    error: brambleyard does not accept this
      why: 1.3.2 (1) has not been on creek yet; open-water takes what creek has had for 24 hours
      fix: promote it to creek first
    [exit status: 3]
    ");
    env.lantern(&["promote", "brambleyard", "creek", "--yes"]).success();
    env.pass_hours(23);
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"]).whole(), @"
    ------- stderr -------
    error: brambleyard does not accept this
      why: 1.3.2 (1) has been on creek for 23 h 1 min; open-water takes what creek has had for 24 hours
      fix: wait 59 min more
    [exit status: 3]
    ");
    env.pass_hours(1);
    env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"]).success();
    snapshot!(env.lantern(&["live"]).whole(), @"
    Saltmarsh Post

      brambleyard   newest sealed: 1.3.2 (1)
        creek        1.3.2 (1)   newest
                     linux, macos, windows
                     since 2026-11-27 10:05 by paper-heron, number there 1
        open-water   1.3.2 (1)   newest
                     linux, macos, windows
                     since 2026-11-28 10:07 by paper-heron, number there 1

    next: lantern install brambleyard open-water DIR   gets it as a player does
    ");
}

#[test]
fn a_withdrawn_release_goes_nowhere_any_more() {
    let env = promoted_to_creek();
    candidate(&env);
    let withdraw = |more: &[&str]| env.lantern(&[&["releases", "withdraw", "1.4.0-rc"], more].concat());
    snapshot!(withdraw(&["--because", "a save bug", "--plan"]).whole(), @"
    Withdraw 1.4.0-rc (2) for good

      because        a save bug
      withdrawn at   brambleyard

      still live: players on creek at brambleyard have it until the branch moves
      withdrawing moves no branch: roll it back, or promote another release
    ");
    assert!(withdraw(&["--yes"]).fails(7).stderr().contains("--because"));
    withdraw(&["--because", "a save bug", "--yes"]).success();
    snapshot!(withdraw(&["--yes"]).whole(), @"nothing to do: 1.4.0-rc (2) is withdrawn everywhere");
    snapshot!(env.lantern(&["promote", "brambleyard", "open-water", "2", "--yes"]).whole(), @"
    ------- stderr -------
    error: 1.4.0-rc (2) was withdrawn: a save bug
      fix: fix it, raise the version, and prepare again
    [exit status: 3]
    ");
    snapshot!(env.lantern(&["live"]).whole(), @"
    Saltmarsh Post

      brambleyard   newest sealed: 1.3.2 (1)
        creek        1.4.0-rc (2)   withdrawn: a save bug
                     linux, macos, windows
                     since 2026-11-27 10:07 by paper-heron, number there 2
        open-water   nothing yet

    next: lantern rollback brambleyard creek
    ");
    // Going back passes over it, and it cannot come back by going back.
    env.lantern(&["rollback", "brambleyard", "creek", "--yes"]).success();
    env.export_desktops(GameVersion::New);
    env.lantern(&["prepare", "--version", "1.4.0"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "creek", "--yes"]).success();
    let plan = env.lantern(&["rollback", "brambleyard", "creek", "--plan", "--json"]).success().json();
    assert_eq!(plan["release"]["version"], "1.3.2");
    assert!(!env.event_kinds().contains(&"not-done".to_owned()));
}

#[test]
fn the_storefront_itself_refuses_what_was_withdrawn() {
    let env = promoted_to_creek();
    candidate(&env);
    env.lantern(&["releases", "withdraw", "2", "--because", "a save bug", "--yes"]).success();
    // Another computer of the team knows nothing of it until it asks.
    std::fs::remove_dir_all(env.path(".lantern")).unwrap();
    let live = env.lantern(&["live", "--json"]).success().json();
    assert_eq!(live["storefronts"][0]["branches"][0]["targets"]["linux"]["withdrawn"], "a save bug");
}

#[test]
fn a_storefront_that_cannot_be_told_is_told_later() {
    let mut env = promoted_to_creek();
    env.pass_hours(24);
    env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"]).success();
    let port = env.close_storefront();
    let first = env.lantern(&["releases", "withdraw", "1", "--because", "a save bug", "--yes"]).fails(4);
    assert!(first.stdout().contains("players on creek, open-water at brambleyard have it"), "{}", first.whole());
    assert!(first.stdout().contains("brambleyard could not be reached"), "{}", first.whole());
    assert!(env.lantern(&["releases"]).success().stdout().contains("withdrawn: a save bug"));
    env.open_stand_in(StandInDocument::brambleyard(), port);
    env.lantern(&["releases", "withdraw", "1", "--yes"]).success();
    let again = env.lantern(&["releases", "withdraw", "1", "--yes", "--json"]).success().json();
    assert_eq!((&again["done"], &again["because"]), (&true.into(), &"a save bug".into()));
}

#[test]
fn several_storefronts_in_one_go() {
    let mut env = TestEnv::desktops();
    let first = env.running().origin();
    let mut other = TestEnv::desktops();
    let more = String::from_utf8(other.read("lantern.toml")).unwrap();
    let more = more[more.find("[storefronts.brambleyard]").unwrap()..].replace("brambleyard", "wrackline");
    let text = String::from_utf8(env.read("lantern.toml")).unwrap();
    env.write("lantern.toml", &format!("{text}\n{more}"));
    let secret = other.running().stand_in().secret().to_owned();
    let connect = ["connect", "wrackline", "--client", "paper-heron"];
    assert!(env.command(&connect).env("LANTERN_SECRET", secret).output().unwrap().status.success());
    env.lantern(&["prepare"]).success();
    let plan = env.lantern(&["push", "brambleyard,wrackline", "--plan"]).success().stdout();
    assert!(plan.contains("to Brambleyard\n") && plan.contains("to Brambleyard (wrackline)\n"), "{plan}");
    let commas = env.lantern(&["push", "brambleyard", "wrackline"]).fails(2).stderr();
    assert!(commas.contains("joined by commas: STOREFRONT,wrackline"), "{commas}");
    let done = env.lantern(&["push", "brambleyard,wrackline", "--yes", "--json"]).success().json();
    let sent: Vec<bool> = done["pushes"].as_array().unwrap().iter().map(|p| p["done"] == true).collect();
    assert_eq!(sent, [true, true]);
    assert!(env.lantern(&["push", "brambleyard,brambleyard"]).fails(2).stderr().contains("is given twice"));
    assert!(env.lantern(&["push", "brambleyard,nowhere"]).fails(2).stderr().contains("nowhere"));
    // One that does not answer stops the plan: nothing is sent anywhere before all of it is known.
    env.edit("exports/linux/letters/en.txt", "Dear Wren", "Dear Aldous");
    env.lantern(&["prepare"]).success();
    other.close_storefront();
    env.lantern(&["push", "brambleyard,wrackline", "--yes"]).fails(4);
    let live = env.lantern(&["history", "--storefront", "brambleyard", "--release", "2", "--json"]).success().json();
    assert_eq!(live["total"], 0, "{live} {first}");
    env.close_storefront();
}

#[test]
fn history_can_be_narrowed() {
    let env = promoted_to_creek();
    candidate(&env);
    snapshot!(env.lantern(&["history", "--branch", "creek"]).whole(), @"
    UTC
    2026-11-27 10:07:00   wren   put 1.4.0-rc (2) on creek at brambleyard
    2026-11-27 10:04:00   wren   put 1.3.2 (1) on creek at brambleyard
    2026-11-27 10:01:00   wren   saw the branch creek at brambleyard, with nothing on it yet
    ");
    snapshot!(env.lantern(&["history", "--release", "1.4.0-rc"]).whole(), @"
    UTC
    2026-11-27 10:07:00   wren   put 1.4.0-rc (2) on creek at brambleyard
    2026-11-27 10:06:00   wren   pushed 1.4.0-rc (2) to brambleyard, number there 2, 504 kB
    2026-11-27 10:05:00   wren   sealed 1.4.0-rc (2)
    ");
    snapshot!(env.lantern(&["history", "--since", "2999-01-01"]).whole(), @"
    no event matches that

    next: lantern history
    ");
    assert!(env.lantern(&["history", "--since", "yesterday"]).fails(2).stderr().contains("--since"));
}
