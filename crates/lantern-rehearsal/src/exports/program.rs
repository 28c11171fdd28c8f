//! Small Linux programs that really run: they print a line and end. Source: System V ABI, chapters 4 and 5; the system
//! calls' numbers are those of the kernel's tables for each processor.

use lantern_core::system::System;

const BASE: u64 = 0x40_0000;
const HEADERS_LEN: u64 = 64 + 56;

/// Returns a static 64-bit ELF program that writes `line` to its standard output and exits with 0.
///
/// # Panics
/// For a line of 65,536 bytes or more.
pub fn elf_that_prints(line: &str, system: System) -> Vec<u8> {
    let len = u16::try_from(line.len()).expect("a line is short");
    let (machine, code) = match system {
        System::LinuxAarch64 => (183_u16, aarch64(len)),
        _ => (62, x86_64(len)),
    };
    let size = HEADERS_LEN + code.len() as u64 + u64::from(len);
    let mut file = b"\x7fELF\x02\x01\x01\0\0\0\0\0\0\0\0\0".to_vec();
    file.extend(2_u16.to_le_bytes()); // e_type: ET_EXEC
    file.extend(machine.to_le_bytes());
    file.extend(1_u32.to_le_bytes()); // e_version
    file.extend((BASE + HEADERS_LEN).to_le_bytes()); // e_entry
    file.extend(64_u64.to_le_bytes()); // e_phoff
    file.extend(0_u64.to_le_bytes()); // e_shoff
    file.extend(0_u32.to_le_bytes()); // e_flags
    for half in [64_u16, 56, 1, 0, 0, 0] {
        file.extend(half.to_le_bytes()); // e_ehsize, e_phentsize, e_phnum, then no sections
    }
    file.extend(1_u32.to_le_bytes()); // p_type: PT_LOAD
    file.extend(5_u32.to_le_bytes()); // p_flags: read, execute
    for word in [0, BASE, BASE, size, size, 0x1000] {
        file.extend(word.to_le_bytes()); // p_offset, p_vaddr, p_paddr, p_filesz, p_memsz, p_align
    }
    file.extend(code);
    file.extend(line.as_bytes());
    file
}

/// `write(1, line, len)` is call 1, `exit(0)` call 60.
fn x86_64(len: u16) -> Vec<u8> {
    let mut code = vec![0xb8, 1, 0, 0, 0]; // mov eax, 1
    code.extend([0xbf, 1, 0, 0, 0]); // mov edi, 1
    code.extend([0x48, 0x8d, 0x35, 16, 0, 0, 0]); // lea rsi, [rip + 16]: the line behind the code
    code.push(0xba); // mov edx, len
    code.extend(u32::from(len).to_le_bytes());
    code.extend([0x0f, 0x05]); // syscall
    code.extend([0xb8, 60, 0, 0, 0]); // mov eax, 60
    code.extend([0x31, 0xff]); // xor edi, edi
    code.extend([0x0f, 0x05]); // syscall
    code
}

/// `write` is call 64, `exit` call 93.
fn aarch64(len: u16) -> Vec<u8> {
    let words = [
        0xd280_0020,                         // mov x0, 1
        0x1000_00e1,                         // adr x1, 28 bytes on: the line behind the code
        0xd280_0002 | (u32::from(len) << 5), // mov x2, len
        0xd280_0808,                         // mov x8, 64
        0xd400_0001,                         // svc 0
        0xd280_0000,                         // mov x0, 0
        0xd280_0ba8,                         // mov x8, 93
        0xd400_0001,                         // svc 0
    ];
    words.into_iter().flat_map(u32::to_le_bytes).collect()
}

#[cfg(all(test, target_os = "linux"))]
mod tests {
    use super::*;

    #[test]
    fn the_program_of_this_computer_really_runs() {
        use std::os::unix::fs::PermissionsExt;
        let system = System::this_computer().expect("tests run on a system that we know");
        let temp = tempfile::tempdir().unwrap();
        let path = temp.path().join("hello");
        std::fs::write(&path, elf_that_prints("the tide is out\n", system)).unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
        let output = std::process::Command::new(&path).output().unwrap();
        assert_eq!(output.stdout, b"the tide is out\n");
        assert!(output.status.success());
    }
}
