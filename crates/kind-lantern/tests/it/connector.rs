//! A storefront that a program of the studio's own serves. Its connectors are scripts: Python's, as in the example, and a shell's.

use std::io::Read;
use std::path::Path;
use std::process::Stdio;
use std::time::{Duration, Instant};

use lantern_rehearsal::exports::GameVersion;
use rustix::process::{Pid, Signal, kill_process, test_kill_process};
use serde_json::Value;

use crate::env::{Ran, TestEnv, copy, holds};

fn gull_rock(env: &TestEnv, version: &str, run: &str) {
    let shelf = env.path("shelf").display().to_string();
    let text = format!(
        "\n[storefronts.gull-rock]\nkind = \"connector\"\nrun = {run}\nvalues = {{ shelf = {shelf:?} }}\n\
         branches = {{ ledge = {{ audience = \"everyone\" }} }}\n"
    );
    env.write("lantern.toml", &(env.config(version) + &text));
}

const EXAMPLE: &str = "[\"python3\", \"places/gull_rock.py\"]";

fn env() -> TestEnv {
    let env = TestEnv::live();
    let example = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/examples/gull_rock.py");
    env.write("places/gull_rock.py", &std::fs::read_to_string(example).unwrap());
    std::fs::create_dir(env.path("shelf")).unwrap();
    gull_rock(&env, "1.3.2", EXAMPLE);
    env
}

fn shelf(env: &TestEnv) -> Value {
    serde_json::from_str(&std::fs::read_to_string(env.path("shelf/state.json")).unwrap()).unwrap()
}

#[test]
fn the_example_does_everything_but_one_thing() {
    let env = env();
    let mut said = String::new();
    for line in [
        &["storefronts"][..],
        &["storefronts", "try", "gull-rock", "--yes"],
        &["push", "gull-rock", "--yes"],
        &["push", "gull-rock", "--yes"],
        &["promote", "gull-rock", "ledge", "--confirm", "1.3.2 (1)"],
        &["live", "--offline"],
    ] {
        let shown = env.lantern(line).whole().replace(&env.path("").display().to_string(), "[folder]/");
        said += &format!("$ lantern {}\n{shown}\n", line.join(" "));
    }
    let port = env.config("1.3.2");
    let port = port.split("127.0.0.1:").nth(1).unwrap().split('"').next().unwrap();
    snapshot!(said.replace(port, "[port]"), @"
    $ lantern storefronts
      storefront    kind        at                            branches
      brambleyard   protocol    http://127.0.0.1:[port]        open-water (everyone)
      gull-rock     connector   python3 places/gull_rock.py   ledge (everyone)

    $ lantern storefronts try gull-rock --yes
      yes  it answers a probe
           the storefront answers
      yes  it says what each branch has
           none has anything yet
      yes  it says of an unknown attempt that it never arrived
           it says so
      yes  it brings a file of 73 bytes there
           its number there is 41
      yes  the same attempt once more makes nothing new
           the same as before
      yes  it says what became of the attempt
           the same as before

    next: lantern push gull-rock

    $ lantern push gull-rock --yes
    Bring 1.3.2 (1) to gull-rock through its connector

      hand over                              files   unpacked   for
      Saltmarsh Post 1.3.2 linux.zip   zip   9       8.57 MB    linux-x86_64
      putting 1.3.2 on the shelf, number 42
      file://[folder]/shelf/42

    there: 1.3.2 (1) is at gull-rock; its number there is 42

    next: lantern promote gull-rock ledge

    $ lantern push gull-rock --yes
    nothing to do: 1.3.2 (1) is at gull-rock already; its number there is 42

    next: lantern promote gull-rock ledge

    $ lantern promote gull-rock ledge --confirm 1.3.2 (1)
    Promote 1.3.2 (1) to ledge at gull-rock

      system         players have   they get    on disk
      linux-x86_64   nothing        1.3.2 (1)   8.57 MB

      everyone: ledge is the line that every player follows
      tried: not tried yet

    live: 1.3.2 (1) on ledge at gull-rock

    next: lantern live   asks the storefronts themselves

    $ lantern live --offline
    Saltmarsh Post

      brambleyard   newest sealed: 1.3.2 (1)
        open-water   1.3.2 (1)   newest
                     linux
                     since 2026-11-27 10:04 by paper-heron, number there 1
        not asked, last known 2026-11-27 10:04

      gull-rock   newest sealed: 1.3.2 (1)
        ledge        1.3.2 (1)   newest
                     linux
                     since 2026-11-27 10:09 by wren, number there 42
        as its connector said when wren last ran it, 1 minute ago

    next: lantern install brambleyard open-water DIR   gets it as a player does
    ");
    assert!(env.path("shelf/42/Saltmarsh Post 1.3.2 linux.zip").is_file());
    assert_eq!(shelf(&env)["branches"]["ledge"], "42");
    // The next one, back again, and what the connector does not do is done by hand.
    gull_rock(&env, "1.4.0", EXAMPLE);
    env.export(GameVersion::New);
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "gull-rock", "--yes"]).success();
    env.lantern(&["promote", "gull-rock", "ledge", "--confirm", "1.4.0 (2)"]).success();
    assert_eq!(shelf(&env)["branches"]["ledge"], "43");
    env.lantern(&["rollback", "gull-rock", "ledge", "--confirm", "1.3.2 (1)", "--because", "a save bug"]).success();
    assert_eq!(shelf(&env)["branches"]["ledge"], "42");
    let withdrawn = env.lantern(&["releases", "withdraw", "1.4.0", "--because", "a save bug", "--yes"]).success();
    assert!(withdrawn.stdout().contains("lantern confirm gull-rock"), "{}", withdrawn.whole());
    env.lantern(&["confirm", "gull-rock", "take-away"]).success();
    let history = env.lantern(&["history", "--storefront", "gull-rock"]).success().stdout();
    assert!(history.contains("withdrew 1.4.0 (2) at gull-rock: a save bug"), "{history}");
}

