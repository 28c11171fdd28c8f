//! Example exports of *Saltmarsh Post*, as an engine would write them: small, true, the same on every computer.

mod axml;
mod bundle;
pub mod config;
mod macho;
mod pe;
pub mod program;

use std::fs;
use std::io::{self, BufWriter, Cursor};
use std::path::Path;

use lantern_formats::zip::Method;
use lantern_formats::zip::write::ZipWriter;

use lantern_core::system::System;

/// A version of the example game.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum GameVersion {
    /// What everybody has at the start of the scenario.
    Old,
    /// The next one as testers get it.
    Candidate,
    /// The next one: a few things differ.
    New,
}

impl GameVersion {
    /// Returns the number that stands in packages and bundles.
    pub const fn number(self) -> u32 {
        match self {
            Self::Old => 25,
            Self::Candidate => 26,
            Self::New => 27,
        }
    }

    /// Returns the version for people.
    pub const fn text(self) -> &'static str {
        match self {
            Self::Old => "1.3.2",
            Self::Candidate => "1.4.0-rc",
            Self::New => "1.4.0",
        }
    }
}

/// Bytes that look like what games hold: half of them as good as random, half repeating.
fn asset(name: &str, len: usize) -> Vec<u8> {
    let mut noise = vec![0; len / 2];
    blake3::Hasher::new().update(name.as_bytes()).finalize_xof().fill(&mut noise);
    let repeating = noise.get(..64.min(noise.len())).unwrap_or_default().repeat(4096 / 64);
    let mut out = Vec::with_capacity(len);
    for part in noise.chunks(4096) {
        out.extend_from_slice(part);
        out.extend_from_slice(repeating.get(..part.len()).unwrap_or(&repeating));
    }
    out
}

