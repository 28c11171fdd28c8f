//! BER brought into DER. Source: ITU-T X.690, sections 8 to 11.

use x509_cert::der::asn1::OctetStringRef;
use x509_cert::der::{Decode, Reader, SliceReader};

/// Deepest nesting, and most members of a set, that are read. Ours: real messages have 15 levels and some ten members.
const MAX_DEPTH: usize = 64;
pub(super) const MAX_MEMBERS: usize = 1024;

/// Brings the first value of some bytes from BER into DER: every length known and in its shortest form, texts in one
/// part. None where it is cut off, nested too deeply, or has sets of more members than anybody needs.
pub fn der_of(bytes: &[u8]) -> Option<Vec<u8>> {
    let mut out = Vec::with_capacity(bytes.len());
    let mut rest = bytes;
    value_of(&mut rest, &mut out, 0)?;
    Some(out)
}

/// The tag of the certificates, among others.
pub(super) const CERTIFICATES: u8 = 0xa0;

/// Whether the marks of a value's end come next.
fn is_end(rest: &[u8]) -> bool {
    rest.starts_with(&[0, 0])
}

fn value_of(rest: &mut &[u8], out: &mut Vec<u8>, depth: usize) -> Option<()> {
    let (&tag, after) = rest.split_first()?;
    // Tags of several bytes stand in no message of this kind.
    if depth > MAX_DEPTH || tag & 0x1f == 0x1f {
        return None;
    }
    let (&first, after) = after.split_first()?;
    let is_constructed = tag & 0x20 != 0;
    let (mut content, after) = match first {
        0x80 if is_constructed => (after, None),
        0..=0x7f => {
            let (content, after) = after.split_at_checked(first.into())?;
            (content, Some(after))
        }
        _ => {
            let (digits, after) = after.split_at_checked(usize::from(first & 0x7f))?;
            if digits.len() > 4 || digits.is_empty() {
                return None;
            }
            let len = digits.iter().fold(0_usize, |len, digit| len << 8 | usize::from(*digit));
            let (content, after) = after.split_at_checked(len)?;
            (content, Some(after))
        }
    };
    if !is_constructed {
        write(tag, content, out);
        *rest = after?;
        return Some(());
    }
    let mut inner = Vec::new();
    let mut members: Vec<(usize, usize)> = Vec::new();
    while if after.is_some() { !content.is_empty() } else { !is_end(content) } {
        let start = inner.len();
        value_of(&mut content, &mut inner, depth + 1)?;
        if !matches!(tag, 0x31 | CERTIFICATES | 0xa1) {
            continue;
        }
        // off-spec: some writers put a certificate in twice, where the library reads a set with each value once; others add
        // some of a kind that was given up twenty years ago, by other tags (RFC 5652, section 10.2.2: obsolete).
        let is_same = |(from, to): &(usize, usize)| inner.get(*from..*to) == inner.get(start..);
        let is_other = !members.is_empty() && inner.get(start).is_some_and(|tag| tag & 0xc0 == 0x80);
        if tag == CERTIFICATES && (is_other || members.iter().any(is_same)) {
            inner.truncate(start);
        }
        members.push((start, inner.len()));
        if members.len() > MAX_MEMBERS {
            return None;
        }
    }
    *rest = match after {
        Some(after) => after,
        None => content.get(2..)?,
    };
    match tag {
        // off-spec: DER has no texts in parts (X.690, section 10.2), BER has. Only the parts' contents count.
        0x24 => {
            let mut whole = Vec::new();
            let mut parts = SliceReader::new(&inner).ok()?;
            while !parts.is_finished() {
                whole.extend(OctetStringRef::decode(&mut parts).ok()?.as_bytes());
            }
            write(0x04, &whole, out);
        }
        _ => write(tag, &inner, out),
    }
    Some(())
}

pub(super) fn write(tag: u8, content: &[u8], out: &mut Vec<u8>) {
    out.push(tag);
    let digits = content.len().to_be_bytes();
    match u8::try_from(content.len()) {
        Ok(len) if len < 0x80 => out.push(len),
        _ => {
            let first = digits.iter().position(|d| *d != 0).unwrap_or(digits.len() - 1);
            let digits = digits.get(first..).unwrap_or_default();
            out.push(0x80 | u8::try_from(digits.len()).unwrap_or(0));
            out.extend(digits);
        }
    }
    out.extend(content);
}
