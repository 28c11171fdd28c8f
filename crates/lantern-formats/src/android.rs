//! The binary manifest of an Android package.
//!
//! Source: the Android Open Source Project's `ResourceTypes.h` (`ResChunk_header`, `ResStringPool_header`,
//! `ResXMLTree_attrExt`, `Res_value`;
//! <https://android.googlesource.com/platform/frameworks/base/+/main/libs/androidfw/include/androidfw/ResourceTypes.h>). Attributes are known by their resource id, from the resource map: packers may
//! change their names.
//!
//! | chunk | type | what it holds |
//! |---|---|---|
//! | the whole | 0x0003 | the chunks below |
//! | string pool | 0x0001 | texts in UTF-8 or UTF-16, by index |
//! | resource map | 0x0180 | resource ids of the first texts |
//! | element | 0x0102, 0x0103 | its start with attributes, its end |

mod bundle;
mod resources;

pub use resources::files_of;

use lantern_core::bytes::{ByteReader, ReadError};

const CHUNK_XML: u16 = 0x0003;
const CHUNK_STRINGS: u16 = 0x0001;
const CHUNK_RESOURCE_MAP: u16 = 0x0180;
const CHUNK_START: u16 = 0x0102;
const CHUNK_END: u16 = 0x0103;
const FLAG_UTF8: u32 = 0x100;
const TYPE_STRING: u8 = 0x03;
const TYPE_BOOLEAN: u8 = 0x12;
const NOTHING: u32 = u32::MAX;
/// Largest manifest that is read, in bytes. Ours: real ones have a few hundred kilobytes at most.
pub const MAX_MANIFEST_LEN: u64 = 16 * 1024 * 1024;
/// Deepest nesting that is followed. Ours: real manifests have fewer than 10 levels.
const MAX_DEPTH: usize = 64;
/// Longest text that is read, in bytes. Ours: bounds memory where one text is named very often.
const MAX_TEXT_LEN: usize = 4096;
/// Most attributes of an element, and most entries of a list, that are read. Ours: bounds memory in the same way.
const MAX_ATTRIBUTES: usize = 256;
const MAX_LISTED: usize = 1024;

/// The ability that a device has when it is a headset.
pub const HEADTRACKING: &str = "android.hardware.vr.headtracking";

/// Resource ids of attributes. Source: `public-final.xml` of the framework.
mod id {
    pub const ICON: u32 = 0x0101_0002;
    pub const NAME: u32 = 0x0101_0003;
    pub const DEBUGGABLE: u32 = 0x0101_000f;
    pub const MIN_SDK: u32 = 0x0101_020c;
    pub const VERSION_CODE: u32 = 0x0101_021b;
    pub const VERSION_NAME: u32 = 0x0101_021c;
    pub const TARGET_SDK: u32 = 0x0101_0270;
    pub const TEST_ONLY: u32 = 0x0101_0272;
    pub const REQUIRED: u32 = 0x0101_028e;
    pub const EXTRACT_NATIVE_LIBS: u32 = 0x0101_04ea;
    pub const VERSION_CODE_MAJOR: u32 = 0x0101_0576;
}

/// A device's ability that a package asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Feature {
    /// Such as `android.hardware.touchscreen`.
    pub name: String,
    /// Whether it is not installed without it.
    pub is_required: bool,
}

/// What a manifest says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Manifest {
    /// The identity, reverse-domain.
    pub package: String,
    /// The number that only rises; with the major part above the first 32 bits.
    pub version_code: Option<u64>,
    /// The version for people.
    pub version_name: Option<String>,
    /// The oldest system that it is installed on, as API level.
    pub min_sdk: Option<u32>,
    /// The system that it was made for, as API level.
    pub target_sdk: Option<u32>,
    /// Whether a debugger may look into it: a developer's build.
    pub is_debuggable: bool,
    /// Whether it is for tests alone: stores refuse it.
    pub is_test_only: bool,
    /// Whether native libraries are unpacked when it is installed; unset, they are not from API level 23 on.
    pub extracts_libraries: Option<bool>,
    /// Abilities that it asks for.
    pub features: Vec<Feature>,
    /// Rights that it asks for.
    pub permissions: Vec<String>,
    /// Its icon, as an id in the table of resources.
    pub icon: Option<u32>,
    /// What is started from the home screen.
    pub launcher: Option<String>,
    /// Whether it starts from a headset's home, by the category of its launcher.
    pub is_for_headsets: bool,
}

