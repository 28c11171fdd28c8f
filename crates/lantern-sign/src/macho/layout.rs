//! The layout of a Mach-O file as the signer sees it: read by its own code, without the reader that verifies afterwards. Source: Apple's
//! `mach-o/loader.h` and `mach-o/fat.h` (<https://github.com/apple-oss-distributions/xnu/tree/main/EXTERNAL_HEADERS/mach-o>).

use std::io::{Read, Seek, SeekFrom};

use crate::SignError;
use crate::archive::AGAIN;

const FAT: u32 = 0xcafe_babe;
const FAT_64: u32 = 0xcafe_babf;
const LC_SEGMENT: u32 = 0x1;
const LC_SEGMENT_64: u32 = 0x19;
const LC_CODE_SIGNATURE: u32 = 0x1d;
const LC_VERSION_MIN: [u32; 2] = [0x24, 0x25];
const LC_BUILD_VERSION: u32 = 0x32;
/// Length of the command that names a signature.
const COMMAND_LEN: usize = 16;
/// Most slices, and longest head, that are read. Ours.
const MAX_SLICES: u32 = 16;
const MAX_HEAD_LEN: u64 = 4 * 1024 * 1024;
/// Segments are whole pages of the processor with the largest ones.
const PAGE: u64 = 0x4000;
/// Where code ends and a signature begins is a multiple of this.
const ALIGNMENT: u64 = 16;

/// What is advised where data lies behind a program.
const BEHIND: &str = "keep the data in a file of its own, in Contents/Resources";

/// Numbers within a head, in its own order of bytes.
struct Head {
    bytes: Vec<u8>,
    is_little: bool,
}

impl Head {
    fn long(&self, at: usize) -> Result<u32, SignError> {
        let bytes = self.bytes.get(at..).and_then(|rest| rest.first_chunk::<4>());
        let bytes = *bytes.ok_or_else(|| SignError::refused("it is cut off within its head", AGAIN))?;
        Ok(if self.is_little { u32::from_le_bytes(bytes) } else { u32::from_be_bytes(bytes) })
    }

    /// A number of 4 or 8 bytes.
    fn wide(&self, at: usize, is_wide: bool) -> Result<u64, SignError> {
        let first = u64::from(self.long(at)?);
        if !is_wide {
            return Ok(first);
        }
        let second = u64::from(self.long(at + 4)?);
        Ok(if self.is_little { second << 32 | first } else { first << 32 | second })
    }

    fn set(&mut self, at: usize, value: u64, is_wide: bool) {
        let four = || u32::try_from(value).unwrap_or(u32::MAX);
        let bytes = match (is_wide, self.is_little) {
            (false, true) => four().to_le_bytes().to_vec(),
            (false, false) => four().to_be_bytes().to_vec(),
            (true, true) => value.to_le_bytes().to_vec(),
            (true, false) => value.to_be_bytes().to_vec(),
        };
        if let Some(place) = self.bytes.get_mut(at..at + bytes.len()) {
            place.copy_from_slice(&bytes);
        }
    }
}

/// A part of a slice that is mapped into memory.
#[derive(Debug, Clone, Copy)]
struct Segment {
    /// Where its command stands.
    at: usize,
    is_wide: bool,
    /// Where it lies in memory, and how much room it has there.
    memory: (u64, u64),
    /// Where it lies in the slice, and how long it is.
    pub file: (u64, u64),
}

/// One architecture.
pub(super) struct Slice {
    /// Where it lies in the file that is read.
    pub at: u64,
    pub len: u64,
    /// What its place in a universal file is a multiple of, as a power of two.
    align: u32,
    head: Head,
    /// Where the commands begin, and where they end.
    commands: (usize, usize),
    linkedit: Segment,
    /// Where `__TEXT` lies, and its length.
    pub text: (u64, u64),
    /// Where `__info_plist` lies, and its length: a property list within a program that has no bundle.
    pub info: Option<(u64, u64)>,
    /// Where the command of an older signature stands, where that lies, and its length.
    pub signature: Option<(usize, u64, u64)>,
    /// Bytes before a signature, as they are there.
    pub code_len: u64,
    /// Whether it is a program that is started, and not a library.
    pub is_program: bool,
    /// The version of the system's interface that it was built for.
    pub sdk: Option<u32>,
}

