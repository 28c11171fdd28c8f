//! What is no build: projects that something must build first, sources, and programs that set others up.

use lantern_core::finding::{Code, Finding};
use lantern_core::path::shown;

use crate::export::Export;

/// What lies at the top, or one folder down, of what is no build: the end of a name, what it is, and what to do.
const PROJECTS: [(&str, &str, &str); 9] = [
    (
        ".xcodeproj/project.pbxproj",
        "a project that Apple's own tools must build first",
        "build it there, and name what comes out",
    ),
    (
        "/settings.gradle",
        "a project that Android's own tools must build first",
        "build it there, and name the package that comes out",
    ),
    (
        "/settings.gradle.kts",
        "a project that Android's own tools must build first",
        "build it there, and name the package that comes out",
    ),
    (".sln", "a project that must be compiled first", "build it there, and name the folder that comes out"),
    (".vcxproj", "a project that must be compiled first", "build it there, and name the folder that comes out"),
    ("/CMakeLists.txt", "a source tree", "build it, and name what comes out"),
    ("/Cargo.toml", "a source tree", "build it, and name what comes out"),
    ("/Makefile", "a source tree", "build it, and name what comes out"),
    ("/package.json", "a source tree", "build it, and name what comes out"),
];
/// Archives, by their endings.
pub(crate) const ARCHIVES: [&str; 9] =
    [".zip", ".7z", ".rar", ".tar", ".tar.gz", ".tgz", ".tar.zst", ".tar.xz", ".tar.bz2"];
/// Files that set a program up instead of being it.
const SET_UPS: [&str; 6] = [".msi", ".msix", ".dmg", ".pkg", ".deb", ".rpm"];

/// Says what an export is that nothing starts in, where that can be seen.
pub fn recognise(export: &Export) -> Option<Finding> {
    let files: Vec<&str> =
        export.entries.iter().filter(|e| e.source.is_file()).map(|e| e.source.path.as_str()).collect();
    let near = |path: &&&str| path.matches('/').count() <= 2;
    let is_it = |path: &str, ending: &str| format!("/{path}").ends_with(ending);
    for (ending, what, fix) in PROJECTS {
        if let Some(path) = files.iter().filter(near).find(|path| is_it(path, ending)) {
            let what = format!("{} is {what}, as {} shows: no build yet", shown(&export.shown), shown(path));
            return Some(Finding::of(Code::NotABuild, what, fix));
        }
    }
    if let [only] = files[..]
        && ARCHIVES.iter().any(|ending| only.to_ascii_lowercase().ends_with(ending))
    {
        let what =
            format!("{} contains nothing but the archive {}: it was packed twice", shown(&export.shown), shown(only));
        return Some(Finding::of(Code::NotABuild, what, "unpack it once, and name what was in it"));
    }
    let lower = |path: &&&str| {
        let path = path.to_ascii_lowercase();
        SET_UPS.iter().any(|ending| path.ends_with(ending))
    };
    let set_up = files.iter().find(lower)?;
    let what = format!("{} sets the game up instead of being it", shown(set_up));
    Some(Finding::of(Code::NotABuild, what, "players get the files themselves: name the folder that it would write"))
}

/// Whether a Windows program is one that sets the game up, by its name or by what it says of itself.
pub fn sets_up(name: &str, says: &[&str]) -> Option<Finding> {
    let lower = name.rsplit('/').next().unwrap_or(name).to_ascii_lowercase();
    let stem = lower.strip_suffix(".exe").unwrap_or_default();
    let is_word = |text: &str| {
        let lower = text.to_lowercase();
        lower.split(|c: char| !c.is_alphanumeric()).any(|part| ["setup", "installer"].contains(&part))
    };
    let is_one = is_word(stem) || says.iter().any(|text| is_word(text));
    let what = format!("{} seems to set the game up instead of being it", shown(name));
    let fix = "players get the files themselves: name the folder that it would write";
    is_one.then(|| Finding::of(Code::Installer, what, fix))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn programs_that_set_others_up_by_their_names() {
        for name in ["setup.exe", "Saltmarsh Post Setup.exe", "saltmarsh-installer-1.4.0.exe", "bin/SETUP.EXE"] {
            assert!(sets_up(name, &[]).is_some(), "{name}");
        }
        for name in ["Saltmarsh Post.exe", "setup", "setupscene.exe", "stagesetup.dll"] {
            assert!(sets_up(name, &[]).is_none(), "{name}");
        }
        assert!(sets_up("saltmarsh.exe", &["Saltmarsh Post Setup", ""]).is_some());
        assert!(sets_up("saltmarsh.exe", &["Saltmarsh Post", "A letter comes by tide"]).is_none());
    }
}