#[test]
fn a_refusal_is_said_with_its_fix_and_nothing_is_left_open() {
    let env = env();
    std::fs::remove_dir(env.path("shelf")).unwrap();
    let refused = env.lantern(&["push", "gull-rock", "--yes"]).fails(3).stderr();
    assert!(refused.contains("gull-rock refused it: the shelf is not there"), "{refused}");
    assert!(refused.contains("fix: make the folder that the value shelf names"), "{refused}");
    env.lantern(&["confirm", "gull-rock"]).fails(2);
    std::fs::create_dir(env.path("shelf")).unwrap();
    env.lantern(&["push", "gull-rock", "--yes"]).success();
}

/// A connector that does what it was asked and dies before it can say so: it is asked what became of it, and nothing is done
/// twice, at whatever point the tool itself is cut.
#[test]
fn what_was_done_before_a_death_is_found_again() {
    let env = env();
    env.write(
        "places/dies.sh",
        "read -r line\ncase $line in *'\"action\":\"push\"'*) echo \"$line\" | python3 places/gull_rock.py >/dev/null; kill -9 $$;; esac\necho \"$line\" | python3 places/gull_rock.py\n",
    );
    gull_rock(&env, "1.3.2", "[\"sh\", \"places/dies.sh\"]");
    let died = env.lantern(&["push", "gull-rock", "--yes"]).fails(4).stderr();
    assert!(died.contains("it is not known whether it was done"), "{died}");
    assert_eq!(shelf(&env)["next"], 42);
    let found = env.lantern(&["push", "gull-rock", "--yes"]).success().stdout();
    assert!(found.contains("its number there is 41"), "{found}");
    assert_eq!(shelf(&env)["next"], 42, "nothing was done twice");
}

