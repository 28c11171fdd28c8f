//! The little of DER that key files and signatures need. Source: ITU-T X.690, sections 8 and 10.
//!
//! What is read may be hostile: a length beyond the bytes is an error, nothing is allocated from a length.

use zeroize::Zeroizing;

/// A whole number.
pub const INTEGER: u8 = 0x02;
/// Bits; the first byte says how many of the last are unused.
pub const BIT_STRING: u8 = 0x03;
/// Bytes.
pub const OCTET_STRING: u8 = 0x04;
/// Nothing.
pub const NULL: u8 = 0x05;
/// An object identifier.
pub const OID: u8 = 0x06;
/// A text.
pub const UTF8_STRING: u8 = 0x0c;
/// Values one after the other.
pub const SEQUENCE: u8 = 0x30;
/// Values sorted by their bytes.
pub const SET: u8 = 0x31;

/// What could not be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Malformed(
    /// What it was to be.
    pub &'static str,
);

/// Reads values one after the other.
#[derive(Debug, Clone, Copy)]
pub struct Reader<'a> {
    rest: &'a [u8],
}

impl<'a> Reader<'a> {
    /// Reads from the first byte on.
    pub fn new(bytes: &'a [u8]) -> Self {
        Self { rest: bytes }
    }

    /// Whether everything was read.
    pub fn is_empty(&self) -> bool {
        self.rest.is_empty()
    }

    /// The tag of the next value; none at the end.
    pub fn tag(&self) -> Option<u8> {
        self.rest.first().copied()
    }

    /// The next value: its tag, its content, and all of its bytes.
    fn next(&mut self, what: &'static str) -> Result<(u8, &'a [u8], &'a [u8]), Malformed> {
        let bad = || Malformed(what);
        let (&[tag, first], mut rest) = self.rest.split_first_chunk::<2>().ok_or_else(bad)?;
        let len = match first {
            0..=0x7f => usize::from(first),
            0x81..=0x84 => {
                let (digits, after) = rest.split_at_checked(usize::from(first & 0x7f)).ok_or_else(bad)?;
                rest = after;
                digits.iter().fold(0, |len, digit| len << 8 | usize::from(*digit))
            }
            _ => return Err(bad()),
        };
        let (content, after) = rest.split_at_checked(len).ok_or_else(bad)?;
        let whole = self.rest.get(..self.rest.len() - after.len()).ok_or_else(bad)?;
        self.rest = after;
        Ok((tag, content, whole))
    }

    /// The content of the next value, which has this tag.
    ///
    /// # Errors
    /// [`Malformed`] when there is something else, or less.
    pub fn bytes(&mut self, tag: u8, what: &'static str) -> Result<&'a [u8], Malformed> {
        match self.next(what)? {
            (found, content, _) if found == tag => Ok(content),
            _ => Err(Malformed(what)),
        }
    }

    /// What stands in the next value, which has this tag.
    ///
    /// # Errors
    /// [`Malformed`] when there is something else, or less.
    pub fn inside(&mut self, tag: u8, what: &'static str) -> Result<Reader<'a>, Malformed> {
        self.bytes(tag, what).map(Reader::new)
    }

    /// The next value with tag and length.
    ///
    /// # Errors
    /// [`Malformed`] when there is something else, or less.
    pub fn whole(&mut self, what: &'static str) -> Result<&'a [u8], Malformed> {
        self.next(what).map(|(_, _, whole)| whole)
    }

    /// A whole number that fits.
    ///
    /// # Errors
    /// [`Malformed`] when there is something else, or less.
    pub fn number(&mut self, what: &'static str) -> Result<u64, Malformed> {
        let digits = self.bytes(INTEGER, what)?;
        let digits = digits.strip_prefix(&[0]).unwrap_or(digits);
        if digits.len() > 8 {
            return Err(Malformed(what));
        }
        Ok(digits.iter().fold(0, |value, digit| value << 8 | u64::from(*digit)))
    }
}

/// Writes a value. What is secret in it is wiped when it is dropped.
pub fn value(tag: u8, parts: &[&[u8]]) -> Zeroizing<Vec<u8>> {
    let len: usize = parts.iter().map(|part| part.len()).sum();
    let digits = len.to_be_bytes();
    let zeros = digits.iter().take_while(|digit| **digit == 0).count();
    let digits = digits.get(zeros..).unwrap_or_default();
    let mut out = Vec::with_capacity(len + 2 + digits.len());
    out.push(tag);
    match u8::try_from(len) {
        Ok(short) if short < 0x80 => out.push(short),
        _ => {
            out.push(0x80 | u8::try_from(digits.len()).unwrap_or(8));
            out.extend(digits);
        }
    }
    for part in parts {
        out.extend(*part);
    }
    Zeroizing::new(out)
}

/// Writes a sequence of values.
pub fn sequence(parts: &[&[u8]]) -> Zeroizing<Vec<u8>> {
    value(SEQUENCE, parts)
}

/// A whole number that is not negative.
pub fn integer(value: u64) -> Zeroizing<Vec<u8>> {
    unsigned(&value.to_be_bytes())
}

/// A whole number of any length that is not negative, its highest byte first.
pub fn unsigned(digits: &[u8]) -> Zeroizing<Vec<u8>> {
    let zeros = digits.iter().take_while(|digit| **digit == 0).count();
    let digits = digits.get(zeros..).unwrap_or_default();
    let needs_zero = digits.first().is_none_or(|first| *first >= 0x80);
    value(INTEGER, &[if needs_zero { &[0] } else { &[] }, digits])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lengths_and_numbers() {
        assert_eq!(*integer(0), [2, 1, 0]);
        assert_eq!(*integer(127), [2, 1, 127]);
        assert_eq!(*integer(128), [2, 2, 0, 128]);
        assert_eq!(*integer(600_000), [2, 3, 9, 0x27, 0xc0]);
        for len in [0, 1, 127, 128, 255, 256, 70_000] {
            let bytes = value(OCTET_STRING, &[&vec![7; len]]);
            let mut reader = Reader::new(&bytes);
            assert_eq!(reader.bytes(OCTET_STRING, "it").unwrap(), vec![7; len]);
            assert!(reader.is_empty());
        }
    }

    #[test]
    fn what_is_cut_off_is_an_error_at_every_place() {
        let bytes = sequence(&[&integer(5), &value(OCTET_STRING, &[&[1; 200]])]);
        for len in 0..bytes.len() {
            assert!(Reader::new(&bytes[..len]).inside(SEQUENCE, "it").is_err());
        }
        assert_eq!(Reader::new(&[2, 9, 1, 1, 1, 1, 1, 1, 1, 1, 1]).number("n"), Err(Malformed("n")));
        assert_eq!(Reader::new(&[4, 0x85, 0, 0, 0, 0, 1, 7]).bytes(4, "n"), Err(Malformed("n")));
    }
}
