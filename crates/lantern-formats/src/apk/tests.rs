use std::io::Cursor;

use proptest::prelude::*;

use super::*;
use crate::samples::{Key, seed};
use crate::zip::Method;
use crate::zip::write::ZipWriter;

const ECDSA_SHA256: u32 = 0x0201;

fn with_len(bytes: &[u8]) -> Vec<u8> {
    [&(bytes.len() as u32).to_le_bytes(), bytes].concat()
}

fn numbered_part(number: u32, value: &[u8]) -> Vec<u8> {
    with_len(&[&number.to_le_bytes(), with_len(value).as_slice()].concat())
}

fn package() -> Vec<u8> {
    package_of(2_500_000)
}

fn package_of(len: usize) -> Vec<u8> {
    let manifest = include_bytes!("../../tests/seeds/manifest/saltmarsh.apk").to_vec();
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, bytes) in [("AndroidManifest.xml", manifest), ("assets/world.dat", vec![0x5a; len])] {
        zip.file(name, Method::Stored, 0o644, bytes.len() as u64, |out| out.write_all(&bytes)).unwrap();
    }
    zip.finish().unwrap().into_inner()
}

/// What a signer says, beside what every signer says.
#[derive(Default, Clone)]
struct Says {
    sdk: Option<[(u32, u32); 2]>,
    attributes: Vec<u8>,
    other_lists: bool,
}

fn signer_block(key: &Key, digest: &[u8], says: &Says) -> Vec<u8> {
    let sdk = |i: usize| says.sdk.map_or(Vec::new(), |s| [s[i].0.to_le_bytes(), s[i].1.to_le_bytes()].concat());
    let mut digests = numbered_part(ECDSA_SHA256, digest);
    if says.other_lists {
        digests.extend(numbered_part(0x0103, digest));
    }
    let signed =
        [with_len(&digests), with_len(&with_len(&key.certificate)), sdk(0), with_len(&says.attributes)].concat();
    let signatures = numbered_part(ECDSA_SHA256, &key.sign(&signed));
    let signer = [with_len(&signed), sdk(1), with_len(&signatures), with_len(&key.public)].concat();
    with_len(&with_len(&signer))
}

/// Puts a block with these schemes into a package.
fn signed(package: &[u8], schemes: &[(u32, &Key, Says)]) -> Vec<u8> {
    let (directory, end) = zip::directory_and_end(&mut Cursor::new(package)).unwrap();
    // Without a block the directory already begins where it will be said to begin.
    let parts = Parts { entries_end: directory, directory, end, file_len: package.len() as u64 };
    assert_eq!(Parts::of_unsigned(&mut Cursor::new(package)).unwrap(), parts);
    let open = || Ok(Cursor::new(package));
    let digest = content_digest(&open, parts, Hash::Sha256).unwrap();
    let mut pairs = Vec::new();
    for (id, key, says) in schemes {
        let value = signer_block(key, &digest, says);
        pairs.extend((value.len() as u64 + 4).to_le_bytes());
        pairs.extend(id.to_le_bytes());
        pairs.extend(value);
    }
    let size = (pairs.len() as u64 + 24).to_le_bytes();
    let block = [&size[..], &pairs, &size, b"APK Sig Block 42"].concat();
    let (before, after) = package.split_at(directory as usize);
    let mut file = [before, &block, after].concat();
    let at = end as usize + block.len() + 16;
    file[at..at + 4].copy_from_slice(&(directory as u32 + block.len() as u32).to_le_bytes());
    file
}

fn schemes(file: &[u8]) -> Result<Vec<Scheme>, ApkError> {
    verify(&|| Ok(Cursor::new(file)))
}

fn wrong_of(file: &[u8]) -> Vec<Option<String>> {
    schemes(file).unwrap().into_iter().map(|scheme| scheme.wrong).collect()
}

const SDK: Option<[(u32, u32); 2]> = Some([(28, u32::MAX), (28, u32::MAX)]);

#[test]
fn what_is_signed_holds() {
    let key = Key::new("Paper Heron");
    let file =
        signed(&package(), &[(ID_V2, &key, Says::default()), (ID_V3, &key, Says { sdk: SDK, ..Says::default() })]);
    seed("package", "schemes-2-3", &file);
    // What scripts/bench-verify.sh measures.
    if let Some(len) = std::env::var("LANTERN_PACKAGE_LEN").ok().and_then(|len| len.parse().ok()) {
        seed("package", "large", &signed(&package_of(len), &[(ID_V2, &key, Says::default())]));
    }
    let found = schemes(&file).unwrap();
    assert_eq!(found.iter().map(|s| (s.version, s.wrong.clone())).collect::<Vec<_>>(), [(2, None), (3, None)]);
    assert_eq!(found[0].signers[0].subject, "CN=Paper Heron");
    assert!(
        !found[0].signers[0].is_debug() && SignedBy::of(&Key::new("Android Debug").certificate).unwrap().is_debug()
    );
    assert!(schemes(&package()).unwrap().is_empty(), "no block");
    // The archive is still one.
    assert_eq!(zip::read(&mut Cursor::new(&file)).unwrap().len(), 2);
}

