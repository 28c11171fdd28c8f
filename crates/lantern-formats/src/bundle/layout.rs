//! How the parts of a bundle lie in it. Source: Apple's "Bundle Programming Guide", chapter "Bundle Structures"
//! (<https://developer.apple.com/library/archive/documentation/CoreFoundation/Conceptual/CFBundles/BundleTypes/BundleTypes.html>): folders with
//! `Contents` for macOS, flat ones for phones, versioned ones for frameworks.

use super::{FileKind, Files, is_file};
use crate::info::Info;

/// What a folder is called that is a bundle.
const BUNDLES: [&str; 8] = ["app", "framework", "bundle", "plugin", "appex", "xpc", "systemextension", "dSYM"];
/// Where a bundle's seal lies, from where its paths begin.
const SEAL: &str = "_CodeSignature/CodeResources";
/// What the notary service says of a bundle for macOS, from where the paths of the seal begin: it is put there last,
/// and no seal covers it.
pub const TICKET: &str = "CodeResources";
/// As seen in public bundles.
const TICKET_MAGIC: &[u8] = b"s8ch";

/// How the parts of a bundle lie in it.
#[derive(Debug, Clone)]
pub struct Layout {
    /// What it is called.
    pub name: String,
    /// What its name ends with, such as `app`.
    pub ending: &'static str,
    /// Where the paths of its seal begin, from the top of the files; ends with `/`, or is empty.
    pub base: String,
    /// Folder of its programs, in the same way.
    pub programs: String,
    /// Where its `Info.plist` lies.
    pub info: String,
    /// Folder of its resources.
    pub resources: String,
    /// Whether nothing lies in folders of its own, as on phones.
    pub is_flat: bool,
}

impl Layout {
    /// Finds out how a folder is laid out; it ends with `/`, or is empty where the bundle itself was named. None where
    /// it is not a bundle.
    pub fn find(files: &dyn Files, folder: &str, name: &str) -> Option<Self> {
        let (_, ending) = name.rsplit_once('.')?;
        let ending = *BUNDLES.iter().find(|known| known.eq_ignore_ascii_case(ending))?;
        let versions = format!("{folder}Versions/");
        let current = files.below(&versions).find_map(|(path, kind)| match kind {
            FileKind::Link { target } if path == "Current" => Some(target.to_owned()),
            _ => None,
        });
        let version = current.or_else(|| Some(files.below(&versions).next()?.0.split('/').next()?.to_owned()));
        let (contents, top) = (format!("{folder}Contents/"), format!("{folder}Info.plist"));
        let has_contents = files.below(&contents).next().is_some();
        let name = name.to_owned();
        // Nothing in folders of its own but resources, until it turns out otherwise.
        let base = folder.to_owned();
        let (programs, resources) = (base.clone(), format!("{folder}Resources/"));
        let info = format!("{resources}Info.plist");
        let mut out = Self { name, ending, base, programs, info, resources, is_flat: false };
        if let Some(version) = version {
            out.base = format!("{versions}{version}/");
            out.programs.clone_from(&out.base);
            // Where links were lost on the way, resources lie next to the versions.
            let own = format!("{}Resources/", out.base);
            if files.below(&own).next().is_some() {
                (out.info, out.resources) = (format!("{own}Info.plist"), own);
            }
        } else if !has_contents && is_file(files, &top) {
            (out.info, out.resources, out.is_flat) = (top, out.base.clone(), true);
        } else if has_contents || ending == "app" {
            let programs = if ending == "dSYM" { "Resources/DWARF/" } else { "MacOS/" };
            out.programs = format!("{contents}{programs}");
            (out.info, out.resources) = (format!("{contents}Info.plist"), format!("{contents}Resources/"));
            out.base = contents;
        } else {
            return is_file(files, &out.info).then_some(out);
        }
        Some(out)
    }

    /// Where its seal lies.
    pub fn seal(&self) -> String {
        format!("{}{SEAL}", self.base)
    }

    /// The program, by what its `Info.plist` says; it is called as the bundle is where that says nothing.
    pub fn program(&self, info: &Info) -> String {
        let stem = || self.name.rsplit_once('.').map_or(self.name.as_str(), |(stem, _)| stem);
        format!("{}{}", self.programs, info.executable.as_deref().unwrap_or_else(stem))
    }

    /// Whether people start it, as opposed to programs.
    pub fn is_app(&self) -> bool {
        self.ending == "app"
    }

    /// Whether it is for phones.
    pub fn is_for_phones(&self) -> bool {
        self.is_app() && self.is_flat
    }
}

/// Whether bytes begin as a ticket of the notary service does.
pub fn is_ticket(bytes: &[u8]) -> bool {
    bytes.starts_with(TICKET_MAGIC)
}

#[cfg(test)]
mod tests {
    use super::super::tests::Listed;
    use super::*;

    fn found(name: &str, paths: &[&str]) -> Option<(String, String, String, bool)> {
        let files = Listed::of(paths.iter().map(|path| (*path, FileKind::File { len: 1 })));
        let layout = Layout::find(&files, &format!("{name}/"), name)?;
        let program = layout.program(&Info::default());
        Some((layout.base, program, layout.info, layout.is_flat))
    }

    #[test]
    fn bundles_of_every_kind() {
        let is =
            |base: &str, program: &str, info: &str, is_flat| Some((base.into(), program.into(), info.into(), is_flat));
        let mac = found("Post.app", &["Post.app/Contents/Info.plist"]);
        let contents = "Post.app/Contents/";
        assert_eq!(mac, is(contents, "Post.app/Contents/MacOS/Post", "Post.app/Contents/Info.plist", false));
        let phone = found("Post.app", &["Post.app/Info.plist"]);
        assert_eq!(phone, is("Post.app/", "Post.app/Post", "Post.app/Info.plist", true));
        let debug = found("Post.app.dSYM", &["Post.app.dSYM/Contents/Info.plist"]).unwrap();
        assert_eq!(debug.1, "Post.app.dSYM/Contents/Resources/DWARF/Post.app");
        let framework = found("Tide.framework", &["Tide.framework/Versions/B/Resources/Info.plist"]).unwrap();
        assert_eq!(framework.1, "Tide.framework/Versions/B/Tide");
        let resources = found("Reeds.bundle", &["Reeds.bundle/Resources/Info.plist"]).unwrap();
        assert_eq!((resources.0.as_str(), resources.3), ("Reeds.bundle/", false));
        assert_eq!(found("Post", &["Post/Contents/Info.plist"]), None);
        assert_eq!(found("Reeds.bundle", &["Reeds.bundle/reeds.tex"]), None);
    }

    #[test]
    fn the_version_that_counts() {
        let link = ("Tide.framework/Versions/Current", FileKind::Link { target: "C" });
        let file = |path| (path, FileKind::File { len: 1 });
        let both = [
            file("Tide.framework/Versions/B/Resources/Info.plist"),
            file("Tide.framework/Versions/C/Resources/Info.plist"),
            link,
        ];
        let layout = Layout::find(&Listed::of(both.into_iter()), "Tide.framework/", "Tide.framework").unwrap();
        assert_eq!(layout.base, "Tide.framework/Versions/C/");
        assert_eq!(layout.seal(), "Tide.framework/Versions/C/_CodeSignature/CodeResources");
    }
}
