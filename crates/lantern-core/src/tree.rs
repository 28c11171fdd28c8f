//! Trees: what files there are, free of how they are chunked, compressed or stored.
//!
//! The bytes of a tree and the reasons for them stand in `docs/formats/tree.md`.

use std::collections::HashMap;
use std::num::NonZeroUsize;

use crate::bytes::{ByteReader, Head, ReadError, write_text};
use crate::digest::{Digest, TreeId};
use crate::path::{MAX_PATH_LEN, TreePath};
use crate::portable::folded;

const HEAD: Head = Head { magic: *b"LNTR", version: 1, what: "a tree" };
/// Bytes of a tree that are hashed at a time.
const PART_LEN: usize = 64 * 1024;
/// Kind, flags, path length and one byte of path.
const MIN_ENTRY_LEN: NonZeroUsize = NonZeroUsize::new(5).expect("not zero");

/// What stands at one path of a tree.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Node {
    /// A file; `executable` comes from content and configuration, never from a file system's bit.
    File {
        /// In bytes.
        size: u64,
        /// Plain BLAKE3 of the content.
        digest: Digest,
        /// Whether an installed copy may be started.
        executable: bool,
    },
    /// A folder with nothing in it. Folders that hold something are not listed.
    EmptyFolder,
    /// A relative link that stays inside the tree.
    Link {
        /// As it is written in the link.
        target: String,
    },
}

impl Node {
    /// Returns the size in bytes; 0 for what is no file.
    pub fn size(&self) -> u64 {
        match self {
            Self::File { size, .. } => *size,
            Self::EmptyFolder | Self::Link { .. } => 0,
        }
    }
}

/// Why entries do not make a tree.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum TreeError {
    /// Two entries with one path.
    #[error("{0} occurs twice")]
    Twice(TreePath),
    /// Something lies below an entry that is no folder.
    #[error("{below} is below {above}, which is not a folder")]
    BelowNonFolder {
        /// The deeper entry.
        below: TreePath,
        /// The file, link or empty folder.
        above: String,
    },
    /// A link that leaves the tree.
    #[error("{path} is a link to {}, which is outside", crate::path::shown(.target))]
    LinkLeaves {
        /// The link.
        path: TreePath,
        /// Where it points.
        target: String,
    },
    /// The bytes are not those of a tree.
    #[error(transparent)]
    Read(#[from] ReadError),
}

/// Most links that are followed for one. Linux follows 40 (path_resolution(7)); what leads round in a circle leads nowhere.
const MAX_HOPS: usize = 40;

/// Where a link leads.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Leads {
    /// Out of the tree.
    Out,
    /// Round in a circle.
    Round,
    /// To a path in the tree; empty for its top.
    To(String),
}

/// A tree's links, by their paths.
struct Links<'a> {
    all: Vec<(&'a TreePath, &'a str)>,
    exact: HashMap<&'a str, &'a str>,
    loose: HashMap<String, &'a str>,
}

impl<'a> Links<'a> {
    fn new(links: impl IntoIterator<Item = (&'a TreePath, &'a str)>) -> Self {
        let all: Vec<(&TreePath, &str)> = links.into_iter().collect();
        let exact = all.iter().map(|(path, target)| (path.as_str(), *target)).collect();
        let loose = all.iter().map(|(path, target)| (folded(path.as_str()), *target)).collect();
        Self { all, exact, loose }
    }

    /// Follows a link through the others as a system would: a link `up` to `..` makes `p/up/..` the folder above `p`'s own.
    ///
    /// Names are compared exactly and, where there is none of that name, without letter case and normalisation, because a
    /// build is installed on file systems of both kinds.
    fn follow(&self, path: &TreePath, target: &str) -> Leads {
        if path.resolve_link(target).is_none() {
            return Leads::Out;
        }
        let mut at: Vec<&str> = path.as_str().split('/').collect();
        at.pop();
        let mut rest: Vec<&str> = target.split('/').rev().collect();
        let mut hops = 0;
        while let Some(part) = rest.pop() {
            match part {
                "" | "." => {}
                ".." if at.pop().is_none() => return Leads::Out,
                ".." => {}
                name => {
                    at.push(name);
                    let here = at.join("/");
                    let onward = self.exact.get(here.as_str()).or_else(|| self.loose.get(&folded(&here)));
                    let Some(onward) = onward.copied() else { continue };
                    if onward.starts_with('/') {
                        return Leads::Out;
                    }
                    hops += 1;
                    if hops > MAX_HOPS {
                        return Leads::Round;
                    }
                    at.pop();
                    rest.extend(onward.split('/').rev());
                }
            }
        }
        Leads::To(at.join("/"))
    }
}

