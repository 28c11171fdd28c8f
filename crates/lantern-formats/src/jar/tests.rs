use std::io::Cursor;

use proptest::prelude::*;

use super::*;
use crate::samples::{Key, archive, manifest, plain, seed, signed_archive, signer_file};
use crate::zip::{self, Method, write::ZipWriter};

const FILES: [(&str, &[u8]); 3] =
    [("base/manifest.xml", b"the manifest"), ("base/lib/heron.so", &[7; 300]), ("META-INF/services/x", b"a service")];

fn sample(whole: bool) -> Vec<u8> {
    signed_archive(&Key::new("Paper Heron"), &FILES, whole)
}

fn files_of(entries: &[zip::ZipEntry]) -> Option<Vec<File<'_>>> {
    entries.iter().map(|e| Some(File { name: std::str::from_utf8(&e.name).ok()?, len: e.packed.len })).collect()
}

fn check(bytes: &[u8]) -> Option<ArchiveSignature> {
    let entries = zip::read(&mut Cursor::new(bytes)).ok()?;
    let open = |place: usize| -> io::Result<Box<dyn Read + Send>> {
        zip::open(Cursor::new(bytes.to_vec()), &entries[place].packed).map_err(io::Error::other)
    };
    verify(&files_of(&entries)?, &open).ok()?
}

#[test]
fn what_is_signed_holds() {
    for whole in [true, false] {
        seed("package", &format!("file-by-file-{whole}"), &sample(whole));
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
