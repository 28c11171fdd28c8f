//! Archives and packages: read in place, by the same rules as folders.

use std::fs::{self, File};
use std::io::Write;

use lantern_formats::tar::write::TarWriter;
use lantern_formats::zip::Method;
use lantern_formats::zip::write::ZipWriter;
use lantern_rehearsal::exports::{self, GameVersion};

use crate::env::{TestEnv, files};

/// Packs the example's export, below a folder if one is given.
fn pack(env: &TestEnv, name: &str, below: &str) {
    let all = files(&env.path("exports/linux"));
    let file = File::create(env.path(name)).unwrap();
    let path = |name: &str| if below.is_empty() { name.to_owned() } else { format!("{below}/{name}") };
    if name.ends_with(".zip") {
        let mut zip = ZipWriter::new(file);
        for (name, bytes) in &all {
            zip.file(&path(name), Method::Deflate, 0o644, bytes.len() as u64, |out| out.write_all(bytes)).unwrap();
        }
        zip.finish().unwrap();
        return;
    }
    let mut tar = TarWriter::new(Vec::new());
    for (name, bytes) in &all {
        tar.file(&path(name), 0o644, bytes.len() as u64, |out| out.write_all(bytes)).unwrap();
    }
    let bytes = tar.finish().unwrap();
    let mut file = file;
    file.write_all(&bytes).unwrap();
}

