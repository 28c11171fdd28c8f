//! Chunks that are stored as the difference to others of the same store, as `docs/formats/pack.md` says: how many bases there are, their
//! digests, and a Zstandard frame (RFC 8878) that was written behind the bases' bytes.
//!
//! Only the store of a studio has them. What leaves it is whole: whoever gets a chunk need not have another for it.

use std::sync::Arc;

use lantern_core::compression::Compression;
use lantern_core::digest::Digest;
use zstd::zstd_safe::{CCtx, CParameter, DCtx, compress_bound, get_error_name};

use super::{CodecError, level};

/// Most chunks that one is a difference to. Measured on two exports: with eight a tenth less is stored, in a fifth more time.
pub const MAX_BASES: usize = 4;
const DIGEST_LEN: usize = 32;
/// Most bytes that say what a difference is to.
pub(crate) const MAX_HEAD_LEN: u32 = 1 + 4 * 32;
const _: () = assert!(MAX_HEAD_LEN as usize == 1 + MAX_BASES * DIGEST_LEN);

/// Gives the chunks that differences are to.
pub trait Bases: Sync {
    /// Returns a chunk's own bytes; none where it is not there, or is damaged.
    fn base(&self, digest: &Digest) -> Option<Arc<[u8]>>;
}

/// For places that hold no differences: every base is lacking.
#[derive(Debug, Clone, Copy)]
pub struct NoBases;

impl Bases for NoBases {
    fn base(&self, _: &Digest) -> Option<Arc<[u8]>> {
        None
    }
}

/// Takes a difference apart: the digests of its bases, and the frame.
///
/// # Errors
/// [`CodecError::Damaged`].
pub fn split(stored: &[u8]) -> Result<(Vec<Digest>, &[u8]), CodecError> {
    let damaged = || CodecError::Damaged("what it is a difference to is not said".to_owned());
    let (count, rest) = stored.split_first().ok_or_else(damaged)?;
    let count = usize::from(*count);
    if !(1..=MAX_BASES).contains(&count) {
        return Err(damaged());
    }
    let (names, frame) = rest.split_at_checked(count * DIGEST_LEN).ok_or_else(damaged)?;
    let names = names.chunks_exact(DIGEST_LEN).filter_map(|name| Some(Digest::from_bytes(*name.first_chunk()?)));
    Ok((names.collect(), frame))
}

/// Writes the bytes of a chunk as the difference to others, of which the one that is most like it comes last.
pub(crate) fn write(raw: &[u8], bases: &[(Digest, Arc<[u8]>)], compression: Compression) -> Option<Vec<u8>> {
    let before = bases.iter().map(|(_, bytes)| &bytes[..]).collect::<Vec<_>>().concat();
    let mut out = vec![u8::try_from(bases.len()).ok()?];
    bases.iter().for_each(|(name, _)| out.extend(name.as_bytes()));
    let mut frame = Vec::with_capacity(compress_bound(raw.len()));
    let mut context = CCtx::create();
    context.set_parameter(CParameter::CompressionLevel(level(compression))).ok()?;
    context.ref_prefix(&before).ok()?;
    context.compress2(&mut frame, raw).ok()?;
    out.extend(frame);
    Some(out)
}

/// Fills `raw`, up to its capacity, with the bytes that a frame gives behind those of its bases.
pub(crate) fn undo(bases: &[u8], frame: &[u8], raw: &mut Vec<u8>) -> Result<(), CodecError> {
    let damaged = |code| CodecError::Damaged(get_error_name(code).to_owned());
    let mut context = DCtx::create();
    context.ref_prefix(bases).map_err(damaged)?;
    context.decompress(raw, frame).map_err(damaged)?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::codec::{Codec, Unpacker};
    use crate::testing::noise;
    use std::collections::HashMap;

    impl Bases for HashMap<Digest, Arc<[u8]>> {
        fn base(&self, digest: &Digest) -> Option<Arc<[u8]>> {
            self.get(digest).cloned()
        }
    }

    fn base(seed: u64) -> (Digest, Arc<[u8]>) {
        let raw = noise(seed, 40_000);
        (Digest::of(&raw), raw.into())
    }

    #[test]
    fn a_difference_is_small_and_gives_the_chunk_back() {
        let bases = [base(1), base(2)];
        let raw = [&bases[0].1[10_000..30_000], b"and something else", &bases[1].1[5..9_000]].concat();
        let stored = write(&raw, &bases, Compression::default()).unwrap();
        assert!(stored.len() < 200, "{}", stored.len());
        assert_eq!(split(&stored).unwrap().0, bases.each_ref().map(|(name, _)| *name));
        let known: HashMap<_, _> = bases.iter().cloned().collect();
        let mut unpacker = Unpacker::new();
        assert_eq!(unpacker.unpack(Codec::Difference, &stored, raw.len(), &known).unwrap(), raw);
        // It is read again and again by the same unpacker, between others.
        assert_eq!(unpacker.unpack(Codec::Plain, b"x", 1, &NoBases).unwrap(), b"x");
        assert_eq!(unpacker.unpack(Codec::Difference, &stored, raw.len(), &known).unwrap(), raw);
        let short = unpacker.unpack(Codec::Difference, &stored, raw.len() - 1, &known);
        assert!(matches!(short, Err(CodecError::Length { .. })));
    }

    #[test]
    fn a_base_that_is_lacking_is_named() {
        let bases = [base(1), base(2)];
        let stored = write(b"a letter", &bases, Compression::default()).unwrap();
        let one: HashMap<_, _> = [bases[0].clone()].into();
        let said = Unpacker::new().unpack(Codec::Difference, &stored, 8, &one).unwrap_err();
        assert_eq!(said, CodecError::WithoutBase(bases[1].0));
    }

    #[test]
    fn what_is_no_difference_is_refused() {
        let bases = [base(1)];
        let known: HashMap<_, _> = bases.iter().cloned().collect();
        let raw = bases[0].1[..9_000].to_vec();
        let stored = write(&raw, &bases, Compression::default()).unwrap();
        let mut unpacker = Unpacker::new();
        for cut in 0..stored.len() {
            let read = unpacker.unpack(Codec::Difference, &stored[..cut], raw.len(), &known);
            assert!(read.is_err(), "{cut}");
        }
        for count in [0, 2, 5, 255] {
            let mut wrong = stored.clone();
            wrong[0] = count;
            assert!(unpacker.unpack(Codec::Difference, &wrong, raw.len(), &known).is_err(), "{count} bases");
        }
        // Of 10 MB that a frame claims nothing is unpacked.
        let bomb = write(&vec![0; 10 << 20], &bases, Compression::default()).unwrap();
        assert!(matches!(unpacker.unpack(Codec::Difference, &bomb, 1000, &known), Err(CodecError::Damaged(_))));
    }
}
