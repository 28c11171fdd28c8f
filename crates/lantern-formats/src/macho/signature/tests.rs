use std::io::Cursor;

use proptest::prelude::*;

use super::*;
use crate::samples::{Key, MacProgram, blob, nobody, plain, seed};

fn signed(code: usize, flags: u32, sign: &dyn Fn(&[u8]) -> Vec<u8>) -> Vec<u8> {
    MacProgram { code, flags, ..MacProgram::default() }.signed(sign)
}

fn two_bytes(_: &[u8]) -> Vec<u8> {
    b"\x30\x00".to_vec()
}

fn read(bytes: &[u8]) -> Result<Option<CodeSignature>, FormatError> {
    let mut cursor = Cursor::new(bytes);
    let details = Details::read(&mut cursor)?;
    CodeSignature::read(&mut cursor, &details[0])
}

fn verify(bytes: &[u8]) -> Result<Option<Wrong>, FormatError> {
    match read(bytes)? {
        Some(signature) => signature.verify(&mut Cursor::new(bytes)),
        None => Ok(Some(Wrong::NotCovered)),
    }
}

#[test]
fn what_a_signature_says() {
    let file = signed(10_000, FLAG_AD_HOC, &nobody);
    let signature = read(&file).unwrap().unwrap();
    assert_eq!((signature.identifier(), signature.team()), ("example.paperheron.saltmarsh", Some("HERON12345")));
    assert!(signature.is_ad_hoc() && !signature.is_hardened());
    assert!(signature.entitlements().is_on("get-task-allow"));
    assert_eq!(signature.entitlements().names().collect::<Vec<_>>(), ["get-task-allow"]);
    assert_eq!(signature.signer().unwrap(), None);
    assert!(signature.holds(Special::Info, Some(b"the property list")));
    assert!(!signature.holds(Special::Info, Some(b"another one")) && !signature.holds(Special::Info, None));
    assert!(signature.holds(Special::Resources, None) && !signature.holds(Special::Resources, Some(b"a seal")));
    assert_eq!(verify(&file).unwrap(), None);
    let hardened = read(&signed(5000, FLAG_RUNTIME, &two_bytes)).unwrap().unwrap();
    assert!(hardened.is_hardened() && !hardened.is_ad_hoc());
    assert_eq!(hardened.cms.as_deref(), Some(b"\x30\x00".as_slice()));
}

#[test]
fn an_identity_has_signed_the_hashes() {
    let key = Key::new("Paper Heron");
    let sign = |directory: &[u8]| key.message("1.2.840.113549.1.7.1", None, directory, &plain);
    seed("program", "macos", &signed(4_096, FLAG_RUNTIME, &sign));
    let signature = read(&signed(10_000, FLAG_RUNTIME, &sign)).unwrap().unwrap();
    let signer = signature.signer().unwrap().unwrap();
    assert_eq!((signer.wrong, signer.subject.as_str()), (None, "CN=Paper Heron"));
    // The code was changed and hashed again, the message is the old one.
    let old = |directory: &[u8]| key.message("1.2.840.113549.1.7.1", None, &[directory, b"x"].concat(), &plain);
    let forged = signed(10_000, FLAG_RUNTIME, &old);
    assert_eq!(verify(&forged).unwrap(), None);
    let signer = read(&forged).unwrap().unwrap().signer().unwrap().unwrap();
    assert!(signer.wrong.unwrap().contains("changed after it was signed"));
}

#[test]
fn what_was_changed_is_named() {
    let good = signed(10_000, FLAG_AD_HOC, &nobody);
    let changed = |at: usize| {
        let mut file = good.clone();
        file[at] ^= 1;
        verify(&file).unwrap()
    };
    assert_eq!(changed(9_999), Some(Wrong::Page(8192)), "the last page is hashed short");
    assert_eq!(changed(100), Some(Wrong::Page(0)));
    let entitlements = good.windows(8).position(|w| w == b"<plist><").unwrap();
    assert_eq!(changed(entitlements), Some(Wrong::Special(Special::Entitlements)));
    // More program than the hashes cover: whatever stands there could be exchanged.
    let mut longer = good.clone();
    longer[64..68].copy_from_slice(&9_990_u32.to_le_bytes());
    assert!(verify(&longer).is_err(), "no signature lies there");
}

/// However many processors look at it.
#[test]
fn the_first_page_that_was_changed_is_named() {
    let mut file = signed(5_000_000, FLAG_AD_HOC, &nobody);
    assert_eq!(verify(&file).unwrap(), None);
    for at in [4_900_000, 3_100_000, 2_099_999] {
        file[at] ^= 1;
        for _ in 0..20 {
            assert_eq!(verify(&file).unwrap(), Some(Wrong::Page(at as u64 / 4096 * 4096)));
        }
    }
}

#[test]
fn blobs_over_one_another_are_refused() {
    let mut parts = blob(0xfade_7171, &[7; 1000]);
    let mut index = Vec::new();
    let count = 50_u32;
    for slot in 0..count {
        index.extend([(0x1_0001 + slot % 2).to_be_bytes(), (12 + count * 8).to_be_bytes()].concat());
    }
    let len = 12 + index.len() as u32 + parts.len() as u32;
    let mut signature = [CSMAGIC_EMBEDDED_SIGNATURE.to_be_bytes(), len.to_be_bytes(), count.to_be_bytes()].concat();
    signature.append(&mut index);
    signature.append(&mut parts);
    let mut file = signed(4096, FLAG_AD_HOC, &nobody);
    file.truncate(4096);
    file[68..72].copy_from_slice(&len.to_le_bytes());
    file.extend(signature);
    assert!(read(&file).unwrap_err().to_string().contains("the place of a blob"));
}

proptest! {
    #[test]
    fn any_flipped_byte_of_the_code_is_noticed(at in 0_usize..10_000, bit in 0_u8..8) {
        let mut file = signed(10_000, FLAG_AD_HOC, &nobody);
        file[at] ^= 1 << bit;
        prop_assert!(!matches!(verify(&file), Ok(None)), "byte {}", at);
    }

    #[test]
    fn no_bytes_make_the_reader_panic(at in 0_usize..11_000, value: u8) {
        let mut file = signed(10_000, FLAG_AD_HOC, &two_bytes);
        let len = file.len();
        file[at % len] = value;
        let _ = verify(&file);
        file.truncate(at % len);
        let _ = verify(&file);
    }
}
