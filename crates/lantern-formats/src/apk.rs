//! The signatures of an Android package over the whole file: schemes 2, 3 and 3.1.
//!
//! Source: "APK Signature Scheme v2" and "v3", the Android Open Source Project
//! (<https://source.android.com/docs/security/features/apksigning/v2>, `…/v3`, `…/v3-1`: "Format", "Verification"). Scheme 3.1 is scheme 3 for newer systems
//! alone, which then have another key. Everything is little-endian; `‖` are
//! parts with their length in 4 bytes before them.
//!
//! | part | holds |
//! |---|---|
//! | signing block, before the central directory | u64 size without itself, pairs, u64 size, `APK Sig Block 42` |
//! | pair | u64 length, u32 id (0x7109871a: scheme 2, 0xf05368c0: scheme 3, 0x1b93ad61: scheme 3.1), value |
//! | signer | ‖ signed data, in scheme 3 u32 oldest and newest system, ‖ signatures, ‖ public key |
//! | signed data | ‖ digests, ‖ certificates, in scheme 3 u32 oldest and newest system, ‖ attributes |
//!
//! What is hashed: everything before the block, the central directory, and the end record with the directory's offset
//! put to where the block starts; each in chunks of 1 MiB of its own.

pub mod lineage;

use std::collections::BTreeMap;
use std::io::{self, Read, Seek, SeekFrom};
use std::sync::Mutex;

use aws_lc_rs::signature as keys;
use lantern_core::bytes::{ByteReader, ReadError};
use lantern_core::parallel::{each, processors};
use x509_cert::Certificate;
use x509_cert::der::{Decode, Encode};

use crate::hash::{Algorithm, Hash, is_signed};
use crate::zip::{self, ZipError};

const ID_V2: u32 = 0x7109_871a;
const ID_V3: u32 = 0xf053_68c0;
const ID_V31: u32 = 0x1b93_ad61;
const ATTRIBUTE_STRIPPING: u32 = 0xbeef_f00d;
/// Says in scheme 3 since which system there is another key, in scheme 3.1.
const ATTRIBUTE_ROTATION: u32 = 0x559f_8b02;
/// Scheme 3.1, as a number.
const V31: u8 = 31;
const CHUNK_LEN: usize = 1024 * 1024;
/// Largest block that is read, in bytes. Ours: real ones have a few kilobytes, or some hundreds with a padding.
const MAX_BLOCK_LEN: u64 = 16 * 1024 * 1024;
/// Most signers. Source: `ApkSignatureSchemeV2Verifier` of the Android Open Source Project, whose limit it is.
const MAX_SIGNERS: usize = 10;

/// Why a signature could not be read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ApkError {
    /// The archive around it is broken.
    #[error(transparent)]
    Zip(#[from] ZipError),
    /// The block is broken.
    #[error(transparent)]
    Block(#[from] ReadError),
    /// The file could not be read.
    #[error("reading the package")]
    Io(#[from] io::Error),
}

/// Who signed a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignedBy {
    /// SHA-256 of the certificate: what places and devices know the key by.
    pub fingerprint: [u8; 32],
    /// The certificate's subject, as RFC 4514 writes it.
    pub subject: String,
}

impl SignedBy {
    /// What a certificate says, which is DER.
    ///
    /// # Errors
    /// [`ReadError`] for bytes that are none.
    pub fn of(certificate: &[u8]) -> Result<Self, ReadError> {
        let parsed = parse(certificate)?;
        Ok(Self {
            fingerprint: Hash::Sha256.digest(certificate).first_chunk().copied().unwrap_or_default(),
            subject: parsed.tbs_certificate.subject.to_string(),
        })
    }

    /// Whether it is a key that everybody has: one that developers' tools make, or one of the four that lie in the
    /// system's own public sources. No shop takes it.
    pub fn is_debug(&self) -> bool {
        self.subject.contains("CN=Android Debug")
            || self.subject.contains("EMAIL=android@android.com")
            || self.subject.contains("emailAddress=android@android.com")
    }
}

/// A signature over the whole file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Scheme {
    /// 2, 3, or 31 for scheme 3.1.
    pub version: u8,
    /// Who signed.
    pub signers: Vec<SignedBy>,
    /// Keys that the game had before, oldest first, when the key was changed.
    pub before: Vec<SignedBy>,
    /// Why it does not hold; none when it does.
    pub wrong: Option<String>,
}

