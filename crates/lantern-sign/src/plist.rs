//! Writes property lists in XML. Source: Apple's `PropertyList-1.0.dtd` (<http://www.apple.com/DTDs/PropertyList-1.0.dtd>); white space as in
//! the seals of public bundles, so that the two can be compared line by line.

use std::fmt::Write;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;

const HEAD: &str = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n\
    <!DOCTYPE plist PUBLIC \"-//Apple//DTD PLIST 1.0//EN\" \"http://www.apple.com/DTDs/PropertyList-1.0.dtd\">\n\
    <plist version=\"1.0\">\n";
/// Most characters of encoded bytes in a line, less eight for each step that it is moved in.
const LINE: usize = 76;

/// A value. Dictionaries keep the order that they are given.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Item {
    Dictionary(Vec<(String, Self)>),
    List(Vec<Self>),
    Text(String),
    Data(Vec<u8>),
    /// As RFC 3339 writes it.
    Date(String),
    True,
    False,
    Number(i64),
    /// A number that stands as one with a point, though it has nothing behind it.
    Real(u32),
}

impl Item {
    /// A dictionary with keys that are known beforehand.
    pub(crate) fn of<const N: usize>(members: [(&str, Self); N]) -> Self {
        Self::Dictionary(members.into_iter().map(|(key, value)| (key.to_owned(), value)).collect())
    }
}

/// Writes a whole list.
pub(crate) fn write(top: &Item) -> String {
    let mut out = HEAD.to_owned();
    item(&mut out, top, 0);
    out.push_str("</plist>\n");
    out
}

fn item(out: &mut String, value: &Item, depth: usize) {
    let indent = "\t".repeat(depth);
    out.push_str(&indent);
    match value {
        Item::Dictionary(members) if members.is_empty() => out.push_str("<dict/>\n"),
        Item::Dictionary(members) => {
            out.push_str("<dict>\n");
            for (key, value) in members {
                let _ = writeln!(out, "{indent}\t<key>{}</key>", escaped(key));
                item(out, value, depth + 1);
            }
            let _ = writeln!(out, "{indent}</dict>");
        }
        Item::List(values) if values.is_empty() => out.push_str("<array/>\n"),
        Item::List(values) => {
            out.push_str("<array>\n");
            values.iter().for_each(|value| item(out, value, depth + 1));
            let _ = writeln!(out, "{indent}</array>");
        }
        Item::Text(text) => {
            let _ = writeln!(out, "<string>{}</string>", escaped(text));
        }
        Item::Data(bytes) => {
            let _ = writeln!(out, "<data>");
            let text = STANDARD.encode(bytes);
            let len = LINE.saturating_sub(8 * depth).max(16);
            for line in text.as_bytes().chunks(len) {
                let _ = writeln!(out, "{indent}{}", String::from_utf8_lossy(line));
            }
            let _ = writeln!(out, "{indent}</data>");
        }
        Item::Date(date) => {
            let _ = writeln!(out, "<date>{date}</date>");
        }
        Item::True => out.push_str("<true/>\n"),
        Item::False => out.push_str("<false/>\n"),
        Item::Number(number) => {
            let _ = writeln!(out, "<integer>{number}</integer>");
        }
        Item::Real(number) => {
            let _ = writeln!(out, "<real>{number}</real>");
        }
    }
}

/// A text as it stands between two marks.
pub(crate) fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}

#[cfg(test)]
mod tests {
    use super::*;
    use lantern_formats::plist::{Value, read};

    #[test]
    fn what_is_written_is_read_again() {
        let list = Item::of([
            ("a & b", Item::List(vec![Item::Text("1 < 2".to_owned()), Item::Number(-27), Item::List(Vec::new())])),
            ("seal", Item::Data(vec![7; 100])),
            ("weight", Item::Real(1000)),
            ("on", Item::True),
            ("off", Item::False),
            ("empty", Item::of([])),
        ]);
        let found = read(write(&list).as_bytes()).unwrap();
        assert_eq!(found["a & b"].list()[..2], [Value::Text("1 < 2".to_owned()), Value::Number(-27)]);
        assert_eq!(found["seal"].data(), Some(&[7; 100][..]));
        assert_eq!(
            (&found["weight"], &found["on"], &found["off"]),
            (&Value::Number(1000), &Value::Flag(true), &Value::Flag(false))
        );
        assert!(found["empty"].dictionary().unwrap().is_empty());
    }
}