#[test]
fn access_reaches_the_very_command_that_it_was_given_for() {
    let env = env();
    // It says which secret it was given; nobody but the storefront may hear it.
    env.write(
        "places/tells.sh",
        "read -r line\ncase $line in *ebb-4711*) ;; *'\"access\":null'*) echo '{\"refused\": {\"because\": \"no access\"}}'; exit 3;; esac\n\
         echo \"$line\" >&2\necho '{\"say\": \"I was given ebb-4711\"}'\necho '{\"done\": {\"number-there\": \"7\"}}'\n",
    );
    gull_rock(&env, "1.3.2", "[\"sh\", \"places/tells.sh\"]");
    env.lantern(&["push", "gull-rock", "--yes"]).fails(3);
    let mut connect = env.command(&["connect", "gull-rock", "--client", "heron"]);
    connect.env("LANTERN_SECRET", "ebb-4711");
    let connected = Ran { output: connect.output().unwrap() }.success();
    assert!(!connected.whole().contains("ebb-4711"));
    let pushed = env.lantern(&["push", "gull-rock", "--yes"]).success();
    assert!(pushed.stdout().contains("I was given (taken out)"), "{}", pushed.whole());
    let files = crate::env::files(&env.path(".lantern"));
    for (name, bytes) in &files {
        assert!(!holds(bytes, "ebb-4711"), "the secret is in {name}");
    }
    // Another command, even with the same name, is given nothing.
    gull_rock(&env, "1.3.2", "[\"sh\", \"./places/tells.sh\"]");
    env.lantern(&["promote", "gull-rock", "ledge", "--confirm", "1.3.2 (1)"]).fails(3);
}

#[test]
fn steps_that_are_left_for_a_person_are_asked_for() {
    let env = env();
    env.write(
        "places/half.sh",
        "read -r line\ncase $line in *'\"action\":\"query\"'*) echo '{\"unknown-action\": true}';; *) echo '{\"by-hand\": [\"letter\"]}';; esac\n",
    );
    gull_rock(&env, "1.3.2", "[\"sh\", \"places/half.sh\"]\nrules = \"places/gull-rock.toml\"");
    env.write(
        "places/gull-rock.toml",
        "[[steps.push]]\nid = \"carry\"\ntext = \"Carry it.\"\n[[steps.push]]\nid = \"letter\"\ntext = \"Send the letter.\"\n",
    );
    let pushed = env.lantern(&["push", "gull-rock", "--yes"]).success().stdout();
    assert!(pushed.contains("paused before step 2 of 2, letter"), "{pushed}");
    let done = env.lantern(&["confirm", "gull-rock", "letter"]).success().stdout();
    assert!(done.contains("1.3.2 (1) is at gull-rock; its number there is 1"), "{done}");
}

#[test]
fn a_trial_says_what_a_connector_got_wrong() {
    let env = env();
    // It brings the same attempt twice, and knows of attempts that never were.
    env.write(
        "places/twice.sh",
        "read -r line\nn=$(cat count 2>/dev/null || echo 0); n=$((n + 1)); echo $n > count\necho \"{\\\"done\\\": {\\\"number-there\\\": \\\"$n\\\"}}\"\n",
    );
    gull_rock(&env, "1.3.2", "[\"sh\", \"places/twice.sh\"]");
    let tried = env.lantern(&["storefronts", "try", "gull-rock", "--yes"]).fails(1).whole();
    assert!(tried.contains("no   the same attempt once more makes nothing new"), "{tried}");
    assert!(tried.contains("no   it says of an unknown attempt that it never arrived"), "{tried}");
    env.lantern(&["storefronts", "try", "brambleyard", "--yes"]).fails(2);
}

#[test]
fn rules_are_written_by_asking_for_nothing() {
    let env = TestEnv::live();
    let made = env.lantern(&["storefronts", "new", "old-pier", "--called", "Old Pier", "--gives-number"]).success();
    assert!(made.stdout().contains("places/old-pier.toml"), "{}", made.whole());
    assert!(env.lantern(&["check"]).success().stdout().contains("no errors"));
    let plan = env.lantern(&["push", "old-pier", "--plan"]).success().stdout();
    assert!(plan.contains("to Old Pier by hand"), "{plan}");
    env.lantern(&["storefronts", "new", "old-pier"]).fails(2);
    // Rules that were lost are written again, as the error says.
    std::fs::remove_file(env.path("places/old-pier.toml")).unwrap();
    let lost = env.lantern(&["push", "old-pier", "--plan"]).fails(2).stderr();
    assert!(lost.contains("fix: write it: lantern storefronts new old-pier"), "{lost}");
    env.lantern(&["storefronts", "new", "old-pier"]).success();
    env.lantern(&["push", "old-pier", "--plan"]).success();
    env.lantern(&["storefronts", "new", "pier", "--usual-wait", "soon"]).fails(2);
    env.lantern(&["storefronts", "new", "pier", "--form", "rar"]).fails(2);
    assert!(!env.path("places/pier.toml").exists());
}

