//! What an installation will write, remove and move aside: all of it found out before anything changes.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use lantern_core::digest::Digest;
use lantern_core::digest::blocks::LARGE;
use lantern_core::parallel::{each, processors};
use lantern_core::path::TreePath;
use lantern_core::portable::{folded, refused_by_windows};
use lantern_core::progress::{Meter, Progress, Task};
use lantern_core::stat_data::StatData;
use lantern_core::tree::Node;

use super::disk;
use super::seen::Seen;
use super::state::Folder;
use super::{Aside, InstallError, OwnFiles};
use crate::durable;
use crate::links;
use crate::recipe::Entry;

/// Refuses a build with names that this system takes for something else, before anything is written.
pub(super) fn refuse_names(folder: &Path, new: &[Entry], is_windows: bool) -> Result<(), InstallError> {
    let refused = new.iter().find_map(|entry| Some((&entry.path, refused_by_windows(&entry.path)?)));
    match refused.filter(|_| is_windows) {
        Some((path, why)) => {
            let (folder, path, why) = (folder.to_owned(), path.clone(), why.to_owned());
            Err(InstallError::Name { folder, path, why })
        }
        None => Ok(()),
    }
}

/// What is wrong with an installed file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Problem {
    /// It is not there.
    Missing,
    /// Its content is another.
    Content,
    /// Something else stands there: a folder, a link.
    Kind,
    /// It should be executable, or should not.
    Executable,
    /// It cannot be read.
    Unreadable,
}

/// An installed file that is not as the build has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WrongFile {
    /// Which.
    pub path: TreePath,
    /// How.
    pub problem: Problem,
}

/// What stands at a path on the disk.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Found {
    Nothing,
    /// A link among the folders above leads elsewhere.
    BehindLink,
    Folder,
    Link(Option<String>),
    /// The digest is none where the size alone says that it is another file.
    File {
        size: u64,
        digest: Option<Digest>,
        executable: bool,
        /// Before it was read.
        stat: StatData,
        /// Whether it was read; else it looks as it did when it was known to be right.
        is_read: bool,
    },
    Unreadable,
    /// Neither file nor folder nor link.
    Other,
}

impl Found {
    /// How it differs from what a build has there.
    fn problem(&self, node: &Node) -> Option<Problem> {
        match (self, node) {
            (Self::Nothing, _) => Some(Problem::Missing),
            (Self::Folder, Node::EmptyFolder) => None,
            (Self::Link(points), Node::Link { target }) => {
                (points.as_ref() != Some(target)).then_some(Problem::Content)
            }
            (
                Self::File { size, digest, executable, .. },
                Node::File { size: wanted_size, digest: wanted, executable: bit },
            ) => {
                if size != wanted_size || digest.as_ref() != Some(wanted) {
                    return Some(Problem::Content);
                }
                (cfg!(unix) && executable != bit).then_some(Problem::Executable)
            }
            (Self::Unreadable, Node::File { .. }) => Some(Problem::Unreadable),
            _ => Some(Problem::Kind),
        }
    }

    /// Whether it is what a build brought there; anyone who made it executable changed nothing of it.
    fn is_as_brought(&self, node: &Node) -> bool {
        matches!(self.problem(node), None | Some(Problem::Executable))
    }
}

/// A path to look at, with what one build or two have there.
#[derive(Clone, Copy)]
struct Asked<'a> {
    path: &'a TreePath,
    old: Option<&'a Node>,
    new: Option<&'a Entry>,
}

impl Asked<'_> {
    /// A file of another size has another content: it need not be read.
    fn could_have(&self, size: u64) -> bool {
        let nodes = [self.old, self.new.map(|entry| &entry.node)];
        nodes.into_iter().flatten().any(|node| matches!(node, Node::File { size: wanted, .. } if *wanted == size))
    }

    /// The digest that the old build brought, if the file looks as it did when it was known to have it. What makes way is read in any case
    /// where looks could deceive: a player may have made it their own.
    fn known(&self, seen: &Seen, metadata: &fs::Metadata) -> Option<Digest> {
        let Some(Node::File { size, digest, .. }) = self.old else { return None };
        let stays = self.new.is_some_and(|entry| Some(&entry.node) == self.old);
        let is_meant = *size == metadata.len() && (stays || StatData::SHOWS_EVERY_CHANGE);
        (is_meant && seen.is_unchanged(self.path, metadata)).then_some(*digest)
    }
}

