//! Bundles and packages that are signed here and now, and what breaks them.

use std::collections::BTreeMap;
use std::io::Cursor;
use std::path::Path;

use lantern_core::progress::Silent;
use lantern_formats::samples::{Key, MacProgram, entitlements_in_der, nobody, plain, signed_archive};
use lantern_formats::zip::Method;
use lantern_formats::zip::write::ZipWriter;

use super::*;

const DATA: &str = "1.2.840.113549.1.7.1";
const RULES: &str = "<key>rules2</key><dict><key>^.*</key><true/>
    <key>^Info\\.plist$</key><dict><key>omit</key><true/><key>weight</key><real>20</real></dict>
    <key>^(.*/)?\\.DS_Store$</key><dict><key>omit</key><true/><key>weight</key><real>2000</real></dict></dict>";

/// A moment within the time of every certificate and profile here.
fn now() -> Timestamp {
    "2026-11-27T12:00:00Z".parse().unwrap()
}

fn info(program: &str) -> Vec<u8> {
    format!(
        "<plist><dict><key>CFBundleIdentifier</key><string>example.paperheron.saltmarsh</string>
         <key>CFBundleName</key><string>Saltmarsh Post</string><key>CFBundleShortVersionString</key><string>1.4.0</string>
         <key>CFBundleExecutable</key><string>{program}</string></dict></plist>"
    )
    .into_bytes()
}

/// What a seal says of a file.
fn sealed(path: &str, bytes: &[u8]) -> String {
    format!("<key>{path}</key><dict><key>hash2</key><data>{}</data></dict>", base64(bytes))
}

fn base64(bytes: &[u8]) -> String {
    lantern_formats::samples::digest(bytes)
}

fn seal(files: &str) -> Vec<u8> {
    format!("<plist><dict><key>files2</key><dict>{files}</dict>{RULES}</dict></plist>").into_bytes()
}

type Files = BTreeMap<String, Vec<u8>>;

/// A bundle for macOS with a resource and a library of its own.
fn bundle(key: &Key, library_team: &str) -> Files {
    let resource = b"the lighthouse keeper's letter".to_vec();
    let sign = |directory: &[u8]| key.message(DATA, None, directory, &plain);
    let library = MacProgram { info: b"", team: library_team, ..MacProgram::default() }.signed(&sign);
    let demand = "<key>requirement</key><string>anchor apple generic</string>";
    let seal = seal(&format!(
        "{}<key>Frameworks/libtide.dylib</key><dict>{demand}</dict>",
        sealed("Resources/letter.txt", &resource)
    ));
    let info = info("saltmarsh");
    let entitlements = b"<plist><dict><key>com.apple.security.cs.allow-jit</key><true/></dict></plist>";
    let program = MacProgram { info: &info, seal: &seal, entitlements, flags: 0x1_0000, ..MacProgram::default() };
    let files = [
        ("Contents/Info.plist", info.clone()),
        ("Contents/MacOS/saltmarsh", program.signed(&sign)),
        ("Contents/Resources/letter.txt", resource),
        ("Contents/Frameworks/libtide.dylib", library),
        ("Contents/_CodeSignature/CodeResources", seal.clone()),
    ];
    files.into_iter().map(|(path, bytes)| (path.to_owned(), bytes)).collect()
}

fn inspect_bundle(files: &Files) -> Inspected {
    let folder = tempfile::tempdir().unwrap();
    let bundle = folder.path().join("Saltmarsh Post.app");
    for (path, bytes) in files {
        let path = bundle.join(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, bytes).unwrap();
    }
    inspect(&bundle, "Saltmarsh Post.app", now(), &Silent).unwrap()
}

fn inspect_file(name: &str, bytes: &[u8]) -> Inspected {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join(name), bytes).unwrap();
    inspect(&folder.path().join(Path::new(name)), name, now(), &Silent).unwrap()
}

