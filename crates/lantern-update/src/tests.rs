//! Whole update files: made, applied, damaged.

use std::io;
use std::sync::atomic::{AtomicUsize, Ordering};

use lantern_core::digest::{Digest, RecipeId};
use proptest::prelude::*;

use crate::{ApplyError, Build, Chunk, File, Header, MakeError, Old, OpenGroup, Wanted, make};

/// A build in memory.
#[derive(Debug, Clone)]
struct Memory {
    files: Vec<File>,
    bytes: Vec<Vec<u8>>,
    sizes: Vec<u64>,
}

impl Memory {
    fn of(files: &[(&str, &[u8])]) -> Self {
        let mut files = files.to_vec();
        files.sort_unstable();
        let described = files.iter().map(|(path, bytes)| {
            let mut rest = *bytes;
            let mut chunks = Vec::new();
            while !rest.is_empty() {
                let (chunk, after) = rest.split_at(lantern_chunker::Profile::Medium.cut(rest));
                chunks.push(Chunk { digest: Digest::of(chunk), len: u32::try_from(chunk.len()).unwrap() });
                rest = after;
            }
            File { path: (*path).to_owned(), size: bytes.len() as u64, digest: Digest::of(bytes), chunks }
        });
        Self {
            files: described.collect(),
            bytes: files.iter().map(|(_, bytes)| bytes.to_vec()).collect(),
            sizes: files.iter().map(|(_, bytes)| bytes.len() as u64).collect(),
        }
    }

    fn part(&self, file: usize, offset: u64, out: &mut [u8]) -> io::Result<()> {
        let start = usize::try_from(offset).unwrap();
        let bytes = self.bytes.get(file).and_then(|bytes| bytes.get(start..start + out.len()));
        out.copy_from_slice(bytes.ok_or(io::ErrorKind::UnexpectedEof)?);
        Ok(())
    }
}

impl Build for Memory {
    fn files(&self) -> &[File] {
        &self.files
    }
    fn read(&self, file: usize, offset: u64, out: &mut [u8]) -> io::Result<()> {
        self.part(file, offset, out)
    }
}

impl Old for Memory {
    fn sizes(&self) -> &[u64] {
        &self.sizes
    }
    fn read(&self, file: usize, offset: u64, out: &mut [u8]) -> io::Result<()> {
        self.part(file, offset, out)
    }
}

fn made(old: &Memory, new: &Memory) -> Vec<u8> {
    let wanted = Wanted::between(RecipeId::of(b"old"), RecipeId::of(b"new"));
    let mut groups = Vec::new();
    let mut all = make(old, new, &wanted, &mut groups).unwrap();
    all.extend(groups);
    all
}

/// What comes of the files that an update file makes; none for the others.
fn applied(all: &[u8], old: &Memory, new: &Memory) -> Result<Vec<Option<Vec<u8>>>, ApplyError> {
    let header = Header::decode(all)?;
    let mut out = vec![None; new.files.len()];
    for group in &header.groups {
        let start = usize::try_from(group.offset).unwrap();
        let stored = all.get(start..start + usize::try_from(group.len()).unwrap()).unwrap_or_default();
        let open = OpenGroup::open(group, stored, &old.sizes, &new.sizes)?;
        for (number, part) in open.parts().enumerate() {
            let file: &mut Vec<u8> = out[part.file as usize].get_or_insert_default();
            assert_eq!(file.len() as u64, part.offset);
            open.apply(number, old, file)?;
            assert_eq!(file.len() as u64, part.offset + part.len);
        }
    }
    Ok(out)
}

fn check(old: &Memory, new: &Memory) -> usize {
    let all = made(old, new);
    let out = applied(&all, old, new).unwrap();
    for ((file, bytes), made) in new.files.iter().zip(&new.bytes).zip(out) {
        let is_there = old.files.iter().any(|old| old.digest == file.digest) || file.size == 0;
        assert_eq!(made, (!is_there).then(|| bytes.clone()), "{}", file.path);
    }
    all.len()
}

/// Bytes that look random and are the same everywhere.
pub(crate) fn noise(seed: &str, len: usize) -> Vec<u8> {
    let mut state = seed.bytes().fold(7_u64, |all, byte| all.wrapping_mul(0x0100_0000_01b3) ^ u64::from(byte));
    let next = |_| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 56) as u8
    };
    (0..len).map(next).collect()
}