/// A name that differs from the build's in letter case or normalisation alone, on a disk for which the two are one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Respell {
    /// As it is written on the disk; the folders above it are as the new build writes them.
    pub from: TreePath,
    /// As the new build writes it.
    pub to: TreePath,
}

/// What is to be done, in the terms of the disk.
#[derive(Debug, Default)]
pub(super) struct Plan<'a> {
    /// Entries of the new build that are not there as they should be.
    pub write: Vec<&'a Entry>,
    /// Names to be written otherwise, from the top down.
    pub respell: Vec<Respell>,
    /// Files and links of the old build that make way, as they were brought.
    pub take: Vec<TreePath>,
    /// Folders that hold nothing any more then, deepest first.
    pub gone: Vec<TreePath>,
    /// What no build brought, and what was changed since, where the new build needs the place.
    pub aside: Vec<Aside>,
    /// What a build brought, the player changed, and the new build does not have: it stays where it is.
    pub left: Vec<TreePath>,
    /// How many of the gone folders the old build brought empty.
    gone_brought: usize,
    /// Empty folders of the new build.
    pub folders: Vec<TreePath>,
    /// Every folder of the new build, in order.
    pub all_folders: Vec<TreePath>,
    /// Those of them that are not there yet.
    pub made: Vec<TreePath>,
    /// Files of the new build.
    pub files: u64,
    /// Their size, in bytes.
    pub size: u64,
    /// Files of the old build that are as it brought them.
    pub intact: HashSet<&'a TreePath>,
    /// Files of the new build that stay as they are, with their stat data before they were read.
    pub stayed: Vec<(&'a TreePath, StatData)>,
    /// When looking began.
    pub begun: jiff::Timestamp,
    /// How many files were not read, because they look as they did when they were known to be right.
    pub unread: u64,
    /// How many of those that stay.
    pub stayed_unread: u64,
}

