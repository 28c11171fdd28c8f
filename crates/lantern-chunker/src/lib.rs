//! What has to look at every byte: where files are cut into chunks, samples of them, whether they look compressed already.
//!
//! Content-defined chunking is a format: a cut that moves makes every player download again.
//! Algorithm: FastCDC with normalised chunking. Source: W. Xia et al., "The Design of Fast Content-Defined Chunking for
//! Data Deduplication Based Storage Systems", IEEE TPDS 31(9), 2020, section 3
//! (<https://doi.org/10.1109/TPDS.2020.2984632>). Parameters, table and masks are fixed by the
//! profile's number, which stands in each recipe; golden vectors in the tests hold them. Why these: `docs/formats/recipe.md`.

mod packed;
mod samples;

use std::sync::OnceLock;

pub use packed::is_packed;
pub use samples::samples;

/// A chunker's parameters, by number.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Profile {
    /// 8 KiB at least, about 32 KiB, 128 KiB at most.
    Medium,
}

impl Profile {
    /// Shortest chunk, in bytes; only a file's last chunk may be shorter.
    pub const MIN_LEN: usize = 8 * 1024;
    /// Where the condition for a cut becomes easier, in bytes.
    pub const NORMAL_LEN: usize = 32 * 1024;
    /// Longest chunk, in bytes.
    pub const MAX_LEN: usize = 128 * 1024;
    /// Before [`Self::NORMAL_LEN`], 17 bits must be zero; behind it, 13. The highest bits, because they depend on the
    /// most bytes.
    const MASK_BEFORE: u64 = !0 << (64 - 17);
    const MASK_BEHIND: u64 = !0 << (64 - 13);

    /// Returns the number that stands in recipes.
    pub const fn number(self) -> u16 {
        match self {
            Self::Medium => 1,
        }
    }

    /// Returns the profile of a number.
    pub const fn of_number(number: u16) -> Option<Self> {
        match number {
            1 => Some(Self::Medium),
            _ => None,
        }
    }

    /// Returns the length of the first chunk of `data`.
    ///
    /// `data` holds at least [`Self::MAX_LEN`] bytes, or all that is left of the file. Returns 0 for no data.
    #[expect(clippy::indexing_slicing, reason = "bounds come from the length, and there is an entry for each byte")]
    pub fn cut(self, data: &[u8]) -> usize {
        let data = &data[..data.len().min(Self::MAX_LEN)];
        if data.len() <= Self::MIN_LEN {
            return data.len();
        }
        let table = gear_table();
        let normal = data.len().min(Self::NORMAL_LEN);
        let mut print = 0_u64;
        for (i, byte) in data[Self::MIN_LEN..normal].iter().enumerate() {
            print = (print << 1).wrapping_add(table[usize::from(*byte)]);
            if print & Self::MASK_BEFORE == 0 {
                return Self::MIN_LEN + i + 1;
            }
        }
        for (i, byte) in data[normal..].iter().enumerate() {
            print = (print << 1).wrapping_add(table[usize::from(*byte)]);
            if print & Self::MASK_BEHIND == 0 {
                return normal + i + 1;
            }
        }
        data.len()
    }
}

/// 256 numbers: the first 2048 bytes of BLAKE3's output under a context string, little-endian.
fn gear_table() -> &'static [u64; 256] {
    static TABLE: OnceLock<[u64; 256]> = OnceLock::new();
    TABLE.get_or_init(|| {
        let mut bytes = [0_u8; 2048];
        blake3::Hasher::new_derive_key("kind-lantern 2026-11-23 gear table, profile 1").finalize_xof().fill(&mut bytes);
        let mut table = [0; 256];
        for (slot, bytes) in table.iter_mut().zip(bytes.as_chunks::<8>().0) {
            *slot = u64::from_le_bytes(*bytes);
        }
        table
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Bytes that look random and are the same everywhere.
    pub(crate) fn noise(seed: &str, len: usize) -> Vec<u8> {
        let mut bytes = vec![0; len];
        blake3::Hasher::new().update(seed.as_bytes()).finalize_xof().fill(&mut bytes);
        bytes
    }

    fn cuts(mut data: &[u8]) -> Vec<usize> {
        let mut out = Vec::new();
        while !data.is_empty() {
            let len = Profile::Medium.cut(data);
            out.push(len);
            data = &data[len..];
        }
        out
    }

    #[test]
    fn golden_vectors() {
        // If these change, sealed builds would be cut again and every player would download everything again.
        assert_eq!((gear_table()[0], gear_table()[255]), (3_163_904_059_374_000_517, 13_997_537_030_385_041_282));
        let marsh = [33_319, 37_477, 11_816, 57_018, 42_555, 47_891, 33_925, 34_137, 1_862];
        assert_eq!(cuts(&noise("marsh", 300_000)), marsh);
        let tide = [33_574, 35_259, 20_229, 36_263, 33_821, 40_174, 680];
        assert_eq!(cuts(&noise("tide", 200_000)), tide);
        assert_eq!(cuts(&[0; 300_000]), [131_072, 131_072, 37_856]);
        assert_eq!(cuts(&noise("short", 8192)), [8192]);
        assert_eq!(Profile::Medium.cut(&[]), 0);
    }

    #[test]
    fn chunks_are_about_32_kib() {
        let cuts = cuts(&noise("average", 8 << 20));
        let mean = (8 << 20) / cuts.len();
        assert!((24 << 10..48 << 10).contains(&mean), "{mean}");
        let (last, whole) = cuts.split_last().unwrap();
        assert!(whole.iter().all(|len| (Profile::MIN_LEN..=Profile::MAX_LEN).contains(len)));
        assert!(*last <= Profile::MAX_LEN);
    }

    #[test]
    fn an_insertion_moves_few_cuts() {
        let data = noise("insertion", 4 << 20);
        let mut edited = data.clone();
        edited.splice(1_000_000..1_000_000, *b"a new letter");
        let set = |data: &[u8]| {
            let mut at = 0;
            let mut out = std::collections::BTreeSet::new();
            for len in cuts(data) {
                out.insert(blake3::hash(&data[at..at + len]).to_hex().to_string());
                at += len;
            }
            out
        };
        let (old, new) = (set(&data), set(&edited));
        assert!(new.difference(&old).count() <= 4);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(32))]
        #[test]
        fn a_cut_needs_no_more_than_the_longest_chunk(seed: String, len in 0_usize..400_000) {
            let data = noise(&seed, len);
            let window = &data[..len.min(Profile::MAX_LEN)];
            prop_assert_eq!(Profile::Medium.cut(&data), Profile::Medium.cut(window));
            prop_assert_eq!(cuts(&data).iter().sum::<usize>(), len);
        }
    }
}
