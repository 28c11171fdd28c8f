//! Signing programs and bundles for macOS and iOS.

use std::fs::{self, File};
use std::path::{Path, PathBuf};

use lantern_core::progress::Silent;
use lantern_formats::bundle::{self, Files, verify_code};
use lantern_formats::info::Info;
use lantern_formats::macho::{CodeSignature, Details};
use lantern_keys::key::Signer;
use lantern_rehearsal::exports::{GameVersion, ios_program, macos_program};
use lantern_sign::SignError;
use lantern_sign::apple_bundle::{self, Root, Signing, Wanted};
use lantern_sign::macho::{self, By, Code, Entitlements, Known};
use lantern_sign::stamp::Stamp;
use proptest::prelude::*;

use crate::programs::Clock;
use crate::scene::{Disk, Folder, of_team, p256, rsa};

pub const ENTITLEMENTS: &str = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<plist version=\"1.0\"><dict>\
    <key>com.apple.security.cs.allow-jit</key><true/><key>letters</key><array><string>HERON12345.post</string></array></dict></plist>\n";

pub fn example(folder: &Folder) -> PathBuf {
    let path = folder.path("saltmarsh");
    fs::write(&path, macos_program(GameVersion::Old)).unwrap();
    path
}

pub fn sign_with(from: &Path, to: &Path, code: &Code<'_>, signer: Option<&dyn Signer>) -> Result<Known, SignError> {
    macho::sign(from, to, code, signer.map(|signer| By { signer, authority: None }), &Silent)
}

pub fn plain() -> Code<'static> {
    Code { identifier: "example.paperheron.saltmarsh", ..Code::default() }
}

/// What the reader says of a program: the signatures of its slices, if they hold.
pub fn verified(path: &Path) -> Result<Vec<CodeSignature>, String> {
    let mut file = File::open(path).unwrap();
    let details = Details::read(&mut file).map_err(|error| error.to_string())?;
    let found = verify_code(&mut file, &details, &[]).map_err(|error| error.to_string())?;
    let found = found.ok_or("there is no signature")?;
    match found.wrong {
        Some(wrong) => Err(wrong),
        None if found.signatures.len() < details.len() => Err("a slice has no signature".to_owned()),
        None => Ok(found.signatures),
    }
}

#[test]
fn what_is_signed_holds_and_says_who() {
    let folder = Folder::new();
    let (from, to, again) = (example(&folder), folder.path("signed"), folder.path("again"));
    let entitlements = Entitlements::read(ENTITLEMENTS.as_bytes()).unwrap();
    let team = of_team("HERON12345");
    let signers: [(Option<&dyn Signer>, Option<&str>); 4] =
        [(Some(&rsa()), None), (Some(&p256()), None), (Some(&team), Some("HERON12345")), (None, None)];
    for (signer, team) in signers {
        let code = Code { is_hardened: signer.is_some(), entitlements: Some(&entitlements), ..plain() };
        let known = sign_with(&from, &to, &code, signer).unwrap();
        let found = verified(&to).unwrap();
        assert_eq!(found.len(), 2);
        for (signature, hash) in found.iter().zip(&known.hashes) {
            assert_eq!((signature.identifier(), signature.team()), ("example.paperheron.saltmarsh", team));
            assert_eq!((signature.is_ad_hoc(), signature.is_hardened()), (signer.is_none(), signer.is_some()));
            assert!(signature.is_known_as(hash));
            assert!(signature.entitlements().is_on("com.apple.security.cs.allow-jit"));
            assert_eq!(signature.entitlements_agree(), Some(true));
            let whose = signature.signer().unwrap();
            assert_eq!(whose.map(|whose| whose.certificate), signer.map(|signer| signer.chain()[0].clone()));
        }
        // The same key and program give the same bytes, and signing again changes nothing.
        let once = fs::read(&to).unwrap();
        sign_with(&to, &again, &code, signer).unwrap();
        assert!(once == fs::read(&again).unwrap(), "signing twice is signing once");
    }
}