/// An attribute's value.
enum Value {
    Text(String),
    Number(u32),
    Flag(bool),
}

struct Attribute {
    id: Option<u32>,
    /// Whether it is the one that names the package, which has no resource id.
    is_package: bool,
    value: Value,
}

#[derive(Default)]
struct Strings<'a> {
    offsets: Vec<u32>,
    bytes: &'a [u8],
    is_utf8: bool,
}

impl<'a> Strings<'a> {
    fn read(chunk: &'a [u8]) -> Result<Self, ReadError> {
        let mut reader = ByteReader::new(chunk);
        let head_len = usize::from({
            reader.u16("a chunk")?;
            reader.u16("a chunk")?
        });
        reader.u32("a chunk")?;
        let count = reader.u32("the string pool")? as usize;
        reader.u32("the string pool")?;
        let is_utf8 = reader.u32("the string pool")? & FLAG_UTF8 != 0;
        let start = reader.u32("the string pool")? as usize;
        let possible = chunk.len().saturating_sub(head_len) / 4;
        if count > possible {
            return Err(ReadError::ImpossibleCount { what: "the string pool", declared: count as u64, possible });
        }
        let table = chunk.get(head_len..).unwrap_or_default();
        let offsets = table.as_chunks().0.iter().take(count).map(|b| u32::from_le_bytes(*b));
        Ok(Self { offsets: offsets.collect(), bytes: chunk.get(start..).unwrap_or_default(), is_utf8 })
    }

    /// Texts that are not whole come as none: a manifest without its name is found out by what is missing.
    fn get(&self, index: u32) -> Option<String> {
        let at = *self.offsets.get(index as usize)? as usize;
        let bytes = self.bytes.get(at..)?;
        if self.is_utf8 {
            // The length in characters, then the length in bytes; each one byte, or two with the highest bit set.
            let (_, rest) = short_len(bytes)?;
            let (len, rest) = short_len(rest)?;
            let text = rest.get(..len).filter(|_| len <= MAX_TEXT_LEN)?;
            return Some(String::from_utf8_lossy(text).into_owned());
        }
        let unit = |i: usize| Some(u16::from_le_bytes(bytes.get(i * 2..i * 2 + 2)?.try_into().ok()?));
        let first = usize::from(unit(0)?);
        let (len, from) = match first & 0x8000 {
            0 => (first, 1),
            _ => ((first & 0x7fff) << 16 | usize::from(unit(1)?), 2),
        };
        let text = bytes.get(from * 2..).filter(|_| len <= MAX_TEXT_LEN)?.get(..len * 2)?;
        let units: Vec<u16> = text.as_chunks().0.iter().map(|b| u16::from_le_bytes(*b)).collect();
        Some(String::from_utf16_lossy(&units))
    }
}

fn short_len(bytes: &[u8]) -> Option<(usize, &[u8])> {
    match bytes {
        [high, low, rest @ ..] if high & 0x80 != 0 => Some((usize::from(high & 0x7f) << 8 | usize::from(*low), rest)),
        [len, rest @ ..] => Some((usize::from(*len), rest)),
        [] => None,
    }
}

/// What elements say, one after the other, in whatever form they were written.
#[derive(Default)]
struct Walk {
    /// Names of the elements that are open.
    way: Vec<String>,
    /// What the intent filter that is open names, and the activity that it belongs to.
    activity: Option<String>,
    filter: Vec<String>,
    out: Manifest,
}

