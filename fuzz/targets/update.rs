#![no_main]
//! Reads the head of an update file, and applies a group whose streams are what it is given: each ends with an error, or with as many bytes
//! as it promised.

use std::io;

use lantern_update::{Header, Old, OpenGroup, Part};

struct Installed {
    sizes: [u64; 2],
    bytes: Vec<u8>,
}

impl Old for Installed {
    fn sizes(&self) -> &[u64] {
        &self.sizes
    }

    fn read(&self, file: usize, offset: u64, out: &mut [u8]) -> io::Result<()> {
        let size = usize::try_from(self.sizes[file]).map_err(io::Error::other)?;
        let start = usize::try_from(offset).map_err(io::Error::other)?;
        assert!(start + out.len() <= size, "nothing outside of an old file is asked for");
        for (at, byte) in out.iter_mut().enumerate() {
            *byte = self.bytes.get((start + at) % self.bytes.len().max(1)).copied().unwrap_or(0);
        }
        Ok(())
    }
}

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let _ = Header::decode(bytes);
    let Some((lens, mut rest)) = bytes.split_at_checked(12) else { return };
    let mut streams: [Vec<u8>; 6] = Default::default();
    for (stream, len) in streams.iter_mut().zip(lens.chunks_exact(2)) {
        let len = usize::from(u16::from_le_bytes([len[0], len[1]])).min(rest.len());
        let (taken, after) = rest.split_at(len);
        (*stream, rest) = (taken.to_vec(), after);
    }
    let old = Installed { sizes: [5_000, 70_000], bytes: rest.to_vec() };
    let parts = vec![Part { file: 0, offset: 0, len: 3_000 }, Part { file: 1, offset: 100, len: 80_000 }];
    let Ok(open) = OpenGroup::of_parts(parts, streams, &old.sizes, &[3_000, 80_100]) else { return };
    for (number, part) in open.parts().enumerate() {
        let mut out = Vec::new();
        if open.apply(number, &old, &mut out).is_ok() {
            assert_eq!(out.len() as u64, part.len);
        }
    }
});