/// What is where is what the connector finds there, no matter who put it there; what is unknown here is reported as unknown.
#[test]
fn the_board_has_what_the_connector_finds() {
    let env = env();
    let state = |branches: &str| {
        let mut state = shelf(&env);
        state["branches"] = serde_json::from_str(branches).unwrap();
        env.write("shelf/state.json", &state.to_string());
    };
    env.lantern(&["push", "gull-rock", "--yes"]).success();
    env.lantern(&["promote", "gull-rock", "ledge", "--confirm", "1.3.2 (1)"]).success();
    gull_rock(&env, "1.4.0", EXAMPLE);
    env.export(GameVersion::New);
    env.lantern(&["prepare"]).success();
    env.lantern(&["push", "gull-rock", "--yes"]).success();
    let events = || env.event_kinds().len();
    let before = events();
    let live = env.lantern(&["live"]).success().stdout();
    assert!(live.contains("ledge        1.3.2 (1)   behind") && live.contains("as its connector says"), "{live}");
    assert_eq!(events(), before, "that is no news");
    // Someone moved it there without this tool.
    state(r#"{ "ledge": "42" }"#);
    let live = env.lantern(&["live"]).success().stdout();
    assert!(live.contains("ledge        1.4.0 (2)   newest"), "{live}");
    assert_eq!(events(), before + 1);
    env.lantern(&["rollback", "gull-rock", "ledge", "--confirm", "1.3.2 (1)"]).success();
    // Each target by itself, and another name that is nobody's branch.
    state(r#"{ "ledge": { "linux": "42" }, "cave": "7" }"#);
    let live = env.lantern(&["live"]).success().stdout();
    assert!(live.contains("ledge        1.4.0 (2)   newest"), "{live}");
    let before = events();
    state(r#"{ "ledge": "43" }"#);
    let live = env.lantern(&["live"]).success().stdout();
    let words = live.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(
        words.contains("not known: its connector says that ledge has number 43 now, which nobody brought"),
        "{live}"
    );
    assert!(words.contains("fix: lantern adopt gull-rock ledge --number-there 43"), "{live}");
    assert!(words.contains("1.4.0 (2) newest") && !words.contains("as its connector says"), "{live}");
    assert_eq!(events(), before);
    let adopt =
        ["adopt", "gull-rock", "ledge", "--number-there", "43", "--version", "1.4.1", "--number", "28", "--yes"];
    env.lantern(&adopt).success();
    let live = env.lantern(&["live"]).success().stdout();
    assert!(live.contains("ledge        1.4.1 (28)   newest"), "{live}");
    let before = events();
    // A connector that cannot say it, or fails, changes nothing.
    for (script, said) in [
        ("read -r line\necho '{\"unknown-action\": true}'\n", "as its connector said when wren last ran it"),
        ("read -r line\necho '{\"done\": {}}'\n", "no answer: the connector of gull-rock was asked what is where, and"),
        ("exit 9\n", "no answer: "),
        ("read -r line\necho '{\"refused\": {\"because\": \"the tide is in\"}}'\nexit 3\n", "the tide is in"),
    ] {
        env.write("says.sh", script);
        gull_rock(&env, "1.4.0", r#"["sh", "says.sh"]"#);
        let live = env.lantern(&["live"]).success().stdout();
        assert!(live.contains(said) && live.contains("1.4.1 (28)   newest"), "{live}");
    }
    assert_eq!(events(), before);
}

/// Ctrl-C reaches a connector and nothing of it is left running: it has its ten seconds, or ends at once with the second one.
/// What it did is not known then, and that is said.
#[test]
fn a_connector_that_does_not_listen_is_ended() {
    let env = env();
    let script = "trap '' INT\nread -r line\ncase $line in *'\"action\":\"query\"'*) echo '{\"not-begun\": true}'; exit;; esac\n\
                  echo $$ > begun\nsleep 60\n";
    env.write("says.sh", script);
    gull_rock(&env, "1.3.2", r#"["sh", "says.sh"]"#);
    for presses in [2, 1] {
        let mut command = env.command(&["push", "gull-rock", "--yes"]);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
        let begun = env.path("begun");
        let connector = loop {
            let text = std::fs::read_to_string(&begun).unwrap_or_default();
            if let Ok(id) = text.trim().parse::<i32>() {
                break Pid::from_raw(id).unwrap();
            }
            std::thread::sleep(Duration::from_millis(20));
        };
        for _ in 0..presses {
            kill_process(Pid::from_child(&child), Signal::INT).unwrap();
            std::thread::sleep(Duration::from_millis(400));
        }
        let pressed = Instant::now();
        let mut said = String::new();
        child.stderr.take().unwrap().read_to_string(&mut said).unwrap();
        assert_eq!(child.wait().unwrap().code(), Some(130), "{said}");
        assert!(test_kill_process(connector).is_err(), "it goes on after {presses}: {said}");
        assert!(said.contains("nobody knows how far the connector of gull-rock came"), "{said}");
        assert!(presses == 1 || pressed.elapsed() < Duration::from_secs(5), "the second one ends it at once");
        std::fs::remove_file(begun).unwrap();
    }
}

/// What one computer asked its connector to do, and never heard of, is not asked for again by another that began the same.
#[test]
fn what_the_connector_did_for_another_computer_is_found() {
    let env = env();
    let shelf = env.path("shelf").display().to_string();
    let script = format!(
        "read -r line\nattempt=$(echo \"$line\" | sed 's/.*\"attempt\":\"\\([^\"]*\\)\".*/\\1/')\n\
         case $(cat \"{shelf}/mode\") in fails) exit 9;; esac\n\
         if [ -e \"{shelf}/$attempt\" ]; then echo '{{\"done\": {{\"number-there\": \"7\"}}}}'; exit 0; fi\n\
         case $line in *'\"action\":\"query\"'*) echo '{{\"not-begun\": true}}'; exit 0;; esac\n\
         echo once > \"{shelf}/$attempt\"\n\
         case $(cat \"{shelf}/mode\") in loses) exit 9;; esac\n\
         echo '{{\"done\": {{\"number-there\": \"7\"}}}}'\n"
    );
    env.write("says.sh", &script);
    gull_rock(&env, "1.3.2", r#"["sh", "says.sh"]"#);
    std::fs::create_dir(env.path("laptop")).unwrap();
    copy(&env.path("exports"), &env.path("laptop/exports"));
    for file in ["lantern.toml", "says.sh"] {
        std::fs::copy(env.path(file), env.path("laptop").join(file)).unwrap();
    }
    let at = |folder: &str, arguments: &[&str]| Ran { output: env.command_in(folder, arguments).output().unwrap() };
    let give = |from: &str, to: &str| {
        std::fs::write(env.path("ledger.jsonl"), at(from, &["ledger", "export"]).success().stdout()).unwrap();
        at(to, &["ledger", "import", &env.path("ledger.jsonl").display().to_string()]).success();
    };
    give("", "laptop");
    at("laptop", &["prepare"]).success();
    let push = ["push", "gull-rock", "--yes"];
    env.write("shelf/mode", "fails");
    at("", &push).fails(4);
    env.write("shelf/mode", "loses");
    at("laptop", &push).fails(4);
    give("laptop", "");
    env.write("shelf/mode", "works");
    let found = at("", &push).success().stdout();
    assert!(found.contains("its number there is 7"), "{found}");
    let attempts = std::fs::read_dir(env.path("shelf")).unwrap().count() - 1;
    assert_eq!(attempts, 1, "it was brought there more than once");
    give("", "laptop");
    let again = at("laptop", &push).success().stdout();
    assert!(again.contains("is at gull-rock already"), "{again}");
}