#[test]
fn small_changes_take_few_bytes() {
    let (letters, pack) = (noise("letters", 300_000), noise("pack", 3_000_000));
    let old = Memory::of(&[("data/letters.bin", &letters), ("data/pack.bin", &pack), ("same", b"x"), ("gone", b"z")]);
    let mut new_letters = letters.clone();
    new_letters.splice(70_000..70_010, *b"Dear Aldous, the tide");
    let mut new_pack = noise("added", 500);
    new_pack.extend(&pack[1_000_000..]);
    new_pack.extend(&pack[..1_000_000]);
    let new =
        Memory::of(&[("data/letters.bin", &new_letters), ("data/pack.bin", &new_pack), ("moved", b"x"), ("none", b"")]);
    let len = check(&old, &new);
    assert!(len < 2_000, "{len}");
}

/// What is in neither build is in no update file, and one that is as large as it may be is none.
#[test]
fn it_ends_where_it_may_not_grow() {
    let old = Memory::of(&[("a", &noise("a", 50_000))]);
    let new = Memory::of(&[("a", &noise("b", 50_000))]);
    let wanted = |most| Wanted { most, ..Wanted::between(RecipeId::of(b"old"), RecipeId::of(b"new")) };
    assert!(matches!(make(&old, &new, &wanted(40_000), &mut Vec::new()), Err(MakeError::TooLarge)));
    assert!(make(&old, &new, &wanted(60_000), &mut Vec::new()).is_ok());
    let stops = Wanted { stopped: &|| true, ..wanted(u64::MAX) };
    assert!(matches!(make(&old, &new, &stops, &mut Vec::new()), Err(MakeError::Stopped)));
    struct Broken(Memory);
    impl Build for Broken {
        fn files(&self) -> &[File] {
            &self.0.files
        }
        fn read(&self, _: usize, _: u64, _: &mut [u8]) -> io::Result<()> {
            Err(io::ErrorKind::NotFound.into())
        }
    }
    assert!(matches!(make(&Broken(old), &new, &wanted(u64::MAX), &mut Vec::new()), Err(MakeError::Read(_))));
}

/// A stop does not wait for a file that takes long: it is checked throughout, and what was found until then is thrown away.
#[test]
fn it_stops_in_the_middle_of_a_file() {
    let old = Memory::of(&[("pair", &noise("a", 800_000)), ("large", &noise("c", 300_000))]);
    let new = Memory::of(&[("pair", &noise("b", 800_000)), ("new", &noise("d", 800_000))]);
    let asked = AtomicUsize::new(0);
    let stops_at = |most: usize| {
        asked.store(0, Ordering::Relaxed);
        let stopped = || asked.fetch_add(1, Ordering::Relaxed) >= most;
        let wanted = Wanted { stopped: &stopped, ..Wanted::between(RecipeId::of(b"old"), RecipeId::of(b"new")) };
        make(&old, &new, &wanted, &mut Vec::new()).map(|_| ())
    };
    stops_at(usize::MAX).unwrap();
    let often = asked.load(Ordering::Relaxed);
    assert!(often > 25, "{often} times for 1.6 MB");
    for most in (0..often).step_by(often / 8) {
        assert!(matches!(stops_at(most), Err(MakeError::Stopped)), "{most} of {often}");
    }
}

/// A program of our own making: functions that call each other, and a table of their addresses.
fn program(gap: usize) -> Vec<u8> {
    program_of(800, gap)
}

/// As [`program`], with so many functions.
fn program_of(count: usize, gap: usize) -> Vec<u8> {
    let (code, base) = (0x400_usize, 0x1_4000_0000_u64);
    let mut functions = Vec::new();
    let mut bytes = vec![0; code];
    for number in 0..count {
        if number == count * 3 / 8 {
            bytes.extend(noise("inserted", gap));
        }
        functions.push(bytes.len());
        bytes.extend(noise(&format!("function {number}"), 40));
        for callee in [number / 2, number / 3] {
            bytes.push(0xe8);
            let to = functions.get(callee).map_or(0, |to| *to) as i64;
            bytes.extend(((to - bytes.len() as i64 - 4) as i32).to_le_bytes());
        }
    }
    bytes.resize(bytes.len().next_multiple_of(0x200), 0);
    let data = bytes.len();
    for function in &functions {
        bytes.extend((base + 0x1000 + (*function - code) as u64).to_le_bytes());
    }
    bytes.resize(bytes.len().next_multiple_of(0x200), 0);
    let end = bytes.len();
    let mut put = |at: usize, value: &[u8]| bytes[at..at + value.len()].copy_from_slice(value);
    put(0, b"MZ");
    put(0x3c, &0x80_u32.to_le_bytes());
    put(0x80, b"PE\0\0\x64\x86\x02\0");
    put(0x94, &0xf0_u16.to_le_bytes());
    put(0x98, &0x20b_u16.to_le_bytes());
    put(0x98 + 24, &base.to_le_bytes());
    put(0x98 + 56, &0x10_0000_u32.to_le_bytes());
    let sections = [(0x1000, code, data - code, 0x6000_0020_u32), (0x8_0000, data, end - data, 0x4000_0040)];
    for (number, (address, offset, size, flags)) in sections.into_iter().enumerate() {
        let at = 0x98 + 0xf0 + number * 40;
        for (place, value) in [(8, size as u32), (12, address), (16, size as u32), (20, offset as u32), (36, flags)] {
            put(at + place, &value.to_le_bytes());
        }
    }
    bytes
}

