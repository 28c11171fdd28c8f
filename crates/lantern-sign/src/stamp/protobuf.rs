//! The manifest of a bundle's module. Source: `Resources.proto` of the Android Open Source Project, and "Encoding" of Protocol
//! Buffers (<https://protobuf.dev/programming-guides/encoding/>), as in `lantern_formats::android`.
//!
//! Fields are copied as they are, those that nobody here knows among them; what holds a changed one gets a new length.

use super::{Stamp, id};

/// Fields of the messages: a node's element; an element's attribute; an attribute's text, resource id and compiled item; an
/// item's text and primitive; a primitive's number.
const ELEMENT: u64 = 1;
const ATTRIBUTE: u64 = 4;
const TEXT: u64 = 3;
const ID: u64 = 5;
const ITEM: u64 = 6;
const ITEM_TEXT: u64 = 2;
const ITEM_PRIMITIVE: u64 = 7;
const TEXT_VALUE: u64 = 1;
const NUMBER: u64 = 6;

/// What was written.
#[derive(Debug, Default, PartialEq, Eq)]
pub(super) struct Written {
    version: bool,
    number: bool,
}

impl Written {
    /// Whether both were; else what there was no place for.
    pub(super) fn is_whole(&self) -> Result<(), &'static str> {
        match (self.number, self.version) {
            (false, _) => Err("versionCode"),
            (_, false) => Err("versionName"),
            _ => Ok(()),
        }
    }
}

/// The bytes are cut off, or no message.
#[derive(Debug, thiserror::Error)]
#[error("it is cut off, or no manifest")]
pub(super) struct Broken;

/// A field: its number, its value where it is a number, its content where it has one, and all its bytes.
struct Field<'a> {
    number: u64,
    value: Option<u64>,
    content: Option<&'a [u8]>,
    bytes: &'a [u8],
}

/// Returns a manifest with the stamp, and what of it was written.
pub(super) fn stamped(bytes: &[u8], stamp: &Stamp) -> Result<(Vec<u8>, Written), Broken> {
    let mut written = Written::default();
    let out = each(bytes, |node| {
        let Some(element) = node.content.filter(|_| node.number == ELEMENT) else { return Ok(node.bytes.to_vec()) };
        let element = each(element, |field| match field.content.filter(|_| field.number == ATTRIBUTE) {
            Some(content) => Ok(message(ATTRIBUTE, &attribute(content, stamp, &mut written)?)),
            None => Ok(field.bytes.to_vec()),
        })?;
        Ok(message(ELEMENT, &element))
    })?;
    Ok((out, written))
}

/// An attribute as it is with the stamp.
fn attribute(bytes: &[u8], stamp: &Stamp, written: &mut Written) -> Result<Vec<u8>, Broken> {
    let (mut id, mut is_compiled) = (0, false);
    each(bytes, |field| {
        if field.number == ID {
            id = field.value.unwrap_or_default();
        }
        is_compiled |= field.number == ITEM;
        Ok(Vec::new())
    })?;
    let number = |value: u32| message(ITEM, &message(ITEM_PRIMITIVE, &whole_number(NUMBER, value.into())));
    let (text, item) = match u32::try_from(id) {
        Ok(id::NUMBER) => {
            written.number = true;
            (stamp.number.to_string(), number(stamp.number))
        }
        Ok(id::NUMBER_MAJOR) => ("0".to_owned(), number(0)),
        Ok(id::VERSION) => {
            written.version = true;
            let text = message(ITEM_TEXT, &message(TEXT_VALUE, stamp.version.as_bytes()));
            (stamp.version.clone(), if is_compiled { message(ITEM, &text) } else { Vec::new() })
        }
        _ => return Ok(bytes.to_vec()),
    };
    let mut out = each(bytes, |field| match field.number {
        TEXT | ITEM => Ok(Vec::new()),
        _ => Ok(field.bytes.to_vec()),
    })?;
    // The order of fields means nothing.
    out.extend(message(TEXT, text.as_bytes()));
    out.extend(item);
    Ok(out)
}

/// Puts together what comes of each field of a message.
fn each<'a>(mut rest: &'a [u8], mut of: impl FnMut(Field<'a>) -> Result<Vec<u8>, Broken>) -> Result<Vec<u8>, Broken> {
    let mut out = Vec::with_capacity(rest.len());
    while !rest.is_empty() {
        let all = rest;
        let head = take_number(&mut rest)?;
        let (mut value, mut content) = (None, None);
        match head & 7 {
            0 => value = Some(take_number(&mut rest)?),
            1 => {
                take(&mut rest, 8)?;
            }
            2 => {
                let len = take_number(&mut rest)?;
                content = Some(take(&mut rest, len)?);
            }
            5 => {
                take(&mut rest, 4)?;
            }
            _ => return Err(Broken),
        }
        let bytes = all.get(..all.len() - rest.len()).unwrap_or_default();
        out.extend(of(Field { number: head >> 3, value, content, bytes })?);
    }
    Ok(out)
}

fn take<'a>(rest: &mut &'a [u8], len: u64) -> Result<&'a [u8], Broken> {
    let (part, after) = usize::try_from(len).ok().and_then(|len| rest.split_at_checked(len)).ok_or(Broken)?;
    *rest = after;
    Ok(part)
}

fn take_number(rest: &mut &[u8]) -> Result<u64, Broken> {
    let mut value = 0;
    for shift in (0..64).step_by(7) {
        let (first, after) = rest.split_first().ok_or(Broken)?;
        *rest = after;
        value |= u64::from(first & 0x7f) << shift;
        if first & 0x80 == 0 {
            return Ok(value);
        }
    }
    Err(Broken)
}

/// A number of variable length.
fn variable(mut value: u64) -> Vec<u8> {
    let mut out = Vec::new();
    while value > 0x7f {
        out.push((value & 0x7f) as u8 | 0x80);
        value >>= 7;
    }
    out.push((value & 0x7f) as u8);
    out
}

fn whole_number(number: u64, value: u64) -> Vec<u8> {
    [variable(number << 3), variable(value)].concat()
}

fn message(number: u64, content: &[u8]) -> Vec<u8> {
    [&variable(number << 3 | 2), &variable(content.len() as u64), content].concat()
}