/// A file with its slices, in the order of its table.
pub(super) struct Layout {
    pub slices: Vec<Slice>,
    /// The table's own bytes, and whether its places have 8 bytes.
    table: Option<(Head, bool)>,
}

/// Where a slice comes to lie.
pub(super) struct Place {
    pub at: u64,
    /// With its signature.
    pub len: u64,
}

impl Layout {
    pub(super) fn read(from: &mut (impl Read + Seek)) -> Result<Self, SignError> {
        let len = from.seek(SeekFrom::End(0))?;
        let mut table = Head { bytes: read_at(from, 0, 8 + u64::from(MAX_SLICES) * 32)?, is_little: false };
        let is_wide = match table.long(0) {
            Ok(FAT) => false,
            Ok(FAT_64) => true,
            _ => return Ok(Self { slices: vec![Slice::read(from, 0, len, 0)?], table: None }),
        };
        let count = table.long(4)?;
        if count == 0 || count > MAX_SLICES {
            return Err(SignError::refused("it is no program for macOS or iOS", AGAIN));
        }
        let (row, wide) = if is_wide { (32, true) } else { (20, false) };
        let step = if wide { 8 } else { 4 };
        table.bytes.truncate(8 + count as usize * row);
        let mut slices = Vec::new();
        for number in 0..count as usize {
            let at = 8 + number * row;
            let (start, size) = (table.wide(at + 8, wide)?, table.wide(at + 8 + step, wide)?);
            let align = table.long(at + 8 + 2 * step)?;
            if align > 20 || start.checked_add(size).is_none_or(|end| end > len) || start < table.bytes.len() as u64 {
                return Err(SignError::refused("its table names a slice that is not there", AGAIN));
            }
            slices.push(Slice::read(from, start, size, align)?);
        }
        let mut order: Vec<&Slice> = slices.iter().collect();
        order.sort_by_key(|slice| slice.at);
        let mut end = 0;
        for slice in order {
            if slice.at < end {
                return Err(SignError::refused("its slices lie over one another", AGAIN));
            }
            end = slice.at + slice.len;
        }
        if end < len {
            return Err(SignError::refused(
                "data lies behind its last slice, which a signature would not cover",
                BEHIND,
            ));
        }
        Ok(Self { slices, table: Some((table, is_wide)) })
    }

    /// The slices' numbers, in the order of their places.
    pub(super) fn order(&self) -> Vec<usize> {
        let mut order: Vec<usize> = (0..self.slices.len()).collect();
        order.sort_by_key(|number| self.slices.get(*number).map(|slice| slice.at));
        order
    }

    /// Where the slices come to lie with signatures of these lengths: each where it was, or as close behind the one before it as its
    /// alignment allows.
    pub(super) fn places(&self, signatures: &[u64]) -> Result<Vec<Place>, SignError> {
        let mut out: Vec<Place> = self.slices.iter().map(|slice| Place { at: slice.at, len: 0 }).collect();
        let mut end = 0_u64;
        for (turn, number) in self.order().into_iter().enumerate() {
            let (Some(slice), Some(place), Some(signature)) =
                (self.slices.get(number), out.get_mut(number), signatures.get(number))
            else {
                continue;
            };
            if turn > 0 {
                place.at = end.next_multiple_of(1 << slice.align);
            }
            place.len = slice.code_end() + signature;
            end = place.at + place.len;
            // A slice names places within itself in 4 bytes, and most tables do.
            let is_narrow = self.table.as_ref().is_some_and(|(_, is_wide)| !is_wide);
            if place.len > u64::from(u32::MAX) || (is_narrow && end > u64::from(u32::MAX)) {
                return Err(SignError::refused(
                    "no program of more than 4 GB can be signed",
                    "put its data into files beside it",
                ));
            }
        }
        Ok(out)
    }