#[test]
fn what_is_demanded_depends_on_who_signs() {
    let folder = Folder::new();
    let (from, to) = (example(&folder), folder.path("signed"));
    let demanded = |signer: Option<&dyn Signer>| sign_with(&from, &to, &plain(), signer).unwrap();
    let own = demanded(Some(&p256())).requirement;
    assert!(own.starts_with("identifier \"example.paperheron.saltmarsh\" and certificate leaf = H\""), "{own}");
    assert_eq!(
        demanded(Some(&of_team("HERON12345"))).requirement,
        "identifier \"example.paperheron.saltmarsh\" and anchor apple generic and certificate \
         1[field.1.2.840.113635.100.6.2.6] /* exists */ and certificate leaf[field.1.2.840.113635.100.6.1.13] /* exists */ and \
         certificate leaf[subject.OU] = \"HERON12345\""
    );
    let nobody = demanded(None);
    assert_eq!(nobody.hashes.len(), 2);
    assert!(nobody.requirement.starts_with("cdhash H\"") && nobody.requirement.contains(" or cdhash H\""));
}

#[test]
fn a_time_stamp_is_in_every_slice() {
    let folder = Folder::new();
    let (from, to) = (example(&folder), folder.path("signed"));
    let (clock, signer) = (Clock::honest(), rsa());
    macho::sign(&*from, &to, &plain(), Some(By { signer: &signer, authority: Some(&clock) }), &Silent).unwrap();
    for signature in verified(&to).unwrap() {
        let whose = signature.signer().unwrap().unwrap();
        assert_eq!((whose.wrong, whose.stamped.is_some(), &whose.stamped_by[0][..]), (None, true, "Noon Gun"));
    }
}

fn long(bytes: &[u8], at: usize) -> usize {
    u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap()) as usize
}

/// The commands of a slice, each as its number and its bytes.
pub fn commands(slice: &[u8]) -> Vec<(usize, Vec<u8>)> {
    let mut at = 32;
    let mut out = Vec::new();
    for _ in 0..long(slice, 16) {
        let len = long(slice, at + 4);
        out.push((long(slice, at), slice[at..at + len].to_vec()));
        at += len;
    }
    out
}

fn universal_slices(file: &[u8]) -> Vec<(usize, usize, &[u8])> {
    let big = |at: usize| u32::from_be_bytes(file[at..at + 4].try_into().unwrap()) as usize;
    (0..big(4))
        .map(|number| 8 + number * 20)
        .map(|row| (big(row + 8), big(row + 16), &file[big(row + 8)..][..big(row + 12)]))
        .collect()
}

/// Everything but what names the signature is as it was: commands, code, and where slices lie.
#[test]
fn nothing_else_of_a_program_changes() {
    let folder = Folder::new();
    let (from, to) = (example(&folder), folder.path("signed"));
    sign_with(&from, &to, &plain(), Some(&rsa())).unwrap();
    let (before, after) = (fs::read(&from).unwrap(), fs::read(&to).unwrap());
    for ((_, _, old), (at, align, new)) in universal_slices(&before).into_iter().zip(universal_slices(&after)) {
        assert_eq!(at % (1 << align), 0);
        let (old_commands, mut new_commands) = (commands(old), commands(new));
        let (kind, signature) = new_commands.pop().unwrap();
        assert_eq!((kind, long(&signature, 8) + long(&signature, 12)), (0x1d, new.len()), "it ends the slice");
        let end = long(&signature, 8);
        assert_eq!((end % 16, end), (0, old.len()));
        for (old, new) in old_commands.iter().zip(&new_commands) {
            let is_linkedit = old.1.get(8..18) == Some(b"__LINKEDIT");
            assert!(is_linkedit || old == new, "{old:?}");
            if is_linkedit {
                assert_eq!(long(&new.1, 40) + long(&new.1, 48), long(&signature, 8) + long(&signature, 12));
            }
        }
        let head = 32 + long(new, 20);
        assert!(old[head..] == new[head..end], "the code");
    }
}

/// A slice for one processor, of the example's program.
fn thin() -> Vec<u8> {
    ios_program(GameVersion::Old)
}

