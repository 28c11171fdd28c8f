//! A storefront that people do by hand, as someone at a terminal without a person meets it.

use std::io::{BufRead, BufReader, Read};
use std::process::Stdio;

use lantern_rehearsal::exports::GameVersion;

use crate::env::{Ran, TestEnv, copy};

const RULES: &str = r#"
name = "Old Pier"
address = "https://old-pier.example/berths"
usual-wait = "6 days"

[hand-over."*"]
top = "Saltmarsh Post"

[[steps.push]]
id = "carry"
text = "Copy the archives into the shared folder of berth {values.berth}."
files = true
takes = "20 minutes"

[[steps.push]]
id = "letter"
text = "Send them the letter."
open = "mailto:berths@old-pier.example"
paste = [{ field = "letter", text = "{notes.en}" }]
read-back = [{ key = "number-there", ask = "The berth number they answer with" }]

[[steps.promote]]
id = "thursday"
text = "Berth {release.number-there} goes out on the next Thursday; look whether it did."
by = "publisher"
waits = true
"#;

const OLD_PIER: &str = r#"
[storefronts.old-pier]
kind = "by-hand"
rules = "places/old-pier.toml"
values = { berth = "7" }
people = { publisher = "oar" }
branches = { pier = { audience = "everyone" } }
"#;

pub fn env() -> TestEnv {
    let env = TestEnv::live();
    env.write("lantern.toml", &(env.config("1.3.2") + OLD_PIER));
    env.write("places/old-pier.toml", RULES);
    env
}

