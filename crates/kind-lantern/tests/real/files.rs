//! Programs and packages that others have made and signed: what `lantern inspect` says of them is what is known, and
//! no byte of what is signed can be changed unseen. `scripts/real-files.sh` fetches them; `docs/real-files.md` says how
//! each expectation is known.

use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::Value;

/// What is known of a thing: where it lies, and parts of the document about it.
struct Known {
    path: &'static str,
    /// Pointers into the document, and what stands there.
    says: &'static [(&'static str, &'static str)],
    /// What is said about something, by what it is about.
    facts: &'static [(&'static str, &'static str)],
    /// Codes of what is wrong with it; nothing else is.
    findings: &'static [&'static str],
}

const INTACT: (&str, &str) = ("/signature/intact", "true");
const PUBLIC_KEY: &str = "a40da80a59d170caa950cf15c18c454d47a39b26989d8b640ecd745ba71bf5dc";

/// A bundle that an identity has signed, with a bundle in it, a profile, and the ticket of the notary service.
const REDIRECTOR: &[(&str, &str)] = &[
    INTACT,
    ("/systems/0", "macos-universal"),
    ("/identity", "org.mitmproxy.macos-redirector"),
    ("/version", "2.0"),
    ("/number", "1"),
    ("/needs", "macOS 12.0"),
    ("/icon_sizes/3", "256"),
    ("/signature/whose", "blake3:bc5b2aa65431a3b242ddfd153caf5b3ed3e7d5877bb7deb979448aa70532ba3a"),
];
const REDIRECTOR_FACTS: &[(&str, &str)] = &[
    ("team", "S8XHQB96PW"),
    ("runtime", "hardened"),
    ("certified by", "Developer ID Certification Authority, by Apple Root CA"),
    ("certificate expires", "2027-02-01"),
    ("time stamp", "2025-02-17"),
    ("profile", "Mitmproxy Redirector, for all computers, until 2041-08-17"),
    ("notarized", "its ticket is attached"),
];

