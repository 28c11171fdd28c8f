//! No source file and no test file is forgotten: the compiler reads only those that another names.

use std::path::{Path, PathBuf};

fn files_below(folder: &Path, out: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().map(|entry| entry.unwrap().path()) {
        if entry.is_dir() {
            files_below(&entry, out);
        } else if entry.extension().is_some_and(|ending| ending == "rs") {
            out.push(entry);
        }
    }
}

/// The files that can name a module: its folder's own, or one that has the folder's name beside it.
fn parents(file: &Path) -> Vec<PathBuf> {
    let folder = file.parent().unwrap();
    let roots = ["lib.rs", "main.rs", "mod.rs"].map(|name| folder.join(name));
    roots.into_iter().chain([folder.with_extension("rs")]).filter(|parent| parent.is_file()).collect()
}

#[test]
fn every_file_is_named_by_another() {
    let crates = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/.."));
    let mut files = Vec::new();
    for one in std::fs::read_dir(crates).unwrap().map(|entry| entry.unwrap().path()) {
        files_below(&one.join("src"), &mut files);
        files_below(&one.join("tests"), &mut files);
    }
    assert!(files.len() > 150, "{}", files.len());
    let forgotten: Vec<&PathBuf> = files
        .iter()
        .filter(|file| {
            let stem = file.file_stem().unwrap().to_string_lossy().into_owned();
            let is_root = ["lib", "main"].contains(&stem.as_str()) || is_target(file);
            let named = format!("mod {stem};");
            let has = |parent: &PathBuf| {
                std::fs::read_to_string(parent)
                    .unwrap()
                    .lines()
                    .any(|line| line.trim_start_matches("pub ").trim_start_matches("pub(crate) ").trim() == named)
            };
            !is_root && !parents(file).iter().any(has)
        })
        .collect();
    assert!(forgotten.is_empty(), "{forgotten:?}");
}

/// A test that its package names by its path.
fn is_target(file: &Path) -> bool {
    let package = file.ancestors().find(|folder| folder.join("Cargo.toml").is_file()).unwrap();
    let path = file.strip_prefix(package).unwrap().to_string_lossy().replace('\\', "/");
    std::fs::read_to_string(package.join("Cargo.toml")).unwrap().contains(&format!("{path:?}"))
}
