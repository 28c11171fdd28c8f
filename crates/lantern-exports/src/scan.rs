//! What is looked for in the bytes of a file: secrets, texts, programs and their debug data.

use std::io::{Read, Seek, SeekFrom};

use lantern_core::bytes::find;
use lantern_core::path::TreePath;
use lantern_core::secrets;
use lantern_formats::bundle::verify_code;
use lantern_formats::certificate::short_name;
use lantern_formats::hash::Hash;
use lantern_formats::program::{Form, Kind, Program};
use lantern_formats::{FormatError, elf, macho, pe};
use serde::{Deserialize, Serialize};

use crate::export::{Export, Opened, ReadSeek};
use crate::metered::Metering;
use crate::too_new::{too_new_for_linux, too_new_for_macos};

/// First bytes that tell what a file is.
const HEAD_LEN: usize = 64;

/// What files are looked through for, beside what no file may hold.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Wanted {
    /// Texts, wherever they stand.
    pub texts: Vec<String>,
    /// Names of other editions, as whole words in small texts.
    pub names: Vec<String>,
}

/// What a file's content shows. Most files show nothing.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct FileScan {
    /// A secret: what it is, and its line.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub secret: Option<(String, usize)>,
    /// Texts in it that were asked for.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub mentions: Vec<String>,
    /// Names of other editions in it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub names: Vec<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub program: Option<BinaryScan>,
    /// The program that this is the debug data of, by what both have in common.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub symbols_of: Option<Vec<u8>>,
    /// Why it cannot be read as the program that it seems to be.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub broken: Option<String>,
}

/// What a program or library says of itself.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct BinaryScan {
    /// Processors, by their names.
    pub machines: Vec<String>,
    /// What it has in common with its debug data.
    pub ids: Vec<Vec<u8>>,
    pub has_debug_data: bool,
    /// Whether there is nothing but debug data in it.
    pub is_debug_data: bool,
    /// A library that only developers have.
    pub debug_runtime: Option<String>,
    pub libraries: Vec<String>,
    /// Largest page that it can be loaded by, in bytes, where it says so.
    pub page_len: Option<u64>,
    /// The system or C library that it needs, where many do not have it yet.
    pub too_new: Option<TooNew>,
    /// Why its signature does not hold.
    pub signature_wrong: Option<String>,
    /// Whether it is one for Windows.
    pub is_for_windows: bool,
    /// Who signed it, if it is one for Windows and that holds.
    pub signed_by: Option<SignedBy>,
}

/// Who signed a program.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SignedBy {
    /// SHA-256 of the certificate.
    pub fingerprint: [u8; 32],
    /// Its common name.
    pub name: String,
    /// Whether an authority states when.
    pub is_time_stamped: bool,
}

impl SignedBy {
    /// What a signature says that holds.
    pub fn of(signed: &pe::Signed) -> Self {
        let signer = &signed.signer;
        let fingerprint = Hash::Sha256.digest(&signer.certificate);
        Self {
            fingerprint: fingerprint.first_chunk().copied().unwrap_or_default(),
            name: short_name(&signer.subject).to_owned(),
            is_time_stamped: signer.stamped.is_some(),
        }
    }
}

/// What a program needs that many players do not have yet, with its version.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum TooNew {
    CLibrary(String),
    System(String),
}

/// What one look into a file gave; none where nothing is to be said about it.
pub(crate) type Scan = Option<Box<FileScan>>;

/// What files are scanned for, by whom, and what need not be done twice.
#[derive(Clone, Copy)]
pub(crate) struct Scanning<'a> {
    pub wanted: &'a Wanted,
    /// Programs whose signatures were found to hold already.
    pub verified: &'a [String],
    pub watch: &'a Metering<'a>,
}

/// What a name alone shows: of such a file nothing is read.
pub(crate) fn by_name(path: &TreePath) -> Option<Scan> {
    let secret = secrets::by_name(path)?;
    let secret = Some((secret.what.to_owned(), secret.line));
    Some(Some(Box::new(FileScan { secret, ..FileScan::default() })))
}

