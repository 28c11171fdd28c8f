//! A token with an interface of PKCS #11 that signs, played by a software token; scripts/tokens.sh installs it.

use std::process::Command;

use lantern_rehearsal::exports::{GameVersion, macos_program, write_android, write_macos, write_windows};
use lantern_rehearsal::server::NOON_GUN;

use crate::env::{Ran, TestEnv, files, line_to};

const PIN: &str = "421337";

/// A token with a key of each kind, and a package that one of them signs.
struct Token(TestEnv);

impl Token {
    fn new() -> Self {
        let env = TestEnv::without_storefront();
        write_android(&env.path("exports/saltmarsh.apk"), GameVersion::Old, false).unwrap();
        std::fs::create_dir(env.path("tokens")).unwrap();
        let folder = env.path("tokens").to_str().unwrap().to_owned();
        env.write("softhsm2.conf", &format!("directories.tokendir = {folder}\nobjectstore.backend = file\n"));
        let token = Self(env);
        token.tool(
            "softhsm2-util",
            &["--init-token", "--free", "--label", "marsh", "--pin", PIN, "--so-pin", "87654321"],
        );
        let kinds = [
            ("rsa", ["-algorithm", "RSA", "-pkeyopt", "rsa_keygen_bits:3072"]),
            ("p256", ["-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:prime256v1"]),
        ];
        for (number, (kind, options)) in (1..).zip(kinds) {
            let (key, certificate) = (format!("{kind}.pem"), format!("{kind}.crt"));
            token.tool("openssl", &[&["genpkey", "-out", &key], &options[..]].concat());
            let subject =
                ["req", "-x509", "-key", &key, "-subj", "/CN=Paper Heron", "-days", "9000", "-out", &certificate];
            token.tool("openssl", &subject);
            let id = format!("0{number}");
            token.tool(
                "softhsm2-util",
                &["--import", &key, "--token", "marsh", "--label", kind, "--id", &id, "--pin", PIN],
            );
            std::fs::remove_file(token.0.path(&key)).unwrap();
        }
        // Certificates of the tool begin today, which is later than when tests begin.
        token.0.pass_hours(24 * 365 * 10);
        token.sign_with("rsa");
        token.0.lantern(&["number", "--next", "25"]).success();
        token
    }

    fn tool(&self, program: &str, arguments: &[&str]) {
        let mut command = Command::new(program);
        command.args(arguments).current_dir(self.0.path("")).env("SOFTHSM2_CONF", self.0.path("softhsm2.conf"));
        let done = command.output().unwrap_or_else(|error| panic!("{program}: {error}"));
        assert!(done.status.success(), "{program} {arguments:?}: {}", String::from_utf8_lossy(&done.stderr));
    }

    fn sign_with(&self, key: &str) {
        let module = std::env::var("LANTERN_TOKEN_MODULE").expect("scripts/tokens.sh says where the module is");
        let game = "[game]\nname = \"Saltmarsh Post\"\nstudio = \"Paper Heron\"\nidentity = \"example.paperheron.saltmarsh\"\nversion = \"1.3.2\"\n";
        let target = "[targets.phone]\nexport = \"exports/saltmarsh.apk\"\nstamp = true\nsign = \"stick\"\n";
        let signer = format!(
            "[signers.stick]\nmodule = \"{module}\"\ntoken = \"marsh\"\nkey = \"{key}\"\ncertificate = \"{key}.crt\"\n"
        );
        self.0.write("lantern.toml", &format!("{game}\n{target}\n{signer}"));
    }

    fn run(&self, pin: &str, arguments: &[&str]) -> Ran {
        let mut command = self.0.command(arguments);
        command.env("SOFTHSM2_CONF", self.0.path("softhsm2.conf")).env("LANTERN_KEY_PASSPHRASE", pin);
        Ran { output: command.output().unwrap() }
    }
}

