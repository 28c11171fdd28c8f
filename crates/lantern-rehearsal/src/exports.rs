//! Example exports of *Saltmarsh Post*, as an engine would write them: small, true, the same on every computer.

pub mod program;

use std::fs;
use std::io;
use std::path::Path;

use lantern_core::system::System;

/// A version of the example game.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum GameVersion {
    /// What everybody has at the start of the scenario.
    Old,
    /// The next one: a few things differ.
    New,
}

impl GameVersion {
    /// Returns the version for people.
    pub const fn text(self) -> &'static str {
        match self {
            Self::Old => "1.3.2",
            Self::New => "1.4.0",
        }
    }
}

/// Bytes that look like what games hold: half of them as good as random, half repeating.
fn asset(name: &str, len: usize) -> Vec<u8> {
    let mut noise = vec![0; len / 2];
    blake3::Hasher::new().update(name.as_bytes()).finalize_xof().fill(&mut noise);
    let pattern = noise.get(..64.min(noise.len())).unwrap_or_default().to_vec();
    let mut out = Vec::with_capacity(len);
    for part in noise.chunks(4096) {
        out.extend(part);
        out.extend(pattern.iter().cycle().take(part.len()));
    }
    out
}

/// The game's data file: an index and some sixty assets one after another.
fn data_file(version: GameVersion) -> Vec<u8> {
    let mut names: Vec<String> = (0..60).map(|i| format!("asset {i}")).collect();
    if version == GameVersion::New {
        names[17] = "asset 17, second draft".to_owned();
        names[41] = "asset 41, second draft".to_owned();
        names.insert(30, "the lighthouse".to_owned());
    }
    let bodies: Vec<Vec<u8>> = names.iter().map(|name| asset(name, 64 * 1024 + name.len() * 512)).collect();
    let mut out = b"MARSHDAT".to_vec();
    let mut offset = 0_u32;
    for body in &bodies {
        let len = u32::try_from(body.len()).unwrap_or(u32::MAX);
        out.extend(offset.to_le_bytes());
        out.extend(len.to_le_bytes());
        offset += len;
    }
    out.extend(bodies.concat());
    out
}

const LETTERS: &str = "Dear Wren,\nthe punt leaks again, but only at high water.\nYours, Aldous\n\n\
    To whoever minds the lock,\nplease leave it open on market days.\n";
const NEW_LETTER: &str = "\nDear Aldous,\nthe lighthouse is lit. Come before the ebb.\nYours, Wren\n";

/// Writes the export for Linux into a folder; what is in the way is replaced, other files are left.
///
/// # Errors
/// The system's.
pub fn write_linux(folder: &Path, version: GameVersion, system: System) -> io::Result<()> {
    let line = format!("Saltmarsh Post {}: the tide is out, the letters are dry.\n", version.text());
    let write = |name: &str, bytes: &[u8]| {
        let path = folder.join(name);
        if let Some(parent) = path.parent() {
            fs::create_dir_all(parent)?;
        }
        fs::write(path, bytes)
    };
    write("saltmarsh", &program::elf_that_prints(&line, system))?;
    write("saltmarsh.dat", &data_file(version))?;
    for (name, len) in [("reeds", 700_000), ("water", 900_000), ("punt", 400_000)] {
        write(&format!("textures/{name}.tex"), &asset(name, len))?;
    }
    for (name, len) in [("ebb", 1_300_000), ("flood", 1_100_000)] {
        write(&format!("music/{name}.snd"), &asset(name, len))?;
    }
    let letters = match version {
        GameVersion::Old => LETTERS.to_owned(),
        GameVersion::New => format!("{LETTERS}{NEW_LETTER}"),
    };
    write("letters/en.txt", letters.as_bytes())?;
    write("notes/for-us.txt", b"ask Mika about the fog shader\n")?;
    match version {
        GameVersion::Old => write("hints/old-map.txt", b"the mill is north of the sluice\n"),
        GameVersion::New => {
            let old = folder.join("hints");
            if old.is_dir() { fs::remove_dir_all(old) } else { Ok(()) }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_export_is_the_same_every_time() {
        let (one, two) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        write_linux(one.path(), GameVersion::Old, System::LinuxX86_64).unwrap();
        write_linux(one.path(), GameVersion::New, System::LinuxX86_64).unwrap();
        write_linux(two.path(), GameVersion::New, System::LinuxX86_64).unwrap();
        for name in ["saltmarsh", "saltmarsh.dat", "textures/reeds.tex", "letters/en.txt"] {
            assert_eq!(fs::read(one.path().join(name)).unwrap(), fs::read(two.path().join(name)).unwrap(), "{name}");
        }
        assert!(!one.path().join("hints").exists());
    }

    #[test]
    fn most_of_the_data_is_shared_between_versions() {
        let (old, new) = (data_file(GameVersion::Old), data_file(GameVersion::New));
        assert_ne!(old, new);
        let middle = &old[old.len() / 2 + 100_000..][..4096];
        assert!(new.windows(4096).any(|window| window == middle));
    }
}