fn what(seen: &Inspected, code: Code) -> Vec<String> {
    seen.findings.iter().filter(|finding| finding.code == code).map(|finding| finding.what.clone()).collect()
}

fn fact(seen: &Inspected, about: Fact) -> Option<&str> {
    seen.facts.iter().find(|(known, _)| *known == about).map(|(_, says)| says.as_str())
}

#[test]
fn a_signed_bundle() {
    let seen = inspect_bundle(&bundle(&Key::new("Paper Heron"), "HERON12345"));
    assert_eq!(what(&seen, Code::BrokenSignature), [""; 0]);
    let whose = Some("Paper Heron".to_owned());
    assert_eq!(seen.signature, Signature::Identity { whose, is_intact: Some(true) });
    assert_eq!((fact(&seen, Fact::Team), fact(&seen, Fact::Runtime)), (Some("HERON12345"), Some("hardened")));
    assert_eq!(fact(&seen, Fact::Entitlements), Some("com.apple.security.cs.allow-jit"));
}

#[test]
fn what_breaks_a_signed_bundle() {
    let key = Key::new("Paper Heron");
    let good = bundle(&key, "HERON12345");
    let broken = |change: &dyn Fn(&mut Files)| {
        let mut files = good.clone();
        change(&mut files);
        what(&inspect_bundle(&files), Code::BrokenSignature).join("; ")
    };
    let letter = "Contents/Resources/letter.txt";
    assert!(broken(&|f| f.get_mut(letter).unwrap()[3] ^= 1).contains("Resources/letter.txt was changed"));
    assert!(broken(&|f| drop(f.remove(letter))).contains("Resources/letter.txt was taken out"));
    let more = |path: &str| broken(&|f| drop(f.insert(format!("Contents/{path}"), b"x".to_vec())));
    assert!(more("Resources/more.txt").contains("Resources/more.txt was added"));
    assert_eq!(more("Resources/.DS_Store"), "");
    let library = "Contents/Frameworks/libtide.dylib";
    assert!(broken(&|f| f.get_mut(library).unwrap()[5000] ^= 1).contains("Frameworks/libtide.dylib: the code changed"));
    assert!(broken(&|f| drop(f.remove(library))).contains("Frameworks/libtide.dylib was taken out"));
    assert!(broken(&|f| f.get_mut("Contents/Info.plist").unwrap().push(b' ')).contains("Info.plist was changed"));
    let seal_changed = |f: &mut Files| f.get_mut("Contents/_CodeSignature/CodeResources").unwrap().push(b' ');
    assert!(broken(&seal_changed).contains("CodeResources was changed"));
    let other = inspect_bundle(&bundle(&key, "EBBTIDE999"));
    assert_eq!(what(&other, Code::BrokenSignature), [""; 0]);
    assert!(what(&other, Code::OtherSigner)[0].contains("libtide.dylib"));
}

/// The hash that stands for the signature of a program: that of its list of hashes, cut short.
fn short_hash(program: &[u8]) -> Vec<u8> {
    let at = lantern_core::bytes::find(program, &[0xfa, 0xde, 0x0c, 0x02], 0).unwrap();
    let len = u32::from_be_bytes(program[at + 4..at + 8].try_into().unwrap()) as usize;
    lantern_formats::samples::sha256(&program[at..at + len])[..20].to_vec()
}

#[test]
fn a_bundle_with_a_ticket() {
    let key = Key::new("Paper Heron");
    let mut files = bundle(&key, "HERON12345");
    let hash = short_hash(&files["Contents/MacOS/saltmarsh"]);
    let ticket = [b"s8ch\x01\0\0\0".as_slice(), &hash, b"and more"].concat();
    files.insert("Contents/CodeResources".to_owned(), ticket);
    let seen = inspect_bundle(&files);
    assert_eq!(fact(&seen, Fact::Notarized), Some("its ticket is attached"));
    assert_eq!((what(&seen, Code::BrokenSignature), what(&seen, Code::TicketMismatch)), (vec![], vec![]));
    // Signed again after the ticket was made.
    files.get_mut("Contents/CodeResources").unwrap()[9] ^= 1;
    let seen = inspect_bundle(&files);
    assert!(
        what(&seen, Code::TicketMismatch)[0].contains("for another build")
            && what(&seen, Code::BrokenSignature).is_empty()
    );
    files.insert("Contents/CodeResources".to_owned(), b"something else".to_vec());
    assert!(what(&inspect_bundle(&files), Code::BrokenSignature)[0].contains("CodeResources was added"));
}

