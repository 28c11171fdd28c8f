//! The release record: what a release is. Its bytes are described in `docs/formats/release.md`.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::choices::{Choices, Players};
use crate::digest::{Digest, InputDigest, ReleaseId, TreeId};
use crate::names::{FolderName, Identity, Name};
use crate::path::TreePath;
use crate::system::System;
use crate::tree::{Node, Tree, TreeError};
use crate::version::{BuildNumber, ReleaseName, Version};

/// The value of `format` in every record that this code writes.
pub const FORMAT: &str = "lantern.release/2";
/// Largest record accepted, in bytes. Ours: bounds memory on hostile input.
pub const MAX_RECORD_LEN: u64 = 4 * 1024 * 1024;

/// How a program starts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Start {
    /// The start file.
    pub file: TreePath,
    /// What it is called with.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub arguments: Vec<String>,
    /// The folder it works in, within the build; none for the build's own folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<TreePath>,
    /// The systems that start with it; empty for all of the target.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub systems: Vec<System>,
}

impl Start {
    /// Starts a file without more.
    pub fn of(file: TreePath) -> Self {
        Self { file, arguments: Vec::new(), folder: None, systems: Vec::new() }
    }
}

/// One depot of a target.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct DepotRecord {
    /// Our name for it.
    pub depot: Name,
    /// What it holds.
    pub tree: TreeId,
    /// Number of files.
    pub files: u64,
    /// Size of all files, in bytes.
    pub size: u64,
    /// Which players of the target download it.
    #[serde(default, skip_serializing_if = "Players::are_all")]
    pub players: Players,
}

/// What a build says of itself inside: in its manifest, its property list, its resources.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Claims {
    /// Its identity.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub identity: Option<String>,
    /// Its version, as it stands there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// Its build number, as it stands there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub number: Option<String>,
}

impl Claims {
    /// Whether it says nothing of itself.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// Whether the version inside is another one than `version`: zeros at the end do not count.
    pub fn is_other_version(&self, version: &Version) -> bool {
        self.version.as_deref().is_some_and(|inside| !is_same_version(inside, version.as_str()))
    }

    /// Whether the number inside is another one than `number`. What is no whole number, such as `1.4.0`, is no build
    /// number, and says nothing.
    pub fn is_other_number(&self, number: BuildNumber) -> bool {
        self.number().is_some_and(|inside| inside != u64::from(number.get()))
    }

    /// Returns the number inside, where it is a whole one.
    pub fn number(&self) -> Option<u64> {
        self.number.as_deref().and_then(|inside| inside.parse().ok())
    }

    /// Returns what differs from a release, such as `version 1.3.2`; none where all that is said agrees.
    pub fn differing(&self, game: &Identity, name: &ReleaseName) -> Vec<String> {
        let shown = |text: &Option<String>| crate::path::shown(text.as_deref().unwrap_or_default());
        let mut out = Vec::new();
        if self.identity.as_deref().is_some_and(|inside| inside != game.as_str()) {
            out.push(shown(&self.identity));
        }
        if self.is_other_version(&name.version) {
            out.push(format!("version {}", shown(&self.version)));
        }
        if self.is_other_number(name.number) {
            out.push(format!("number {}", shown(&self.number)));
        }
        out
    }
}

/// Whether two texts are one version: `1, 4, 0, 0` and `1.4.0.0` are `1.4`.
#[expect(clippy::indexing_slicing, reason = "up to a part that was found")]
pub fn is_same_version(one: &str, other: &str) -> bool {
    let plain = |version: &str| {
        let parts: Vec<String> = version.split([',', '.']).map(|part| part.trim().to_owned()).collect();
        let len = parts.iter().rposition(|part| part != "0").map_or(1, |last| last + 1);
        parts[..len].to_vec()
    };
    plain(one) == plain(other)
}

