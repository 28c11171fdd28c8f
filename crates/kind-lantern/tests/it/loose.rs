//! Loose files and folders that are signed without a project, and statements of how a release came about.

use lantern_rehearsal::exports::{GameVersion, write_android, write_windows};

use crate::env::{Ran, TestEnv, files};
use crate::keys::PASSPHRASE;

struct Bench(TestEnv);

impl Bench {
    fn new() -> Self {
        let env = TestEnv::without_storefront();
        let bench = Self(env);
        bench.run(&["key", "new", "studio", "--kind", "p-256", "--subject", "CN=Paper Heron"]).success();
        bench
    }

    fn run(&self, arguments: &[&str]) -> Ran {
        let mut command = self.0.command(arguments);
        Ran { output: command.env("LANTERN_KEY_PASSPHRASE", PASSPHRASE).output().unwrap() }
    }
}

#[test]
fn a_program_is_signed_where_it_lies_or_elsewhere() {
    let bench = Bench::new();
    write_windows(&bench.0.path("loose"), GameVersion::New).unwrap();
    let plain = bench.0.read("loose/Saltmarsh Post.exe");
    bench.run(&["sign", "loose/Saltmarsh Post.exe", "--key", "studio", "--to", "signed.exe"]).success();
    assert_eq!(bench.0.read("loose/Saltmarsh Post.exe"), plain, "with --to the original stays");
    let seen = bench.run(&["verify", "signed.exe", "--json"]).json();
    assert_eq!((&seen["intact"], &seen["signed_by"]), (&true.into(), &"Paper Heron".into()));
    // Of a folder the programs alone, and each once.
    let signed = bench.run(&["sign", "loose", "--key", "studio", "--json"]).json();
    assert_eq!(signed["files"].as_array().unwrap().len(), 1, "{signed}");
    assert_eq!(
        bench.0.read("loose/Saltmarsh Post.exe"),
        bench.0.read("signed.exe"),
        "the same key gives the same bytes"
    );
    let again = bench.run(&["sign", "loose", "--key", "studio", "--json"]).json();
    assert_eq!(again["files"][0]["did"], "had-it");
    assert!(!files(&bench.0.path("loose")).keys().any(|name| name.contains("lantern-part")));
    // A package in itself, anything else beside itself.
    write_android(&bench.0.path("saltmarsh.apk"), GameVersion::New, false).unwrap();
    bench.run(&["sign", "saltmarsh.apk", "--key", "studio"]).success();
    assert_eq!(bench.run(&["verify", "saltmarsh.apk", "--json"]).json()["intact"], true);
    bench.0.write("letters.txt", "Dear Aldous\n");
    bench.run(&["sign", "letters.txt", "--key", "studio"]).success();
    assert!(bench.run(&["verify", "letters.txt"]).success().stdout().contains("which is studio of your keyring"));
    bench.0.write("letters.txt", "Dear Aldous,\n");
    let changed = bench.run(&["verify", "letters.txt"]).fails(5);
    assert!(changed.stdout().contains("what was signed has changed"), "{}", changed.whole());
}

#[test]
fn what_cannot_be_signed_stays_as_it_is() {
    let bench = Bench::new();
    write_windows(&bench.0.path("loose"), GameVersion::New).unwrap();
    let plain = bench.0.read("loose/Saltmarsh Post.exe");
    let wrong =
        bench.0.command(&["sign", "loose", "--key", "studio"]).env("LANTERN_KEY_PASSPHRASE", "another").output();
    assert!(Ran { output: wrong.unwrap() }.fails(3).stderr().contains("the passphrase is not the right one"));
    let nobody = bench.run(&["sign", "loose", "--key", "marsh"]).fails(2);
    assert!(nobody.stderr().contains("there is no key marsh"), "{}", nobody.whole());
    let away = bench.run(&["sign", "loose", "--key", "studio", "--time-stamps", "http://127.0.0.1:9/stamp"]).fails(3);
    assert!(away.stderr().contains("did not answer"), "{}", away.whole());
    let missing = bench.run(&["sign", "no-such-file", "--key", "studio"]).fails(6);
    assert!(missing.stderr().contains("no-such-file"), "{}", missing.whole());
    std::fs::write(bench.0.path("loose/cut.dll"), &plain[..300]).unwrap();
    let cut = bench.run(&["sign", "loose/cut.dll", "--key", "studio"]).fails(3);
    assert!(cut.stderr().contains("cut off"), "{}", cut.whole());
    assert_eq!(bench.0.read("loose/Saltmarsh Post.exe"), plain);
    assert!(!files(&bench.0.path("loose")).keys().any(|name| name.contains("lantern-part")));
}