#[test]
fn a_bundle_whose_program_alone_is_signed() {
    let info = info("saltmarsh");
    let program = MacProgram { flags: 2, info: b"", entitlements: b"", ..MacProgram::default() };
    let sealed = seal(&sealed("Resources/letter.txt", b"as it was"));
    let files = |program: Vec<u8>| -> Files {
        let files = [
            ("Contents/Info.plist", info.clone()),
            ("Contents/MacOS/saltmarsh", program),
            ("Contents/Resources/letter.txt", b"as it is".to_vec()),
            ("Contents/_CodeSignature/CodeResources", sealed.clone()),
        ];
        files.into_iter().map(|(path, bytes)| (path.to_owned(), bytes)).collect()
    };
    let seen = inspect_bundle(&files(program.signed(&nobody)));
    assert_eq!(seen.signature, Signature::AdHoc { is_intact: true });
    assert!(fact(&seen, Fact::SignatureCovers).unwrap().starts_with("only the program"));
    // Where someone signed it, all of the bundle is meant.
    let sign = |directory: &[u8]| Key::new("Paper Heron").message(DATA, None, directory, &plain);
    let seen = inspect_bundle(&files(MacProgram { flags: 0, ..program }.signed(&sign)));
    assert!(what(&seen, Code::BrokenSignature)[0].contains("Info.plist was changed"));
}

/// What a profile says, as its maker signs it.
fn profile_file(profile: &str) -> Vec<u8> {
    let list = format!("<plist><dict><key>Name</key><string>Saltmarsh</string>{profile}</dict></plist>");
    let content = lantern_formats::samples::der(4, &[list.as_bytes()]);
    Key::new("the shop").message(DATA, Some(&content), list.as_bytes(), &plain)
}

#[test]
fn a_bundle_for_macos_and_its_profile() {
    let key = Key::new("Paper Heron");
    let look = |entitlements: &str, profile: Option<&str>| {
        let profile = profile.map(|profile| {
            profile_file(&format!(
                "<key>TeamIdentifier</key><array><string>HERON12345</string></array><key>ProvisionsAllDevices</key><true/>
                 <key>DeveloperCertificates</key><array><data>{}</data></array>
                 <key>Entitlements</key><dict>{profile}</dict>",
                lantern_formats::samples::base64_of(&key.certificate)
            ))
        });
        let seal =
            seal(&profile.as_deref().map(|bytes| sealed("embedded.provisionprofile", bytes)).unwrap_or_default());
        let info = info("saltmarsh");
        let entitlements = format!("<plist><dict>{entitlements}</dict></plist>");
        let entitlements = entitlements.as_bytes();
        let program = MacProgram { info: &info, seal: &seal, entitlements, ..MacProgram::default() };
        let program = program.signed(&|directory: &[u8]| key.message(DATA, None, directory, &plain));
        let files = [
            ("Contents/Info.plist", Some(info.clone())),
            ("Contents/MacOS/saltmarsh", Some(program)),
            ("Contents/embedded.provisionprofile", profile),
            ("Contents/_CodeSignature/CodeResources", Some(seal.clone())),
        ];
        let files = files.into_iter().filter_map(|(path, bytes)| Some((path.to_owned(), bytes?)));
        inspect_bundle(&files.collect())
    };
    let push = "<key>com.apple.developer.aps-environment</key><string>production</string>";
    let free = "<key>com.apple.security.cs.allow-jit</key><true/>";
    let seen = look(&format!("{push}{free}"), Some(push));
    assert_eq!(
        (what(&seen, Code::ProfileMismatch), what(&seen, Code::NoProfile)),
        (vec![], vec![]),
        "{:?}",
        seen.findings
    );
    assert_eq!(fact(&seen, Fact::Profile), Some("Saltmarsh, for all computers"));
    assert!(what(&look(push, Some("")), Code::ProfileMismatch)[0].contains("more than the profile allows"));
    assert!(what(&look(push, None), Code::NoProfile)[0].contains("com.apple.developer.aps-environment"));
    assert!(what(&look(free, None), Code::NoProfile).is_empty(), "every program may ask for it");
    let debug = look("<key>com.apple.security.get-task-allow</key><true/>", None);
    assert!(what(&debug, Code::DebugBuild)[0].contains("debuggers"));
}

