//! A private key in memory, and what it signs.
//!
//! Signatures are deterministic: RSA with the padding of PKCS #1 v1.5 (RFC 8017, section 8.2), P-256 with the nonce of RFC
//! 6979 (<https://www.rfc-editor.org/rfc/rfc6979>). The same bytes and key give the same signature on every computer.

use std::fmt;

use aws_lc_rs::encoding::AsDer;
use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::rsa::KeySize;
use aws_lc_rs::signature::{self, KeyPair as _, RsaKeyPair};
use lantern_formats::hash::Hash;
use p256::ecdsa::signature::hazmat::PrehashSigner;
use zeroize::Zeroizing;

use crate::KeyError;
use crate::der::{self, Reader};

/// What kind of key it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Algorithm {
    /// RSA, with the bits of its modulus.
    Rsa(u16),
    /// The elliptic curve P-256.
    P256,
}

impl fmt::Display for Algorithm {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Rsa(bits) => write!(f, "RSA {bits}"),
            Self::P256 => f.write_str("P-256"),
        }
    }
}

/// What signs: a key of the keyring, or something that has the key elsewhere. All that signs a format knows it by this alone.
pub trait Signer: fmt::Debug + Send + Sync {
    /// What kind of key it is.
    fn algorithm(&self) -> Algorithm;

    /// The certificate, as DER, and those above it.
    fn chain(&self) -> &[Vec<u8>];

    /// Signs a message, of which this hash is made: RSA with PKCS #1 v1.5, ECDSA as DER.
    ///
    /// # Errors
    /// [`KeyError`], with what is known of why.
    fn sign(&self, hash: Hash, message: &[u8]) -> Result<Vec<u8>, KeyError>;
}

enum Pair {
    Rsa(RsaKeyPair),
    P256(Box<p256::ecdsa::SigningKey>),
}

/// A private key. Its bytes are wiped when it is dropped.
pub struct PrivateKey {
    pair: Pair,
    /// As PKCS #8 has it (RFC 5958, version 1).
    pkcs8: Zeroizing<Vec<u8>>,
}

impl fmt::Debug for PrivateKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "PrivateKey({})", self.algorithm())
    }
}

/// `rsaEncryption`, 1.2.840.113549.1.1.1.
pub(crate) const RSA: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 1, 1, 1];
/// `id-ecPublicKey`, 1.2.840.10045.2.1.
pub(crate) const EC: &[u8] = &[0x2a, 0x86, 0x48, 0xce, 0x3d, 2, 1];
/// `prime256v1`, 1.2.840.10045.3.1.7.
pub(crate) const PRIME256: &[u8] = &[0x2a, 0x86, 0x48, 0xce, 0x3d, 3, 1, 7];

/// The algorithm of a public or private key, as its container names it.
fn identifier(algorithm: Algorithm) -> Zeroizing<Vec<u8>> {
    let oid = |bytes| der::value(der::OID, &[bytes]);
    match algorithm {
        Algorithm::Rsa(_) => der::sequence(&[&oid(RSA), &der::value(der::NULL, &[])]),
        Algorithm::P256 => der::sequence(&[&oid(EC), &oid(PRIME256)]),
    }
}

fn pkcs8_of(algorithm: Algorithm, inner: &[u8]) -> Zeroizing<Vec<u8>> {
    der::sequence(&[&der::integer(0), &identifier(algorithm), &der::value(der::OCTET_STRING, &[inner])])
}

impl PrivateKey {
    /// Makes a new one: RSA with 3,072 or 4,096 bits, or P-256.
    ///
    /// # Errors
    /// [`KeyError::NoRandom`]; [`KeyError::Unsupported`] for other lengths.
    pub fn generate(algorithm: Algorithm) -> Result<Self, KeyError> {
        let size = match algorithm {
            Algorithm::Rsa(3072) => KeySize::Rsa3072,
            Algorithm::Rsa(4096) => KeySize::Rsa4096,
            Algorithm::Rsa(_) => {
                return Err(KeyError::Unsupported(format!("{algorithm} is not made any more; RSA 3072 and 4096 are")));
            }
            Algorithm::P256 => loop {
                let mut scalar = Zeroizing::new([0; 32]);
                getrandom::fill(&mut *scalar).map_err(|_| KeyError::NoRandom)?;
                // Of 2^32 draws one lies beyond the curve's order.
                if let Ok(key) = Self::of_scalar(&scalar) {
                    return Ok(key);
                }
            },
        };
        let pair = RsaKeyPair::generate(size).map_err(|_| KeyError::NoRandom)?;
        let der = pair.as_der().map_err(|_| KeyError::NoRandom)?;
        Self::from_pkcs8(der.as_ref())
    }

