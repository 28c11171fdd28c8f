//! The sizes of pictures in icon files, without decoding them.
//!
//! Source: Apple's icon type codes (`IconStorage.h` and `iconutil`'s names); PNG (ISO/IEC 15948), the `IHDR` chunk.

/// Returns the widths that an Apple icon file holds, in pixels and in rising order; none when it is no such file.
pub fn icns_sizes(bytes: &[u8]) -> Option<Vec<u16>> {
    let mut rest = bytes.strip_prefix(b"icns")?.get(4..)?;
    let mut sizes = Vec::new();
    while let [a, b, c, d, len @ ..] = rest {
        let len = u32::from_be_bytes(*len.first_chunk::<4>()?) as usize;
        sizes.extend(match &[*a, *b, *c, *d] {
            b"is32" | b"icp4" | b"ic04" => Some(16),
            b"il32" | b"icp5" | b"ic05" | b"ic11" => Some(32),
            b"ih32" => Some(48),
            b"icp6" | b"ic12" => Some(64),
            b"it32" | b"ic07" => Some(128),
            b"ic08" | b"ic13" => Some(256),
            b"ic09" | b"ic14" => Some(512),
            b"ic10" => Some(1024),
            _ => None,
        });
        rest = rest.get(len.max(8)..).unwrap_or_default();
    }
    sizes.sort_unstable();
    sizes.dedup();
    Some(sizes)
}

/// Returns the width and height of a PNG picture from its first 24 bytes; none when it is no such picture.
pub fn png_size(bytes: &[u8]) -> Option<(u32, u32)> {
    let rest = bytes.strip_prefix(b"\x89PNG\r\n\x1a\n")?.get(4..)?.strip_prefix(b"IHDR")?;
    let number = |at: usize| Some(u32::from_be_bytes(*rest.get(at..)?.first_chunk::<4>()?));
    Some((number(0)?, number(4)?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_by_type() {
        let mut file = b"icns\0\0\0\0".to_vec();
        for kind in [b"ic10", b"TOC ", b"ic07", b"ic13"] {
            file.extend(kind);
            file.extend(12_u32.to_be_bytes());
            file.extend([0; 4]);
        }
        assert_eq!(icns_sizes(&file), Some(vec![128, 256, 1024]));
        file.truncate(20);
        assert_eq!(icns_sizes(&file), Some(vec![1024]));
        // A length of nothing must not be read for ever.
        assert_eq!(icns_sizes(b"icns\0\0\0\0ic07\0\0\0\0ic08\0\0\0\x08"), Some(vec![128, 256]));
        assert_eq!(icns_sizes(b"nothing of it"), None);
    }

    #[test]
    fn a_pictures_size() {
        let png = b"\x89PNG\r\n\x1a\n\0\0\0\x0dIHDR\0\0\x02\0\0\0\x01\0";
        assert_eq!(png_size(png), Some((512, 256)));
        assert_eq!(png_size(&png[..20]), None);
    }
}