/// Scans a file.
///
/// # Errors
/// Those of reading.
pub(crate) fn scan(export: &Export, index: usize, scanning: Scanning<'_>) -> std::io::Result<Scan> {
    match by_name(&export.entries[index].source.path) {
        Some(scan) => Ok(scan),
        None => Ok(scan_opened(export, index, export.open_once(index)?, scanning)?.0),
    }
}

/// Scans a file that was just opened, and gives it back.
///
/// # Errors
/// Those of reading.
pub(crate) fn scan_opened(
    export: &Export,
    index: usize,
    mut opened: Opened,
    Scanning { wanted, verified, watch }: Scanning<'_>,
) -> std::io::Result<(Scan, Opened)> {
    let source = &export.entries[index].source;
    let (path, size) = (&source.path, source.size());
    let texts = &wanted.texts;
    let mut out = FileScan::default();
    let mut bytes = Vec::new();
    opened.by_ref().take(HEAD_LEN as u64).read_to_end(&mut bytes)?;
    if may_be_program(&bytes) {
        let is_verified = verified.iter().any(|known| known == path.as_str());
        let mut anywhere = export.anywhere(index, opened, &bytes)?;
        match program(&mut watch.over(&mut *anywhere), is_verified) {
            Ok((program, symbols)) => (out.program, out.symbols_of) = (program, symbols),
            Err(FormatError::Not { .. }) => {}
            Err(FormatError::Io(error)) => return Err(error),
            Err(error) => out.broken = Some(error.to_string()),
        }
        anywhere.seek(SeekFrom::Start(bytes.len() as u64))?;
        opened = Opened::Anywhere(anywhere);
    }
    let mut from = watch.over(&mut opened);
    let is_small = size <= secrets::MAX_TEXT_LEN;
    if is_small || !texts.is_empty() {
        from.by_ref().take(secrets::MAX_TEXT_LEN).read_to_end(&mut bytes)?;
    }
    let is_text = !bytes.iter().take(4096).any(|b| *b == 0);
    if is_small && is_text {
        let secret = secrets::in_text(&bytes, secrets::holds_settings(path));
        out.secret = secret.map(|secret| (secret.what.to_owned(), secret.line));
        out.names = wanted.names.iter().filter(|name| has_word(&bytes, name.as_bytes())).cloned().collect();
    }
    if !texts.is_empty() {
        out.mentions = mentioned(texts, &mut bytes, &mut from)?;
    }
    let scan = (out != FileScan::default()).then(|| Box::new(out));
    Ok((scan, opened))
}

/// Whether a file begins as programs, libraries and their debug data do.
fn may_be_program(head: &[u8]) -> bool {
    const MAGICS: [&[u8]; 8] = [
        b"MZ",
        b"\x7fELF",
        b"\xcf\xfa\xed\xfe",
        b"\xce\xfa\xed\xfe",
        b"\xca\xfe\xba\xbe",
        b"\xca\xfe\xba\xbf",
        b"Microsoft C/C++ MSF",
        b"BSJB",
    ];
    MAGICS.iter().any(|magic| head.starts_with(magic))
}

/// A program, or what the debug data and its program have in common.
type Found = (Option<BinaryScan>, Option<Vec<u8>>);

