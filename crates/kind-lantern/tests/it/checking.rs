//! What `check` finds inside exports, and against the releases before.

use lantern_formats::zip::Method;
use lantern_formats::zip::write::ZipWriter;
use lantern_rehearsal::exports::{self, GameVersion};
use lantern_store::durable;

use lantern_core::finding::Code;

use crate::env::TestEnv;

/// The codes of all findings, each with its severity, in order.
fn codes(env: &TestEnv) -> Vec<String> {
    let document = env.lantern(&["check", "--json"]).json();
    let findings = document["findings"].as_array().unwrap();
    let mut codes: Vec<String> = findings
        .iter()
        .map(|f| format!("{} {}", f["severity"].as_str().unwrap(), f["code"].as_str().unwrap()))
        .collect();
    codes.sort();
    codes
}

fn key_like() -> String {
    // In two pieces, so that no file of this repository holds one.
    let bytes = "MIIEvQIBADANBgkqhkiG9w0BAQEFAASCBKcwggSjAgEAAoIBAQC7VJTUt9Us8cKj";
    format!("-----BEGIN {}KEY-----\n{bytes}\n-----END {}KEY-----\n", "PRIVATE ", "PRIVATE ")
}

#[test]
fn a_good_export_has_nothing_to_say() {
    assert_eq!(codes(&TestEnv::new()), [] as [&str; 0]);
}

