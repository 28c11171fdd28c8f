use proptest::prelude::*;
use sha2::{Digest, Sha256};

use x509_cert::der::{Reader, SliceReader};

use super::ber::{CERTIFICATES, MAX_MEMBERS};
use super::*;
use crate::samples::{Key, attribute, der, oid, plain};

const DATA: &str = "1.2.840.113549.1.7.1";
const TST: &str = "1.2.840.113549.1.9.16.1.4";
const STAMP: &str = "1.2.840.113549.1.9.16.2.14";

/// A token that says when a signature was there.
fn token(key: &Key, signature: &[u8], time: &[u8]) -> Vec<u8> {
    let sha256 = der(0x30, &[&oid("2.16.840.1.101.3.4.2.1")]);
    let imprint = der(0x30, &[&sha256, &der(0x04, &[&Sha256::digest(signature)])]);
    let info = der(0x30, &[&[2, 1, 1], &oid("1.2.3"), &imprint, &[2, 1, 7], &der(0x18, &[time]), &[2, 1, 9]]);
    key.message(TST, Some(&der(0x04, &[&info])), &info, &plain)
}

#[test]
fn what_was_signed_and_what_was_not() {
    let key = Key::new("Paper Heron");
    let message = Message::read(&key.message(DATA, None, b"a letter", &plain)).unwrap();
    let signer = message.verify(b"a letter");
    assert_eq!((signer.wrong, signer.subject.as_str()), (None, "CN=Paper Heron"));
    assert_eq!((signer.chain, signer.certificate), (vec!["Paper Heron".to_owned()], key.certificate));
    assert!(message.verify(b"another letter").wrong.unwrap().contains("changed"));
}

#[test]
fn a_time_stamp_counts_when_it_is_of_this_signature() {
    let (key, clock) = (Key::new("Paper Heron"), Key::clock("Noon Gun"));
    let with = |time: &[u8], of: Option<&[u8]>| {
        let beside = |signature: &[u8]| Some(attribute(STAMP, &token(&clock, of.unwrap_or(signature), time)));
        Message::read(&key.message(DATA, None, b"a letter", &beside)).unwrap().verify(b"a letter")
    };
    let noon = 1_795_435_200;
    assert_eq!(with(b"20261123120000Z", None).stamped, Some(noon));
    assert_eq!(with(b"20261123120000.25Z", None).stamped, Some(noon));
    let other = with(b"20261123120000Z", Some(b"another signature"));
    assert_eq!(other.stamped, None);
    assert!(other.wrong.unwrap().contains("of another signature"));
    assert!(with(b"at noon", None).wrong.unwrap().contains("cannot be read"));
}

#[test]
fn a_time_stamp_is_of_an_authority_for_them() {
    let stamped = |clock: &Key, time: &[u8]| {
        let beside = |signature: &[u8]| Some(attribute(STAMP, &token(clock, signature, time)));
        let message = Key::new("Paper Heron").message(DATA, None, b"a letter", &beside);
        Message::read(&message).unwrap().verify(b"a letter")
    };
    let good = stamped(&Key::clock("Noon Gun"), b"20261123120000Z");
    assert_eq!((good.wrong, good.stamped_by), (None, vec!["Noon Gun".to_owned(); 2]));
    let other = stamped(&Key::new("Noon Gun"), b"20261123120000Z");
    assert!(other.wrong.unwrap().contains("not one for time stamps"));
    let late = stamped(&Key::clock("Noon Gun"), b"20261125120000Z");
    assert!(late.wrong.unwrap().contains("not valid at that time"));
}