#[test]
fn addresses_that_moved_are_predicted() {
    let (old, new) = (program(0), program(100));
    let old = Memory::of(&[("game.exe", &old)]);
    let changed = check(&old, &Memory::of(&[("game.exe", &new)]));
    // 500 functions call some that moved, and as many addresses are others; nearly all follow from what moved.
    assert!(changed < 700, "{changed}");
}

/// A program for macOS of our own making: a body, and a signature with the hashes of its pages.
fn signed(body: &[u8]) -> Vec<u8> {
    signed_with(&[], body)
}

/// The same with a section of code, in which all of the body lies.
fn signed_code(body: &[u8]) -> Vec<u8> {
    let len = u32::try_from(body.len()).unwrap();
    let mut segment = vec![0_u32; 38];
    // LC_SEGMENT_64: its length, its size in memory and in the file, one section; the section's size, offset, and kind.
    for (at, word) in [(0, 0x19), (1, 152), (8, len + 400), (12, len + 400), (16, 1), (28, len), (30, 200), (34, 0x400)]
    {
        segment[at] = word;
    }
    signed_with(&segment, body)
}

fn signed_with(segment: &[u32], body: &[u8]) -> Vec<u8> {
    use sha2::{Digest as _, Sha256};
    let signature = (48 + 4 * segment.len() + body.len()).next_multiple_of(16);
    let count = signature.div_ceil(4096);
    let words = |words: &[usize], is_little: bool| -> Vec<u8> {
        let bytes = |word: &usize| {
            let word = u32::try_from(*word).unwrap();
            if is_little { word.to_le_bytes() } else { word.to_be_bytes() }
        };
        words.iter().flat_map(bytes).collect()
    };
    let directory_len = 44 + 32 * count;
    let commands = 1 + usize::from(!segment.is_empty());
    let mut bytes = words(&[0xfeed_facf, 0x0100_000c, 0, 2, commands, 16 + 4 * segment.len(), 0, 0], true);
    bytes.extend(segment.iter().flat_map(|word| word.to_le_bytes()));
    bytes.extend(words(&[0x1d, 16, signature, 20 + directory_len], true));
    bytes.extend(body);
    bytes.resize(signature, 0);
    let hashes: Vec<u8> = bytes.chunks(4096).flat_map(Sha256::digest).collect();
    bytes.extend(words(&[0xfade_0cc0, 20 + directory_len, 1, 0, 20], false));
    bytes.extend(words(&[0xfade_0c02, directory_len, 0x2_0100, 2, 44, 44, 0, count, signature], false));
    bytes.extend([32, 2, 0, 12, 0, 0, 0, 0]);
    bytes.extend(hashes);
    bytes
}

/// Several programs in one file.
fn fat(programs: &[Vec<u8>]) -> Vec<u8> {
    let mut bytes = [0xcafe_babe_u32, u32::try_from(programs.len()).unwrap()].map(u32::to_be_bytes).concat();
    let mut at = 4096;
    for program in programs {
        let len = u32::try_from(program.len()).unwrap();
        bytes.extend([0x0100_000c, 0, at, len, 12].map(u32::to_be_bytes).concat());
        at = (at + len).next_multiple_of(4096);
    }
    for program in programs {
        bytes.resize(bytes.len().next_multiple_of(4096), 0);
        bytes.extend(program);
    }
    bytes
}