#[test]
fn bundles_that_nobody_starts() {
    let info = info("Tide");
    let program = MacProgram { flags: 2, info: &info, entitlements: b"", ..MacProgram::default() }.signed(&nobody);
    let look = |name: &str, files: &[(&str, &[u8])]| {
        let folder = tempfile::tempdir().unwrap();
        for (path, bytes) in files {
            let path = folder.path().join(name).join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, bytes).unwrap();
        }
        inspect(&folder.path().join(name), name, now(), &Silent).unwrap()
    };
    let versioned = [("Versions/A/Resources/Info.plist", info.as_slice()), ("Versions/A/Tide", &program)];
    let flat = [("Info.plist", info.as_slice()), ("Tide", &program)];
    let without_versions = [("Resources/Info.plist", info.as_slice()), ("Tide", &program)];
    let lost_links = [("Resources/Info.plist", info.as_slice()), ("Versions/A/Tide", &program)];
    for files in [versioned.as_slice(), &flat, &without_versions, &lost_links] {
        let seen = look("Tide.framework", files);
        assert_eq!((seen.form, seen.version.as_deref()), (Some("a bundle"), Some("1.4.0")));
        assert_eq!((seen.signature, seen.findings), (Signature::AdHoc { is_intact: true }, vec![]));
    }
    let beside = look("Tide.framework/Resources/..", &[("Resources/Info.plist", &info), ("Tide", &program)]);
    assert_eq!(beside.form, Some("a bundle"), "it is called as its folder is");
    let seen =
        look("Tide.framework.dSYM", &[("Contents/Info.plist", &info), ("Contents/Resources/DWARF/Tide", &program)]);
    assert_eq!((seen.form, fact(&seen, Fact::DebugDataOf)), (Some("data for debuggers"), Some("unknown")));
    assert_eq!(look("Tide.framework", &[("letter.txt", b"x")]).form, Some("a folder"));
}

/// A package for iOS with this in its profile, and these entitlements.
fn phone(key: &Key, profile: &str, entitlements: &str) -> Vec<u8> {
    let profile = profile_file(profile);
    let sign = |directory: &[u8]| key.message(DATA, None, directory, &plain);
    let seal = seal(&sealed("embedded.mobileprovision", &profile));
    let info = info("saltmarsh");
    let entitlements = format!("<plist><dict>{entitlements}</dict></plist>");
    let in_der = entitlements_in_der(entitlements.as_bytes());
    let program = MacProgram {
        info: &info,
        seal: &seal,
        entitlements: entitlements.as_bytes(),
        entitlements_der: &in_der,
        ..MacProgram::default()
    };
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    let program = program.signed(&sign);
    let files: [(&str, &[u8]); 4] = [
        ("Info.plist", &info),
        ("_CodeSignature/CodeResources", &seal),
        ("embedded.mobileprovision", &profile),
        ("saltmarsh", &program),
    ];
    for (path, bytes) in files {
        let path = format!("Payload/Saltmarsh.app/{path}");
        zip.file(&path, Method::Deflate, 0o755, bytes.len() as u64, |out| out.write_all(bytes)).unwrap();
    }
    zip.finish().unwrap().into_inner()
}

