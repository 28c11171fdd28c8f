//! The seal over the files of a bundle, `CodeResources`: which files belong to it, and the hash of each.
//!
//! Source: Apple's technical notes 2206, "Nested Code" and "Resource Rules" (<https://developer.apple.com/library/archive/technotes/tn2206/>),
//! and 3126 (<https://developer.apple.com/documentation/technotes/tn3126-inside-code-signing-hashes>). `files2` and `rules2` count where they are there,
//! `files` and `rules` for bundles of before 2013. A rule is a regular expression over paths, with a weight; of those
//! that fit the heaviest counts. It may leave files out, make them optional, or say that programs lie there, which are
//! known by the hash of their own signature.

use std::collections::BTreeMap;

use regex::{Regex, RegexBuilder};

use crate::hash::Hash;
use crate::offset_reader::FormatError;
use crate::plist::{self, Dictionary, Value};

/// Most rules, and largest size of one that is compiled. Ours: real seals have 10 to 20 short ones.
const MAX_RULES: usize = 64;
const MAX_RULE_LEN: usize = 256 * 1024;

/// What a seal says of one path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Sealed {
    /// A file, by the hash of its bytes.
    File(FileHash),
    /// A link, by where it points.
    Link(String),
    /// A program or a bundle of its own. The hash of its signature counts where nothing more than that is demanded of
    /// it; one that an identity has signed may have been signed again by the same.
    Code(Option<Vec<u8>>),
}

/// The hash of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileHash {
    hash: Hash,
    digest: Vec<u8>,
}

impl FileHash {
    /// Whether a digest that is known is this one.
    pub fn is(&self, hash: Hash, digest: &[u8]) -> bool {
        self.hash == hash && self.digest == digest
    }

    /// Whether bytes have this hash.
    ///
    /// # Errors
    /// Those of reading.
    pub fn is_of(&self, from: &mut dyn std::io::Read) -> std::io::Result<bool> {
        Ok(self.hash.digest_of_reader(from)? == self.digest)
    }
}

struct Rule {
    pattern: Regex,
    weight: i64,
    leaves_out: bool,
    is_optional: bool,
}

/// The seal of a bundle. Paths are from the folder that holds the seal's folder.
pub struct ResourceSeal {
    /// By their paths, with whether they may be missing.
    pub files: BTreeMap<String, (Sealed, bool)>,
    rules: Vec<Rule>,
}

impl ResourceSeal {
    /// Reads one.
    ///
    /// # Errors
    /// [`FormatError`] for bytes that are none.
    pub fn read(bytes: &[u8]) -> Result<Self, FormatError> {
        let all = plist::read(bytes)?;
        let part = |newer: &str, older: &str| {
            let found = all.get(newer).or_else(|| all.get(older));
            found.and_then(Value::dictionary).ok_or(FormatError::Not { format: "a seal over resources" })
        };
        let rules = part("rules2", "rules")?;
        if rules.len() > MAX_RULES {
            return Err(FormatError::Value { what: "the number of rules in the seal", value: rules.len() as u64 });
        }
        let rules = rules.iter().map(|(pattern, value)| rule(pattern, value)).collect::<Result<_, _>>()?;
        let files = part("files2", "files")?.iter();
        let files =
            files.map(|(path, value)| Ok((path.clone(), sealed(value)?))).collect::<Result<_, FormatError>>()?;
        Ok(Self { files, rules })
    }

    /// Whether a path that the seal does not list may be there.
    pub fn leaves_out(&self, path: &str) -> bool {
        // Where no rule fits, nothing is said about the file: it is no part of the bundle.
        self.rule_of(path).is_none_or(|rule| rule.leaves_out)
    }

    /// Whether a path that the seal lists may be missing.
    pub fn is_optional(&self, path: &str) -> bool {
        self.files.get(path).is_some_and(|(_, optional)| *optional)
            || self.rule_of(path).is_some_and(|rule| rule.is_optional)
    }

    fn rule_of(&self, path: &str) -> Option<&Rule> {
        self.rules.iter().filter(|rule| rule.pattern.is_match(path)).max_by_key(|rule| rule.weight)
    }
}

fn rule(pattern: &str, value: &Value) -> Result<Rule, FormatError> {
    let pattern = RegexBuilder::new(pattern).size_limit(MAX_RULE_LEN).build();
    let pattern = pattern.map_err(|_| FormatError::Value { what: "a rule of the seal", value: 0 })?;
    let empty = Dictionary::new();
    let says = value.dictionary().unwrap_or(&empty);
    let is_on = |name: &str| says.get(name) == Some(&Value::Flag(true));
    let weight = if let Some(Value::Number(weight)) = says.get("weight") { *weight } else { 1 };
    let leaves_out = is_on("omit") || *value == Value::Flag(false);
    Ok(Rule { pattern, weight, leaves_out, is_optional: is_on("optional") })
}

