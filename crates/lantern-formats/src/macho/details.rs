//! What a Mach-O slice says beyond its header: libraries, the oldest system, debug data, where its signature lies.
//!
//! Source: Apple's `mach-o/loader.h`, the structures of each `LC_…`
//! (<https://github.com/apple-oss-distributions/xnu/blob/main/EXTERNAL_HEADERS/mach-o/loader.h>).

use std::io::{Read, Seek};

use super::{MachO, Slice};
use crate::offset_reader::{FormatError, OffsetReader};

/// Most load commands that are read. Ours: real programs have fewer than 200; bounds time on hostile input.
const MAX_COMMANDS: u32 = 2048;
/// Longest name of a library that is read, in bytes. Ours.
const MAX_NAME_LEN: u64 = 1024;

const LC_REQ_DYLD: u32 = 0x8000_0000;
const LC_LOAD_DYLIB: u32 = 0xc;
const LC_ID_DYLIB: u32 = 0xd;
const LC_LOAD_WEAK_DYLIB: u32 = 0x18 | LC_REQ_DYLD;
const LC_SEGMENT_64: u32 = 0x19;
const LC_UUID: u32 = 0x1b;
const LC_RPATH: u32 = 0x1c | LC_REQ_DYLD;
const LC_CODE_SIGNATURE: u32 = 0x1d;
const LC_REEXPORT_DYLIB: u32 = 0x1f | LC_REQ_DYLD;
const LC_VERSION_MIN_MACOSX: u32 = 0x24;
const LC_VERSION_MIN_IPHONEOS: u32 = 0x25;
const LC_BUILD_VERSION: u32 = 0x32;

/// The system that a slice is built for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Platform {
    /// Desktop.
    MacOs,
    /// Phones and tablets.
    Ios,
    /// Phones and tablets, in their simulator: runs on a developer's computer alone.
    IosSimulator,
    /// Another one, by its number.
    Other(u32),
}

/// A version in three parts, such as 10.13.0.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct SystemVersion(pub u16, pub u8, pub u8);

impl SystemVersion {
    fn of(value: u32) -> Self {
        let [high, low, minor, patch] = value.to_be_bytes();
        Self(u16::from_be_bytes([high, low]), minor, patch)
    }
}

/// `10.13` or `10.13.1`.
impl std::str::FromStr for SystemVersion {
    type Err = std::num::ParseIntError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let mut parts = text.trim().splitn(3, '.');
        let first = parts.next().unwrap_or_default().parse()?;
        let mut next = || parts.next().map_or(Ok(0), str::parse);
        Ok(Self(first, next()?, next()?))
    }
}

impl std::fmt::Display for SystemVersion {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}.{}", self.0, self.1)?;
        if self.2 > 0 { write!(f, ".{}", self.2) } else { Ok(()) }
    }
}

/// A library that a slice wants.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Library {
    /// Its install name, such as `@rpath/libtide.dylib`.
    pub name: String,
    /// Whether the program starts without it, too.
    pub is_weak: bool,
}

/// What a slice says beyond its header.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Details {
    /// The slice.
    pub slice: Slice,
    /// Libraries that it wants when it starts.
    pub libraries: Vec<Library>,
    /// Its own install name, for a library.
    pub name: Option<String>,
    /// Where `@rpath` leads, in order.
    pub search: Vec<String>,
    /// The oldest system that it starts on.
    pub minimum: Option<(Platform, SystemVersion)>,
    /// Names what was built: the same in the bundle of its debug data.
    pub uuid: Option<[u8; 16]>,
    /// Whether it holds debug data.
    pub has_debug_data: bool,
    /// Where its code signature lies, as offset from the slice's start and length.
    pub signature: Option<(u64, u64)>,
    /// Where `__TEXT` lies in it, as offset and length.
    pub text: Option<(u64, u64)>,
}

impl Details {
    /// Reads those of every slice.
    ///
    /// # Errors
    /// [`FormatError`].
    pub fn read(from: &mut (impl Read + Seek)) -> Result<Vec<Self>, FormatError> {
        let file = MachO::read(from)?;
        file.slices.iter().map(|slice| Self::of_slice(from, *slice)).collect()
    }