/// The game's data file: an index and some sixty assets one after another.
fn data_file(version: GameVersion) -> Vec<u8> {
    let mut names: Vec<String> = (0..60).map(|i| format!("asset {i}")).collect();
    if version != GameVersion::Old {
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

fn line(version: GameVersion) -> String {
    format!("Saltmarsh Post {}: the tide is out, the letters are dry.\n", version.text())
}

fn letters(version: GameVersion) -> String {
    match version {
        GameVersion::Old => LETTERS.to_owned(),
        GameVersion::Candidate | GameVersion::New => format!("{LETTERS}{NEW_LETTER}"),
    }
}

/// Writes files; what is in the way is replaced, other files are left.
fn write(folder: &Path, name: &str, bytes: &[u8]) -> io::Result<()> {
    let path = folder.join(name);
    if let Some(parent) = path.parent() {
        fs::create_dir_all(parent)?;
    }
    fs::write(path, bytes)
}

/// Textures and music, below a folder of the export.
fn write_assets(folder: &Path) -> io::Result<()> {
    for (name, len) in [("reeds", 700_000), ("water", 900_000), ("punt", 400_000)] {
        write(folder, &format!("textures/{name}.tex"), &asset(name, len))?;
    }
    for (name, len) in [("ebb", 1_300_000), ("flood", 1_100_000)] {
        write(folder, &format!("music/{name}.snd"), &asset(name, len))?;
    }
    Ok(())
}

/// What is read aloud, in three languages.
fn write_voices(folder: &Path, version: GameVersion) -> io::Result<()> {
    for language in ["en", "fr", "ja"] {
        write(folder, &format!("voices/{language}/letters.snd"), &asset(&format!("letters {language}"), 600_000))?;
        if version != GameVersion::Old {
            write(folder, &format!("voices/{language}/lighthouse.snd"), &asset(&format!("light {language}"), 90_000))?;
        }
    }
    Ok(())
}

/// Writes the export for Linux into a folder; what is in the way is replaced, other files are left.
///
/// # Errors
/// The system's.
pub fn write_linux(folder: &Path, version: GameVersion, system: System) -> io::Result<()> {
    write(folder, "saltmarsh", &program::elf_that_prints(&line(version), system))?;
    write(folder, "saltmarsh.dat", &data_file(version))?;
    write_assets(folder)?;
    write(folder, "letters/en.txt", letters(version).as_bytes())?;
    write(folder, "notes/for-us.txt", b"ask Mika about the fog shader\n")?;
    match version {
        GameVersion::Old => write(folder, "hints/old-map.txt", b"the mill is north of the sluice\n"),
        GameVersion::Candidate | GameVersion::New => {
            let old = folder.join("hints");
            if old.is_dir() { fs::remove_dir_all(old) } else { Ok(()) }
        }
    }
}

/// Writes the exports of all systems below a folder: folders for Windows, macOS and Linux, packages for phones and
/// headsets, an archive for the browser.
///
/// # Errors
/// The system's.
pub fn write_all(folder: &Path, version: GameVersion, linux: System) -> io::Result<()> {
    write_linux(&folder.join("linux"), version, linux)?;
    write_voices(&folder.join("linux"), version)?;
    write_windows(&folder.join("windows"), version)?;
    write_macos(&folder.join("macos"), version)?;
    write_android(&folder.join("saltmarsh.apk"), version, false)?;
    write_android(&folder.join("saltmarsh-headset.apk"), version, true)?;
    write_ios(&folder.join("saltmarsh.ipa"), version)?;
    write_web(&folder.join("web.zip"), version)
}

/// Writes the export for Windows, with symbols that stay at home.
///
/// # Errors
/// The system's.
pub fn write_windows(folder: &Path, version: GameVersion) -> io::Result<()> {
    write(folder, "Saltmarsh Post.exe", &pe::pe_that_prints(&line(version), None))?;
    write(folder, "saltmarsh.pdb", &asset(&format!("symbols {}", version.text()), 300_000))?;
    write(folder, "saltmarsh.dat", &data_file(version))?;
    write_assets(folder)?;
    write(folder, "letters/en.txt", letters(version).as_bytes())?;
    write_voices(folder, version)
}

/// The program of the export for Windows as an engine writes it that puts the version into its resources.
pub fn windows_program_with_version(version: GameVersion) -> Vec<u8> {
    pe::pe_that_prints(&line(version), Some(version.text()))
}

/// The program of the export for macOS: two slices, and no signature.
pub fn macos_program(version: GameVersion) -> Vec<u8> {
    macho::universal(&line(version))
}

/// The program of the package for iPhones: one slice, and no signature.
pub fn ios_program(version: GameVersion) -> Vec<u8> {
    macho::for_ios(&line(version))
}

/// Writes the export for macOS: a bundle, and the voices beside it.
///
/// # Errors
/// The system's.
pub fn write_macos(folder: &Path, version: GameVersion) -> io::Result<()> {
    let bundle = folder.join("Saltmarsh Post.app/Contents");
    write(&bundle, "Info.plist", info_plist(version, "saltmarsh", version.text()).as_bytes())?;
    write(&bundle, "MacOS/saltmarsh", &macos_program(version))?;
    write(&bundle, "Resources/saltmarsh.dat", &data_file(version))?;
    write_assets(&bundle.join("Resources"))?;
    write(&bundle, "Resources/letters/en.txt", letters(version).as_bytes())?;
    write_voices(folder, version)
}

fn info_plist(version: GameVersion, program: &str, build: &str) -> String {
    format!(
        r#"<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd">
<plist version="1.0">
<dict>
	<key>CFBundleExecutable</key><string>{program}</string>
	<key>CFBundleIdentifier</key><string>example.paperheron.saltmarsh</string>
	<key>CFBundleName</key><string>Saltmarsh Post</string>
	<key>CFBundlePackageType</key><string>APPL</string>
	<key>CFBundleShortVersionString</key><string>{}</string>
	<key>CFBundleVersion</key><string>{build}</string>
</dict>
</plist>
"#,
        version.text()
    )
}

/// Writes a ZIP archive: names, whether they are compressed, bytes.
fn write_zip(path: &Path, entries: &[(&str, bool, Vec<u8>)]) -> io::Result<()> {
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, compressed, bytes) in entries {
        let method = if *compressed { Method::Deflate } else { Method::Stored };
        zip.file(name, method, 0o644, bytes.len() as u64, |out| out.write_all(bytes))?;
    }
    if let Some(parent) = path.parent() {
        fs::create_dir_all(parent)?;
    }
    let mut out = BufWriter::new(fs::File::create(path)?);
    io::Write::write_all(&mut out, zip.finish()?.get_ref())?;
    io::Write::flush(&mut out)
}

/// Writes the package for phones, or for headsets; not signed yet.
///
/// # Errors
/// The system's.
pub fn write_android(path: &Path, version: GameVersion, for_headsets: bool) -> io::Result<()> {
    let manifest = axml::manifest(version.text(), version.number(), for_headsets);
    let library = program::elf_that_prints(&line(version), System::LinuxAarch64);
    write_zip(
        path,
        &[
            ("AndroidManifest.xml", true, manifest),
            ("lib/arm64-v8a/libsaltmarsh.so", false, library),
            ("assets/letters/en.txt", true, letters(version).into_bytes()),
            ("assets/textures/reeds.tex", false, asset("reeds", 700_000)),
            ("assets/music/ebb.snd", false, asset("ebb", 1_300_000)),
        ],
    )
}

/// Writes the bundle that shops make packages for Android phones of; not signed yet.
///
/// # Errors
/// The system's.
pub fn write_bundle(path: &Path, version: GameVersion) -> io::Result<()> {
    let library = program::elf_that_prints(&line(version), System::LinuxAarch64);
    write_zip(
        path,
        &[
            ("BundleConfig.pb", true, b"\x0a\x08\x12\x061.17.2".to_vec()),
            ("base/manifest/AndroidManifest.xml", true, bundle::manifest(version.text(), version.number())),
            ("base/lib/arm64-v8a/libsaltmarsh.so", true, library),
            ("base/assets/letters/en.txt", true, letters(version).into_bytes()),
            ("base/assets/textures/reeds.tex", true, asset("reeds", 700_000)),
        ],
    )
}

/// Writes the package for iPhones; not signed yet.
///
/// # Errors
/// The system's.
pub fn write_ios(path: &Path, version: GameVersion) -> io::Result<()> {
    let inside = |name: &str| format!("Payload/SaltmarshPost.app/{name}");
    write_zip(
        path,
        &[
            (
                inside("Info.plist").as_str(),
                true,
                info_plist(version, "SaltmarshPost", &version.number().to_string()).into_bytes(),
            ),
            (inside("SaltmarshPost").as_str(), true, ios_program(version)),
            (inside("letters/en.txt").as_str(), true, letters(version).into_bytes()),
            (inside("textures/reeds.tex").as_str(), true, asset("reeds", 700_000)),
        ],
    )
}

/// Writes the archive for browsers.
///
/// # Errors
/// The system's.
pub fn write_web(path: &Path, version: GameVersion) -> io::Result<()> {
    let text = line(version);
    let page = "<!doctype html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n<title>Saltmarsh Post</title>\n\
         <p id=\"line\"></p>\n<script src=\"saltmarsh.js\"></script>\n</html>\n"
        .to_string();
    let script = format!("document.getElementById(\"line\").textContent = {:?};\n", text.trim_end());
    write_zip(
        path,
        &[
            ("index.html", true, page.into_bytes()),
            ("saltmarsh.js", true, script.into_bytes()),
            ("letters/en.txt", true, letters(version).into_bytes()),
            ("textures/reeds.tex", true, asset("reeds", 700_000)),
        ],
    )
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
    fn the_exports_are_what_they_seem_to_be() {
        use lantern_formats::program::{Form, Kind, Program};
        let (one, two) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        for folder in [one.path(), two.path()] {
            write_all(folder, GameVersion::New, System::LinuxX86_64).unwrap();
        }
        let programs = [
            ("windows/Saltmarsh Post.exe", Form::Pe, 1),
            ("macos/Saltmarsh Post.app/Contents/MacOS/saltmarsh", Form::MachO, 2),
            ("linux/saltmarsh", Form::Elf, 1),
        ];
        for (name, form, machines) in programs {
            let program = Program::read(&mut fs::File::open(one.path().join(name)).unwrap()).unwrap();
            assert_eq!((program.form, program.kind, program.machines.len()), (form, Kind::Program, machines));
        }
        for name in ["saltmarsh.apk", "saltmarsh-headset.apk", "saltmarsh.ipa", "web.zip"] {
            let mut file = fs::File::open(one.path().join(name)).unwrap();
            assert!(lantern_formats::zip::read(&mut file).unwrap().len() >= 4, "{name}");
            assert_eq!(fs::read(one.path().join(name)).unwrap(), fs::read(two.path().join(name)).unwrap(), "{name}");
        }
    }

    #[test]
    fn most_of_the_data_is_shared_between_versions() {
        let (old, new) = (data_file(GameVersion::Old), data_file(GameVersion::New));
        assert_ne!(old, new);
        let middle = &old[old.len() / 2 + 100_000..][..4096];
        assert!(new.windows(4096).any(|window| window == middle));
    }
}
