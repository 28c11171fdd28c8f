//! Programs and bundles for macOS that others have made: signed with our keys, compared with what they had, and left in a folder for a
//! verifier that shares nothing with us.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::process::Command;

use lantern_core::progress::Silent;
use lantern_formats::macho::{CodeSignature, Details, MachO};
use lantern_formats::plist;
use lantern_formats::program::Kind;
use lantern_keys::certificate;
use lantern_keys::key::{Algorithm, Signer};
use lantern_keys::keyring::make;
use lantern_sign::SignError;
use lantern_sign::apple_bundle::{self, Signing, Wanted};
use lantern_sign::macho::{self, By, Code, Entitlements};

use crate::scene::{Disk, of_team};

fn folders() -> (PathBuf, PathBuf) {
    let from = std::env::var_os("LANTERN_REAL_FILES").expect("LANTERN_REAL_FILES is the folder with them");
    let to = std::env::var_os("LANTERN_SIGNED_FILES").expect("LANTERN_SIGNED_FILES is where they go");
    (PathBuf::from(from), PathBuf::from(to))
}

fn programs(folder: &Path, out: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap().map(Result::unwrap) {
        let (path, kind) = (entry.path(), entry.file_type().unwrap());
        if kind.is_dir() {
            programs(&path, out);
        } else if kind.is_file() {
            let found = MachO::read(&mut File::open(&path).unwrap());
            let is_code = |found: MachO| found.slices.iter().all(|slice| slice.kind != Kind::Other);
            if found.is_ok_and(is_code) {
                out.push(path);
            }
        }
    }
}

fn signatures(path: &Path) -> Vec<Option<CodeSignature>> {
    let mut file = File::open(path).unwrap();
    let details = Details::read(&mut file).unwrap();
    details.iter().map(|details| CodeSignature::read(&mut file, details).unwrap()).collect()
}

fn long(bytes: &[u8], at: usize) -> usize {
    u32::from_be_bytes(bytes[at..at + 4].try_into().unwrap()) as usize
}

/// The code of each slice with its signature.
fn slices(file: &[u8]) -> Vec<&[u8]> {
    match file[..4] {
        [0xca, 0xfe, 0xba, 0xbe] => {
            let row = |number: usize| (long(file, 8 + number * 20 + 8), long(file, 8 + number * 20 + 12));
            (0..long(file, 4)).map(row).map(|(at, len)| &file[at..at + len]).collect()
        }
        _ => vec![file],
    }
}

/// The newest directory of a slice: its hashes by what they are of.
fn hashes(slice: &[u8]) -> BTreeMap<i64, Vec<u8>> {
    let at = slice.windows(4).rposition(|window| window == [0xfa, 0xde, 0x0c, 0xc0]).unwrap();
    let signature = &slice[at..];
    let mut blobs = (0..long(signature, 8)).map(|number| long(signature, 16 + number * 8)).map(|at| &signature[at..]);
    let directory = blobs.rfind(|blob| long(blob, 0) == 0xfade_0c02 && blob[37] == 2).unwrap();
    let (first, specials, pages) = (long(directory, 16), long(directory, 24), long(directory, 28));
    let hash = |number: i64| directory[(first as i64 + number * 32) as usize..][..32].to_vec();
    (-(specials as i64)..pages as i64).map(|number| (number, hash(number))).collect()
}

#[test]
fn programs_of_others_are_signed_again() {
    let (folder, to) = folders();
    let mut found = Vec::new();
    programs(&folder, &mut found);
    found.sort();
    assert!(found.len() >= 100, "{}", found.len());
    let now = "2026-11-28T12:00:00Z".parse().unwrap();
    let keys = [Algorithm::P256, Algorithm::Rsa(3072)]
        .map(|algorithm| make(algorithm, &certificate::name_of_studio("Paper Heron"), 30, now).unwrap());
    let (mut unsigned, mut ad_hoc, mut identities, mut universal) = (0, 0, 0, 0);
    for (number, path) in found.iter().enumerate() {
        let before = signatures(path);
        universal += usize::from(before.len() > 1);
        match before.iter().flatten().next() {
            None => unsigned += 1,
            Some(first) if first.is_ad_hoc() => ad_hoc += 1,
            Some(_) => identities += 1,
        }
        let at = to.join(format!("{number}.macho"));
        let entitlements = Entitlements::read(b"<plist><dict><key>heron</key><true/></dict></plist>").unwrap();
        let code = Code {
            identifier: "example.heron",
            is_hardened: true,
            entitlements: Some(&entitlements),
            ..Code::default()
        };
        let by = (number % 3 > 0).then(|| By { signer: &keys[number % 2], authority: None });
        macho::sign(path.as_path(), &at, &code, by, &Silent)
            .unwrap_or_else(|error| panic!("{}: {error}", path.display()));
        let mut file = File::open(&at).unwrap();
        for signature in signatures(&at) {
            let signature = signature.unwrap();
            assert_eq!(signature.verify(&mut file).unwrap(), None, "{}", path.display());
            let whose = signature.signer().unwrap();
            assert_eq!(
                whose.map(|whose| (whose.wrong, whose.certificate)),
                by.map(|by| (None, by.signer.chain()[0].clone()))
            );
        }
        // Of the others the first hundred are enough for the slower verifier.
        if number > 100 {
            fs::remove_file(&at).unwrap();
        }
    }
    assert!(
        unsigned >= 3 && ad_hoc >= 3 && identities >= 2 && universal >= 20,
        "{unsigned} {ad_hoc} {identities} {universal}"
    );
}