const KNOWN: &[Known] = &[
    Known {
        path: "appium-android-ime-2.0.0/package/bin/UnicodeIME-debug.apk",
        says: &[
            INTACT,
            ("/identity", "io.appium.android.ime"),
            ("/version", "1.0"),
            ("/number", "1"),
            ("/needs", "API level 16"),
            ("/icon_sizes/2", "96"),
        ],
        facts: &[
            ("signature schemes", "1"),
            ("fingerprint", "a65e578cd19d65754d5012bf1701d9142917abfd514017621634a7da3f4808dc"),
        ],
        findings: &["debug-build", "no-start", "small-icon", "debug-key"],
    },
    Known {
        path: "unlock_apk-1.0.2/package/bin/unlock_apk-debug.apk",
        says: &[INTACT, ("/identity", "io.appium.unlock"), ("/starts/0", "Unlock")],
        facts: &[
            ("signature schemes", "1"),
            ("fingerprint", "f68117581679cdfaf3532a1c374547745a1889d266b3de8d3dc9014632599f33"),
        ],
        findings: &["debug-build", "small-icon", "debug-key"],
    },
    Known {
        path: "io.appium.settings-5.12.0/package/apks/settings_apk-debug.apk",
        says: &[
            INTACT,
            ("/version", "5.12.0"),
            ("/number", "90"),
            ("/icon_sizes/4", "192"),
            ("/starts/0", "io.appium.settings.Settings"),
        ],
        facts: &[
            ("signature schemes", "1, 2"),
            ("made for", "API level 32"),
            ("fingerprint", "197addb8d0432ed5a1eb539ecb56f43f2f5afa3f52af91616d5de313541fd56d"),
        ],
        findings: &["debug-build", "debug-key"],
    },
    Known {
        path: "appium-uiautomator2-server-7.0.0/package/apks/appium-uiautomator2-server-v7.0.0.apk",
        says: &[INTACT, ("/version", "7.0.0"), ("/number", "162"), ("/needs", "API level 21")],
        facts: &[("signature schemes", "1, 2, 3"), ("fingerprint", PUBLIC_KEY)],
        findings: &["debug-build", "no-start", "no-icon", "debug-key"],
    },
    Known {
        path: "appium-uiautomator2-server-7.0.0/package/apks/appium-uiautomator2-server-debug-androidTest.apk",
        says: &[INTACT, ("/identity", "io.appium.uiautomator2.server.test")],
        facts: &[("signature schemes", "1, 2, 3"), ("fingerprint", PUBLIC_KEY)],
        findings: &["debug-build", "no-start", "no-number", "no-icon", "debug-key"],
    },
    Known {
        path: "sentry-cli-darwin-3.8.0/package/bin/sentry-cli",
        says: &[
            INTACT,
            ("/systems/0", "macos-universal"),
            ("/needs", "macOS 10.12"),
            ("/signature/whose", "Developer ID Application: GetSentry LLC (97JCY7859U)"),
        ],
        facts: &[
            ("team", "97JCY7859U"),
            ("runtime", "hardened"),
            ("signed as", "sentry-cli-Darwin-universal"),
            ("certified by", "Developer ID Certification Authority, by Apple Root CA"),
            ("certificate expires", "2027-02-01"),
            ("time stamp", "2026-09-16"),
        ],
        findings: &[],
    },
    Known {
        path: "shiboken6-6.11.3-cp310-abi3-win_amd64/shiboken6/shiboken6.abi3.dll",
        says: &[INTACT, ("/systems/0", "windows-x86_64"), ("/signature/whose", "The QT Company Oy")],
        facts: &[],
        findings: &[],
    },
    Known {
        path: "shiboken6-6.11.3-cp310-abi3-win_arm64/shiboken6/msvcp140_1.dll",
        says: &[INTACT, ("/systems/0", "windows-arm64"), ("/version", "14.41.34120.0")],
        facts: &[],
        findings: &[],
    },
    Known {
        path: "shiboken6-6.11.3-cp310-abi3-macosx_13_0_universal2/shiboken6/Shiboken.abi3.so",
        says: &[INTACT, ("/signature/kind", "ad-hoc"), ("/systems/0", "macos-universal")],
        facts: &[("signed as", "Shiboken.abi3.so")],
        findings: &[],
    },
    Known {
        path: "shiboken6-6.11.3-cp310-abi3-manylinux_2_34_x86_64/shiboken6/libshiboken6.abi3.so.6.11",
        says: &[("/systems/0", "linux-x86_64"), ("/needs", "glibc 2.14"), ("/libraries/0", "libstdc++.so.6")],
        facts: &[],
        findings: &[],
    },
    Known {
        path: "esbuild-linux-x64-0.28.2/package/bin/esbuild",
        says: &[("/systems/0", "linux-x86_64"), ("/form", "a program")],
        facts: &[],
        findings: &[],
    },
    Known {
        path: "esbuild-win32-arm64-0.28.2/package/esbuild.exe",
        says: &[("/systems/0", "windows-arm64"), ("/signature/kind", "none"), ("/libraries/0", "kernel32.dll")],
        facts: &[("opens", "a console window")],
        findings: &[],
    },
    Known {
        path: "node-notifier-10.0.1/package/vendor/mac.noindex/terminal-notifier.app",
        says: &[("/form", "a bundle"), ("/signature/kind", "none"), ("/version", "1.7.2"), ("/needs", "macOS 10.8")],
        facts: &[],
        findings: &[],
    },
    Known {
        path: "mitmproxy_macos-0.11.5-py3-none-any/mitmproxy_macos/Mitmproxy Redirector.app",
        says: REDIRECTOR,
        facts: REDIRECTOR_FACTS,
        findings: &["small-icon"],
    },
    Known {
        path: "mitmproxy_macos-0.11.5-py3-none-any/mitmproxy_macos/Mitmproxy Redirector.app.tar",
        says: REDIRECTOR,
        facts: REDIRECTOR_FACTS,
        findings: &["small-icon"],
    },
    Known {
        path: "nativescript-core-9.1.2/package/platforms/ios/TNSWidgets.xcframework/ios-arm64_x86_64-maccatalyst/TNSWidgets.framework",
        says: &[
            ("/form", "a bundle"),
            INTACT,
            ("/signature/kind", "ad-hoc"),
            ("/identity", "org.nativescript.TNSWidgets"),
        ],
        facts: &[("signature covers", "only the program, nothing else of the bundle")],
        findings: &[],
    },
    Known {
        path: "nativescript-core-9.1.2/package/platforms/ios/TNSWidgets.xcframework/ios-arm64_x86_64-simulator/TNSWidgets.framework",
        says: &[("/form", "a bundle"), ("/signature/intact", "false")],
        facts: &[],
        findings: &["simulator-build", "broken-signature"],
    },
    Known {
        path: "nativescript-core-9.1.2/package/platforms/ios/TNSWidgets.xcframework/ios-arm64/dSYMs/TNSWidgets.framework.dSYM",
        says: &[("/form", "data for debuggers")],
        facts: &[("debug data of", "037134706b8a35c1965f163b2429abaa")],
        findings: &[],
    },
    Known {
        path: "flet_desktop-0.28.2-py3-none-macosx_12_0_arm64/flet_desktop/app/flet-macos.tar.gz",
        says: &[
            INTACT,
            ("/signature/kind", "ad-hoc"),
            ("/version", "0.28.2"),
            ("/needs", "macOS 10.15"),
            ("/files", "151"),
        ],
        facts: &[("signed as", "com.appveyor.flet")],
        findings: &["small-icon", "debug-build"],
    },
    Known {
        path: "node-pty-1.1.0/package/prebuilds/win32-x64",
        says: &[("/form", "a folder"), ("/systems/0", "windows-x86_64"), ("/starts/0", "winpty-agent.exe")],
        facts: &[("opens", "a console window"), ("debug data", "winpty-agent.pdb")],
        findings: &["unsigned", "no-icon"],
    },
    Known {
        path: "swagger-ui-dist-5.35.0/package",
        says: &[("/systems/0", "web"), ("/name", "Swagger UI"), ("/starts/0", "index.html")],
        facts: &[],
        findings: &[],
    },
    Known {
        path: "pyside6_essentials-6.11.3-cp310-abi3-macosx_13_0_universal2/PySide6/Assistant.app",
        says: &[INTACT, ("/identity", "org.qt-project.assistant"), ("/icon_sizes/7", "1024")],
        facts: &[("signed as", "org.qt-project.assistant")],
        findings: &["library-missing"],
    },
];