#[test]
fn room_for_the_command() {
    let folder = Folder::new();
    let (from, to) = (folder.path("thin"), folder.path("signed"));
    let program = thin();
    // Where the first section begins, and where the commands end.
    let (first, end) = (0x4000 - 0x200, 32 + long(&program, 20));
    let signer = p256();
    for spare in [0_usize, 8, 15, 16, 17, 40] {
        let mut tight = program.clone();
        // A command that nobody knows fills the head.
        let filler = first - end - spare;
        tight[16..20].copy_from_slice(&(long(&program, 16) as u32 + 1).to_le_bytes());
        tight[20..24].copy_from_slice(&((long(&program, 20) + filler) as u32).to_le_bytes());
        tight[end..end + 4].copy_from_slice(&0x7777_u32.to_le_bytes());
        tight[end + 4..end + 8].copy_from_slice(&(filler as u32).to_le_bytes());
        fs::write(&from, &tight).unwrap();
        let signed = sign_with(&from, &to, &plain(), Some(&signer));
        if spare >= 16 {
            signed.unwrap();
            verified(&to).unwrap();
            assert_eq!(fs::read(&to).unwrap()[first..0x4000], tight[first..], "{spare}");
        } else {
            let Err(SignError::Refused { what, fix }) = signed else { panic!("{spare}: {signed:?}") };
            assert!(what.contains("no room") && fix.contains("headerpad"), "{what}; {fix}");
        }
    }
    // Room that is in use by something that no command names is none.
    let mut used = program.clone();
    used[end + 3] = 1;
    fs::write(&from, &used).unwrap();
    assert!(matches!(sign_with(&from, &to, &plain(), None), Err(SignError::Refused { .. })));
}

#[test]
fn what_cannot_be_signed_is_refused() {
    let folder = Folder::new();
    let (from, to) = (folder.path("thin"), folder.path("signed"));
    let signer = p256();
    let refused = |bytes: &[u8]| {
        fs::write(&from, bytes).unwrap();
        match sign_with(&from, &to, &plain(), Some(&signer)) {
            Err(SignError::Refused { what, .. }) => what,
            other => panic!("{other:?}"),
        }
    };
    let program = thin();
    assert!(refused(&[&program[..], &[7; 100]].concat()).contains("data lies behind it"));
    assert!(refused(b"Dear Aldous").contains("no program"));
    let both = macos_program(GameVersion::Old);
    assert!(refused(&[&both[..], &[7; 100]].concat()).contains("data lies behind its last slice"));
    for len in (0..program.len()).step_by(97) {
        refused(&program[..len]);
    }
    for len in (0..both.len()).step_by(977) {
        refused(&both[..len]);
    }
    let at = program.windows(10).position(|window| window == b"__LINKEDIT").unwrap();
    let mut other = program;
    other[at + 2] = b'X';
    assert!(refused(&other).contains("__LINKEDIT"));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    /// Whatever is changed in the head: it is refused, or what comes out holds.
    #[test]
    fn hostile_heads(at in 0_usize..700, value: u8, thin_one: bool) {
        let folder = Folder::new();
        let (from, to) = (folder.path("hostile"), folder.path("signed"));
        let mut bytes = if thin_one { thin() } else { macos_program(GameVersion::Old) };
        let place = if thin_one { at } else { at % 64 + if at % 3 == 0 { 0x4000 } else { 0 } };
        bytes[place] = value;
        fs::write(&from, &bytes).unwrap();
        match sign_with(&from, &to, &plain(), None) {
            Ok(_) => drop(verified(&to).unwrap()),
            Err(SignError::Refused { .. } | SignError::NotValid(_)) => {}
            Err(other) => prop_assert!(false, "{other:?}"),
        }
    }
}

