use std::io::Cursor;

use proptest::prelude::*;
use sha2::{Digest, Sha256};

use super::*;
use crate::samples::{Key, der, oid, plain, seed};

const CODE_LEN: usize = 2048;
/// Where the optional header starts.
const OPTIONAL: usize = 0x80 + 24;
const CHECKSUM: usize = OPTIONAL + 64;
const ENTRY: usize = OPTIONAL + 112 + 4 * 8;

/// A program with headers, no sections and some bytes.
fn program() -> Vec<u8> {
    let mut file = crate::pe::tests::sample(0x8664, 0x22);
    file[0x80 + 20..0x80 + 22].copy_from_slice(&240_u16.to_le_bytes());
    file.resize(OPTIONAL + 240, 0);
    file[OPTIONAL..OPTIONAL + 2].copy_from_slice(&0x20b_u16.to_le_bytes());
    file[OPTIONAL + 68] = 2;
    file[OPTIONAL + 108] = 16;
    file.resize(CODE_LEN, 0x5a);
    file
}

fn message(key: &Key, digest: &[u8]) -> Vec<u8> {
    let sha256 = der(0x30, &[&oid("2.16.840.1.101.3.4.2.1")]);
    let description = der(0x30, &[&oid("1.3.6.1.4.1.311.2.1.15")]);
    let content = [description, der(0x30, &[&sha256, &der(0x04, &[digest])])].concat();
    key.message("1.3.6.1.4.1.311.2.1.4", Some(&der(0x30, &[&content])), &content, &plain)
}

fn signed(key: &Key) -> Vec<u8> {
    let mut file = program();
    let digest = Sha256::digest([&file[..CHECKSUM], &file[CHECKSUM + 4..ENTRY], &file[ENTRY + 8..]].concat());
    let mut message = message(key, &digest);
    let own = message.len() + 8;
    message.resize(own.next_multiple_of(8) - 8, 0);
    let table = [&(own as u32).to_le_bytes()[..], &[0, 2, 2, 0], &message].concat();
    file[ENTRY..ENTRY + 4].copy_from_slice(&(CODE_LEN as u32).to_le_bytes());
    file[ENTRY + 4..ENTRY + 8].copy_from_slice(&(table.len() as u32).to_le_bytes());
    file.extend(table);
    file
}

fn check(file: &[u8]) -> Result<Option<Signer>, FormatError> {
    let mut cursor = Cursor::new(file);
    let details = Details::read(&mut cursor)?;
    verify(&mut cursor, &details)
}

fn sample() -> Vec<u8> {
    static SAMPLE: std::sync::OnceLock<Vec<u8>> = std::sync::OnceLock::new();
    SAMPLE.get_or_init(|| signed(&Key::new("Paper Heron"))).clone()
}

#[test]
fn what_is_signed_holds() {
    seed("program", "windows", &sample());
    let found = check(&sample()).unwrap().unwrap();
    assert_eq!((found.wrong, found.subject.as_str()), (None, "CN=Paper Heron"));
    assert_eq!(found.stamped, None);
    assert_eq!(check(&program()).unwrap(), None);
    // The checksum is not covered: it is written last.
    let mut other = sample();
    other[CHECKSUM] ^= 1;
    assert_eq!(check(&other).unwrap().unwrap().wrong, None);
}

#[test]
fn what_was_changed_is_named() {
    let wrong = |change: &dyn Fn(&mut Vec<u8>)| {
        let mut file = sample();
        change(&mut file);
        check(&file).unwrap().unwrap().wrong.unwrap_or_default()
    };
    assert!(wrong(&|file| file[CODE_LEN - 1] ^= 1).contains("changed after it was signed"));
    assert!(wrong(&|file| file.extend([0; 8])).contains("data after it"));
    let key = |file: &[u8]| file.windows(11).rposition(|w| w == b"Paper Heron").unwrap();
    assert!(
        wrong(&|file| {
            let at = key(file);
            file[at] ^= 1;
        })
        .contains("certificate is not in it")
    );
    // A certificate of the same name with another key.
    let (one, other) = (Key::new("Paper Heron"), Key::new("Paper Heron"));
    let mixed = Key { certificate: other.certificate.clone(), ..one };
    assert!(check(&signed(&mixed)).unwrap().unwrap().wrong.unwrap().contains("not that of its key"));
}

proptest! {
    #[test]
    fn any_flipped_byte_of_the_program_is_noticed(at in 0_usize..CODE_LEN, bit in 0_u8..8) {
        let mut file = sample();
        let is_covered = !(CHECKSUM..CHECKSUM + 4).contains(&at) && !(ENTRY..ENTRY + 8).contains(&at);
        file[at] ^= 1 << bit;
        let holds = matches!(check(&file), Ok(Some(Signer { wrong: None, .. })));
        prop_assert!(!(is_covered && holds), "byte {}", at);
    }

    #[test]
    fn no_bytes_make_the_reader_panic(at in any::<prop::sample::Index>(), value: u8, len in any::<prop::sample::Index>()) {
        let mut file = sample();
        let at = at.index(file.len());
        file[at] = value;
        let _ = check(&file);
        file.truncate(len.index(file.len()));
        let _ = check(&file);
    }
}