/// The sealed build of one target.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct TargetRecord {
    /// The target's name.
    pub target: Name,
    /// What it runs on.
    pub systems: Vec<System>,
    /// How it starts: one for all systems, or one for each; none where nothing is started.
    pub starts: Vec<Start>,
    /// The name of the folder it is installed into; none where the storefront decides.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<FolderName>,
    /// All that a player with every depot has.
    pub tree: TreeId,
    /// What it is divided into for download. A depot that several targets share stands in each.
    pub depots: Vec<DepotRecord>,
    /// What players of it can choose, each with its default.
    #[serde(default, skip_serializing_if = "Choices::is_empty")]
    pub choices: Choices,
    /// What was kept aside: sealed with the rest, and never sent to anybody.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub aside: Option<DepotRecord>,
    /// What the build says of itself inside.
    #[serde(default, skip_serializing_if = "Claims::is_empty")]
    pub claims: Claims,
    /// What was stamped or signed in it after it had been taken from the export; none where it is as the export was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub changed: Option<Changed>,
    /// Whether nobody signed it although something was named that signs it: someone had said so.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub unsigned: bool,
}

/// Who signs, and what else is done before a target is sealed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ChangedBy {
    /// The digest of the signer's certificate; none where nothing is signed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signer: Option<Digest>,
    /// The digest of what is done, and how.
    pub settings: Digest,
}

/// What stamping and signing changed in a target.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Changed {
    /// Who signed, and what else was done.
    #[serde(flatten)]
    pub by: ChangedBy,
    /// For each path that was written: the file that the export had there, or nothing.
    pub replaced: BTreeMap<TreePath, Option<ReplacedFile>>,
}

/// A file of an export in whose place there is another one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ReplacedFile {
    /// In bytes.
    pub size: u64,
    /// Of its bytes.
    pub digest: Digest,
    /// Whether an installed copy would have had the executable bit.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub executable: bool,
}

impl Changed {
    /// Returns the tree that the export had, from one that was sealed of it.
    ///
    /// # Errors
    /// [`TreeError`] when what was replaced does not fit into it.
    pub fn before(&self, sealed: &Tree) -> Result<Tree, TreeError> {
        let entries = sealed.iter().filter_map(|(path, node)| match self.replaced.get(path) {
            None => Some((path.clone(), node.clone())),
            Some(None) => None,
            Some(Some(file)) => Some((path.clone(), file.node())),
        });
        Tree::new(entries)
    }
}

impl ReplacedFile {
    fn node(self) -> Node {
        Node::File { size: self.size, digest: self.digest, executable: self.executable }
    }
}

/// Returns what starts a build on a system; without a system the first.
pub fn start_for(starts: &[Start], system: Option<System>) -> Option<&Start> {
    let fits = |start: &&Start| {
        start.systems.is_empty() || system.is_some_and(|here| start.systems.iter().any(|s| s.runs_on(here)))
    };
    starts.iter().find(fits).or_else(|| starts.first())
}

impl TargetRecord {
    /// Returns the number of files of all depots.
    pub fn files(&self) -> u64 {
        self.depots.iter().map(|depot| depot.files).sum()
    }

    /// Returns the same without what the build says of itself: that follows from the rest.
    pub fn without_claims(&self) -> Self {
        Self { claims: Claims::default(), ..self.clone() }
    }

    /// Who signed it, and what else was done to it.
    pub fn changed_by(&self) -> Option<ChangedBy> {
        self.changed.as_ref().map(|changed| changed.by)
    }

    /// The digest of the certificate of who signed it.
    pub fn signer(&self) -> Option<Digest> {
        self.changed_by()?.signer
    }

    /// Returns the size of all depots, in bytes.
    pub fn size(&self) -> u64 {
        self.depots.iter().map(|depot| depot.size).sum()
    }
}

/// A release, as it is stored and hashed. It holds no time, so the same input gives the same bytes anywhere.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ReleaseRecord {
    /// [`FORMAT`].
    pub format: String,
    /// The game.
    pub game: Identity,
    /// The edition.
    pub edition: Name,
    /// The version for people.
    pub version: Version,
    /// The number.
    pub number: BuildNumber,
    /// In the order of their names.
    pub targets: Vec<TargetRecord>,
}