#[test]
fn what_does_not_belong_to_players() {
    let env = TestEnv::new();
    for (name, text) in [
        (".DS_Store", "litter"),
        ("src/tide.cpp", "int main() {}"),
        ("art/heron.psd", "8BPS"),
        ("settings/server.json", "{ \"port\": 4870 }"),
        ("keys/studio.jks", "a key store"),
        ("letters/cipher.txt", &key_like()),
        ("symbols/saltmarsh.pdb", "Microsoft C/C++ MSF 7.00\r\n\u{1a}DS\0\0\0"),
        ("music/notes.pdb", "a protein, not debug data"),
    ] {
        env.write(&format!("exports/linux/{name}"), text);
    }
    snapshot!(env.lantern(&["check"]).whole(), @"
      linux   linux-x86_64   17 files   8.57 MB   starts saltmarsh

      linux
      error: keys/studio.jks looks like a key store (secret)
      fix: take it out, and replace it where it was used; if it is not a secret, accept it with a reason

      error: letters/cipher.txt, line 1 looks like a private key (secret)
      fix: take it out, and replace it where it was used; if it is not a secret, accept it with a reason

      warning: it contains files left behind by systems and editors: .DS_Store (litter)
      fix: name them in leave-out, or remove them

      warning: it contains sources: src/tide.cpp (source-files)
      fix: name them in leave-out

      warning: it contains files of drawing and modelling programs: art/heron.psd (editor-files)
      fix: name them in leave-out

      warning: it contains debug data: symbols/saltmarsh.pdb (debug-data)
      fix: name them in keep-aside: sealed with the rest, never sent

    checked: 2 errors (linux: secret), 4 warnings

    next: fix them, then run: lantern check
    [exit status: 1]
    ");
    // What stops is found by prepare, too; nothing is made.
    let stderr = env.lantern(&["prepare"]).fails(1).stderr();
    assert!(stderr.contains("2 errors") && stderr.contains("keys/studio.jks"), "{stderr}");
    assert!(!env.path(".lantern/store/releases").exists());
    env.edit("lantern.toml", "\"notes/**\"", "\"notes/**\", \"keys/**\", \"letters/cipher.txt\"");
    env.lantern(&["prepare"]).success();
}

#[test]
fn what_is_meant_to_be_so_is_accepted_with_a_reason() {
    let env = TestEnv::new();
    env.write("exports/linux/art/heron.psd", "8BPS");
    let accept = |text: &str| {
        env.write("lantern.toml", &format!("{}\n[checks]\naccept = [{text}]\n", env.config("1.3.2")));
    };
    accept("{ code = \"editor-files\", because = \"players may repaint the heron\", target = \"linux\" }");
    let document = env.lantern(&["check", "--json"]).success().json();
    assert_eq!(document["findings"].as_array().unwrap().len(), 0);
    assert_eq!(document["accepted"][0]["because"], "players may repaint the heron");
    assert!(env.lantern(&["check"]).success().stdout().contains("no errors, 1 accepted"));
    accept("{ code = \"editor-files\", because = \"for a while\", until = \"2020-01-01\" }");
    assert_eq!(codes(&env), ["warning accept-expired", "warning editor-files"]);
    accept("{ code = \"litter\", because = \"it was there once\", path = \"*.tmp\" }");
    assert_eq!(codes(&env), ["warning accept-unused", "warning editor-files"]);
    accept("{ code = \"editor-flies\", because = \"a typo\" }");
    let stdout = env.lantern(&["check"]).fails(1).stdout();
    assert!(stdout.contains("did you mean \"editor-files\"?"), "{stdout}");
}

#[test]
fn texts_that_must_and_must_not_be_in_it() {
    let env = TestEnv::new();
    let texts = "must-mention = [\"sp-saltmarsh-page\"]\nmust-not-mention = [\"sp-first-tide\"]\nmust-have";
    env.edit("lantern.toml", "must-have", texts);
    assert_eq!(codes(&env), ["error must-mention"]);
    // Beyond what is read at a time, and over its edge.
    let far = format!("{}sp-saltmarsh-page", " ".repeat(1024 * 1024 - 5));
    env.write("exports/linux/links.txt", &far);
    assert_eq!(codes(&env), [] as [&str; 0]);
    env.write("exports/linux/more.txt", "wish for it: sp-first-tide");
    let stdout = env.lantern(&["check"]).fails(1).stdout();
    assert!(stdout.contains("\"sp-first-tide\" must not be in it, and is in more.txt"), "{stdout}");
}

#[test]
fn what_is_different_from_the_last_release() {
    let env = TestEnv::new();
    env.write("exports/linux/old-letter.txt", "from before");
    env.lantern(&["prepare"]).success();
    std::fs::remove_file(env.path("exports/linux/old-letter.txt")).unwrap();
    env.export(GameVersion::New);
    env.lantern(&["prepare", "--version", "1.4.0"]).success();
    assert_eq!(codes(&env), [] as [&str; 0]);
    // Back from an export before, as a folder has it that nobody empties.
    env.write("exports/linux/old-letter.txt", "from before");
    assert_eq!(codes(&env), ["warning old-file-returned"]);
    env.write("exports/linux/old-letter.txt", "a new text");
    assert_eq!(codes(&env), [] as [&str; 0]);
    std::fs::write(env.path("exports/linux/letters/en.txt"), "").unwrap();
    assert_eq!(codes(&env), ["warning file-emptied"]);
    std::fs::write(env.path("exports/linux/world.dat"), vec![7; 30_000_000]).unwrap();
    assert_eq!(codes(&env), ["warning file-emptied", "warning size-jump"]);
    for folder in ["letters", "music", "textures", "hints"] {
        let _ = std::fs::remove_dir_all(env.path("exports/linux").join(folder));
    }
    assert_eq!(codes(&env), ["warning files-missing", "warning size-jump"]);
    // What was there before cannot be read: said, and the rest is checked all the same.
    let ledger = env.read(".lantern/ledger.db");
    env.write(".lantern/ledger.db", "no database");
    assert_eq!(codes(&env), ["warning history-unreadable"]);
    std::fs::write(env.path(".lantern/ledger.db"), ledger).unwrap();
    // The folder of something else altogether.
    env.write("exports/other/start", "#!/bin/sh\n");
    let config = env
        .config("1.4.0")
        .replace("exports/linux", "exports/other")
        .replace("starts = \"saltmarsh\"", "starts = \"start\"");
    env.write(
        "lantern.toml",
        &config.replace("must-have = [\"saltmarsh.dat\"]\n", "").replace("leave-out = [\"notes/**\"]\n", ""),
    );
    assert_eq!(codes(&env), ["warning another-game"]);
}

#[test]
fn what_a_build_says_of_itself() {
    let env = TestEnv::desktops();
    env.edit("lantern.toml", "version = \"1.3.2\"", "version = \"1.4.0\"");
    let stdout = env.lantern(&["check"]).fails(1).stdout();
    assert!(stdout.contains("macos calls itself 1.3.2, and the release gets 1.4.0"), "{stdout}");
    let tide = "[editions.first-tide]\nname = \"First Tide\"\nkind = \"demo\"\n\
        identity = \"example.paperheron.firsttide\"\n\n[targets.tide]\nedition = \"first-tide\"\nexport = \"exports/macos\"\n\n[depots.windows]";
    env.edit("lantern.toml", "[depots.windows]", tide);
    let stdout = env.lantern(&["check"]).fails(1).stdout();
    assert!(stdout.contains("tide has the identity of the edition full: example.paperheron.saltmarsh"), "{stdout}");
    // A setting of the demo came along.
    env.write("exports/linux/links.txt", "store = example.paperheron.firsttide\n");
    let named = "links.txt mentions example.paperheron.firsttide, the identity of the edition first-tide";
    assert!(env.lantern(&["check"]).fails(1).stdout().contains(named));
    env.write("exports/linux/links.txt", "store = example.paperheron.firsttides\n");
    assert!(!env.lantern(&["check"]).fails(1).stdout().contains("links.txt mentions"));
    env.edit("lantern.toml", "identity = \"example.paperheron.saltmarsh\"", "identity = \"example.paperheron.marsh\"");
    let stdout = env.lantern(&["check"]).fails(1).stdout();
    assert!(stdout.contains("lantern.toml has example.paperheron.marsh (identity-differs)"), "{stdout}");
}

#[test]
fn versions_and_numbers_that_someone_has() {
    let env = TestEnv::live();
    let (phone, linux) = ("[targets.phone]\nexport = \"exports/saltmarsh.apk\"\n", "[targets.linux]");
    env.edit("lantern.toml", linux, &format!("{phone}\n{linux}"));
    env.edit("lantern.toml", "depots = { linux", "depots = { phone = \"sp-phone\", linux");
    let package = env.path("exports/saltmarsh.apk");
    exports::write_android(&package, GameVersion::New, false).unwrap();
    env.lantern(&["number", "--next", "27"]).success();
    let accepted = "[checks]\naccept = [\n  { code = \"version-differs\", because = \"tried\" },\n  \
        { code = \"number-differs\", because = \"tried\" },\n]\n\n[targets.linux]";
    env.edit("lantern.toml", linux, accepted);
    env.lantern(&["prepare"]).success();
    let found =
        |env: &TestEnv, wanted: &str| codes(env).into_iter().filter(|code| code.ends_with(wanted)).collect::<Vec<_>>();
    assert_eq!(found(&env, "number-not-raised"), [""; 0]);
    // The package of before lies there again.
    exports::write_android(&package, GameVersion::Old, false).unwrap();
    assert_eq!(found(&env, "number-not-raised"), ["error number-not-raised"]);
    let stdout = env.lantern(&["check"]).fails(1).stdout();
    assert!(stdout.contains("phone has the number 25 inside, the last release has 27"), "{stdout}");
    exports::write_android(&package, GameVersion::New, false).unwrap();
    // The other target is as it was.
    assert_eq!(found(&env, "unchanged-target"), [""; 0], "all of it is as it was");
    env.write("exports/linux/letters/en.txt", "another letter");
    let stdout = env.lantern(&["check"]).success().stdout();
    assert!(!stdout.contains("unchanged-target"), "the package was written again: {stdout}");
    env.lantern(&["prepare", "--version", "1.3.3"]).success();
    env.write("exports/linux/letters/en.txt", "one more letter");
    assert_eq!(found(&env, "unchanged-target"), ["warning unchanged-target"]);
    // What players have is 1.3.2.
    env.edit("lantern.toml", "version = \"1.3.2\"", "version = \"1.3.1\"");
    let stdout = env.lantern(&["check"]).success().stdout();
    assert!(stdout.contains("the release gets 1.3.1, and open-water has 1.3.2 (1) already"), "{stdout}");
    env.edit("lantern.toml", "version = \"1.3.1\"", "version = \"1.3.2-rc\"");
    assert_eq!(found(&env, "version-behind"), ["warning version-behind"]);
    env.edit("lantern.toml", "version = \"1.3.2-rc\"", "version = \"1.4.0\"");
    assert_eq!(found(&env, "version-behind"), [""; 0]);
}

#[test]
fn what_is_no_build() {
    let env = TestEnv::new();
    let inspect = |path: &str| env.lantern(&["inspect", path]).success().stdout();
    env.write("exports/phone/Saltmarsh.xcodeproj/project.pbxproj", "// !$*UTF8*$!");
    env.write("exports/tree/CMakeLists.txt", "project(saltmarsh)");
    env.write("exports/boxed/Saltmarsh Post.dmg", "koly");
    assert!(
        inspect("exports/phone")
            .contains("is a project that Apple's own tools must build first, as Saltmarsh.xcodeproj/")
    );
    assert!(inspect("exports/tree").contains("is a source tree, as CMakeLists.txt shows"));
    assert!(inspect("exports/boxed").contains("Saltmarsh Post.dmg sets the game up instead of being it"));
    env.edit("lantern.toml", "depots = { linux", "depots = { other = \"sp-other\", linux");
    for folder in ["phone", "tree", "boxed"] {
        let config = format!("[targets.other]\nexport = \"exports/{folder}\"\n\n[targets.linux]");
        env.edit("lantern.toml", "[targets.linux]", &config);
        assert_eq!(codes(&env), ["error not-a-build"], "{folder}");
        env.edit("lantern.toml", &config, "[targets.linux]");
    }
}

#[test]
fn packages_are_looked_into() {
    let env = TestEnv::new();
    let key = key_like();
    let mut zip = ZipWriter::new(std::fs::File::create(env.path("exports/saltmarsh.apk")).unwrap());
    let manifest = include_bytes!("../../../lantern-formats/tests/seeds/manifest/saltmarsh.apk");
    for (path, bytes) in [("AndroidManifest.xml", &manifest[..]), ("assets/upload.pem", key.as_bytes())] {
        let method = Method::Deflate;
        zip.file(path, method, 0o644, bytes.len() as u64, |out| out.write_all(bytes)).unwrap();
    }
    zip.finish().unwrap();
    let phone =
        "[targets.phone]\nexport = \"exports/saltmarsh.apk\"\nmust-mention = [\"first-tide\"]\n\n[targets.linux]";
    env.edit("lantern.toml", "[targets.linux]", phone);
    let codes = codes(&env);
    assert!(
        codes.contains(&"error secret".to_owned()) && codes.contains(&"error must-mention".to_owned()),
        "{codes:?}"
    );
    let stdout = env.lantern(&["check"]).fails(1).stdout();
    assert!(stdout.contains("assets/upload.pem, line 1 looks like a private key"), "{stdout}");
}

/// What was found in files, as it is kept.
fn remembered(env: &TestEnv) -> String {
    let kept = durable::read_kept(&env.path(".lantern/cache/scans.json"), 1 << 20).unwrap();
    String::from_utf8(kept).unwrap()
}

/// What was looked into and is as it was is not read again; what changed is.
#[test]
fn what_was_looked_into_is_remembered() {
    let env = TestEnv::new();
    env.write("exports/linux/keys.txt", "nothing yet");
    let hours_ago = std::time::SystemTime::now() - std::time::Duration::from_secs(7200);
    let age = |path: &str| {
        let file = std::fs::File::options().write(true).open(env.path(path)).unwrap();
        file.set_modified(hours_ago).unwrap();
    };
    age("exports/linux/keys.txt");
    env.lantern(&["prepare"]).success();
    assert_eq!(codes(&env), [""; 0]);
    let memory = remembered(&env);
    assert!(memory.contains("keys.txt"), "{memory}");
    // What is remembered is believed: only so can it be seen that nothing was read.
    let (before, after) = memory.split_once(r#""keys.txt":{"#).unwrap();
    let lie = format!(r#"{before}"keys.txt":{{"scan":{{"secret":["a lie",7]}},{after}"#);
    durable::write_kept(&env.path(".lantern/cache/scans.json"), lie.as_bytes()).unwrap();
    assert!(env.lantern(&["check"]).fails(1).stdout().contains("keys.txt, line 7 looks like a lie"));
    env.write("exports/linux/keys.txt", "something else");
    let stdout = env.lantern(&["check"]).whole();
    assert!(!stdout.contains("keys.txt"), "{stdout}");
    env.write(".lantern/cache/scans.json", "{");
    assert_eq!(codes(&env), [""; 0]);
}

/// Of bundles and packages, too, where signatures are verified: as long as nothing in them changed.
#[test]
fn what_bundles_and_packages_say_of_themselves_is_remembered() {
    let env = TestEnv::new();
    exports::write_macos(&env.path("exports/macos"), GameVersion::Old).unwrap();
    exports::write_android(&env.path("exports/saltmarsh.apk"), GameVersion::Old, false).unwrap();
    let targets =
        "[targets.macos]\nexport = \"exports/macos\"\n[targets.android]\nexport = \"exports/saltmarsh.apk\"\n";
    env.edit("lantern.toml", "[storefronts.brambleyard]\n", &format!("{targets}[storefronts.brambleyard]\n"));
    env.edit("lantern.toml", "sp-linux\"", "sp-linux\", macos = \"sp-macos\", android = \"sp-android\"");
    let hours_ago = std::time::SystemTime::now() - std::time::Duration::from_secs(7200);
    for path in crate::env::files(&env.path("exports")).keys() {
        let file = std::fs::File::options().write(true).open(env.path("exports").join(path)).unwrap();
        file.set_modified(hours_ago).unwrap();
    }
    env.lantern(&["number", "--next", "25"]).success();
    env.lantern(&["prepare"]).success();
    let says = |what: &str| env.lantern(&["check"]).whole().contains(what);
    assert!(!says("calls itself"));
    let memory = remembered(&env);
    let lie = memory.replace(r#""version":"1.3.2""#, r#""version":"9.9.9""#);
    durable::write_kept(&env.path(".lantern/cache/scans.json"), lie.as_bytes()).unwrap();
    assert!(says("android, macos call themselves 9.9.9"));
    env.write("exports/macos/Saltmarsh Post.app/Contents/Resources/letter.txt", "a letter");
    assert!(says("android calls itself 9.9.9"));
    exports::write_android(&env.path("exports/saltmarsh.apk"), GameVersion::Old, false).unwrap();
    assert!(!says("9.9.9"));
}

#[test]
fn the_story_behind_a_finding() {
    let env = TestEnv::without_storefront();
    snapshot!(env.lantern(&["check", "--explain", "debug-data"]).whole(), @r#"
    debug-data

      It contains debug data.
      Players download it for no benefit, and it shows anyone how the game is made. You need it yourself: keep it aside.

      If it is intended, accept it in lantern.toml, if possible for one target or for some of its files:

      [checks]
      accept = [{ code = "debug-data", because = "…", until = "2027-02-27" }]
    "#);
    let document = env.lantern(&["check", "--explain", "secret", "--json"]).success().json();
    assert_eq!(document["code"], "secret");
    let stderr = env.lantern(&["check", "--explain", "secrets"]).fails(2).stderr();
    assert!(stderr.contains("did you mean secret?"), "{stderr}");
}

/// No code is left over in the catalogue: each is made somewhere.
#[test]
fn every_code_is_used() {
    let crates = std::path::Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/.."));
    let folders = ["lantern-core/src/config", "lantern-exports/src", "lantern-project/src"];
    let mut folders: Vec<_> = folders.iter().map(|folder| crates.join(folder)).collect();
    let mut sources = String::new();
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
            if entry.is_dir() {
                folders.push(entry);
            } else if entry.extension().is_some_and(|ending| ending == "rs") {
                sources += &std::fs::read_to_string(&entry).unwrap();
            }
        }
    }
    let is_used = |code: &Code| {
        let name = format!("Code::{code:?}");
        sources.match_indices(&name).any(|(at, _)| !sources[at + name.len()..].starts_with(char::is_alphanumeric))
    };
    let unused: Vec<&Code> = Code::ALL.iter().filter(|code| !is_used(code)).collect();
    assert!(unused.is_empty(), "{unused:?}");
}

#[test]
fn warnings_that_stop_here_and_what_is_accepted_for_some_files() {
    let env = TestEnv::new();
    env.write("exports/linux/a/one.psd", "layers");
    env.write("exports/linux/b/two.psd", "layers");
    assert!(env.lantern(&["check"]).success().stdout().contains("editor-files"));
    env.edit("lantern.toml", "[targets.linux]", "[checks]\nstop = [\"editor-files\"]\n\n[targets.linux]");
    let stderr = env.lantern(&["prepare"]).fails(1).stderr();
    assert!(stderr.contains("a/one.psd, b/two.psd") && stderr.contains("editor-files"), "{stderr}");
    let accept = |path: &str| {
        format!("[checks]\naccept = [{{ code = \"editor-files\", because = \"credits\", path = \"{path}\" }}]\n")
    };
    env.edit("lantern.toml", "[checks]\n", &accept("a/**"));
    env.lantern(&["check"]).fails(1);
    env.edit("lantern.toml", &accept("a/**"), &accept("*/*.psd"));
    env.lantern(&["prepare"]).success();
    // What takes everything of its kind for ever is worth a word.
    env.edit(
        "lantern.toml",
        &accept("*/*.psd"),
        "[checks]\naccept = [{ code = \"editor-files\", because = \"credits\" }]\n",
    );
    assert!(env.lantern(&["check"]).success().stdout().contains("accept-too-broad"));
    env.edit("lantern.toml", "stop = [\"editor-files\"]", "stop = [\"editor-flies\"]");
    assert!(env.lantern(&["check"]).fails(1).stdout().contains("did you mean \"editor-files\"?"));
    // Nobody is advised to accept what cannot be accepted.
    let story = env.lantern(&["check", "--explain", "unmapped-files"]).success().stdout();
    assert!(story.contains("cannot be accepted") && !story.contains("accept ="), "{story}");
}

#[test]
fn what_lies_there_is_explained_as_what_it_is() {
    let env = TestEnv::new();
    let mut zip = ZipWriter::new(std::io::Cursor::new(Vec::new()));
    let stored = Method::Stored;
    zip.file("inner.zip", stored, 0o644, 4, |out| std::io::Write::write_all(out, b"PK??")).unwrap();
    std::fs::write(env.path("exports/outer.zip"), zip.finish().unwrap().into_inner()).unwrap();
    env.write("exports/phone/Saltmarsh.xcodeproj/project.pbxproj", "// !$*UTF8*$!");
    let more = "[targets.web]\nexport = \"exports/outer.zip\"\n\n[targets.phone]\nsystems = [\"ios\"]\n\
        export = \"exports/phone\"\n\n[targets.linux]";
    env.edit("lantern.toml", "[targets.linux]", more);
    env.edit("lantern.toml", "depots = { linux", "depots = { web = \"sp-web\", phone = \"sp-phone\", linux");
    let stdout = env.lantern(&["check"]).fails(1).stdout();
    assert!(stdout.contains("contains nothing but the archive inner.zip: it was packed twice"), "{stdout}");
    assert!(stdout.contains("is a project that Apple's own tools must build first"), "{stdout}");
}

#[test]
fn two_copies_of_one_library_are_not_each_others_debug_data() {
    let env = TestEnv::new();
    // Any program that was not stripped: this one.
    let program = std::fs::read(crate::env::BINARY).unwrap();
    for copy in ["plugins/libfog.so", "mods/libfog.so"] {
        env.write(&format!("exports/linux/{copy}"), "");
        std::fs::write(env.path(&format!("exports/linux/{copy}")), &program).unwrap();
    }
    let stdout = env.lantern(&["check"]).success().stdout();
    assert!(!stdout.contains("it contains debug data"), "{stdout}");
    if stdout.contains("debug-data") {
        assert!(stdout.contains("debug data is inside mods/libfog.so, plugins/libfog.so"), "{stdout}");
    }
}

/// What is accepted of another target is not said to be missing where only one was looked at.
#[test]
fn what_is_accepted_of_another_target() {
    let env = TestEnv::new();
    let accept =
        "[checks]\naccept = [{ code = \"no-profile\", because = \"there is none\", until = \"2027-03-01\" }]\n";
    let config = String::from_utf8(env.read("lantern.toml")).unwrap();
    env.write("lantern.toml", &format!("{config}\n{accept}"));
    assert_eq!(codes(&env), ["warning accept-unused"]);
    let part = env.lantern(&["check", "--target", "linux"]).success().stdout();
    assert!(!part.contains("accept-unused"), "{part}");
}