#[test]
fn every_certificate_of_a_chain_was_signed_by_the_one_above() {
    let root = Key::new("Harbour Office");
    let middle = Key::below(&root, "Harbour Office 2");
    let key = Key::below(&middle, "Paper Heron");
    let verify = |key: &Key| {
        let message = key.message(DATA, None, b"a letter", &plain);
        Message::read(&message).unwrap().verify(b"a letter")
    };
    let whole = verify(&key);
    assert_eq!((&whole.wrong, &whole.unverified), (&None, &Vec::new()));
    assert_eq!(whole.chain, ["Harbour Office 2", "Harbour Office"]);
    // The key of a certificate of the chain, and the signature of the highest.
    for (place, at, name) in [(0, "public", "Paper Heron"), (1, "end", "Harbour Office")] {
        let mut key = Key::below(&middle, "Paper Heron");
        let len = key.above[place].len();
        let own = if place == 0 { &middle.public } else { &root.public };
        let public = key.above[place].windows(own.len()).position(|w| w == own).unwrap() + own.len() - 1;
        key.above[place][if at == "end" { len - 1 } else { public }] ^= 1;
        let why = verify(&key).wrong.unwrap();
        assert!(why.contains(&format!("the certificate of {name} in it was not signed")), "{why}");
    }
    let mut short = Key::below(&middle, "Paper Heron");
    short.above.truncate(1);
    assert_eq!((verify(&short).wrong, verify(&short).chain.len()), (None, 2));
    // One that belongs to nothing is stated.
    short.above.push(Key::new("Old Pier").certificate);
    let top = "who signed the certificate of Harbour Office 2, whose issuer is not in it";
    assert_eq!(verify(&short).unverified, [top, "the certificate of Old Pier, which it does not need"]);
}

#[test]
fn forms_without_lengths_are_read() {
    // 0x30 without a length, in it a text of two parts without a length.
    let loose = [0x30, 0x80, 0x24, 0x80, 4, 1, b'a', 4, 2, b'b', b'c', 0, 0, 2, 0x81, 1, 7, 0, 0];
    assert_eq!(der_of(&loose).unwrap(), [0x30, 8, 4, 3, b'a', b'b', b'c', 2, 1, 7]);
    for len in 0..loose.len() - 1 {
        assert_eq!(der_of(&loose[..len]), None, "{len}");
    }
    // One of another kind among the certificates.
    let mixed = der(CERTIFICATES, &[&[0x30, 0, 0xa1, 2, 5, 0]]);
    assert_eq!(der_of(&mixed).unwrap(), der(CERTIFICATES, &[&[0x30, 0]]));
    // A certificate that is there twice.
    let twice = der(CERTIFICATES, &[&[5, 0, 2, 1, 7, 5, 0]]);
    assert_eq!(der_of(&twice).unwrap(), der(CERTIFICATES, &[&[5, 0, 2, 1, 7]]));
    let deep = [0x30, 0x80].repeat(100_000);
    assert_eq!(der_of(&deep), None);
    let many = der(0x31, &[&[5, 0].repeat(MAX_MEMBERS + 1)]);
    assert_eq!(der_of(&many), None);
}

#[test]
fn a_message_in_the_loose_form_is_the_same_message() {
    let key = Key::new("Paper Heron");
    let strict = key.message(DATA, None, b"a letter", &plain);
    // The outermost two values without their lengths: the type is 11 bytes long.
    let head = strict.len() - strict.windows(11).position(|w| w == oid("1.2.840.113549.1.7.2")).unwrap();
    let inner = &strict[strict.len() - head..];
    let data = SliceReader::new(&inner[11..]).unwrap().tlv_bytes().unwrap();
    let content = &data
        [data.len() - SliceReader::new(data).unwrap().peek_header().map(|h| u32::from(h.length) as usize).unwrap()..];
    let loose = [&[0x30, 0x80][..], &inner[..11], &[0xa0, 0x80], content, &[0; 4]].concat();
    assert_eq!(der_of(&loose).unwrap(), strict);
    assert_eq!(Message::read(&loose).unwrap().verify(b"a letter").wrong, None);
}

proptest! {
    #[test]
    fn any_flipped_byte_of_what_is_covered_is_noticed(at in 0_usize..64, bit in 0_u8..8) {
        static SAMPLE: std::sync::OnceLock<Vec<u8>> = std::sync::OnceLock::new();
        let content = [7; 64];
        let bytes = SAMPLE.get_or_init(|| Key::new("Paper Heron").message(DATA, None, &content, &plain));
        let mut changed = content;
        changed[at] ^= 1 << bit;
        prop_assert!(Message::read(bytes).unwrap().verify(&changed).wrong.is_some());
    }

    #[test]
    fn no_bytes_make_the_reader_panic(bytes: Vec<u8>, at: prop::sample::Index, value: u8) {
        if let Ok(message) = Message::read(&bytes) {
            message.verify(b"");
        }
        let mut message = Key::new("Paper Heron").message(DATA, None, b"a letter", &plain);
        let at = at.index(message.len());
        message[at] = value;
        if let Ok(message) = Message::read(&message) {
            message.verify(b"a letter");
        }
    }
}
