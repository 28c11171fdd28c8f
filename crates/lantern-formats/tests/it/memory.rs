//! No file of ten megabytes may make a reader take more than 64 megabytes.

use peak_alloc::PeakAlloc;

use crate::readers;

#[global_allocator]
static MEMORY: PeakAlloc = PeakAlloc;

const FILE_LEN: usize = 10_000_000;
const MAX_MEMORY: usize = 64_000_000;

/// A file of ten megabytes of one part again and again, between a head and a foot.
fn filled(head: &[u8], part: &[u8], foot: &[u8]) -> Vec<u8> {
    let count = (FILE_LEN - head.len() - foot.len()) / part.len();
    [head, &part.repeat(count), foot].concat()
}

/// A ZIP archive whose directory is nearly all of it.
fn directory() -> Vec<u8> {
    let mut entry = b"PK\x01\x02".to_vec();
    entry.resize(46, 0);
    entry[28] = 1;
    entry.push(b'/');
    let count = (FILE_LEN / entry.len()) as u64;
    let entries = entry.repeat(count as usize);
    let mut wide = b"PK\x06\x06".to_vec();
    wide.resize(32, 0);
    for number in [count, entries.len() as u64, 0] {
        wide.extend(number.to_le_bytes());
    }
    let mut locator = b"PK\x06\x07\0\0\0\0".to_vec();
    locator.extend((entries.len() as u64).to_le_bytes());
    locator.extend([1, 0, 0, 0]);
    let mut end = b"PK\x05\x06\0\0\0\0".to_vec();
    end.extend([0xff; 12]);
    end.extend([0, 0]);
    [entries, wide, locator, end].concat()
}

/// A universal file whose slices share one signature that is nearly all of it.
fn slices() -> Vec<u8> {
    let mut file = vec![0xca, 0xfe, 0xba, 0xbe, 0, 0, 0, 16];
    for _ in 0..16 {
        [0x0100_000c_u32, 0, 4096, 100, 12].into_iter().for_each(|word| file.extend(word.to_be_bytes()));
    }
    file.resize(4096, 0);
    let start = file.len();
    file.extend([0xcf, 0xfa, 0xed, 0xfe]);
    let len = (FILE_LEN - 8192) as u32;
    for word in [0x0100_000c_u32, 0, 2, 1, 16, 0, 0, 0x1d, 16, 4096, len] {
        file.extend(word.to_le_bytes());
    }
    file.resize(start + 4096, 0);
    // A code directory without pages, then entitlements that fill the rest.
    let directory_len = 100_u32;
    let head = 12 + 16;
    for word in [0xfade_0cc0, len, 2, 0, head, 5, head + directory_len] {
        file.extend(word.to_be_bytes());
    }
    let mut directory = Vec::new();
    for word in [0xfade_0c02_u32, directory_len, 0x2_0000, 2, 60, 90, 0, 0, 0] {
        directory.extend(word.to_be_bytes());
    }
    directory.extend([32, 2, 0, 12]);
    directory.resize(directory_len as usize, 0);
    file.extend(directory);
    let rest = len - head - directory_len;
    file.extend(0xfade_7171_u32.to_be_bytes());
    file.extend(rest.to_be_bytes());
    file.resize(FILE_LEN, b' ');
    file
}

#[test]
fn ten_megabytes_stay_small() {
    let list = |part: &str| filled(b"<plist><dict><key>x</key><array>", part.as_bytes(), b"</array></dict></plist>");
    let files: Vec<(&str, Vec<u8>)> = vec![
        ("many small values", list("<true/>")),
        ("many short texts", list("<string>a</string>")),
        ("many keys", filled(b"<plist><dict>", b"<key>abcdefg</key><true/>", b"</dict></plist>")),
        ("entities", list("<string>&amp;&amp;&amp;&amp;</string>")),
        ("values in values", filled(b"<plist>", b"<array>", b"")),
        ("a binary list of many values", filled(b"bplist00", &[0xd1, 0, 1, 0x51, b'a'], &[0; 32])),
        ("forms without lengths", filled(&[], &[0x30, 0x80], &[])),
        ("texts in parts", filled(&[0x24, 0x80], &[4, 1, b'a'], &[0, 0])),
        ("a set of many members", filled(&[0x30, 0x80, 0x31, 0x80], &[5, 0], &[0; 4])),
        ("nested messages", filled(&[], &[0xa0, 0x83, 0x98, 0x96, 0x80], &[])),
        ("an archive that is all directory", directory()),
        ("one signature for all slices", slices()),
        ("an endless tape", {
            let mut header = vec![0; 512];
            header[0] = b'a';
            header[156] = b'5';
            header[257..262].copy_from_slice(b"ustar");
            let sum: u32 = header.iter().map(|b| u32::from(*b)).sum::<u32>() + 8 * 32;
            header[148..155].copy_from_slice(format!("{sum:06o}\0").as_bytes());
            header[155] = b' ';
            header.repeat(FILE_LEN / 512)
        }),
        ("a manifest of many elements", filled(&[], &[0x0a, 4, 0x1a, 2, b'a', b'b'], &[])),
        (
            "a manifest of many attributes",
            filled(&[0x0a, 0x80, 0xad, 0xe2, 0x04], &[0x22, 4, 0x12, 2, b'a', b'b'], &[]),
        ),
        ("a manifest of many texts", {
            let mut head = vec![3, 0, 8, 0];
            head.extend((FILE_LEN as u32).to_le_bytes());
            head.extend([1, 0, 28, 0]);
            head.extend((FILE_LEN as u32 - 8).to_le_bytes());
            head.extend(2_000_000_u32.to_le_bytes());
            head.extend([0; 12]);
            filled(&head, &[1, 0, 0, 0], &[])
        }),
    ];
    for (what, bytes) in &files {
        for (name, read) in readers::ALL {
            let before = MEMORY.current_usage();
            MEMORY.reset_peak_usage();
            read(bytes);
            let took = MEMORY.peak_usage().saturating_sub(before);
            assert!(took <= MAX_MEMORY, "{what}, read as {name}: {} MB", took / 1_000_000);
        }
    }
}
