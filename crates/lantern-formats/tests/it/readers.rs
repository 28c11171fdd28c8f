//! Every reader, by the kind of file that it is for; what fuzzing and the replay of its findings share.

use std::io::{self, Cursor, Read, Seek};

use lantern_formats::macho::{CodeSignature, ResourceSeal};
use lantern_formats::profile::Profile;
use lantern_formats::program::Program;
use lantern_formats::{android, apk, elf, icon, info, jar, macho, pe, tar, zip};

/// Most bytes that are unpacked of one archive.
const MAX_UNPACKED: u64 = 4 * 1024 * 1024;

/// Programs and libraries of every system, with their signatures.
fn program(bytes: &[u8]) {
    let mut from = Cursor::new(bytes);
    let _ = Program::read(&mut from);
    let _ = elf::Details::read(&mut from);
    let _ = pe::symbols_id(&mut from);
    if let Ok(details) = pe::Details::read(&mut from) {
        let _ = pe::verify(&mut from, &details);
    }
    let Ok(slices) = macho::Details::read(&mut from) else { return };
    for slice in slices {
        let Ok(Some(signature)) = CodeSignature::read(&mut from, &slice) else { continue };
        let _ = signature.verify(&mut from);
        let _ = signature.signer();
        let _ = (signature.entitlements().names().count(), signature.entitlements_agree());
    }
}

/// Packages and archives, with their signatures.
fn package(bytes: &[u8]) {
    let _ = apk::verify(&|| Ok(Cursor::new(bytes)));
    let mut from = Cursor::new(bytes);
    let Ok(entries) = zip::read(&mut from) else { return };
    let open = |place: usize| -> io::Result<Box<dyn Read + Send>> {
        let from = Cursor::new(bytes.to_vec());
        Ok(Box::new(zip::open(from, &entries[place].packed).map_err(io::Error::other)?.take(MAX_UNPACKED)))
    };
    let files = entries.iter().map(|entry| {
        let name = std::str::from_utf8(&entry.name).unwrap_or_default();
        jar::File { name, len: entry.packed.len }
    });
    let files: Vec<jar::File<'_>> = files.collect();
    let _ = jar::verify(&files, &open);
    for (place, entry) in entries.iter().enumerate().take(64) {
        let _ = zip::data_offset(&mut from, &entry.packed);
        if let Ok(mut from) = open(place) {
            let _ = io::copy(&mut from, &mut io::sink());
        }
    }
}

/// Tape archives.
fn tape(bytes: &[u8]) {
    let mut from = Cursor::new(bytes);
    let _ = tar::read(&mut from, MAX_UNPACKED);
    let _ = from.seek(io::SeekFrom::Start(0));
}

/// Manifests of packages and of bundles' modules.
fn manifest(bytes: &[u8]) {
    let _ = android::Manifest::read(bytes);
    let _ = android::Manifest::read_of_bundle(bytes);
    let _ = android::files_of(bytes, 0x7f02_0001);
}

/// Property lists and everything that is made of them, profiles, icons.
fn list(bytes: &[u8]) {
    let _ = info::Info::read(bytes);
    if let Ok(seal) = ResourceSeal::read(bytes) {
        let _ = (seal.leaves_out("Resources/heron.icns"), seal.is_optional("MacOS/post"));
    }
    let _ = Profile::read(bytes);
    let _ = (icon::icns_sizes(bytes), icon::png_size(bytes));
}

/// Reads bytes in one way.
pub type Reader = fn(&[u8]);

/// All of them, by name.
pub const ALL: [(&str, Reader); 5] =
    [("program", program), ("package", package), ("tape", tape), ("manifest", manifest), ("list", list)];

/// Reads bytes as a kind of file, by its name.
pub fn read_as(name: &str, bytes: &[u8]) {
    let (_, read) = ALL.iter().find(|(known, _)| *known == name).expect("a name of the list");
    read(bytes);
}
