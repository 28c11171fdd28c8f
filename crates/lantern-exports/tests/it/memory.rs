//! No file of ten megabytes may make `inspect` as a whole take more than 64 megabytes.

use std::io::{Cursor, Write};

use lantern_core::progress::Silent;
use lantern_exports::inspect::inspect;
use lantern_formats::samples::{Key, MacProgram, nobody, signed_archive};
use lantern_formats::tar::write::TarWriter;
use lantern_formats::zip::Method;
use lantern_formats::zip::write::ZipWriter;
use peak_alloc::PeakAlloc;

#[global_allocator]
static MEMORY: PeakAlloc = PeakAlloc;

const MAX_FILE_LEN: usize = 10_000_000;
const MAX_MEMORY: usize = 64_000_000;
/// Bytes of an entry of a ZIP archive beside its name, which stands there twice.
const ENTRY_LEN: usize = 76;

type Zip = ZipWriter<Cursor<Vec<u8>>>;

fn zip(fill: &dyn Fn(&mut Zip)) -> Vec<u8> {
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    fill(&mut zip);
    zip.finish().unwrap().into_inner()
}

fn empty_files(count: usize, name: &dyn Fn(usize) -> String) -> Vec<u8> {
    zip(&|zip| {
        for i in 0..count {
            zip.file(&name(i), Method::Stored, 0o644, 0, |_| Ok(())).unwrap();
        }
    })
}

fn packed(fill: &dyn Fn(&mut TarWriter<Vec<u8>>)) -> Vec<u8> {
    let mut tar = TarWriter::new(Vec::new());
    fill(&mut tar);
    let tar = tar.finish().unwrap();
    let mut out = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    out.write_all(&tar).unwrap();
    out.finish().unwrap()
}

/// A property list of sixteen megabytes in a bundle, which takes next to nothing in an archive.
fn bundle(part: &str) -> Vec<u8> {
    let list =
        format!("<plist><dict><key>x</key><array>{}</array></dict></plist>", part.repeat(16_000_000 / part.len()));
    zip(&|zip| {
        let len = list.len() as u64;
        zip.file("a.app/Contents/Info.plist", Method::Deflate, 0o644, len, |out| out.write_all(list.as_bytes()))
            .unwrap();
        let program = MacProgram::default().signed(&nobody);
        zip.file("a.app/Contents/MacOS/a", Method::Deflate, 0o755, program.len() as u64, |out| out.write_all(&program))
            .unwrap();
    })
}

/// A package that is signed file by file.
fn package() -> Vec<u8> {
    let manifest = include_bytes!("../../../lantern-formats/tests/seeds/manifest/saltmarsh.apk");
    let names: Vec<String> = (0..60_000).map(|i| format!("a{i}")).collect();
    let empty = names.iter().map(|name| (name.as_str(), b"".as_slice()));
    let files: Vec<(&str, &[u8])> =
        [("AndroidManifest.xml", manifest.as_slice()), ("classes.dex", b"x")].into_iter().chain(empty).collect();
    signed_archive(&Key::new("Paper Heron"), &files, false)
}

#[test]
fn ten_megabytes_stay_small() {
    let long = "a/".repeat(20);
    let files: Vec<(&str, Vec<u8>)> = vec![
        ("names.zip", empty_files(MAX_FILE_LEN / (ENTRY_LEN + 14), &|i| format!("{i:05x}"))),
        ("names.apk", empty_files(MAX_FILE_LEN / (ENTRY_LEN + 14), &|i| format!("{i:05x}"))),
        (
            "deep.zip",
            empty_files(MAX_FILE_LEN / (ENTRY_LEN + 600), &|i| format!("{i:05}/{}x", format!("{i:06}/").repeat(35))),
        ),
        ("refused.zip", empty_files(MAX_FILE_LEN / (ENTRY_LEN + 20), &|i| format!("../{i:05x}"))),
        ("twins.zip", empty_files(MAX_FILE_LEN / (ENTRY_LEN + 4), &|_| "a".to_owned())),
        (
            "folders.zip",
            zip(&|zip| {
                (0..MAX_FILE_LEN / (ENTRY_LEN + 94)).for_each(|i| zip.folder(&format!("{long}{i:05}")).unwrap());
            }),
        ),
        (
            "links.zip",
            zip(&|zip| {
                (0..2_400).for_each(|i| zip.link(&format!("{i}"), &format!("{}b", "a/../".repeat(800))).unwrap());
            }),
        ),
        ("signed.apk", package()),
        ("names.tar.gz", packed(&|tar| (0..300_000).for_each(|i| tar.folder(&format!("{i}")).unwrap()))),
        ("flags.zip", bundle("<true/>")),
        ("texts.zip", bundle("<string>a</string>")),
    ];
    let folder = tempfile::tempdir().unwrap();
    let paths: Vec<_> = files.iter().map(|(name, _)| folder.path().join(name)).collect();
    for ((name, bytes), path) in files.into_iter().zip(&paths) {
        assert!(bytes.len() <= MAX_FILE_LEN + MAX_FILE_LEN / 10, "{name}: {}", bytes.len());
        std::fs::write(path, bytes).unwrap();
    }
    for path in &paths {
        let before = MEMORY.current_usage();
        MEMORY.reset_peak_usage();
        inspect(path, "it", jiff::Timestamp::UNIX_EPOCH, &Silent).unwrap();
        let took = MEMORY.peak_usage().saturating_sub(before);
        let name = path.file_name().unwrap().display();
        assert!(took <= MAX_MEMORY, "{name}: {} MB", took / 1_000_000);
    }
}
