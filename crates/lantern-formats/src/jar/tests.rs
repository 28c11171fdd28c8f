use std::io::Cursor;

use proptest::prelude::*;

use super::*;
use crate::test_keys::{Key, plain};
use crate::zip::{self, Method, write::ZipWriter};

const FILES: [(&str, &[u8]); 3] =
    [("base/manifest.xml", b"the manifest"), ("base/lib/heron.so", &[7; 300]), ("META-INF/services/x", b"a service")];

fn base64_of(bytes: &[u8]) -> String {
    const DIGITS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    let digits = bytes.chunks(3).flat_map(|three| {
        let bits = three.iter().fold(0_u32, |bits, b| bits << 8 | u32::from(*b)) << (8 * (3 - three.len()));
        (0..4).map(move |i| if i <= three.len() { DIGITS[(bits >> (18 - 6 * i) & 63) as usize] as char } else { '=' })
    });
    digits.collect()
}

/// Lines of at most 72 bytes, cut wherever it comes.
fn field(key: &str, value: &str) -> Vec<u8> {
    let whole = format!("{key}: {value}").into_bytes();
    let (first, rest) = whole.split_at(whole.len().min(70));
    let mut out = first.to_vec();
    rest.chunks(69).for_each(|part| out.extend([b"\r\n ", part].concat()));
    [out, b"\r\n".to_vec()].concat()
}

fn digest(bytes: &[u8]) -> String {
    base64_of(&Hash::Sha256.digest(bytes))
}

fn manifest(files: &[(&str, &[u8])]) -> (Vec<u8>, Vec<Vec<u8>>) {
    let main = b"Manifest-Version: 1.0\r\nCreated-By: a test\r\n\r\n".to_vec();
    let sections = files
        .iter()
        .map(|(name, bytes)| [field("Name", name), field("SHA-256-Digest", &digest(bytes)), b"\r\n".to_vec()].concat());
    (main, sections.collect())
}

/// An archive of files, with the signature's own.
fn archive(files: &[(&str, &[u8])], manifest: &[u8], signed: &[u8], block: &[u8]) -> Vec<u8> {
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    let own = [("META-INF/MANIFEST.MF", manifest), ("META-INF/HERON.SF", signed), ("META-INF/HERON.EC", block)];
    for (name, bytes) in files.iter().chain(&own) {
        zip.file(name, Method::Deflate, 0o644, bytes.len() as u64, |out| out.write_all(bytes)).unwrap();
    }
    zip.finish().unwrap().into_inner()
}

/// What a signer says of a manifest: of all of it, or of each section.
fn signer_file(main: &[u8], sections: &[Vec<u8>], files: &[(&str, &[u8])], whole: bool) -> Vec<u8> {
    let all = [main, &sections.concat()].concat();
    let head = if whole { field("SHA-256-Digest-Manifest", &digest(&all)) } else { Vec::new() };
    let mut out = [b"Signature-Version: 1.0\r\nX-Android-APK-Signed: 2, 3\r\n".as_slice(), &head, b"\r\n"].concat();
    for ((name, _), section) in files.iter().zip(sections) {
        out.extend([field("Name", name), field("SHA-256-Digest", &digest(section)), b"\r\n".to_vec()].concat());
    }
    out
}

fn sample(whole: bool) -> Vec<u8> {
    let (main, sections) = manifest(&FILES);
    let signed = signer_file(&main, &sections, &FILES, whole);
    let block = Key::new("Paper Heron").message("1.2.840.113549.1.7.1", None, &signed, &plain);
    archive(&FILES, &[main, sections.concat()].concat(), &signed, &block)
}

fn check(bytes: &[u8]) -> Option<ArchiveSignature> {
    let entries = zip::read(&mut Cursor::new(bytes)).ok()?;
    let open = |entry: &ZipEntry| -> io::Result<Box<dyn Read + Send>> {
        zip::open(Cursor::new(bytes.to_vec()), entry).map_err(io::Error::other)
    };
    verify(&entries, &open).ok()?
}

