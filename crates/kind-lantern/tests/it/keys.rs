//! Keys from the command line, and what is signed with them on its way to a release.

use std::path::Path;
use std::process::Command;

use lantern_core::system::System;
use lantern_rehearsal::exports::{GameVersion, write_android, write_linux, write_windows};

use crate::env::{Ran, TestEnv, files, holds};

pub const PASSPHRASE: &str = "the tide comes in slowly";

/// A game for phones whose package a key signs that is not there yet.
pub struct Phone(pub TestEnv);

impl Phone {
    pub fn new() -> Self {
        let env = TestEnv::without_storefront();
        write_android(&env.path("exports/saltmarsh.apk"), GameVersion::Old, false).unwrap();
        let game = "[game]\nname = \"Saltmarsh Post\"\nstudio = \"Paper Heron\"\nidentity = \"example.paperheron.saltmarsh\"\n";
        let target = "[targets.phone]\nsystems = [\"android\"]\nexport = \"exports/saltmarsh.apk\"\nsign = \"saltmarsh-mobile\"\n";
        env.write("lantern.toml", &format!("{game}version = \"1.3.2\"\n\n{target}"));
        env.lantern(&["number", "--next", "25"]).success();
        Self(env)
    }

    pub fn with_key() -> Self {
        let phone = Self::new();
        phone.run(&["key", "new", "saltmarsh-mobile", "--kind", "p-256"]).success();
        phone
    }

    fn command(&self, arguments: &[&str]) -> Command {
        self.0.command(arguments)
    }

    /// With the passphrase at hand.
    pub fn run(&self, arguments: &[&str]) -> Ran {
        let output = self.command(arguments).env("LANTERN_KEY_PASSPHRASE", PASSPHRASE).output().unwrap();
        Ran { output }
    }

    pub fn without_passphrase(&self, arguments: &[&str]) -> Ran {
        Ran { output: self.command(arguments).output().unwrap() }
    }

    fn keys(&self) -> String {
        self.0.path("home/keys").to_str().unwrap().to_owned()
    }

    pub fn inspected(&self, of: &str) -> serde_json::Value {
        let _ = std::fs::remove_dir_all(self.0.path("out"));
        self.run(&["releases", "write", of, "out"]).success();
        self.run(&["inspect", "out/saltmarsh.apk", "--json"]).json()
    }
}

/// The same key again: what `openssl` made and others have, in every form that is read.
pub fn sample(name: &str) -> String {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../lantern-keys/tests/samples");
    folder.join(name).to_str().unwrap().to_owned()
}

