//! The manifest of a bundle's module, in the form that the packer hands on.
//!
//! Source: the Android Open Source Project's `Resources.proto`, and "Encoding" of Protocol Buffers (<https://protobuf.dev/programming-guides/encoding/>): fields, each with
//! its number and kind in one number of variable length, then its value.
//!
//! | message | fields |
//! |---|---|
//! | node | 1 element, 2 text |
//! | element | 3 name, 4 attribute, 5 node |
//! | attribute | 2 name, 3 value as text, 5 resource id, 6 item |
//! | item | 2 text (1 value), 7 primitive (6 number, 7 number written as hexadecimal, 8 flag) |

use lantern_core::bytes::ReadError;

use super::{Attribute, MAX_ATTRIBUTES, MAX_DEPTH, MAX_TEXT_LEN, Value, Walk};

/// A field's value.
enum Field<'a> {
    Number(u64),
    Bytes(&'a [u8]),
    /// Of a fixed length, which nothing here is.
    Fixed,
}

impl<'a> Field<'a> {
    fn bytes(&self) -> &'a [u8] {
        if let Self::Bytes(bytes) = self { bytes } else { &[] }
    }

    fn text(&self) -> Option<String> {
        let bytes = self.bytes();
        (bytes.len() <= MAX_TEXT_LEN).then(|| String::from_utf8_lossy(bytes).into_owned())
    }

    fn number(&self) -> Option<u32> {
        // Negative numbers have all 64 bits.
        if let Self::Number(number) = self { u32::try_from(number & u64::from(u32::MAX)).ok() } else { None }
    }
}

fn cut() -> ReadError {
    ReadError::Value { what: "a bundle's manifest", offset: 0, why: "it is cut off, or no manifest".into() }
}

fn number(rest: &mut &[u8]) -> Result<u64, ReadError> {
    let mut value = 0_u64;
    for shift in (0..64).step_by(7) {
        let (first, after) = rest.split_first().ok_or_else(cut)?;
        *rest = after;
        value |= u64::from(first & 0x7f) << shift;
        if first & 0x80 == 0 {
            return Ok(value);
        }
    }
    Err(cut())
}

/// Cuts the next field off; none at the end.
fn next<'a>(rest: &mut &'a [u8]) -> Result<Option<(u64, Field<'a>)>, ReadError> {
    if rest.is_empty() {
        return Ok(None);
    }
    let head = number(rest)?;
    let mut take = |len: u64| {
        let len = usize::try_from(len).map_err(|_| cut())?;
        let (bytes, after) = rest.split_at_checked(len).ok_or_else(cut)?;
        *rest = after;
        Ok::<_, ReadError>(bytes)
    };
    let field = match head & 7 {
        0 => Field::Number(number(rest)?),
        1 => take(8).map(|_| Field::Fixed)?,
        2 => {
            let len = number(rest)?;
            let (bytes, after) = rest.split_at_checked(usize::try_from(len).unwrap_or(usize::MAX)).ok_or_else(cut)?;
            *rest = after;
            Field::Bytes(bytes)
        }
        5 => take(4).map(|_| Field::Fixed)?,
        _ => return Err(cut()),
    };
    Ok(Some((head >> 3, field)))
}

/// Has a visitor see every field of a message.
fn each<'a>(
    mut bytes: &'a [u8],
    mut see: impl FnMut(u64, Field<'a>) -> Result<(), ReadError>,
) -> Result<(), ReadError> {
    while let Some((number, field)) = next(&mut bytes)? {
        see(number, field)?;
    }
    Ok(())
}

/// Walks through a node and those in it.
pub(super) fn node(bytes: &[u8], walk: &mut Walk) -> Result<(), ReadError> {
    each(bytes, |number, field| if number == 1 { element(field.bytes(), walk) } else { Ok(()) })
}

fn element(bytes: &[u8], walk: &mut Walk) -> Result<(), ReadError> {
    if walk.way.len() >= MAX_DEPTH {
        return Err(ReadError::Value {
            what: "a bundle's manifest",
            offset: 0,
            why: "elements are nested too deeply".into(),
        });
    }
    let (mut name, mut attributes) = (None, Vec::new());
    each(bytes, |number, field| {
        match number {
            3 => name = field.text(),
            4 if attributes.len() < MAX_ATTRIBUTES => attributes.extend(attribute(field.bytes())?),
            _ => {}
        }
        Ok(())
    })?;
    walk.start(name.unwrap_or_default(), &attributes);
    each(bytes, |number, field| if number == 5 { node(field.bytes(), walk) } else { Ok(()) })?;
    walk.end();
    Ok(())
}