/// Returns those of a tree's links that lead out of it, each followed through the tree's other links.
pub fn links_that_leave<'a>(links: impl IntoIterator<Item = (&'a TreePath, &'a str)>) -> Vec<(&'a TreePath, &'a str)> {
    let links = Links::new(links);
    links.all.iter().filter(|(path, target)| links.follow(path, target) == Leads::Out).copied().collect()
}

/// Returns those of a tree's links that lead to nothing in it, or round in a circle; `has` says whether something lies at a
/// path.
pub fn links_to_nothing<'a>(
    links: impl IntoIterator<Item = (&'a TreePath, &'a str)>,
    has: impl Fn(&str) -> bool,
) -> Vec<(&'a TreePath, &'a str)> {
    let links = Links::new(links);
    let is_dead = |path: &TreePath, target: &str| match links.follow(path, target) {
        Leads::Out => false,
        Leads::Round => true,
        // A folder that a link lies in holds itself through it.
        Leads::To(at) if at.is_empty() || path.parents().any(|above| above == at) => true,
        Leads::To(at) => !has(&at),
    };
    links.all.iter().filter(|(path, target)| is_dead(path, target)).copied().collect()
}

/// Returns the file or folder that a link leads to within the tree.
pub fn link_leads_to<'a>(
    links: impl IntoIterator<Item = (&'a TreePath, &'a str)>,
    path: &TreePath,
    target: &str,
) -> Option<String> {
    match Links::new(links).follow(path, target) {
        Leads::To(at) => Some(at),
        _ => None,
    }
}

/// A set of files, empty folders and links, sorted by the bytes of their paths.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Tree {
    entries: Vec<(TreePath, Node)>,
}

impl Tree {
    /// Makes a tree of entries in any order.
    ///
    /// # Errors
    /// [`TreeError`] for paths that occur twice or below a file, and for links that leave.
    pub fn new(entries: impl IntoIterator<Item = (TreePath, Node)>) -> Result<Self, TreeError> {
        let mut entries: Vec<(TreePath, Node)> = entries.into_iter().collect();
        // Most come in order; sorting them would take room for a copy.
        if !entries.is_sorted_by(|a, b| a.0 <= b.0) {
            entries.sort_by(|a, b| a.0.cmp(&b.0));
        }
        if let Some([(path, _), _]) = entries.windows(2).find(|two| matches!(two, [a, b] if a.0 == b.0)) {
            return Err(TreeError::Twice(path.clone()));
        }
        let tree = Self { entries };
        let links = tree.iter().filter_map(|(path, node)| match node {
            Node::Link { target } => Some((path, target.as_str())),
            _ => None,
        });
        if let Some((path, target)) = links_that_leave(links).first() {
            return Err(TreeError::LinkLeaves { path: (*path).clone(), target: (*target).to_owned() });
        }
        let mut folder = None;
        for (path, _) in tree.iter() {
            // Neighbours mostly lie in the same folder, which was looked at.
            let own = path.parents().next();
            if std::mem::replace(&mut folder, own) == own {
                continue;
            }
            for parent in path.parents() {
                // A folder that holds something is not listed, so whatever is listed above is in the way.
                if let Ok(above) = TreePath::new(parent)
                    && tree.get(&above).is_some()
                {
                    return Err(TreeError::BelowNonFolder { below: path.clone(), above: above.shown() });
                }
            }
        }
        Ok(tree)
    }

    /// Returns the entries in order.
    pub fn iter(&self) -> impl Iterator<Item = (&TreePath, &Node)> {
        self.entries.iter().map(|(path, node)| (path, node))
    }

    /// Gives its entries, in order.
    pub fn into_entries(self) -> Vec<(TreePath, Node)> {
        self.entries
    }

    /// Returns what stands at a path.
    pub fn get(&self, path: &TreePath) -> Option<&Node> {
        let at = self.entries.binary_search_by(|(other, _)| other.cmp(path)).ok()?;
        self.entries.get(at).map(|(_, node)| node)
    }

