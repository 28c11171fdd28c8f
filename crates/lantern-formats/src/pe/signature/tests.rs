use std::io::Cursor;

use proptest::prelude::*;
use sha2::{Digest, Sha256};

use super::*;
use crate::samples::{Key, attribute, der, oid, plain, seed};

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
    message_with(key, digest, &plain)
}

fn message_with(key: &Key, digest: &[u8], beside: crate::samples::Unsigned<'_>) -> Vec<u8> {
    let sha256 = der(0x30, &[&oid("2.16.840.1.101.3.4.2.1")]);
    let description = der(0x30, &[&oid("1.3.6.1.4.1.311.2.1.15")]);
    let content = [description, der(0x30, &[&sha256, &der(0x04, &[digest])])].concat();
    key.message("1.3.6.1.4.1.311.2.1.4", Some(&der(0x30, &[&content])), &content, beside)
}

fn signed(key: &Key) -> Vec<u8> {
    signed_with(&|digest| message(key, digest))
}

fn signed_with(message: &dyn Fn(&[u8]) -> Vec<u8>) -> Vec<u8> {
    let mut file = program();
    let digest = Sha256::digest([&file[..CHECKSUM], &file[CHECKSUM + 4..ENTRY], &file[ENTRY + 8..]].concat());
    let mut message = message(&digest);
    let own = message.len() + 8;
    message.resize(own.next_multiple_of(8) - 8, 0);
    let table = [&(own as u32).to_le_bytes()[..], &[0, 2, 2, 0], &message].concat();
    file[ENTRY..ENTRY + 4].copy_from_slice(&(CODE_LEN as u32).to_le_bytes());
    file[ENTRY + 4..ENTRY + 8].copy_from_slice(&(table.len() as u32).to_le_bytes());
    file.extend(table);
    file
}

fn check_all(file: &[u8]) -> Result<Option<Signed>, FormatError> {
    let mut cursor = Cursor::new(file);
    let details = Details::read(&mut cursor)?;
    verify(&mut cursor, &details)
}

fn check(file: &[u8]) -> Result<Option<Signer>, FormatError> {
    Ok(check_all(file)?.map(|signed| signed.signer))
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

/// A program with a signature below two certificates, a time stamp and a second signature.
fn many() -> (Vec<u8>, usize) {
    static SAMPLE: std::sync::OnceLock<(Vec<u8>, usize)> = std::sync::OnceLock::new();
    let make = || {
        let key = Key::below(&Key::below(&Key::new("Harbour Office"), "Harbour Office 2"), "Paper Heron");
        let mut len = 0;
        let file = signed_with(&|digest| {
            let second = message(&Key::below(&Key::new("Old Pier"), "Punt"), digest);
            message_with(&key, digest, &|_| Some(attribute("1.3.6.1.4.1.311.2.4.1", &second)))
        });
        len += u32::from_le_bytes(file[CODE_LEN..CODE_LEN + 4].try_into().unwrap()) as usize;
        (file, len)
    };
    SAMPLE.get_or_init(make).clone()
}

#[test]
fn a_second_signature_is_verified() {
    let (file, _) = many();
    let found = check_all(&file).unwrap().unwrap();
    assert_eq!((&found.signer.wrong, &found.signer.unverified), (&None, &Vec::new()));
    assert_eq!(found.others.len(), 1);
    assert_eq!(
        (found.others[0].subject.as_str(), &found.others[0].chain[..]),
        ("CN=Punt", &["Old Pier".to_owned()][..])
    );
    // One of another program.
    let key = Key::new("Paper Heron");
    let other = signed_with(&|digest| {
        let second = message(&Key::new("Punt"), &[7; 32]);
        message_with(&key, digest, &|_| Some(attribute("1.3.6.1.4.1.311.2.4.1", &second)))
    });
    let why = check(&other).unwrap().unwrap().wrong.unwrap();
    assert!(why.contains("a second signature in it does not hold: the program was changed"), "{why}");
}

#[test]
fn what_lies_in_the_table_beside_the_signature_is_told() {
    let mut file = sample();
    let table = file.len() - CODE_LEN;
    file.extend(b"a hidden letter ");
    file[ENTRY + 4..ENTRY + 8].copy_from_slice(&(table as u32 + 16).to_le_bytes());
    let found = check(&file).unwrap().unwrap();
    assert_eq!(
        (found.wrong, found.unverified),
        (None, vec!["data of another kind in the table of signatures (16 B)".to_owned()])
    );
}

#[test]
fn bytes_that_were_hashed_before_are_not_read_again() {
    let file = sample();
    let details = Details::read(&mut Cursor::new(&file)).unwrap();
    let spans = spans(&details);
    let covered: Vec<u8> = spans.iter().flat_map(|(from, to)| file[*from as usize..*to as usize].to_vec()).collect();
    let check = |spans: &[(u64, u64)], digest: &[u8]| {
        let known = Known { spans, digest: (Hash::Sha256, digest) };
        verify_known(&mut Cursor::new(&file), &details, &known).unwrap().unwrap().signer.wrong.is_none()
    };
    let digest = Sha256::digest(&covered);
    assert!(check(&spans, &digest));
    assert!(!check(&spans, &[0; 32]));
    assert!(!check(&[(0, CODE_LEN as u64)], &digest));
}

proptest! {
    /// Every byte of a file with certificates, and with another signature in the first, is covered, or one of those that are stated to
    /// be not.
    #[test]
    fn any_flipped_byte_is_noticed_or_stated_as_uncovered(at in any::<prop::sample::Index>(), bit in 0_u8..8) {
        let (mut file, _) = many();
        let at = at.index(file.len());
        file[at] ^= 1 << bit;
        let stated = [CHECKSUM..CHECKSUM + 4, ENTRY..ENTRY + 8, CODE_LEN..CODE_LEN + 4];
        let is_stated = stated.iter().any(|range| range.contains(&at));
        let seen = check_all(&file).ok().flatten();
        let all_verified = |seen: &Signed| seen.others.iter().chain([&seen.signer]).all(|one| one.unverified.is_empty());
        let holds = seen.is_some_and(|seen| seen.signer.wrong.is_none() && all_verified(&seen));
        prop_assert!(is_stated || !holds, "byte {} of {}", at, file.len());
    }

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
