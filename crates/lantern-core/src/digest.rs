//! Digests, and the four kinds of id that must never be mistaken for one another.
//!
//! Contents (files, chunks, packs, segments) are named by plain BLAKE3, so that any BLAKE3 program can check them.
//! Ids of structures are BLAKE3 in key-derivation mode with a context string of their own: equal bytes in two roles
//! give two different ids.

use std::cmp::Ordering;
use std::fmt;
use std::io::{self, Read};
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::bytes::{from_hex, hex};

use crate::progress::{Meter, Progress};

pub mod blocks;

/// Why a text is not a digest.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{text:?} is not a digest: expected \"blake3:\" and 64 hexadecimal digits in lower case")]
pub struct DigestError {
    text: String,
}

/// A BLAKE3 digest of 32 bytes; written `blake3:` and 64 lower-case hexadecimal digits.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct Digest([u8; 32]);

/// By their bytes, from the first on. Of two digests nearly always the first eight differ, and tables of millions are sorted by them.
impl Ord for Digest {
    fn cmp(&self, other: &Self) -> Ordering {
        let first = |digest: &Self| digest.0.first_chunk().map(|word| u64::from_be_bytes(*word));
        first(self).cmp(&first(other)).then_with(|| self.0.cmp(&other.0))
    }
}

impl PartialOrd for Digest {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Digest {
    /// Returns the plain BLAKE3 digest of `bytes`.
    pub fn of(bytes: &[u8]) -> Self {
        Self(*blake3::hash(bytes).as_bytes())
    }

    /// Returns the plain BLAKE3 digest of all that `reader` gives, read through `buffer`.
    ///
    /// # Errors
    /// The reader's; [`io::ErrorKind::Interrupted`] when someone asked to stop.
    #[expect(clippy::indexing_slicing, reason = "as much is read as the buffer holds")]
    pub fn of_reader(
        reader: &mut dyn Read,
        buffer: &mut [u8],
        meter: &dyn Meter,
        progress: &dyn Progress,
    ) -> io::Result<Self> {
        let mut hasher = blake3::Hasher::new();
        loop {
            let len = reader.read(buffer)?;
            if len == 0 {
                return Ok(Self(*hasher.finalize().as_bytes()));
            }
            if progress.stopped() {
                return Err(io::ErrorKind::Interrupted.into());
            }
            hasher.update(&buffer[..len]);
            meter.add(len as u64);
        }
    }

    /// Wraps 32 bytes that already are a digest.
    pub const fn from_bytes(bytes: [u8; 32]) -> Self {
        Self(bytes)
    }

    /// Returns the 32 bytes.
    pub const fn as_bytes(&self) -> &[u8; 32] {
        &self.0
    }

    /// Returns the 64 hexadecimal digits without the prefix; used for file names and addresses.
    pub fn hex(&self) -> String {
        hex(&self.0)
    }

    /// Reads 64 lower-case hexadecimal digits without the prefix.
    ///
    /// # Errors
    /// [`DigestError`] for every other text.
    pub fn from_hex(text: &str) -> Result<Self, DigestError> {
        let bytes = from_hex(text).and_then(|bytes| bytes.try_into().ok());
        bytes.map(Self).ok_or_else(|| DigestError { text: text.chars().take(80).collect() })
    }

    /// Returns the first 12 hexadecimal digits, for people.
    pub fn short(&self) -> String {
        self.hex().chars().take(12).collect()
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "blake3:{}", self.hex())
    }
}

impl fmt::Debug for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl FromStr for Digest {
    type Err = DigestError;
    fn from_str(text: &str) -> Result<Self, DigestError> {
        let hex = text.strip_prefix("blake3:").ok_or_else(|| DigestError { text: text.chars().take(80).collect() })?;
        Self::from_hex(hex)
    }
}