/// Reads a program; a signature that is known to hold is not verified again.
fn program(mut from: &mut dyn ReadSeek, is_verified: bool) -> Result<Found, FormatError> {
    let from = &mut from;
    match pe::symbols_id(from) {
        Ok(id) => return Ok((None, Some(id.to_vec()))),
        Err(FormatError::Not { .. }) => {}
        Err(FormatError::Io(error)) => return Err(FormatError::Io(error)),
        // Whose it is cannot be known, what it is can.
        Err(_) => return Ok((None, Some(Vec::new()))),
    }
    from.seek(SeekFrom::Start(0)).map_err(FormatError::Io)?;
    let program = Program::read(from)?;
    let machines = program.machines.iter().map(ToString::to_string).collect();
    let mut out = BinaryScan { machines, ..BinaryScan::default() };
    match program.form {
        Form::Pe => {
            let details = pe::Details::read(from)?;
            out.debug_runtime = details.debug_runtime().map(str::to_owned);
            out.ids.extend(details.symbols.as_ref().map(|symbols| symbols.id.to_vec()));
            let signed = if is_verified { pe::signed_by(from, &details)? } else { pe::verify(from, &details)? };
            out.is_for_windows = true;
            out.signature_wrong = signed.as_ref().and_then(|signed| signed.signer.wrong.clone());
            out.signed_by = signed.filter(|signed| signed.signer.wrong.is_none()).as_ref().map(SignedBy::of);
            out.libraries = details.libraries;
        }
        Form::Elf => {
            let details = elf::Details::read(from)?;
            out.too_new = too_new_for_linux(&details).map(|version| TooNew::CLibrary(format!("glibc {version}")));
            out.ids.extend(details.build_id);
            (out.has_debug_data, out.libraries) = (details.has_debug_data, details.libraries);
            out.page_len = details.page_len;
        }
        _ => {
            out.is_debug_data = program.kind == Kind::Other;
            let slices = macho::Details::read(from)?;
            out.too_new =
                too_new_for_macos(&slices).map(|(system, version, _)| TooNew::System(format!("{system} {version}")));
            out.ids.extend(slices.iter().filter_map(|details| Some(details.uuid?.to_vec())));
            out.has_debug_data = slices.iter().any(|details| details.has_debug_data);
            if !is_verified {
                out.signature_wrong = verify_code(from, &slices, &[])?.and_then(|code| code.wrong);
            }
        }
    }
    Ok((Some(out), None))
}

/// Whether a name stands in a text by itself, and not as a part of a longer one.
fn has_word(text: &[u8], name: &[u8]) -> bool {
    let is_part =
        |byte: Option<&u8>| byte.is_some_and(|b| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'-' | b'_'));
    let mut from = 0;
    while let Some(at) = find(text, name, from) {
        let after = text.get(at + name.len()..).unwrap_or_default();
        // A full stop ends a sentence as well.
        let is_stop = after.starts_with(b".") && !is_part(after.get(1));
        let goes_on = is_part(after.first()) && !is_stop;
        if !goes_on && !is_part(at.checked_sub(1).and_then(|before| text.get(before))) {
            return true;
        }
        from = at + 1;
    }
    false
}

/// Which texts stand in what was read and what is still to be read.
fn mentioned(texts: &[String], first: &mut Vec<u8>, rest: &mut dyn Read) -> std::io::Result<Vec<String>> {
    let longest = texts.iter().map(String::len).max().unwrap_or(1);
    let mut left: Vec<&String> = texts.iter().collect();
    let mut found = Vec::new();
    loop {
        left.retain(|text| {
            let is_there = text.is_empty() || find(first, text.as_bytes(), 0).is_some();
            if is_there {
                found.push((*text).clone());
            }
            !is_there
        });
        // A text may begin at the end of what was read.
        let keep = first.len().saturating_sub(longest.saturating_sub(1));
        first.drain(..keep);
        let before = first.len();
        (&mut *rest).take(secrets::MAX_TEXT_LEN).read_to_end(first)?;
        if left.is_empty() || first.len() == before {
            return Ok(found);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_over_the_edges_of_what_is_read() {
        let wanted = ["sp-first-tide".to_owned(), "nowhere".to_owned()];
        let mut rest = std::io::Cursor::new(b"first-tide and more".to_vec());
        assert_eq!(mentioned(&wanted, &mut b"handle: sp-".to_vec(), &mut rest).unwrap(), ["sp-first-tide"]);
        assert!(mentioned(&wanted, &mut b"sp-first".to_vec(), &mut std::io::empty()).unwrap().is_empty());
    }

    #[test]
    fn names_by_themselves() {
        let has = |text: &str| has_word(text.as_bytes(), b"example.paperheron.tide");
        assert!(
            has("id=example.paperheron.tide")
                && has("\"example.paperheron.tide\"")
                && has("See example.paperheron.tide.")
        );
        assert!(
            !has("example.paperheron.tidepool")
                && !has("example.paperheron.tide.demo")
                && !has("an.example.paperheron.tide")
        );
    }
}
