//! What looking into a file shows, and what is remembered of it: a file that is as it was is not read again.
//!
//! Of what starts an export, and of the export as a whole, [`super::told`] remembers what it says of itself.
//!
//! The rule is that of [`crate::seen`]: size, times and inode are as they were, and the file was two seconds old when it
//! was read. What is remembered only saves reading; the findings are made anew in every run.

use std::collections::BTreeMap;
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

use lantern_core::bytes::find;
use lantern_core::path::TreePath;
use lantern_core::secrets;
use lantern_formats::program::{Form, Kind, Program};
use lantern_formats::{FormatError, elf, macho, pe};
use lantern_store::durable::{self, DurableError};
use serde::{Deserialize, Serialize};

use super::told::{self, Key, Told};
use crate::export::{self, Export, ReadSeek, Stamp};
use crate::inspect::{too_new_for_linux, too_new_for_macos, verify_code};
use crate::outside;
use crate::watch::Watch;

/// The number rises when anything is looked for that was not before; a newer version may look for more in any case.
const FORMAT: &str = concat!("lantern.looked/4 of ", env!("CARGO_PKG_VERSION"));
const MAX_LEN: u64 = 1024 * 1024 * 1024;
/// First bytes that tell what a file is.
const HEAD_LEN: usize = 64;

/// What files are looked through for, beside what no file may hold.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Wanted {
    /// Texts, wherever they stand.
    pub texts: Vec<String>,
    /// Names of other editions, as whole words in small texts.
    pub names: Vec<String>,
}

/// What a file's content shows. Most files show nothing.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub(super) struct Looked {
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
    pub program: Option<Binary>,
    /// The program that this is the debug data of, by what both have in common.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub symbols_of: Option<Vec<u8>>,
    /// Why it cannot be read as the program that it seems to be.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub broken: Option<String>,
}

/// What a program or library says of itself.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Binary {
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
    pub too_new: Option<String>,
    /// Why its signature does not hold.
    pub signature_wrong: Option<String>,
}

/// What one look into a file gave; none where nothing is to be said about it.
pub(super) type Seen = Option<Box<Looked>>;

#[derive(Debug, Serialize, Deserialize)]
struct Remembered {
    stamp: Stamp,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    looked: Seen,
}

/// What is remembered of all targets.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct Memory {
    format: String,
    /// Before anything is read.
    #[serde(skip)]
    begun: jiff::Timestamp,
    /// By edition and target.
    targets: BTreeMap<String, Target>,
    told: BTreeMap<String, told::Remembered>,
    /// Where it is kept, if it is to be.
    #[serde(skip)]
    path: Option<PathBuf>,
    /// Whether there is anything new in it.
    #[serde(skip)]
    is_new: bool,
}

/// The files of one target. Those of an archive or a package have one stamp, and of them only those are listed that
/// show anything.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Target {
    wanted: Wanted,
    whole: Option<Key>,
    files: BTreeMap<TreePath, Remembered>,
}

/// The key of all files of an archive that are looked into; none where the files have stamps of their own.
fn whole(export: &Export, files: &[usize]) -> Option<Key> {
    let is_archive = !matches!(export.form, export::Form::Folder);
    is_archive.then(|| Key::of(export, files.iter().copied(), &()))?
}

impl Memory {
    /// Reads what is remembered; what is missing, damaged or of another format is nothing, which only costs reading.
    pub(super) fn load(path: &Path, is_kept: bool) -> Self {
        let bytes = durable::read_limited(path, MAX_LEN).unwrap_or_default();
        let memory: Option<Self> = serde_json::from_slice(&bytes).ok();
        let known = memory.filter(|memory| memory.format == FORMAT);
        let none = || Self {
            format: FORMAT.to_owned(),
            begun: jiff::Timestamp::UNIX_EPOCH,
            targets: BTreeMap::new(),
            told: BTreeMap::new(),
            path: None,
            is_new: false,
        };
        Self { begun: outside::now(), path: is_kept.then(|| path.to_owned()), ..known.unwrap_or_else(none) }
    }

    /// Keeps it, where there is anything new.
    ///
    /// # Errors
    /// Those of writing. What cannot be kept is read again: the check itself is as good as ever.
    pub(super) fn save(&self) -> Result<(), DurableError> {
        let Some(path) = self.path.as_ref().filter(|_| self.is_new) else { return Ok(()) };
        let bytes = serde_json::to_vec(self).expect("the memory has only keys that are texts");
        durable::write_whole(path, &bytes)
    }