#[test]
fn from_a_new_key_to_a_signed_release() {
    let phone = Phone::new();
    let missing = phone.run(&["prepare"]).fails(1);
    assert!(
        missing.stderr().contains("there is no key saltmarsh-mobile") && missing.stderr().contains("key-not-there"),
        "{}",
        missing.whole()
    );
    phone.run(&["key", "new", "saltmarsh-mobile", "--kind", "p-256"]).success();
    // Nothing is signed without the passphrase, nor with another one, and nothing is sealed.
    let asked = phone.without_passphrase(&["prepare"]).fails(3);
    assert!(asked.stderr().contains("the passphrase of the key saltmarsh-mobile is missing"), "{}", asked.whole());
    phone.0.write("wrong", "another one\n");
    phone.0.write("right", &format!("{PASSPHRASE}\nmore lines\n"));
    let wrong = phone.without_passphrase(&["prepare", "--passphrase-file", "wrong"]).fails(3);
    assert!(wrong.stderr().contains("the passphrase is not the right one"), "{}", wrong.whole());
    assert!(!phone.0.event_kinds().iter().any(|kind| kind == "sealed"));
    let sealed = phone.without_passphrase(&["prepare", "--passphrase-file", "right"]).success();
    assert!(sealed.stdout().contains("phone with the key saltmarsh-mobile"), "{}", sealed.whole());
    assert!(sealed.stdout().contains("there is no backup of the key saltmarsh-mobile"), "{}", sealed.whole());
    // The key is pinned, and no passphrase is needed where nothing is signed.
    let shown = phone.run(&["key", "show", "saltmarsh-mobile", "--json"]).json();
    let pin = format!("on-device = \"{}\"", shown["sha256"].as_str().unwrap());
    assert!(String::from_utf8(phone.0.read("lantern.toml")).unwrap().contains(&pin));
    assert!(phone.without_passphrase(&["prepare"]).success().stdout().contains("nothing changed"));
    assert!(
        phone
            .run(&["key", "show", "saltmarsh-mobile"])
            .success()
            .stdout()
            .contains("example.paperheron.saltmarsh, on-device")
    );
    let facts = phone.inspected("1.3.2").to_string();
    assert!(facts.contains(shown["sha256"].as_str().unwrap()), "{facts}");
    // The board says so, too, until a copy was drilled.
    let board = phone.run(&[]).success().stdout();
    assert!(board.contains("careful: there is no backup of the key saltmarsh-mobile"), "{board}");
    assert_eq!(phone.run(&["--json"]).one()["keys"][0]["code"], "no-drilled-backup");
    // A drilled copy, and nobody warns any more.
    let ill = phone.run(&["doctor"]).fails(1);
    assert!(ill.stdout().contains("there is no backup of the key saltmarsh-mobile"), "{}", ill.whole());
    phone.run(&["key", "backup", "saltmarsh-mobile", "copy.p12"]).success();
    assert!(phone.run(&["check"]).success().stdout().contains("was ever opened"));
    phone.run(&["key", "drill", "saltmarsh-mobile", "copy.p12"]).success();
    assert!(!phone.run(&["check"]).success().stdout().contains("no-drilled-backup"));
    assert!(!phone.run(&[]).success().stdout().contains("careful:"));
    let well = phone.run(&["doctor"]);
    assert!(well.stdout().contains("key saltmarsh-mobile   its certificate is valid until 2056"), "{}", well.whole());
    // The next version is signed by the same key without a word about pins.
    write_android(&phone.0.path("exports/saltmarsh.apk"), GameVersion::New, false).unwrap();
    phone.0.edit("lantern.toml", "1.3.2", "1.4.0");
    phone.run(&["number", "--next", "27"]).success();
    let next = phone.run(&["prepare"]).success();
    assert!(!next.stdout().contains("key-pinned"), "{}", next.whole());
}

#[test]
fn another_key_than_the_pinned_one_is_refused() {
    let phone = Phone::with_key();
    phone.run(&["prepare"]).success();
    phone.run(&["key", "new", "second", "--kind", "p-256"]).success();
    phone.0.edit("lantern.toml", "sign = \"saltmarsh-mobile\"", "sign = \"second\"");
    phone.0.edit("lantern.toml", "\"1.3.2\"", "\"1.3.3\"");
    let refused = phone.run(&["prepare"]).fails(1);
    let text = refused.stderr();
    for part in [
        "devices know example.paperheron.saltmarsh by another key (",
        "they would refuse an update that is signed with second (",
        "other-key",
        "fix: sign = \"saltmarsh-mobile\"",
    ] {
        assert!(text.contains(part), "{part}: {text}");
    }
    let unknown = phone.run(&["check"]).fails(1);
    assert!(unknown.stdout().contains("other-key"), "{}", unknown.whole());
}

#[test]
fn what_is_signed_already() {
    let phone = Phone::with_key();
    phone.run(&["prepare"]).success();
    phone.run(&["releases", "write", "1.3.2", "out"]).success();
    let signed = phone.0.path("out/saltmarsh.apk");
    let first = phone.run(&["key", "show", "saltmarsh-mobile", "--json"]).json();
    // The engine signs with the very key: it is left as it is, and the key is not opened.
    let other = Phone::new();
    crate::env::copy(&phone.0.path("home/keys"), &other.0.path("home/keys"));
    std::fs::copy(&signed, other.0.path("exports/saltmarsh.apk")).unwrap();
    let came = other.without_passphrase(&["prepare"]).success().stdout();
    assert!(
        came.contains("signed already") && came.contains("phone with the key saltmarsh-mobile: left as it came"),
        "{came}"
    );
    assert!(other.inspected("1.3.2").to_string().contains(first["sha256"].as_str().unwrap()));
    other.run(&["releases", "write", "1.3.2", "again"]).success();
    assert_eq!(other.0.read("again/saltmarsh.apk"), std::fs::read(&signed).unwrap());
    // With another key: only when it is meant so.
    let third = Phone::new();
    third.run(&["key", "new", "saltmarsh-mobile", "--kind", "p-256"]).success();
    std::fs::copy(&signed, third.0.path("exports/saltmarsh.apk")).unwrap();
    let refused = third.run(&["check"]).fails(1);
    assert!(refused.stdout().contains("is signed already, by CN=Paper Heron"), "{}", refused.whole());
    third.0.edit("lantern.toml", "sign = \"saltmarsh-mobile\"", "sign = \"saltmarsh-mobile\"\nsign-again = true");
    third.run(&["prepare"]).success();
    let own = third.run(&["key", "show", "saltmarsh-mobile", "--json"]).json();
    assert_ne!(own["sha256"], first["sha256"]);
    assert!(third.inspected("1.3.2").to_string().contains(own["sha256"].as_str().unwrap()));
}

