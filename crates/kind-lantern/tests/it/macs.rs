//! Builds for macOS and iOS that are signed on their way to a release, and loose ones.

use lantern_formats::zip::Method;
use lantern_formats::zip::write::ZipWriter;
use lantern_keys::pkcs12::{self, Entry};
use lantern_rehearsal::exports::{GameVersion, ios_program, macos_program, write_ios, write_macos, write_windows};
use lantern_rehearsal::server::NOON_GUN;
use lantern_sign::team::{self, Profile};

use crate::env::{Ran, TestEnv, copy};
use crate::keys::PASSPHRASE;

/// A game for macOS and iOS, signed with the certificate of a team.
pub struct Yard {
    pub env: TestEnv,
    key: Entry,
}

const GAME: &str = "[game]\nname = \"Saltmarsh Post\"\nstudio = \"Paper Heron\"\nidentity = \"example.paperheron.saltmarsh\"\nversion = \"1.4.0\"\n";
pub const MAC: &str = "[targets.mac]\nsystems = [\"macos-universal\"]\nexport = \"exports/mac\"\nsign = \"team\"\n";
const PHONE: &str = "[targets.phone]\nsystems = [\"ios\"]\nexport = \"exports/saltmarsh.ipa\"\nsign = \"team\"\n";
const ENTITLEMENTS: &str =
    "<plist version=\"1.0\"><dict><key>com.apple.security.cs.allow-jit</key><true/></dict></plist>\n";

impl Yard {
    pub fn new(targets: &[&str]) -> Self {
        let env = TestEnv::new();
        env.pass_hours(72);
        write_macos(&env.path("exports/mac"), GameVersion::New).unwrap();
        let inside = "exports/mac/Saltmarsh Post.app/Contents";
        let mut library = macos_program(GameVersion::New);
        for at in [0x4000, 0x8000] {
            library[at + 12] = 6;
        }
        env.write_bytes(&format!("{inside}/Frameworks/libtide.dylib"), &library);
        env.write_bytes(&format!("{inside}/Helpers/letters"), &macos_program(GameVersion::New));
        write_ios(&env.path("exports/saltmarsh.ipa"), GameVersion::New).unwrap();
        env.write("lantern.toml", &format!("{GAME}\n{}", targets.join("\n")));
        let now = "2026-11-01T00:00:00Z".parse().unwrap();
        let key = team::new("HERON12345", "Paper Heron", now).unwrap();
        let file = pkcs12::write(&key, &lantern_keys::Passphrase::new(PASSPHRASE.to_owned()), 1000).unwrap();
        env.write_bytes("team.p12", &file);
        let yard = Self { env, key };
        yard.run(&["key", "import", "team", "team.p12"]).success();
        yard
    }

    fn profile(&self, path: &str, identity: &str, allows: &[&str], is_for_phones: bool) {
        let now = "2026-11-01T00:00:00Z".parse().unwrap();
        let about = Profile { name: "Saltmarsh", team: "HERON12345", identity, allows, is_for_phones };
        self.env.write_bytes(path, &team::profile(&about, &self.key, now).unwrap());
    }

    pub fn run(&self, arguments: &[&str]) -> Ran {
        let mut command = self.env.command(arguments);
        Ran { output: command.env("LANTERN_KEY_PASSPHRASE", PASSPHRASE).output().unwrap() }
    }

    pub fn written(&self) {
        let _ = std::fs::remove_dir_all(self.env.path("out"));
        self.run(&["releases", "write", "1.4.0", "out"]).success();
    }

    /// `scripts/code_signatures.py` on a path, which shares nothing with this program.
    #[cfg(target_os = "linux")]
    pub fn verified_by_others(&self, path: &str) -> bool {
        let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scripts/code_signatures.py");
        let mut command = std::process::Command::new("python3");
        command.arg(script).arg("--quiet").arg(self.env.path(path)).output().unwrap().status.success()
    }

    /// Unpacks an archive with a library that shares nothing with this program.
    #[cfg(target_os = "linux")]
    pub fn unpack(&self, archive: &str, to: &str) {
        let unpack = "import sys, zipfile; zipfile.ZipFile(sys.argv[1]).extractall(sys.argv[2])";
        let mut python = std::process::Command::new("python3");
        python.args(["-c", unpack]).args([self.env.path(archive), self.env.path(to)]);
        assert!(python.status().unwrap().success());
    }

    fn fact(&self, path: &str, name: &str) -> String {
        let seen = self.run(&["inspect", path]).success().stdout();
        let line = seen.lines().find(|line| line.trim_start().starts_with(name)).unwrap_or_default().to_owned();
        line.trim().to_owned()
    }
}