impl<'a> Plan<'a> {
    /// Works out how `folder`, which holds `old` with whatever the player did to it, comes to hold `new`.
    pub(super) fn make(
        folder: &Folder,
        old: &'a [Entry],
        new: &'a [Entry],
        own_files: OwnFiles,
        seen: &Seen,
        progress: &dyn Progress,
    ) -> Result<Self, InstallError> {
        let begun = jiff::Timestamp::now();
        refuse_names(folder.path(), new, cfg!(windows))?;
        let root = folder.path();
        let (respell, spelled) = respellings(root, old, new);
        let mut asked: BTreeMap<&TreePath, Asked<'a>> = BTreeMap::new();
        for entry in new {
            asked.insert(&entry.path, Asked { path: &entry.path, old: None, new: Some(entry) });
        }
        for entry in old {
            let path = spelled.get(&entry.path).copied().unwrap_or(&entry.path);
            asked.entry(path).or_insert(Asked { path, old: None, new: None }).old = Some(&entry.node);
        }
        let asked: Vec<Asked<'a>> = asked.into_values().collect();
        let found = compare_all(folder, &asked, seen, progress)?;
        let is_unread = |found: &&Found| matches!(found, Found::File { is_read: false, digest: Some(_), .. });
        let unread = found.iter().filter(is_unread).count() as u64;
        let mut plan = Self {
            respell,
            begun,
            unread,
            files: new.iter().filter(|e| matches!(e.node, Node::File { .. })).count() as u64,
            size: new.iter().map(|e| e.node.size()).sum(),
            ..Self::default()
        };
        // Paths that are to be moved aside, or left, before their new names are known.
        let mut aside: BTreeSet<TreePath> = BTreeSet::new();
        let mut left: BTreeSet<TreePath> = BTreeSet::new();
        let mut folders_in_place: Vec<&TreePath> = Vec::new();
        for (asked, found) in asked.iter().zip(&found) {
            let brought = asked.old.is_some_and(|node| found.is_as_brought(node));
            if brought && matches!(found, Found::File { .. }) {
                plan.intact.insert(asked.path);
            }
            let Some(entry) = asked.new else {
                match found {
                    Found::Nothing | Found::BehindLink => {}
                    Found::Folder if asked.old == Some(&Node::EmptyFolder) => plan.gone.push(asked.path.clone()),
                    // The player's own folder in the place of a file that goes: nothing to do there.
                    Found::Folder => {}
                    _ if brought => plan.take.push(asked.path.clone()),
                    _ => {
                        left.insert(asked.path.clone());
                    }
                }
                continue;
            };
            if found.problem(&entry.node).is_none() {
                if let Found::File { stat, is_read, .. } = found {
                    plan.stayed.push((&entry.path, *stat));
                    plan.stayed_unread += u64::from(!is_read);
                }
                continue;
            }
            plan.write.push(entry);
            match found {
                Found::Nothing | Found::BehindLink => {}
                Found::Folder => {
                    if asked.old == Some(&Node::EmptyFolder) {
                        plan.gone.push(asked.path.clone());
                    }
                    folders_in_place.push(asked.path);
                }
                _ if brought => plan.take.push(asked.path.clone()),
                _ => {
                    aside.insert(asked.path.clone());
                }
            }
        }
        plan.gone_brought = plan.gone.len();
        plan.make_way_for_parents(root, new, &mut aside, &mut left);
        plan.make_way_for_files(root, &folders_in_place, &mut aside, &mut left);
        plan.left = left.into_iter().collect();
        // A folder that is moved aside takes what is in it along.
        let outermost = |path: &TreePath| !path.parents().any(|above| aside.iter().any(|a| a.as_str() == above));
        let aside: Vec<TreePath> = aside.iter().filter(|path| outermost(path)).cloned().collect();
        if let (OwnFiles::Stop, false) = (own_files, aside.is_empty()) {
            return Err(InstallError::InTheWay { folder: root.to_owned(), paths: aside });
        }
        if !aside.is_empty() {
            let mut names = AsideNames::new(root, new.iter().map(|e| e.path.as_str()));
            for path in aside {
                let to = names.choose(&path);
                plan.aside.push(Aside { path, to });
            }
        }
        plan.gone.sort_by(|a, b| b.cmp(a));
        plan.gone.dedup();
        plan.folders = new.iter().filter(|e| e.node == Node::EmptyFolder).map(|e| e.path.clone()).collect();
        plan.all_folders = folders_of(new);
        let is_there = |path: &&TreePath| durable::is_real_folder(&root.join(path.as_str()));
        plan.made = plan.all_folders.iter().filter(|path| !is_there(path)).cloned().collect();
        Ok(plan)
    }

    /// What went wrong with a file that is made of installed ones: they may be others than they were, as far as they were not read.
    pub(super) fn unlike_seen(&self, path: &Path, what: &'static str, source: std::io::Error) -> InstallError {
        match self.unread {
            0 => InstallError::io(what, path)(source),
            _ => InstallError::NotAsSeen { path: path.to_owned(), source },
        }
    }

    /// Whether the folder is as it should be.
    pub(super) fn is_empty(&self) -> bool {
        self.write.is_empty()
            && self.respell.is_empty()
            && self.take.is_empty()
            && self.gone.is_empty()
            && self.aside.is_empty()
    }

    /// Returns how many files, links and empty folders go because the new build does not have them.
    pub(super) fn removed(&self) -> u64 {
        let written: HashSet<&TreePath> = self.write.iter().map(|entry| &entry.path).collect();
        (self.take.iter().filter(|path| !written.contains(path)).count() + self.gone_brought) as u64
    }

    /// Where the new build has a folder, a file or link of the player's makes way.
    fn make_way_for_parents(
        &self,
        root: &Path,
        new: &[Entry],
        aside: &mut BTreeSet<TreePath>,
        left: &mut BTreeSet<TreePath>,
    ) {
        let taken: HashSet<&str> = self.take.iter().map(TreePath::as_str).collect();
        let mut seen: HashSet<&str> = HashSet::new();
        for parent in new.iter().flat_map(|entry| entry.path.parents()).filter(|parent| seen.insert(*parent)) {
            let is_in_the_way = fs::symlink_metadata(root.join(parent)).is_ok_and(|m| !m.is_dir());
            if let Ok(path) = TreePath::new(parent)
                && is_in_the_way
                && !taken.contains(parent)
            {
                left.remove(&path);
                aside.insert(path);
            }
        }
    }

