//! Property lists: the texts of the dictionary at their top, from XML or binary.
//!
//! Source: Apple's `PropertyList-1.0.dtd`, and `CFBinaryPList.c` for the binary form: `bplist00`, objects, a table of
//! their offsets, and a trailer of 32 bytes with the sizes of offsets and references, the number of objects, the top
//! one, and where the table lies. Nothing below the top dictionary is followed, so nothing in it can lead in circles
//! or grow.

use std::collections::BTreeMap;

use crate::fields::FormatError;

/// Most entries of the dictionary that are read. Ours: real ones have fewer than 100.
const MAX_ENTRIES: usize = 4096;

/// Reads the texts that the top dictionary holds, by their keys.
///
/// # Errors
/// [`FormatError::Not`] for bytes that are no property list, or that have no dictionary at their top.
pub(crate) fn texts(bytes: &[u8]) -> Result<BTreeMap<String, String>, FormatError> {
    let found = if bytes.starts_with(b"bplist0") { binary(bytes) } else { xml(bytes) };
    found.ok_or(FormatError::Not { format: "a property list with a dictionary" })
}

fn number(bytes: &[u8]) -> usize {
    bytes.iter().fold(0, |value: usize, b| value.saturating_mul(256).saturating_add(usize::from(*b)))
}

fn binary(bytes: &[u8]) -> Option<BTreeMap<String, String>> {
    let trailer = bytes.get(bytes.len().checked_sub(32)?..)?;
    let (offset_len, ref_len) = (usize::from(trailer[6]), usize::from(trailer[7]));
    let (top, table) = (number(&trailer[16..24]), number(&trailer[24..32]));
    if !(1..=8).contains(&offset_len) || !(1..=8).contains(&ref_len) {
        return None;
    }
    let object = |index: usize| {
        let at = table.checked_add(index.checked_mul(offset_len)?)?;
        bytes.get(number(bytes.get(at..at.checked_add(offset_len)?)?)..)
    };
    let (kind, count, refs) = head(object(top)?)?;
    if kind != 0xd || count > MAX_ENTRIES {
        return None;
    }
    let reference = |i: usize| Some(number(refs.get(i * ref_len..(i + 1) * ref_len)?));
    let mut out = BTreeMap::new();
    for i in 0..count {
        let (key, value) = (object(reference(i)?)?, object(reference(count + i)?)?);
        if let (Some(key), Some(value)) = (text(key), text(value)) {
            out.insert(key, value);
        }
    }
    Some(out)
}

/// The kind of an object, how much it holds, and what it holds.
fn head(object: &[u8]) -> Option<(u8, usize, &[u8])> {
    let (first, rest) = object.split_first()?;
    let (kind, short) = (first >> 4, usize::from(first & 0xf));
    if short < 0xf {
        return Some((kind, short, rest));
    }
    // A longer count stands behind it as a number object of 1, 2, 4 or 8 bytes.
    let (marker, rest) = rest.split_first()?;
    let len = 1_usize << (marker & 0xf).min(3);
    Some((kind, number(rest.get(..len)?), rest.get(len..)?))
}

fn text(object: &[u8]) -> Option<String> {
    let (kind, count, bytes) = head(object)?;
    match kind {
        0x5 => Some(String::from_utf8_lossy(bytes.get(..count)?).into_owned()),
        0x6 => {
            let units = bytes.get(..count.checked_mul(2)?)?.chunks_exact(2);
            let units: Vec<u16> = units.map(|b| u16::from_be_bytes([b[0], b[1]])).collect();
            Some(String::from_utf16_lossy(&units))
        }
        _ => None,
    }
}

/// What comes next in a text with marks.
enum Mark<'a> {
    Open(&'a str),
    Close,
    /// Opened and closed at once.
    Empty,
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
            (_, true) => Mark::Empty,
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

fn xml(bytes: &[u8]) -> Option<BTreeMap<String, String>> {
    let text = std::str::from_utf8(bytes).ok()?;
    let mut rest = text.trim_start_matches('\u{feff}');
    let mut out = BTreeMap::new();
    // 1 within <plist>, 2 within its dictionary, 3 within a key or value of it.
    let mut depth = 0_usize;
    let (mut element, mut content, mut key) = ("", String::new(), None);
    let mut has_dictionary = false;
    while let Some(mark) = next_mark(&mut rest) {
        match mark {
            Mark::Open(name) => {
                depth += 1;
                match (depth, name) {
                    (1, "plist") => {}
                    (2, "dict") => has_dictionary = true,
                    (1 | 2, _) => return None,
                    _ => {}
                }
                if depth == 3 {
                    (element, content) = (name, String::new());
                }
            }
            Mark::Text(text) if depth == 3 => content.push_str(&text),
            Mark::Text(_) => {}
            Mark::Empty if depth == 2 => key = None,
            Mark::Empty => {}
            Mark::Close => {
                if depth == 3 {
                    match element {
                        "key" => key = Some(std::mem::take(&mut content)),
                        "string" => out.extend(key.take().map(|key| (key, std::mem::take(&mut content)))),
                        _ => key = None,
                    }
                }
                depth = depth.checked_sub(1)?;
                if depth == 0 || out.len() > MAX_ENTRIES {
                    break;
                }
            }
        }
    }
    (has_dictionary && depth == 0).then_some(out)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const XML: &str = r#"<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd">
<plist version="1.0"><!-- <dict> --><dict>
<key>CFBundleName</key><string>Heron &amp; Sons &#x2014; Post</string>
<key>Deep</key><dict><key>CFBundleName</key><string>another</string></dict>
<key>List</key><array><string>x</string><string/></array>
<key>Empty</key><string/>
<key>Number</key><integer>27</integer>
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
    fn the_texts_at_the_top() {
        let found = texts(XML.as_bytes()).unwrap();
        assert_eq!(found["CFBundleName"], "Heron & Sons — Post");
        assert_eq!(found["CFBundleVersion"], "1 < 2");
        assert_eq!(found.len(), 2, "{found:?}");
        let found = texts(&made(&[("CFBundleName", "Saltmarsh Post"), ("x", "ebb – flood")])).unwrap();
        assert_eq!((found["CFBundleName"].as_str(), found["x"].as_str()), ("Saltmarsh Post", "ebb – flood"));
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
        assert!(texts(&bytes).is_err());
        let deep = format!("<plist><dict>{}{}</dict></plist>", "<array>".repeat(200_000), "</array>".repeat(200_000));
        assert!(texts(deep.as_bytes()).unwrap().is_empty());
        for text in ["", "<", "<plist>", "<plist><dict>", "<plist><string>x</string></plist>", "</plist>", "<!--"] {
            assert!(texts(text.as_bytes()).is_err(), "{text}");
        }
    }

    proptest! {
        #[test]
        fn no_bytes_make_the_reader_panic(at in any::<prop::sample::Index>(), value: u8, len in any::<prop::sample::Index>()) {
            for good in [XML.as_bytes().to_vec(), made(&[("CFBundleName", "Saltmarsh Post")])] {
                let mut bytes = good;
                let at = at.index(bytes.len());
                bytes[at] = value;
                let _ = texts(&bytes);
                bytes.truncate(len.index(bytes.len()));
                let _ = texts(&bytes);
            }
        }
    }
}