/// Each byte of a signed program is covered, or its change is no change for anybody.
#[test]
fn any_flipped_byte_is_noticed_or_stated() {
    let folder = Folder::new();
    let (from, to) = (folder.path("thin"), folder.path("signed"));
    fs::write(&from, thin()).unwrap();
    let entitlements = Entitlements::read(ENTITLEMENTS.as_bytes()).unwrap();
    let code = Code { is_hardened: true, entitlements: Some(&entitlements), ..plain() };
    sign_with(&from, &to, &code, Some(&of_team("HERON12345"))).unwrap();
    let signed = fs::read(&to).unwrap();
    let place = 0x4000;
    let len = u32::from_be_bytes(signed[place + 4..place + 8].try_into().unwrap()) as usize;
    let mut covered = 0;
    // Every byte of the head and of the signature, and some of the code.
    for at in (0..signed.len()).filter(|at| *at < 700 || *at >= place || at % 61 == 0) {
        let mut changed = signed.clone();
        changed[at] ^= 0x55;
        fs::write(&from, &changed).unwrap();
        let is_noticed = verified(&from).map_or(true, |found| {
            let whose = found[0].signer().unwrap();
            whose.is_none_or(|whose| !whose.unverified.is_empty())
        });
        // Behind the signature's own end nothing but room is left: what is in it is stated.
        let is_room = at >= place + len && verified(&from).unwrap()[0].spare == 1;
        assert!(is_noticed || is_room, "byte {at} of {}, the signature begins at {place} and has {len}", signed.len());
        covered += usize::from(is_noticed);
    }
    assert!(covered > 3_000, "{covered}");
}

const INFO: &str = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<plist version=\"1.0\">\n<dict>\n\t<key>CFBundleExecutable</key>\n\t<string>PROGRAM</string>\n\t\
    <key>CFBundleIdentifier</key>\n\t<string>IDENTITY</string>\n\t<key>CFBundleShortVersionString</key>\n\t<string>1.0</string>\n\t\
    <key>CFBundleVersion</key>\n\t<string>1</string>\n</dict>\n</plist>\n";

fn put(root: &Path, path: &str, bytes: &[u8]) {
    let at = root.join(path);
    fs::create_dir_all(at.parent().unwrap()).unwrap();
    fs::write(at, bytes).unwrap();
}

fn info(program: &str, identity: &str) -> Vec<u8> {
    INFO.replace("PROGRAM", program).replace("IDENTITY", identity).into_bytes()
}

/// A library for both processors.
fn library() -> Vec<u8> {
    let mut bytes = macos_program(GameVersion::Old);
    for at in [0x4000, 0x8000] {
        assert_eq!(bytes[at + 12], 2);
        bytes[at + 12] = 6;
    }
    bytes
}

#[cfg(unix)]
fn link(root: &Path, path: &str, target: &str) {
    let at = root.join(path);
    fs::create_dir_all(at.parent().unwrap()).unwrap();
    std::os::unix::fs::symlink(target, at).unwrap();
}

/// A bundle with everything that a bundle may have in it.
pub fn bundle_for_macos(root: &Path) {
    let base = "Saltmarsh Post.app/Contents";
    let put = |path: &str, bytes: &[u8]| put(root, &format!("{base}/{path}"), bytes);
    put("Info.plist", &info("saltmarsh", "example.paperheron.saltmarsh"));
    put("PkgInfo", b"APPL????");
    put("MacOS/saltmarsh", &macos_program(GameVersion::Old));
    put("MacOS/libtide.dylib", &library());
    put("Resources/saltmarsh.dat", &[7; 300_000]);
    put("Resources/fi.lproj/letters.strings", b"kirje");
    put("Resources/fi.lproj/locversion.plist", b"<plist/>");
    put("Resources/Base.lproj/letters.strings", b"letter");
    put("Resources/b\u{f6}ckling & <herring>.txt", b"smoked");
    put("Resources/.DS_Store", b"view");
    put("Frameworks/Tide.framework/Versions/A/Tide", &library());
    put("Frameworks/Tide.framework/Versions/A/Resources/Info.plist", &info("Tide", "example.paperheron.tide"));
    put("Frameworks/Tide.framework/Versions/A/Resources/tables.dat", &[3; 9_000]);
    put("Frameworks/Tide.framework/Versions/A/Helpers/ebb", &macos_program(GameVersion::Old));
    put("Helpers/Letters.app/Contents/Info.plist", &info("letters", "example.paperheron.saltmarsh.letters"));
    put("Helpers/Letters.app/Contents/MacOS/letters", &macos_program(GameVersion::Old));
    put("PlugIns/Reeds.bundle/Contents/Info.plist", &info("reeds", "example.paperheron.reeds"));
    put("PlugIns/Reeds.bundle/Contents/MacOS/reeds", &library());
    put("PlugIns/Post.appex/Contents/Info.plist", &info("post", "example.paperheron.saltmarsh.post"));
    put("PlugIns/Post.appex/Contents/MacOS/post", &macos_program(GameVersion::Old));
    put("Resources/tools/wind", &macos_program(GameVersion::Old));
    #[cfg(unix)]
    for (path, target) in [
        ("Frameworks/Tide.framework/Versions/Current", "A"),
        ("Frameworks/Tide.framework/Tide", "Versions/Current/Tide"),
        ("Frameworks/Tide.framework/Resources", "Versions/Current/Resources"),
        ("Resources/latest.dat", "saltmarsh.dat"),
    ] {
        link(root, &format!("{base}/{path}"), target);
    }
}