fn folder() -> PathBuf {
    let folder = std::env::var_os("LANTERN_REAL_FILES").expect("LANTERN_REAL_FILES names them: scripts/real-files.sh");
    let folder = PathBuf::from(folder);
    assert!(folder.is_dir(), "{} is not there: run scripts/real-files.sh", folder.display());
    folder
}

fn inspect(paths: &[PathBuf]) -> Vec<Value> {
    let home = tempfile::tempdir().unwrap();
    let mut command = Command::new(env!("CARGO_BIN_EXE_lantern"));
    let output = command.env("LANTERN_HOME", home.path()).args(["inspect", "--json"]).args(paths).output().unwrap();
    let document: Value = serde_json::from_slice(&output.stdout).unwrap();
    document["things"].as_array().unwrap().clone()
}

fn text(value: &Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

/// Every difference from what is known.
fn differences(known: &Known, seen: &Value) -> Vec<String> {
    let mut out = Vec::new();
    for (pointer, wanted) in known.says {
        let mut found = seen.pointer(pointer).map(text);
        // A private person's name stands nowhere here.
        if wanted.starts_with("blake3:") {
            found = found.map(|found| lantern_core::digest::Digest::of(found.as_bytes()).to_string());
        }
        if found.as_deref() != Some(*wanted) {
            out.push(format!("{}: {pointer} is {found:?}, not {wanted}", known.path));
        }
    }
    let facts = seen["facts"].as_array().unwrap();
    for (about, wanted) in known.facts {
        let found = facts.iter().find(|fact| fact["about"] == *about).map(|fact| text(&fact["says"]));
        if found.as_deref() != Some(*wanted) {
            out.push(format!("{}: {about} is {found:?}, not {wanted}", known.path));
        }
    }
    let codes: Vec<String> = seen["findings"].as_array().unwrap().iter().map(|f| text(&f["code"])).collect();
    if codes != known.findings {
        out.push(format!("{}: findings are {codes:?}, not {:?}", known.path, known.findings));
    }
    out
}

#[test]
fn what_is_said_is_what_is_known() {
    let paths: Vec<PathBuf> = KNOWN.iter().map(|known| folder().join(known.path)).collect();
    let seen = inspect(&paths);
    assert_eq!(seen.len(), KNOWN.len());
    let differences: Vec<String> = KNOWN.iter().zip(&seen).flat_map(|(known, seen)| differences(known, seen)).collect();
    assert_eq!(differences, [""; 0]);
}

fn all_files(folder: &Path, out: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap()) {
        let kind = entry.file_type().unwrap();
        if kind.is_dir() {
            all_files(&entry.path(), out);
        } else if kind.is_file() {
            out.push(entry.path());
        }
    }
}