#[test]
fn what_readers_get_wrong() {
    let (key, other) = (Key::new("Paper Heron"), Key::new("someone else"));
    let one = |says: Says| wrong_of(&signed(&package(), &[(ID_V2, &key, says)]))[0].clone().unwrap_or_default();
    assert!(one(Says { other_lists: true, ..Says::default() }).contains("lists"));
    let stripped = [&with_len(&[&ATTRIBUTE_STRIPPING.to_le_bytes()[..], &3_u32.to_le_bytes()].concat())[..]].concat();
    assert!(one(Says { attributes: stripped.clone(), ..Says::default() }).contains("scheme 3 was taken out"));
    let with_v3 = [
        (ID_V2, &key, Says { attributes: stripped, ..Says::default() }),
        (ID_V3, &key, Says { sdk: SDK, ..Says::default() }),
    ];
    assert_eq!(wrong_of(&signed(&package(), &with_v3)), [None, None], "it is there");
    let differ = Says { sdk: Some([(28, 30), (28, u32::MAX)]), ..Says::default() };
    assert!(
        wrong_of(&signed(&package(), &[(ID_V3, &key, differ)]))[0]
            .as_ref()
            .unwrap()
            .contains("differ inside and outside")
    );
    // A certificate that is not the key's.
    let mixed = Key { certificate: other.certificate.clone(), ..Key::new("x") };
    assert!(
        wrong_of(&signed(&package(), &[(ID_V2, &mixed, Says::default())]))[0].as_ref().unwrap().contains("certificate")
    );
    // Someone else's signature under this key.
    let forged = Key { public: key.public.clone(), certificate: key.certificate.clone(), ..Key::new("x") };
    assert!(
        wrong_of(&signed(&package(), &[(ID_V2, &forged, Says::default())]))[0]
            .as_ref()
            .unwrap()
            .contains("not that of its key")
    );
}

#[test]
fn a_key_that_was_changed() {
    let (old, new, stranger) = (Key::new("old"), Key::new("new"), Key::new("stranger"));
    let node = |key: &Key, by: Option<&Key>| {
        let with = if by.is_some() { ECDSA_SHA256 } else { 0 };
        let signed = [with_len(&key.certificate), with.to_le_bytes().to_vec()].concat();
        let signature = by.map(|by| by.sign(&signed)).unwrap_or_default();
        let rights_and_algorithm = [0x17_u32.to_le_bytes(), ECDSA_SHA256.to_le_bytes()].concat();
        with_len(&[with_len(&signed), rights_and_algorithm, with_len(&signature)].concat())
    };
    let says = |nodes: &[Vec<u8>]| {
        let value = [&lineage::ATTRIBUTE.to_le_bytes()[..], &1_u32.to_le_bytes(), &nodes.concat()].concat();
        Says { sdk: SDK, attributes: with_len(&value), ..Says::default() }
    };
    let good = signed(&package(), &[(ID_V3, &new, says(&[node(&old, None), node(&new, Some(&old))]))]);
    let found = schemes(&good).unwrap();
    assert_eq!((&found[0].wrong, found[0].before[0].subject.as_str()), (&None, "CN=old"));
    let forged = signed(&package(), &[(ID_V3, &new, says(&[node(&old, None), node(&new, Some(&stranger))]))]);
    assert!(wrong_of(&forged)[0].as_ref().unwrap().contains("not signed by the one before"));
    let other_end = signed(&package(), &[(ID_V3, &new, says(&[node(&new, None), node(&old, Some(&new))]))]);
    assert!(wrong_of(&other_end)[0].as_ref().unwrap().contains("does not end with its own key"));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn any_flipped_byte_is_noticed(at in any::<prop::sample::Index>(), bit in 0_u8..8) {
        let file = sample();
        let mut changed = file.clone();
        let at = at.index(file.len());
        changed[at] ^= 1 << bit;
        // Within the block an unknown pair may change: it is nobody's. Here there is none.
        let is_noticed = match schemes(&changed) {
            Ok(schemes) => schemes.is_empty() || schemes.iter().any(|scheme| scheme.wrong.is_some()),
            Err(_) => true,
        };
        prop_assert!(is_noticed, "byte {}", at);
    }

    #[test]
    fn no_bytes_make_the_reader_panic(at in 0_usize..6000, value: u8, len in 0_usize..6000) {
        let file = sample();
        let mut changed = file.clone();
        let at = file.len() - 1 - at % file.len();
        changed[at] = value;
        let _ = schemes(&changed);
        let _ = schemes(&changed[len..]);
    }
}

/// Signed once: making keys takes its time.
fn sample() -> Vec<u8> {
    static SAMPLE: std::sync::OnceLock<Vec<u8>> = std::sync::OnceLock::new();
    let make = || signed(&package(), &[(ID_V2, &Key::new("Paper Heron"), Says::default())]);
    SAMPLE.get_or_init(make).clone()
}
