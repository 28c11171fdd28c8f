//! Small Windows programs: they print a line and end, and say in their resources which version they are. Source: Microsoft PE
//! format, sections "COFF file header" to "The .rsrc Section"; "`VS_VERSIONINFO` structure".

const SECTION_RVA: u32 = 0x1000;
const FILE_ALIGNMENT: usize = 0x200;
const HEADERS_LEN: u32 = 0x200;
/// Where the parts lie in the section: import directory, lookup table, address table, names, code.
const LOOKUP: u32 = 0x40;
const ADDRESSES: u32 = 0x60;
const NAMES: u32 = 0x80;
const CODE: u32 = 0x100;
const IMPORTS: [&str; 3] = ["GetStdHandle", "WriteFile", "ExitProcess"];

/// Returns a 64-bit console program for Windows that writes `line` to its standard output and exits with 0, with a version
/// resource where there is a version.
///
/// # Panics
/// For a line of 65,536 bytes or more.
pub fn pe_that_prints(line: &str, version: Option<&str>) -> Vec<u8> {
    let len = u16::try_from(line.len()).expect("a line is short");
    let section = section(line, len);
    let raw_len = section.len().div_ceil(FILE_ALIGNMENT) * FILE_ALIGNMENT;
    let resources_rva = SECTION_RVA + u32::try_from(section.len().div_ceil(0x1000) * 0x1000).unwrap_or(0);
    let resources = version.map(|version| resources(resources_rva, version)).unwrap_or_default();
    let has_resources = version.is_some();
    let resources_len = u32::try_from(resources.len()).unwrap_or(u32::MAX);
    let resources_raw = resources.len().div_ceil(FILE_ALIGNMENT) * FILE_ALIGNMENT;
    let mut file = vec![0; 0x80];
    file[..2].copy_from_slice(b"MZ");
    file[0x3c] = 0x80; // e_lfanew
    file.extend(b"PE\0\0");
    file.extend(0x8664_u16.to_le_bytes()); // Machine: x64
    file.extend((1 + u16::from(has_resources)).to_le_bytes()); // NumberOfSections
    file.extend([0; 12]); // no time, no symbols
    file.extend(240_u16.to_le_bytes()); // SizeOfOptionalHeader
    file.extend(0x22_u16.to_le_bytes()); // Characteristics: executable, large addresses
    file.extend(0x20b_u16.to_le_bytes()); // Magic: PE32+
    file.extend([14, 0]); // linker version
    let section_len = u32::try_from(section.len()).unwrap_or(u32::MAX);
    let raw = u32::try_from(raw_len).unwrap_or(u32::MAX);
    for word in [raw, 0, 0, SECTION_RVA + CODE, SECTION_RVA] {
        file.extend(word.to_le_bytes()); // SizeOfCode … AddressOfEntryPoint, BaseOfCode
    }
    file.extend(0x1_4000_0000_u64.to_le_bytes()); // ImageBase
    file.extend(0x1000_u32.to_le_bytes()); // SectionAlignment
    file.extend(0x200_u32.to_le_bytes()); // FileAlignment
    for half in [6_u16, 0, 0, 0, 6, 0] {
        file.extend(half.to_le_bytes()); // versions of system, image and subsystem
    }
    let image_len = resources_rva + resources_len.div_ceil(0x1000) * 0x1000;
    for word in [0, image_len, HEADERS_LEN, 0] {
        file.extend(word.to_le_bytes()); // Win32VersionValue, SizeOfImage, SizeOfHeaders, CheckSum
    }
    file.extend(3_u16.to_le_bytes()); // Subsystem: console
    file.extend(0x8100_u16.to_le_bytes()); // DllCharacteristics: no execution of data, terminal server aware
    for size in [0x10_0000_u64, 0x1000, 0x10_0000, 0x1000] {
        file.extend(size.to_le_bytes()); // stack and heap
    }
    file.extend(0_u32.to_le_bytes()); // LoaderFlags
    file.extend(16_u32.to_le_bytes()); // NumberOfRvaAndSizes
    for directory in 0..16_u32 {
        let (at, len) = match directory {
            1 => (SECTION_RVA, 40_u32),
            2 if has_resources => (resources_rva, resources_len),
            _ => (0, 0),
        };
        file.extend(at.to_le_bytes());
        file.extend(len.to_le_bytes());
    }
    file.extend(b".text\0\0\0");
    for word in [section_len, SECTION_RVA, raw, HEADERS_LEN, 0, 0, 0] {
        file.extend(word.to_le_bytes()); // VirtualSize … PointerToLinenumbers, counts
    }
    file.extend(0xe000_0060_u32.to_le_bytes()); // code and data; execute, read, write
    if has_resources {
        file.extend(b".rsrc\0\0\0");
        let (raw_at, raw_size) = (HEADERS_LEN + raw, u32::try_from(resources_raw).unwrap_or(u32::MAX));
        for word in [resources_len, resources_rva, raw_size, raw_at, 0, 0, 0] {
            file.extend(word.to_le_bytes());
        }
        file.extend(0x4000_0040_u32.to_le_bytes()); // data; read
    }
    file.resize(HEADERS_LEN as usize, 0);
    file.extend(section);
    file.resize(HEADERS_LEN as usize + raw_len, 0);
    file.extend(resources);
    file.resize(HEADERS_LEN as usize + raw_len + resources_raw, 0);
    file
}

