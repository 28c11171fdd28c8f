use std::io::Cursor;

use proptest::prelude::*;

use super::*;
use crate::test_keys::{Key, plain};

/// A slice of ARM64 with one load command and `code` bytes before its signature.
fn signed(code: usize, flags: u32, cms: &dyn Fn(&[u8]) -> Vec<u8>) -> Vec<u8> {
    let mut file = vec![0xcf, 0xfa, 0xed, 0xfe];
    for word in [0x0100_000c_u32, 0, 2, 1, 16, 0, 0] {
        file.extend(word.to_le_bytes());
    }
    file.extend(0x1d_u32.to_le_bytes());
    file.extend(16_u32.to_le_bytes());
    file.extend((code as u32).to_le_bytes());
    let signature_len_at = file.len();
    file.extend(0_u32.to_le_bytes());
    file.resize(code, 0x5a);
    let entitlements = blob(0xfade_7171, b"<plist><dict><key>get-task-allow</key><true/></dict></plist>");
    let build = |file: &[u8]| {
        let directory = directory(&file[..code], flags, &entitlements);
        let cms = blob(0xfade_0b01, &cms(&directory));
        let parts = [(0_u32, directory), (5, entitlements.clone()), (0x1_0000, cms)];
        superblob(&parts)
    };
    // The length stands in the part that is hashed; some room, for not every signature is of one length.
    let len = build(&file).len() as u32 + 16;
    file[signature_len_at..signature_len_at + 4].copy_from_slice(&len.to_le_bytes());
    let signature = build(&file);
    file.extend(signature);
    file.resize(code + len as usize, 0);
    file
}

fn nobody(_: &[u8]) -> Vec<u8> {
    Vec::new()
}

fn two_bytes(_: &[u8]) -> Vec<u8> {
    b"\x30\x00".to_vec()
}

fn blob(magic: u32, content: &[u8]) -> Vec<u8> {
    [&magic.to_be_bytes(), &(content.len() as u32 + 8).to_be_bytes(), content].concat()
}

fn directory(code: &[u8], flags: u32, entitlements: &[u8]) -> Vec<u8> {
    let identifier = b"example.paperheron.saltmarsh\0";
    let team = b"HERON12345\0";
    let pages: Vec<Vec<u8>> = code.chunks(4096).map(|page| Hash::Sha256.digest(page)).collect();
    let identifier_at = 52;
    let team_at = identifier_at + identifier.len() as u32;
    let hashes_at = team_at + team.len() as u32 + 5 * 32;
    let mut content = Vec::new();
    for word in [0x2_0200, flags, hashes_at, identifier_at, 5, pages.len() as u32, code.len() as u32] {
        content.extend(word.to_be_bytes());
    }
    content.extend([32, 2, 0, 12]);
    for word in [0, 0, team_at] {
        content.extend(word.to_be_bytes());
    }
    content.extend(identifier);
    content.extend(team);
    // Special slots stand backwards: entitlements, application, resources, requirements, Info.plist.
    let info = Hash::Sha256.digest(b"the property list");
    for hash in [Hash::Sha256.digest(entitlements), vec![0; 32], vec![0; 32], vec![0; 32], info] {
        content.extend(hash);
    }
    content.extend(pages.concat());
    blob(CSMAGIC_CODEDIRECTORY, &content)
}

fn superblob(parts: &[(u32, Vec<u8>)]) -> Vec<u8> {
    let mut at = 12 + parts.len() as u32 * 8;
    let mut index = Vec::new();
    for (slot, part) in parts {
        index.extend([slot.to_be_bytes(), at.to_be_bytes()].concat());
        at += part.len() as u32;
    }
    let bytes: Vec<u8> = parts.iter().flat_map(|(_, part)| part.clone()).collect();
    [
        &CSMAGIC_EMBEDDED_SIGNATURE.to_be_bytes(),
        &at.to_be_bytes(),
        &(parts.len() as u32).to_be_bytes()[..],
        &index,
        &bytes,
    ]
    .concat()
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
    let signature = read(&signed(10_000, FLAG_RUNTIME, &sign)).unwrap().unwrap();
    let signer = signature.signer().unwrap().unwrap();
    assert_eq!((signer.wrong, signer.subject.as_str()), (None, "CN=Paper Heron"));
    // The code was changed and hashed anew, the message is the old one.
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
    longer[40..44].copy_from_slice(&9_990_u32.to_le_bytes());
    assert!(verify(&longer).is_err(), "no signature lies there");
}

#[test]
fn blobs_over_one_another_are_refused() {
    let mut parts = blob(0xfade_7171, &[7; 1000]);
    let mut index = Vec::new();
    let count = 50_u32;
    for slot in 0..count {
        index.extend([(slot + 100).to_be_bytes(), (12 + count * 8).to_be_bytes()].concat());
    }
    let len = 12 + index.len() as u32 + parts.len() as u32;
    let mut signature = [CSMAGIC_EMBEDDED_SIGNATURE.to_be_bytes(), len.to_be_bytes(), count.to_be_bytes()].concat();
    signature.append(&mut index);
    signature.append(&mut parts);
    let mut file = signed(4096, FLAG_AD_HOC, &nobody);
    file.truncate(4096);
    file[44..48].copy_from_slice(&len.to_le_bytes());
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
