//! What an ELF file says beyond its headers: libraries, the C library's version, where it looks, debug data.
//!
//! Source: System V ABI, edition 4.1, chapter 5 ("Dynamic Section"; <https://gabi.xinuos.com>); symbol versions after the Linux Standard Base,
//! Core 5.0, "Symbol Versioning" (<https://refspecs.linuxfoundation.org/LSB_5.0.0/LSB-Core-generic/LSB-Core-generic/symversion.html>); the build id after the GNU linker's `--build-id`.

use std::collections::BTreeMap;
use std::io::{Read, Seek};

use super::file::{File, PT_LOAD};
use crate::offset_reader::FormatError;

const PT_NOTE: u32 = 4;
const DT_NEEDED: u64 = 1;
const DT_STRTAB: u64 = 5;
const DT_SONAME: u64 = 14;
const DT_RPATH: u64 = 15;
const DT_RUNPATH: u64 = 29;
const DT_VERNEED: u64 = 0x6fff_fffe;
const NT_GNU_BUILD_ID: u32 = 3;
/// Longest name that is read, in bytes. Ours.
const MAX_NAME_LEN: usize = 4096;
/// Most versions of one library that are followed, and most libraries. Ours: real programs need fewer than 100.
const MAX_VERSIONS: usize = 4096;
/// Most sections whose names are looked at. Ours: bounds time on hostile input.
const MAX_SECTIONS: u16 = 4096;
/// Longest table of section names that is read, in bytes. Ours.
const MAX_SECTION_NAMES_LEN: u64 = 1024 * 1024;
/// Longest segment of notes that is read, in bytes. Ours.
const MAX_NOTES_LEN: u64 = 64 * 1024;
/// Longest build id, in bytes. Ours: real ones have 8 to 32.
const MAX_BUILD_ID_LEN: u32 = 64;

/// What an ELF file says beyond its headers.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Details {
    /// Libraries that must be there when it starts.
    pub libraries: Vec<String>,
    /// What it is called as a library.
    pub name: Option<String>,
    /// Where it looks for them first, as written: `$ORIGIN` is the folder that it lies in.
    pub search: Vec<String>,
    /// The newest version of each family of symbol versions that it needs, such as `GLIBC` → 2.34.
    pub needs: BTreeMap<String, SymbolVersion>,
    /// Names what was built: the same in the file of its debug data. Any length; as it stands there.
    pub build_id: Option<Vec<u8>>,
    /// Whether it holds debug data.
    pub has_debug_data: bool,
    /// The smallest multiple at which a part of it must be loaded, in bytes: larger pages cannot load it.
    pub page_len: Option<u64>,
}

/// A version such as 2.34 or 3.4.29, compared number by number.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SymbolVersion(pub Vec<u32>);

impl std::fmt::Display for SymbolVersion {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let numbers: Vec<String> = self.0.iter().map(u32::to_string).collect();
        f.write_str(&numbers.join("."))
    }
}

/// Cuts `GLIBC_2.34` in two; others, such as `GLIBC_PRIVATE`, are no version.
fn family_and_version(text: &str) -> Option<(String, SymbolVersion)> {
    let (family, version) = text.rsplit_once('_')?;
    let numbers: Result<Vec<u32>, _> = version.split('.').map(str::parse).collect();
    Some((family.to_owned(), SymbolVersion(numbers.ok()?)))
}