/// One resource, of the kind version, in English.
fn resources(rva: u32, version: &str) -> Vec<u8> {
    const KINDS: [(u32, u32); 3] = [(16, 24), (1, 48), (0x409, 72)];
    const DATA: u32 = 88;
    let info = version_info(version);
    let mut out = Vec::new();
    for (place, (number, below)) in KINDS.into_iter().enumerate() {
        out.extend([0; 14]);
        out.extend(1_u16.to_le_bytes());
        out.extend(number.to_le_bytes());
        // All but the last lead to a level below.
        let flag = if place < 2 { 0x8000_0000_u32 } else { 0 };
        out.extend((flag | below).to_le_bytes());
    }
    for word in [rva + DATA, u32::try_from(info.len()).unwrap_or(0), 0, 0] {
        out.extend(word.to_le_bytes());
    }
    out.extend(info);
    out
}

/// A block: its length, that of its value, its kind, its name, its value and what is in it.
fn block(name: &str, is_text: bool, value: &[u8], inside: &[Vec<u8>]) -> Vec<u8> {
    let value_len = if is_text { value.len() / 2 } else { value.len() };
    let mut out = [0, u16::try_from(value_len).unwrap_or(0), u16::from(is_text)].map(u16::to_le_bytes).concat();
    out.extend(units(name));
    out.resize(out.len().next_multiple_of(4), 0);
    out.extend(value);
    for block in inside {
        out.resize(out.len().next_multiple_of(4), 0);
        out.extend(block);
    }
    let len = u16::try_from(out.len()).unwrap_or(0);
    out[..2].copy_from_slice(&len.to_le_bytes());
    out
}

fn units(text: &str) -> Vec<u8> {
    text.encode_utf16().chain([0]).flat_map(u16::to_le_bytes).collect()
}

