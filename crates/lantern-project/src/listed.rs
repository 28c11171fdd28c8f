//! Lists of files with their SHA-256, in the form that `sha256sum` writes and checks.

use std::io::{self, Read};
use std::path::{Path, PathBuf};

use lantern_core::bytes::hex;
use lantern_core::progress::{Meter, Progress, Watched};
use lantern_formats::hash::Hash;

/// The list of all files of a build, and its signature.
pub(crate) const LIST: &str = "SHA256SUMS";
pub(crate) const LIST_SIGNATURE: &str = "SHA256SUMS.sig";

/// Whether a path of a build is that of its list, or of the list's signature.
pub(crate) fn is_own(path: &str) -> bool {
    [LIST, LIST_SIGNATURE].contains(&path)
}

/// All files below a folder, each with its path from there, with `/` on every system, and in order. Links are not followed.
pub(crate) fn files_below(folder: &Path) -> io::Result<Vec<(String, PathBuf)>> {
    let mut files = Vec::new();
    walk(folder, "", &mut files)?;
    files.sort();
    Ok(files)
}

fn walk(folder: &Path, below: &str, into: &mut Vec<(String, PathBuf)>) -> io::Result<()> {
    for entry in std::fs::read_dir(folder)? {
        let entry = entry?;
        let (kind, name) = (entry.file_type()?, format!("{below}{}", entry.file_name().to_string_lossy()));
        if kind.is_dir() {
            walk(&entry.path(), &format!("{name}/"), into)?;
        } else if kind.is_file() {
            into.push((name, entry.path()));
        }
    }
    Ok(())
}

/// SHA-256 of what is read, in hex.
pub(crate) fn sha256(from: impl Read, meter: &dyn Meter, progress: &dyn Progress) -> io::Result<String> {
    Ok(hex(&Hash::Sha256.digest_of_reader(&mut Watched::new(from, meter, progress))?))
}

/// Writes a list of names with their digests, in the order of the names. A name with a backslash or a line end is written with escapes,
/// and its line then begins with a backslash.
pub(crate) fn write(mut files: Vec<(String, String)>) -> String {
    files.sort();
    let line = |(name, digest): (String, String)| {
        let escaped = name.replace('\\', "\\\\").replace('\n', "\\n").replace('\r', "\\r");
        let mark = if escaped == name { "" } else { "\\" };
        format!("{mark}{digest}  {escaped}\n")
    };
    files.into_iter().map(line).collect()
}

/// Reads a list: each name with its digest in hex; none where it is no list.
pub(crate) fn read(bytes: &[u8]) -> Option<Vec<(String, String)>> {
    let text = std::str::from_utf8(bytes).ok()?;
    let line = |line: &str| {
        let (is_escaped, line) = line.strip_prefix('\\').map_or((false, line), |rest| (true, rest));
        let (digest, rest) = line.split_at_checked(64)?;
        let name = rest.strip_prefix("  ").or_else(|| rest.strip_prefix(" *"))?;
        let is_hex = digest.bytes().all(|byte| byte.is_ascii_hexdigit());
        let name = if is_escaped { unescaped(name) } else { name.to_owned() };
        is_hex.then(|| (name, digest.to_ascii_lowercase()))
    };
    let list: Option<Vec<_>> = text.lines().map(line).collect();
    list.filter(|list| !list.is_empty())
}

fn unescaped(name: &str) -> String {
    let mut out = String::new();
    let mut chars = name.chars();
    while let Some(c) = chars.next() {
        let escaped = if c == '\\' { chars.next() } else { None };
        out.push(match escaped {
            None => c,
            Some('n') => '\n',
            Some('r') => '\r',
            Some(other) => other,
        });
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_with_every_name() {
        let digest = "a".repeat(64);
        let list = read(format!("{digest}  one two\n\\{digest}  a\\\\b\\nc\n{digest} *three\n").as_bytes()).unwrap();
        let names: Vec<&str> = list.iter().map(|(name, _)| name.as_str()).collect();
        assert_eq!(names, ["one two", "a\\b\nc", "three"]);
        for none in ["", "a letter", &format!("{digest} one"), &format!("{}  one", "z".repeat(64))] {
            assert_eq!(read(none.as_bytes()), None, "{none}");
        }
        let mut sorted = list.clone();
        sorted.sort();
        assert_eq!(read(write(list).as_bytes()).unwrap(), sorted);
    }
}