/// Why bytes are not a release record.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RecordError {
    /// Not JSON of this shape.
    #[error("not a release record")]
    Shape(#[source] serde_json::Error),
    /// Another format or a newer one.
    #[error("the record has format {0:?}, this lantern reads {FORMAT:?}")]
    Format(String),
}

impl ReleaseRecord {
    /// Returns the bytes that are stored and hashed.
    pub fn encode(&self) -> Vec<u8> {
        let mut bytes = serde_json::to_vec_pretty(self).expect("a record has only string keys");
        bytes.push(b'\n');
        bytes
    }

    /// Reads the bytes of a record.
    ///
    /// # Errors
    /// [`RecordError`].
    pub fn decode(bytes: &[u8]) -> Result<Self, RecordError> {
        #[derive(Deserialize)]
        struct Tag {
            format: String,
        }
        let tag: Tag = serde_json::from_slice(bytes).map_err(RecordError::Shape)?;
        if tag.format != FORMAT {
            return Err(RecordError::Format(tag.format));
        }
        serde_json::from_slice(bytes).map_err(RecordError::Shape)
    }

    /// Returns the release's id.
    pub fn id(&self) -> ReleaseId {
        ReleaseId::of(&self.encode())
    }

    /// Returns how people name it.
    pub fn name(&self) -> ReleaseName {
        ReleaseName { version: self.version.clone(), number: self.number }
    }

    /// Returns each depot once, however many targets share it, with the first target that has it.
    pub fn different_depots(&self) -> Vec<(&TargetRecord, &DepotRecord)> {
        let mut seen = std::collections::BTreeSet::new();
        self.depots().filter(|(_, depot)| seen.insert(&depot.depot)).collect()
    }

    /// Returns everything that has a recipe of its own: each depot once, and what was kept aside.
    pub fn sealed(&self) -> Vec<&DepotRecord> {
        let asides = self.targets.iter().filter_map(|target| target.aside.as_ref());
        self.different_depots().into_iter().map(|(_, depot)| depot).chain(asides).collect()
    }

    /// Returns the depots of all targets.
    pub fn depots(&self) -> impl Iterator<Item = (&TargetRecord, &DepotRecord)> {
        self.targets.iter().flat_map(|target| target.depots.iter().map(move |depot| (target, depot)))
    }
}

