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
fn prepare_keeps_a_statement_of_what_it_seals() {
    const KEPT: &str = ".lantern/statements/1.3.2-1.json";
    let bench = Bench::new();
    bench.0.export(GameVersion::Old);
    let config = "[game]\nname = \"Saltmarsh Post\"\nstudio = \"Paper Heron\"\nidentity = \"example.paperheron.saltmarsh\"\nversion = \"1.3.2\"\n\n\
        [targets.linux]\nexport = \"exports/linux\"\n\n[sealing]\nstatement = \"marsh\"\n\n[last-look]\nquestions = [\"Do the credits name everyone?\"]\n";
    bench.0.write("lantern.toml", config);
    let unknown = bench.run(&["prepare"]).fails(1).whole();
    assert!(unknown.contains("there is no key marsh") && unknown.contains("lantern.toml, line 11"), "{unknown}");
    bench.0.edit("lantern.toml", "marsh\"\n\n[last", "studio\"\n\n[last");
    // Without the passphrase the release is sealed all the same, and the next run writes what is missing.
    let missing = Ran { output: bench.0.command(&["prepare"]).output().unwrap() }.fails(3).stderr();
    for said in [
        "1.3.2 (1) is sealed, and its statement was not written",
        "the passphrase of the key studio is missing",
        "then lantern prepare writes it",
    ] {
        assert!(missing.contains(said) && !bench.0.path(KEPT).exists(), "{missing}");
    }
    let same = bench.run(&["prepare", "--json"]).success().one();
    assert_eq!((&same["made"], &same["statement"]), (&false.into(), &KEPT.into()));
    let verified = bench.run(&["verify", KEPT, "--json"]).json();
    let said = &verified["statement"]["predicate"];
    assert_eq!((&verified["intact"], &said["version"]), (&true.into(), &"1.3.2".into()));
    assert!(said["lastLook"][0]["yes"].is_null() && said["tool"]["version"].is_string(), "{said}");
    // What was said then stays said; what is damaged is written again, with what is known by then.
    let first = bench.0.read(KEPT);
    bench.run(&["last-look", "1.3.2", "--answer", "1=yes"]).success();
    bench.run(&["prepare"]).success();
    assert_eq!(bench.0.read(KEPT), first);
    bench.0.write(KEPT, &String::from_utf8(first).unwrap().replacen("\"payload\": \"ey", "\"payload\": \"fy", 1));
    bench.run(&["prepare"]).success();
    let again = bench.run(&["verify", KEPT, "--json"]).json();
    assert_eq!(again["statement"]["predicate"]["lastLook"][0]["yes"], true, "{again}");
    // What a newer lantern has written is not touched.
    let kept = bench.0.read(KEPT);
    let keyring = lantern_keys::keyring::Keyring::new(bench.0.path("home/keys"));
    let passphrase = lantern_keys::Passphrase::new(PASSPHRASE.to_owned());
    let key = keyring.open(&"studio".parse().unwrap(), &passphrase).unwrap();
    let later = br#"{"_type":"https://in-toto.io/Statement/v1","subject":[],"predicateType":"https://kind-lantern.example/preparation/v2","predicate":{}}"#;
    let later = serde_json::to_string_pretty(&lantern_sign::statement::seal(later, &[&key]).unwrap()).unwrap();
    bench.0.write(KEPT, &later);
    bench.run(&["prepare"]).success();
    assert!(bench.0.read(KEPT) == later.as_bytes(), "it was written over");
    std::fs::write(bench.0.path(KEPT), kept).unwrap();
    // One of another release of that number does not count.
    bench.0.edit("lantern.toml", "1.3.2", "1.3.3");
    bench.0.write("exports/linux/letters/en.txt", "another letter");
    std::fs::copy(bench.0.path(KEPT), bench.0.path(".lantern/statements/1.3.3-2.json")).unwrap();
    let next = bench.run(&["prepare"]).success().stdout();
    assert!(next.contains("statement ") && next.contains(".lantern/statements/1.3.3-2.json"), "{next}");
    let of_next = bench.run(&["verify", ".lantern/statements/1.3.3-2.json", "--json"]).json();
    assert_eq!(of_next["statement"]["predicate"]["version"], "1.3.3");
    // Nothing is signed when that is said.
    bench.0.edit("lantern.toml", "1.3.3", "1.3.4");
    bench.run(&["prepare", "--unsigned"]).success();
    assert!(!bench.0.path(".lantern/statements/1.3.4-3.json").exists());
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
    bench.run(&["last-look", "1.3.2", "--answer", "1=yes"]).success();
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
    assert_eq!(statement["predicate"]["lastLook"][0]["yes"], true);
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
