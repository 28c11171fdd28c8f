//! A key, and packages of the example game.

use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};

use lantern_core::progress::Silent;
use lantern_formats::zip::Method;
use lantern_formats::zip::write::ZipWriter;
use lantern_keys::key::Signer;
use lantern_keys::pkcs12::Entry;
use lantern_keys::{Passphrase, pkcs12};
use lantern_rehearsal::exports::{GameVersion, write_android};
use lantern_sign::stamp::Edits;
use lantern_sign::{SignError, apk, bundle_jar};

/// One of the keys that lie beside the tests of `lantern-keys`.
pub fn key(file: &str) -> Entry {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../lantern-keys/tests/samples").join(file);
    let passphrase = Passphrase::new("punt and oar".to_owned());
    pkcs12::read(&std::fs::read(path).unwrap(), &passphrase).unwrap().remove(0)
}

pub fn rsa() -> Entry {
    key("aes.p12")
}

pub fn p256() -> Entry {
    key("java-legacy.p12")
}

pub struct Folder(tempfile::TempDir);

impl Folder {
    pub fn new() -> Self {
        Self(tempfile::tempdir().unwrap())
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    /// The example's package, made for systems from this API level on.
    pub fn package(&self, oldest: u8) -> PathBuf {
        let path = self.path(&format!("from-{oldest}.apk"));
        let made = self.path("made.apk");
        write_android(&made, GameVersion::Old, false).unwrap();
        let files = unpacked(&made);
        let files: Vec<(String, Method, Vec<u8>)> = files
            .into_iter()
            .map(|(name, method, mut bytes)| {
                if name == "AndroidManifest.xml" {
                    // A typed value: eight bytes long, of the type of whole numbers.
                    let level = [8, 0, 0, 0x10, 26, 0, 0, 0];
                    let at = bytes.windows(8).position(|window| window == level).unwrap();
                    bytes[at + 4] = oldest;
                }
                (name, method, bytes)
            })
            .collect();
        write(&path, &files);
        path
    }
}

/// Writes an archive.
pub fn write(path: &Path, files: &[(String, Method, Vec<u8>)]) {
    let mut zip = ZipWriter::new(File::create(path).unwrap());
    for (name, method, bytes) in files {
        zip.file(name, *method, 0o644, bytes.len() as u64, |out| out.write_all(bytes)).unwrap();
    }
    zip.finish().unwrap();
}

/// Every file of an archive, unpacked, in its order.
pub fn unpacked(path: &Path) -> Vec<(String, Method, Vec<u8>)> {
    let entries = lantern_formats::zip::read(&mut File::open(path).unwrap()).unwrap();
    let read = |entry: lantern_formats::zip::ZipEntry| {
        let mut bytes = Vec::new();
        let mut reader = lantern_formats::zip::open(File::open(path).unwrap(), &entry.packed).unwrap();
        io::copy(&mut reader, &mut bytes).unwrap();
        (String::from_utf8(entry.name).unwrap(), entry.packed.method, bytes)
    };
    entries.into_iter().map(read).collect()
}

pub fn sign(from: &Path, to: &Path, signer: &dyn Signer) -> Result<apk::Signed, SignError> {
    apk::sign((&|| File::open(from), &Edits::new()), to, signer, None, &Silent)
}

pub fn sign_bundle(from: &Path, to: &Path, signer: &dyn Signer) -> Result<(), SignError> {
    bundle_jar::sign(&|| File::open(from), &Edits::new(), to, signer, &Silent)
}