/// Whether a file begins as programs and libraries do.
fn is_program(path: &Path) -> bool {
    let mut first = [0; 4];
    let mut file = std::fs::File::open(path).unwrap();
    let is_whole = std::io::Read::read_exact(&mut file, &mut first).is_ok();
    let magics = [*b"\x7fELF", [0xcf, 0xfa, 0xed, 0xfe], [0xca, 0xfe, 0xba, 0xbe]];
    is_whole && (first.starts_with(b"MZ") || magics.contains(&first))
}

#[test]
fn every_signature_holds() {
    let mut all = Vec::new();
    all_files(&folder(), &mut all);
    all.retain(|path| is_program(path));
    all.sort();
    assert!(all.len() > 300, "{}", all.len());
    let mut signed = 0;
    for paths in all.chunks(200) {
        for seen in inspect(paths) {
            let path = &seen["path"];
            assert!(seen["form"].is_string(), "{path} cannot be inspected");
            if seen["signature"]["kind"] == "identity" || seen["signature"]["kind"] == "ad-hoc" {
                signed += 1;
                assert_eq!(seen["signature"]["intact"], true, "{path}: {}", seen["findings"]);
            }
        }
    }
    assert!(signed > 200, "{signed} are signed");
}

/// A small file of each kind of signature, with the part of it that is covered.
const CHANGED: &[(&str, std::ops::Range<usize>)] = &[
    ("shiboken6-6.11.3-cp310-abi3-win_amd64/shiboken6/Shiboken.pyd", 0x400..20_000),
    ("shiboken6-6.11.3-cp310-abi3-win_arm64/shiboken6/msvcp140_1.dll", 0x400..30_000),
    ("shiboken6-6.11.3-cp310-abi3-macosx_13_0_universal2/shiboken6/Shiboken.abi3.so", 0x10_000..0x14_000),
    ("io.appium.settings-5.12.0/package/apks/settings_apk-debug.apk", 100..2_500_000),
    ("appium-android-ime-2.0.0/package/bin/UnicodeIME-debug.apk", 3_000..30_000),
];

#[test]
fn any_changed_byte_is_noticed() {
    let folder = folder();
    let spare = tempfile::tempdir().unwrap();
    for (path, covered) in CHANGED {
        let good = std::fs::read(folder.join(path)).unwrap();
        let ending = path.rsplit('.').next().unwrap();
        // Places that look as if they came by chance, and are the same in every run.
        let step = (covered.len() / 61) | 1;
        let places: Vec<usize> = covered.clone().step_by(step).collect();
        let mut paths = Vec::new();
        for at in &places {
            let mut bytes = good.clone();
            bytes[*at] ^= 1 << (at % 8);
            let changed = spare.path().join(format!("{at}.{ending}"));
            std::fs::write(&changed, bytes).unwrap();
            paths.push(changed);
        }
        for (seen, at) in inspect(&paths).iter().zip(places) {
            let codes: Vec<String> = seen["findings"].as_array().unwrap().iter().map(|f| text(&f["code"])).collect();
            // What is so broken that it cannot be read is noticed, too.
            let is_noticed = ["broken-signature", "broken-program", "bad-archive", "bad-package", "unreadable"]
                .iter()
                .any(|code| codes.iter().any(|found| found == code));
            assert!(is_noticed, "{path}, byte {at}: {codes:?}");
        }
        paths.iter().for_each(|path| std::fs::remove_file(path).unwrap());
    }
}

fn copy(from: &Path, to: &Path) {
    std::fs::create_dir_all(to).unwrap();
    for entry in std::fs::read_dir(from).unwrap().map(|entry| entry.unwrap()) {
        let to = to.join(entry.file_name());
        if entry.file_type().unwrap().is_dir() {
            copy(&entry.path(), &to);
        } else {
            std::fs::copy(entry.path(), &to).unwrap();
        }
    }
}