#[test]
fn a_build_for_macos_is_signed_stamped_and_time_stamped() {
    let yard = Yard::new(&[MAC]);
    let address = format!("{}{NOON_GUN}", yard.env.running().origin());
    yard.env.edit(
        "lantern.toml",
        "sign = \"team\"",
        "sign = \"team\"\nstamp = true\nentitlements = \"post.entitlements\"",
    );
    yard.env.edit("lantern.toml", GAME, &format!("{GAME}\n[time-stamps]\nauthority = \"{address}\"\n"));
    let missing = yard.run(&["check"]).fails(1);
    assert!(missing.stdout().contains("post.entitlements"), "{}", missing.whole());
    yard.env.write("post.entitlements", ENTITLEMENTS);
    let checked = yard.run(&["check"]).success();
    let asked = "team is asked for 6 signatures, for 3 programs and libraries (programs-to-sign)";
    assert!(checked.stdout().contains(asked), "{}", checked.whole());
    assert!(!checked.stdout().contains("unsigned"), "{}", checked.whole());
    let sealed = yard.run(&["prepare"]).success();
    assert!(sealed.stdout().contains("mac with the key team"), "{}", sealed.whole());
    assert!(sealed.stdout().contains("mac in Info.plist"), "{}", sealed.whole());
    yard.written();
    let whole = yard.run(&["verify", "out/Saltmarsh Post.app"]).success().stdout();
    for says in ["Paper Heron for everyone", "HERON12345", "hardened", "allow-jit", "Noon Gun"] {
        assert!(whole.contains(says), "{says} in {whole}");
    }
    assert_eq!(yard.run(&["inspect", "out/Saltmarsh Post.app", "--json"]).json()["things"][0]["number"], "1");
    #[cfg(target_os = "linux")]
    assert!(yard.verified_by_others("out/Saltmarsh Post.app"));
    assert!(yard.run(&["verify", "exports/mac/Saltmarsh Post.app"]).fails(3).stderr().contains("has no signature"));
    assert!(yard.run(&["prepare"]).success().stdout().contains("nothing changed"));
    // Other entitlements are another build.
    yard.env.write("post.entitlements", &ENTITLEMENTS.replace("allow-jit", "disable-library-validation"));
    assert!(!yard.run(&["prepare", "--plan"]).stdout().contains("nothing changed"));
    // A byte of the second architecture's code: which, and where in the file.
    let program = "out/Saltmarsh Post.app/Contents/MacOS/saltmarsh";
    let whole = yard.env.read(program);
    let second = u32::from_be_bytes(*whole[8 + 20 + 8..].first_chunk().unwrap()) as usize;
    let mut changed = whole.clone();
    changed[second + 4096 + 7] ^= 1;
    std::fs::write(yard.env.path(program), &changed).unwrap();
    let wrong = yard.run(&["verify", "out/Saltmarsh Post.app"]).fails(5).whole();
    let place =
        format!("the code for aarch64 changed after it was signed, first in the page at byte {}", second + 4096);
    assert!(wrong.contains(&place), "{wrong}");
    std::fs::write(yard.env.path(program), &whole).unwrap();
    // A file of the bundle.
    let letters = yard.env.path("out/Saltmarsh Post.app/Contents/Resources/letters/en.txt");
    std::fs::write(letters, "other").unwrap();
    let wrong = yard.run(&["verify", "out/Saltmarsh Post.app"]).fails(5);
    assert!(wrong.stdout().contains("Resources/letters/en.txt was changed after it was signed"), "{}", wrong.whole());
    #[cfg(target_os = "linux")]
    assert!(!yard.verified_by_others("out/Saltmarsh Post.app"));
}

/// What is kept aside is no part of what players get, and of no seal.
#[test]
fn what_is_kept_aside_is_not_sealed() {
    let yard = Yard::new(&[&format!("{MAC}keep-aside = [\"**/*.dSYM/**\"]\n")]);
    let debug = "exports/mac/Saltmarsh Post.app/Contents/Resources/saltmarsh.dSYM/Contents/Resources/DWARF/saltmarsh";
    yard.env.write_bytes(debug, b"debug data");
    yard.run(&["prepare"]).success();
    yard.written();
    assert!(!yard.env.path(&debug.replace("exports/mac", "out")).exists());
    yard.run(&["verify", "out/Saltmarsh Post.app"]).success();
}