    /// Where the new build has a file or link, a folder goes when nothing but the old build's is in it; else it is moved
    /// aside with what is left in it.
    fn make_way_for_files(
        &mut self,
        root: &Path,
        folders: &[&TreePath],
        aside: &mut BTreeSet<TreePath>,
        left: &mut BTreeSet<TreePath>,
    ) {
        let goes: HashSet<&str> = self.take.iter().chain(&self.gone).map(TreePath::as_str).collect();
        let mut gone = Vec::new();
        for path in folders {
            let mut inside = Vec::new();
            if goes_empty(root, path, &goes, &mut inside) {
                gone.append(&mut inside);
            } else {
                left.retain(|left| !left.parents().any(|above| above == path.as_str()));
                aside.insert((*path).clone());
            }
        }
        self.gone.append(&mut gone);
    }
}

/// Whether a folder holds nothing but what goes; `folders` are then those in it, and itself.
fn goes_empty(root: &Path, folder: &TreePath, goes: &HashSet<&str>, folders: &mut Vec<TreePath>) -> bool {
    let mut stack = vec![folder.clone()];
    while let Some(at) = stack.pop() {
        let Ok(entries) = fs::read_dir(root.join(at.as_str())) else { return false };
        let (mut is_empty, at_name) = (true, at.as_str().to_owned());
        for entry in entries {
            is_empty = false;
            let Ok(entry) = entry else { return false };
            let below = entry.file_name().to_str().and_then(|n| TreePath::new(format!("{at_name}/{n}")).ok());
            let Some(below) = below else { return false };
            match entry.file_type() {
                Ok(kind) if kind.is_dir() => stack.push(below),
                _ if goes.contains(below.as_str()) => {}
                _ => return false,
            }
        }
        // An empty folder that no build brought is someone's, too.
        if is_empty && !goes.contains(at.as_str()) {
            return false;
        }
        folders.push(at);
    }
    true
}

/// Finds old names that differ from new ones only as the disk does not count; returns what is to be written otherwise,
/// and the new name for each such old one.
#[expect(clippy::indexing_slicing, reason = "not more than there are")]
fn respellings<'o, 'n>(
    root: &Path,
    old: &'o [Entry],
    new: &'n [Entry],
) -> (Vec<Respell>, HashMap<&'o TreePath, &'n TreePath>) {
    let olds: HashSet<&TreePath> = old.iter().map(|e| &e.path).collect();
    let news: HashSet<&TreePath> = new.iter().map(|e| &e.path).collect();
    let of_old = old.iter().map(|e| &e.path).filter(|path| !news.contains(path));
    let only_old: HashMap<String, &'o TreePath> = of_old.map(|path| (folded(path.as_str()), path)).collect();
    let mut out: BTreeMap<(usize, TreePath), TreePath> = BTreeMap::new();
    let mut spelled = HashMap::new();
    let of_new = new.iter().map(|e| &e.path).filter(|path| !only_old.is_empty() && !olds.contains(path));
    let mut pairs: Vec<(&'o TreePath, &'n TreePath)> =
        of_new.filter_map(|path| Some((*only_old.get(&folded(path.as_str()))?, path))).collect();
    pairs.sort_unstable();
    for (before, after) in pairs {
        // On a disk that counts letter case the new name leads nowhere yet.
        if fs::symlink_metadata(root.join(after.as_str())).is_err() || is_written_so(root, after) {
            continue;
        }
        spelled.insert(before, after);
        let parts: Vec<&str> = after.as_str().split('/').collect();
        for (depth, (old_part, new_part)) in before.as_str().split('/').zip(&parts).enumerate() {
            let above = parts[..depth].join("/");
            let below = |part: &str| if above.is_empty() { part.to_owned() } else { format!("{above}/{part}") };
            if old_part != *new_part
                && let (Ok(from), Ok(to)) = (TreePath::new(below(old_part)), TreePath::new(below(new_part)))
            {
                out.insert((depth, from), to);
            }
        }
    }
    (out.into_iter().map(|((_, from), to)| Respell { from, to }).collect(), spelled)
}

