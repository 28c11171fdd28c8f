//! How private keys are encrypted under a passphrase.
//!
//! | | |
//! |---|---|
//! | read and written | PBES2 (RFC 8018, section 6.2, <https://www.rfc-editor.org/rfc/rfc8018>): PBKDF2 with HMAC-SHA-256, AES-256 in CBC mode |
//! | read | PBES2 with HMAC-SHA-1, -384, -512, AES-128, AES-192, three-key DES; the older ways of PKCS #12 (RFC 7292, appendix C, <https://www.rfc-editor.org/rfc/rfc7292>): three-key DES and RC2 of 128 and 40 bits with keys of SHA-1 |

use std::num::NonZeroU32;

use aws_lc_rs::cipher::{self, DecryptionContext, EncryptionContext};
use aws_lc_rs::cipher::{PaddedBlockDecryptingKey, PaddedBlockEncryptingKey, UnboundCipherKey};
use aws_lc_rs::digest;
use aws_lc_rs::iv::FixedLength;
use aws_lc_rs::pbkdf2;
use cbc::cipher::block_padding::Pkcs7;
use cbc::cipher::{BlockModeDecrypt, InnerIvInit, KeyInit};
use lantern_formats::hash::Hash;
use rc2::Rc2;
use zeroize::Zeroizing;

use crate::KeyError;
use crate::der::{self, Reader};
use crate::passphrase::Passphrase;

/// How often a passphrase is hashed in what we write. Ours: some 0.3 seconds of one processor.
pub const ROUNDS: u32 = 600_000;
/// Most that is read: a hostile file may not keep a computer busy for hours. Ours: ten times what careful programs write.
const MAX_ROUNDS: u64 = if cfg!(fuzzing) { 3_000 } else { 10_000_000 };

mod oid {
    pub(super) const PBES2: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 5, 13];
    pub(super) const PBKDF2: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 5, 12];
    /// HMAC with SHA-1, and without the last byte all others.
    pub(super) const HMAC: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 2];
    /// AES, without the last byte.
    pub(super) const AES: &[u8] = &[0x60, 0x86, 0x48, 1, 0x65, 3, 4, 1];
    pub(super) const DES_EDE3_CBC: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 3, 7];
    /// The older ways of PKCS #12, without the last byte.
    pub(super) const PKCS12_PBE: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 12, 1];
}

/// Three-key DES, which old files have. Nothing is written with it.
#[expect(deprecated, reason = "it is only read, and there are files that have nothing else")]
static DES_EDE3: &cipher::Algorithm = &cipher::DES_EDE3_FOR_LEGACY_USE_ONLY;

/// Refuses a number of rounds that no honest file has.
pub(crate) fn rounds(count: u64) -> Result<NonZeroU32, KeyError> {
    let bounded = u32::try_from(count).ok().filter(|_| count <= MAX_ROUNDS).and_then(NonZeroU32::new);
    bounded.ok_or(KeyError::TooManyRounds { count, most: MAX_ROUNDS })
}

/// What an encrypted part says of how it is encrypted, and its bytes.
pub(crate) struct Encrypted<'a> {
    /// The algorithm's identifier and parameters.
    pub algorithm: Reader<'a>,
    pub bytes: &'a [u8],
}

/// Decrypts with a passphrase.
///
/// # Errors
/// [`KeyError::Passphrase`] when it is another one; those of what cannot be read.
pub(crate) fn decrypt(encrypted: &Encrypted<'_>, passphrase: &Passphrase) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    let mut algorithm = encrypted.algorithm;
    let name = algorithm.bytes(der::OID, "the encryption")?;
    let parameters = algorithm.inside(der::SEQUENCE, "the encryption's parameters")?;
    if name == oid::PBES2 {
        return pbes2(parameters, encrypted.bytes, passphrase);
    }
    match name.strip_prefix(oid::PKCS12_PBE) {
        Some(&[3]) => pkcs12_des(parameters, encrypted.bytes, passphrase),
        Some(&[5]) => pkcs12_rc2(parameters, encrypted.bytes, passphrase, 16),
        Some(&[6]) => pkcs12_rc2(parameters, encrypted.bytes, passphrase, 5),
        _ => Err(KeyError::Unsupported(format!(
            "it is encrypted in a way that this lantern does not know ({})",
            dotted(name)
        ))),
    }
}