#[test]
fn the_way_to_players_step_by_step() {
    let env = env();
    let push = env.lantern(&["push", "old-pier", "--yes", "--notes", "The lighthouse is lit."]).success();
    snapshot!(push.whole(), @"
    Bring 1.3.2 (1) to Old Pier by hand

      hand over                              files   unpacked   for
      Saltmarsh Post 1.3.2 linux.zip   zip   9       8.57 MB    linux-x86_64

      step                                                            takes
      carry    Copy the archives into the shared folder of berth 7.   about 20 minutes
      letter   Send them the letter.

      for players   The lighthouse is lit.

    paused before step 1 of 2, carry
      all steps   .lantern/outgoing/old-pier/1.3.2-1-push.txt
                  .lantern/outgoing/old-pier/1.3.2-1-push.html

    next: lantern confirm old-pier
    ");
    let sheet = std::fs::read_to_string(env.path(".lantern/outgoing/old-pier/1.3.2-1-push.txt")).unwrap();
    let digest = env.lantern(&["confirm", "old-pier", "--json"]).json()["actions"][0]["hand_over"][0]["sha256"].clone();
    snapshot!(sheet.replace(digest.as_str().unwrap(), "[digest]"), @"
    Bring 1.3.2 (1) to old-pier by hand

      Saltmarsh Post 1.3.2 linux.zip   4.35 MB
          SHA-256 [digest]

    [ ] 1. carry
        Copy the archives into the shared folder of berth 7.
        then: lantern confirm old-pier carry

    [ ] 2. letter
        Send them the letter.
        open: mailto:berths@old-pier.example
        letter: The lighthouse is lit.
        note: The berth number they answer with: ________
        then: lantern confirm old-pier letter --read-back number-there=…
    ");
    let mut said = String::new();
    for line in [
        &["confirm", "old-pier", "letter", "--read-back", "number-there=twelve"][..],
        &["confirm", "old-pier", "carry"],
        &["confirm", "old-pier", "letter", "--read-back", "number-there=12"],
        &["confirm", "old-pier", "letter", "--read-back", "number-there=12"],
        &["promote", "old-pier", "pier", "--confirm", "1.3.2 (1)"],
        &["confirm", "old-pier", "thursday", "--waiting"],
        &[],
        &["confirm", "old-pier", "thursday"],
        &["live", "--offline"],
        &["history", "--storefront", "old-pier", "--all"],
        &["connect", "old-pier"],
        &["install", "old-pier", "pier", "player"],
        &["confirm", "old-pier"],
    ] {
        said += &format!("$ lantern {}\n{}\n", line.join(" "), env.lantern(line).whole());
    }
    snapshot!(said, @r#"
    $ lantern confirm old-pier letter --read-back number-there=twelve
    ------- stderr -------
    error: number-there: "twelve" is not a number: digits and nothing else
      fix: --read-back number-there=…
    [exit status: 2]

    $ lantern confirm old-pier carry
    done carry   by wren, just now

    next: lantern confirm old-pier letter --read-back number-there=…

    $ lantern confirm old-pier letter --read-back number-there=12
    done letter   number-there 12   by wren, just now

    there: 1.3.2 (1) is at old-pier; its number there is 12

    next: lantern promote old-pier pier

    $ lantern confirm old-pier letter --read-back number-there=12
    nothing to do: that was said before, and ended: to bring 1.3.2 (1) to old-pier by hand

    next: lantern promote old-pier pier

    $ lantern promote old-pier pier --confirm 1.3.2 (1)
    Promote 1.3.2 (1) to pier at Old Pier

      system         players have   they get    on disk
      linux-x86_64   nothing        1.3.2 (1)   8.57 MB

      everyone: pier is the line that every player follows
      tried: not tried yet

      step                                                                      takes          who
      thursday   Berth 12 goes out on the next Thursday; look whether it did.   about 6 days   oar (publisher)

    paused before step 1 of 1, thursday
      all steps   .lantern/outgoing/old-pier/1.3.2-1-promote-pier.txt
                  .lantern/outgoing/old-pier/1.3.2-1-promote-pier.html

    next: lantern confirm old-pier

    $ lantern confirm old-pier thursday --waiting
    waits thursday   by wren, just now

    next: lantern wait old-pier

    $ lantern 
    Saltmarsh Post

      newest sealed   1.3.2 (1)
      exports         as sealed
      brambleyard     live on open-water
      old-pier        there, not live on pier
                      waiting: thursday of 1.3.2 (1), due 2026-12-03, in 6 days, for oar (publisher)

    next: lantern live   asks the storefronts themselves

    $ lantern confirm old-pier thursday
    done thursday   by wren, just now

    live: 1.3.2 (1) on pier at old-pier, as you say

    next: lantern live   asks the storefronts themselves

    $ lantern live --offline
    Saltmarsh Post

      brambleyard   newest sealed: 1.3.2 (1)
        open-water   1.3.2 (1)   newest
                     linux
                     since 2026-11-27 10:04 by paper-heron, number there 1
        not asked, last known 2026-11-27 10:04

      old-pier   newest sealed: 1.3.2 (1)
        pier         1.3.2 (1)   newest
                     linux
                     since 2026-11-27 10:14 by wren, number there 12
        said by wren, 1 minute ago

    next: lantern install brambleyard open-water DIR   gets it as a player does

    $ lantern history --storefront old-pier --all
      UTC
      2026-11-27 10:14:00   wren   put 1.3.2 (1) on pier at old-pier
      2026-11-27 10:14:00   wren   did the step thursday
      2026-11-27 10:12:00   wren   waits for the step thursday, usually until 2026-12-03
      2026-11-27 10:11:00   wren   began to put 1.3.2 (1) on pier at old-pier by hand
      2026-11-27 10:09:00   wren   brought 1.3.2 (1) to old-pier, number there 12, 4.35 MB
      2026-11-27 10:09:00   wren   did the step letter: number-there 12
      2026-11-27 10:08:00   wren   did the step carry
      2026-11-27 10:05:00   wren   began to bring 1.3.2 (1) to old-pier by hand

    $ lantern connect old-pier
    ------- stderr -------
    error: there is nothing to connect: old-pier is done by hand
      fix: lantern push old-pier
    [exit status: 2]

    $ lantern install old-pier pier player
    ------- stderr -------
    error: old-pier: it cannot be installed from with this tool; no storefront of its kind can
      fix: do it on the storefront's own pages: old-pier
    [exit status: 3]

    $ lantern confirm old-pier
    ------- stderr -------
    error: nothing is open at old-pier
      fix: begin something: lantern push old-pier
    [exit status: 2]
    "#);
}

#[test]
fn steps_are_left_out_for_a_reason_done_again_and_given_up() {
    let env = env();
    env.lantern(&["push", "old-pier", "--yes"]).success();
    env.lantern(&["confirm", "old-pier", "carry", "--skip"]).fails(2);
    env.lantern(&["confirm", "old-pier", "carry", "--skip", "--because", ""]).fails(2);
    env.lantern(&["confirm", "old-pier", "carry", "--skip", "--because", "they came by"]).success();
    env.lantern(&["confirm", "old-pier", "carry"]).fails(3);
    env.lantern(&["confirm", "old-pier", "carry", "--again"]).success();
    env.lantern(&["confirm", "old-pier", "carry", "--again"]).fails(2);
    env.lantern(&["confirm", "old-pier", "carry"]).success();
    env.lantern(&["confirm", "old-pier", "crary"]).fails(2);
    env.lantern(&["confirm", "old-pier", "--give-up", "--because", "not this week"]).success();
    env.lantern(&["confirm", "old-pier", "letter", "--read-back", "number-there=1"]).fails(2);
    let history = env.lantern(&["history", "--storefront", "old-pier", "--all"]).success().stdout();
    for said in ["they came by", "went back to the step carry", "not done: not this week"] {
        assert!(history.contains(said), "{history}");
    }
    // It can be begun again.
    env.lantern(&["push", "old-pier", "--yes"]).success();
    env.lantern(&["confirm", "old-pier", "carry"]).success();
}

#[test]
fn check_finds_what_is_wrong_with_rules() {
    let env = env();
    let checked = |rules: &str| {
        env.write("places/old-pier.toml", rules);
        env.lantern(&["check"]).fails(1).stdout()
    };
    let unknown = checked(&RULES.replace("waits =", "wiats ="));
    assert!(unknown.contains("did you mean \"waits\"?"), "{unknown}");
    let value = checked(&RULES.replace("{values.berth}", "{values.brth}"));
    assert!(value.contains("places/old-pier.toml, line 11"), "{value}");
    assert!(value.contains("did you mean {values.berth}?"), "{value}");
    env.lantern(&["push", "old-pier", "--yes"]).fails(2);
    std::fs::remove_file(env.path("places/old-pier.toml")).unwrap();
    let checked = env.lantern(&["check"]).fails(1).stdout();
    assert!(checked.contains("rules-missing"), "{checked}");
}

#[test]
fn waiting_ends_when_it_is_due_or_confirmed() {
    let env = env();
    env.lantern(&["wait", "old-pier"]).fails(2);
    env.lantern(&["push", "old-pier", "--yes"]).success();
    env.lantern(&["confirm", "old-pier", "carry"]).success();
    env.lantern(&["confirm", "old-pier", "letter", "--read-back", "number-there=12"]).success();
    env.lantern(&["promote", "old-pier", "pier", "--confirm", "1.3.2 (1)"]).success();
    env.lantern(&["confirm", "old-pier", "thursday", "--waiting"]).success();
    env.lantern(&["wait", "old-pier", "--at-most", "1 second"]).fails(4);
    // Each command of a test is a minute later than the last one; a week passes.
    env.set_minute(env.minute() + 7 * 24 * 60);
    let status = env.lantern(&[]).success().stdout();
    assert!(status.contains("overdue since ") && status.contains("for oar (publisher)"), "{status}");
    let then = env.lantern(&["wait", "old-pier", "--then", "echo it is Thursday"]).success().stdout();
    assert!(then.contains("it is Thursday"), "{then}");
    env.lantern(&["wait", "old-pier", "--then", "exit 3"]).fails(2);
}

/// A storefront that counts each file by itself: its numbers are read back, shown, and named in the steps that follow.
#[test]
fn each_target_has_a_number_of_its_own_there() {
    let env = env();
    let rules = r#"
[[steps.push]]
id = "upload"
text = "Upload it."
read-back = [{ key = "number-there-linux", ask = "The number next to the file" }]

[[steps.promote]]
id = "tick"
text = "Tick file {release.number-there.linux} on {branch}."
"#;
    env.write("places/old-pier.toml", rules);
    env.lantern(&["push", "old-pier", "--yes"]).success();
    env.lantern(&["confirm", "old-pier", "upload", "--read-back", "number-there-linux=x"]).fails(2);
    let done =
        env.lantern(&["confirm", "old-pier", "upload", "--read-back", "number-there-linux=41"]).success().stdout();
    assert!(done.contains("its number there is 1 (linux 41)"), "{done}");
    let plan = env.lantern(&["promote", "old-pier", "pier", "--confirm", "1.3.2 (1)"]).success().stdout();
    assert!(plan.contains("Tick file 41 on pier."), "{plan}");
    env.lantern(&["confirm", "old-pier", "tick"]).success();
    let live = env.lantern(&["live", "--offline"]).success().stdout();
    assert!(live.contains("number there 1 (linux 41)"), "{live}");
    let live = env.lantern(&["live", "--offline", "--json"]).json();
    assert_eq!(live["storefronts"][1]["branches"][0]["targets"]["linux"]["number_of_target"], 41);
    let history = env.lantern(&["history"]).success().stdout();
    assert!(history.contains("number there 1 (linux 41), "), "{history}");
}

/// Says what came of it, and not more.
#[test]
fn waiting_says_what_came_of_it() {
    let env = env();
    let waits = |happens: &[&str], line: &str| {
        let mut command = env.command(&["wait", "old-pier"]);
        let mut child = command.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
        let mut out = BufReader::new(child.stdout.take().unwrap());
        let mut said = String::new();
        while !said.contains("waiting:") {
            assert_ne!(out.read_line(&mut said).unwrap(), 0, "{said}");
        }
        env.lantern(happens).success();
        out.read_to_string(&mut said).unwrap();
        assert!(child.wait().unwrap().success() && said.contains(line), "{said}");
    };
    env.lantern(&["push", "old-pier", "--yes"]).success();
    env.lantern(&["confirm", "old-pier", "carry", "--waiting"]).success();
    waits(&["confirm", "old-pier", "carry"], "carry at old-pier: wren says that it is done");
    env.lantern(&["confirm", "old-pier", "letter", "--waiting"]).success();
    waits(&["confirm", "old-pier", "letter", "--again"], "letter at old-pier: wren says that it is open again");
    env.lantern(&["confirm", "old-pier", "letter", "--waiting"]).success();
    waits(&["confirm", "old-pier", "letter", "--read-back", "number-there=12"], "every step is settled");
    env.lantern(&["promote", "old-pier", "pier", "--confirm", "1.3.2 (1)"]).success();
    env.lantern(&["confirm", "old-pier", "thursday", "--waiting"]).success();
    let give_up = ["confirm", "old-pier", "--give-up", "--because", "not this week"];
    waits(&give_up, "given up: 1.3.2 (1) at old-pier: not this week");
}

/// Two people begin the same at two computers, neither knowing of the other: when they have each other's ledger, it is one
/// thing to do, and when one of them has done it, it is done for both.
#[test]
fn what_two_began_at_two_computers_is_done_once() {
    let env = env();
    env.write("places/old-pier.toml", "");
    std::fs::create_dir(env.path("laptop")).unwrap();
    for folder in ["places", "exports"] {
        copy(&env.path(folder), &env.path("laptop").join(folder));
    }
    std::fs::copy(env.path("lantern.toml"), env.path("laptop/lantern.toml")).unwrap();
    let laptop = |arguments: &[&str]| Ran { output: env.command_in("laptop", arguments).output().unwrap() };
    let exchange = || {
        for (from, to) in [("", "laptop"), ("laptop", "")] {
            let at = |folder, arguments: &[&str]| Ran { output: env.command_in(folder, arguments).output().unwrap() };
            std::fs::write(env.path("ledger.jsonl"), at(from, &["ledger", "export"]).success().stdout()).unwrap();
            at(to, &["ledger", "import", &env.path("ledger.jsonl").display().to_string()]).success();
        }
    };
    exchange();
    env.lantern(&["push", "old-pier", "--yes"]).success();
    laptop(&["prepare"]).success();
    laptop(&["push", "old-pier", "--yes"]).success();
    exchange();
    // One of both is meant by its storefront alone, and both know what was said at the other.
    env.lantern(&["confirm", "old-pier", "upload"]).success();
    exchange();
    laptop(&["confirm", "old-pier", "upload"]).success();
    for live in [env.lantern(&["live", "--offline"]), laptop(&["live", "--offline"])] {
        let live = live.success().stdout();
        assert!(!live.contains("upload"), "nothing is left to do there: {live}");
    }
    // The same of a move; each does it before hearing of the other.
    let promote = ["promote", "old-pier", "pier", "--confirm", "1.3.2 (1)"];
    env.lantern(&promote).success();
    laptop(&promote).success();
    laptop(&["confirm", "old-pier", "put-on"]).success();
    exchange();
    let line = ["live", "--offline", "--json"];
    let [here, there] = [env.lantern(&line), laptop(&line)].map(|ran| ran.success().json()["storefronts"][1].clone());
    assert_eq!(here, there);
    let pier = &here["branches"][0]["targets"]["linux"];
    assert_eq!((&here["steps"], &pier["version"]), (&serde_json::json!([]), &serde_json::json!("1.3.2")));
    env.lantern(&["confirm", "old-pier"]).fails(2);
}

/// What is laid out is what is handed over: a file of an earlier name does not go along.
#[test]
fn what_nobody_hands_over_does_not_lie_there() {
    let env = env();
    let name = |name: &str| env.write("places/old-pier.toml", &format!("[hand-over.\"*\"]\nname = \"{name}\"\n"));
    let there = || -> Vec<String> {
        let entries = std::fs::read_dir(env.path(".lantern/outgoing/old-pier/1.3.2-1")).unwrap();
        let names = entries.map(|entry| entry.unwrap().file_name().into_string().unwrap());
        names.filter(|name| !name.starts_with("steps")).collect()
    };
    name("post-{target}.zip");
    env.lantern(&["push", "old-pier", "--yes"]).success();
    assert_eq!(there(), ["post-linux.zip"]);
    // Steps that were begun name the files as they were called then.
    name("letter-{target}.zip");
    env.lantern(&["push", "old-pier", "--yes"]).success();
    assert_eq!(there(), ["post-linux.zip"]);
    env.lantern(&["confirm", "old-pier", "--give-up", "--because", "another name"]).success();
    env.write(".lantern/outgoing/old-pier/1.3.2-1/.part-letter-linux.zip", "cut");
    env.lantern(&["push", "old-pier", "--yes"]).success();
    assert_eq!(there(), ["letter-linux.zip"]);
}

/// All players of two editions: each release is named.
#[test]
fn two_releases_for_everyone_are_confirmed_one_by_one() {
    let env = super::editions::with_first_tide();
    let handles = "handle = { full = \"saltmarsh\", first-tide = \"first-tide\" }\n";
    let text = String::from_utf8(env.read("lantern.toml")).unwrap();
    env.write("lantern.toml", &(text + &OLD_PIER.replace("values = {", &format!("{handles}values = {{"))));
    env.write("places/old-pier.toml", "live-on-push = \"pier\"\n");
    env.lantern(&["prepare"]).success();
    let both = env.lantern(&["push", "old-pier", "--confirm", "1.3.2 (1)"]).fails(2).stderr();
    assert!(both.contains("all players would get two: 1.3.2 (1) and 1.3.2 (2)"), "{both}");
    env.lantern(&["push", "old-pier", "2", "--confirm", "1.3.2 (2)"]).success();
}

#[test]
fn the_board_of_a_part_says_what_stayed() {
    let env = env();
    env.write("places/old-pier.toml", "");
    let to_players = |release: &str, target: &[&str]| {
        env.lantern(&[&["push", "old-pier", "--yes"], target].concat()).success();
        env.lantern(&["confirm", "old-pier", "upload"]).success();
        env.lantern(&[&["promote", "old-pier", "pier", "--confirm", release], target].concat()).success();
        env.lantern(&["confirm", "old-pier", "put-on"]).success();
    };
    to_players("1.3.2 (1)", &[]);
    env.write("lantern.toml", &(env.config("1.4.0") + OLD_PIER));
    env.export(GameVersion::New);
    env.lantern(&["prepare"]).success();
    to_players("1.4.0 (2)", &["--target", "linux"]);
    let live = env.lantern(&["live", "--offline", "--json"]).json();
    let at = live["storefronts"].as_array().unwrap().iter().find(|at| at["storefront"] == "old-pier").unwrap();
    let has = |target: &str| at["branches"][0]["targets"][target]["number"].clone();
    assert_eq!(has("linux"), 2);
    assert_eq!(at["by_hand"], true);
}

/// A storefront at which players have a release as soon as it is there asks for the same care at the push.
#[test]
fn what_is_live_with_the_push_is_confirmed_by_name_and_needs_what_the_branch_needs() {
    let env = env();
    let rules = "live-on-push = \"pier\"\n";
    env.write("places/old-pier.toml", rules);
    env.lantern(&["push", "old-pier", "--yes"]).fails(7);
    env.lantern(&["push", "old-pier", "--confirm", "1.3.2"]).fails(2);
    let pushed = env.lantern(&["push", "old-pier", "--confirm", "1.3.2 (1)"]).success().stdout();
    assert!(pushed.contains("everyone: players on pier get it with this push"), "{pushed}");
    let done = env.lantern(&["confirm", "old-pier", "upload"]).success().stdout();
    assert!(done.contains("1.3.2 (1) is at old-pier, and live on pier; its number there is 1"), "{done}");
    let live = env.lantern(&["live", "--offline"]).success().stdout();
    assert!(live.contains("pier         1.3.2 (1)   newest"), "{live}");
    assert_eq!(env.lantern(&["--json"]).json()["next"], serde_json::Value::Null);
    // The next one, and back by what people said before.
    let needs = OLD_PIER.replace("\"everyone\" }", "\"everyone\", needs = [\"trial\"] }");
    env.write("lantern.toml", &(env.config("1.4.0") + &needs));
    env.export(GameVersion::New);
    env.lantern(&["prepare"]).success();
    let lacks = env.lantern(&["push", "old-pier", "--confirm", "1.4.0 (2)"]).fails(1).stderr();
    assert!(lacks.contains("pier needs more of 1.4.0 (2): nobody tried it yet"), "{lacks}");
    env.write("lantern.toml", &(env.config("1.4.0") + OLD_PIER));
    env.lantern(&["push", "old-pier", "--confirm", "1.4.0 (2)"]).success();
    env.lantern(&["confirm", "old-pier", "upload"]).success();
    env.lantern(&["rollback", "old-pier", "pier", "--confirm", "1.3.2 (1)"]).success();
    env.lantern(&["confirm", "old-pier", "put-back"]).success();
    let live = env.lantern(&["live", "--offline"]).success().stdout();
    assert!(live.contains("pier         1.3.2 (1)   behind"), "{live}");
    env.write("places/old-pier.toml", "notes-max = 12\n");
    env.write("notes.txt", "# en\nIt is lit.\n# ja\n灯台に明かりが灯りました。\n");
    env.write("lantern.toml", &(env.config("1.4.1") + OLD_PIER));
    env.write("exports/linux/letters/en.txt", "Dear Aldous");
    env.lantern(&["prepare"]).success();
    let long = env.lantern(&["push", "old-pier", "--notes-from", "notes.txt", "--yes"]).fails(3).stderr();
    assert!(long.contains("the notes (ja) have 13 characters, 12 are taken"), "{long}");
    env.write("places/old-pier.toml", "live-on-push = \"peer\"\n");
    env.lantern(&["push", "old-pier", "--plan"]).fails(3);
}