    /// The table of a universal file, with other places; nothing for a file of one slice.
    pub(super) fn table(&self, places: &[Place]) -> Vec<u8> {
        let Some((table, is_wide)) = &self.table else { return Vec::new() };
        let mut out = Head { bytes: table.bytes.clone(), is_little: false };
        let (row, step) = if *is_wide { (32, 8) } else { (20, 4) };
        for (number, place) in places.iter().enumerate() {
            out.set(8 + number * row + 8, place.at, *is_wide);
            out.set(8 + number * row + 8 + step, place.len, *is_wide);
        }
        out.bytes
    }
}

fn read_at(from: &mut (impl Read + Seek), at: u64, len: u64) -> Result<Vec<u8>, SignError> {
    from.seek(SeekFrom::Start(at))?;
    let mut out = Vec::new();
    from.take(len).read_to_end(&mut out)?;
    Ok(out)
}

impl Slice {
    fn read(from: &mut (impl Read + Seek), at: u64, len: u64, align: u32) -> Result<Self, SignError> {
        let no_program = || SignError::refused("it is no program for macOS or iOS", AGAIN);
        let start = read_at(from, at, len.min(32))?;
        let (is_little, is_wide) = match start.first_chunk::<4>() {
            Some([0xce, 0xfa, 0xed, 0xfe]) => (true, false),
            Some([0xcf, 0xfa, 0xed, 0xfe]) => (true, true),
            Some([0xfe, 0xed, 0xfa, 0xce]) => (false, false),
            Some([0xfe, 0xed, 0xfa, 0xcf]) => (false, true),
            _ => return Err(no_program()),
        };
        let mut head = Head { bytes: start, is_little };
        let first = if is_wide { 32 } else { 28 };
        let (count, commands_len) = (head.long(16)?, u64::from(head.long(20)?));
        let end = first as u64 + commands_len;
        if end > len.min(MAX_HEAD_LEN) {
            return Err(SignError::refused("it is cut off within its head", AGAIN));
        }
        // With the room behind them for one more.
        head.bytes = read_at(from, at, (end + COMMAND_LEN as u64).min(len))?;
        let mut out = Self {
            at,
            len,
            align,
            commands: (first, usize::try_from(end).unwrap_or(usize::MAX)),
            linkedit: Segment { at: 0, is_wide, memory: (0, 0), file: (0, 0) },
            text: (0, 0),
            info: None,
            signature: None,
            code_len: 0,
            is_program: head.long(12)? == 2,
            sdk: None,
            head,
        };
        let mut room_end = len;
        let mut segments = Vec::new();
        let mut here = first;
        for _ in 0..count {
            let (command, size) = (out.head.long(here)?, out.head.long(here + 4)? as usize);
            if size < 8 || here + size > out.commands.1 {
                return Err(SignError::refused("its commands do not fit into its head", AGAIN));
            }
            out.command(here, command, size, &mut segments, &mut room_end)?;
            here += size;
        }
        out.finish(&segments, room_end)
    }

    fn command(
        &mut self,
        at: usize,
        command: u32,
        size: usize,
        segments: &mut Vec<Segment>,
        room_end: &mut u64,
    ) -> Result<(), SignError> {
        let head = &self.head;
        match command {
            LC_SEGMENT | LC_SEGMENT_64 => {
                let is_wide = command == LC_SEGMENT_64;
                let step = if is_wide { 8 } else { 4 };
                let field = |number: usize| head.wide(at + 24 + number * step, is_wide);
                let segment = Segment { at, is_wide, memory: (field(0)?, field(1)?), file: (field(2)?, field(3)?) };
                let name = head.bytes.get(at + 8..at + 24).unwrap_or_default();
                if name.starts_with(b"__LINKEDIT\0") {
                    self.linkedit = segment;
                }
                if name.starts_with(b"__TEXT\0") {
                    self.text = segment.file;
                }
                segments.push(segment);
                let (sections, row) = (at + 24 + 4 * step + 16, if is_wide { 80 } else { 68 });
                let count = head.long(at + 24 + 4 * step + 8)? as usize;
                if size < sections - at || count > (size - (sections - at)) / row {
                    return Err(SignError::refused("its sections do not fit into its head", AGAIN));
                }
                for number in 0..count {
                    let section = sections + number * row;
                    let (len, place) = (head.wide(section + 32 + step, is_wide)?, head.long(section + 32 + 2 * step)?);
                    if place > 0 && len > 0 {
                        *room_end = (*room_end).min(place.into());
                    }
                    if head.bytes.get(section..section + 16).is_some_and(|name| name.starts_with(b"__info_plist\0")) {
                        self.info = Some((place.into(), len));
                    }
                }
            }
            LC_CODE_SIGNATURE => {
                if self.signature.is_some() {
                    return Err(SignError::refused("it names two signatures", AGAIN));
                }
                self.signature = Some((at, head.long(at + 8)?.into(), head.long(at + 12)?.into()));
            }
            LC_BUILD_VERSION => self.sdk = Some(head.long(at + 16)?),
            command if LC_VERSION_MIN.contains(&command) => self.sdk = Some(head.long(at + 12)?),
            _ => {}
        }
        Ok(())
    }

