//! Whole numbers in as few bytes as they need: seven bits a byte, the lowest first (LEB128). Source: DWARF Debugging
//! Information Format, version 5, section 7.6.

use lantern_core::bytes::{ByteReader, ReadError};

/// Appends a number.
pub(crate) fn write(out: &mut Vec<u8>, mut value: u64) {
    while value >= 0x80 {
        out.push((value & 0x7f) as u8 | 0x80);
        value >>= 7;
    }
    out.push(value as u8);
}

/// Takes a number of at most 64 bits.
pub(crate) fn read(reader: &mut ByteReader<'_>, what: &'static str) -> Result<u64, ReadError> {
    let offset = reader.position();
    let mut value = 0_u64;
    for shift in (0..64).step_by(7) {
        let byte = reader.u8(what)?;
        let bits = u64::from(byte & 0x7f);
        // The tenth byte has room for one bit.
        if shift == 63 && byte > 1 {
            break;
        }
        value |= bits << shift;
        if byte < 0x80 {
            return Ok(value);
        }
    }
    Err(ReadError::Value { what, offset, why: "a number of more than 64 bits".to_owned() })
}

/// Small numbers of either sign as small numbers without one: 0, -1, 1, -2, …
pub(crate) const fn zigzag(value: i64) -> u64 {
    ((value << 1) ^ (value >> 63)) as u64
}

/// The reverse of [`zigzag`].
pub(crate) const fn unzigzag(value: u64) -> i64 {
    (value >> 1) as i64 ^ -((value & 1) as i64)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn known_numbers() {
        let bytes = |value| {
            let mut out = Vec::new();
            write(&mut out, value);
            out
        };
        assert_eq!((bytes(0), bytes(127), bytes(128), bytes(300)), (vec![0], vec![127], vec![128, 1], vec![172, 2]));
        assert_eq!((zigzag(0), zigzag(-1), zigzag(1), zigzag(i64::MIN)), (0, 1, 2, u64::MAX));
        for wrong in [&[0x80; 10][..], &[0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 2], &[0x80], &[]] {
            assert!(read(&mut ByteReader::new(wrong), "a test").is_err());
        }
    }

    proptest! {
        #[test]
        fn every_number_comes_back(value: u64, signed: i64) {
            let mut out = Vec::new();
            write(&mut out, value);
            prop_assert!(out.len() <= 10);
            prop_assert_eq!(read(&mut ByteReader::new(&out), "a test").unwrap(), value);
            prop_assert_eq!(unzigzag(zigzag(signed)), signed);
        }
    }
}
