//! Writes version and number into an `Info.plist`, and leaves everything else as it is.
//!
//! Source: Apple's "Information Property List" (<https://developer.apple.com/documentation/bundleresources/information-property-list>),
//! `CFBundleShortVersionString` and `CFBundleVersion`; `CFBinaryPList.c`, "HEADER" to "TRAILER"
//! (<https://github.com/apple-oss-distributions/CF/blob/main/CFBinaryPList.c>), for the binary form.

use lantern_formats::plist::{self, Value};

use super::Stamp;
use crate::SignError;
use crate::archive::AGAIN;
use crate::plist::escaped;

const VERSION: &str = "CFBundleShortVersionString";
const NUMBER: &str = "CFBundleVersion";

/// The list with another version and number.
pub(crate) fn stamped(bytes: &[u8], stamp: &Stamp) -> Result<Vec<u8>, SignError> {
    let no_list = || SignError::refused("its Info.plist is no property list", AGAIN);
    let before = plist::read(bytes).map_err(|_| no_list())?;
    // Systems read three numbers here; what stands behind them is for people alone.
    let version = stamp.version.split(['-', '+']).next().unwrap_or(&stamp.version).to_owned();
    let wanted = [(VERSION, version), (NUMBER, stamp.number.to_string())];
    let mut out = bytes.to_vec();
    for (key, text) in &wanted {
        if before.get(*key).and_then(Value::text) == Some(text) {
            continue;
        }
        out = match bytes.starts_with(b"bplist0") {
            true => binary(&out, key, text),
            false => xml(&out, key, text),
        }
        .ok_or_else(|| {
            let what = format!("{key} cannot be written into its Info.plist");
            SignError::refused(what, format!("let the engine write {key} into it, with any value"))
        })?;
    }
    // What was meant, and nothing else, is other than before.
    let mut meant = before;
    meant.extend(wanted.map(|(key, text)| (key.to_owned(), Value::Text(text))));
    match plist::read(&out) {
        Ok(after) if after == meant => Ok(out),
        _ => Err(SignError::NotValid("its Info.plist says other things than before".to_owned())),
    }
}

/// Puts another text in the place of that of a key, in a list in XML; adds both at the end of the first dictionary where there is none.
fn xml(bytes: &[u8], key: &str, text: &str) -> Option<Vec<u8>> {
    let list = std::str::from_utf8(bytes).ok()?;
    let mark = format!("<key>{key}</key>");
    let value = format!("<string>{}</string>", escaped(text));
    let (from, to, new) =
        match list.match_indices(&mark).find(|(at, _)| depth(list.get(..*at).unwrap_or_default()) == 1) {
            Some((at, _)) => {
                let after = at + mark.len();
                let rest = list.get(after..)?;
                let from = after + rest.find('<')?;
                let rest = list.get(from..)?;
                let end = match rest.starts_with("<string/>") {
                    true => "<string/>".len(),
                    false if rest.starts_with("<string>") => rest.find("</string>")? + "</string>".len(),
                    false => return None,
                };
                (from, from + end, value)
            }
            None => {
                let end = list.rfind("</dict>")?;
                (end, end, format!("\t{mark}\n\t{value}\n"))
            }
        };
    Some([list.get(..from)?, &new, list.get(to..)?].concat().into_bytes())
}

/// How many dictionaries and lists are open at the end of a text.
fn depth(text: &str) -> usize {
    let count = |mark: &str| text.matches(mark).count();
    (count("<dict>") + count("<array>")).saturating_sub(count("</dict>") + count("</array>"))
}

fn number(bytes: &[u8]) -> usize {
    bytes.iter().fold(0, |value: usize, byte| value.saturating_mul(256).saturating_add(usize::from(*byte)))
}