/// How a scheme is called, by its number.
pub fn name_of_scheme(version: u8) -> String {
    if version == V31 { "3.1".to_owned() } else { version.to_string() }
}

fn parse(certificate: &[u8]) -> Result<Certificate, ReadError> {
    Certificate::from_der(certificate).map_err(|e| wrong("a certificate", &e.to_string()))
}

fn wrong(what: &'static str, why: &str) -> ReadError {
    ReadError::Value { what, offset: 0, why: why.to_owned() }
}

/// A part with its length before it.
fn part<'a>(reader: &mut ByteReader<'a>, what: &'static str) -> Result<&'a [u8], ReadError> {
    let len = reader.u32(what)? as usize;
    reader.slice(len, what)
}

/// Parts until the end.
fn parts<'a>(bytes: &'a [u8], what: &'static str) -> Result<Vec<&'a [u8]>, ReadError> {
    let mut reader = ByteReader::new(bytes);
    let mut out = Vec::new();
    while reader.remaining() > 0 {
        out.push(part(&mut reader, what)?);
    }
    Ok(out)
}

/// A number and a part, as digests and signatures are written.
fn numbered<'a>(bytes: &'a [u8], what: &'static str) -> Result<(u32, &'a [u8]), ReadError> {
    let mut reader = ByteReader::new(bytes);
    let number = reader.u32(what)?;
    let value = part(&mut reader, what)?;
    reader.end(what)?;
    Ok((number, value))
}

/// How an algorithm's content digest is made, by its number; none for those that are not understood.
fn hash_of(algorithm: u32) -> Option<Hash> {
    match algorithm {
        0x0101 | 0x0103 | 0x0201 => Some(Hash::Sha256),
        0x0102 | 0x0104 | 0x0202 => Some(Hash::Sha512),
        _ => None,
    }
}

/// Ways in which a key may have signed, by the algorithm's number; none for those that are not understood.
fn algorithms(number: u32) -> &'static [Algorithm] {
    match number {
        0x0101 => &[&keys::RSA_PSS_2048_8192_SHA256],
        0x0102 => &[&keys::RSA_PSS_2048_8192_SHA512],
        // Old games have keys of 1,024 bits, and keep them for ever.
        0x0103 => &[&keys::RSA_PKCS1_1024_8192_SHA256_FOR_LEGACY_USE_ONLY],
        0x0104 => &[&keys::RSA_PKCS1_1024_8192_SHA512_FOR_LEGACY_USE_ONLY],
        0x0201 => &[&keys::ECDSA_P256_SHA256_ASN1, &keys::ECDSA_P384_SHA256_ASN1, &keys::ECDSA_P521_SHA256_ASN1],
        0x0202 => &[&keys::ECDSA_P521_SHA512_ASN1],
        _ => &[],
    }
}

/// Where the parts of a package lie: its entries, the signing block behind them, the directory, and the record at the end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Parts {
    /// Where the entries end. The signing block begins there, if there is one.
    pub entries_end: u64,
    /// Where the directory begins.
    pub directory: u64,
    /// Where the record at the end begins.
    pub end: u64,
    /// Bytes of the whole file.
    pub file_len: u64,
}

/// Opens a package; several threads read it at once.
pub type Opener<'a, R> = &'a (dyn Fn() -> io::Result<R> + Sync);

/// The package, with the digests over it that were made already.
struct Package<'a, R> {
    open: Opener<'a, R>,
    parts: Parts,
    contents: BTreeMap<u8, Vec<u8>>,
}