/// Returns the digest of everything that decides a release's content and record, except its number and what builds say
/// of themselves, which follows from the content.
///
/// `targets` holds each target's name with its systems, start and tree as they were seen.
pub fn input_digest(game: &Identity, edition: &Name, version: &Version, targets: &[TargetRecord]) -> InputDigest {
    /// The order of the fields is that of the bytes.
    #[derive(Serialize)]
    struct Input<'a> {
        format: &'static str,
        game: &'a Identity,
        edition: &'a Name,
        version: &'a Version,
        targets: Vec<TargetRecord>,
    }
    let targets = targets.iter().map(TargetRecord::without_claims).collect();
    let input = Input { format: "lantern.input/3", game, edition, version, targets };
    InputDigest::of(&serde_json::to_vec(&input).expect("it has only string keys"))
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use crate::tree::Tree;

    pub(crate) fn record(version: &str, number: u64) -> ReleaseRecord {
        let tree = Tree::default().id();
        ReleaseRecord {
            format: FORMAT.to_owned(),
            game: "example.paperheron.saltmarsh".parse().unwrap(),
            edition: Name::full_edition(),
            version: version.parse().unwrap(),
            number: BuildNumber::new(number).unwrap(),
            targets: vec![TargetRecord {
                target: "linux".parse().unwrap(),
                systems: vec![System::LinuxX86_64],
                starts: vec![Start::of(TreePath::new("saltmarsh").unwrap())],
                folder: None,
                tree,
                depots: vec![DepotRecord {
                    depot: "linux".parse().unwrap(),
                    tree,
                    files: 3,
                    size: 120,
                    players: Players::default(),
                }],
                choices: Choices::new(),
                aside: None,
                claims: Claims::default(),
                changed: None,
                unsigned: false,
            }],
        }
    }

    #[test]
    fn a_record_is_written_and_read_back() {
        let record = record("1.3.2", 25);
        assert_eq!(ReleaseRecord::decode(&record.encode()).unwrap(), record);
        assert_ne!(record.id(), self::record("1.3.2", 26).id());
    }

    #[test]
    fn what_is_hashed_is_the_same_everywhere() {
        let record = record("1.3.2", 25);
        assert_eq!(record.id().to_string(), "blake3:2577f2b4e734da56226991d1f11fcc54a270e9f5172ccddb43dc1103caf2c17e");
        let input = input_digest(&record.game, &record.edition, &record.version, &record.targets);
        assert_eq!(input.0.to_string(), "blake3:8255349f503ca9c3241647ba3376dd1b89c7be1810fc650d486b1675aca1c631");
        let mut claiming = record.clone();
        claiming.targets[0].claims.version = Some("1.3.2".into());
        assert_ne!(claiming.id(), record.id());
        let same = input_digest(&record.game, &record.edition, &record.version, &claiming.targets);
        assert_eq!(same, input, "what a build says of itself follows from its content");
    }

    #[test]
    fn versions_as_they_are_compared() {
        assert!(is_same_version("1, 4, 0, 0", "1.4"));
        assert!(is_same_version("1.4.0", "1.4.0.0"));
        assert!(!is_same_version("1.4.0", "1.4.0.1"));
        assert!(!is_same_version("1.4.0-rc", "1.4.0"));
        assert!(is_same_version("0.0", "0"));
    }

    #[test]
    fn what_a_build_says_of_itself_may_differ() {
        let claims = |identity: &str, version: &str, number: &str| Claims {
            identity: Some(identity.into()),
            version: Some(version.into()),
            number: Some(number.into()),
        };
        let (game, name) = ("example.paperheron.saltmarsh".parse().unwrap(), "1.4.0 (27)".parse().unwrap());
        let differing = |claims: Claims| claims.differing(&game, &name).join(", ");
        assert_eq!(differing(Claims::default()), "");
        assert_eq!(differing(claims(game.as_str(), "1.4.0.0", "27")), "");
        // A version where a number would be says nothing about the number.
        assert_eq!(differing(claims(game.as_str(), "1.4", "1.4.0")), "");
        assert_eq!(differing(claims("example.other", "1.3.2", "25")), "example.other, version 1.3.2, number 25");
    }

    #[test]
    fn names_that_would_leave_their_place_are_refused() {
        let mut record = record("1.3.2", 25);
        record.targets[0].folder = Some("Saltmarsh Post".parse().unwrap());
        let text = String::from_utf8(record.encode()).unwrap();
        assert!(ReleaseRecord::decode(text.as_bytes()).is_ok());
        let with = |from: &str, to: &str| {
            assert!(text.contains(from), "{text}");
            ReleaseRecord::decode(text.replace(from, to).as_bytes())
        };
        for folder in
            ["..", ".", "", "/etc", "a/b", "a\\\\b", "C:", "con", "NUL.txt", ".lantern-install", "a.", " a", "a\\u0007"]
        {
            let refused = with("\"Saltmarsh Post\"", &format!("\"{folder}\""));
            assert!(refused.is_err(), "{folder:?}: {refused:?}");
        }
        for start in ["../saltmarsh", "/bin/sh", ".lantern/store", "a/.LANTERN-install./x"] {
            assert!(with("\"saltmarsh\"", &format!("\"{start}\"")).is_err(), "{start}");
        }
    }

    #[test]
    fn another_format_is_named() {
        let text = String::from_utf8(record("1.3.2", 25).encode()).unwrap().replace("release/2", "release/3");
        assert!(
            matches!(ReleaseRecord::decode(text.as_bytes()), Err(RecordError::Format(f)) if f == "lantern.release/3")
        );
        assert!(matches!(ReleaseRecord::decode(b"{"), Err(RecordError::Shape(_))));
    }
}