/// Whether the disk lists every part of a path exactly as it is written.
fn is_written_so(root: &Path, path: &TreePath) -> bool {
    let mut folder = root.to_owned();
    path.as_str().split('/').all(|part| {
        let listed = disk::lists(&folder, part);
        folder.push(part);
        listed
    })
}

/// Returns every folder of a build, in order.
fn folders_of(entries: &[Entry]) -> Vec<TreePath> {
    let above = entries.iter().flat_map(|entry| entry.path.parents());
    let empty = entries.iter().filter(|entry| entry.node == Node::EmptyFolder).map(|entry| entry.path.as_str());
    let names: BTreeSet<&str> = above.chain(empty).collect();
    names.into_iter().filter_map(|name| TreePath::new(name).ok()).collect()
}

/// Chooses names for what is moved aside: beside itself, with an ending that says whose it is.
pub(super) struct AsideNames {
    root: PathBuf,
    /// Folded, of the new build and those that were chosen.
    taken: HashSet<String>,
}

/// The ending of what was moved aside.
const ENDING: &str = ".yours";
/// Longest name of a file on common systems, in bytes.
const MAX_NAME_LEN: usize = 255;

impl AsideNames {
    pub(super) fn new<'a>(root: &Path, taken: impl Iterator<Item = &'a str>) -> Self {
        Self { root: root.to_owned(), taken: taken.map(folded).collect() }
    }

    pub(super) fn choose(&mut self, path: &TreePath) -> TreePath {
        let (above, name) = path.as_str().rsplit_once('/').map_or(("", path.as_str()), |(above, name)| (above, name));
        let endings = std::iter::once(ENDING.to_owned()).chain((2_u64..).map(|n| format!("{ENDING}-{n}")));
        for ending in endings {
            let mut stem = name;
            while stem.len() + ending.len() > MAX_NAME_LEN {
                stem = &stem[..stem.char_indices().next_back().map_or(0, |(at, _)| at)];
            }
            let to = if above.is_empty() { format!("{stem}{ending}") } else { format!("{above}/{stem}{ending}") };
            let is_free = fs::symlink_metadata(self.root.join(&to)).is_err();
            if is_free
                && self.taken.insert(folded(&to))
                && let Ok(to) = TreePath::new(to)
            {
                return to;
            }
        }
        unreachable!("there are more numbers than files")
    }
}

/// Opens an installed file to be read; a link or a folder in its place is none.
pub(super) fn open_plain(path: &Path) -> std::io::Result<File> {
    if !fs::symlink_metadata(path)?.is_file() {
        return Err(std::io::ErrorKind::NotFound.into());
    }
    File::open(path)
}

/// Compares every entry with the folder; the answers are in the entries' order.
pub(super) fn check(
    folder: &Folder,
    entries: &[Entry],
    progress: &dyn Progress,
) -> Result<Vec<Option<Problem>>, InstallError> {
    let asked: Vec<Asked<'_>> =
        entries.iter().map(|entry| Asked { path: &entry.path, old: None, new: Some(entry) }).collect();
    let found = compare_all(folder, &asked, &Seen::default(), progress)?;
    Ok(found.iter().zip(entries).map(|(found, entry)| found.problem(&entry.node)).collect())
}

