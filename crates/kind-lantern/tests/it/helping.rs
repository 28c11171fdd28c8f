//! The log of every run, and what is shown to others of it.

use crate::env::TestEnv;

#[test]
fn every_run_leaves_a_log() {
    let env = TestEnv::new();
    env.lantern(&["prepare"]).success();
    assert_eq!(crate::env::files(&env.path(".lantern/logs")).len(), 1, "the first run leaves one, too");
    env.connect();
    env.release("1.3.2 (1)");
    env.lantern(&["push", "nowhere"]).fails(2);
    let logs = crate::env::files(&env.path(".lantern/logs"));
    let texts: Vec<String> = logs.values().map(|bytes| String::from_utf8(bytes.clone()).unwrap()).collect();
    let push = texts.iter().find(|text| text.contains("push brambleyard --yes")).unwrap();
    for expected in ["PUT http://127.0.0.1:", "/packs/", ": 204 in ", "recorded asked", "recorded pushed", "done"] {
        assert!(push.contains(expected), "{expected}: {push}");
    }
    assert!(texts.last().unwrap().contains("ended with exit code 2"), "{}", texts.last().unwrap());
    let verbose = env.lantern(&["live", "--verbose"]).success();
    assert!(verbose.stderr().contains("GET http://127.0.0.1:"), "{}", verbose.stderr());
    for _ in 0..40 {
        env.lantern(&["releases"]).success();
    }
    assert!(crate::env::files(&env.path(".lantern/logs")).len() <= 31);
}

#[test]
fn no_secret_is_shown_to_anybody() {
    let env = TestEnv::live();
    let secret = env.running().stand_in().secret().to_owned();
    // Planted where people leave them: in the configuration, in an argument, in a comment.
    env.edit("lantern.toml", "[game]", &format!("# my secret: {secret}\n[game]"));
    env.lantern(&["promote", "brambleyard", "open-water", "--plan", "--because", &secret]).success();
    env.lantern(&["push", "brambleyard", "--message", &secret, "--yes"]).success();
    let mut command = env.command(&["help-me"]);
    assert!(command.env_remove("LANTERN_SECRET").output().unwrap().status.success());
    let text = String::from_utf8(env.read("lantern-help.txt")).unwrap();
    assert!(text.contains("(secret)") && !text.contains(&secret));
    for expected in ["== facts", "== lantern.toml", "== ledger and store", "== log "] {
        assert!(text.contains(expected), "{expected}");
    }
    // Tokens come and go; none may stand in any log either.
    let logs = crate::env::files(&env.path(".lantern/logs"));
    let all: String = logs.values().map(|bytes| String::from_utf8_lossy(bytes).into_owned()).collect();
    assert!(!all.to_lowercase().contains("bearer") && !all.contains("access_token"), "{all}");
    let second = env.lantern(&["help-me", "--json"]).success().json();
    assert_eq!(second["path"], "lantern-help-2.txt");
    env.lantern(&["help-me", "lantern-help.txt"]).fails(2);
}

#[test]
fn a_value_that_sounds_secret_is_shown_to_nobody() {
    let env = TestEnv::live();
    let planted = ["s3cr3t-value-123", "tok-4567-abcdef", "pa55-word"];
    let [secret, token, password] = planted;
    env.edit(
        "lantern.toml",
        "kind = \"protocol\"",
        &format!(
            "kind = \"protocol\"\nsecret = \"{secret}\"\naccess = {{ token = '{token}' }}\nPassWord = \"{password}\""
        ),
    );
    let ran =
        [&["check"][..], &["check", "--json"], &["prepare"], &["help-me", "help.txt"]].map(|a| env.lantern(a).whole());
    let file = String::from_utf8(env.read("help.txt")).unwrap();
    assert!(file.contains("secret = (taken out)"), "{file}");
    let logs = crate::env::files(&env.path(".lantern/logs")).into_values();
    let logs = logs.map(|bytes| String::from_utf8_lossy(&bytes).into_owned());
    for text in ran.into_iter().chain([file]).chain(logs) {
        assert!(!planted.iter().any(|secret| text.contains(secret)), "{text}");
    }
}

#[test]
fn help_comes_although_much_is_broken() {
    let env = TestEnv::live();
    env.edit("lantern.toml", "starts =", "start =");
    std::fs::write(env.path(".lantern/ledger.db"), "no database").unwrap();
    env.lantern(&["help-me"]).success();
    let text = String::from_utf8(env.read("lantern-help.txt")).unwrap();
    assert!(text.contains("start = \"saltmarsh\"") && text.contains("cannot be opened"), "{text}");
}

