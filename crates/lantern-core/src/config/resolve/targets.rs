//! `[targets]`: what each export is, and what is done with it.

use std::collections::BTreeMap;

use super::{Check, K, Referred};
use crate::config::{CodeSigning, ConfigKey, EditionKind, Inside, Target, TargetStart, raw};
use crate::finding::Code;
use crate::names::{FolderName, Name};
use crate::patterns::Patterns;

impl Check<'_> {
    pub(super) fn target(
        &mut self,
        at: &[ConfigKey<'_>],
        raw: &raw::Target,
        editions: &BTreeMap<String, raw::Edition>,
        known: &[&str],
    ) -> Option<Target> {
        let below = |key: &'static str| -> Vec<ConfigKey<'_>> { [at, &[K(key)]].concat() };
        let edition = match &raw.edition {
            Some(text) => self.known(&below("edition"), text, Referred::Edition, known),
            None => Some(Name::full_edition()),
        };
        let kind = raw.edition.as_ref().and_then(|name| editions.get(name)).map(|e| e.kind).unwrap_or_default();
        let export = self.path(&below("export"), &raw.export);
        if let Err(error) = Patterns::new([raw.export.as_str()]) {
            let fix = "a pattern is a path with * (within a name), ? and [a-z]";
            self.stop(&below("export"), Code::WrongPattern, error.to_string(), fix);
        }
        let export_root =
            self.optional(raw.export_root.as_ref(), |check, text| check.path(&below("export-root"), text));
        let systems = self.systems(&below("systems"), &raw.systems);
        let starts = match &raw.starts {
            None => Some(Vec::new()),
            Some(raw::Starts::Program(file)) => self
                .path(&below("starts"), file)
                .map(|file| vec![TargetStart { file, arguments: Vec::new(), folder: None, systems: Vec::new() }]),
            Some(raw::Starts::Command(run)) => self
                .command(&below("starts"), run)
                .map(|(file, arguments)| vec![TargetStart { file, arguments, folder: None, systems: Vec::new() }]),
            Some(raw::Starts::One(start)) => self.start(&below("starts"), start).map(|start| vec![start]),
            Some(raw::Starts::Several(starts)) => {
                let each = starts.iter().enumerate();
                let at = |i| [at, &[K("starts"), ConfigKey::Item(i)]].concat();
                let found: Vec<Option<TargetStart>> = each.map(|(i, start)| self.start(&at(i), start)).collect();
                found.into_iter().collect()
            }
        };
        let folder = self.optional(raw.install_folder.as_ref(), |check, text| {
            let text = check.words(&below("install-folder"), text)?;
            match text.parse::<FolderName>() {
                Ok(name) => Some(name),
                Err(error) => {
                    let fix = "write only the name, such as \"Saltmarsh Post\"";
                    check.stop(&below("install-folder"), Code::WrongValue, error.to_string(), fix);
                    None
                }
            }
        });
        let leave_out = self.patterns(&below("leave-out"), &raw.leave_out);
        let keep_aside = self.patterns(&below("keep-aside"), &raw.keep_aside);
        let must_have = self.patterns(&below("must-have"), &raw.must_have);
        let executable = self.patterns(&below("executable"), &raw.executable);
        let sign_files = self.patterns(&below("sign-files"), &raw.sign_files);
        let sign = self.optional(raw.sign.as_ref(), |check, name| {
            check.parse::<Name>(&below("sign"), name, "write the name of a key: lantern key list")
        });
        let lineage = self.optional(raw.lineage.as_ref(), |check, path| check.path(&below("lineage"), path));
        let lineage_from = self.optional(raw.lineage_from, |check, level| {
            let is_known = (28..10_000).contains(&level);
            if !is_known {
                let what = format!("{level} is no API level that knows of other keys");
                check.stop(&below("lineage-from"), Code::WrongValue, what, "28 is the first, 33 the usual one");
            }
            is_known.then_some(level)
        });
        let version_file = self.optional(raw.version_file.as_ref(), |check, path| {
            check.tree_path(&below("version-file"), path, "write a path in the build, such as \"version.txt\"")
        });
        let main = self.inside(at, raw.entitlements.as_ref(), raw.profile.as_ref());
        let mut inside = BTreeMap::new();
        for (path, raw) in &raw.inside {
            let at = [at, &[K("inside"), K(path)]].concat();
            let known = self.tree_path(&at, path, "write the path of a bundle or program in the build");
            let found = self.inside(&at, raw.entitlements.as_ref(), raw.profile.as_ref());
            inside.extend(known.zip(found));
        }
        let is_hardened = raw.hardened_runtime.unwrap_or(true);
        Some(Target {
            edition: edition?,
            systems,
            export: export?,
            export_root: export_root?,
            starts: starts?,
            needs_start: matches!(kind, EditionKind::Game | EditionKind::Demo),
            folder: folder?,
            leave_out: leave_out?,
            keep_aside: keep_aside?,
            must_have: must_have?,
            must_mention: raw.must_mention.clone(),
            must_not_mention: raw.must_not_mention.clone(),
            executable: executable?,
            sign: sign?,
            sign_files: sign_files?,
            sign_again: raw.sign_again,
            lineage: lineage?,
            lineage_from: lineage_from?,
            stamp: raw.stamp,
            version_file: version_file?,
            code: CodeSigning { main: main?, inside, is_hardened },
        })
    }

    /// The files that say what a signature for macOS or iOS says.
    fn inside(
        &mut self,
        at: &[ConfigKey<'_>],
        entitlements: Option<&String>,
        profile: Option<&String>,
    ) -> Option<Inside> {
        let mut file =
            |key, path: Option<&String>| self.optional(path, |check, path| check.path(&[at, &[K(key)]].concat(), path));
        let (entitlements, profile) = (file("entitlements", entitlements), file("profile", profile));
        Some(Inside { entitlements: entitlements?, profile: profile? })
    }

    /// A program in the export, and what it is called with.
    fn command(&mut self, at: &[ConfigKey<'_>], run: &[String]) -> Option<(String, Vec<String>)> {
        let Some((program, arguments)) = run.split_first() else {
            self.stop(at, Code::EmptyValue, "a program is missing here", "write the program, then its arguments");
            return None;
        };
        let file = self.path(&[at, &[ConfigKey::Item(0)]].concat(), program)?;
        Some((file, arguments.to_vec()))
    }

    fn start(&mut self, at: &[ConfigKey<'_>], raw: &raw::Start) -> Option<TargetStart> {
        let command = self.command(&[at, &[K("run")]].concat(), &raw.run);
        let folder_at = [at, &[K("cwd")]].concat();
        let folder = self.optional(raw.cwd.as_ref(), |check, text| {
            check.tree_path(&folder_at, text, "write a folder of the export")
        });
        let systems = self.systems(&[at, &[K("systems")]].concat(), &raw.systems);
        let (file, arguments) = command?;
        Some(TargetStart { file, arguments, folder: folder?, systems })
    }
}