fn version_info(version: &str) -> Vec<u8> {
    let mut numbers = version.split('.').map(|part| part.parse::<u16>().unwrap_or(0));
    let mut next = || u32::from(numbers.next().unwrap_or(0));
    let (high, low) = (next() << 16 | next(), next() << 16);
    // Signature, version of the structure, file and product version, flags, system, kind.
    let fixed =
        [0xfeef_04bd, 0x1_0000, high, low, high, low, 0x3f, 0, 0x4_0004, 1, 0, 0, 0].map(u32::to_le_bytes).concat();
    let text = |name: &str, says: &str| block(name, true, &units(says), &[]);
    let texts = [
        text("CompanyName", "Paper Heron"),
        text("FileVersion", &format!("{version}.0")),
        text("ProductName", "Saltmarsh Post"),
        text("ProductVersion", version),
    ];
    // English, in UTF-16.
    let table = block("040904b0", true, &[], &texts);
    let translation = block("Translation", false, &[9, 4, 0xb0, 4], &[]);
    let inside = [block("StringFileInfo", true, &[], &[table]), block("VarFileInfo", true, &[], &[translation])];
    block("VS_VERSION_INFO", false, &fixed, &inside)
}

fn section(line: &str, len: u16) -> Vec<u8> {
    let mut out = vec![0; CODE as usize];
    let mut names = Vec::new();
    let mut name_rvas = Vec::new();
    for name in IMPORTS {
        name_rvas.push(SECTION_RVA + NAMES + u32::try_from(names.len()).unwrap_or(0));
        names.extend([0, 0]); // hint
        names.extend(name.as_bytes());
        names.push(0);
        if names.len() % 2 == 1 {
            names.push(0);
        }
    }
    let library = SECTION_RVA + NAMES + u32::try_from(names.len()).unwrap_or(0);
    names.extend(b"KERNEL32.dll\0");
    let mut put = |at: u32, bytes: &[u8]| out[at as usize..at as usize + bytes.len()].copy_from_slice(bytes);
    put(0, &(SECTION_RVA + LOOKUP).to_le_bytes());
    put(12, &library.to_le_bytes());
    put(16, &(SECTION_RVA + ADDRESSES).to_le_bytes());
    for (i, rva) in (0_u32..).zip(&name_rvas) {
        put(LOOKUP + i * 8, &u64::from(*rva).to_le_bytes());
        put(ADDRESSES + i * 8, &u64::from(*rva).to_le_bytes());
    }
    put(NAMES, &names);
    out.extend(code(len));
    out.extend(line.as_bytes());
    out
}

/// Calls go through the address table, addressed from the end of each instruction.
fn code(len: u16) -> Vec<u8> {
    let mut code = vec![0x48, 0x83, 0xec, 0x38]; // sub rsp, 56
    let call = |code: &mut Vec<u8>, import: u32| {
        let end = CODE + u32::try_from(code.len()).unwrap_or(0) + 6;
        code.extend([0xff, 0x15]);
        code.extend((ADDRESSES + import * 8).wrapping_sub(end).to_le_bytes());
    };
    code.extend([0xb9, 0xf5, 0xff, 0xff, 0xff]); // mov ecx, -11: the standard output
    call(&mut code, 0);
    code.extend([0x48, 0x89, 0xc1]); // mov rcx, rax
    code.extend([0x48, 0x8d, 0x15]); // lea rdx, [rip + what is left of the code]
    code.extend(38_u32.to_le_bytes());
    code.extend([0x41, 0xb8]); // mov r8d, len
    code.extend(u32::from(len).to_le_bytes());
    code.extend([0x4c, 0x8d, 0x4c, 0x24, 0x30]); // lea r9, [rsp + 48]
    code.extend([0x48, 0xc7, 0x44, 0x24, 0x20, 0, 0, 0, 0]); // mov qword [rsp + 32], 0
    call(&mut code, 1);
    code.extend([0x31, 0xc9]); // xor ecx, ecx
    call(&mut code, 2);
    code.extend([0x90; 4]); // nop: the line follows
    code
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_line_lies_where_the_program_looks_for_it() {
        let code = code(9);
        let lea = code.windows(3).position(|w| w == [0x48, 0x8d, 0x15]).unwrap();
        let mut offset = [0; 4];
        offset.copy_from_slice(&code[lea + 3..lea + 7]);
        assert_eq!(lea + 7 + u32::from_le_bytes(offset) as usize, code.len());
    }
}