fn pbes2(mut parameters: Reader<'_>, bytes: &[u8], passphrase: &Passphrase) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    let mut derivation = parameters.inside(der::SEQUENCE, "the key derivation")?;
    let name = derivation.bytes(der::OID, "the key derivation")?;
    if name != oid::PBKDF2 {
        let what = format!("its key is derived in a way that this lantern does not know ({})", dotted(name));
        return Err(KeyError::Unsupported(what));
    }
    let mut derivation = derivation.inside(der::SEQUENCE, "the key derivation")?;
    let salt = derivation.bytes(der::OCTET_STRING, "the salt")?;
    let rounds = rounds(derivation.number("the number of rounds")?)?;
    if derivation.tag() == Some(der::INTEGER) {
        derivation.number("the key's length")?;
    }
    let hash = match derivation.is_empty() {
        true => &[7][..],
        false => {
            let name = derivation.inside(der::SEQUENCE, "the hash")?.bytes(der::OID, "the hash")?;
            name.strip_prefix(oid::HMAC).unwrap_or(name)
        }
    };
    let hash = match hash {
        [7] => pbkdf2::PBKDF2_HMAC_SHA1,
        [9] => pbkdf2::PBKDF2_HMAC_SHA256,
        [10] => pbkdf2::PBKDF2_HMAC_SHA384,
        [11] => pbkdf2::PBKDF2_HMAC_SHA512,
        other => {
            return Err(KeyError::Unsupported(format!(
                "its passphrase is hashed in a way that this lantern does not know ({})",
                dotted(other)
            )));
        }
    };
    let mut scheme = parameters.inside(der::SEQUENCE, "the cipher")?;
    let name = scheme.bytes(der::OID, "the cipher")?;
    let iv = scheme.bytes(der::OCTET_STRING, "the cipher's start")?;
    let (algorithm, len) = match name.strip_prefix(oid::AES) {
        Some(&[2]) => (&cipher::AES_128, 16),
        Some(&[22]) => (&cipher::AES_192, 24),
        Some(&[42]) => (&cipher::AES_256, 32),
        _ if name == oid::DES_EDE3_CBC => (DES_EDE3, 24),
        _ => {
            return Err(KeyError::Unsupported(format!(
                "its cipher is not one that this lantern knows ({})",
                dotted(name)
            )));
        }
    };
    let mut key = Zeroizing::new(vec![0; len]);
    pbkdf2::derive(hash, rounds, salt, passphrase.text().as_bytes(), &mut key);
    cbc_of(algorithm, &key, iv, bytes)
}

/// Decrypts in CBC mode. A padding that is not one is that of another passphrase.
fn cbc_of(
    algorithm: &'static cipher::Algorithm,
    key: &[u8],
    iv: &[u8],
    bytes: &[u8],
) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    let bad = || KeyError::Malformed("the cipher's start");
    let context = match algorithm.block_len() {
        16 => DecryptionContext::Iv128(FixedLength::from(
            *iv.first_chunk::<16>().filter(|_| iv.len() == 16).ok_or_else(bad)?,
        )),
        _ => DecryptionContext::Iv64(FixedLength::from(
            *iv.first_chunk::<8>().filter(|_| iv.len() == 8).ok_or_else(bad)?,
        )),
    };
    let key = UnboundCipherKey::new(algorithm, key)
        .and_then(PaddedBlockDecryptingKey::cbc_pkcs7)
        .map_err(|_| KeyError::Passphrase)?;
    let mut buffer = Zeroizing::new(bytes.to_vec());
    let len = key.decrypt(&mut buffer, context).map_err(|_| KeyError::Passphrase)?.len();
    buffer.truncate(len);
    Ok(buffer)
}

/// Salt and number of rounds of the older ways.
fn older(mut parameters: Reader<'_>) -> Result<(&[u8], NonZeroU32), KeyError> {
    let salt = parameters.bytes(der::OCTET_STRING, "the salt")?;
    Ok((salt, rounds(parameters.number("the number of rounds")?)?))
}

fn pkcs12_des(parameters: Reader<'_>, bytes: &[u8], passphrase: &Passphrase) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    let (salt, rounds) = older(parameters)?;
    let key = pkcs12_key(Hash::Sha1, Purpose::Key, passphrase, salt, rounds, 24);
    let iv = pkcs12_key(Hash::Sha1, Purpose::Start, passphrase, salt, rounds, 8);
    cbc_of(DES_EDE3, &key, &iv, bytes)
}

fn pkcs12_rc2(
    parameters: Reader<'_>,
    bytes: &[u8],
    passphrase: &Passphrase,
    len: usize,
) -> Result<Zeroizing<Vec<u8>>, KeyError> {
    let (salt, rounds) = older(parameters)?;
    let key = pkcs12_key(Hash::Sha1, Purpose::Key, passphrase, salt, rounds, len);
    let iv = pkcs12_key(Hash::Sha1, Purpose::Start, passphrase, salt, rounds, 8);
    let cipher = Rc2::new_from_slice(&key).map_err(|_| KeyError::Passphrase)?;
    let decryptor = cbc::Decryptor::inner_iv_slice_init(cipher, &iv).map_err(|_| KeyError::Passphrase)?;
    decryptor.decrypt_padded_vec::<Pkcs7>(bytes).map(Zeroizing::new).map_err(|_| KeyError::Passphrase)
}

/// What a key of PKCS #12 is for. Source: RFC 7292, appendix B.3.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Purpose {
    Key = 1,
    Start = 2,
    Mac = 3,
}