#[test]
fn the_form_of_an_export_changes_nothing() {
    let env = TestEnv::new();
    let first = env.lantern(&["prepare", "--json"]).success().one();
    for name in ["export.zip", "export.tar"] {
        pack(&env, name, "");
        env.write("lantern.toml", &env.config("1.3.2").replace("exports/linux", name));
        let again = env.lantern(&["prepare", "--json"]).success().one();
        assert_eq!((&again["made"], &again["id"]), (&false.into(), &first["id"]), "{name}");
    }
    // What is in a folder of the archive must be said, and then is the same again.
    pack(&env, "deeper.zip", "Saltmarsh Post 1.3.2");
    env.write("lantern.toml", &env.config("1.3.2").replace("exports/linux", "deeper.zip"));
    snapshot!(env.lantern(&["prepare"]).whole(), @r#"
    ------- stderr -------
    error: the exports cannot be sealed: 2 errors

      lantern.toml, line 11, column 13
        leave-out = ["notes/**"]
                    ~~~~~~~~~~~~
      warning: notes/** in leave-out matches nothing in the export (unused-pattern)
      fix: remove it, or fix it so that it matches

      lantern.toml, line 12, column 13
        must-have = ["saltmarsh.dat"]
                    ~~~~~~~~~~~~~~~~~
      error: saltmarsh.dat must be in the export and is not (must-have)
      fix: export again, or fix must-have

      lantern.toml, line 10, column 10
        starts = "saltmarsh"
                 ~~~~~~~~~~~
      error: the start file saltmarsh is not in the export (start-missing)
      fix: everything is in one folder: add export-root = "Saltmarsh Post 1.3.2"
    [exit status: 1]
    "#);
    env.edit("lantern.toml", "systems =", "export-root = \"Saltmarsh Post 1.3.2\"\nsystems =");
    assert_eq!(env.lantern(&["prepare", "--json"]).success().one()["id"], first["id"]);
}

/// What no build may bring, in spellings that one disk or another takes for ours.
const OURS: [&str; 4] = [
    "data/.lantern/ledger.db",
    ".Lantern-Install/installed.json",
    "data/.LANTERN-install./lock",
    "LANTER~1/journal.json",
];

#[test]
fn our_own_files_in_an_export_are_left_out() {
    let env = TestEnv::new();
    let clean = env.lantern(&["prepare", "--json"]).success().one();
    for name in OURS {
        env.write(&format!("exports/linux/{name}"), "a copy that someone played");
    }
    snapshot!(env.lantern(&["check"]).success().whole(), @"
      linux   linux-x86_64   9 files   8.57 MB   starts saltmarsh

      linux
      warning: left out, because the name is reserved for Lantern's own files: .Lantern-Install, LANTER~1, data/.LANTERN-install., … (reserved-name)
      fix: is this an installed copy of the game? Export into a folder of its own

    checked: no errors, 1 warning

    next: lantern connect brambleyard
    ");
    pack(&env, "export.zip", "");
    pack(&env, "export.tar", "");
    for export in ["exports/linux", "export.zip", "export.tar"] {
        env.write("lantern.toml", &env.config("1.3.2").replace("exports/linux", export));
        let again = env.lantern(&["prepare", "--json"]).success().one();
        assert_eq!((&again["made"], &again["id"]), (&false.into(), &clean["id"]), "{export}");
    }
    // Nor is one of them there to be started.
    env.write(
        "lantern.toml",
        &env.config("1.3.2").replace("starts = \"saltmarsh\"", "starts = \".lantern/ledger.db\""),
    );
    let stderr = env.lantern(&["prepare"]).fails(1).stderr();
    assert!(stderr.contains("the start file .lantern/ledger.db is not in the export"), "{stderr}");
}

#[test]
fn an_unchanged_archive_is_not_read_again() {
    let env = TestEnv::new();
    pack(&env, "export.zip", "");
    env.write("lantern.toml", &env.config("1.3.2").replace("exports/linux", "export.zip"));
    env.lantern(&["prepare"]).success();
    assert_eq!(env.lantern(&["--json"]).success().one()["exports"], "sealed");
    env.write("exports/linux/letters/en.txt", "another letter");
    pack(&env, "export.zip", "");
    assert_eq!(env.lantern(&["--json"]).success().one()["exports"], "changed");
    assert_eq!(env.lantern(&["prepare", "--json"]).success().one()["release"]["number"], 2);
}

#[test]
fn archives_that_cannot_be_trusted() {
    let env = TestEnv::new();
    pack(&env, "good.zip", "");
    pack(&env, "good.tar", "");
    let good = env.read("good.zip");
    let tar = env.read("good.tar");
    let answer = |name: &str, bytes: &[u8]| {
        fs::write(env.path(name), bytes).unwrap();
        env.write("lantern.toml", &env.config("1.3.2").replace("exports/linux", name));
        let ran = env.lantern(&["prepare"]).fails(1);
        assert!(ran.stderr().contains("fix:"), "{}", ran.stderr());
        ran.stderr()
    };
    assert!(answer("cut.zip", &good[..good.len() / 2]).contains("cut off"));
    assert!(answer("cut.tar", &tar[..tar.len() / 2]).contains("cut off"));
    assert!(answer("text.zip", b"not an archive").contains("not a ZIP archive"));
    assert!(answer("text.tar", b"not an archive").contains("not a tape archive"));
    assert!(answer("text.tar.gz", b"not an archive").contains("cannot be unpacked"));
    assert!(answer("text.tar.zst", b"not an archive").contains("cannot be unpacked"));
    let zip_of = |name: &str| {
        let mut zip = ZipWriter::new(std::io::Cursor::new(Vec::new()));
        zip.file(name, Method::Stored, 0o644, 1, |out| out.write_all(b"x")).unwrap();
        zip.finish().unwrap().into_inner()
    };
    for hostile in ["../up", "/etc/passwd", "a/../../b", "C:/x", "a\\b", "a\u{1b}[31m"] {
        let stderr = answer("hostile.zip", &zip_of(hostile));
        assert!(stderr.contains("(bad-name)") && !stderr.contains('\u{1b}'), "{hostile}: {stderr}");
    }
    let mut many = ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for i in 0..150 {
        many.file(&format!("../{i}"), Method::Stored, 0o644, 0, |_| Ok(())).unwrap();
    }
    let stderr = answer("many.zip", &many.finish().unwrap().into_inner());
    assert!(stderr.contains("50 more entries of many.zip are wrong (too-many-findings)"), "{stderr}");
    let mut twice = ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for bytes in [b"1", b"2"] {
        twice.file("saltmarsh", Method::Stored, 0o644, 1, |out| out.write_all(bytes)).unwrap();
    }
    assert!(answer("twice.zip", &twice.finish().unwrap().into_inner()).contains("occurs twice in the archive"));
    let mut link = TarWriter::new(Vec::new());
    link.link("out", "../../etc").unwrap();
    assert!(answer("link.tar", &link.finish().unwrap()).contains("outside of the export"));
    let mut damaged = good.clone();
    let at = damaged.len() / 3;
    damaged[at] ^= 0xff;
    fs::write(env.path("damaged.zip"), &damaged).unwrap();
    env.write("lantern.toml", &env.config("1.3.2").replace("exports/linux", "damaged.zip"));
    let ran = env.lantern(&["prepare"]);
    assert_ne!(ran.code(), 0, "{}", ran.whole());
}

#[test]
fn of_several_exports_the_newest() {
    let env = TestEnv::new();
    for (name, version) in [("linux-1.3.2", GameVersion::Old), ("linux-1.4.0", GameVersion::New)] {
        exports::write_linux(&env.path("exports").join(name), version, lantern_core::system::System::LinuxX86_64)
            .unwrap();
        std::thread::sleep(std::time::Duration::from_millis(30));
    }
    env.edit("lantern.toml", "exports/linux\"", "exports/linux-*\"");
    snapshot!(env.lantern(&["prepare", "--version", "1.4.0"]).whole(), @"
    sealed Saltmarsh Post 1.4.0 (1)

      linux   linux-x86_64   8 files   8.66 MB   starts saltmarsh

      added to the store   4.38 MB  (the first release)
      release id  ID

      worth knowing:
        linux: exports/linux-1.4.0 is the newest of 2 exports that fit exports/linux-* (newest-export-taken)

    next: lantern connect brambleyard
    ");
    let check = env.lantern(&["check", "--json"]).success().json();
    assert_eq!(check["targets"][0]["export"], "exports/linux-1.4.0");
    env.edit("lantern.toml", "exports/linux-*\"", "exports/lunix-*\"");
    assert!(env.lantern(&["check"]).fails(1).stdout().contains("no export fits exports/lunix-*"));
}

#[test]
fn packages_and_pages() {
    let env = TestEnv::without_storefront();
    exports::write_all(&env.path("exports"), GameVersion::Old, lantern_core::system::System::LinuxX86_64).unwrap();
    let config = r#"[game]
name = "Saltmarsh Post"
studio = "Paper Heron"
identity = "example.paperheron.saltmarsh"
version = "1.3.2"

[targets.phone]
export = "exports/saltmarsh.apk"
[targets.headset]
export = "exports/saltmarsh-headset.apk"
[targets.pocket]
export = "exports/saltmarsh.ipa"
[targets.web]
export = "exports/web.zip"
"#;
    env.write("lantern.toml", config);
    snapshot!(env.lantern(&["check"]).whole(), @"
      headset   headset   1 file    2.00 MB   starts saltmarsh-headset.apk
      phone     android   1 file    2.00 MB   starts saltmarsh.apk
      pocket    ios       1 file    356 kB    starts saltmarsh.ipa
      web       web       4 files   700 kB    starts index.html

      headset
      warning: the package has no icon (no-icon)
      fix: set one in the engine and export again

      warning: lib/arm64-v8a/libsaltmarsh.so is not aligned to 16 KB: devices with large pages do not start it (unaligned-library)
      fix: align it when the package is packed; newer engines do it

      warning: the package is not signed: no device accepts it (unsigned)
      fix: export it signed with the game's own key, or have it signed here: lantern key --help

      warning: built for pages of 4 KB, and not loaded by devices with larger ones: lib/arm64-v8a/libsaltmarsh.so (small-pages)
      fix: build them with a newer toolchain

      phone
      warning: the package has no icon (no-icon)
      fix: set one in the engine and export again

      warning: lib/arm64-v8a/libsaltmarsh.so is not aligned to 16 KB: devices with large pages do not start it (unaligned-library)
      fix: align it when the package is packed; newer engines do it

      warning: the package is not signed: no device accepts it (unsigned)
      fix: export it signed with the game's own key, or have it signed here: lantern key --help

      warning: built for pages of 4 KB, and not loaded by devices with larger ones: lib/arm64-v8a/libsaltmarsh.so (small-pages)
      fix: build them with a newer toolchain

      pocket
      warning: SaltmarshPost.app has no icon (no-icon)
      fix: set one in the engine and export again

      warning: Payload/SaltmarshPost.app/SaltmarshPost is not signed: no device accepts it (unsigned)
      fix: export it with your team's profile

    checked: no errors, 10 warnings

    next: lantern prepare
    ");
    env.lantern(&["number", "--next", "25"]).success();
    let release = env.lantern(&["prepare", "--json"]).success().one();
    let targets = release["release"]["targets"].as_array().unwrap();
    let systems: Vec<&str> = targets.iter().map(|t| t["systems"][0].as_str().unwrap()).collect();
    assert_eq!(systems, ["headset", "android", "ios", "web"]);
    for (from, to, answer) in [
        (
            "exports/saltmarsh.apk\"",
            "exports/saltmarsh.apk\"\nsystems = [\"ios\"]",
            "is a package for android or headset",
        ),
        (
            "exports/saltmarsh.apk\"",
            "exports/linux\"\nsystems = [\"android\"]",
            "is one file that ends in .apk or .aab",
        ),
        ("exports/web.zip\"", "exports/web.zip\"\nsystems = [\"web\", \"linux-x86_64\"]", "add a target of its own"),
        ("exports/web.zip\"", "exports/linux\"\nsystems = [\"web\"]", "the start page index.html is not at the top"),
    ] {
        env.write("lantern.toml", &config.replace(from, to));
        let stdout = env.lantern(&["check"]).fails(1).stdout();
        assert!(stdout.contains(answer), "{stdout}");
    }
    fs::copy(env.path("exports/web.zip"), env.path("exports/wrong.apk")).unwrap();
    env.write("lantern.toml", &config.replace("saltmarsh.apk", "wrong.apk"));
    assert!(env.lantern(&["check"]).fails(1).stdout().contains("AndroidManifest.xml is missing in it"));
}

#[test]
fn init_sees_folders_archives_and_packages() {
    let env = TestEnv::without_storefront();
    exports::write_all(&env.path("exports"), GameVersion::Old, lantern_core::system::System::LinuxX86_64).unwrap();
    env.write("exports/manual/letter.txt", "how to sail");
    let game = ["--name", "Saltmarsh Post", "--studio", "Paper Heron", "--version", "1.3.2"];
    let identity = ["--identity", "example.paperheron.saltmarsh"];
    snapshot!(env.lantern(&[&["init"], &game[..], &identity].concat()).whole(), @"
    found 7 exports

      linux     exports/linux                   linux-x86_64      starts saltmarsh
      macos     exports/macos                   macos-universal   starts Saltmarsh Post.app/Contents/MacOS/saltmarsh
      headset   exports/saltmarsh-headset.apk   headset           starts saltmarsh-headset.apk
      android   exports/saltmarsh.apk           android           starts saltmarsh.apk
      ios       exports/saltmarsh.ipa           ios               starts saltmarsh.ipa
      web       exports/web.zip                 web               starts index.html
      windows   exports/windows                 windows-x86_64    starts Saltmarsh Post.exe

    left out: exports/manual
      nothing at the top of it starts; name all exports with --export to have it in

    wrote lantern.toml for Saltmarsh Post, 70 lines to read and change

    next: read lantern.toml, then: lantern prepare
    ");
    snapshot!(String::from_utf8(env.read("lantern.toml")).unwrap(), @r#"
    #:schema .lantern/lantern.schema.json
    # What the game is, what its exports are, and where players get it.
    # Paths start at this file's folder and use / on every system. Never write a secret here.

    [game]
    name = "Saltmarsh Post"
    studio = "Paper Heron"
    identity = "example.paperheron.saltmarsh"  # kept forever
    version = "1.3.2"  # or { file = "VERSION" }

    [targets.linux]
    export = "exports/linux"  # what the engine writes; never changed. With * the newest of several
    systems = ["linux-x86_64"]  # seen in "saltmarsh"
    starts = "saltmarsh"
    # leave-out = ["notes/**"]  # what players do not need
    # keep-aside = ["*.pdb"]  # sealed with the rest, never sent
    # must-have = ["*.dat"]  # without these the export is not whole

    [targets.macos]
    export = "exports/macos"
    systems = ["macos-universal"]  # seen in "Saltmarsh Post.app/Contents/MacOS/saltmarsh"
    starts = "Saltmarsh Post.app/Contents/MacOS/saltmarsh"

    [targets.headset]
    export = "exports/saltmarsh-headset.apk"
    systems = ["headset"]  # seen in "saltmarsh-headset.apk"
    starts = "saltmarsh-headset.apk"

    [targets.android]
    export = "exports/saltmarsh.apk"
    systems = ["android"]  # seen in "saltmarsh.apk"
    starts = "saltmarsh.apk"

    [targets.ios]
    export = "exports/saltmarsh.ipa"
    systems = ["ios"]  # seen in "saltmarsh.ipa"
    starts = "saltmarsh.ipa"

    [targets.web]
    export = "exports/web.zip"
    systems = ["web"]  # seen in "index.html"
    starts = "index.html"

    [targets.windows]
    export = "exports/windows"
    systems = ["windows-x86_64"]  # seen in "Saltmarsh Post.exe"
    starts = "Saltmarsh Post.exe"

    # A target is one depot of its own name, unless rules divide it:
    # [depots.linux]
    # from = "linux"
    # leave-out = ["voices/**"]
    #
    # [choices.voices]
    # default = "by-language"  # of the player's system
    #
    # [depots.voices-fr]
    # from = "linux"  # or a list of targets that have the same files there
    # only = ["voices/fr/**"]
    # choice = { voices = "fr" }

    # [storefronts.brambleyard]
    # kind = "protocol"
    # address = "http://127.0.0.1:PORT"  # the stand-in: lantern rehearse
    # handle = "saltmarsh-post"  # what the storefront calls the game
    # depots = { linux = "sp-linux" }  # ours = theirs
    #
    # [storefronts.brambleyard.branches]
    # creek = { audience = "invited" }
    # open-water = { audience = "everyone" }
    "#);
    env.lantern(&["number", "--next", "25"]).success();
    env.lantern(&["prepare"]).success();
}
