//! A key, and packages of the example game.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use lantern_core::progress::Silent;
use lantern_formats::bundle::{FileKind, Files, ReadSeek};
use lantern_formats::zip::Method;
use lantern_formats::zip::write::ZipWriter;
use lantern_keys::key::Signer;
use lantern_keys::pkcs12::Entry;
use lantern_keys::{Passphrase, pkcs12};
use lantern_rehearsal::exports::{GameVersion, write_android};
use lantern_sign::stamp::Edits;
use lantern_sign::{SignError, apk, bundle_jar, team};

/// One of the keys in the test folder of `lantern-keys`.
pub fn key(file: &str) -> Entry {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../lantern-keys/tests/samples").join(file);
    let passphrase = Passphrase::new("punt and oar".to_owned());
    pkcs12::read(&fs::read(path).unwrap(), &passphrase).unwrap().remove(0)
}

pub fn rsa() -> Entry {
    key("aes.p12")
}

pub fn p256() -> Entry {
    key("java-legacy.p12")
}

/// A key with a certificate of a team.
pub fn of_team(team: &str) -> Entry {
    team::new(team, "Paper Heron", "2026-01-01T00:00:00Z".parse().unwrap()).unwrap()
}

/// The files of a folder, with those over them that were changed.
pub struct Disk {
    root: PathBuf,
    nodes: BTreeMap<String, Option<String>>,
    lens: BTreeMap<String, u64>,
}

impl Disk {
    pub fn of(root: &Path) -> Self {
        let mut out = Self { root: root.to_owned(), nodes: BTreeMap::new(), lens: BTreeMap::new() };
        out.list(root);
        out
    }

    fn list(&mut self, folder: &Path) {
        for entry in fs::read_dir(folder).unwrap().map(Result::unwrap) {
            let (path, kind) = (entry.path(), entry.file_type().unwrap());
            if kind.is_dir() {
                self.list(&path);
                continue;
            }
            let name = path.strip_prefix(&self.root).unwrap().to_str().unwrap().replace('\\', "/");
            let link = kind.is_symlink().then(|| fs::read_link(&path).unwrap().to_str().unwrap().to_owned());
            self.lens.insert(name.clone(), entry.metadata().unwrap().len());
            self.nodes.insert(name, link);
        }
    }

    fn kind_of<'a>(&self, path: &str, link: Option<&'a String>) -> FileKind<'a> {
        link.map_or(FileKind::File { len: self.lens[path] }, |target| FileKind::Link { target })
    }
}

impl Files for Disk {
    fn below<'a>(&'a self, folder: &'a str) -> Box<dyn Iterator<Item = (&'a str, FileKind<'a>)> + 'a> {
        let all = self.nodes.iter();
        Box::new(
            all.filter_map(move |(path, link)| Some((path.strip_prefix(folder)?, self.kind_of(path, link.as_ref())))),
        )
    }

    fn kind(&self, path: &str) -> Option<FileKind<'_>> {
        self.nodes.get(path).map(|link| self.kind_of(path, link.as_ref()))
    }

    fn open(&self, path: &str) -> io::Result<Box<dyn Read + Send + '_>> {
        Ok(Box::new(File::open(self.root.join(path))?))
    }

    fn open_anywhere(&self, path: &str) -> io::Result<Box<dyn ReadSeek + '_>> {
        Ok(Box::new(File::open(self.root.join(path))?))
    }
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
