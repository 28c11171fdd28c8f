//! A key divided over sheets of paper, and brought back from some of them: with lantern, and with what stands on the sheets alone.

use std::io::Write;
use std::process::{Command, Stdio};

use crate::env::{Ran, TestEnv};

const PASSPHRASE: &str = "the tide comes in slowly";

fn run(env: &TestEnv, arguments: &[&str]) -> Ran {
    Ran { output: env.command(arguments).env("LANTERN_KEY_PASSPHRASE", PASSPHRASE).output().unwrap() }
}

/// A key, divided over five sheets, three of which bring it back.
fn with_sheets() -> TestEnv {
    let env = TestEnv::without_storefront();
    env.write("lantern.toml", "[game]\nname = \"Saltmarsh Post\"\nstudio = \"Paper <Heron>\"\nidentity = \"example.paperheron.saltmarsh\"\nversion = \"1.3.2\"\n\n[targets.linux]\nexport = \"exports/linux\"\nstarts = \"saltmarsh\"\nsign = \"mobile\"\n");
    run(&env, &["key", "new", "mobile", "--kind", "p-256"]).success();
    let made = run(&env, &["key", "backup", "mobile", "sheets", "--sheets", "3/5"]).success().stdout();
    assert!(made.contains("divided the key mobile over 5 sheets in sheets"), "{made}");
    assert!(
        made.contains("lantern key drill mobile sheets/sheet-1.html sheets/sheet-2.html sheets/sheet-3.html"),
        "{made}"
    );
    env
}

fn fingerprint(env: &TestEnv, key: &str) -> String {
    run(env, &["key", "show", key, "--json"]).json()["sha256"].as_str().unwrap().to_owned()
}

fn sheet(env: &TestEnv, number: u8) -> String {
    String::from_utf8(env.read(&format!("sheets/sheet-{number}.html"))).unwrap()
}

/// The text between two marks of a page.
fn between<'a>(text: &'a str, from: &str, to: &str) -> &'a str {
    let rest = &text[text.find(from).unwrap() + from.len()..];
    &rest[..rest.find(to).unwrap()]
}

#[test]
fn sheets_are_drilled_and_bring_the_key_back() {
    let env = with_sheets();
    let warned = run(&env, &["key", "show", "mobile"]).success().stdout();
    assert!(warned.contains("any 3 of 5 sheets of the set") && warned.contains("never opened"), "{warned}");
    let few = run(&env, &["key", "drill", "mobile", "sheets/sheet-1.html", "sheets/sheet-4.html"]).fails(2);
    assert!(
        few.stderr().contains("there are 2 sheets of the set") && few.stderr().contains("3 are needed"),
        "{}",
        few.whole()
    );
    let three = ["sheets/sheet-5.html", "sheets/sheet-1.html", "sheets/sheet-4.html"];
    // The passphrase of the key is not asked for: sheets have none.
    let drilled = Ran { output: env.command(&[&["key", "drill", "mobile"], &three[..]].concat()).output().unwrap() };
    assert!(drilled.success().stdout().contains("bring the key mobile back, and it signs"));
    let shown = run(&env, &["key", "show", "mobile", "--json"]).json();
    let backups = shown["backups"].as_array().unwrap();
    assert_eq!((backups.len(), &backups[0]["sheets_needed"], &backups[0]["sheets"]), (1, &3.into(), &5.into()));
    assert!(backups[0]["drilled"].is_string());
    assert!(!run(&env, &["doctor"]).stdout().contains("no backup of the key"));
    // The computer is gone; the words of one sheet were typed, the codes of the others scanned.
    let before = fingerprint(&env, "mobile");
    std::fs::remove_dir_all(env.path("home/keys")).unwrap();
    let words = between(&sheet(&env, 2), "<table>\n<tr><td><small>", "</table>").replace(['<', '>'], " ");
    let words: Vec<&str> = words
        .split_whitespace()
        .filter(|word| word.len() > 3 && !word.contains("small") && word.chars().all(char::is_alphabetic))
        .collect();
    assert_eq!(words.len(), 40);
    env.write("typed.txt", &words.join("\n"));
    let line = |number| format!("KL1:SHARE:{}", between(&sheet(&env, number), "KL1:SHARE:", "<")).to_lowercase();
    env.write("scanned.txt", &format!("{}\n{}\n", line(3), line(5)));
    let store: Vec<String> =
        sheet(&env, 3).split("data-code=\"").skip(1).map(|rest| rest.split('"').next().unwrap().to_owned()).collect();
    assert!(store.len() > 1);
    env.write("store.txt", &store.join("\r\n"));
    let back = run(&env, &["key", "import", "mobile", "typed.txt", "scanned.txt", "store.txt"]).success();
    assert!(back.stdout().contains("imported the key mobile"), "{}", back.whole());
    assert_eq!(fingerprint(&env, "mobile"), before);
}