#[test]
fn what_is_signed_holds() {
    for whole in [true, false] {
        let found = check(&sample(whole)).unwrap();
        assert_eq!((found.wrong, found.signers[0].subject.as_str()), (None, "CN=Paper Heron"));
        assert_eq!(found.schemes, [2, 3]);
    }
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    zip.file("a", Method::Stored, 0o644, 1, |out| out.write_all(b"a")).unwrap();
    assert_eq!(check(&zip.finish().unwrap().into_inner()), None);
}

#[test]
fn names_that_are_cut_inside_a_character() {
    let long = format!("assets/{}.ogg", "суматоха".repeat(9));
    let files = [(long.as_str(), b"music".as_slice())];
    let (main, sections) = manifest(&files);
    assert!(String::from_utf8(sections[0].clone()).is_err(), "a line ends within a character");
    let signed = signer_file(&main, &sections, &files, false);
    let block = Key::new("Paper Heron").message("1.2.840.113549.1.7.1", None, &signed, &plain);
    assert_eq!(check(&archive(&files, &[main, sections.concat()].concat(), &signed, &block)).unwrap().wrong, None);
}

#[test]
fn what_was_changed_is_named() {
    let (main, sections) = manifest(&FILES);
    let all = [main.clone(), sections.concat()].concat();
    let signed = signer_file(&main, &sections, &FILES, true);
    let key = Key::new("Paper Heron");
    let block = key.message("1.2.840.113549.1.7.1", None, &signed, &plain);
    let wrong = |files: &[(&str, &[u8])], manifest: &[u8], signed: &[u8]| {
        check(&archive(files, manifest, signed, &block)).unwrap().wrong.unwrap_or_default()
    };
    let mut changed = FILES;
    changed[0].1 = b"another manifest";
    assert_eq!(wrong(&changed, &all, &signed), "base/manifest.xml was changed after it was signed");
    assert_eq!(wrong(&FILES[1..], &all, &signed), "base/manifest.xml was taken out after it was signed");
    let more = [&FILES[..], &[("base/more", b"x".as_slice())]].concat();
    assert_eq!(wrong(&more, &all, &signed), "base/more was added after it was signed");
    // The files and the manifest agree with one another, and not with the signer.
    let (_, others) = manifest(&changed);
    assert!(wrong(&changed, &[main, others.concat()].concat(), &signed).contains("list of files was changed"));
    assert!(wrong(&FILES, &all, &[&signed[..], b"x: y\r\n"].concat()).contains("changed after it was signed"));
    // A second section of one name would hide what the first one says.
    let twice = [&all[..], &sections[0]].concat();
    assert!(wrong(&FILES, &twice, &signed).contains("cannot be read"));
}

proptest! {
    #[test]
    fn any_flipped_byte_of_a_file_is_noticed(file in 0_usize..2, at: prop::sample::Index, bit in 0_u8..8) {
        let (main, sections) = manifest(&FILES);
        let signed = signer_file(&main, &sections, &FILES, true);
        let block = Key::new("Paper Heron").message("1.2.840.113549.1.7.1", None, &signed, &plain);
        let mut bytes = FILES[file].1.to_vec();
        let at = at.index(bytes.len());
        bytes[at] ^= 1 << bit;
        let mut changed = FILES;
        changed[file].1 = &bytes;
        let found = check(&archive(&changed, &[main, sections.concat()].concat(), &signed, &block)).unwrap();
        prop_assert!(found.wrong.is_some());
    }

    #[test]
    fn no_bytes_make_the_reader_panic(at: prop::sample::Index, value: u8, text: Vec<u8>) {
        static SAMPLE: std::sync::OnceLock<Vec<u8>> = std::sync::OnceLock::new();
        let mut bytes = SAMPLE.get_or_init(|| sample(false)).clone();
        let at = at.index(bytes.len());
        bytes[at] = value;
        let _ = check(&bytes);
        let _ = sections(&text);
    }
}