impl Manifest {
    /// Whether it is for headsets: it starts from their home, or is not installed without tracking of the head.
    pub fn needs_headset(&self) -> bool {
        self.is_for_headsets || self.features.iter().any(|f| f.is_required && f.name == HEADTRACKING)
    }

    /// Reads a binary manifest.
    ///
    /// # Errors
    /// [`ReadError`].
    pub fn read(bytes: &[u8]) -> Result<Self, ReadError> {
        let mut reader = ByteReader::new(bytes);
        if reader.u16("a manifest")? != CHUNK_XML {
            return Err(ReadError::Magic { what: "a binary manifest" });
        }
        let head_len = reader.u16("a manifest")?;
        let (mut strings, mut ids, mut walk) = (Strings::default(), Vec::new(), Walk::default());
        let mut rest = bytes.get(usize::from(head_len)..).unwrap_or_default();
        while !rest.is_empty() {
            let mut reader = ByteReader::new(rest);
            let kind = reader.u16("a chunk")?;
            reader.u16("a chunk's head")?;
            let len = reader.u32("a chunk's length")? as usize;
            let wrong =
                |why: &str| ReadError::Value { what: "a chunk", offset: bytes.len() - rest.len(), why: why.into() };
            if len < 8 || len > rest.len() {
                return Err(wrong("its length is impossible"));
            }
            let (chunk, after) = rest.split_at(len);
            match kind {
                CHUNK_STRINGS => strings = Strings::read(chunk)?,
                CHUNK_RESOURCE_MAP => {
                    let places = chunk.get(8..).unwrap_or_default().as_chunks().0.iter();
                    ids = places.map(|b| u32::from_le_bytes(*b)).collect();
                }
                CHUNK_START => start(chunk, &strings, &ids, &mut walk)?,
                CHUNK_END => walk.end(),
                _ => {}
            }
            if walk.way.len() > MAX_DEPTH {
                return Err(wrong("elements are nested too deeply"));
            }
            rest = after;
        }
        walk.finish()
    }

    /// Reads the manifest of a bundle's module, which is written in another form.
    ///
    /// # Errors
    /// [`ReadError`].
    pub fn read_of_bundle(bytes: &[u8]) -> Result<Self, ReadError> {
        let mut walk = Walk::default();
        bundle::node(bytes, &mut walk)?;
        walk.finish()
    }
}

fn start(chunk: &[u8], strings: &Strings<'_>, ids: &[u32], walk: &mut Walk) -> Result<(), ReadError> {
    let mut reader = ByteReader::new(chunk.get(16..).unwrap_or_default());
    reader.u32("an element's namespace")?;
    let name = strings.get(reader.u32("an element's name")?).unwrap_or_default();
    let start = usize::from(reader.u16("an element's attributes")?);
    let size = usize::from(reader.u16("an element's attributes")?).max(20);
    let count = usize::from(reader.u16("an element's attributes")?).min(MAX_ATTRIBUTES);
    let places = chunk.get(16 + start..).unwrap_or_default().chunks_exact(size).take(count);
    let mut attributes = Vec::new();
    for place in places {
        let mut reader = ByteReader::new(place);
        reader.u32("an attribute's namespace")?;
        let name = reader.u32("an attribute's name")?;
        let raw = reader.u32("an attribute's text")?;
        reader.u16("an attribute's value")?;
        reader.u8("an attribute's value")?;
        let kind = reader.u8("an attribute's kind")?;
        let data = reader.u32("an attribute's value")?;
        let text = |index: u32| strings.get(index).map(Value::Text);
        let value = match kind {
            TYPE_STRING => text(data),
            TYPE_BOOLEAN => Some(Value::Flag(data != 0)),
            _ if raw != NOTHING => text(raw),
            _ => Some(Value::Number(data)),
        };
        let id = ids.get(name as usize).copied();
        let is_package = id.is_none() && strings.get(name).as_deref() == Some("package");
        attributes.extend(value.map(|value| Attribute { id, is_package, value }));
    }
    walk.start(name, &attributes);
    Ok(())
}