    /// Finds out where the code ends, and whether a signature has its place behind it.
    fn finish(mut self, segments: &[Segment], room_end: u64) -> Result<Self, SignError> {
        let linkedit = self.linkedit;
        if linkedit.at == 0 {
            let fix = "link it with a newer linker: each makes this segment, also where it is empty";
            return Err(SignError::refused("it has no segment __LINKEDIT, where its signature belongs", fix));
        }
        let end = linkedit.file.0.checked_add(linkedit.file.1);
        let is_behind = |other: &Segment| {
            let (file, memory) = (other.file, other.memory);
            other.at != linkedit.at
                && (file.1 > 0 && file.0.saturating_add(file.1) > linkedit.file.0 || memory.0 > linkedit.memory.0)
        };
        if segments.iter().any(is_behind) {
            let what = "its segment __LINKEDIT is not its last one: a signature behind it would lie over another";
            return Err(SignError::refused(what, "link it again without changing it afterwards"));
        }
        self.code_len = match self.signature {
            Some((_, at, len)) => {
                if at.checked_add(len) != Some(self.len)
                    || end != Some(self.len)
                    || at % ALIGNMENT != 0
                    || at < linkedit.file.0
                {
                    return Err(SignError::refused(
                        "it has a signature that is not at its end: what lies behind it would be lost",
                        BEHIND,
                    ));
                }
                at
            }
            None => {
                if end != Some(self.len) {
                    return Err(SignError::refused("data lies behind it, which a signature would not cover", BEHIND));
                }
                self.len
            }
        };
        if self.signature.is_none() {
            let (from, to) = (self.commands.1, self.commands.1 + COMMAND_LEN);
            let room = self.head.bytes.get(from..to).filter(|room| room.iter().all(|byte| *byte == 0));
            if to as u64 > room_end || room.is_none() {
                let what = "its head has no room for the 16 bytes that name a signature";
                return Err(SignError::refused(what, "link it with more room: -Wl,-headerpad,0x100"));
            }
        }
        Ok(self)
    }

    /// Where the code ends once a signature follows it.
    pub(super) fn code_end(&self) -> u64 {
        self.code_len.next_multiple_of(ALIGNMENT)
    }

    /// Its head, which names a signature of this length.
    pub(super) fn head(&self, signature_len: u64) -> Vec<u8> {
        let mut head = Head { bytes: self.head.bytes.clone(), is_little: self.head.is_little };
        let at = match self.signature {
            Some((at, ..)) => at,
            None => {
                let at = self.commands.1;
                let count = head.long(16).unwrap_or(0);
                head.set(16, u64::from(count) + 1, false);
                head.set(20, (self.commands.1 + COMMAND_LEN - self.commands.0) as u64, false);
                head.set(at, LC_CODE_SIGNATURE.into(), false);
                head.set(at + 4, COMMAND_LEN as u64, false);
                at
            }
        };
        head.set(at + 8, self.code_end(), false);
        head.set(at + 12, signature_len, false);
        let Segment { at, is_wide, memory, file } = self.linkedit;
        let len = self.code_end() + signature_len - file.0;
        let step = if is_wide { 8 } else { 4 };
        head.set(at + 24 + 3 * step, len, is_wide);
        if memory.1 < len {
            head.set(at + 24 + step, len.next_multiple_of(PAGE), is_wide);
        }
        head.bytes
    }
}