const KNOWN_AS: &str = "<key>application-identifier</key><string>HERON12345.example.paperheron.saltmarsh</string>";

#[test]
fn a_package_for_ios_and_its_profile() {
    let key = Key::new("Paper Heron");
    let certificate = lantern_formats::samples::base64_of(&key.certificate);
    let profile = |more: &str, until: &str, team: &str| {
        format!(
            "<key>TeamIdentifier</key><array><string>{team}</string></array>
             <key>ExpirationDate</key><date>{until}</date>
             <key>DeveloperCertificates</key><array><data>{certificate}</data></array>
             <key>Entitlements</key><dict>{more}</dict>"
        )
    };
    let allows = "<key>application-identifier</key><string>HERON12345.example.*</string>";
    let good = inspect_file("a.ipa", &phone(&key, &profile(allows, "2099-01-01T00:00:00Z", "HERON12345"), KNOWN_AS));
    assert_eq!(what(&good, Code::ProfileMismatch), [""; 0]);
    assert_eq!(what(&good, Code::BrokenSignature), [""; 0]);
    assert_eq!(fact(&good, Fact::Profile), Some("Saltmarsh, for the shop, until 2099-01-01"));

    let wrong = |profile: &str, entitlements: &str, key: &Key| {
        what(&inspect_file("a.ipa", &phone(key, profile, entitlements)), Code::ProfileMismatch).join("; ")
    };
    let over = profile(allows, "2020-01-01T00:00:00Z", "HERON12345");
    assert!(wrong(&over, KNOWN_AS, &key).contains("expired on 2020-01-01"));
    let other_team = profile(allows, "2099-01-01T00:00:00Z", "EBBTIDE999");
    assert!(wrong(&other_team, KNOWN_AS, &key).contains("the team HERON12345 has signed it"));
    let good = profile(allows, "2099-01-01T00:00:00Z", "HERON12345");
    assert!(wrong(&good, KNOWN_AS, &Key::new("someone else")).contains("does not name the certificate"));
    let health = format!("{KNOWN_AS}<key>health</key><true/>");
    assert!(wrong(&good, &health, &key).contains("more than the profile allows: health"));
    let other = KNOWN_AS.replace("saltmarsh", "lighthouse");
    assert!(wrong(&good, &other, &key).contains("calls itself example.paperheron.saltmarsh"));
    let debug = profile(&format!("{allows}<key>get-task-allow</key><true/>"), "2099-01-01T00:00:00Z", "HERON12345");
    let seen = inspect_file("a.ipa", &phone(&key, &debug, KNOWN_AS));
    assert!(what(&seen, Code::DebugBuild)[0].contains("for development"));
}

#[test]
fn a_program_that_only_its_linker_signed() {
    let seen = inspect_file("saltmarsh", &MacProgram { flags: 2, ..MacProgram::default() }.signed(&nobody));
    assert_eq!(seen.signature, Signature::AdHoc { is_intact: true });
    assert!(what(&seen, Code::DebugBuild)[0].contains("allows debuggers to attach"));
}

#[test]
fn a_program_for_32_bits_alone() {
    let mut program = MacProgram { flags: 2, ..MacProgram::default() }.signed(&nobody);
    assert_eq!(what(&inspect_file("saltmarsh", &program), Code::Only32Bit), [""; 0]);
    // The processor's number, without the bit for 64 bits.
    program[4..8].copy_from_slice(&7_u32.to_le_bytes());
    assert_eq!(what(&inspect_file("saltmarsh", &program), Code::Only32Bit).len(), 1);
}