    /// A key of PKCS #8, not encrypted.
    ///
    /// # Errors
    /// [`KeyError::Malformed`]; [`KeyError::Unsupported`] for kinds that no signed format here knows.
    pub fn from_pkcs8(bytes: &[u8]) -> Result<Self, KeyError> {
        let mut info = Reader::new(bytes).inside(der::SEQUENCE, "the private key")?;
        info.number("the private key's version")?;
        let mut algorithm = info.inside(der::SEQUENCE, "the private key's kind")?;
        let kind = algorithm.bytes(der::OID, "the private key's kind")?;
        let inner = info.bytes(der::OCTET_STRING, "the private key")?;
        match kind {
            RSA => Self::from_pkcs1(inner),
            EC => match algorithm.bytes(der::OID, "the curve")? {
                PRIME256 => Self::from_sec1(inner),
                other => Err(other_kind(&format!("of the curve {}", crate::protection::dotted(other)))),
            },
            other => Err(other_kind(&format!("of the kind {}", crate::protection::dotted(other)))),
        }
    }

    /// An RSA key of PKCS #1 (RFC 8017, appendix A.1.2).
    ///
    /// # Errors
    /// As [`Self::from_pkcs8`].
    pub fn from_pkcs1(bytes: &[u8]) -> Result<Self, KeyError> {
        let mut inner = Reader::new(bytes).inside(der::SEQUENCE, "the RSA key")?;
        inner.number("the RSA key's version")?;
        let modulus = inner.bytes(der::INTEGER, "the RSA key's modulus")?;
        let bits = modulus.strip_prefix(&[0]).unwrap_or(modulus).len() * 8;
        if bits < 2048 {
            return Err(other_kind(&format!(
                "RSA with {bits} bits, which can be broken: 2,048 are the least that is signed with"
            )));
        }
        let pair = RsaKeyPair::from_der(bytes).map_err(|_| KeyError::Malformed("the RSA key"))?;
        let pkcs8 = pkcs8_of(Algorithm::Rsa(0), bytes);
        Ok(Self { pair: Pair::Rsa(pair), pkcs8 })
    }

    /// A key of the curve P-256, as SEC 1 has it (RFC 5915, section 3).
    ///
    /// # Errors
    /// As [`Self::from_pkcs8`].
    pub fn from_sec1(bytes: &[u8]) -> Result<Self, KeyError> {
        let mut inner = Reader::new(bytes).inside(der::SEQUENCE, "the key of the curve")?;
        inner.number("the version of the curve's key")?;
        let scalar = inner.bytes(der::OCTET_STRING, "the key of the curve")?;
        if inner.tag() == Some(0xa0) {
            let curve = inner.inside(0xa0, "the curve")?.bytes(der::OID, "the curve")?;
            if curve != PRIME256 {
                return Err(other_kind(&format!("of the curve {}", crate::protection::dotted(curve))));
            }
        }
        Self::of_scalar(
            scalar
                .first_chunk::<32>()
                .filter(|_| scalar.len() == 32)
                .ok_or(KeyError::Malformed("the key of the curve"))?,
        )
    }

    /// The key of the curve P-256 whose secret number is this one. What is not random there is nobody's secret: for tests, and for
    /// who makes the number elsewhere.
    ///
    /// # Errors
    /// [`KeyError::Malformed`] for zero, and for what lies beyond the curve's order.
    pub fn of_scalar(scalar: &[u8; 32]) -> Result<Self, KeyError> {
        let key =
            p256::ecdsa::SigningKey::from_slice(scalar).map_err(|_| KeyError::Malformed("the key of the curve"))?;
        let point = key.verifying_key().to_sec1_point(false);
        let public = der::value(0xa1, &[&der::value(der::BIT_STRING, &[&[0], point.as_bytes()])]);
        let sec1 = der::sequence(&[&der::integer(1), &der::value(der::OCTET_STRING, &[scalar]), &public]);
        Ok(Self { pair: Pair::P256(Box::new(key)), pkcs8: pkcs8_of(Algorithm::P256, &sec1) })
    }

    /// What kind it is.
    pub fn algorithm(&self) -> Algorithm {
        match &self.pair {
            Pair::Rsa(pair) => Algorithm::Rsa(u16::try_from(pair.public_modulus_len() * 8).unwrap_or(u16::MAX)),
            Pair::P256(_) => Algorithm::P256,
        }
    }

    /// The public key as a certificate has it (RFC 5280, `SubjectPublicKeyInfo`).
    pub fn public(&self) -> Vec<u8> {
        let key = match &self.pair {
            Pair::Rsa(pair) => pair.public_key().as_ref().to_vec(),
            Pair::P256(key) => key.verifying_key().to_sec1_point(false).as_bytes().to_vec(),
        };
        der::sequence(&[&identifier(self.algorithm()), &der::value(der::BIT_STRING, &[&[0], &key])]).to_vec()
    }