    /// Returns how many entries there are.
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Whether there is no entry.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// Returns how many files there are, without links and empty folders.
    pub fn file_count(&self) -> u64 {
        self.entries.iter().filter(|(_, node)| matches!(node, Node::File { .. })).count() as u64
    }

    /// Returns the size of all files together, in bytes.
    pub fn size(&self) -> u64 {
        self.entries.iter().map(|(_, node)| node.size()).fold(0, u64::saturating_add)
    }

    /// Returns the bytes that are stored and hashed.
    pub fn encode(&self) -> Vec<u8> {
        let mut whole = Vec::with_capacity(16 + self.entries.len() * 80);
        self.encode_into(&mut |part| whole.extend(part));
        whole
    }

    /// Gives the same bytes in parts: of many files they need not be in memory at once.
    fn encode_into(&self, give: &mut dyn FnMut(&[u8])) {
        let mut out = Vec::with_capacity(PART_LEN + 2 * MAX_PATH_LEN);
        HEAD.write(&mut out);
        out.extend(u32::try_from(self.entries.len()).expect("fewer than 2^32 entries").to_le_bytes());
        for (path, node) in &self.entries {
            let (kind, flags) = match node {
                Node::File { executable, .. } => (1_u8, u8::from(*executable)),
                Node::EmptyFolder => (2, 0),
                Node::Link { .. } => (3, 0),
            };
            out.extend([kind, flags]);
            write_text(&mut out, path.as_str());
            match node {
                Node::File { size, digest, .. } => {
                    out.extend(size.to_le_bytes());
                    out.extend(digest.as_bytes());
                }
                Node::EmptyFolder => {}
                Node::Link { target } => write_text(&mut out, target),
            }
            if out.len() >= PART_LEN {
                give(&out);
                out.clear();
            }
        }
        give(&out);
    }

    /// Reads the bytes of a tree; entries out of order are refused, so one tree has one encoding.
    ///
    /// # Errors
    /// [`TreeError`].
    pub fn decode(bytes: &[u8]) -> Result<Self, TreeError> {
        let mut reader = ByteReader::new(bytes);
        reader.head(HEAD)?;
        let count = reader.count(MIN_ENTRY_LEN, "a tree")?;
        let mut entries: Vec<(TreePath, Node)> = Vec::with_capacity(count);
        for _ in 0..count {
            let offset = reader.position();
            let wrong = |why: &str| ReadError::Value { what: "a tree entry", offset, why: why.to_owned() };
            let (kind, flags) = (reader.u8("an entry's kind")?, reader.u8("an entry's flags")?);
            let path = TreePath::new(reader.text("a name")?).map_err(|e| wrong(&e.to_string()))?;
            if let Some((last, _)) = entries.last()
                && *last >= path
            {
                return Err(wrong("paths are not in order").into());
            }
            let node = match (kind, flags) {
                (1, 0 | 1) => Node::File {
                    size: reader.u64("a file's size")?,
                    digest: Digest::from_bytes(reader.array("a file's digest")?),
                    executable: flags == 1,
                },
                (2, 0) => Node::EmptyFolder,
                (3, 0) => Node::Link { target: reader.text("a name")? },
                _ => return Err(wrong("unknown kind or flags").into()),
            };
            entries.push((path, node));
        }
        reader.end("a tree")?;
        Self::new(entries)
    }