impl Walk {
    fn start(&mut self, name: String, attributes: &[Attribute]) {
        self.element(&name, attributes);
        self.way.push(name);
    }

    fn finish(self) -> Result<Manifest, ReadError> {
        if self.out.package.is_empty() {
            return Err(ReadError::Value { what: "a manifest", offset: 0, why: "it names no package".into() });
        }
        Ok(self.out)
    }

    fn element(&mut self, name: &str, attributes: &[Attribute]) {
        let find = |id: u32| attributes.iter().find(|a| a.id == Some(id)).map(|a| &a.value);
        let text = |id: u32| match find(id) {
            Some(Value::Text(text)) => Some(text.clone()),
            Some(Value::Number(number)) => Some(number.to_string()),
            _ => None,
        };
        let number = |id: u32| match find(id) {
            Some(Value::Number(number)) => Some(*number),
            Some(Value::Text(text)) => text.parse().ok(),
            _ => None,
        };
        let flag = |id: u32| match find(id) {
            Some(Value::Flag(flag)) => Some(*flag),
            Some(Value::Number(number)) => Some(*number != 0),
            Some(Value::Text(text)) => Some(text == "true"),
            None => None,
        };
        let way: Vec<&str> = self.way.iter().map(String::as_str).collect();
        match (way.as_slice(), name) {
            ([], "manifest") => {
                let package = attributes.iter().find(|attribute| attribute.is_package);
                if let Some(Attribute { value: Value::Text(package), .. }) = package {
                    self.out.package.clone_from(package);
                }
                let major = number(id::VERSION_CODE_MAJOR).map_or(0, u64::from);
                self.out.version_code = number(id::VERSION_CODE).map(|low| major << 32 | u64::from(low));
                self.out.version_name = text(id::VERSION_NAME);
            }
            (["manifest"], "uses-sdk") => {
                self.out.min_sdk = number(id::MIN_SDK);
                self.out.target_sdk = number(id::TARGET_SDK);
            }
            (["manifest"], "uses-feature") if self.out.features.len() < MAX_LISTED => {
                let is_required = flag(id::REQUIRED).unwrap_or(true);
                self.out.features.extend(text(id::NAME).map(|name| Feature { name, is_required }));
            }
            (["manifest"], "uses-permission") if self.out.permissions.len() < MAX_LISTED => {
                self.out.permissions.extend(text(id::NAME));
            }
            (["manifest"], "application") => {
                self.out.icon = number(id::ICON).filter(|id| *id != 0);
                self.out.is_debuggable = flag(id::DEBUGGABLE) == Some(true);
                self.out.is_test_only = flag(id::TEST_ONLY) == Some(true);
                self.out.extracts_libraries = flag(id::EXTRACT_NATIVE_LIBS);
            }
            (["manifest", "application"], "activity" | "activity-alias") => self.activity = text(id::NAME),
            (["manifest", "application", _], "intent-filter") => self.filter.clear(),
            ([.., "intent-filter"], "action" | "category") if self.filter.len() < MAX_LISTED => {
                self.filter.extend(text(id::NAME));
            }
            _ => {}
        }
    }

    fn end(&mut self) {
        let Some(name) = self.way.pop() else { return };
        let has = |wanted: &str| self.filter.iter().any(|name| name == wanted);
        if name == "intent-filter" && has("android.intent.action.MAIN") {
            let is_for_headsets = self.filter.iter().any(|name| name.ends_with(".intent.category.VR"));
            if has("android.intent.category.LAUNCHER") || has("android.intent.category.INFO") || is_for_headsets {
                self.out.launcher = self.out.launcher.take().or_else(|| self.activity.clone());
            }
            self.out.is_for_headsets |= is_for_headsets;
        }
    }
}