#[test]
fn a_sheet_says_what_it_is_for_and_how_it_works_without_lantern() {
    let env = with_sheets();
    let page = sheet(&env, 2);
    for part in [
        "Recovery sheet 2 of 5",
        "Any 3 of these 5 sheets bring the signing key <b>mobile</b> back",
        "updates of Saltmarsh Post (example.paperheron.saltmarsh) are signed with it",
        "Paper \\&lt;Heron\\&gt;",
        &fingerprint(&env, "mobile"),
    ] {
        assert!(page.contains(part), "{part}");
    }
    assert!(["://", "src=", "@import", "url("].iter().all(|loads| !page.contains(loads)), "nothing is loaded");
    // What stands on the sheets, followed to the letter.
    let unescape = |text: &str| {
        text.replace("&lt;", "<")
            .replace("&gt;", ">")
            .replace("&quot;", "\"")
            .replace("&#39;", "'")
            .replace("&amp;", "&")
    };
    env.write("combine.py", &unescape(between(&page, "passphrase of that file:\n<pre>", "</pre>")));
    let share = |number: u8| {
        let page = sheet(&env, number);
        format!(
            "{number} {}\n",
            between(&page, &format!("is that of sheet number {number}:</p>\n<p class=\"mono\">"), "<")
        )
    };
    let mut python = Command::new("python3")
        .arg(env.path("combine.py"))
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let shares: String = [5, 2, 3].map(share).concat();
    python.stdin.take().unwrap().write_all(shares.as_bytes()).unwrap();
    let passphrase = String::from_utf8(python.wait_with_output().unwrap().stdout).unwrap();
    assert_eq!(passphrase.trim().len(), 64, "{passphrase}");
    let parts: String = page.split("data-code=\"").skip(1).map(|rest| rest.split(':').nth(5).unwrap()).collect();
    env.write("store.txt", &parts);
    let command = unescape(between(&page, "file of PKCS #12:\n<pre>", "</pre>"));
    let made = Command::new("sh").arg("-c").arg(command).current_dir(env.path("")).status().unwrap();
    assert!(made.success());
    let opened = Command::new("openssl")
        .args(["pkcs12", "-in", "store.p12", "-nodes", "-passin", &format!("pass:{}", passphrase.trim())])
        .current_dir(env.path(""))
        .output()
        .unwrap();
    assert!(
        String::from_utf8_lossy(&opened.stdout).contains("BEGIN PRIVATE KEY"),
        "{}",
        String::from_utf8_lossy(&opened.stderr)
    );
}

#[cfg(unix)]
#[test]
fn sheets_are_for_their_owner_alone_and_replace_nothing() {
    use std::os::unix::fs::PermissionsExt;
    let env = with_sheets();
    let mode = |name: &str| std::fs::metadata(env.path(name)).unwrap().permissions().mode() & 0o777;
    assert_eq!((mode("sheets"), mode("sheets/sheet-1.html")), (0o700, 0o600));
    let there = run(&env, &["key", "backup", "mobile", "sheets", "--sheets", "2/3"]).fails(2);
    assert!(there.stderr().contains("is there already"), "{}", there.whole());
    for (numbers, expected) in
        [("1/3", "at least 2 must be needed"), ("4/3", "cannot be made"), ("three", "two numbers such as 3/5")]
    {
        let refused = run(&env, &["key", "backup", "mobile", "more", "--sheets", numbers]).fails(2);
        assert!(refused.stderr().contains(expected), "{}", refused.whole());
        assert!(!env.path("more").exists());
    }
    // A share or the secret is nowhere but on the sheets.
    let digits = sheet(&env, 1);
    let digits = between(&digits, "is that of sheet number 1:</p>\n<p class=\"mono\">", "<").to_owned();
    for (path, bytes) in crate::env::files(&env.path("")) {
        let is_there = bytes.windows(64).any(|part| part.eq_ignore_ascii_case(digits.as_bytes()));
        assert_eq!(is_there, path == "sheets/sheet-1.html", "{path}");
    }
}
