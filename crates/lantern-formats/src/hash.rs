//! The hash functions of signatures, and the signatures of keys over them: what every signed format shares. Source: FIPS
//! 180-4, section 6 (SHA-1, SHA-2; <https://csrc.nist.gov/pubs/fips/180-4/upd1/final>); RFC 8017, sections 8.1 and 8.2 (RSA;
//! <https://www.rfc-editor.org/rfc/rfc8017>); FIPS 186-5, section 6 (ECDSA; <https://csrc.nist.gov/pubs/fips/186-5/final>).

use std::io::{self, Read};

use aws_lc_rs::digest::{Context, SHA1_FOR_LEGACY_USE_ONLY, SHA256, SHA384, SHA512};
use aws_lc_rs::signature::{UnparsedPublicKey, VerificationAlgorithm};

/// Bytes that are hashed at a time.
pub const READ_LEN: usize = 64 * 1024;

/// A hash function.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Hash {
    /// Broken for most purposes; old signatures have it.
    Sha1,
    /// What signatures have today.
    Sha256,
    /// Longer.
    Sha384,
    /// Longest.
    Sha512,
}

impl Hash {
    /// How much harder than others it is to break.
    pub(crate) fn strength(self) -> u8 {
        match self {
            Self::Sha1 => 0,
            Self::Sha256 => 1,
            Self::Sha384 => 2,
            Self::Sha512 => 3,
        }
    }

    /// Returns the number of bytes of its digests.
    #[expect(clippy::len_without_is_empty, reason = "no digest is empty")]
    pub fn len(self) -> usize {
        match self {
            Self::Sha1 => 20,
            Self::Sha256 => 32,
            Self::Sha384 => 48,
            Self::Sha512 => 64,
        }
    }

    /// Starts a digest over what comes piece by piece.
    pub fn start(self) -> Hasher {
        Hasher(Context::new(match self {
            Self::Sha1 => &SHA1_FOR_LEGACY_USE_ONLY,
            Self::Sha256 => &SHA256,
            Self::Sha384 => &SHA384,
            Self::Sha512 => &SHA512,
        }))
    }

    /// Returns the digest of bytes.
    pub fn digest(self, bytes: &[u8]) -> Vec<u8> {
        self.digest_of([bytes])
    }

    /// Returns the digest of what is read.
    ///
    /// # Errors
    /// Those of reading.
    pub fn digest_of_reader(self, from: &mut dyn Read) -> io::Result<Vec<u8>> {
        let mut hasher = self.start();
        let mut buffer = vec![0; READ_LEN];
        loop {
            match from.read(&mut buffer) {
                Ok(0) => return Ok(hasher.finish()),
                Ok(len) => hasher.update(buffer.get(..len).unwrap_or_default()),
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
    }

    /// Returns the digest of pieces, one behind the other.
    pub fn digest_of<const N: usize>(self, pieces: [&[u8]; N]) -> Vec<u8> {
        let mut hasher = self.start();
        pieces.into_iter().for_each(|piece| hasher.update(piece));
        hasher.finish()
    }
}

/// A digest over what comes piece by piece.
pub struct Hasher(Context);

impl Hasher {
    /// Adds the next piece.
    pub fn update(&mut self, piece: &[u8]) {
        self.0.update(piece);
    }

    /// Returns the digest.
    pub fn finish(self) -> Vec<u8> {
        self.0.finish().as_ref().to_vec()
    }
}

/// A way in which a key may have signed.
pub(crate) type Algorithm = &'static dyn VerificationAlgorithm;

/// Whether a signature over a message is that of a key, which is an X.509 public key in DER, in one of several ways.
pub(crate) fn is_signed(algorithms: &[Algorithm], key: &[u8], message: &[u8], signature: &[u8]) -> bool {
    algorithms.iter().any(|algorithm| UnparsedPublicKey::new(*algorithm, key).verify(message, signature).is_ok())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The digests of "abc" that FIPS 180-4's examples give, by their first bytes.
    #[test]
    fn the_published_digests() {
        let first = |hash: Hash| hash.digest_of([b"a", b"bc"])[..4].to_vec();
        assert_eq!(first(Hash::Sha1), [0xa9, 0x99, 0x3e, 0x36]);
        assert_eq!(first(Hash::Sha256), [0xba, 0x78, 0x16, 0xbf]);
        assert_eq!(first(Hash::Sha384), [0xcb, 0x00, 0x75, 0x3f]);
        assert_eq!(first(Hash::Sha512), [0xdd, 0xaf, 0x35, 0xa1]);
    }
}