/// Reads and verifies the signatures over the whole file; none where there is no signing block, or nothing known in it.
///
/// # Errors
/// [`ApkError`] when they cannot even be read.
pub fn verify<R: Read + Seek>(open: Opener<'_, R>) -> Result<Vec<Scheme>, ApkError> {
    let Some((parts, pairs)) = block(&mut open()?)? else { return Ok(Vec::new()) };
    let mut package = Package { open, parts, contents: BTreeMap::new() };
    let mut out = Vec::new();
    let has = |wanted: u32| pairs.iter().any(|(id, _)| *id == wanted);
    for (id, version) in [(ID_V2, 2), (ID_V3, 3), (ID_V31, V31)] {
        let Some((_, value)) = pairs.iter().find(|(known, _)| *known == id) else { continue };
        out.push(scheme(&mut package, version, value, (has(ID_V3), has(ID_V31)))?);
    }
    Ok(out)
}

/// The pairs of a signing block: a number that says what it is, and its bytes.
pub type Pairs = Vec<(u32, Vec<u8>)>;

impl Parts {
    /// Returns where the parts of a package lie that has no signing block.
    ///
    /// # Errors
    /// [`ApkError`] for what is no archive.
    pub fn of_unsigned<R: Read + Seek>(from: &mut R) -> Result<Self, ApkError> {
        let (directory, end) = zip::directory_and_end(from)?;
        Ok(Self { entries_end: directory, directory, end, file_len: from.seek(SeekFrom::End(0))? })
    }
}

/// Returns the digest over everything of a package but the signing block: what the schemes 2 and 3 sign.
///
/// # Errors
/// Those of reading, and [`ApkError`] for a package above 4 GiB.
pub fn content_digest<R: Read + Seek>(open: Opener<'_, R>, parts: Parts, hash: Hash) -> Result<Vec<u8>, ApkError> {
    Package { open, parts, contents: BTreeMap::new() }.content(hash)
}

/// Reads the signing block of a package, with where its parts lie; none where there is no block.
///
/// # Errors
/// [`ApkError`].
pub fn block<R: Read + Seek>(from: &mut R) -> Result<Option<(Parts, Pairs)>, ApkError> {
    let (directory, end) = zip::directory_and_end(from)?;
    let file_len = from.seek(SeekFrom::End(0))?;
    let mut read =
        |at: u64, len: u64| -> Result<Vec<u8>, ApkError> { Ok(zip::read_at(from, at, len, "the signing block")?) };
    let Some(foot_at) = directory.checked_sub(24) else { return Ok(None) };
    let foot = read(foot_at, 24)?;
    if !foot.ends_with(b"APK Sig Block 42") {
        return Ok(None);
    }
    let size = u64::from_le_bytes(*foot.first_chunk().unwrap_or(&[0; 8]));
    // The size leaves out its own first field.
    let start = directory.checked_sub(size).and_then(|at| at.checked_sub(8)).filter(|_| size >= 24);
    let start = start.ok_or_else(|| wrong("the signing block", "its size is impossible"))?;
    if size > MAX_BLOCK_LEN {
        return Err(wrong("the signing block", "it is larger than any real one").into());
    }
    if !foot.starts_with(&read(start, 8)?) {
        return Err(wrong("the signing block", "its two sizes differ").into());
    }
    let bytes = read(start + 8, size - 24)?;
    let mut reader = ByteReader::new(&bytes);
    let mut pairs = Vec::new();
    while reader.remaining() > 0 {
        let len = usize::try_from(reader.u64("a pair of the signing block")?).unwrap_or(usize::MAX);
        let value = reader.slice(len, "a pair of the signing block")?;
        let (id, value) =
            value.split_first_chunk::<4>().ok_or_else(|| wrong("a pair of the signing block", "it is too short"))?;
        pairs.push((u32::from_le_bytes(*id), value.to_vec()));
    }
    Ok(Some((Parts { entries_end: start, directory, end, file_len }, pairs)))
}

