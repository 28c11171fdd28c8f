//! Property lists, in XML or binary.
//!
//! Source: Apple's `PropertyList-1.0.dtd` (<http://www.apple.com/DTDs/PropertyList-1.0.dtd>), and `CFBinaryPList.c`, "HEADER" to "TRAILER"
//! (<https://github.com/apple-oss-distributions/CF/blob/main/CFBinaryPList.c>), for the binary form: `bplist00`, objects, a table of
//! their offsets, and a trailer of 32 bytes with the sizes of offsets and references, the number of objects, the top
//! one, and where the table lies. A binary list may lead in circles or name one object very often: what is read has a
//! deepest nesting, a largest number of values and a largest size.

use std::collections::BTreeMap;

use crate::offset_reader::FormatError;

/// Deepest nesting, most values, and most bytes of texts and data, that are read. Ours: the list of a bundle with
/// 50,000 files has 200,000 values.
const MAX_DEPTH: usize = 32;
const MAX_VALUES: usize = 400_000;
const MAX_BYTES: usize = 24 * 1024 * 1024;

/// A value of a list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Value {
    /// Values by their keys.
    Dictionary(Dictionary),
    /// Values in their order.
    List(Vec<Self>),
    /// A text.
    Text(String),
    /// Bytes.
    Data(Vec<u8>),
    /// True or false.
    Flag(bool),
    /// Without what stands behind the point.
    Number(i64),
    /// As RFC 3339 writes it in XML, and in seconds since 2001 in binary lists.
    Date(String),
    /// Whatever else there is.
    Other,
}

/// Values by their keys.
pub type Dictionary = BTreeMap<String, Value>;

impl Value {
    /// Returns the text, where it is one.
    pub fn text(&self) -> Option<&str> {
        if let Self::Text(text) = self { Some(text) } else { None }
    }

    /// Returns the bytes, where it is some.
    pub fn data(&self) -> Option<&[u8]> {
        if let Self::Data(data) = self { Some(data) } else { None }
    }

    /// Returns the values of a list; none where it is none.
    pub fn list(&self) -> &[Self] {
        if let Self::List(list) = self { list } else { &[] }
    }

    /// Returns the values by their keys, where it has some.
    pub fn dictionary(&self) -> Option<&Dictionary> {
        if let Self::Dictionary(dictionary) = self { Some(dictionary) } else { None }
    }
}

/// What is left of what may be read.
struct Budget {
    values: usize,
    bytes: usize,
}

impl Budget {
    fn new() -> Self {
        Self { values: MAX_VALUES, bytes: MAX_BYTES }
    }

    fn take(&mut self, bytes: usize) -> Option<()> {
        self.values = self.values.checked_sub(1)?;
        self.bytes = self.bytes.checked_sub(bytes)?;
        Some(())
    }
}

/// Reads the dictionary at the top of a list.
///
/// # Errors
/// [`FormatError::Not`] for bytes that are no property list, or that have no dictionary at their top.
pub fn read(bytes: &[u8]) -> Result<Dictionary, FormatError> {
    let found = if bytes.starts_with(b"bplist0") { binary(bytes) } else { xml(bytes) };
    match found {
        Some(Value::Dictionary(dictionary)) => Ok(dictionary),
        _ => Err(FormatError::Not { format: "a property list with a dictionary" }),
    }
}

fn number(bytes: &[u8]) -> usize {
    bytes.iter().fold(0, |value: usize, b| value.saturating_mul(256).saturating_add(usize::from(*b)))
}

/// A binary list, with what is needed to find its objects.
struct Binary<'a> {
    bytes: &'a [u8],
    table: usize,
    offset_len: usize,
    ref_len: usize,
    budget: Budget,
}