#[test]
fn a_build_without_a_certificate_is_signed_ad_hoc() {
    let yard = Yard::new(&[&MAC.replace("\"team\"", "\"ad-hoc\"")]);
    let refused = yard.run(&["key", "new", "ad-hoc"]).fails(2);
    assert!(refused.stderr().contains("without a key"), "{}", refused.whole());
    yard.run(&["check"]).success();
    let sealed = yard.run(&["prepare"]).success();
    assert!(sealed.stdout().contains("mac ad hoc"), "{}", sealed.whole());
    yard.written();
    let seen = yard.fact("out/Saltmarsh Post.app", "signature");
    assert_eq!(seen, "signature   ad hoc: hashes only, intact");
    assert!(yard.run(&["prepare"]).success().stdout().contains("nothing changed"));
    #[cfg(target_os = "linux")]
    assert!(yard.verified_by_others("out/Saltmarsh Post.app"));
    write_windows(&yard.env.path("exports/windows"), GameVersion::New).unwrap();
    let windows =
        MAC.replace("mac]", "windows]").replace("macos-universal", "windows-x86_64").replace("/mac", "/windows");
    yard.env.write("lantern.toml", &format!("{GAME}\n{}", windows.replace("\"team\"", "\"ad-hoc\"")));
    let other = yard.run(&["check"]);
    assert!(other.whole().contains("cannot be signed ad hoc"), "{}", other.whole());
}

#[test]
fn a_package_for_ios_is_signed_with_its_profile() {
    let yard = Yard::new(&[PHONE]);
    let no_profile = yard.run(&["check"]);
    assert!(no_profile.stdout().contains("no device starts it without one"), "{}", no_profile.whole());
    yard.env.edit(
        "lantern.toml",
        "sign = \"team\"",
        "sign = \"team\"\nstamp = true\nprofile = \"signing/phone.mobileprovision\"",
    );
    yard.profile("signing/phone.mobileprovision", "example.paperheron.saltmarsh", &["get-news"], true);
    let checked = yard.run(&["check"]).success();
    assert!(checked.stdout().contains("team is asked for 1 signature"), "{}", checked.whole());
    yard.run(&["prepare"]).success();
    yard.written();
    let seen = yard.run(&["inspect", "out/saltmarsh.ipa"]).success().stdout();
    for says in
        ["of Paper Heron for everyone, intact", "HERON12345", "Saltmarsh, for the shop", "application-identifier"]
    {
        assert!(seen.contains(says), "{says} in {seen}");
    }
    assert!(!seen.contains("error") && !seen.contains("profile-mismatch"), "{seen}");
    // The same again gives the same package.
    let once = yard.env.read("out/saltmarsh.ipa");
    yard.run(&["sign", "out/saltmarsh.ipa", "--key", "team", "--profile", "signing/phone.mobileprovision"]).success();
    assert!(yard.env.read("out/saltmarsh.ipa") == once, "signing twice is signing once");
    // Any byte of a file in it.
    let mut changed = once;
    let at = changed.windows(9).position(|window| window == b"reeds.tex").unwrap() + 5_000;
    changed[at] ^= 1;
    yard.env.write_bytes("out/saltmarsh.ipa", &changed);
    yard.run(&["verify", "out/saltmarsh.ipa"]).fails(5);
}

const INFO: &str = "<plist version=\"1.0\"><dict><key>CFBundleExecutable</key><string>PROGRAM</string><key>CFBundleIdentifier</key>\
    <string>IDENTITY</string><key>CFBundleShortVersionString</key><string>1.4.0</string><key>CFBundleVersion</key><string>1</string></dict></plist>";