/// Progress for programs: lines that say what is done of what, next to the one document.
#[test]
fn progress_in_lines() {
    let env = TestEnv::live();
    env.next_version();
    let lines = |arguments: &[&str]| -> Vec<(String, u64, u64)> {
        let ran = env.lantern(&[arguments, &["--progress", "json", "--json"]].concat()).success();
        ran.json();
        let line = |line: &str| {
            let line: serde_json::Value = serde_json::from_str(line).unwrap();
            crate::schema::check(&line);
            let number = |key: &str| line[key].as_u64().unwrap();
            (line["task"].as_str().unwrap().to_owned(), number("done"), number("total"))
        };
        ran.stderr().lines().map(line).collect()
    };
    let seen = lines(&["prepare"]);
    assert!(seen.iter().any(|(task, done, total)| task == "seal" && *done == 0 && *total > 1_000_000), "{seen:?}");
    let seen = lines(&["push", "brambleyard", "--yes"]);
    assert!(seen.iter().any(|(task, done, total)| task == "send" && *done == 0 && *total > 1_000), "{seen:?}");
}

#[test]
fn help_comes_where_nothing_can_be_read_and_where_nothing_is() {
    let env = TestEnv::live();
    env.write("lantern.toml", "[game\nname = \"Saltmarsh Post\"\nsecret = \"s3cr3t-value-123\"\n");
    env.lantern(&["help-me", "help.txt"]).success();
    let text = String::from_utf8(env.read("help.txt")).unwrap();
    assert!(text.contains("cannot be opened") && text.contains("name = \"Saltmarsh Post\""), "{text}");
    assert!(!text.contains("s3cr3t"), "{text}");
    std::fs::remove_file(env.path("lantern.toml")).unwrap();
    env.lantern(&["help-me", "again.txt"]).success();
    assert!(String::from_utf8(env.read("again.txt")).unwrap().contains("there is no lantern.toml"));
}

#[cfg(target_os = "linux")]
#[test]
fn a_full_device_is_an_error_and_a_closed_pipe_is_none() {
    let env = TestEnv::live();
    for arguments in [&["completions", "bash"][..], &["--help"], &["live", "--offline"], &["releases", "--json"], &[]] {
        let full = std::fs::File::options().write(true).open("/dev/full").unwrap();
        let output = env.command(arguments).stdout(full).output().unwrap();
        assert_eq!(output.status.code(), Some(6), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
        let mut child = env.command(arguments).stdout(std::process::Stdio::piped()).spawn().unwrap();
        drop(child.stdout.take());
        assert_eq!(child.wait().unwrap().code(), Some(0), "{arguments:?}");
    }
}

#[cfg(unix)]
#[test]
fn whoever_ends_the_program_leaves_nothing_half_done() {
    let env = TestEnv::live();
    for signal in ["-TERM", "-HUP"] {
        std::fs::write(env.path("exports/linux/big.pak"), vec![7; 300_000_000]).unwrap();
        let child =
            env.command(&["prepare", "--version", "1.4.0"]).stderr(std::process::Stdio::piped()).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(250));
        let kill = std::process::Command::new("kill").args([signal, &child.id().to_string()]).status().unwrap();
        assert!(kill.success());
        let output = child.wait_with_output().unwrap();
        assert_eq!(output.status.code(), Some(130), "{signal}");
        assert!(String::from_utf8_lossy(&output.stderr).contains("nothing is half done"));
    }
}

/// What is needed, and what to do where it is not there.
#[test]
fn doctor_names_what_is_wrong_with_its_cure() {
    let mut env = TestEnv::live();
    let state = |env: &TestEnv, code: i32, what: &str| {
        let document = env.lantern(&["doctor", "--json"]).fails(code).json();
        let all = document["checks"].as_array().unwrap().clone();
        let one = all.into_iter().find(|check| check["what"] == what).unwrap_or_default();
        (one["state"].as_str().unwrap_or_default().to_owned(), one.to_string())
    };
    for what in ["lantern", "clock", "game", "project folder", "room", "ledger", "brambleyard"] {
        assert_eq!(state(&env, 0, what).0, "well", "{}", state(&env, 0, what).1);
    }
    let by_hand = "\n[storefronts.old-pier]\nkind = \"by-hand\"\nrules = \"places/old-pier.toml\"\n";
    env.write("lantern.toml", &(env.config("1.3.2") + by_hand));
    let (is, said) = state(&env, 1, "old-pier");
    assert!(is == "wrong" && said.contains("lantern storefronts new old-pier"), "{said}");
    let connector = "\n[storefronts.gull-rock]\nkind = \"connector\"\nrun = [\"no-such-program-here\"]\n";
    env.write("lantern.toml", &(env.config("1.3.2") + connector));
    let (is, said) = state(&env, 1, "gull-rock");
    assert!(is == "wrong" && said.contains("check run = […]"), "{said}");
    env.write("lantern.toml", &env.config("1.3.2"));
    env.close_storefront();
    let (is, said) = state(&env, 1, "brambleyard");
    assert!(is == "wrong" && said.contains("could not be reached"), "{said}");
    env.write("lantern.toml", "[game");
    assert_eq!(state(&env, 1, "game").0, "wrong");
    std::fs::remove_file(env.path("lantern.toml")).unwrap();
    assert_eq!(state(&env, 0, "game").0, "absent");
    let shown = env.lantern(&["doctor"]).success().stdout();
    assert!(shown.contains("lantern init writes one"), "{shown}");
}