impl Serialize for Digest {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Digest {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

impl JsonSchema for Digest {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Digest".into()
    }
    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({ "type": "string", "pattern": "^blake3:[0-9a-f]{64}$" })
    }
}

macro_rules! id {
    ($(#[$doc:meta])* $name:ident, $context:literal) => {
        $(#[$doc])*
        #[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug, Serialize, Deserialize, JsonSchema)]
        #[serde(transparent)]
        pub struct $name(pub Digest);

        impl $name {
            /// The context string of this hash domain.
            pub const CONTEXT: &'static str = $context;

            /// Returns the id of the exact bytes of the structure.
            pub fn of(bytes: &[u8]) -> Self {
                Self(Digest(blake3::derive_key(Self::CONTEXT, bytes)))
            }

            /// Returns the id of bytes that come one part after the other.
            pub fn of_parts(give: impl FnOnce(&mut dyn FnMut(&[u8]))) -> Self {
                let mut hasher = blake3::Hasher::new_derive_key(Self::CONTEXT);
                give(&mut |part| _ = hasher.update(part));
                Self(Digest(*hasher.finalize().as_bytes()))
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                fmt::Display::fmt(&self.0, f)
            }
        }

        impl FromStr for $name {
            type Err = DigestError;
            fn from_str(text: &str) -> Result<Self, DigestError> {
                Ok(Self(text.parse()?))
            }
        }
    };
}

id!(
    /// What went into a release, without its number: decides "nothing changed".
    InputDigest,
    "kind-lantern 2026-11-23 input digest v1"
);
id!(
    /// A tree's content, free of chunking and compression: decides "the same content".
    TreeId,
    "kind-lantern 2026-11-23 tree id v1"
);
id!(
    /// A recipe's exact bytes: says how to fetch a tree.
    RecipeId,
    "kind-lantern 2026-11-23 recipe id v1"
);
id!(
    /// A release record's exact bytes: the identity of a release.
    ReleaseId,
    "kind-lantern 2026-11-23 release id v1"
);
id!(
    /// An invitation's secret bytes: what a storefront knows of it.
    InvitationId,
    "kind-lantern 2026-11-27 invitation id v1"
);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_digest_is_written_and_read_back() {
        let digest = Digest::of(b"letters by punt");
        assert_eq!(digest.to_string().parse::<Digest>(), Ok(digest));
        assert_eq!(Digest::from_hex(&digest.hex()), Ok(digest));
    }

    #[test]
    fn the_empty_digest_is_the_published_one() {
        // Source: the BLAKE3 test vectors, input_len 0.
        assert_eq!(Digest::of(b"").hex(), "af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262");
    }

    #[test]
    fn digests_are_in_the_order_of_their_bytes() {
        let mut digests: Vec<Digest> = (0..200_u8).map(|n| Digest::of(&[n])).collect();
        for place in 0..32 {
            let mut alike = *digests[0].as_bytes();
            alike[place] ^= 0x80;
            digests.push(Digest::from_bytes(alike));
        }
        for (a, b) in digests.iter().flat_map(|a| digests.iter().map(move |b| (a, b))) {
            assert_eq!(a.cmp(b), a.as_bytes().cmp(b.as_bytes()));
        }
    }

    #[test]
    fn other_texts_are_refused() {
        let good = Digest::of(b"x").to_string();
        for bad in ["", "blake3:", &good[1..], &good[..70], &good.to_uppercase(), &format!("{good}0"), "blake3:é"] {
            assert!(bad.parse::<Digest>().is_err(), "{bad:?}");
        }
    }

    #[test]
    fn the_same_bytes_have_another_id_in_each_role() {
        let ids = [TreeId::of(b"x").0, RecipeId::of(b"x").0, ReleaseId::of(b"x").0, InputDigest::of(b"x").0];
        for (i, a) in ids.iter().enumerate() {
            assert!(ids[i + 1..].iter().all(|b| a != b));
            assert_ne!(*a, Digest::of(b"x"));
        }
    }
}