/// A package with an extension, which has a profile of its own, and a framework.
#[test]
fn a_package_for_ios_with_an_extension() {
    let inside =
        "[targets.phone.inside.\"Payload/Post.app/PlugIns/Letters.appex\"]\nprofile = \"letters.mobileprovision\"\n";
    let yard = Yard::new(&[&format!("{PHONE}profile = \"phone.mobileprovision\"\n"), inside]);
    let mut library = ios_program(GameVersion::New);
    library[12] = 6;
    let info =
        |program: &str, identity: &str| INFO.replace("PROGRAM", program).replace("IDENTITY", identity).into_bytes();
    let files = [
        ("Info.plist", info("Post", "example.paperheron.saltmarsh")),
        ("Post", ios_program(GameVersion::New)),
        ("h\u{e6}ren.tex", vec![9; 50_000]),
        ("Frameworks/Tide.framework/Info.plist", info("Tide", "example.paperheron.tide")),
        ("Frameworks/Tide.framework/Tide", library),
        ("PlugIns/Letters.appex/Info.plist", info("Letters", "example.paperheron.saltmarsh.letters")),
        ("PlugIns/Letters.appex/Letters", ios_program(GameVersion::New)),
    ];
    let mut zip = ZipWriter::new(std::fs::File::create(yard.env.path("exports/saltmarsh.ipa")).unwrap());
    for (name, bytes) in &files {
        let name = format!("Payload/Post.app/{name}");
        zip.file(&name, Method::Deflate, 0o755, bytes.len() as u64, |out| out.write_all(bytes)).unwrap();
    }
    zip.finish().unwrap();
    yard.profile("phone.mobileprovision", "example.paperheron.saltmarsh", &[], true);
    yard.profile("letters.mobileprovision", "example.paperheron.letters", &[], true);
    let other = yard.run(&["check"]).fails(1);
    let text = other.stdout().split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(
        text.contains("PlugIns/Letters.appex: the profile Saltmarsh is for HERON12345.example.paperheron.letters"),
        "{text}"
    );
    yard.profile("letters.mobileprovision", "example.paperheron.saltmarsh.letters", &[], true);
    let checked = yard.run(&["check"]).success();
    assert!(checked.stdout().contains("3 signatures, for 3 programs and libraries"), "{}", checked.whole());
    yard.run(&["prepare"]).success();
    yard.written();
    let seen = yard.run(&["inspect", "out/saltmarsh.ipa"]).success().stdout();
    assert!(seen.contains("intact") && !seen.contains("profile-mismatch"), "{seen}");
    #[cfg(target_os = "linux")]
    {
        yard.unpack("out/saltmarsh.ipa", "unpacked");
        assert!(yard.verified_by_others("unpacked/Payload/Post.app"));
        assert!(yard.verified_by_others("unpacked/Payload/Post.app/PlugIns/Letters.appex"));
        let laid = yard.env.read("unpacked/Payload/Post.app/PlugIns/Letters.appex/embedded.mobileprovision");
        assert_eq!(laid, yard.env.read("letters.mobileprovision"));
    }
}

/// Whatever does not agree is said with both values, before anything is signed.
#[test]
fn a_profile_that_does_not_agree() {
    let yard =
        Yard::new(&[&format!("{PHONE}profile = \"phone.mobileprovision\"\nentitlements = \"phone.entitlements\"\n")]);
    let entitlements = |identity: &str, more: &str| {
        let text =
            format!("<plist><dict><key>application-identifier</key><string>{identity}</string>{more}</dict></plist>");
        yard.env.write("phone.entitlements", &text);
    };
    let says = |wanted: &str| {
        let checked = yard.run(&["check"]).fails(1);
        let text = checked.stdout().split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(text.contains(wanted), "{wanted}\n{}", checked.whole());
    };
    entitlements("HERON12345.example.paperheron.saltmarsh", "");
    yard.profile("phone.mobileprovision", "example.paperheron.post", &[], true);
    says(
        "the profile Saltmarsh is for HERON12345.example.paperheron.post; the bundle calls itself example.paperheron.saltmarsh",
    );
    yard.profile("phone.mobileprovision", "example.paperheron.*", &[], true);
    yard.run(&["check"]).success();
    entitlements("HERON12345.example.paperheron.post", "");
    says(
        "the entitlements call it HERON12345.example.paperheron.post; the bundle calls itself example.paperheron.saltmarsh",
    );
    entitlements("OTHER67890.example.paperheron.saltmarsh", "");
    says(
        "the entitlements call it OTHER67890.example.paperheron.saltmarsh; the profile Saltmarsh is for HERON12345.example.paperheron.*",
    );
    entitlements("HERON12345.example.paperheron.saltmarsh", "<key>get-news</key><true/>");
    says("the entitlement get-news is yes; the profile Saltmarsh does not allow it");
    entitlements("HERON12345.example.paperheron.saltmarsh", "");
    let other = team::new("OTHER67890", "Marsh Library", "2026-11-01T00:00:00Z".parse().unwrap()).unwrap();
    let about = Profile {
        name: "Marsh",
        team: "OTHER67890",
        identity: "example.paperheron.*",
        allows: &[],
        is_for_phones: true,
    };
    let profile = team::profile(&about, &other, "2026-11-01T00:00:00Z".parse().unwrap()).unwrap();
    yard.env.write_bytes("phone.mobileprovision", &profile);
    says("the profile Marsh is for the team OTHER67890; the certificate is of HERON12345");
    says("the profile Marsh names the certificates Marsh Library for everyone (");
    let profile = team::profile(&about, &other, "2016-11-01T00:00:00Z".parse().unwrap()).unwrap();
    yard.env.write_bytes("phone.mobileprovision", &profile);
    says("the profile Marsh expired on 2021-10-31");
    yard.env.write("phone.mobileprovision", "no profile");
    says("phone.mobileprovision");
    yard.run(&["prepare"]).fails(1);
}