#[test]
fn sign_on_what_cannot_be_signed_is_an_error() {
    let phone = Phone::with_key();
    phone.0.edit(
        "lantern.toml",
        "[targets.phone]\nsystems = [\"android\"]\nexport = \"exports/saltmarsh.apk\"",
        "[targets.desk]\nsystems = [\"windows-x86_64\", \"linux-x86_64\"]\nexport = \"exports/desk\"\nstarts = [\n\
         { run = [\"Saltmarsh Post.exe\"], systems = [\"windows-x86_64\"] },\n\
         { run = [\"saltmarsh\"], systems = [\"linux-x86_64\"] },\n]",
    );
    write_windows(&phone.0.path("exports/desk"), GameVersion::Old).unwrap();
    write_linux(&phone.0.path("exports/desk"), GameVersion::Old, System::LinuxX86_64).unwrap();
    let refused = phone.run(&["check"]).fails(1);
    assert!(
        refused.stdout().contains(
            "desk is a folder for windows-x86_64, linux-x86_64: sign is for packages, and for builds of one kind of system"
        ),
        "{}",
        refused.whole()
    );
}

#[test]
fn keys_are_imported_and_exported() {
    let phone = Phone::new();
    phone.0.write("file-passphrase", "punt and oar");
    let import = |name: &str, file: &str, more: &[&str]| {
        let file = sample(file);
        let arguments = [&["key", "import", name, &file, "--file-passphrase-file", "file-passphrase"], more].concat();
        phone.run(&arguments)
    };
    for (name, file) in [("a", "legacy.p12"), ("b", "java.p12"), ("c", "aes128-sha512.p12")] {
        assert!(import(name, file, &[]).success().stdout().contains("imported the key"));
    }
    let several = import("d", "two.jks", &[]).fails(2);
    assert!(
        several.stderr().contains("it has 2 keys: ") && several.stderr().contains("--alias"),
        "{}",
        several.whole()
    );
    import("d", "two.jks", &["--alias", "oar"]).success();
    phone.0.write("key-passphrase", "another one");
    import("e", "other-key-passphrase.jks", &[]).fails(3);
    import("e", "other-key-passphrase.jks", &["--key-passphrase-file", "key-passphrase"]).success();
    import("a", "legacy.p12", &[]).fails(2);
    phone.0.write("wrong", "punt and Oar");
    let file = sample("java.p12");
    let wrong = phone.run(&["key", "import", "f", &file, "--file-passphrase-file", "wrong"]).fails(3);
    assert!(wrong.stderr().contains("the passphrase is not the right one"));
    // PEM without encryption, its certificate behind it.
    let pem = [sample("ec.pem"), sample("ec.crt")].map(|path| std::fs::read_to_string(path).unwrap()).concat();
    phone.0.write("open.pem", &pem);
    phone.run(&["key", "import", "g", "open.pem"]).success();
    phone.run(&["key", "export", "g", "g.p12"]).success();
    phone.run(&["key", "import", "h", "g.p12"]).success();
    phone.run(&["key", "export", "g", "g.crt", "--certificate"]).success();
    assert_eq!(phone.0.read("g.crt"), std::fs::read(sample("ec.crt")).unwrap());
    phone.run(&["key", "export", "g", "g.p12"]).fails(6);
    let names: Vec<String> = phone.run(&["key", "list", "--json"]).json()["keys"]
        .as_array()
        .unwrap()
        .iter()
        .map(|key| key["name"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!(names, ["a", "b", "c", "d", "e", "g", "h"]);
}

#[test]
fn mistakes_with_keys() {
    let phone = Phone::with_key();
    for (arguments, code, part) in [
        (&["key", "new", "saltmarsh-mobile"][..], 2, "there is a key saltmarsh-mobile already"),
        (&["key", "show", "saltmarsh-mobil"], 2, "did you mean saltmarsh-mobile?"),
        (&["key", "new", "x", "--subject", "Paper Heron"], 2, "is not a name as RFC 4514 writes it"),
        (&["key", "new", "x", "--years", "0", "--kind", "p-256"], 2, "from 1 to 1000 are possible"),
        (&["key", "new", "x", "--kind", "rsa-1024"], 2, "one of rsa-3072, rsa-4096, p-256"),
        (&["key", "import", "x", "lantern.toml"], 5, "cannot be read"),
        (&["key", "drill", "saltmarsh-mobile", "nowhere.p12"], 6, "nowhere.p12"),
    ] {
        let ran = phone.run(arguments).fails(code);
        assert!(ran.stderr().contains(part), "{arguments:?}: {}", ran.whole());
    }
    let short = phone.command(&["key", "new", "x"]).env("LANTERN_KEY_PASSPHRASE", "short").output().unwrap();
    assert!(String::from_utf8_lossy(&short.stderr).contains("10 are the least"));
    assert!(phone.without_passphrase(&["key", "new", "x"]).fails(7).stderr().contains("--passphrase-file"));
    // A damaged file is said to be that, and nothing of it is lost.
    let key = phone.0.path("home/keys/saltmarsh-mobile.p12");
    let good = std::fs::read(&key).unwrap();
    std::fs::write(&key, &good[..good.len() / 2]).unwrap();
    let damaged = phone.run(&["prepare"]).fails(3);
    assert!(damaged.stderr().contains("the file is damaged"), "{}", damaged.whole());
}

/// Whatever is done: no passphrase and no private key stands anywhere but in the file of the key, and nothing of it in the project.
#[test]
fn nothing_secret_is_written_anywhere() {
    let phone = Phone::new();
    let pem = [sample("ec.pem"), sample("ec.crt")].map(|path| std::fs::read_to_string(path).unwrap()).concat();
    phone.0.write("open.pem", &pem);
    let mut said = String::new();
    for arguments in [
        &["key", "import", "saltmarsh-mobile", "open.pem", "-v"][..],
        &["key", "backup", "saltmarsh-mobile", "copy.p12", "-v"],
        &["key", "drill", "saltmarsh-mobile", "copy.p12", "--json"],
        &["prepare", "-v"],
        &["prepare", "--json"],
        &["key", "show", "saltmarsh-mobile", "--json"],
        &["check", "--json"],
        &["help-me", "--json"],
    ] {
        said += &phone.run(arguments).whole();
    }
    std::fs::remove_file(phone.0.path("open.pem")).unwrap();
    // The secret number of the key, as bytes, in hexadecimal digits and in base 64.
    let lines: String = pem.lines().skip(1).take_while(|line| !line.starts_with("-----")).collect();
    let der = base64_of(&lines);
    let at = der.windows(2).position(|pair| pair == [0x04, 0x20]).unwrap() + 2;
    let secret = &der[at..at + 32];
    let hex: String = secret.iter().map(|byte| format!("{byte:02x}")).collect();
    let tells = |bytes: &[u8]| {
        let text = String::from_utf8_lossy(bytes).replace('\n', "");
        holds(bytes, secret)
            || text.contains(PASSPHRASE)
            || text.to_lowercase().contains(&hex)
            || text.contains(&lines[lines.len() / 4..lines.len() / 2])
    };
    assert!(tells(pem.as_bytes()), "the search finds what it looks for");
    assert!(!tells(said.as_bytes()));
    let everything = files(&phone.0.path("."));
    assert!(everything.keys().any(|name| name.ends_with("keys/saltmarsh-mobile.p12")), "{}", phone.keys());
    for (name, bytes) in everything {
        assert!(!tells(&bytes), "{name}");
    }
}

fn base64_of(text: &str) -> Vec<u8> {
    let mut out = Vec::new();
    let (mut bits, mut count) = (0_u32, 0);
    for c in text.bytes().filter(|c| *c != b'=') {
        let value =
            b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/".iter().position(|known| *known == c);
        bits = bits << 6 | u32::try_from(value.unwrap()).unwrap();
        count += 6;
        if count >= 8 {
            count -= 8;
            out.push((bits >> count) as u8);
            bits &= (1 << count) - 1;
        }
    }
    out
}

/// A signer of the studio's own: it has the key in a file, as a token has it in itself.
#[cfg(target_os = "linux")]
const SIGNER: &str = r#"
import base64, json, subprocess, sys
asked = json.loads(sys.stdin.readline())
assert asked["schema"] == "lantern.signer/1" and asked["key"] == "token", asked
assert set(asked) == {"schema", "key", "algorithm", "hash", "digest"}, asked
digest = bytes.fromhex(asked["digest"])
done = subprocess.run(
    ["openssl", "pkeyutl", "-sign", "-inkey", "key.pem", "-pkeyopt", "digest:" + asked["hash"]],
    input=digest, capture_output=True, check=True,
)
print(json.dumps({"signature": base64.b64encode(done.stdout).decode()}))
"#;

/// A game whose package a program signs.
#[cfg(target_os = "linux")]
fn with_program(script: &str, key: &str) -> Phone {
    let phone = Phone::new();
    phone.0.write("sign.py", script);
    // The certificates of the samples are younger than the tests' clock.
    phone.0.pass_hours(72);
    for (name, from) in [("key.pem", format!("{key}.pem")), ("keys/token.crt", format!("{key}.crt"))] {
        phone.0.write(name, &std::fs::read_to_string(sample(&from)).unwrap());
    }
    phone.0.edit("lantern.toml", "sign = \"saltmarsh-mobile\"", "sign = \"token\"");
    let config = String::from_utf8(phone.0.read("lantern.toml")).unwrap();
    let signer = "[signers.token]\nrun = [\"python3\", \"sign.py\"]\ncertificate = \"keys/token.crt\"\ntime-limit = \"20 seconds\"\n";
    phone.0.write("lantern.toml", &format!("{config}\n{signer}"));
    phone
}

/// Python and openssl are found by PATH, which tests clear.
#[cfg(target_os = "linux")]
fn with_path(phone: &Phone, arguments: &[&str]) -> Ran {
    let path = std::env::var_os("PATH").unwrap();
    Ran { output: phone.command(arguments).env("PATH", path).output().unwrap() }
}

#[cfg(target_os = "linux")]
#[test]
fn a_program_signs_what_it_is_given_the_digest_of() {
    for key in ["ec", "rsa"] {
        let phone = with_program(SIGNER, key);
        let sealed = with_path(&phone, &["prepare"]).success();
        assert!(sealed.stdout().contains("phone with the key token"), "{}", sealed.whole());
        assert!(sealed.stdout().contains("pinned to the key token"), "{}", sealed.whole());
        assert!(phone.inspected("1.3.2").to_string().contains("fingerprint"));
        assert!(with_path(&phone, &["prepare"]).success().stdout().contains("nothing changed"));
    }
}

#[cfg(target_os = "linux")]
#[test]
fn a_program_that_does_not_sign_seals_nothing() {
    for (script, part) in [
        ("print('{\"refused\": \"the token is locked\"}')", "the signer token did not sign: the token is locked"),
        ("print('{\"signature\": \"AAAA\"}')", "its signature is not that of its certificate"),
        ("print('{\"signature\": \"?\"}')", "its signature is not in base 64"),
        ("print('hello')", "its answer is none"),
        ("pass", "it gave no answer"),
        ("import sys\nwhile True: print('x' * 1000)", "its answer does not end"),
        ("import time\ntime.sleep(60)", "it did not answer within 1 seconds"),
    ] {
        let phone = with_program(script, "ec");
        phone.0.edit("lantern.toml", "20 seconds", if script.contains("sleep") { "1 second" } else { "20 seconds" });
        let refused = with_path(&phone, &["prepare"]).fails(3);
        assert!(refused.stderr().contains(part), "{script}: {}", refused.whole());
        assert!(!phone.0.event_kinds().iter().any(|kind| kind == "sealed"), "{script}");
    }
    let phone = with_program(SIGNER, "ec");
    std::fs::remove_file(phone.0.path("keys/token.crt")).unwrap();
    let missing = with_path(&phone, &["check"]).fails(1);
    assert!(missing.stdout().contains("the certificate of the signer token, keys/token.crt"), "{}", missing.whole());
    phone.run(&["key", "new", "token", "--kind", "p-256"]).success();
    let both = with_path(&phone, &["check"]).fails(1);
    assert!(both.stdout().contains("is a key of the keyring, and one of [signers]"), "{}", both.whole());
}

/// A bundle with the least that one has: its manifest is written as Protocol Buffers write it.
fn bundle(path: &Path, identity: &str, number: u8) {
    fn varint(mut number: u64, out: &mut Vec<u8>) {
        while number >= 0x80 {
            out.push(number as u8 | 0x80);
            number >>= 7;
        }
        out.push(number as u8);
    }
    let field = |number: u8, bytes: &[u8]| {
        let mut out = vec![number << 3 | 2];
        varint(bytes.len() as u64, &mut out);
        [&out[..], bytes].concat()
    };
    let attribute = |name: &str, value: &str, id: u64| {
        let mut out = [field(2, name.as_bytes()), field(3, value.as_bytes())].concat();
        if id != 0 {
            out.push(5 << 3);
            varint(id, &mut out);
        }
        field(4, &out)
    };
    let element = [
        field(3, b"manifest"),
        attribute("package", identity, 0),
        attribute("versionCode", &number.to_string(), 0x0101_021b),
        attribute("versionName", "1.3.2", 0x0101_021c),
    ];
    let manifest = field(1, &element.concat());
    let mut zip = lantern_formats::zip::write::ZipWriter::new(std::fs::File::create(path).unwrap());
    for (name, bytes) in
        [("base/manifest/AndroidManifest.xml", &manifest[..]), ("base/assets/letter.txt", b"Dear Aldous")]
    {
        let write = |out: &mut dyn std::io::Write| out.write_all(bytes);
        zip.file(name, lantern_formats::zip::Method::Deflate, 0o644, bytes.len() as u64, write).unwrap();
    }
    zip.finish().unwrap();
}

/// Storefronts may know the studio by another key than devices do: each is pinned in its own role.
#[test]
fn a_bundle_is_signed_for_storefronts() {
    let phone = Phone::with_key();
    bundle(&phone.0.path("exports/saltmarsh.aab"), "example.paperheron.saltmarsh", 25);
    phone.run(&["key", "new", "for-uploads", "--kind", "p-256"]).success();
    let config = String::from_utf8(phone.0.read("lantern.toml")).unwrap();
    let target =
        "[targets.bundle]\nsystems = [\"android\"]\nexport = \"exports/saltmarsh.aab\"\nsign = \"for-uploads\"\n";
    phone.0.write("lantern.toml", &format!("{config}\n{target}"));
    let sealed = phone.run(&["prepare"]).success();
    let fingerprint = |name: &str| {
        let shown = phone.run(&["key", "show", name, "--json"]).json();
        shown["sha256"].as_str().unwrap().to_owned()
    };
    let text = String::from_utf8(phone.0.read("lantern.toml")).unwrap();
    for (role, name) in [("on-device", "saltmarsh-mobile"), ("at-storefront", "for-uploads")] {
        let line = format!("{role} = \"{}\"", fingerprint(name));
        assert!(text.contains(&line), "{line}\n{text}\n{}", sealed.whole());
    }
    phone.run(&["releases", "write", "1.3.2", "out", "--target", "bundle"]).success();
    let inspected = phone.run(&["inspect", "out/saltmarsh.aab", "--json"]).json().to_string();
    assert!(inspected.contains(&fingerprint("for-uploads")), "{inspected}");
    // What was left in lantern.toml is right: the same again makes nothing, and asks for nothing.
    assert!(phone.without_passphrase(&["prepare"]).success().stdout().contains("nothing changed"));
}

/// One key for two games: each has its own pin, although it is the same line.
#[test]
fn one_key_is_pinned_for_each_identity() {
    let phone = Phone::with_key();
    let identities = ["example.paperheron.saltmarsh", "example.paperheron.firsttide"];
    bundle(&phone.0.path("exports/saltmarsh.aab"), identities[0], 25);
    bundle(&phone.0.path("exports/tide.aab"), identities[1], 26);
    let config = String::from_utf8(phone.0.read("lantern.toml")).unwrap().replace("saltmarsh.apk", "saltmarsh.aab");
    let edition = "[editions.first-tide]\nname = \"First Tide\"\nkind = \"demo\"\nidentity = \"example.paperheron.firsttide\"\nversion = \"1.3.2\"\n";
    let target = "[targets.tide]\nedition = \"first-tide\"\nsystems = [\"android\"]\nexport = \"exports/tide.aab\"\nsign = \"saltmarsh-mobile\"\n";
    phone.0.write("lantern.toml", &format!("{config}\n{edition}\n{target}"));
    let sealed = phone.run(&["prepare"]).success();
    let text = String::from_utf8(phone.0.read("lantern.toml")).unwrap();
    for identity in identities {
        let table = format!("[pins.\"{identity}\".android]\nat-storefront = ");
        assert!(text.contains(&table), "{identity}: {}\n{text}", sealed.whole());
    }
}

/// What has nothing to sign gets no passphrase: a game that is tried, and the program of a signer.
#[cfg(target_os = "linux")]
#[test]
fn a_passphrase_is_handed_to_nobody() {
    let script = "import os, sys\nopen('seen', 'w').write(' '.join(name for name in os.environ if name.startswith('LANTERN_')))\n";
    let phone = with_program(&format!("{script}print('{{\"refused\": \"seen\"}}')"), "ec");
    let path = std::env::var_os("PATH").unwrap();
    let run = |arguments: &[&str]| {
        let mut command = phone.command(arguments);
        command.env("PATH", &path).env("LANTERN_KEY_PASSPHRASE", PASSPHRASE).env("LANTERN_SECRET", "ebb-and-flood");
        Ran { output: command.output().unwrap() }
    };
    run(&["prepare"]).fails(3);
    assert_eq!(String::from_utf8(phone.0.read("seen")).unwrap(), "");
    // A game of the studio's is a program like any other.
    phone.0.write("exports/linux/saltmarsh", "#!/bin/sh\nenv > seen-by-the-game\n");
    let config = "[game]\nname = \"Saltmarsh Post\"\nstudio = \"Paper Heron\"\nidentity = \"example.paperheron.saltmarsh\"\nversion = \"1.3.2\"\n\n[targets.linux]\nexport = \"exports/linux\"\nstarts = \"saltmarsh\"\nsystems = [\"linux-x86_64\"]\n";
    phone.0.write("lantern.toml", config);
    run(&["prepare"]).success();
    run(&["try", "--yes"]).success();
    let seen = files(&phone.0.path("."))
        .into_iter()
        .find_map(|(name, bytes)| name.ends_with("seen-by-the-game").then(|| String::from_utf8(bytes).unwrap()));
    let seen = seen.expect("the game was started");
    assert!(!seen.contains(PASSPHRASE) && !seen.contains("ebb-and-flood"), "{seen}");
}

/// A signer beside `lantern.toml` is found there, and Ctrl-C ends it before this program says what came of it.
#[cfg(target_os = "linux")]
#[test]
fn a_signer_of_the_project_is_found_and_can_be_stopped() {
    use std::os::unix::fs::PermissionsExt;
    use std::process::Stdio;
    let phone = with_program("", "ec");
    phone.0.write("tools/sign", "#!/bin/sh\ntrap '' INT\necho $$ > pid\nexec sleep 60\n");
    std::fs::set_permissions(phone.0.path("tools/sign"), std::fs::Permissions::from_mode(0o755)).unwrap();
    phone.0.edit("lantern.toml", "run = [\"python3\", \"sign.py\"]", "run = [\"tools/sign\"]");
    std::fs::create_dir_all(phone.0.path("below")).unwrap();
    let mut command = phone.0.command_in("below", &["prepare"]);
    let path = std::env::var_os("PATH").unwrap();
    let child = command.env("PATH", path).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let begun = std::time::Instant::now();
    while !phone.0.path("pid").exists() && begun.elapsed().as_secs() < 30 {
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    let pid = String::from_utf8(phone.0.read("pid")).unwrap().trim().to_owned();
    // It does not listen; the second time it has no more time.
    for _ in 0..2 {
        rustix::process::kill_process(rustix::process::Pid::from_child(&child), rustix::process::Signal::INT).unwrap();
        std::thread::sleep(std::time::Duration::from_millis(300));
    }
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(130), "{}", String::from_utf8_lossy(&output.stderr));
    // The process may stay in the table for a moment after it was ended.
    let process = format!("/proc/{pid}");
    let ended = std::time::Instant::now();
    while Path::new(&process).exists() && ended.elapsed().as_secs() < 10 {
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    assert!(!Path::new(&process).exists(), "the signer goes on");
}

/// What a newer lantern notes of one key is said, is never changed, and hides no other key.
#[test]
fn notes_of_a_newer_lantern() {
    let phone = Phone::with_key();
    phone.run(&["key", "new", "second", "--kind", "p-256"]).success();
    let notes = "home/keys/second.json";
    let text = String::from_utf8(phone.0.read(notes)).unwrap();
    // The same format with more in it: what is not known here stays.
    let more = text.replacen('{', "{\"sheets\": {\"of\": 5, \"needed\": 3},", 1).replace("\"made\"", "\"lent\"");
    phone.0.write(notes, &more);
    phone.run(&["key", "backup", "second", "copy.p12"]).success();
    phone.run(&["key", "drill", "second", "copy.p12"]).success();
    let after: serde_json::Value = serde_json::from_slice(&phone.0.read(notes)).unwrap();
    assert_eq!((&after["sheets"]["needed"], &after["origin"]), (&3.into(), &"lent".into()));
    // Another format: nothing is changed.
    let newer = text.replace("lantern.key/1", "lantern.key/2");
    phone.0.write(notes, &newer);
    let listed = phone.run(&["key", "list"]).success();
    assert!(listed.stdout().contains("saltmarsh-mobile"), "{}", listed.whole());
    assert!(
        listed.stderr().contains("what is noted of the key second was written by a newer lantern"),
        "{}",
        listed.whole()
    );
    phone.run(&["key", "drill", "second", "copy.p12"]).fails(2);
    assert_eq!(phone.0.read(notes), newer.as_bytes());
    phone.0.edit("lantern.toml", "sign = \"saltmarsh-mobile\"", "sign = \"second\"");
    let refused = phone.run(&["check"]).fails(1);
    assert!(!refused.stdout().contains("lantern key new"), "{}", refused.whole());
    // Damaged notes are brought back by the passphrase, and that is what is advised.
    phone.0.write(notes, "{");
    let damaged = phone.run(&["check"]).fails(1);
    assert!(damaged.stdout().contains("fix: lantern key show second"), "{}", damaged.whole());
    phone.run(&["key", "show", "second"]).success();
    assert!(!phone.run(&["check"]).whole().contains("key-not-there"));
}

/// On a second computer a new key of that name would be another one.
#[test]
fn a_pinned_key_that_is_not_here_is_imported_and_not_made() {
    let phone = Phone::with_key();
    phone.run(&["prepare"]).success();
    std::fs::remove_dir_all(phone.0.path("home/keys")).unwrap();
    let missing = phone.run(&["check"]).fails(1).stdout();
    assert!(
        missing.contains("fix: lantern key import saltmarsh-mobile FILE") && !missing.contains("key new"),
        "{missing}"
    );
}

/// Without a desktop there is no key store, and nothing is begun that would need one.
#[test]
#[cfg(target_os = "linux")]
fn without_a_key_store_there_is_no_key_in_it() {
    let phone = Phone::new();
    let new = ["key", "new", "saltmarsh-mobile", "--kind", "p-256", "--in-key-store"];
    let none = Ran { output: phone.0.command(&new).output().unwrap() }.fails(3);
    assert!(none.stderr().contains("there is none here; it comes with a desktop"), "{}", none.whole());
    assert!(none.stderr().contains("fix: unlock it; or leave --in-key-store out"), "{}", none.whole());
    assert!(!phone.run(&["key", "list"]).success().stdout().contains("saltmarsh-mobile"));
    phone.run(&new[..5]).success();
    phone.run(&["key", "remember", "saltmarsh-mobile", "--in-key-store"]).fails(3);
    phone.run(&["prepare"]).success();
}