/// Looks at every path; what could be as one of the builds has it is read, unless it looks as it did when it was known to be right.
#[expect(clippy::indexing_slicing, reason = "there is one for each")]
fn compare_all(
    folder: &Folder,
    asked: &[Asked<'_>],
    seen: &Seen,
    progress: &dyn Progress,
) -> Result<Vec<Found>, InstallError> {
    let root = folder.path();
    let len = |a: &Asked<'_>| {
        let metadata = fs::symlink_metadata(root.join(a.path.as_str())).ok()?;
        (a.could_have(metadata.len()) && a.known(seen, &metadata).is_none()).then_some(metadata.len())
    };
    let total: u64 = asked.iter().filter_map(len).sum();
    let meter = progress.start(Task::Verify, Some(total));
    let found = Mutex::new(vec![Found::Nothing; asked.len()]);
    each(
        asked,
        processors(),
        || None,
        |last, index, asked| {
            if progress.stopped() {
                return Err(InstallError::Stopped);
            }
            // Neighbours mostly lie in the same folder.
            let above = asked.path.parents().next();
            let is_behind_link = match last {
                Some((known, is_behind)) if *known == above => *is_behind,
                _ => {
                    let is_link = |p| fs::symlink_metadata(root.join(p)).is_ok_and(|m| m.is_symlink());
                    last.insert((above, asked.path.parents().any(is_link))).1
                }
            };
            let one = match is_behind_link {
                true => Found::BehindLink,
                false => compare(root, asked, seen, &*meter, progress),
            };
            found.lock().expect("nothing panics with the lock")[index] = one;
            Ok(())
        },
    )?;
    if progress.stopped() {
        return Err(InstallError::Stopped);
    }
    Ok(found.into_inner().expect("nothing panics with the lock"))
}

fn compare(root: &Path, asked: &Asked<'_>, seen: &Seen, meter: &dyn Meter, progress: &dyn Progress) -> Found {
    let path = root.join(asked.path.as_str());
    let Ok(metadata) = fs::symlink_metadata(&path) else { return Found::Nothing };
    if metadata.is_dir() {
        return Found::Folder;
    }
    if metadata.is_symlink() {
        return Found::Link(links::target(&path));
    }
    if !metadata.is_file() {
        return Found::Other;
    }
    let (size, executable, stat) = (metadata.len(), is_executable(&metadata), StatData::of(&metadata));
    let (digest, is_read) = match asked.known(seen, &metadata) {
        _ if !asked.could_have(size) => (None, false),
        Some(digest) => (Some(digest), false),
        None => match hash_file(&path, meter, progress) {
            Ok(digest) => (Some(digest), true),
            Err(_) => return Found::Unreadable,
        },
    };
    Found::File { size, digest, executable, stat, is_read }
}

#[cfg(unix)]
fn is_executable(metadata: &fs::Metadata) -> bool {
    use std::os::unix::fs::PermissionsExt;
    metadata.permissions().mode() & 0o100 != 0
}

/// Windows has no such bit: what ends in `.exe` can be started.
#[cfg(not(unix))]
fn is_executable(_: &fs::Metadata) -> bool {
    false
}

/// Returns a file's digest; a stop ends it early with an error.
pub(super) fn hash_file(path: &Path, meter: &dyn Meter, progress: &dyn Progress) -> std::io::Result<Digest> {
    let mut file = File::open(path)?;
    let size = file.metadata()?.len();
    if size >= LARGE {
        return Digest::of_large(size, || File::open(path), meter, progress);
    }
    Digest::of_reader(&mut file, &mut vec![0; 256 * 1024], meter, progress)
}

/// Makes sure, as far as can be known beforehand, that nothing of a plan will fail once it is begun.
pub(super) fn prove(folder: &Folder, plan: &Plan<'_>, stage: &Path) -> Result<(), InstallError> {
    let root = folder.path();
    if plan.write.iter().any(|entry| matches!(entry.node, Node::Link { .. })) {
        disk::try_link(stage).map_err(|source| InstallError::NoLinks { folder: root.to_owned(), source })?;
    }
    let moved = plan.take.iter().chain(plan.aside.iter().map(|aside| &aside.path));
    for path in moved.chain(plan.respell.iter().map(|respell| &respell.from)) {
        let place = root.join(path.as_str());
        disk::try_rename(&place).map_err(|source| InstallError::CannotReplace { path: place, source })?;
    }
    // Where files go, the deepest folder that is there already must take them.
    let mut seen = HashSet::new();
    for entry in &plan.write {
        let there = entry.path.parents().map(|p| root.join(p)).find(|p| durable::is_real_folder(p));
        let there = there.unwrap_or_else(|| root.to_owned());
        if seen.insert(there.clone()) {
            let inside = there.join("x");
            let writable = if cfg!(unix) { disk::try_rename(&inside) } else { Ok(()) };
            writable.map_err(|source| InstallError::CannotReplace { path: there, source })?;
        }
    }
    Ok(())
}
