//! How a project begins: what is seen of exports, and the configuration that is written for them.

use std::fs;
use std::sync::Arc;

use lantern_core::system::System;
use lantern_project::{
    Class, FoundExports, InitAnswers, Project, ProjectError, detect_export, find_exports, init, target_names,
};
use lantern_rehearsal::exports::{GameVersion, write_linux, write_windows};

fn answers(root: &std::path::Path) -> InitAnswers {
    InitAnswers {
        name: "Saltmarsh Post".into(),
        studio: "Paper Heron".into(),
        identity: "example.paperheron.saltmarsh".into(),
        version: "1.3.2".into(),
        exports: find_exports(root).seen,
        next_number: None,
        storefront: None,
    }
}

#[test]
fn exports_are_found_by_what_starts_them_and_the_file_that_is_written_is_valid() {
    let temp = tempfile::tempdir().unwrap();
    let root = temp.path();
    write_windows(&root.join("exports/windows"), GameVersion::Old).unwrap();
    write_linux(&root.join("exports/linux"), GameVersion::Old, System::LinuxX86_64).unwrap();
    fs::create_dir_all(root.join("exports/notes")).unwrap();
    fs::write(root.join("exports/notes/letter.txt"), "ebb and flood").unwrap();
    let FoundExports { seen, without_start } = find_exports(root);
    let paths: Vec<&str> = seen.iter().map(|export| export.path.as_str()).collect();
    assert_eq!((paths, without_start.len()), (vec!["exports/linux", "exports/windows"], 1));
    assert_eq!(target_names(&seen), ["linux", "windows"]);
    assert_eq!(seen[0].starts, [("saltmarsh".to_owned(), System::LinuxX86_64)]);
    assert!(detect_export(root, "exports/notes").starts.is_empty());

    let text = init(root, &answers(root), Arc::default()).unwrap();
    assert_eq!(fs::read_to_string(root.join("lantern.toml")).unwrap(), text);
    let project = Project::find(root, Arc::default()).unwrap();
    assert_eq!(project.config().targets.len(), 2);
    assert_eq!(project.config().game.name, "Saltmarsh Post");
}

#[test]
fn what_is_there_is_never_touched() {
    let temp = tempfile::tempdir().unwrap();
    write_linux(&temp.path().join("exports/linux"), GameVersion::Old, System::LinuxX86_64).unwrap();
    fs::write(temp.path().join("lantern.toml"), "# mine").unwrap();
    let error = init(temp.path(), &answers(temp.path()), Arc::default()).unwrap_err();
    assert!(matches!(error, ProjectError::AlreadyThere(_)), "{error:?}");
    assert_eq!(fs::read_to_string(temp.path().join("lantern.toml")).unwrap(), "# mine");
}

#[test]
fn a_wrong_answer_writes_nothing() {
    let temp = tempfile::tempdir().unwrap();
    write_linux(&temp.path().join("exports/linux"), GameVersion::Old, System::LinuxX86_64).unwrap();
    let wrong = InitAnswers { identity: "saltmarsh".into(), ..answers(temp.path()) };
    let error = init(temp.path(), &wrong, Arc::default()).unwrap_err();
    assert_eq!(error.class(), Class::Usage, "{error:?}");
    assert!(!temp.path().join("lantern.toml").exists());
}