#[test]
fn both_kinds_of_keys_sign_and_nothing_is_asked_twice() {
    let token = Token::new();
    for key in ["rsa", "p256"] {
        token.sign_with(key);
        let sealed = token.run(PIN, &["prepare"]).success().stdout();
        assert!(sealed.contains("phone with the key stick"), "{sealed}");
        assert!(
            token.run("", &["prepare"]).success().stdout().contains("nothing changed"),
            "no PIN is needed for that"
        );
        token.run("", &["releases", "write", "1.3.2", "out"]).success();
        let verified = token.run("", &["verify", "out/saltmarsh.apk"]).success().stdout();
        assert!(verified.contains("signature schemes   2, 3") && verified.contains("lantern.toml pins"), "{verified}");
        std::fs::remove_dir_all(token.0.path("out")).unwrap();
    }
}

#[test]
fn each_thing_that_can_be_wrong_with_a_token_has_its_own_words() {
    let token = Token::new();
    let refused = |pin: &str, part: &str, fix: &str| {
        let ran = token.run(pin, &["prepare"]).fails(3);
        let text = ran.stderr();
        assert!(text.contains(part) && text.contains(fix), "{part}, {fix}: {text}");
        assert!(!token.0.event_kinds().iter().any(|kind| kind == "sealed"));
    };
    refused("999999", "the PIN is not the right one", "the right PIN");
    token.0.edit("lantern.toml", "token = \"marsh\"", "token = \"tide\"");
    refused(PIN, "there is no token \"tide\"; there are: marsh", "plug it in");
    token.0.edit("lantern.toml", "token = \"tide\"", "token = \"marsh\"");
    token.0.edit("lantern.toml", "key = \"rsa\"", "key = \"ebb\"");
    refused(PIN, "the token has no key \"ebb\"; there are: ", "the label of one of its keys");
    // The certificate of another key of the same kind of token.
    token.0.edit("lantern.toml", "key = \"ebb\"", "key = \"p256\"");
    let other = token.run(PIN, &["prepare"]).fails(3).stderr();
    assert!(other.contains("did not sign"), "{other}");
    token.0.edit("lantern.toml", "key = \"p256\"", "key = \"rsa\"");
    // Pulled out.
    std::fs::rename(token.0.path("tokens"), token.0.path("away")).unwrap();
    std::fs::create_dir(token.0.path("tokens")).unwrap();
    refused(PIN, "there is no token \"marsh\": there is none", "plug it in");
    let module = std::env::var("LANTERN_TOKEN_MODULE").unwrap();
    token.0.edit("lantern.toml", &module, "/nowhere/libtide.so");
    refused(PIN, "its module /nowhere/libtide.so cannot be loaded", "the module of PKCS #11");
    let missing = token.0.command(&["prepare"]).output().unwrap();
    assert!(String::from_utf8_lossy(&missing.stderr).contains("the PIN of the token stick is missing"));
}

/// A bundle for macOS with libraries, of which each architecture is signed.
#[test]
fn a_bundle_is_signed_by_a_token() {
    let token = Token::new();
    write_macos(&token.0.path("exports/mac"), GameVersion::Old).unwrap();
    for number in 0..5 {
        let mut library = macos_program(GameVersion::Old);
        for at in [0x4000, 0x8000] {
            library[at + 12] = 6;
        }
        let path = format!("exports/mac/Saltmarsh Post.app/Contents/Frameworks/lib{number}.dylib");
        token.0.write_bytes(&path, &library);
    }
    for key in ["rsa", "p256"] {
        token.sign_with(key);
        token.0.edit(
            "lantern.toml",
            "[targets.phone]\nexport = \"exports/saltmarsh.apk\"",
            "[targets.mac]\nexport = \"exports/mac\"",
        );
        let sealed = token.run(PIN, &["prepare"]).success().stdout();
        assert!(sealed.contains("mac with the key stick") && sealed.contains("12 signatures"), "{sealed}");
        token.run("", &["releases", "write", "1.3.2", "out"]).success();
        let verified = token.run("", &["verify", "out/Saltmarsh Post.app"]).success().stdout();
        assert!(verified.contains("Paper Heron") && verified.contains("hardened"), "{verified}");
        std::fs::remove_dir_all(token.0.path("out")).unwrap();
    }
}