#[test]
fn hashes_of_pages_are_made_and_not_brought() {
    let body = noise("body", 300_000);
    let edited = [&body[..100], b"one more", &body[100..]].concat();
    let app = |bytes: &[u8]| Memory::of(&[("Saltmarsh Post.app/Contents/MacOS/saltmarsh", bytes)]);
    // Each of the 74 pages has other bytes: 2.4 kB of hashes.
    let changed = check(&app(&signed(&body)), &app(&signed(&edited)));
    assert!(changed < 500, "{changed}");
    let [old, new] = [&body, &edited].map(|body| fat(&[signed(body), signed(&body[50_000..])]));
    let changed = check(&app(&old), &app(&new));
    assert!(changed < 700, "{changed}");
    // What is no hash, and what hashes of which one is wrong, comes as it is.
    let mut wrong = signed(&edited);
    let last = wrong.len() - 1;
    wrong[last] ^= 1;
    let changed = check(&app(&signed(&body)), &app(&wrong));
    assert!(changed > 2_000, "{changed}");
    for len in [0, 1, 40, 60, 300_200] {
        check(&app(&signed(&body)), &app(&signed(&edited)[..len]));
    }
    // One that is new in most of its pages is still made as a whole.
    check(&app(&signed(&body)), &app(&signed(&noise("other", 200_000))));
}

/// What is too long for one part is not hashed from its start, and comes with its hashes.
#[test]
fn a_program_in_several_parts_brings_its_hashes() {
    let app = |bytes: &[u8]| Memory::of(&[("saltmarsh", bytes)]);
    let (one, two) = (noise("one", 1_000), noise("two", 1_000));
    let (old, new) = (app(&signed_code(&one.repeat(70_000))), app(&signed_code(&two.repeat(70_000))));
    let all = made(&old, &new);
    assert!(Header::decode(&all).unwrap().groups.iter().flat_map(|group| &group.parts).count() > 1);
    assert!(applied(&all, &old, &new).unwrap()[0].as_deref() == Some(&new.bytes[0]));
}

/// A large program is made with all that is known of programs; one that has the game's data behind it is not compared as one.
#[test]
fn large_programs_are_compared_as_programs() {
    let app = |bytes: &[u8]| Memory::of(&[("saltmarsh", bytes)]);
    let (body, data) = (noise("body", 34_000_000), noise("data", 34_000_000));
    let edited = [&body[..100], b"one more", &body[100..]].concat();
    let changed = check(&app(&signed_code(&body)), &app(&signed_code(&edited)));
    // 8,300 hashes of 32 bytes are made, and not brought.
    assert!(changed < 3_000, "{changed}");
    // So is one for two processors; a function is called from everywhere, and lies elsewhere in the new one.
    let both = |body: &[u8]| fat(&[signed_code(body), signed_code(&body[..1_000_000])]);
    let changed = check(&app(&both(&body)), &app(&both(&edited)));
    assert!(changed < 4_000, "{changed}");
    let behind = |body: &[u8]| [&signed_code(&body[..300_000]), &data[..]].concat();
    check(&app(&behind(&body)), &app(&behind(&edited)));
}

/// What was moved from one file to another comes from there, although both have an old file of their own.
#[test]
fn what_moved_to_another_file_is_not_new() {
    let (a, b) = (noise("a", 1_000_000), noise("b", 1_000_000));
    let old = Memory::of(&[("a.pack", &a), ("b.pack", &b)]);
    let new_a = [&a[..300_000], &b[200_000..700_000], &a[300_000..]].concat();
    let new_b = [&b[..200_000], &b[700_000..]].concat();
    let changed = check(&old, &Memory::of(&[("a.pack", &new_a), ("b.pack", &new_b)]));
    assert!(changed < 1_000, "{changed}");
}

/// What was overwritten where it was costs what is new, and what lies behind it nothing.
#[test]
fn what_was_overwritten_in_place_costs_no_more_than_that() {
    let old = noise("old", 3_000_000);
    let overwritten = |every: usize, len: usize| {
        let mut new = old.clone();
        for (number, part) in new.chunks_mut(every).enumerate() {
            let len = len.min(part.len());
            part[..len].copy_from_slice(&noise(&number.to_string(), len));
        }
        new
    };
    for (every, len) in [(1_500_000, 5_000), (300_000, 1_000), (8_192, 4_096)] {
        let new = overwritten(every, len);
        let is_new = 3_000_000_usize.div_ceil(every) * len;
        let most = is_new + is_new / 50 + 300;
        // As a pair, and as a file that has no old one of its name.
        for name in ["a", "b"] {
            let changed = check(&Memory::of(&[("a", &old), ("x", b"x")]), &Memory::of(&[(name, &new), ("x", b"x")]));
            assert!(changed < most, "{every}, {len}, {name}: {changed} of {most}");
        }
    }
}

