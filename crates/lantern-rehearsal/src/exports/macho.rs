//! Small macOS programs for two processors, and iOS ones. Source: `mach-o/loader.h` and `mach-o/fat.h` as published.
//!
//! They end with 0 as soon as they are started. Nothing here signs them: an Apple processor starts signed programs only.

const PAGE: u64 = 0x4000;
const BASE: u64 = 0x1_0000_0000;

/// What a program is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Platform {
    /// macOS 11 and later.
    Macos,
    /// iOS 15 and later.
    Ios,
}

struct Processor {
    cputype: u32,
    cpusubtype: u32,
    code: &'static [u8],
}

const X86_64: Processor = Processor { cputype: 0x0100_0007, cpusubtype: 3, code: &[0x31, 0xc0, 0xc3] }; // xor eax, eax; ret
const ARM64: Processor =
    Processor { cputype: 0x0100_000c, cpusubtype: 0, code: &[0, 0, 0x80, 0x52, 0xc0, 0x03, 0x5f, 0xd6] }; // mov w0, 0; ret

/// Returns a program for both processors of macOS in one file; `mark` is kept in it.
pub fn universal(mark: &str) -> Vec<u8> {
    let slices = [slice(&X86_64, Platform::Macos, mark), slice(&ARM64, Platform::Macos, mark)];
    let mut file = 0xcafe_babe_u32.to_be_bytes().to_vec();
    file.extend(2_u32.to_be_bytes());
    let mut at = PAGE;
    for (processor, slice) in [&X86_64, &ARM64].into_iter().zip(&slices) {
        let (offset, len) = (u32::try_from(at).unwrap_or(0), u32::try_from(slice.len()).unwrap_or(0));
        for word in [processor.cputype, processor.cpusubtype, offset, len, 14] {
            file.extend(word.to_be_bytes());
        }
        at += (slice.len() as u64).div_ceil(PAGE) * PAGE;
    }
    for slice in slices {
        let start = (file.len() as u64).div_ceil(PAGE) * PAGE;
        file.resize(usize::try_from(start).unwrap_or(usize::MAX), 0);
        file.extend(slice);
    }
    file
}

/// Returns a program for iPhones; `mark` is kept in it.
pub fn for_ios(mark: &str) -> Vec<u8> {
    slice(&ARM64, Platform::Ios, mark)
}

fn slice(processor: &Processor, platform: Platform, mark: &str) -> Vec<u8> {
    let mut commands: Vec<Vec<u8>> = Vec::new();
    let words = |words: &[u32]| -> Vec<u8> { words.iter().flat_map(|w| w.to_le_bytes()).collect() };
    let name = |text: &str| -> [u8; 16] {
        let mut name = [0; 16];
        name[..text.len()].copy_from_slice(text.as_bytes());
        name
    };
    let segment = |segname: &str, memory: (u64, u64), file: (u64, u64), prot: u32, sections: &[Vec<u8>]| {
        let mut out = words(&[0x19, 72 + u32::try_from(sections.concat().len()).unwrap_or(0)]); // LC_SEGMENT_64
        out.extend(name(segname));
        for word in [memory.0, memory.1, file.0, file.1] {
            out.extend(word.to_le_bytes()); // vmaddr, vmsize, fileoff, filesize
        }
        out.extend(words(&[prot, prot, u32::try_from(sections.len()).unwrap_or(0), 0])); // maxprot, initprot, nsects, flags
        out.extend(sections.concat());
        out
    };
    let text = |command: u32, path: &str, fields: &[u32]| {
        let head = 12 + 4 * u32::try_from(fields.len()).unwrap_or(0);
        let len = (head as usize + path.len() + 1).div_ceil(8) * 8;
        let mut out = words(&[command, u32::try_from(len).unwrap_or(0), head]);
        out.extend(words(fields));
        out.extend(path.as_bytes());
        out.resize(len, 0);
        out
    };
    let code_at = PAGE - 0x200;
    let mut section = name("__text").to_vec();
    section.extend(name("__TEXT"));
    section.extend((BASE + code_at).to_le_bytes());
    section.extend((processor.code.len() as u64).to_le_bytes());
    let offset = u32::try_from(code_at).unwrap_or(0);
    section.extend(words(&[offset, 2, 0, 0, 0x8000_0400, 0, 0, 0])); // offset, align, relocations, flags: only instructions
    commands.push(segment("__PAGEZERO", (0, BASE), (0, 0), 0, &[]));
    commands.push(segment("__TEXT", (BASE, PAGE), (0, PAGE), 5, &[section]));
    // Where a signature goes.
    commands.push(segment("__LINKEDIT", (BASE + PAGE, PAGE), (PAGE, 0), 1, &[]));
    commands.push(text(0xe, "/usr/lib/dyld", &[])); // LC_LOAD_DYLINKER
    let mut main = words(&[0x8000_0028, 24]); // LC_MAIN
    main.extend(code_at.to_le_bytes());
    main.extend(0_u64.to_le_bytes());
    commands.push(main);
    let (number, oldest) = match platform {
        Platform::Macos => (1, 0x000b_0000),
        Platform::Ios => (2, 0x000f_0000),
    };
    commands.push(words(&[0x32, 24, number, oldest, oldest, 0])); // LC_BUILD_VERSION
    commands.push(text(0xc, "/usr/lib/libSystem.B.dylib", &[2, 0x0527_0000, 0x0001_0000])); // LC_LOAD_DYLIB
    let commands_len = u32::try_from(commands.concat().len()).unwrap_or(0);
    let count = u32::try_from(commands.len()).unwrap_or(0);
    // MH_MAGIC_64, MH_EXECUTE; flags: no undefined symbols, for dyld, two-level names, at any address
    let mut file =
        words(&[0xfeed_facf, processor.cputype, processor.cpusubtype, 2, count, commands_len, 0x0020_0085, 0]);
    file.extend(commands.concat());
    file.resize(usize::try_from(code_at).unwrap_or(usize::MAX), 0);
    file.extend(processor.code);
    file.extend(mark.as_bytes());
    file.resize(usize::try_from(PAGE).unwrap_or(usize::MAX), 0);
    file
}