fn binary(bytes: &[u8]) -> Option<Value> {
    let trailer: &[u8; 32] = bytes.last_chunk()?;
    let (offset_len, ref_len) = (usize::from(trailer[6]), usize::from(trailer[7]));
    let (top, table) = (number(trailer.get(16..24)?), number(trailer.get(24..32)?));
    if !(1..=8).contains(&offset_len) || !(1..=8).contains(&ref_len) {
        return None;
    }
    Binary { bytes, table, offset_len, ref_len, budget: Budget::new() }.value(top, 0)
}

impl Binary<'_> {
    fn value(&mut self, index: usize, depth: usize) -> Option<Value> {
        let at = self.table.checked_add(index.checked_mul(self.offset_len)?)?;
        let object = self.bytes.get(number(self.bytes.get(at..at.checked_add(self.offset_len)?)?)..)?;
        let (kind, count, rest) = head(object)?;
        if depth > MAX_DEPTH {
            return None;
        }
        self.budget.take(0)?;
        let ref_len = self.ref_len;
        let reference = |i: usize| Some(number(rest.get(i.checked_mul(ref_len)?..(i + 1).checked_mul(ref_len)?)?));
        Some(match kind {
            0x0 => match count {
                8 => Value::Flag(false),
                9 => Value::Flag(true),
                _ => Value::Other,
            },
            0x1 => Value::Number(i64::try_from(number(rest.get(..1 << count.min(3))?)).unwrap_or(i64::MAX)),
            0x2 => Value::Number(whole(real(rest, 1 << count.min(3))?)),
            0x3 => {
                let seconds = real(rest, 8)?;
                Value::Date(format!("{seconds:.0}"))
            }
            0x4 => {
                self.budget.take(count)?;
                Value::Data(rest.get(..count)?.to_vec())
            }
            0x5 | 0x6 => {
                self.budget.take(count)?;
                Value::Text(text(kind, count, rest)?)
            }
            0xa => {
                let mut list = Vec::new();
                for i in 0..count {
                    list.push(self.value(reference(i)?, depth + 1)?);
                }
                Value::List(list)
            }
            0xd => {
                let mut out = Dictionary::new();
                for i in 0..count {
                    let key = self.value(reference(i)?, depth + 1)?;
                    let value = self.value(reference(count.checked_add(i)?)?, depth + 1)?;
                    out.insert(key.text()?.to_owned(), value);
                }
                Value::Dictionary(out)
            }
            _ => Value::Other,
        })
    }
}

fn real(bytes: &[u8], len: usize) -> Option<f64> {
    match len {
        4 => Some(f32::from_be_bytes(bytes.get(..4)?.try_into().ok()?).into()),
        _ => Some(f64::from_be_bytes(bytes.get(..8)?.try_into().ok()?)),
    }
}

/// The whole part of a number; the nearest that there is for those that are too large.
#[expect(clippy::cast_possible_truncation, reason = "the nearest number is what is wanted")]
fn whole(real: f64) -> i64 {
    real as i64
}

/// The kind of an object, how much it holds, and what it holds.
fn head(object: &[u8]) -> Option<(u8, usize, &[u8])> {
    let (first, rest) = object.split_first()?;
    let (kind, short) = (first >> 4, usize::from(first & 0xf));
    if short < 0xf {
        return Some((kind, short, rest));
    }
    // A longer count comes after it as a number object of 1, 2, 4 or 8 bytes.
    let (marker, rest) = rest.split_first()?;
    let len = 1_usize << (marker & 0xf).min(3);
    Some((kind, number(rest.get(..len)?), rest.get(len..)?))
}

fn text(kind: u8, count: usize, bytes: &[u8]) -> Option<String> {
    if kind == 0x5 {
        return Some(String::from_utf8_lossy(bytes.get(..count)?).into_owned());
    }
    let units = bytes.get(..count.checked_mul(2)?)?.as_chunks().0.iter();
    let units: Vec<u16> = units.map(|b| u16::from_be_bytes(*b)).collect();
    Some(String::from_utf16_lossy(&units))
}

