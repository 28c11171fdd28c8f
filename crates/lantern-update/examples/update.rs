//! Makes an update file of two folders, applies it, and compares what comes of it with the second: for the measurements of other programs
//! in `docs/performance.md`.

use std::fs::{self, File as Opened};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::Instant;

use lantern_chunker::Profile;
use lantern_core::digest::{Digest, RecipeId};
use lantern_update::{Build, Chunk, File, Header, Old, OpenGroup, Wanted, make};

struct Folder {
    root: PathBuf,
    files: Vec<File>,
}

fn list(root: &Path, below: &Path, out: &mut Vec<String>) -> io::Result<()> {
    for entry in fs::read_dir(below)? {
        let (path, kind) = entry.and_then(|entry| Ok((entry.path(), entry.file_type()?)))?;
        if kind.is_dir() {
            list(root, &path, out)?;
        } else if kind.is_file() {
            let path = path.strip_prefix(root).map_err(io::Error::other)?;
            out.push(path.to_string_lossy().replace('\\', "/"));
        }
    }
    Ok(())
}

impl Folder {
    fn read(root: &Path) -> io::Result<Self> {
        let mut paths = Vec::new();
        list(root, root, &mut paths)?;
        paths.sort_unstable();
        let mut files = Vec::new();
        for path in paths {
            let bytes = fs::read(root.join(&path))?;
            let mut rest = bytes.as_slice();
            let mut chunks = Vec::new();
            while !rest.is_empty() {
                let (chunk, after) = rest.split_at(Profile::Medium.cut(rest));
                chunks.push(Chunk {
                    digest: Digest::of(chunk),
                    len: u32::try_from(chunk.len()).map_err(io::Error::other)?,
                });
                rest = after;
            }
            files.push(File { path, size: bytes.len() as u64, digest: Digest::of(&bytes), chunks });
        }
        Ok(Self { root: root.to_owned(), files })
    }
}

impl Build for Folder {
    fn files(&self) -> &[File] {
        &self.files
    }

    fn read(&self, file: usize, offset: u64, out: &mut [u8]) -> io::Result<()> {
        let of = self.files.get(file).ok_or(io::ErrorKind::NotFound)?;
        let mut opened = Opened::open(self.root.join(&of.path))?;
        opened.seek(SeekFrom::Start(offset))?;
        opened.read_exact(out)
    }
}

/// The old folder, for the one who applies: each file is opened once.
struct Installed<'a> {
    folder: &'a Folder,
    sizes: Vec<u64>,
    last: std::cell::RefCell<Option<(usize, Opened)>>,
}

impl Old for Installed<'_> {
    fn sizes(&self) -> &[u64] {
        &self.sizes
    }

    fn read(&self, file: usize, offset: u64, out: &mut [u8]) -> io::Result<()> {
        let mut last = self.last.borrow_mut();
        if last.as_ref().is_none_or(|(open, _)| *open != file) {
            let of = self.folder.files.get(file).ok_or(io::ErrorKind::NotFound)?;
            *last = Some((file, Opened::open(self.folder.root.join(&of.path))?));
        }
        let (_, opened) = last.as_mut().ok_or(io::ErrorKind::NotFound)?;
        opened.seek(SeekFrom::Start(offset))?;
        opened.read_exact(out)
    }
}

fn run(old: &str, new: &str, to: &str) -> Result<bool, Box<dyn std::error::Error>> {
    let mut out = io::stdout().lock();
    let start = Instant::now();
    let (old, new) = (Folder::read(Path::new(old))?, Folder::read(Path::new(new))?);
    writeln!(out, "read and cut in {:.1} s", start.elapsed().as_secs_f64())?;
    let start = Instant::now();
    let mut groups = Vec::new();
    let wanted = Wanted::between(RecipeId::of(b"old"), RecipeId::of(b"new"));
    let head = make(&old, &new, &wanted, &mut groups)?;
    let all = [head.as_slice(), &groups].concat();
    writeln!(
        out,
        "made in {:.1} s: {} bytes, {} of them the head",
        start.elapsed().as_secs_f64(),
        all.len(),
        head.len()
    )?;
    let start = Instant::now();
    let header = Header::decode(&all)?;
    let sizes: Vec<u64> = old.files.iter().map(|file| file.size).collect();
    let new_sizes: Vec<u64> = new.files.iter().map(|file| file.size).collect();
    let installed = Installed { folder: &old, sizes, last: std::cell::RefCell::default() };
    let mut is_well = true;
    let (mut parts, mut whole) = (0, 0);
    let mut file_at = (u32::MAX, 0_u64, Vec::new());
    for group in &header.groups {
        let stored = &all.get(usize::try_from(group.offset)?..usize::try_from(group.offset + group.len())?);
        let open = OpenGroup::open(group, stored.unwrap_or_default(), &installed.sizes, &new_sizes)?;
        for (number, part) in open.parts().enumerate() {
            if part.file != file_at.0 {
                file_at = (part.file, 0, Vec::new());
            }
            open.apply(number, &installed, &mut file_at.2)?;
            file_at.1 += part.len;
            parts += 1;
            let of = &new.files.get(part.file as usize).ok_or("no such file")?;
            if file_at.1 == of.size {
                whole += 1;
                if Digest::of(&file_at.2) != of.digest {
                    is_well = false;
                    writeln!(out, "DIFFERENT: {}", of.path)?;
                }
                if !to.is_empty() {
                    let path = Path::new(to).join(&of.path);
                    fs::create_dir_all(path.parent().ok_or("no folder")?)?;
                    fs::write(path, &file_at.2)?;
                }
            }
        }
        let of_group = group.streams().map(|(name, raw, stored)| format!("{name} {raw} -> {stored}"));
        writeln!(out, "  {} parts: {}", group.parts.len(), of_group.collect::<Vec<_>>().join(", "))?;
    }
    writeln!(
        out,
        "applied in {:.1} s: {parts} parts, {whole} files, {} groups",
        start.elapsed().as_secs_f64(),
        header.groups.len()
    )?;
    Ok(is_well)
}

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [old, new, rest @ ..] = arguments.as_slice() else { return ExitCode::from(2) };
    match run(old, new, rest.first().map_or("", String::as_str)) {
        Ok(true) => ExitCode::SUCCESS,
        Ok(false) => ExitCode::FAILURE,
        Err(error) => {
            let _ = writeln!(io::stderr(), "{error}");
            ExitCode::FAILURE
        }
    }
}