    /// What the files of a target showed, each if it is as it was.
    pub(super) fn get(&self, target: &str, wanted: &Wanted, export: &Export, files: &[usize]) -> Vec<Option<Seen>> {
        let target = self.targets.get(target).filter(|target| target.wanted == *wanted);
        let Some(target) = target else { return files.iter().map(|_| None).collect() };
        let is_whole = target.whole.is_some() && target.whole == whole(export, files);
        let one = |index: &usize| {
            let entry = &export.entries[*index];
            let known = target.files.get(&entry.source.path);
            match known.filter(|known| Some(known.stamp) == entry.stamp) {
                Some(known) => Some(known.looked.clone()),
                None => is_whole.then_some(None),
            }
        };
        files.iter().map(one).collect()
    }

    /// What an export said of itself, if it would say the same again.
    pub(super) fn told(&self, target: &str, key: Key) -> Option<Told> {
        self.told.get(target)?.get(key).cloned()
    }

    /// Remembers what an export says of itself.
    pub(super) fn tell(&mut self, target: &str, key: Key, told: &Told) {
        self.is_new = true;
        match told::Remembered::new(key, told, self.begun) {
            Some(kept) => drop(self.told.insert(target.to_owned(), kept)),
            None => drop(self.told.remove(target)),
        }
    }

    /// Remembers all of a target anew; what could not be read is not among it.
    pub(super) fn set(
        &mut self,
        target: &str,
        wanted: &Wanted,
        export: &Export,
        files: &[usize],
        seen: &[Option<Seen>],
    ) {
        self.is_new = true;
        let is_settled = |stamp: &Stamp| stamp.is_settled_at(self.begun);
        let whole = whole(export, files).filter(|key| key.is_settled_at(self.begun) && !seen.contains(&None));
        let mut kept = BTreeMap::new();
        for (index, seen) in files.iter().zip(seen) {
            let entry = &export.entries[*index];
            let Some((stamp, looked)) = entry.stamp.filter(is_settled).zip(seen.clone()) else { continue };
            if whole.is_none() || looked.is_some() {
                kept.insert(entry.source.path.clone(), Remembered { stamp, looked });
            }
        }
        self.targets.insert(target.to_owned(), Target { wanted: wanted.clone(), whole, files: kept });
    }
}