    /// As PKCS #8 has it, not encrypted: for what encrypts it.
    pub(crate) fn pkcs8(&self) -> &[u8] {
        &self.pkcs8
    }

    /// Signs a message.
    ///
    /// # Errors
    /// [`KeyError::Unsupported`] for a hash that is not signed with.
    pub fn sign(&self, hash: Hash, message: &[u8]) -> Result<Vec<u8>, KeyError> {
        match &self.pair {
            Pair::Rsa(pair) => {
                let padding = match hash {
                    Hash::Sha256 => &signature::RSA_PKCS1_SHA256,
                    Hash::Sha384 => &signature::RSA_PKCS1_SHA384,
                    Hash::Sha512 => &signature::RSA_PKCS1_SHA512,
                    Hash::Sha1 => return Err(KeyError::Unsupported("nothing is signed with SHA-1".to_owned())),
                };
                let mut out = vec![0; pair.public_modulus_len()];
                pair.sign(padding, &SystemRandom::new(), message, &mut out).map_err(|_| KeyError::NoRandom)?;
                Ok(out)
            }
            Pair::P256(key) => {
                if hash == Hash::Sha1 {
                    return Err(KeyError::Unsupported("nothing is signed with SHA-1".to_owned()));
                }
                let signature: p256::ecdsa::Signature =
                    key.sign_prehash(&hash.digest(message)).map_err(|_| KeyError::Malformed("the key of the curve"))?;
                let (r, s) = signature.split_bytes();
                Ok(der::sequence(&[&der::unsigned(&r), &der::unsigned(&s)]).to_vec())
            }
        }
    }
}

fn other_kind(what: &str) -> KeyError {
    KeyError::Unsupported(format!("the key is {what}"))
}

#[cfg(test)]
mod tests {
    use aws_lc_rs::signature::{ECDSA_P256_SHA256_ASN1, UnparsedPublicKey};

    use super::*;

    /// RFC 6979, appendix A.2.5: the key of the curve P-256, SHA-256 and the message "sample".
    #[test]
    fn the_known_answer_of_rfc_6979() {
        let hex = |text: &str| -> Vec<u8> {
            (0..text.len()).step_by(2).map(|at| u8::from_str_radix(&text[at..at + 2], 16).unwrap()).collect()
        };
        let scalar = hex("C9AFA9D845BA75166B5C215767B1D6934E50C3DB36E89B127B8A622B120F6721");
        let key = PrivateKey::of_scalar(scalar.first_chunk().unwrap()).unwrap();
        let r = hex("EFD48B2AACB6A8FD1140DD9CD45E81D69D2C877B56AAF991C34D0EA84EAF3716");
        let s = hex("F7CB1C942D657C41D436C7A1B6E29F65F3E900DBB9AFF4064DC4AB2F843ACDA8");
        let expected = der::sequence(&[&der::unsigned(&r), &der::unsigned(&s)]);
        assert_eq!(key.sign(Hash::Sha256, b"sample").unwrap(), *expected);
        assert!(key.sign(Hash::Sha1, b"sample").is_err());
    }

    #[test]
    fn what_is_made_signs_and_can_be_read_again() {
        let key = PrivateKey::generate(Algorithm::P256).unwrap();
        let again = PrivateKey::from_pkcs8(key.pkcs8()).unwrap();
        assert_eq!(again.public(), key.public());
        let signature = again.sign(Hash::Sha256, b"a letter").unwrap();
        let public = key.public();
        let point = &public[public.len() - 65..];
        UnparsedPublicKey::new(&ECDSA_P256_SHA256_ASN1, point).verify(b"a letter", &signature).unwrap();
        assert_ne!(PrivateKey::generate(Algorithm::P256).unwrap().public(), key.public());
        assert_eq!(format!("{key:?}"), "PrivateKey(P-256)");
    }

    #[test]
    fn what_is_no_key_is_refused() {
        for bytes in [&b""[..], b"0", &[0x30, 0x80], &[0x30, 3, 2, 1, 0], &[0xff; 40]] {
            assert!(
                PrivateKey::from_pkcs8(bytes).is_err()
                    && PrivateKey::from_pkcs1(bytes).is_err()
                    && PrivateKey::from_sec1(bytes).is_err()
            );
        }
        assert!(matches!(PrivateKey::generate(Algorithm::Rsa(1024)), Err(KeyError::Unsupported(_))));
        assert!(PrivateKey::of_scalar(&[0; 32]).is_err());
        assert!(PrivateKey::of_scalar(&[0xff; 32]).is_err());
    }
}