impl<R: Read + Seek> File<'_, R> {
    /// The list of libraries with the versions that are needed of each.
    fn versions(&mut self, start: u64, names: u64) -> Result<BTreeMap<String, SymbolVersion>, FormatError> {
        let mut needs: BTreeMap<String, SymbolVersion> = BTreeMap::new();
        let mut left = MAX_VERSIONS;
        let mut library = start;
        loop {
            let mut at = library.saturating_add(self.fields.u32(library.saturating_add(8), "vn_aux")?.into());
            loop {
                if left == 0 {
                    return Err(FormatError::Value { what: "the number of versions", value: MAX_VERSIONS as u64 });
                }
                left -= 1;
                let name = self.fields.u32(at.saturating_add(8), "vna_name")?;
                let text = self.fields.text(names.saturating_add(name.into()), MAX_NAME_LEN, "a version's name")?;
                if let Some((family, version)) = family_and_version(&text) {
                    let newest = needs.entry(family).or_insert_with(|| version.clone());
                    if *newest < version {
                        *newest = version;
                    }
                }
                match self.fields.u32(at.saturating_add(12), "vna_next")? {
                    0 => break,
                    next => at = at.saturating_add(next.into()),
                }
            }
            match self.fields.u32(library.saturating_add(12), "vn_next")? {
                0 => return Ok(needs),
                next => library = library.saturating_add(next.into()),
            }
        }
    }

    fn build_id(&mut self) -> Result<Option<Vec<u8>>, FormatError> {
        let notes = self.segments.iter().filter(|s| s.kind == PT_NOTE);
        let places: Vec<(u64, u64)> = notes.map(|s| (s.offset, s.len.min(MAX_NOTES_LEN))).collect();
        for (start, len) in places {
            let mut at = start;
            // A note has a head of 12 bytes; its name and its bytes fill whole fours.
            while at.saturating_add(12) <= start.saturating_add(len) {
                let name_len = self.fields.u32(at, "a note")?;
                let data_len = self.fields.u32(at + 4, "a note")?;
                let kind = self.fields.u32(at + 8, "a note")?;
                let data = at + 12 + u64::from(name_len).next_multiple_of(4);
                let is_id = kind == NT_GNU_BUILD_ID && name_len == 4 && data_len <= MAX_BUILD_ID_LEN;
                if is_id && self.fields.bytes::<4>(at + 12, "a note's name")? == *b"GNU\0" {
                    return Ok(Some(self.fields.vec(data, data_len as usize, "the build id")?));
                }
                at = data.saturating_add(u64::from(data_len).next_multiple_of(4));
            }
        }
        Ok(None)
    }

    fn has_debug_data(&mut self) -> Result<bool, FormatError> {
        let start = self.word(32, 40, "e_shoff")?;
        let sizes_at = if self.wide { 58 } else { 46 };
        let size = u64::from(self.fields.u16(sizes_at, "e_shentsize")?);
        let count = self.fields.u16(sizes_at + 2, "e_shnum")?.min(MAX_SECTIONS);
        let names = u64::from(self.fields.u16(sizes_at + 4, "e_shstrndx")?);
        if start == 0 || count == 0 || names >= u64::from(count) {
            return Ok(false);
        }
        let header = start.saturating_add(names * size);
        let at = self.word(header.saturating_add(16), header.saturating_add(24), "sh_offset")?;
        let len = self.word(header.saturating_add(20), header.saturating_add(32), "sh_size")?;
        let len = usize::try_from(len.min(MAX_SECTION_NAMES_LEN)).unwrap_or(0);
        let table = self.fields.vec(at, len, "the names of sections")?;
        for i in 0..u64::from(count) {
            let name = self.fields.u32(start.saturating_add(i * size), "sh_name")? as usize;
            let name = table.get(name..).and_then(|rest| rest.split(|b| *b == 0).next()).unwrap_or_default();
            if name == b".debug_info" || name == b".zdebug_info" {
                return Ok(true);
            }
        }
        Ok(false)
    }
}

impl Details {
    /// Reads them.
    ///
    /// # Errors
    /// [`FormatError`].
    pub fn read(from: &mut (impl Read + Seek)) -> Result<Self, FormatError> {
        let mut file = File::read(from)?;
        let dynamic = file.dynamic()?;
        let (build_id, has_debug_data) = (file.build_id()?, file.has_debug_data()?);
        let loaded = file.segments.iter().filter(|segment| segment.kind == PT_LOAD);
        let page_len = loaded.map(|segment| segment.align).min();
        let mut out = Self { build_id, has_debug_data, page_len, ..Self::default() };
        let value = |tag: u64| dynamic.iter().find(|(known, _)| *known == tag).map(|(_, value)| *value);
        // Files of debug data alone keep the table's place without its bytes.
        let Some(names) = value(DT_STRTAB).and_then(|address| file.offset(address)) else { return Ok(out) };
        for (tag, by) in &dynamic {
            if matches!(*tag, DT_NEEDED | DT_SONAME | DT_RPATH | DT_RUNPATH) {
                let text = file.fields.text(names.saturating_add(*by), MAX_NAME_LEN, "a name in DT_STRTAB")?;
                match *tag {
                    DT_NEEDED => out.libraries.push(text),
                    DT_SONAME => out.name = Some(text),
                    _ => out.search.extend(text.split(':').filter(|part| !part.is_empty()).map(str::to_owned)),
                }
            }
        }
        if let Some(start) = value(DT_VERNEED).and_then(|address| file.offset(address)) {
            out.needs = file.versions(start, names)?;
        }
        Ok(out)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The running test is a real program, made by this computer's own linker.
    #[cfg(target_os = "linux")]
    #[test]
    fn this_very_test_is_read() {
        let mut file = std::fs::File::open(std::env::current_exe().unwrap()).unwrap();
        let details = Details::read(&mut file).unwrap();
        assert!(details.libraries.iter().any(|name| name.starts_with("libc.so")), "{details:?}");
        assert!(details.needs["GLIBC"] >= SymbolVersion(vec![2, 2, 5]), "{details:?}");
        assert!(details.has_debug_data, "built with debug data");
        assert!(details.page_len.is_some_and(|len| len >= 4096 && len.is_power_of_two()), "{details:?}");
    }

    #[test]
    fn versions_are_compared_by_number() {
        let version = |text| family_and_version(text).unwrap().1;
        assert!(version("GLIBC_2.4") < version("GLIBC_2.34"));
        assert!(version("GLIBC_2.34") > version("GLIBC_2.3.4"));
        assert_eq!(family_and_version("GLIBCXX_3.4.29").unwrap().0, "GLIBCXX");
        assert_eq!(version("GLIBC_2.34").to_string(), "2.34");
        assert!(family_and_version("GLIBC_PRIVATE").is_none());
    }
}