/// Looks into a file.
///
/// # Errors
/// Those of reading.
pub(super) fn look(export: &Export, index: usize, wanted: &Wanted, watch: &Watch<'_>) -> std::io::Result<Seen> {
    let source = &export.entries[index].source;
    let (path, size) = (&source.path, source.size());
    let texts = &wanted.texts;
    let mut out = Looked::default();
    if let Some(secret) = secrets::by_name(path) {
        out.secret = Some((secret.what.to_owned(), secret.line));
        return Ok(Some(Box::new(out)));
    }
    let mut from = watch.over(export.open(index)?);
    let mut bytes = Vec::new();
    from.by_ref().take(HEAD_LEN as u64).read_to_end(&mut bytes)?;
    if may_be_program(&bytes) {
        match program(&mut watch.over(export.open_anywhere(index)?)) {
            Ok((program, symbols)) => (out.program, out.symbols_of) = (program, symbols),
            Err(FormatError::Not { .. }) => {}
            Err(FormatError::Io(error)) => return Err(error),
            Err(error) => out.broken = Some(error.to_string()),
        }
    }
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
    Ok((out != Looked::default()).then(|| Box::new(out)))
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
type Found = (Option<Binary>, Option<Vec<u8>>);

fn program(mut from: &mut dyn ReadSeek) -> Result<Found, FormatError> {
    let from = &mut from;
    match pe::symbols_id(from) {
        Ok(id) => return Ok((None, Some(id.to_vec()))),
        Err(FormatError::Not { .. }) => {}
        Err(FormatError::Io(error)) => return Err(FormatError::Io(error)),
        // Whose it is cannot be told, what it is can.
        Err(_) => return Ok((None, Some(Vec::new()))),
    }
    from.seek(SeekFrom::Start(0)).map_err(FormatError::Io)?;
    let program = Program::read(from)?;
    let machines = program.machines.iter().map(ToString::to_string).collect();
    let mut out = Binary { machines, ..Binary::default() };
    match program.form {
        Form::Pe => {
            let details = pe::Details::read(from)?;
            out.debug_runtime = details.debug_runtime().map(str::to_owned);
            out.ids.extend(details.symbols.as_ref().map(|symbols| symbols.id.to_vec()));
            out.signature_wrong = pe::verify(from, &details)?.and_then(|signer| signer.wrong);
            out.libraries = details.libraries;
        }
        Form::Elf => {
            let details = elf::Details::read(from)?;
            out.too_new = too_new_for_linux(&details).map(|version| format!("glibc {version}"));
            out.ids.extend(details.build_id);
            (out.has_debug_data, out.libraries) = (details.has_debug_data, details.libraries);
            out.page_len = details.page_len;
        }
        _ => {
            out.is_debug_data = program.kind == Kind::Other;
            let slices = macho::Details::read(from)?;
            out.too_new = too_new_for_macos(&slices).map(|(system, version, _)| format!("{system} {version}"));
            out.ids.extend(slices.iter().filter_map(|details| Some(details.uuid?.to_vec())));
            out.has_debug_data = slices.iter().any(|details| details.has_debug_data);
            out.signature_wrong = verify_code(from, &slices, &[])?.and_then(|code| code.wrong);
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

    fn listing(form: export::Form, stamps: [Stamp; 2]) -> Export {
        let paths = ["letter.txt", "saltmarsh"].map(|path| TreePath::new(path).unwrap());
        Export::listed("exports/linux", form, paths.into_iter().zip(stamps))
    }

    #[test]
    fn what_is_remembered_counts_while_the_file_is_as_it_was() {
        let target = "full/linux";
        let stamp = Stamp { size: 7, modified_ns: 1_000, changed_ns: 1_000, inode: 1 };
        let other = Stamp { inode: 2, ..stamp };
        let looked = Looked { broken: Some("cut off".to_owned()), ..Looked::default() };
        let seen = [Some(None), Some(Some(Box::new(looked)))];
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("looked.json");
        let wanted = Wanted { texts: vec!["first-tide".to_owned()], names: Vec::new() };
        let both = listing(export::Form::Folder, [stamp, other]);
        let kept = |export: &Export, seen: &[Option<Seen>]| {
            let mut memory = Memory::load(&file, true);
            memory.set(target, &wanted, export, &[0, 1], seen);
            memory.save().unwrap();
            Memory::load(&file, true)
        };
        let memory = kept(&both, &seen);
        assert_eq!(memory.get(target, &wanted, &both, &[0, 1]), seen);
        assert_eq!(memory.get(target, &Wanted::default(), &both, &[0, 1]), [None, None], "other texts are asked for");
        let changed = listing(export::Form::Folder, [stamp, stamp]);
        assert_eq!(memory.get(target, &wanted, &changed, &[0, 1]), [Some(None), None]);
        // So new that another change at the same moment could not be told from it.
        let now = i64::try_from(outside::now().as_nanosecond()).unwrap();
        let fresh = listing(export::Form::Folder, [stamp, Stamp { modified_ns: now, ..stamp }]);
        assert_eq!(kept(&fresh, &seen).get(target, &wanted, &fresh, &[0, 1]), [Some(None), None]);

        let archive = listing(export::Form::Zip, [stamp, stamp]);
        let memory = kept(&archive, &seen);
        assert!(!std::fs::read_to_string(&file).unwrap().contains("letter.txt"), "nothing is to be said of it");
        assert_eq!(memory.get(target, &wanted, &archive, &[0, 1]), seen);
        assert_eq!(memory.get(target, &wanted, &archive, &[0]), [None], "other files of it are meant");
        let unread = [None, seen[1].clone()];
        assert_eq!(kept(&archive, &unread).get(target, &wanted, &archive, &[0, 1]), unread);
        let changed = listing(export::Form::Zip, [other, other]);
        assert_eq!(memory.get(target, &wanted, &changed, &[0, 1]), [None, None]);
        std::fs::write(&file, b"{").unwrap();
        assert_eq!(Memory::load(&file, true).get(target, &wanted, &both, &[0, 1]), [None, None], "damaged");
    }
}