/// What comes next in a text with marks.
enum Mark<'a> {
    Open(&'a str),
    Close,
    /// Opened and closed at once.
    Empty(&'a str),
    Text(String),
}

/// Cuts the next mark or text off; comments and declarations are passed over.
fn next_mark<'a>(rest: &mut &'a str) -> Option<Mark<'a>> {
    loop {
        if rest.is_empty() {
            return None;
        }
        let Some(inside) = rest.strip_prefix('<') else {
            let end = rest.find('<').unwrap_or(rest.len());
            let (text, after) = rest.split_at(end);
            *rest = after;
            return Some(Mark::Text(plain(text)));
        };
        if let Some(data) = inside.strip_prefix("![CDATA[") {
            let end = data.find("]]>")?;
            *rest = &data[end + 3..];
            return Some(Mark::Text(data[..end].to_owned()));
        }
        let passed_over = [("!--", "-->"), ("?", "?>"), ("!", ">")];
        if let Some((_, end)) = passed_over.iter().find(|(start, _)| inside.starts_with(start)) {
            *rest = &inside[inside.find(end)? + end.len()..];
            continue;
        }
        let end = inside.find('>')?;
        *rest = &inside[end + 1..];
        let mark = &inside[..end];
        return Some(match (mark.starts_with('/'), mark.ends_with('/')) {
            (true, _) => Mark::Close,
            (_, true) => Mark::Empty(mark.trim_end_matches('/').trim_end()),
            _ => Mark::Open(mark.split_whitespace().next().unwrap_or_default()),
        });
    }
}

/// A text with its entities written out.
fn plain(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut parts = text.split('&');
    out.push_str(parts.next().unwrap_or_default());
    for part in parts {
        let (name, after) = part.split_once(';').unwrap_or((part, ""));
        let number = name.strip_prefix("#x").map(|hex| u32::from_str_radix(hex, 16));
        let number = number.or_else(|| name.strip_prefix('#').map(str::parse));
        let meant = match name {
            "amp" => Some('&'),
            "lt" => Some('<'),
            "gt" => Some('>'),
            "quot" => Some('"'),
            "apos" => Some('\''),
            _ => number.and_then(Result::ok).and_then(char::from_u32),
        };
        out.extend(meant);
        out.push_str(after);
    }
    out
}

fn xml(bytes: &[u8]) -> Option<Value> {
    let text = std::str::from_utf8(bytes).ok()?;
    let mut rest = text.trim_start_matches('\u{feff}');
    let mut budget = Budget::new();
    loop {
        match next_mark(&mut rest)? {
            Mark::Open("plist") => {}
            Mark::Open(name) => {
                let value = element(name, &mut rest, &mut budget, 0)?;
                // What is cut off behind its value is cut off.
                return closed(&mut rest).then_some(value);
            }
            Mark::Text(_) => {}
            Mark::Empty("plist") | Mark::Close => return None,
            Mark::Empty(name) => return closed(&mut rest).then(|| scalar(name, String::new())),
        }
    }
}

/// Whether a mark that closes comes next.
fn closed(rest: &mut &str) -> bool {
    loop {
        match next_mark(rest) {
            Some(Mark::Close) => return true,
            Some(Mark::Text(_)) => {}
            _ => return false,
        }
    }
}

/// An element whose opening mark was read.
fn element(name: &str, rest: &mut &str, budget: &mut Budget, depth: usize) -> Option<Value> {
    if depth > MAX_DEPTH {
        return None;
    }
    budget.take(0)?;
    let mut content = String::new();
    let mut list = Vec::new();
    let mut out = Dictionary::new();
    let mut key = None;
    loop {
        let (name_inside, value) = match next_mark(rest)? {
            Mark::Text(text) => {
                if !matches!(name, "dict" | "array") {
                    budget.bytes = budget.bytes.checked_sub(text.len())?;
                    content.push_str(&text);
                }
                continue;
            }
            Mark::Close => break,
            Mark::Open(inside) => (inside, element(inside, rest, budget, depth + 1)?),
            Mark::Empty(inside) => {
                budget.take(0)?;
                (inside, scalar(inside, String::new()))
            }
        };
        match (name, name_inside) {
            ("dict", "key") => key = value.text().map(str::to_owned),
            ("dict", _) => drop(key.take().map(|key| out.insert(key, value))),
            ("array", _) => list.push(value),
            _ => {}
        }
    }
    Some(match name {
        "dict" => Value::Dictionary(out),
        "array" => Value::List(list),
        other => scalar(other, content),
    })
}