#[test]
fn systems_that_many_do_not_have() {
    let key = Key::new("Paper Heron");
    let look = |promised: &str| {
        let mut files = bundle(&key, "HERON12345");
        let info = String::from_utf8(info("saltmarsh")).unwrap();
        let more = format!("<key>LSMinimumSystemVersion</key><string>{promised}</string></dict>");
        files.insert("Contents/Info.plist".to_owned(), info.replace("</dict>", &more).into_bytes());
        let seen = inspect_bundle(&files);
        (seen.needs.clone(), what(&seen, Code::NewSystem).join("; "))
    };
    assert_eq!(look("13.7"), (Some("macOS 13.7".to_owned()), String::new()));
    assert!(look("14").1.contains("needs macOS 14.0: who has 13 or older"));
    assert!(look("10.9").1.contains("declares that it starts on macOS 10.9, but its program needs 11.0"));
}

#[test]
fn an_android_bundle() {
    let manifest = include_bytes!("../../../lantern-formats/tests/seeds/manifest/bundle");
    let files: [(&str, &[u8]); 3] = [
        ("BundleConfig.pb", b"x"),
        ("base/manifest/AndroidManifest.xml", manifest),
        ("base/lib/armeabi-v7a/libtide.so", b"x"),
    ];
    let signed = signed_archive(&Key::new("Paper Heron"), &files, true);
    let seen = inspect_file("saltmarsh.aab", &signed);
    assert_eq!((seen.identity.as_deref(), seen.number.as_deref()), (Some("example.paperheron.saltmarsh"), Some("27")));
    assert_eq!(fact(&seen, Fact::Modules), Some("base"));
    let whose = Some("Paper Heron".to_owned());
    assert_eq!(seen.signature, Signature::Identity { whose, is_intact: Some(true) }, "{:?}", seen.findings);
    assert_eq!(what(&seen, Code::Only32Bit).len(), 1);
    let test_key = signed_archive(&Key::new("Android Debug"), &files, true);
    assert_eq!(what(&inspect_file("saltmarsh.aab", &test_key), Code::DebugKey).len(), 1);
}

#[test]
fn a_package_that_lost_its_newer_signatures() {
    let manifest = include_bytes!("../../../lantern-formats/tests/seeds/manifest/saltmarsh.apk");
    let files: [(&str, &[u8]); 2] = [("AndroidManifest.xml", manifest), ("classes.dex", b"x")];
    // Its signer says that there are signatures by the schemes 2 and 3, too.
    let seen = inspect_file("saltmarsh.apk", &signed_archive(&Key::new("Paper Heron"), &files, true));
    assert!(what(&seen, Code::BrokenSignature)[0].contains("the signature of scheme 2 was taken out"));
    assert_eq!(what(&seen, Code::SignatureSchemeMissing).len(), 1, "{:?}", seen.findings);
}

#[test]
fn entitlements_that_differ_in_their_two_forms() {
    let in_der = entitlements_in_der(b"<plist><dict><key>get-task-allow</key><false/></dict></plist>");
    let program = MacProgram { flags: 2, entitlements_der: &in_der, ..MacProgram::default() };
    let seen = inspect_file("saltmarsh", &program.signed(&nobody));
    assert!(what(&seen, Code::BrokenSignature)[0].contains("two lists of entitlements"));
}

/// The running test is a real program; its loader's name is exchanged for one of the same length or less.
#[cfg(all(target_os = "linux", target_arch = "x86_64", target_env = "gnu"))]
#[test]
fn a_program_for_another_kind_of_system() {
    let mut bytes = std::fs::read(std::env::current_exe().unwrap()).unwrap();
    assert!(what(&inspect_file("saltmarsh", &bytes), Code::UnusualLoader).is_empty());
    let (known, other) = (b"/lib64/ld-linux-x86-64.so.2\0", b"/lib/ld-musl-x86_64.so.1\0\0\0\0");
    let at = lantern_core::bytes::find(&bytes, known, 0).unwrap();
    bytes[at..at + other.len()].copy_from_slice(other);
    assert!(what(&inspect_file("saltmarsh", &bytes), Code::UnusualLoader)[0].contains("ld-musl"));
}
