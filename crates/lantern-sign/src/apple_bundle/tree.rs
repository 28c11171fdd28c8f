//! The files of a bundle, with those over them that were signed or added.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use lantern_core::progress::{Progress, Task, Watched};
use lantern_formats::bundle::{FileKind, Files, ReadSeek};
use lantern_formats::hash::{Hash, READ_LEN};
use lantern_formats::macho::FileHash;
use lantern_formats::zip::Method;
use lantern_formats::zip::write::ZipWriter;
use lantern_formats::{MAGIC_LEN, Magic};

use super::Changed;
use crate::SignError;
use crate::archive::create;

/// What lies at a path.
#[derive(Debug)]
enum Node {
    File { len: u64, at: Option<PathBuf> },
    Link(String),
    EmptyFolder,
}

/// SHA-1 and SHA-256 of a file.
#[derive(Debug, Clone)]
pub(super) struct Digests {
    pub sha1: Vec<u8>,
    pub sha256: Vec<u8>,
}

/// Files of which some have others over them.
pub(super) struct Tree<'a> {
    below: &'a dyn Files,
    nodes: BTreeMap<String, Node>,
    /// What was hashed, so that it is not read again for it.
    digests: Mutex<BTreeMap<String, Digests>>,
}

impl<'a> Tree<'a> {
    /// Everything in a folder.
    pub(super) fn of(files: &'a dyn Files, folder: &str) -> Self {
        let node = |kind: FileKind<'_>| match kind {
            FileKind::File { len } => Node::File { len, at: None },
            FileKind::Link { target } => Node::Link(target.to_owned()),
            FileKind::EmptyFolder => Node::EmptyFolder,
        };
        let nodes = files.below(folder).map(|(path, kind)| (format!("{folder}{path}"), node(kind))).collect();
        Self { below: files, nodes, digests: Mutex::default() }
    }

    /// Puts a file over what was there.
    pub(super) fn put(&mut self, file: Changed) {
        let len = std::fs::metadata(&file.at).map_or(0, |metadata| metadata.len());
        self.digests.get_mut().expect("nothing panics with the lock").remove(&file.path);
        self.nodes.insert(file.path, Node::File { len, at: Some(file.at) });
    }

    /// What is other than it was.
    pub(super) fn changed(self) -> Vec<Changed> {
        let changed = |(path, node)| match node {
            Node::File { at: Some(at), .. } => Some(Changed { path, at }),
            _ => None,
        };
        self.nodes.into_iter().filter_map(changed).collect()
    }

    /// Writes everything as an archive, without so many bytes at the beginning of each path.
    pub(super) fn archive(&self, above: usize, to: &Path, progress: &dyn Progress) -> Result<(), SignError> {
        let total = self.nodes.values().map(|node| if let Node::File { len, .. } = node { *len } else { 0 }).sum();
        let meter = progress.start(Task::Write, Some(total));
        let mut zip = ZipWriter::new(create(to)?);
        for (path, node) in &self.nodes {
            if progress.stopped() {
                return Err(SignError::Stopped);
            }
            let name = path.get(above..).unwrap_or(path);
            match node {
                Node::Link(target) => zip.link(name, target)?,
                Node::EmptyFolder => zip.folder(name)?,
                Node::File { len, .. } => {
                    let mut first = [0; MAGIC_LEN];
                    let read = self.open(path)?.take(MAGIC_LEN as u64).read(&mut first)?;
                    let is_run = Magic::of(first.get(..read).unwrap_or_default()).is_executable();
                    let mode = if is_run { 0o755 } else { 0o644 };
                    let from = self.open(path)?;
                    let mut from = Watched::new(from, &*meter, progress);
                    let copy = |out: &mut dyn io::Write| io::copy(&mut from, out).map(|_| ());
                    let written = zip.file(name, Method::Deflate, mode, *len, copy);
                    if progress.stopped() {
                        return Err(SignError::Stopped);
                    }
                    written?;
                }
            }
        }
        zip.finish()?;
        Ok(())
    }

    /// The digests of a file, made once.
    pub(super) fn digests(&self, path: &str, counted: &mut dyn FnMut(usize) -> io::Result<()>) -> io::Result<Digests> {
        if let Some(known) = self.digests.lock().expect("nothing panics with the lock").get(path) {
            return Ok(known.clone());
        }
        let mut from = self.open(path)?;
        let (mut sha1, mut sha256) = (Hash::Sha1.start(), Hash::Sha256.start());
        let mut buffer = vec![0; READ_LEN];
        loop {
            match from.read(&mut buffer) {
                Ok(0) => break,
                Ok(len) => {
                    let bytes = buffer.get(..len).unwrap_or_default();
                    sha1.update(bytes);
                    sha256.update(bytes);
                    counted(len)?;
                }
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
        let digests = Digests { sha1: sha1.finish(), sha256: sha256.finish() };
        self.digests.lock().expect("nothing panics with the lock").insert(path.to_owned(), digests.clone());
        Ok(digests)
    }
}

impl Files for Tree<'_> {
    fn below<'a>(&'a self, folder: &'a str) -> Box<dyn Iterator<Item = (&'a str, FileKind<'a>)> + 'a> {
        let from = self.nodes.range(folder.to_owned()..);
        Box::new(from.map_while(move |(path, node)| Some((path.strip_prefix(folder)?, kind(node)))))
    }

    fn kind(&self, path: &str) -> Option<FileKind<'_>> {
        self.nodes.get(path).map(kind)
    }

    fn open(&self, path: &str) -> io::Result<Box<dyn Read + Send + '_>> {
        match self.nodes.get(path) {
            Some(Node::File { at: Some(at), .. }) => Ok(Box::new(File::open(at)?)),
            _ => self.below.open(path),
        }
    }

    fn open_anywhere(&self, path: &str) -> io::Result<Box<dyn ReadSeek + '_>> {
        match self.nodes.get(path) {
            Some(Node::File { at: Some(at), .. }) => Ok(Box::new(File::open(at)?)),
            _ => self.below.open_anywhere(path),
        }
    }

    fn has_hash(&self, path: &str, hash: &FileHash) -> io::Result<bool> {
        let known = self.digests.lock().expect("nothing panics with the lock").get(path).cloned();
        match known {
            Some(known) => Ok(hash.is(Hash::Sha256, &known.sha256) || hash.is(Hash::Sha1, &known.sha1)),
            None => hash.is_of(&mut self.open(path)?),
        }
    }
}

fn kind(node: &Node) -> FileKind<'_> {
    match node {
        Node::File { len, .. } => FileKind::File { len: *len },
        Node::Link(target) => FileKind::Link { target },
        Node::EmptyFolder => FileKind::EmptyFolder,
    }
}