fn keep(_: &str) -> Wanted {
    Wanted { is_hardened: true, ..Wanted::default() }
}

/// A bundle among other files.
pub fn root_of(files: &Disk, name: &str) -> Root {
    apple_bundle::roots(files).unwrap().into_iter().find(|root| root.path == name).unwrap()
}

/// Signs the bundle in a folder, and writes what changed over it.
pub fn sign_folder(
    root: &Path,
    name: &str,
    signer: Option<&dyn Signer>,
    wanted: &(dyn Fn(&str) -> Wanted + Sync),
) -> Result<usize, SignError> {
    let by = signer.map(|signer| By { signer, authority: None });
    sign_as(root, name, &Signing { by, wanted, stamp: None, in_parallel: true })
}

fn sign_as(root: &Path, name: &str, how: &Signing<'_>) -> Result<usize, SignError> {
    let work = tempfile::tempdir().unwrap();
    let files = Disk::of(root);
    let changed = apple_bundle::sign(&files, &root_of(&files, name), how, work.path(), &Silent)?;
    for file in &changed {
        put(root, &file.path, &fs::read(&file.at).unwrap());
    }
    Ok(changed.len())
}

/// What the reader says of a bundle: what is wrong with it, and which programs in it were verified.
pub fn verdict(root: &Path, name: &str) -> (Option<String>, Vec<String>) {
    let found = bundle::verify_at(&Disk::of(root), name).unwrap();
    (found.wrong, found.verified.into_iter().collect())
}

const APP: &str = "Saltmarsh Post.app";

#[test]
fn a_bundle_is_signed_from_the_inside_out() {
    let (team, own) = (of_team("HERON12345"), p256());
    let signers: [Option<&dyn Signer>; 3] = [Some(&team), Some(&own), None];
    for signer in signers {
        let folder = Folder::new();
        let root = folder.path("export");
        bundle_for_macos(&root);
        sign_folder(&root, APP, signer, &keep).unwrap();
        let (wrong, programs) = verdict(&root, APP);
        assert_eq!(wrong, None);
        for inside in [
            "Frameworks/Tide.framework/Versions/A/Tide",
            "Frameworks/Tide.framework/Versions/A/Helpers/ebb",
            "Helpers/Letters.app/Contents/MacOS/letters",
            "MacOS/libtide.dylib",
            "PlugIns/Post.appex/Contents/MacOS/post",
            "PlugIns/Reeds.bundle/Contents/MacOS/reeds",
        ] {
            assert!(programs.contains(&format!("{APP}/Contents/{inside}")), "{inside} of {programs:?}");
        }
        // A tool among the resources has a signature of its own, and the seal its hash.
        assert_eq!(verified(&root.join(APP).join("Contents/Resources/tools/wind")).unwrap().len(), 2);
        let once = contents(&root);
        sign_folder(&root, APP, signer, &keep).unwrap();
        assert!(once == contents(&root), "signing twice is signing once");
    }
}

/// Every file below a folder with its bytes.
fn contents(root: &Path) -> Vec<(String, Vec<u8>)> {
    let disk = Disk::of(root);
    disk.below("").map(|(path, _)| (path.to_owned(), fs::read(root.join(path)).unwrap_or_default())).collect()
}