    fn of_slice(from: &mut (impl Read + Seek), slice: Slice) -> Result<Self, FormatError> {
        let mut fields = OffsetReader { from, little: true };
        let start = slice.offset;
        let magic = fields.bytes::<4>(start, "a slice")?;
        fields.little = magic[0] != 0xfe;
        let is_wide = magic.contains(&0xcf);
        let count = fields.u32(start.saturating_add(16), "ncmds")?;
        if count > MAX_COMMANDS {
            return Err(FormatError::Value { what: "ncmds", value: count.into() });
        }
        let mut out = Self {
            slice,
            libraries: Vec::new(),
            name: None,
            search: Vec::new(),
            minimum: None,
            uuid: None,
            has_debug_data: false,
            signature: None,
            text: None,
        };
        let mut at = start.saturating_add(if is_wide { 32 } else { 28 });
        for _ in 0..count {
            let command = fields.u32(at, "a load command")?;
            let size = fields.u32(at.saturating_add(4), "a load command's size")?;
            if size < 8 {
                return Err(FormatError::Value { what: "a load command's size", value: size.into() });
            }
            out.command(&mut fields, at, command, size)?;
            at = at.saturating_add(size.into());
        }
        Ok(out)
    }

    fn command<R: Read + Seek>(
        &mut self,
        fields: &mut OffsetReader<'_, R>,
        at: u64,
        command: u32,
        size: u32,
    ) -> Result<(), FormatError> {
        // A text lies behind the fixed part, at an offset that stands in it.
        let text = |fields: &mut OffsetReader<'_, R>| {
            let by = fields.u32(at + 8, "the offset of a name")?;
            let len = u64::from(size.saturating_sub(by)).min(MAX_NAME_LEN);
            let bytes = fields.vec(at + u64::from(by), usize::try_from(len).unwrap_or(0), "a name")?;
            let name = bytes.split(|b| *b == 0).next().unwrap_or_default();
            Ok::<_, FormatError>(String::from_utf8_lossy(name).into_owned())
        };
        match command {
            LC_LOAD_DYLIB | LC_LOAD_WEAK_DYLIB | LC_REEXPORT_DYLIB => {
                self.libraries.push(Library { name: text(fields)?, is_weak: command == LC_LOAD_WEAK_DYLIB });
            }
            LC_ID_DYLIB => self.name = Some(text(fields)?),
            LC_RPATH => self.search.push(text(fields)?),
            LC_UUID => self.uuid = Some(fields.bytes(at + 8, "the uuid")?),
            LC_CODE_SIGNATURE => {
                let offset = fields.u32(at + 8, "dataoff")?;
                self.signature = Some((offset.into(), fields.u32(at + 12, "datasize")?.into()));
            }
            LC_SEGMENT_64 => {
                let name: [u8; 16] = fields.bytes(at + 8, "segname")?;
                self.has_debug_data |= name.starts_with(b"__DWARF\0");
                if name.starts_with(b"__TEXT\0") {
                    self.text = Some((fields.u64(at + 40, "fileoff")?, fields.u64(at + 48, "filesize")?));
                }
            }
            LC_VERSION_MIN_MACOSX | LC_VERSION_MIN_IPHONEOS => {
                let platform = if command == LC_VERSION_MIN_MACOSX { Platform::MacOs } else { Platform::Ios };
                self.minimum = Some((platform, SystemVersion::of(fields.u32(at + 8, "version")?)));
            }
            LC_BUILD_VERSION => {
                let platform = match fields.u32(at + 8, "platform")? {
                    1 => Platform::MacOs,
                    2 => Platform::Ios,
                    7 => Platform::IosSimulator,
                    other => Platform::Other(other),
                };
                self.minimum = Some((platform, SystemVersion::of(fields.u32(at + 12, "minos")?)));
            }
            _ => {}
        }
        Ok(())
    }
}