fn scalar(name: &str, content: String) -> Value {
    match name {
        "key" | "string" => Value::Text(content),
        "data" => base64(&content).map_or(Value::Other, Value::Data),
        "true" => Value::Flag(true),
        "false" => Value::Flag(false),
        "integer" => content.trim().parse().map_or(Value::Other, Value::Number),
        "real" => content.trim().parse().map_or(Value::Other, |real| Value::Number(whole(real))),
        "date" => Value::Date(content.trim().to_owned()),
        "dict" => Value::Dictionary(Dictionary::new()),
        "array" => Value::List(Vec::new()),
        _ => Value::Other,
    }
}

/// Base 64 (RFC 4648, section 4) with white space anywhere; none for anything else.
pub(crate) fn base64(text: &str) -> Option<Vec<u8>> {
    let mut out = Vec::with_capacity(text.len() / 4 * 3);
    let (mut bits, mut count) = (0_u32, 0);
    for byte in text.bytes().filter(|b| !b.is_ascii_whitespace() && *b != b'=') {
        let value = match byte {
            b'A'..=b'Z' => byte - b'A',
            b'a'..=b'z' => byte - b'a' + 26,
            b'0'..=b'9' => byte - b'0' + 52,
            b'+' => 62,
            b'/' => 63,
            _ => return None,
        };
        bits = bits << 6 | u32::from(value);
        count += 6;
        if count >= 8 {
            count -= 8;
            out.push(u8::try_from(bits >> count & 0xff).unwrap_or(0));
        }
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::samples::seed;

    const XML: &str = r#"<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd">
<plist version="1.0"><!-- <dict> --><dict>
<key>CFBundleName</key><string>Heron &amp; Sons &#x2014; Post</string>
<key>Deep</key><dict><key>CFBundleName</key><string>another</string></dict>
<key>List</key><array><string>x</string><string/></array>
<key>Empty</key><string/>
<key>Number</key><integer>27</integer><key>Yes</key><true/>
<key>Seal</key><data>
	aGVyb24=
</data><key>Day</key><date>2026-11-23T12:00:00Z</date>
<key>CFBundleVersion</key><string><![CDATA[1 < 2]]></string>
</dict></plist>"#;

    /// A binary list of these texts.
    fn made(entries: &[(&str, &str)]) -> Vec<u8> {
        let mut bytes = b"bplist00".to_vec();
        let mut offsets = Vec::new();
        let count = entries.len();
        for text in entries.iter().map(|e| e.0).chain(entries.iter().map(|e| e.1)) {
            offsets.push(bytes.len());
            let units: Vec<u8> = text.encode_utf16().flat_map(u16::to_be_bytes).collect();
            bytes.extend([0x6f, 0x11]);
            bytes.extend(((units.len() / 2) as u16).to_be_bytes());
            bytes.extend(units);
        }
        offsets.push(bytes.len());
        bytes.push(0xd0 | count as u8);
        bytes.extend((0..2 * count).map(|i| i as u8));
        let table = bytes.len();
        bytes.extend(offsets.iter().flat_map(|at| (*at as u16).to_be_bytes()));
        bytes.extend([0, 0, 0, 0, 0, 0, 2, 1]);
        for value in [offsets.len(), 2 * count, table] {
            bytes.extend((value as u64).to_be_bytes());
        }
        bytes
    }

    #[test]
    fn every_kind_of_value() {
        seed("list", "xml", XML.as_bytes());
        seed("list", "binary", &made(&[("CFBundleName", "Saltmarsh Post"), ("x", "ebb – flood")]));
        let found = read(XML.as_bytes()).unwrap();
        let text = |key: &str| found[key].text().unwrap().to_owned();
        assert_eq!(text("CFBundleName"), "Heron & Sons \u{2014} Post");
        assert_eq!((text("CFBundleVersion"), text("Empty")), ("1 < 2".to_owned(), String::new()));
        assert_eq!(found["Deep"].dictionary().unwrap()["CFBundleName"].text(), Some("another"));
        assert_eq!(found["List"].list(), [Value::Text("x".to_owned()), Value::Text(String::new())]);
        assert_eq!((&found["Number"], &found["Yes"]), (&Value::Number(27), &Value::Flag(true)));
        assert_eq!(found["Seal"].data(), Some(b"heron".as_slice()));
        assert_eq!(found["Day"], Value::Date("2026-11-23T12:00:00Z".to_owned()));
        let found = read(&made(&[("CFBundleName", "Saltmarsh Post"), ("x", "ebb – flood")])).unwrap();
        assert_eq!((found["CFBundleName"].text(), found["x"].text()), (Some("Saltmarsh Post"), Some("ebb – flood")));
    }

    /// As public programs have it that ask for nothing.
    #[test]
    fn a_list_may_be_empty() {
        for empty in ["<plist version=\"1.0\">\n<dict/>\n</plist>\n", "<plist><dict></dict></plist>"] {
            assert!(read(empty.as_bytes()).unwrap().is_empty(), "{empty}");
        }
        for wrong in ["<plist/>", "<plist><dict/>", "<plist><true/></plist>"] {
            assert!(read(wrong.as_bytes()).is_err(), "{wrong}");
        }
    }

    #[test]
    fn what_leads_in_circles_or_grows_does_no_harm() {
        // Forty lists, each of which holds the next one twice.
        let mut bytes = b"bplist00".to_vec();
        let offsets: Vec<u8> = (0..40).map(|i| 8 + 3 * i).collect();
        (0..40_u8).for_each(|i| bytes.extend([0xa2, (i + 1) % 40, (i + 1) % 40]));
        let table = bytes.len() as u64;
        bytes.extend(offsets);
        bytes.extend([0, 0, 0, 0, 0, 0, 1, 1]);
        [40, 0, table].into_iter().for_each(|value: u64| bytes.extend(value.to_be_bytes()));
        assert!(read(&bytes).is_err());
        let deep = format!("<plist><dict>{}{}</dict></plist>", "<array>".repeat(200_000), "</array>".repeat(200_000));
        assert!(read(deep.as_bytes()).is_err());
        let wide = format!("<plist><dict><key>x</key><array>{}</array></dict></plist>", "<true/>".repeat(MAX_VALUES));
        assert!(read(wide.as_bytes()).is_err());
        for text in ["", "<", "<plist>", "<plist><dict>", "<plist><string>x</string></plist>", "</plist>", "<!--"] {
            assert!(read(text.as_bytes()).is_err(), "{text}");
        }
    }

    #[test]
    fn base64_as_the_standard_has_it() {
        for (text, bytes) in [("", ""), ("Zg==", "f"), ("Zm8=", "fo"), ("Zm9v", "foo"), (" Zm9v\n\tYmE= ", "fooba")] {
            assert_eq!(base64(text).as_deref(), Some(bytes.as_bytes()), "{text}");
        }
        assert_eq!(base64("Zm9v!"), None);
    }

    proptest! {
        #[test]
        fn no_bytes_make_the_reader_panic(at in any::<prop::sample::Index>(), value: u8, len in any::<prop::sample::Index>()) {
            for good in [XML.as_bytes().to_vec(), made(&[("CFBundleName", "Saltmarsh Post")])] {
                let mut bytes = good;
                let at = at.index(bytes.len());
                bytes[at] = value;
                let _ = read(&bytes);
                bytes.truncate(len.index(bytes.len()));
                let _ = read(&bytes);
            }
        }
    }
}