#[test]
fn whatever_is_changed_in_a_bundle_is_noticed() {
    let folder = Folder::new();
    let root = folder.path("export");
    bundle_for_macos(&root);
    sign_folder(&root, APP, Some(&of_team("HERON12345")), &keep).unwrap();
    for (path, bytes) in contents(&root) {
        let at = root.join(&path);
        if fs::symlink_metadata(&at).unwrap().is_symlink() || bytes.is_empty() {
            continue;
        }
        let is_left_out = [".DS_Store", "PkgInfo", "locversion.plist"].iter().any(|name| path.ends_with(name));
        for place in [0, bytes.len() / 2] {
            let mut changed = bytes.clone();
            changed[place] ^= 1;
            fs::write(&at, &changed).unwrap();
            let found = verdict(&root, APP).0;
            assert_eq!(found.is_some(), !is_left_out, "{path}, byte {place}: {found:?}");
        }
        fs::write(&at, &bytes).unwrap();
        if !is_left_out && !path.ends_with("Info.plist") {
            fs::remove_file(&at).unwrap();
            let found = verdict(&root, APP).0;
            let is_optional = path.contains("fi.lproj");
            assert_eq!(found.is_some(), !is_optional, "{path} is gone: {found:?}");
            fs::write(&at, &bytes).unwrap();
        }
    }
    put(&root, &format!("{APP}/Contents/Resources/added.dat"), b"new");
    assert_eq!(verdict(&root, APP).0.unwrap(), "Resources/added.dat was added after it was signed");
}

#[test]
fn a_bundle_with_very_many_files() {
    let folder = Folder::new();
    let root = folder.path("export");
    bundle_for_macos(&root);
    for number in 0..20_000_u32 {
        let path = format!("{APP}/Contents/Resources/{}/{number}.tex", number / 500);
        put(&root, &path, &number.to_le_bytes());
    }
    sign_folder(&root, APP, Some(&p256()), &keep).unwrap();
    assert_eq!(verdict(&root, APP).0, None);
    let last = root.join(APP).join("Contents/Resources/39/19999.tex");
    fs::write(last, b"other").unwrap();
    assert_eq!(verdict(&root, APP).0.unwrap(), "Resources/39/19999.tex was changed after it was signed");
}

#[test]
fn data_where_only_code_may_lie() {
    let folder = Folder::new();
    for (path, says) in [
        ("MacOS/saltmarsh.pck", "MacOS/saltmarsh.pck lies where only programs and libraries may lie"),
        ("MacOS/python3.11/letters.py", "MacOS/python3.11 lies where only code may lie, has a point in its name"),
        ("Frameworks/reeds.txt", "Frameworks/reeds.txt lies where only programs"),
    ] {
        let root = folder.path(path.rsplit('/').next().unwrap());
        bundle_for_macos(&root);
        put(&root, &format!("{APP}/Contents/{path}"), b"data");
        let refused = sign_folder(&root, APP, Some(&p256()), &keep);
        let Err(SignError::Refused { what, fix }) = refused else { panic!("{refused:?}") };
        assert!(what.contains(says) && fix.contains("Contents/Resources"), "{what}; {fix}");
    }
}

/// Each program keeps what its earlier signature says it may do, or gets what is said of it.
#[test]
fn each_program_has_entitlements_of_its_own() {
    let folder = Folder::new();
    let root = folder.path("export");
    bundle_for_macos(&root);
    let of = |word: &str| {
        Entitlements::read(format!("<plist><dict><key>{word}</key><true/></dict></plist>").as_bytes()).unwrap()
    };
    let wanted = |path: &str| {
        let word = match path {
            APP => Some("main"),
            "Saltmarsh Post.app/Contents/PlugIns/Post.appex" => Some("post"),
            "Saltmarsh Post.app/Contents/MacOS/libtide.dylib" => Some("for nothing"),
            _ => None,
        };
        Wanted { entitlements: word.map(of), ..Wanted::default() }
    };
    sign_folder(&root, APP, Some(&rsa()), &wanted).unwrap();
    sign_folder(&root, APP, Some(&p256()), &|_| Wanted::default()).unwrap();
    let says = |path: &str| {
        let found = verified(&root.join(APP).join("Contents").join(path)).unwrap();
        found[0].entitlements().names().map(str::to_owned).collect::<Vec<_>>()
    };
    assert_eq!(says("MacOS/saltmarsh"), ["main"]);
    assert_eq!(says("PlugIns/Post.appex/Contents/MacOS/post"), ["post"]);
    assert!(says("Helpers/Letters.app/Contents/MacOS/letters").is_empty());
    assert!(says("MacOS/libtide.dylib").is_empty(), "a library may do what its program may");
}