#[test]
fn any_flipped_byte_is_noticed() {
    let old = Memory::of(&[("game.exe", &program(0)), ("a", &noise("a", 9_000))]);
    let mut a = noise("a", 9_000);
    a[500] ^= 1;
    let new = Memory::of(&[("game.exe", &program(60)), ("a", &a)]);
    let all = made(&old, &new);
    for at in 0..all.len() {
        let mut damaged = all.clone();
        damaged[at] ^= 0x04;
        assert!(applied(&damaged, &old, &new).is_err(), "{at}");
        assert!(applied(&all[..at], &old, &new).is_err(), "{at}");
    }
}

/// Tables cost memory and time for each part that has them: as often as there are files, and no more.
#[test]
fn tables_are_for_whole_files() {
    let old = Memory::of(&[("game.exe", &program(0))]);
    let new = Memory::of(&[("game.exe", &program(60))]);
    let all = made(&old, &new);
    let header = Header::decode(&all).unwrap();
    let group = &header.groups[0];
    let streams = OpenGroup::streams_of(group, &all[usize::try_from(group.offset).unwrap()..]).unwrap();
    assert!(OpenGroup::of_streams(group, streams.clone(), &old.sizes, &new.sizes).is_ok());
    let mut longer = new.sizes.clone();
    longer[0] += 1;
    assert!(OpenGroup::of_streams(group, streams, &old.sizes, &longer).is_err());
}

/// Pairs of builds, for other readers of the format; what each shows.
fn pairs() -> Vec<(&'static str, Memory, Memory)> {
    let text = noise("text", 3_000);
    let mut edited = text.clone();
    edited[700] ^= 0x20;
    edited.splice(1_500..1_500, *b"Dear Aldous, the tide");
    let moved = [&text[2_000..], &text[..2_000]].concat();
    let (old, new) = (program_of(60, 0), program_of(60, 24));
    vec![
        ("bytes that differ, and some more", Memory::of(&[("a", &text)]), Memory::of(&[("a", &edited)])),
        ("what moved, and came from two files", Memory::of(&[("a", &text), ("b", &edited)]), {
            Memory::of(&[("c", &[&moved[..], &edited[600..1_700]].concat())])
        }),
        ("files that are not in it", Memory::of(&[("a", &text), ("b", b"same")]), {
            Memory::of(&[("a", &edited), ("b", b"same"), ("c", b"")])
        }),
        ("all of it new", Memory::of(&[]), Memory::of(&[("a", b"a lighthouse, and nothing before it")])),
        (
            "hashes of pages",
            Memory::of(&[("saltmarsh", &signed(&text))]),
            Memory::of(&[("saltmarsh", &signed(&edited))]),
        ),
        ("addresses that moved", Memory::of(&[("game.exe", &old)]), Memory::of(&[("game.exe", &new)])),
    ]
}

/// The pairs as `docs/formats/update-vectors.txt` has them.
fn as_vectors() -> String {
    let hex = |bytes: &[u8]| bytes.iter().map(|byte| format!("{byte:02x}")).collect::<String>();
    let mut out = String::new();
    for (what, old, new) in pairs() {
        let update = made(&old, &new);
        let made = applied(&update, &old, &new).unwrap();
        out += &format!("update {}\n  shows {what}\n", hex(&update));
        for bytes in &old.bytes {
            out += &format!("  old {}\n", hex(bytes));
        }
        for (bytes, made) in new.bytes.iter().zip(made) {
            let line = made.map_or_else(|| format!("left-out {}", bytes.len()), |made| format!("new {}", hex(&made)));
            out += &format!("  {line}\n");
        }
    }
    out
}