fn scheme<R: Read + Seek>(
    package: &mut Package<'_, R>,
    version: u8,
    value: &[u8],
    has: (bool, bool),
) -> Result<Scheme, ApkError> {
    let mut reader = ByteReader::new(value);
    let signers = parts(part(&mut reader, "the signers")?, "a signer")?;
    reader.end("the signers")?;
    let mut out = Scheme { version, signers: Vec::new(), before: Vec::new(), wrong: None };
    if signers.is_empty() || signers.len() > MAX_SIGNERS || (version >= 3 && signers.len() > 1) {
        out.wrong = Some(format!("it has {} signers", signers.len()));
        return Ok(out);
    }
    for bytes in signers {
        let found = signer(package, version, bytes, has)?;
        out.signers.push(found.signer);
        out.before.extend(found.before);
        out.wrong = out.wrong.or(found.wrong);
    }
    Ok(out)
}

struct Found {
    signer: SignedBy,
    before: Vec<SignedBy>,
    wrong: Option<String>,
}

fn signer<R: Read + Seek>(
    package: &mut Package<'_, R>,
    version: u8,
    bytes: &[u8],
    (has_v3, has_v31): (bool, bool),
) -> Result<Found, ApkError> {
    let mut reader = ByteReader::new(bytes);
    let signed = part(&mut reader, "the signed data")?;
    let outside = if version >= 3 { Some((reader.u32("minSdk")?, reader.u32("maxSdk")?)) } else { None };
    let signatures = parts(part(&mut reader, "the signatures")?, "a signature")?;
    let key = part(&mut reader, "the public key")?;
    reader.end("a signer")?;
    let signatures: Vec<(u32, &[u8])> =
        signatures.into_iter().map(|bytes| numbered(bytes, "a signature")).collect::<Result<_, _>>()?;

    let mut reader = ByteReader::new(signed);
    let digests = parts(part(&mut reader, "the digests")?, "a digest")?;
    let digests: Vec<(u32, &[u8])> =
        digests.into_iter().map(|bytes| numbered(bytes, "a digest")).collect::<Result<_, _>>()?;
    let certificates = parts(part(&mut reader, "the certificates")?, "a certificate")?;
    let inside = if version >= 3 { Some((reader.u32("minSdk")?, reader.u32("maxSdk")?)) } else { None };
    let attributes = if reader.remaining() > 0 { part(&mut reader, "the attributes")? } else { &[] };
    let first = certificates.first().ok_or_else(|| wrong("a signer", "it has no certificate"))?;
    let signer = SignedBy::of(first)?;
    let mut found = Found { signer, before: Vec::new(), wrong: None };

    let says = |text: &str| Some(text.to_owned());
    let own_key = parse(first)?.tbs_certificate.subject_public_key_info.to_der();
    let known = signatures.iter().filter(|(algorithm, _)| hash_of(*algorithm).is_some());
    // The strongest that is understood counts: the others can be of no help to anybody who changes the file.
    let Some((algorithm, signature)) =
        known.max_by_key(|(algorithm, _)| (hash_of(*algorithm) == Some(Hash::Sha512), *algorithm))
    else {
        found.wrong = says("it is made with algorithms that this lantern does not know");
        return Ok(found);
    };
    let same_lists = signatures.iter().map(|(a, _)| a).eq(digests.iter().map(|(a, _)| a));
    found.wrong = if !is_signed(algorithms(*algorithm), key, signed, signature) {
        says("it is not that of its key")
    } else if !same_lists {
        says("its lists of digests and signatures differ")
    } else if own_key.as_deref().ok() != Some(key) {
        says("its key is not that of the certificate")
    } else if outside != inside {
        says("the systems that it is for differ inside and outside")
    } else {
        None
    };
    for attribute in parts(attributes, "an attribute")? {
        let (id, value) = attribute.split_first_chunk::<4>().ok_or_else(|| wrong("an attribute", "it is too short"))?;
        match (version, u32::from_le_bytes(*id)) {
            (2, ATTRIBUTE_STRIPPING) if value == 3_u32.to_le_bytes() && !has_v3 => {
                found.wrong = found.wrong.or(says("a signature of scheme 3 was taken out"));
            }
            (3, ATTRIBUTE_ROTATION) if !has_v31 => {
                found.wrong = found.wrong.or(says("a signature of scheme 3.1 was taken out"));
            }
            (3 | V31, lineage::ATTRIBUTE) => match lineage::verify(value, first) {
                Ok(before) => found.before = before,
                Err(why) => found.wrong = found.wrong.or(Some(why)),
            },
            _ => {}
        }
    }
    if found.wrong.is_none() {
        let hash = hash_of(*algorithm).unwrap_or(Hash::Sha256);
        let stated = digests.iter().find(|(known, _)| known == algorithm).map(|(_, digest)| *digest);
        if stated != Some(package.content(hash)?.as_slice()) {
            found.wrong = says("the package was changed after it was signed");
        }
    }
    Ok(found)
}