fn sealed(value: &Value) -> Result<(Sealed, bool), FormatError> {
    let none = || FormatError::Value { what: "a file of the seal", value: 0 };
    let file = |hash: Hash, data: &Value| {
        let digest = data.data().filter(|digest| digest.len() == hash.len()).ok_or_else(none)?.to_vec();
        Ok(Sealed::File(FileHash { hash, digest }))
    };
    // The older form is the hash alone.
    let Some(says) = value.dictionary() else { return Ok((file(Hash::Sha1, value)?, false)) };
    let is_optional = says.get("optional") == Some(&Value::Flag(true));
    let found = if let Some(target) = says.get("symlink").and_then(Value::text) {
        Sealed::Link(target.to_owned())
    } else if let Some(data) = says.get("hash2") {
        file(Hash::Sha256, data)?
    } else if let Some(data) = says.get("hash") {
        file(Hash::Sha1, data)?
    } else {
        let demand = says.get("requirement").and_then(Value::text).unwrap_or("cdhash");
        let hash = says.get("cdhash").filter(|_| demand.starts_with("cdhash"));
        Sealed::Code(hash.and_then(Value::data).map(<[u8]>::to_vec))
    };
    Ok((found, is_optional))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::samples::seed;

    const RULES: &str = "<key>rules2</key><dict>
        <key>^.*</key><true/>
        <key>^Info\\.plist$</key><dict><key>omit</key><true/><key>weight</key><real>20</real></dict>
        <key>^(.*/)?\\.DS_Store$</key><dict><key>omit</key><true/><key>weight</key><real>2000</real></dict>
        <key>^Resources/.*\\.lproj/</key><dict><key>optional</key><true/><key>weight</key><real>1000</real></dict>
        <key>^MacOS/</key><dict><key>nested</key><true/><key>weight</key><real>10</real></dict></dict>";

    fn seal(files: &str) -> Result<ResourceSeal, FormatError> {
        ResourceSeal::read(
            format!("<plist><dict><key>files2</key><dict>{files}</dict>{RULES}</dict></plist>").as_bytes(),
        )
    }

    #[test]
    fn the_heaviest_rule_counts() {
        let seal = seal("").unwrap();
        assert!(seal.leaves_out("Info.plist") && seal.leaves_out("Resources/a/.DS_Store"));
        assert!(!seal.leaves_out("Resources/Info.plist") && !seal.leaves_out("MacOS/post"));
        assert!(seal.is_optional("Resources/fi.lproj/words.strings") && !seal.is_optional("Resources/heron.icns"));
    }

    #[test]
    fn files_links_and_programs() {
        seed("list", "seal", format!("<plist><dict><key>files2</key><dict/>{RULES}</dict></plist>").as_bytes());
        // SHA-256 of "abc", from FIPS 180-4.
        let hash = "<key>hash2</key><data>ungWv48Bz+pBQUDeXa4iI7ADYaOWF3qctBD/YfIAFa0=</data>";
        let seal = seal(&format!(
            "<key>Resources/a</key><dict>{hash}</dict><key>Resources/b</key><dict><key>symlink</key><string>a</string></dict>
             <key>MacOS/c</key><dict><key>cdhash</key><data>Zm9v</data></dict>"
        ))
        .unwrap();
        let (Sealed::File(file), false) = &seal.files["Resources/a"] else { panic!("a file") };
        assert!(file.is_of(&mut b"abc".as_slice()).unwrap() && !file.is_of(&mut b"abd".as_slice()).unwrap());
        assert_eq!(seal.files["Resources/b"].0, Sealed::Link("a".to_owned()));
        assert_eq!(seal.files["MacOS/c"].0, Sealed::Code(Some(b"foo".to_vec())));
    }

    #[test]
    fn what_is_no_seal() {
        assert!(ResourceSeal::read(b"<plist><dict/></plist>").is_err());
        assert!(seal("<key>a</key><dict><key>hash2</key><data>Zm9v</data></dict>").is_err(), "a hash of three bytes");
        let grows = "<key>rules</key><dict><key>(((a{99}){99}){99}){99}</key><true/></dict>";
        let bytes = format!("<plist><dict><key>files</key><dict/>{grows}</dict></plist>");
        assert!(ResourceSeal::read(bytes.as_bytes()).is_err(), "a rule that would fill memory");
    }
}