/// Adds a text to a list in the binary form, and has a key of the top dictionary name it: its old value may be that of others, too.
fn binary(bytes: &[u8], key: &str, text: &str) -> Option<Vec<u8>> {
    let trailer: &[u8; 32] = bytes.last_chunk()?;
    let (offset_len, ref_len) = (usize::from(*trailer.get(6)?), usize::from(*trailer.get(7)?));
    let (count, top, table) = (number(trailer.get(8..16)?), number(trailer.get(16..24)?), number(trailer.get(24..32)?));
    if !(1..=8).contains(&offset_len) || !(1..=8).contains(&ref_len) || count > bytes.len() {
        return None;
    }
    let offset = |index: usize| {
        let at = table.checked_add(index.checked_mul(offset_len)?)?;
        Some(number(bytes.get(at..at.checked_add(offset_len)?)?))
    };
    let (members, len) = head(bytes, offset(top)?, 0xd)?;
    let place = (0..len).find(|member| {
        let at = members + member * ref_len;
        let named = bytes.get(at..at + ref_len).and_then(|index| offset(number(index)));
        named.and_then(|at| plain(bytes, at)) == Some(key.as_bytes())
    })?;
    // The references to values lie behind those to keys.
    let value = members + (len + place) * ref_len;
    let index = count.to_be_bytes();
    let (spare, index) = index.split_at_checked(index.len().checked_sub(ref_len)?)?;
    if spare.iter().any(|byte| *byte != 0) || !text.is_ascii() || text.len() > 255 {
        return None;
    }
    let mut out = bytes.get(..table)?.to_vec();
    out.get_mut(value..value + ref_len)?.copy_from_slice(index);
    let mut offsets: Vec<usize> = (0..count).map(offset).collect::<Option<_>>()?;
    offsets.push(out.len());
    match u8::try_from(text.len()).ok()? {
        short @ 0..=14 => out.push(0x50 | short),
        long => out.extend([0x5f, 0x10, long]),
    }
    out.extend(text.as_bytes());
    let new_table = out.len();
    for offset in offsets {
        let digits = offset.to_be_bytes();
        // One byte more than the old table may have needed.
        out.extend(digits.get(4..)?);
    }
    let mut trailer = *trailer;
    *trailer.get_mut(6)? = 4;
    trailer.get_mut(8..16)?.copy_from_slice(&(count as u64 + 1).to_be_bytes());
    trailer.get_mut(24..32)?.copy_from_slice(&(new_table as u64).to_be_bytes());
    out.extend(trailer);
    Some(out)
}

/// Where the content of an object of a kind begins, and how long it is.
fn head(bytes: &[u8], at: usize, kind: u8) -> Option<(usize, usize)> {
    let first = *bytes.get(at)?;
    if first >> 4 != kind {
        return None;
    }
    match usize::from(first & 15) {
        15 => {
            let size = *bytes.get(at + 1)?;
            let len = 1_usize << (size & 15).min(3);
            (size >> 4 == 1).then_some(())?;
            Some((at + 2 + len, number(bytes.get(at + 2..at + 2 + len)?)))
        }
        short => Some((at + 1, short)),
    }
}

/// A text in ASCII.
fn plain(bytes: &[u8], at: usize) -> Option<&[u8]> {
    let (start, len) = head(bytes, at, 5)?;
    bytes.get(start..start.checked_add(len)?)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn stamp() -> Stamp {
        Stamp { version: "1.4.0-rc.1".to_owned(), number: 1042 }
    }

    #[test]
    fn nothing_but_version_and_number_changes() {
        let list = "<?xml version=\"1.0\"?>\n<plist version=\"1.0\">\n<dict>\n\t<key>Inner</key><dict><key>CFBundleVersion</key><string>3</string></dict>\n\t\
             <key>CFBundleVersion</key>\n\t<string>3</string>\n\t<key>Real</key><real>2.5</real>\n</dict>\n</plist>\n";
        let out = String::from_utf8(stamped(list.as_bytes(), &stamp()).unwrap()).unwrap();
        let wanted = list.replace("\t<string>3</string>\n", "\t<string>1042</string>\n").replace(
            "</real>\n</dict>",
            "</real>\n\t<key>CFBundleShortVersionString</key>\n\t<string>1.4.0</string>\n</dict>",
        );
        assert_eq!(out, wanted);
        assert_eq!(stamped(out.as_bytes(), &stamp()).unwrap(), out.as_bytes());
        for wrong in ["", "<plist><dict><key>CFBundleVersion</key><integer>3</integer></dict></plist>"] {
            assert!(stamped(wrong.as_bytes(), &stamp()).is_err(), "{wrong}");
        }
    }

    /// Both keys name one and the same text, as writers of this form do it.
    fn shared() -> Vec<u8> {
        let mut out = b"bplist00".to_vec();
        let mut offsets = vec![out.len()];
        out.extend([0xd2, 1, 2, 3, 3]);
        for text in [VERSION, NUMBER, "1.0"] {
            offsets.push(out.len());
            match text.len() {
                len @ 0..=14 => out.push(0x50 | len as u8),
                len => out.extend([0x5f, 0x10, len as u8]),
            }
            out.extend(text.as_bytes());
        }
        let table = out.len() as u64;
        out.extend(offsets.iter().map(|at| *at as u8));
        out.extend([0, 0, 0, 0, 0, 0, 1, 1]);
        [offsets.len() as u64, 0, table].iter().for_each(|value| out.extend(value.to_be_bytes()));
        out
    }

    #[test]
    fn a_text_that_two_keys_share_is_no_longer_shared() {
        let list = shared();
        assert_eq!(plist::read(&list).unwrap()[NUMBER].text(), Some("1.0"));
        let out = stamped(&list, &stamp()).unwrap();
        let found = plist::read(&out).unwrap();
        assert_eq!((found[VERSION].text(), found[NUMBER].text()), (Some("1.4.0"), Some("1042")));
        for len in 0..list.len() {
            assert!(stamped(&list[..len], &stamp()).is_err(), "{len}");
        }
        for at in 0..list.len() {
            let mut changed = list.clone();
            changed[at] ^= 0x7f;
            let _ = stamped(&changed, &stamp());
        }
    }
}