    /// Returns the tree's id.
    pub fn id(&self) -> TreeId {
        TreeId::of_parts(|take| self.encode_into(take))
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use super::*;
    use proptest::prelude::*;

    fn path(text: &str) -> TreePath {
        TreePath::new(text).unwrap()
    }

    fn file(content: &[u8], executable: bool) -> Node {
        Node::File { size: content.len() as u64, digest: Digest::of(content), executable }
    }

    fn sample() -> Tree {
        Tree::new([
            (path("saltmarsh"), file(b"program", true)),
            (path("data/tides.txt"), file(b"low high", false)),
            (path("data/empty"), Node::EmptyFolder),
            (path("start"), Node::Link { target: "saltmarsh".into() }),
        ])
        .unwrap()
    }

    #[test]
    fn the_id_is_fixed() {
        // A change here means that every tree ever sealed has another id: the format's version must change too.
        assert_eq!(
            sample().id().to_string(),
            "blake3:c90d6c6a0895c64fac6e87acd532a3c24e8bf8536eecc8c16b437e6f3588ebba"
        );
    }

    #[test]
    fn the_id_is_that_of_the_encoded_bytes() {
        let many = (0..3_000).map(|n| (path(&format!("letters/{n:05}/{}", "x".repeat(30))), file(&[1], false)));
        for tree in [sample(), Tree::default(), Tree::new(many).unwrap()] {
            assert_eq!(tree.id(), TreeId::of(&tree.encode()), "{} entries", tree.len());
        }
    }

    #[test]
    fn each_part_of_an_entry_is_in_the_id() {
        let base = sample().id();
        let variant = |at: &str, node: Node| {
            let mut entries: BTreeMap<TreePath, Node> = sample().entries.into_iter().collect();
            entries.insert(path(at), node);
            Tree::new(entries).unwrap().id()
        };
        assert_ne!(base, variant("saltmarsh", file(b"program", false)));
        assert_ne!(base, variant("saltmarsh", file(b"another", true)));
        assert_ne!(base, variant("start", Node::Link { target: "data/tides.txt".into() }));
        assert_ne!(base, variant("new", Node::EmptyFolder));
        assert_eq!(base, variant("data/empty", Node::EmptyFolder));
    }

    #[test]
    fn impossible_trees_are_refused() {
        let twice = Tree::new([(path("a"), Node::EmptyFolder), (path("a"), file(b"", false))]);
        assert!(matches!(twice, Err(TreeError::Twice(_))));
        let below = Tree::new([(path("a"), file(b"", false)), (path("a/b/c"), file(b"", false))]);
        assert!(matches!(below, Err(TreeError::BelowNonFolder { .. })));
        let leaves = Tree::new([(path("a"), Node::Link { target: "../x".into() })]);
        assert!(matches!(leaves, Err(TreeError::LinkLeaves { .. })));
    }

    #[test]
    fn truncated_trees_are_errors_at_every_length() {
        let bytes = sample().encode();
        for len in 0..bytes.len() {
            assert!(Tree::decode(&bytes[..len]).is_err(), "{len}");
        }
        assert_eq!(Tree::decode(&bytes).unwrap(), sample());
    }

    #[test]
    fn links_are_followed_through_links() {
        let leaving = |links: &[(&str, &str)]| -> Vec<String> {
            let links: Vec<(TreePath, &str)> = links.iter().map(|(at, target)| (path(at), *target)).collect();
            let found = links_that_leave(links.iter().map(|(path, target)| (path, *target)));
            found.into_iter().map(|(path, _)| path.as_str().to_owned()).collect()
        };
        // By its words alone x stays in p; up makes it the folder above the game.
        assert_eq!(leaving(&[("p/up", ".."), ("x", "p/up/..")]), ["x"]);
        assert_eq!(leaving(&[("p/q/up", "../.."), ("x", "p/q/up/../y")]), ["x"]);
        assert_eq!(leaving(&[("a", "b"), ("b", "c/.."), ("c", "d/e"), ("x", "a/../..")]), ["x"]);
        // Where letter case does not count it is the same link.
        assert_eq!(leaving(&[("p/up", ".."), ("x", "P/UP/..")]), ["x"]);
        assert!(leaving(&[("p/up", ".."), ("x", "p/up/z"), ("y", "p/up/p/up/p")]).is_empty());
        // Links in a circle lead nowhere.
        assert!(leaving(&[("a", "b"), ("b", "a"), ("self", "self/x"), ("here", ".")]).is_empty());
    }

    proptest! {
        #[test]
        fn write_then_read_is_identity(names in prop::collection::btree_set("[a-z]{1,3}(/[a-zé]{1,3}){0,2}", 0..20), exec: bool) {
            let entries = names.iter().map(|n| (path(n), file(n.as_bytes(), exec)));
            if let Ok(tree) = Tree::new(entries) {
                prop_assert_eq!(Tree::decode(&tree.encode()).unwrap(), tree);
            }
        }

        #[test]
        fn no_bytes_make_the_reader_panic(bytes in prop::collection::vec(any::<u8>(), 0..200), at in 0_usize..300, value: u8) {
            let _ = Tree::decode(&bytes);
            let mut real = sample().encode();
            let len = real.len();
            real[at % len] = value;
            if let Ok(tree) = Tree::decode(&real) {
                prop_assert_eq!(tree.encode(), real);
            }
        }
    }
}