/// A module that passes everything on to another one, and says at every login that the PIN is locked: the software token never
/// locks one. A function list is a version, padded to a pointer, and pointers; C_Login is the 19th. Source: PKCS #11 version 2.40,
/// section 5.4 (<https://docs.oasis-open.org/pkcs11/pkcs11-base/v2.40/pkcs11-base-v2.40.html>).
const LOCKED_MODULE: &str = r#"
#include <dlfcn.h>
#include <string.h>
static void *list[1 + 68];
static unsigned long locked(void) { return 0xA4; }
unsigned long C_GetFunctionList(void **out) {
  void *inner, *module = dlopen(MODULE, RTLD_NOW);
  unsigned long (*get)(void **) = (unsigned long (*)(void **))dlsym(module, "C_GetFunctionList");
  unsigned long failed = get(&inner);
  if (failed) return failed;
  memcpy(list, inner, sizeof list);
  list[19] = (void *)locked;
  *out = list;
  return 0;
}
"#;

#[test]
fn a_locked_pin_has_its_own_words() {
    let token = Token::new();
    let module = std::env::var("LANTERN_TOKEN_MODULE").unwrap();
    token.0.write("locked.c", &LOCKED_MODULE.replace("MODULE", &format!("\"{module}\"")));
    token.tool("cc", &["-shared", "-fPIC", "-o", "locked.so", "locked.c", "-ldl"]);
    token.0.edit("lantern.toml", &module, token.0.path("locked.so").to_str().unwrap());
    let text = token.run(PIN, &["prepare"]).fails(3).stderr();
    assert!(text.contains("the PIN is locked after too many wrong ones") && text.contains("its other PIN"), "{text}");
    assert!(!token.0.event_kinds().iter().any(|kind| kind == "sealed"));
}

/// Twelve programs with one PIN; a token that is pulled out after the first of them, and put in again.
#[test]
fn a_folder_of_programs_is_signed_and_a_token_that_goes_away_loses_nothing() {
    let mut token = Token::new();
    token.sign_with("rsa");
    token.0.open_storefront(0);
    write_windows(&token.0.path("exports/windows"), GameVersion::Old).unwrap();
    let program = token.0.read("exports/windows/Saltmarsh Post.exe");
    for number in 0..11 {
        let own = [&program[..], format!("library {number}").as_bytes()].concat();
        std::fs::write(token.0.path(&format!("exports/windows/{number}.dll")), own).unwrap();
    }
    let (from, to) = (token.0.path("tokens"), token.0.path("away"));
    let origin = token.0.running().origin();
    let line = line_to(&origin, "POST /noon-gun", move || std::fs::rename(from, to).unwrap());
    let config = String::from_utf8(token.0.read("lantern.toml")).unwrap();
    let config = config.replace(
        "[targets.phone]\nexport = \"exports/saltmarsh.apk\"\nstamp = true",
        "[targets.windows]\nsystems = [\"windows-x86_64\"]\nexport = \"exports/windows\"\nstarts = [\"Saltmarsh Post.exe\"]",
    );
    token.0.write("lantern.toml", &format!("{config}\n[time-stamps]\nauthority = \"{line}{NOON_GUN}\"\n"));
    let wrong = token.run("999999", &["prepare"]).fails(3);
    assert!(wrong.stderr().contains("the PIN is not the right one"), "{}", wrong.whole());
    let gone = token.run(PIN, &["prepare"]).fails(3);
    assert!(gone.stderr().contains("the signer stick did not sign"), "{}", gone.whole());
    assert!(!token.0.event_kinds().iter().any(|kind| kind == "sealed"));
    std::fs::rename(token.0.path("away"), token.0.path("tokens")).unwrap();
    token.0.edit("lantern.toml", &line, &origin);
    let done = || {
        let changed = token.0.path(".lantern/cache/changed");
        files(&changed).keys().filter(|name| name.contains("program-") && !name.ends_with(".part")).count()
    };
    assert!(done() >= 1, "what was signed is kept");
    let sealed = token.run(PIN, &["prepare"]).success().stdout();
    assert!(sealed.contains("stick is asked for 12 signatures"), "{sealed}");
    token.run("", &["releases", "write", "1.3.2", "out"]).success();
    for number in 0..11 {
        let verified = token.run("", &["verify", &format!("out/{number}.dll")]).success().stdout();
        assert!(verified.contains("signed by") && verified.contains("Noon Gun"), "{verified}");
    }
}