#[test]
fn a_statement_says_how_a_release_came_about() {
    let bench = Bench::new();
    bench.0.export(GameVersion::Old);
    let game =
        "[game]\nname = \"Saltmarsh Post\"\nstudio = \"Paper Heron\"\nidentity = \"example.paperheron.saltmarsh\"\n";
    let target = "[targets.linux]\nexport = \"exports/linux\"\n";
    let looks = "[last-look]\nquestions = [\"Do the credits name everyone?\"]\n";
    bench.0.write("lantern.toml", &format!("{game}version = \"1.3.2\"\n\n{target}\n{looks}"));
    bench.run(&["prepare"]).success();
    bench.run(&["last-look", "1.3.2", "--yes", "1"]);
    bench.run(&["releases", "statement", "1.3.2", "statement.json", "--key", "studio"]).success();
    bench.run(&["releases", "write", "1.3.2", "out"]).success();
    let verified = bench.run(&["verify", "statement.json", "--files", "out", "--json"]).json();
    let statement = &verified["statement"];
    assert_eq!(
        (&verified["intact"], &statement["predicate"]["identity"]),
        (&true.into(), &"example.paperheron.saltmarsh".into())
    );
    assert_eq!(statement["_type"], "https://in-toto.io/Statement/v1");
    assert_eq!(verified["agree"].as_u64().unwrap(), statement["subject"].as_array().unwrap().len() as u64);
    assert_eq!(statement["predicate"]["lastLook"][0]["question"], "Do the credits name everyone?");
    // Digests are those of the files, as a general tool computes them.
    #[cfg(target_os = "linux")]
    {
        let first = &statement["subject"][0];
        let path = first["name"].as_str().unwrap().split_once('/').unwrap().1;
        let output = std::process::Command::new("sha256sum").arg(bench.0.path("out").join(path)).output().unwrap();
        assert!(String::from_utf8(output.stdout).unwrap().starts_with(first["digest"]["sha256"].as_str().unwrap()));
    }
    // A changed file, one more, and one that is missing.
    bench.0.write("out/saltmarsh.dat", "another");
    bench.0.write("out/more.txt", "more");
    std::fs::remove_file(bench.0.path("out/letters/en.txt")).unwrap();
    let wrong = bench.run(&["verify", "statement.json", "--files", "out"]).fails(5);
    for part in ["saltmarsh.dat: different content", "more.txt: not in the statement", "linux/letters/en.txt: missing"]
    {
        assert!(wrong.stdout().contains(part), "{part}: {}", wrong.whole());
    }
    // A changed statement says nothing.
    let text = String::from_utf8(bench.0.read("statement.json")).unwrap();
    let at = text.find("\"payload\": \"").unwrap() + 40;
    let other = if text.as_bytes()[at] == b'A' { "B" } else { "A" };
    bench.0.write("statement.json", &format!("{}{other}{}", &text[..at], &text[at + 1..]));
    let changed = bench.run(&["verify", "statement.json"]).fails(5);
    assert!(changed.stdout().contains("it was changed after it was signed"), "{}", changed.whole());
}
