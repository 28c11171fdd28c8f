//! What people mistype, leave out or misplace: said in one voice, with what to do.

use crate::env::TestEnv;

#[test]
fn errors_of_the_command_line_have_the_voice_and_the_form_of_all_others() {
    let env = TestEnv::new();
    snapshot!(env.lantern(&["keep", "--last", "few"]).whole(), @r#"
    ------- stderr -------
    error: --last: "few" is not a whole number that fits
      fix: lantern keep --help shows what it takes
    [exit status: 2]
    "#);
    let ran = env.lantern(&["chek", "--json"]).fails(2);
    assert_eq!(ran.json()["error"]["fixes"][0], "did you mean check?");
    assert_eq!(ran.stderr(), "");
    let ran = env.lantern(&["check", "--nope", "--color", "always"]).fails(2);
    assert!(ran.stderr().contains("\u{1b}["), "{:?}", ran.stderr());
    let ran = env.lantern(&["check", "--nope", "--color", "never"]).fails(2);
    assert!(!ran.stderr().contains('\u{1b}'), "{:?}", ran.stderr());
}

#[test]
fn a_folder_that_was_named_and_holds_no_game_is_an_error() {
    let env = TestEnv::new();
    assert!(env.lantern(&["--project", "nowhere"]).fails(2).stderr().contains("there is no lantern.toml in"));
}

#[test]
fn a_name_that_nothing_has_is_no_fact_of_history() {
    let env = TestEnv::live();
    snapshot!(env.lantern(&["history", "--storefront", "bramleyard"]).whole(), @r#"
    ------- stderr -------
    error: no storefront "bramleyard" is known here, in lantern.toml or in what happened
      fix: did you mean brambleyard?
    [exit status: 2]
    "#);
    snapshot!(env.lantern(&["history", "--branch", "harbour"]).whole(), @r#"
    ------- stderr -------
    error: no branch "harbour" is known here, in lantern.toml or in what happened
      fix: the only one is open-water
    [exit status: 2]
    "#);
    snapshot!(env.lantern(&["history", "--release", "99"]).whole(), @"
    ------- stderr -------
    error: there is no release number 99
      fix: the only one is 1.3.2 (1)
    [exit status: 2]
    ");
    // Known, and nothing happened to it.
    snapshot!(env.lantern(&["history", "--branch", "open-water", "--since", "2199-01-01"]).whole(), @"
    no event matches that

    next: lantern history
    ");
}

#[test]
fn what_was_refused_is_found_by_its_release() {
    let env = TestEnv::live();
    let refused = env.lantern(&["promote", "brambleyard", "nowhere", "--confirm", "1.3.2 (1)"]);
    assert_ne!(refused.code(), 0);
    let of_release = env.lantern(&["history", "--all", "--release", "1"]).success().stdout();
    let all = env.lantern(&["history", "--all"]).success().stdout();
    assert_eq!(of_release.matches("not done").count(), all.matches("not done").count(), "{all}");
}

#[test]
fn check_can_be_about_one_target() {
    let env = TestEnv::desktops();
    std::fs::remove_dir_all(env.path("exports/linux")).unwrap();
    env.lantern(&["check"]).fails(1);
    let document = env.lantern(&["check", "--target", "windows", "--json"]).success().json();
    assert_eq!(document["targets"].as_array().unwrap().len(), 1);
    env.lantern(&["check", "--target", "linux"]).fails(1);
    assert!(env.lantern(&["check", "--target", "kettle"]).fails(2).stderr().contains("one of"));
}

#[test]
fn an_archive_is_written_in_a_form_that_is_known_and_a_folder_is_made_for_it() {
    let env = TestEnv::live();
    let refused = env.lantern(&["releases", "write", "1", "out/game.rar"]).fails(2);
    assert!(refused.stderr().contains("an archive of a kind that is not written here"), "{}", refused.whole());
    assert!(!env.path("out").exists());
    env.lantern(&["releases", "write", "1", "out/deep/game.zip"]).success();
    assert!(env.path("out/deep/game.zip").is_file());
}

#[test]
fn who_you_are_at_a_storefront_is_said_once() {
    let env = TestEnv::live();
    env.lantern(&["connect", "brambleyard"]).success();
    let mut wrong = env.command(&["connect", "brambleyard"]);
    let ran = crate::env::Ran { output: wrong.env("LANTERN_SECRET", "wrong").output().unwrap() };
    assert!(ran.stderr().contains("connect brambleyard --client NAME"), "{}", ran.whole());
}

#[test]
fn texts_for_what_is_there_already_are_not_dropped_without_a_word() {
    let env = TestEnv::live();
    let again = env.lantern(&["push", "brambleyard", "--message", "other words", "--yes"]).success().stdout();
    assert!(again.contains("the new ones are not used"), "{again}");
}

#[test]
fn a_quiet_action_that_was_agreed_to_shows_no_plan() {
    let env = TestEnv::live();
    env.next_version();
    env.lantern(&["prepare"]).success();
    let quiet = env.lantern(&["-q", "push", "brambleyard", "--yes"]).success().stdout();
    assert!(quiet.contains("pushed 1.4.0 (2)") && !quiet.contains("to upload"), "{quiet}");
    let quiet =
        env.lantern(&["-q", "promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"]).success().stdout();
    assert!(quiet.contains("live: 1.4.0 (2)") && !quiet.contains("players have"), "{quiet}");
    // What was asked for is shown.
    let plan = env.lantern(&["-q", "rollback", "brambleyard", "open-water", "--plan"]).success().stdout();
    assert!(plan.contains("players have"), "{plan}");
}

#[test]
fn live_can_be_asked_to_fail_when_it_is_not_fresh() {
    let mut env = TestEnv::live();
    env.lantern(&["live", "--fresh"]).success();
    env.close_storefront();
    env.lantern(&["live"]).success();
    let old = env.lantern(&["live", "--fresh"]).fails(4);
    assert!(old.stderr().contains("brambleyard did not answer"), "{}", old.whole());
    let document = env.lantern(&["live", "--fresh", "--json"]).fails(4).json();
    assert_eq!(document["storefronts"][0]["answered_now"], false);
}

#[test]
fn init_says_where_it_looked_and_refuses_what_is_not_there() {
    let env = TestEnv::new();
    let known = ["--name", "Saltmarsh Post", "--studio", "Paper Heron", "--identity", "a.b", "--version", "1.0.0"];
    let init = |more: &[&str]| env.lantern(&[&["init"], &known[..], more].concat());
    assert!(init(&[]).fails(2).stderr().contains("is there already"));
    std::fs::remove_file(env.path("lantern.toml")).unwrap();
    std::fs::rename(env.path("exports"), env.path("storefront/elsewhere")).unwrap();
    snapshot!(init(&[]).whole(), @"
    ------- stderr -------
    found no export here, nor in a folder whose name begins with build…, dist…, export…, out…, release…
    error: the export is missing
      fix: give it with --export
    [exit status: 7]
    ");
    snapshot!(init(&["--export", "nosuch"]).whole(), @"
    ------- stderr -------
    error: there is nothing at nosuch
      fix: export the game first; a path starts at the game's folder
    [exit status: 2]
    ");
    std::fs::rename(env.path("storefront/elsewhere"), env.path("Builds")).unwrap();
    init(&[]).success();
    assert!(String::from_utf8(env.read("lantern.toml")).unwrap().contains("export = \"Builds/"));
}