fn attribute(bytes: &[u8]) -> Result<Option<Attribute>, ReadError> {
    let (mut name, mut text, mut id, mut compiled) = (None, None, None, None);
    each(bytes, |number, field| {
        match number {
            2 => name = field.text(),
            3 => text = field.text(),
            5 => id = field.number().filter(|id| *id != 0),
            6 => compiled = item(field.bytes())?,
            _ => {}
        }
        Ok(())
    })?;
    let is_package = id.is_none() && name.as_deref() == Some("package");
    Ok(compiled.or_else(|| text.map(Value::Text)).map(|value| Attribute { id, is_package, value }))
}

fn item(bytes: &[u8]) -> Result<Option<Value>, ReadError> {
    let mut out = None;
    each(bytes, |number, field| match number {
        2 => each(field.bytes(), |number, field| {
            if number == 1 {
                out = field.text().map(Value::Text);
            }
            Ok(())
        }),
        7 => each(field.bytes(), |number, field| {
            match number {
                6 | 7 => out = field.number().map(Value::Number),
                8 => out = field.number().map(|flag| Value::Flag(flag != 0)),
                _ => {}
            }
            Ok(())
        }),
        _ => Ok(()),
    })?;
    Ok(out)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::{Manifest, id};
    use crate::samples::seed;

    fn varint(mut value: u64) -> Vec<u8> {
        let mut out = Vec::new();
        while value > 0x7f {
            out.push((value & 0x7f) as u8 | 0x80);
            value >>= 7;
        }
        out.push(value as u8);
        out
    }

    fn bytes(number: u64, content: &[u8]) -> Vec<u8> {
        [varint(number << 3 | 2), varint(content.len() as u64), content.to_vec()].concat()
    }

    fn flat(number: u64, value: u64) -> Vec<u8> {
        [varint(number << 3), varint(value)].concat()
    }

    fn attribute(name: &str, id: u32, value: &[u8]) -> Vec<u8> {
        let id = if id == 0 { Vec::new() } else { flat(5, id.into()) };
        bytes(4, &[bytes(2, name.as_bytes()), id, value.to_vec()].concat())
    }

    fn text(value: &str) -> Vec<u8> {
        bytes(3, value.as_bytes())
    }

    fn primitive(number: u64, value: u64) -> Vec<u8> {
        bytes(6, &bytes(7, &flat(number, value)))
    }

    fn element(name: &str, parts: &[Vec<u8>]) -> Vec<u8> {
        bytes(1, &[bytes(3, name.as_bytes()), parts.concat()].concat())
    }

    fn child(name: &str, parts: &[Vec<u8>]) -> Vec<u8> {
        bytes(5, &element(name, parts))
    }

    fn sample() -> Vec<u8> {
        let named = |name: &str, what: &str| child(name, &[attribute("name", id::NAME, &text(what))]);
        let filter = child(
            "intent-filter",
            &[named("action", "android.intent.action.MAIN"), named("category", "android.intent.category.LAUNCHER")],
        );
        let activity = child("activity", &[attribute("name", id::NAME, &text("example.paperheron.Post")), filter]);
        let debuggable = attribute("debuggable", id::DEBUGGABLE, &primitive(8, 1));
        element(
            "manifest",
            &[
                attribute("package", 0, &text("example.paperheron.saltmarsh")),
                attribute("versionCode", id::VERSION_CODE, &primitive(6, 27)),
                attribute("versionName", id::VERSION_NAME, &bytes(6, &bytes(2, &bytes(1, b"1.4.0")))),
                child("uses-sdk", &[attribute("minSdkVersion", id::MIN_SDK, &text("24"))]),
                child("application", &[debuggable, activity]),
            ],
        )
    }

    #[test]
    fn what_a_module_says() {
        seed("manifest", "bundle", &sample());
        let found = Manifest::read_of_bundle(&sample()).unwrap();
        assert_eq!((found.package.as_str(), found.version_code), ("example.paperheron.saltmarsh", Some(27)));
        assert_eq!((found.version_name.as_deref(), found.min_sdk), (Some("1.4.0"), Some(24)));
        assert_eq!(found.launcher.as_deref(), Some("example.paperheron.Post"));
        assert!(found.is_debuggable && !found.is_test_only);
    }

    #[test]
    fn broken_and_hostile_manifests() {
        let whole = sample();
        for len in 0..whole.len() {
            assert!(Manifest::read_of_bundle(&whole[..len]).is_err(), "{len}");
        }
        let mut deep = element("x", &[]);
        for _ in 0..10_000 {
            deep = element("x", &[bytes(5, &deep)]);
            if deep.len() > 60_000 {
                break;
            }
        }
        assert!(Manifest::read_of_bundle(&deep).unwrap_err().to_string().contains("nested too deeply"));
    }

    proptest! {
        #[test]
        fn no_bytes_make_the_reader_panic(at: prop::sample::Index, value: u8, other: Vec<u8>) {
            let mut bytes = sample();
            let at = at.index(bytes.len());
            bytes[at] = value;
            let _ = Manifest::read_of_bundle(&bytes);
            let _ = Manifest::read_of_bundle(&other);
        }
    }
}