impl<R: Read + Seek> Package<'_, R> {
    /// The digest over everything but the block.
    fn content(&mut self, hash: Hash) -> Result<Vec<u8>, ApkError> {
        if let Some(known) = self.contents.get(&hash.strength()) {
            return Ok(known.clone());
        }
        let Parts { entries_end, directory, end, file_len } = self.parts;
        // As if there were no block: the directory begins where the block does.
        let as_if = u32::try_from(entries_end).map_err(|_| wrong("the package", "it is above 4 GiB"))?.to_le_bytes();
        let parts = [(0, entries_end), (directory, end), (end, file_len)];
        let chunks: Vec<(u64, usize)> = parts.into_iter().flat_map(|(start, end)| chunks_of(start, end)).collect();
        let digests = Mutex::new(vec![0; chunks.len() * hash.len()]);
        let tools = || (self.open)().map(|from| (from, vec![0; CHUNK_LEN]));
        each(&chunks, processors(), tools, |tools, index, (at, len)| {
            let (from, buffer) = match tools {
                Ok(tools) => tools,
                Err(error) => return Err(io::Error::new(error.kind(), error.to_string())),
            };
            let chunk = buffer.get_mut(..*len).ok_or(io::ErrorKind::InvalidInput)?;
            from.seek(SeekFrom::Start(*at))?;
            from.read_exact(chunk)?;
            if let (true, Some(offset)) = (*at == end, chunk.get_mut(16..20)) {
                offset.copy_from_slice(&as_if);
            }
            let head = [&[0xa5][..], &u32::try_from(*len).unwrap_or(0).to_le_bytes()].concat();
            let digest = hash.digest_of([&head, chunk]);
            let place = index * hash.len();
            let mut digests = digests.lock().expect("nothing panics with the lock");
            let place = digests.get_mut(place..place + hash.len()).ok_or(io::ErrorKind::InvalidInput)?;
            place.copy_from_slice(&digest);
            Ok(())
        })?;
        let digests = digests.into_inner().expect("nothing panics with the lock");
        let count = u32::try_from(chunks.len()).unwrap_or(u32::MAX);
        let head = [&[0x5a][..], &count.to_le_bytes()].concat();
        let content = hash.digest_of([&head, &digests]);
        self.contents.insert(hash.strength(), content.clone());
        Ok(content)
    }
}

/// Cuts a part of the file into chunks: where each begins, and its length.
fn chunks_of(start: u64, end: u64) -> impl Iterator<Item = (u64, usize)> {
    (start..end).step_by(CHUNK_LEN).map(move |at| (at, usize::try_from(end - at).unwrap_or(CHUNK_LEN).min(CHUNK_LEN)))
}

#[cfg(test)]
mod tests;