/// The same inputs give the same hashes as theirs, but for those that must differ: the commands name the signature's
/// length.
#[test]
fn our_hashes_are_those_of_an_identity_that_others_have() {
    let (folder, to) = folders();
    let path = folder.join("sentry-cli-darwin-3.8.0/package/bin/sentry-cli");
    let theirs = fs::read(&path).unwrap();
    for (number, signature) in signatures(&path).into_iter().enumerate() {
        let signature = signature.unwrap();
        let entitlements = Entitlements::read(signature.entitlements_as_they_are().unwrap()).unwrap();
        let code = Code {
            identifier: signature.identifier(),
            is_hardened: true,
            entitlements: Some(&entitlements),
            ..Code::default()
        };
        let team = of_team(signature.team().unwrap());
        let at = to.join("compared");
        macho::sign(path.as_path(), &at, &code, Some(By { signer: &team, authority: None }), &Silent).unwrap();
        let ours = fs::read(&at).unwrap();
        let (theirs, ours) = (hashes(slices(&theirs)[number]), hashes(slices(&ours)[number]));
        let differ: Vec<i64> = theirs.keys().copied().filter(|place| theirs.get(place) != ours.get(place)).collect();
        // The commands of one of its slices reach into a second page.
        let commands = [vec![0], vec![0, 1]];
        assert!(theirs.len() == ours.len() && commands.contains(&differ), "slice {number}: {differ:?}");
        fs::remove_file(at).unwrap();
    }
}

fn sign_bundle(root: &Path, name: &str, signer: &dyn Signer) -> Result<usize, SignError> {
    let work = tempfile::tempdir().unwrap();
    let files = Disk::of(root);
    let top = apple_bundle::roots(&files)?.into_iter().find(|root| root.path == name).unwrap();
    let wanted = |_: &str| Wanted { is_hardened: true, ..Wanted::default() };
    let how = Signing { by: Some(By { signer, authority: None }), wanted: &wanted, stamp: None, in_parallel: true };
    let changed = apple_bundle::sign(&files, &top, &how, work.path(), &Silent)?;
    for file in &changed {
        let at = root.join(&file.path);
        fs::create_dir_all(at.parent().unwrap()).unwrap();
        fs::copy(&file.at, at).unwrap();
    }
    Ok(changed.len())
}

fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap().map(Result::unwrap) {
        let (kind, at) = (entry.file_type().unwrap(), to.join(entry.file_name()));
        if kind.is_dir() {
            copy(&entry.path(), &at);
        } else if kind.is_symlink() {
            std::os::unix::fs::symlink(fs::read_link(entry.path()).unwrap(), at).unwrap();
        } else {
            fs::copy(entry.path(), at).unwrap();
        }
    }
}

fn find(folder: &Path, name: &str) -> Option<PathBuf> {
    let entries = fs::read_dir(folder).ok()?.map(Result::unwrap);
    let folders: Vec<fs::DirEntry> = entries.filter(|entry| entry.file_type().unwrap().is_dir()).collect();
    let own = folders.iter().find(|entry| entry.file_name() == name).map(fs::DirEntry::path);
    own.or_else(|| folders.iter().find_map(|entry| find(&entry.path(), name)))
}

#[test]
fn bundles_of_others_are_signed_again() {
    let (folder, to) = folders();
    // One of them lies in an archive that keeps its links.
    let archive = folder.join("flet_desktop-0.28.2-py3-none-macosx_12_0_arm64/flet_desktop/app/flet-macos.tar.gz");
    let done = Command::new("tar").arg("-xzf").arg(archive).arg("-C").arg(&to).status().unwrap();
    assert!(done.success());
    for name in ["Mitmproxy Redirector.app", "Flet.app", "terminal-notifier.app", "QtCore.framework", "Assistant.app"] {
        let Some(from) = find(&folder, name).or_else(|| find(&to, name)) else { panic!("{name} is not there") };
        let root = to.join(format!("{name}.signed"));
        copy(&from, &root.join(name));
        sign_bundle(&root, name, &of_team("HERON12345")).unwrap_or_else(|error| panic!("{name}: {error}"));
    }
}

/// Our seal has the rules of theirs, lists the same files, and has the same hashes for those that are the same.
#[test]
fn our_seal_is_theirs_where_the_files_are_the_same() {
    let (folder, to) = folders();
    let name = "Mitmproxy Redirector.app";
    let from = find(&folder, name).unwrap();
    let root = to.join("compared.app");
    copy(&from, &root.join(name));
    sign_bundle(&root, name, &of_team("HERON12345")).unwrap();
    let seal =
        |root: &Path| plist::read(&fs::read(root.join("Contents/_CodeSignature/CodeResources")).unwrap()).unwrap();
    let (theirs, ours) = (seal(&from), seal(&root.join(name)));
    assert_eq!(
        (&theirs["rules"], &theirs["rules2"], &theirs["files"]),
        (&ours["rules"], &ours["rules2"], &ours["files"])
    );
    let (theirs, ours) = (theirs["files2"].dictionary().unwrap(), ours["files2"].dictionary().unwrap());
    assert!(theirs.keys().eq(ours.keys()));
    let differ: Vec<&String> = theirs.keys().filter(|path| theirs[*path] != ours[*path]).collect();
    // Signed again itself.
    assert!(differ.len() == 1 && differ[0].contains("/MacOS/"), "{differ:?}");
    fs::remove_dir_all(root).unwrap();
}