/// Derives a key as PKCS #12 does. Source: RFC 7292, appendix B.2; the names are those of its steps.
pub(crate) fn pkcs12_key(
    hash: Hash,
    purpose: Purpose,
    passphrase: &Passphrase,
    salt: &[u8],
    rounds: NonZeroU32,
    len: usize,
) -> Zeroizing<Vec<u8>> {
    let v = if hash.len() > 32 { 128 } else { 64 };
    let algorithm = match hash {
        Hash::Sha1 => &digest::SHA1_FOR_LEGACY_USE_ONLY,
        Hash::Sha256 => &digest::SHA256,
        Hash::Sha384 => &digest::SHA384,
        Hash::Sha512 => &digest::SHA512,
    };
    // UTF-16, its high byte first, with an end.
    let mut password = Zeroizing::new(Vec::new());
    for unit in passphrase.text().encode_utf16().chain([0]) {
        password.extend(unit.to_be_bytes());
    }
    let fill = |bytes: &[u8]| -> Zeroizing<Vec<u8>> {
        Zeroizing::new(bytes.iter().copied().cycle().take(bytes.len().div_ceil(v) * v).collect())
    };
    let d = vec![purpose as u8; v];
    let mut i = Zeroizing::new([fill(salt).as_slice(), fill(&password).as_slice()].concat());
    let mut out = Zeroizing::new(Vec::new());
    while out.len() < len {
        // The library's own function: it is as fast where nothing is optimised.
        let mut round = digest::digest(algorithm, &Zeroizing::new([&d[..], &i].concat()));
        for _ in 1..rounds.get() {
            round = digest::digest(algorithm, round.as_ref());
        }
        let a = Zeroizing::new(round.as_ref().to_vec());
        out.extend(a.iter());
        let b: Zeroizing<Vec<u8>> = Zeroizing::new(a.iter().copied().cycle().take(v).collect());
        for block in i.chunks_mut(v) {
            let mut carry = 1_u16;
            for (digit, add) in block.iter_mut().zip(b.iter()).rev() {
                carry += u16::from(*digit) + u16::from(*add);
                *digit = carry.to_le_bytes()[0];
                carry >>= 8;
            }
        }
    }
    out.truncate(len);
    out
}

/// Encrypts with what we write today; returns the algorithm's identifier with its parameters, and the bytes.
pub(crate) fn encrypt(
    bytes: &[u8],
    passphrase: &Passphrase,
    iterations: u32,
) -> Result<(Zeroizing<Vec<u8>>, Vec<u8>), KeyError> {
    let mut salt = [0; 16];
    let mut iv = [0; 16];
    getrandom::fill(&mut salt).map_err(|_| KeyError::NoRandom)?;
    getrandom::fill(&mut iv).map_err(|_| KeyError::NoRandom)?;
    let rounds = rounds(iterations.into())?;
    let mut key = Zeroizing::new([0; 32]);
    pbkdf2::derive(pbkdf2::PBKDF2_HMAC_SHA256, rounds, &salt, passphrase.text().as_bytes(), &mut *key);
    let key = UnboundCipherKey::new(&cipher::AES_256, &*key)
        .and_then(PaddedBlockEncryptingKey::cbc_pkcs7)
        .map_err(|_| KeyError::NoRandom)?;
    let mut out = bytes.to_vec();
    key.less_safe_encrypt(&mut out, EncryptionContext::Iv128(FixedLength::from(iv))).map_err(|_| KeyError::NoRandom)?;
    let name = |start: &[u8], last: u8| der::value(der::OID, &[start, &[last]]);
    let prf = der::sequence(&[&name(oid::HMAC, 9), &der::value(der::NULL, &[])]);
    let derivation = der::sequence(&[&der::value(der::OCTET_STRING, &[&salt]), &der::integer(iterations.into()), &prf]);
    let derivation = der::sequence(&[&der::value(der::OID, &[oid::PBKDF2]), &derivation]);
    let scheme = der::sequence(&[&name(oid::AES, 42), &der::value(der::OCTET_STRING, &[&iv])]);
    let parameters = der::sequence(&[&derivation, &scheme]);
    Ok((der::sequence(&[&der::value(der::OID, &[oid::PBES2]), &parameters]), out))
}

/// An object identifier as people write it.
pub(crate) fn dotted(oid: &[u8]) -> String {
    let mut numbers = Vec::new();
    let mut number = 0_u64;
    for byte in oid {
        number = number << 7 | u64::from(byte & 0x7f);
        if byte & 0x80 == 0 {
            numbers.push(number);
            number = 0;
        }
    }
    if let Some(first) = numbers.first().copied() {
        numbers.splice(..1, [(first / 40).min(2), first - 40 * (first / 40).min(2)]);
    }
    numbers.iter().map(u64::to_string).collect::<Vec<_>>().join(".")
}
