//! Entitlements in DER, as newer systems read them.
//!
//! Source: Apple's technical note 3125, "Entitlements"
//! (<https://developer.apple.com/documentation/technotes/tn3125-inside-code-signing-provisioning-profiles>): `[APPLICATION 16]` with the version 1 and a dictionary `[16]`, whose members are
//! a SEQUENCE of a key and a value each; texts as UTF8String, lists as SEQUENCE.

use crate::plist::{Dictionary, Value};

const BOOLEAN: u8 = 0x01;
const INTEGER: u8 = 0x02;
const TEXT: u8 = 0x0c;
const SEQUENCE: u8 = 0x30;
const DICTIONARY: u8 = 0xb0;
const ENTITLEMENTS: u8 = 0x70;
/// Deepest nesting that is followed. Ours: real ones have three levels.
const MAX_DEPTH: usize = 16;

/// Cuts the next value off: its tag and its content.
fn next<'a>(rest: &mut &'a [u8]) -> Option<(u8, &'a [u8])> {
    let (&tag, after) = rest.split_first()?;
    let (&first, after) = after.split_first()?;
    let (len, after) = match first {
        0..=0x7f => (usize::from(first), after),
        _ => {
            let (digits, after) = after.split_at_checked(usize::from(first & 0x7f)).filter(|(d, _)| d.len() <= 4)?;
            (digits.iter().fold(0, |len, digit| len << 8 | usize::from(*digit)), after)
        }
    };
    let (content, after) = after.split_at_checked(len)?;
    *rest = after;
    Some((tag, content))
}

/// Reads them; none for bytes that are none.
pub(super) fn read(bytes: &[u8]) -> Option<Dictionary> {
    let (tag, mut rest) = next(&mut &bytes[..])?;
    let version = next(&mut rest)?;
    let (kind, content) = next(&mut rest)?;
    (tag == ENTITLEMENTS && version == (INTEGER, &[1]) && kind == DICTIONARY).then(|| dictionary(content, 0))?
}

fn dictionary(mut rest: &[u8], depth: usize) -> Option<Dictionary> {
    let mut out = Dictionary::new();
    while !rest.is_empty() {
        let (tag, mut pair) = next(&mut rest)?;
        let (kind, key) = next(&mut pair)?;
        let value = value(next(&mut pair)?, depth + 1)?;
        if tag != SEQUENCE || kind != TEXT || !pair.is_empty() {
            return None;
        }
        out.insert(String::from_utf8(key.to_vec()).ok()?, value);
    }
    Some(out)
}

fn value((tag, content): (u8, &[u8]), depth: usize) -> Option<Value> {
    if depth > MAX_DEPTH {
        return None;
    }
    Some(match tag {
        BOOLEAN => Value::Flag(content != [0]),
        INTEGER if content.len() <= 8 => {
            let sign = if content.first().is_some_and(|b| b & 0x80 != 0) { -1 } else { 0 };
            Value::Number(content.iter().fold(sign, |number: i64, byte| number << 8 | i64::from(*byte)))
        }
        TEXT => Value::Text(String::from_utf8(content.to_vec()).ok()?),
        SEQUENCE => {
            let mut rest = content;
            let mut list = Vec::new();
            while !rest.is_empty() {
                list.push(value(next(&mut rest)?, depth + 1)?);
            }
            Value::List(list)
        }
        DICTIONARY => Value::Dictionary(dictionary(content, depth)?),
        _ => Value::Other,
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::samples::der;

    fn sample() -> Vec<u8> {
        let pair = |key: &str, value: Vec<u8>| der(SEQUENCE, &[&der(TEXT, &[key.as_bytes()]), &value]);
        let list = der(SEQUENCE, &[&der(TEXT, &[b"HERON12345.post"])]);
        let pairs = [
            pair("application-identifier", der(TEXT, &[b"HERON12345.example"])),
            pair("get-task-allow", vec![BOOLEAN, 1, 0xff]),
            pair("groups", list),
            pair("level", vec![INTEGER, 1, 7]),
        ];
        der(ENTITLEMENTS, &[&[INTEGER, 1, 1], &der(DICTIONARY, &[&pairs.concat()])])
    }

    #[test]
    fn the_same_as_in_the_property_list() {
        let list = "<plist><dict><key>application-identifier</key><string>HERON12345.example</string>
            <key>get-task-allow</key><true/><key>groups</key><array><string>HERON12345.post</string></array>
            <key>level</key><integer>7</integer></dict></plist>";
        assert_eq!(read(&sample()), crate::plist::read(list.as_bytes()).ok());
        assert_eq!(read(&sample()[1..]), None);
        assert_eq!(read(&[ENTITLEMENTS, 0]), None);
    }

    proptest! {
        #[test]
        fn no_bytes_make_the_reader_panic(at: prop::sample::Index, value: u8, other: Vec<u8>) {
            let mut bytes = sample();
            let at = at.index(bytes.len());
            bytes[at] = value;
            let _ = (read(&bytes), read(&bytes[..at]), read(&other));
        }
    }
}
