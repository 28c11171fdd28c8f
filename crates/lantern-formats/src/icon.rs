//! The sizes of pictures in icon files, without decoding them.
//!
//! Source: Apple's icon type codes (`IconStorage.h` and `iconutil`'s names); PNG (ISO/IEC 15948:2004, section 11.2.2,
//! `IHDR`; <https://www.w3.org/TR/png-3/>).

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

/// Returns the width and height of a WebP picture from its first 30 bytes; none when it is no such picture.
///
/// Source: RFC 9649, section 2 (<https://www.rfc-editor.org/rfc/rfc9649>).
pub fn webp_size(bytes: &[u8]) -> Option<(u32, u32)> {
    let rest = bytes.strip_prefix(b"RIFF")?.get(4..)?.strip_prefix(b"WEBP")?;
    let number = |at: usize, len: usize| {
        let bytes = rest.get(at..at + len)?;
        Some(bytes.iter().rev().fold(0_u32, |value, byte| value << 8 | u32::from(*byte)))
    };
    match rest.get(..4)? {
        // The canvas, each less one, in three bytes.
        b"VP8X" => Some((number(12, 3)? + 1, number(15, 3)? + 1)),
        // 14 bits each, less one, behind a mark.
        b"VP8L" => {
            let bits = number(9, 4)?;
            Some(((bits & 0x3fff) + 1, (bits >> 14 & 0x3fff) + 1))
        }
        b"VP8 " => Some((number(14, 2)? & 0x3fff, number(16, 2)? & 0x3fff)),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_compressed_pictures_size() {
        let wide = b"RIFF\0\0\0\0WEBPVP8X\x0a\0\0\0\0\0\0\0\xbf\0\0\x5f\0\0";
        assert_eq!(webp_size(wide), Some((192, 96)));
        // 191 and 95 in 14 bits each.
        let bits = (191_u32 | 95 << 14).to_le_bytes();
        let lossless = [b"RIFF\0\0\0\0WEBPVP8L\x0a\0\0\0\x2f".as_slice(), &bits].concat();
        assert_eq!(webp_size(&lossless), Some((192, 96)));
        let lossy = b"RIFF\0\0\0\0WEBPVP8 \x0a\0\0\0\0\0\0\x9d\x01\x2a\xc0\0\x60\0";
        assert_eq!(webp_size(lossy), Some((192, 96)));
        assert_eq!(webp_size(&lossy[..28]), None);
    }

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