/// The vectors stay readable, also when this program makes other ones: update files that are out there were made by older ones.
#[test]
fn the_vectors_are_applied_as_written() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/formats/update-vectors.txt");
    if std::env::var_os("UPDATE_EXPECTED").is_some() {
        std::fs::write(path, as_vectors()).unwrap();
    }
    let bytes = |hex: &str| -> Vec<u8> {
        hex.as_bytes().chunks(2).map(|two| u8::from_str_radix(std::str::from_utf8(two).unwrap(), 16).unwrap()).collect()
    };
    let text = std::fs::read_to_string(path).unwrap();
    let mut vectors = 0;
    for vector in text.split("update ").skip(1) {
        let (update, lines) = vector.split_once('\n').unwrap();
        let (mut old, mut new, mut expected) = (Vec::new(), Vec::new(), Vec::new());
        for (key, value) in lines.lines().filter_map(|line| line.trim().split_once(' ')) {
            match key {
                "old" => old.push(bytes(value)),
                "new" => {
                    new.push(bytes(value));
                    expected.push(Some(bytes(value)));
                }
                "left-out" => {
                    new.push(vec![0; value.parse().unwrap()]);
                    expected.push(None);
                }
                other => assert_eq!(other, "shows"),
            }
        }
        let names: Vec<String> = (0..old.len().max(new.len())).map(|number| format!("{number:04}")).collect();
        let memory = |files: &[Vec<u8>]| {
            Memory::of(&names.iter().map(String::as_str).zip(files.iter().map(Vec::as_slice)).collect::<Vec<_>>())
        };
        assert_eq!(applied(&bytes(update), &memory(&old), &memory(&new)).unwrap(), expected, "{lines:.80}");
        vectors += 1;
    }
    assert_eq!(vectors, pairs().len());
    let (_, old, new) = pairs().pop().unwrap();
    let all = made(&old, &new);
    let group = &Header::decode(&all).unwrap().groups[0];
    let streams = OpenGroup::streams_of(group, &all[usize::try_from(group.offset).unwrap()..]).unwrap();
    assert_eq!(streams[0][..2], [1, 1], "from the first file, with tables");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    /// Any two builds.
    #[test]
    fn what_is_applied_is_the_new_build(
        seeds in prop::collection::vec((0_u8..6, 0_usize..60_000), 1..5),
        edits in prop::collection::vec((0_usize..5, 0_usize..50_000, 0_usize..3_000, 0_u8..4), 0..12),
    ) {
        let contents: Vec<Vec<u8>> = seeds.iter().map(|(seed, len)| noise(&seed.to_string(), *len)).collect();
        let mut changed = contents.clone();
        for (file, at, len, kind) in edits {
            let Some(bytes) = changed.get_mut(file) else { continue };
            let (at, end) = (at.min(bytes.len()), (at + len).min(bytes.len()));
            match kind {
                0 => { bytes.drain(at..end); }
                1 => { bytes.splice(at..at, noise("new", len)); }
                2 => bytes[at..end].reverse(),
                _ => bytes[at..end].iter_mut().step_by(97).for_each(|byte| *byte = byte.wrapping_add(3)),
            }
        }
        let names = ["a", "b/c", "b/d", "e"];
        let old = Memory::of(&names.iter().copied().zip(contents.iter().map(Vec::as_slice)).collect::<Vec<_>>());
        let new = Memory::of(&names.iter().rev().copied().zip(changed.iter().map(Vec::as_slice)).collect::<Vec<_>>());
        check(&old, &new);
        let same_names = Memory::of(&names.iter().copied().zip(changed.iter().map(Vec::as_slice)).collect::<Vec<_>>());
        check(&old, &same_names);
        check(&new, &old);
    }

    /// A group that says of itself what its digest is can hold anything: it ends with an error, or with as many bytes as it promised.
    #[test]
    fn hostile_groups_end_well(changes in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>(), 0_usize..6), 1..6)) {
        let app = signed(&noise("body", 9_000));
        let old = Memory::of(&[("game.exe", &program(0)), ("a", &noise("a", 9_000)), ("app", &app)]);
        let edited = signed(&noise("body", 9_100));
        let new = Memory::of(&[("game.exe", &program(60)), ("a", &noise("b", 4_000)), ("app", &edited)]);
        let all = made(&old, &new);
        let header = Header::decode(&all).unwrap();
        let group = &header.groups[0];
        let stored = &all[usize::try_from(group.offset).unwrap()..];
        let mut streams = OpenGroup::streams_of(group, stored).unwrap();
        for (at, value, stream) in changes {
            let bytes = &mut streams[stream];
            if !bytes.is_empty() {
                let at = at.index(bytes.len());
                bytes[at] = value;
            }
        }
        if let Ok(open) = OpenGroup::of_streams(group, streams, &old.sizes, &new.sizes) {
            for (number, part) in open.parts().enumerate() {
                let mut out = Vec::new();
                if open.apply(number, &old, &mut out).is_ok() {
                    prop_assert_eq!(out.len() as u64, part.len);
                }
            }
        }
    }
}