/// Every file of a bundle that an identity has signed is covered, those of the bundle in it as well; not the ticket,
/// which is put there afterwards, and the note for the Finder that older systems read.
#[test]
fn any_changed_file_of_a_bundle_is_noticed() {
    const BUNDLE: &str = "Mitmproxy Redirector.app";
    let spare = tempfile::tempdir().unwrap();
    let from = folder().join("mitmproxy_macos-0.11.5-py3-none-any/mitmproxy_macos").join(BUNDLE);
    let mut files = Vec::new();
    all_files(&from, &mut files);
    let free = ["Contents/CodeResources", "Contents/PkgInfo"].map(|name| from.join(name));
    files.retain(|file| !free.contains(file));
    assert_eq!(files.len(), 10);
    let mut paths = Vec::new();
    for (i, file) in files.iter().enumerate() {
        for (part, how) in [(2, "early"), (1, "late")] {
            let to = spare.path().join(format!("{i}-{how}")).join(BUNDLE);
            copy(&from, &to);
            let changed = to.join(file.strip_prefix(&from).unwrap());
            let mut bytes = std::fs::read(&changed).unwrap();
            let at = bytes.len() / 3 * (3 - part) / 2;
            bytes[at] ^= 1;
            std::fs::write(&changed, bytes).unwrap();
            paths.push(to);
        }
    }
    for (seen, path) in inspect(&paths).iter().zip(&paths) {
        let codes: Vec<String> = seen["findings"].as_array().unwrap().iter().map(|f| text(&f["code"])).collect();
        let is_noticed =
            ["broken-signature", "broken-program", "bad-bundle"].iter().any(|code| codes.iter().any(|c| c == code));
        assert!(is_noticed, "{}: {codes:?}", path.display());
    }
}

/// What `check` says of exports that are made of them.
#[test]
fn what_check_finds_in_them() {
    let spare = tempfile::tempdir().unwrap();
    let place = |from: &str, to: &str| copy(&folder().join(from), &spare.path().join(to));
    place("node-pty-1.1.0/package/prebuilds/win32-x64", "exports/windows");
    place(
        "mitmproxy_macos-0.11.5-py3-none-any/mitmproxy_macos/Mitmproxy Redirector.app",
        "exports/macos/Redirector.app",
    );
    let frameworks =
        "nativescript-core-9.1.2/package/platforms/ios/TNSWidgets.xcframework/ios-arm64_x86_64-maccatalyst";
    place(&format!("{frameworks}/TNSWidgets.framework"), "exports/macos/TNSWidgets.framework");
    place(&format!("{frameworks}/dSYMs"), "exports/macos/dSYMs");
    place("swagger-ui-dist-5.35.0/package", "exports/web");
    let config = "[game]\nname = \"Saltmarsh Post\"\nstudio = \"Paper Heron\"\nversion = \"2.0\"\n\
        identity = \"org.mitmproxy.macos-redirector\"\n\
        [targets.windows]\nexport = \"exports/windows\"\n[targets.macos]\nexport = \"exports/macos\"\n\
        starts = \"Redirector.app/Contents/MacOS/Mitmproxy Redirector\"\n[targets.web]\nexport = \"exports/web\"\n";
    std::fs::write(spare.path().join("lantern.toml"), config).unwrap();
    let mut command = Command::new(env!("CARGO_BIN_EXE_lantern"));
    command.env("LANTERN_HOME", spare.path().join("home")).current_dir(spare.path()).args(["check", "--json"]);
    let output = command.output().unwrap();
    let document: Value = serde_json::from_slice(&output.stdout).unwrap();
    let findings = document["findings"].as_array().unwrap();
    let said = |code: &str| -> Vec<String> {
        findings.iter().filter(|f| f["code"] == code).map(|f| text(&f["what"])).collect()
    };
    let mut codes: Vec<String> = findings.iter().map(|f| text(&f["code"])).collect();
    codes.sort();
    assert_eq!(
        codes,
        [
            "console-window",
            "debug-data",
            "debug-data",
            "no-icon",
            "small-icon",
            "source-files",
            "source-files",
            "unsigned"
        ],
        "{document}"
    );
    let data = said("debug-data").join("; ");
    for pair in [
        "conpty.pdb (of conpty.node)",
        "winpty.pdb (of winpty.dll)",
        "winpty-agent.pdb (of winpty-agent.exe)",
        "TNSWidgets (of TNSWidgets.framework/Versions/A/TNSWidgets)",
    ] {
        assert!(data.contains(pair), "{pair}: {data}");
    }
}