/// A bundle for phones, with an extension and a framework.
pub fn bundle_for_phones(root: &Path) {
    let put = |path: &str, bytes: &[u8]| put(root, &format!("Payload/Post.app/{path}"), bytes);
    let mut library = ios_program(GameVersion::Old);
    library[12] = 6;
    put("Info.plist", &info("Post", "example.paperheron.saltmarsh"));
    put("Post", &ios_program(GameVersion::Old));
    put("reeds.tex", &[9; 50_000]);
    put("fi.lproj/letters.strings", b"kirje");
    put("Frameworks/Tide.framework/Info.plist", &info("Tide", "example.paperheron.tide"));
    put("Frameworks/Tide.framework/Tide", &library);
    put("Frameworks/libebb.dylib", &library);
    put("PlugIns/Letters.appex/Info.plist", &info("Letters", "example.paperheron.saltmarsh.letters"));
    put("PlugIns/Letters.appex/Letters", &ios_program(GameVersion::Old));
}

#[test]
fn a_bundle_for_phones_lists_every_file() {
    let folder = Folder::new();
    let root = folder.path("export");
    bundle_for_phones(&root);
    let wanted = |path: &str| Wanted {
        profile: (path.ends_with("app") || path.ends_with("appex")).then(|| b"profile".to_vec()),
        ..Wanted::default()
    };
    sign_folder(&root, "Payload/Post.app", Some(&of_team("HERON12345")), &wanted).unwrap();
    assert_eq!(verdict(&root, "Payload/Post.app").0, None);
    let seal = fs::read_to_string(root.join("Payload/Post.app/_CodeSignature/CodeResources")).unwrap();
    for listed in [
        "Frameworks/Tide.framework/_CodeSignature/CodeResources",
        "Frameworks/libebb.dylib",
        "PlugIns/Letters.appex/Letters",
        "PlugIns/Letters.appex/embedded.mobileprovision",
        "embedded.mobileprovision",
    ] {
        assert!(seal.contains(&format!("<key>{listed}</key>")), "{listed}");
    }
    for program in
        ["Post", "PlugIns/Letters.appex/Letters", "Frameworks/Tide.framework/Tide", "Frameworks/libebb.dylib"]
    {
        assert_eq!(
            verified(&root.join("Payload/Post.app").join(program)).unwrap()[0].team(),
            Some("HERON12345"),
            "{program}"
        );
    }
}

/// Version and number stand in the bundle and its extensions, and nowhere else.
#[test]
fn a_bundle_is_stamped() {
    let folder = Folder::new();
    let root = folder.path("export");
    bundle_for_macos(&root);
    let (stamp, signer) = (Stamp { version: "1.4.0".to_owned(), number: 1042 }, p256());
    let by = Some(By { signer: &signer, authority: None });
    sign_as(&root, APP, &Signing { by, wanted: &keep, stamp: Some(&stamp), in_parallel: false }).unwrap();
    assert_eq!(verdict(&root, APP).0, None);
    let number = |path: &str| {
        Info::read(&fs::read(root.join(APP).join("Contents").join(path)).unwrap()).unwrap().number.unwrap()
    };
    assert_eq!(number("Info.plist"), "1042");
    assert_eq!(number("PlugIns/Post.appex/Contents/Info.plist"), "1042");
    assert_eq!(number("Helpers/Letters.app/Contents/Info.plist"), "1");
    assert_eq!(number("Frameworks/Tide.framework/Versions/A/Resources/Info.plist"), "1");
}