/// Each part of a bundle may have words of its own.
#[test]
fn what_lies_inside_has_words_of_its_own() {
    let inside = "[targets.mac.inside.\"Saltmarsh Post.app/Contents/Helpers/letters\"]\nentitlements = \"letters.entitlements\"\n";
    let yard = Yard::new(&[MAC, inside]);
    yard.env.write("letters.entitlements", ENTITLEMENTS);
    yard.run(&["prepare"]).success();
    yard.written();
    let helper = yard.run(&["inspect", "out/Saltmarsh Post.app/Contents/Helpers/letters"]).success().stdout();
    assert!(helper.contains("allow-jit"), "{helper}");
    let main = yard.run(&["inspect", "out/Saltmarsh Post.app"]).success().stdout();
    assert!(!main.contains("allow-jit"), "{main}");
    yard.env.edit("lantern.toml", "Helpers/letters", "Helpers/nothing");
    let wrong = yard.run(&["check"]).fails(1);
    assert!(wrong.stdout().contains("where no bundle and no program lies"), "{}", wrong.whole());
}

#[test]
fn a_loose_bundle_is_signed_where_it_lies() {
    let yard = Yard::new(&[MAC]);
    copy(&yard.env.path("exports/mac/Saltmarsh Post.app"), &yard.env.path("loose/Saltmarsh Post.app"));
    let app = "loose/Saltmarsh Post.app";
    let signed = yard.run(&["sign", app, "--key", "team", "--json"]).json();
    assert_eq!(signed["files"].as_array().unwrap().len(), 3, "{signed}");
    yard.run(&["verify", app]).success();
    let again = yard.run(&["sign", app, "--key", "team"]).success();
    assert!(again.stdout().contains("nothing was signed"), "{}", again.whole());
    yard.run(&["sign", app, "--key", "ad-hoc"]).success();
    assert_eq!(yard.fact(app, "signature"), "signature   ad hoc: hashes only, intact");
    // One file of it, and a folder with it.
    yard.run(&["sign", &format!("{app}/Contents/Helpers/letters"), "--key", "team", "--to", "letters"]).success();
    yard.run(&["verify", "letters"]).success();
    // With programs for Windows beside it.
    write_windows(&yard.env.path("loose/windows"), GameVersion::New).unwrap();
    let both = yard.run(&["sign", "loose", "--key", "team", "--json"]).json();
    assert_eq!(both["files"].as_array().unwrap().len(), 4, "{both}");
    yard.run(&["verify", app]).success();
    yard.run(&["verify", "loose/windows/Saltmarsh Post.exe"]).success();
    // Data where only code may lie.
    yard.env.write_bytes(&format!("{app}/Contents/MacOS/saltmarsh.pck"), b"data");
    let refused = yard.run(&["sign", app, "--key", "team"]).fails(3);
    assert!(refused.whole().contains("where only programs and libraries may lie"), "{}", refused.whole());
    let wrong = yard.run(&["sign", "lantern.toml", "--key", "ad-hoc"]).fails(1);
    assert!(wrong.whole().contains("neither a program nor a bundle"), "{}", wrong.whole());
}

/// What signing makes new is nothing to fix before: a signature of the engine's that holds no longer, and a profile that is replaced.
#[test]
fn what_the_engine_signed_is_signed_again() {
    let yard = Yard::new(&[MAC]);
    let app = "exports/mac/Saltmarsh Post.app";
    yard.run(&["sign", app, "--key", "ad-hoc"]).success();
    yard.env.write(&format!("{app}/Contents/Resources/letters/en.txt"), "Dear Aldous, one more line");
    assert!(yard.run(&["inspect", app]).stdout().contains("broken-signature"));
    let checked = yard.run(&["check"]).success();
    assert!(!checked.stdout().contains("broken-signature"), "{}", checked.whole());
    yard.run(&["prepare"]).success();
    yard.written();
    assert!(yard.run(&["verify", "out/Saltmarsh Post.app"]).success().stdout().contains("HERON12345"));
    // Where nothing is signed here, it is one.
    assert!(yard.run(&["prepare", "--unsigned"]).fails(1).whole().contains("broken-signature"));
}

/// Without a signature only when that is said.
#[test]
fn unsigned_is_said() {
    let yard = Yard::new(&[MAC]);
    let sealed = yard.run(&["prepare", "--unsigned"]).success();
    assert!(sealed.whole().contains("unsigned"), "{}", sealed.whole());
    yard.written();
    yard.run(&["verify", "out/Saltmarsh Post.app"]).fails(3);
}
