//! Samples of bytes, by which stretches that occur in two places are found.

/// One place in so many is a sample, where it depends on the bytes alone.
const SAMPLE_BITS: u32 = 11;
/// Bytes that a sample is of: two bits of the hash leave it with each.
const SAMPLE_LEN: usize = 32;

/// Takes samples of bytes: a hash of those that end where it begins with zeros, so that the same bytes give the same samples wherever they lie.
pub fn samples(raw: &[u8]) -> Vec<u64> {
    let mut hash = 0_u64;
    let mut out = Vec::new();
    for (at, byte) in raw.iter().enumerate() {
        hash = (hash << 2).wrapping_add(SPREAD.get(usize::from(*byte)).copied().unwrap_or_default());
        if hash >> (64 - SAMPLE_BITS) == 0 && at >= SAMPLE_LEN {
            out.push(hash);
        }
    }
    out
}

/// A number for each byte, as Marsaglia's xorshift gives them (13, 7, 17); any that are spread evenly would do.
const SPREAD: [u64; 256] = {
    let mut out = [0; 256];
    let (mut at, mut state) = (0, 0x9e37_79b9_7f4a_7c15_u64);
    while at < out.len() {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        #[expect(clippy::indexing_slicing, reason = "it is below the length")]
        {
            out[at] = state;
        }
        at += 1;
    }
    out
};

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::noise;

    #[test]
    fn samples_depend_on_the_bytes_alone() {
        let bytes = noise("ebb", 100_000);
        let all = samples(&bytes);
        assert!((30..70).contains(&all.len()), "{}", all.len());
        let behind = samples(&[b"low tide".as_slice(), &bytes[5_000..]].concat());
        let shared = behind.iter().filter(|sample| all.contains(sample)).count();
        assert!(shared + 6 >= all.len(), "{shared} of {}", all.len());
        assert!(samples(&[0; SAMPLE_LEN]).is_empty() && samples(&[]).is_empty());
    }
}
