//! What keeps a target from being stamped, and what a stamp cannot reach.

use lantern_core::finding::{Code, Finding};
use lantern_core::path::TreePath;
use lantern_core::release::Claims;
use lantern_exports::WindowsProgram;
use lantern_exports::export::Form;
use lantern_exports::intake::Intake;

use crate::Project;
use crate::check::PastReleases;
use crate::sign_files::Signs;

impl Project {
    /// What is wrong with `stamp` and `version-file` of a target, and when its players would see another number on its screen.
    pub(crate) fn stamp_findings(
        &self,
        intake: &Intake<'_>,
        claims: &Claims,
        windows: &[WindowsProgram],
        past: &PastReleases,
    ) -> Vec<Finding> {
        let (target, form) = (intake.target, intake.export().form);
        let at = |key: &str, what: String, fix: String| {
            Finding::of(Code::CannotStamp, what, fix).at(self.place_of(&["targets", intake.name.as_str(), key]))
        };
        let mut findings = Vec::new();
        let is_android = matches!(form, Form::Package("apk" | "aab"));
        let is_for_windows = Signs::of(intake) == Some(Signs::Programs);
        if target.stamp && is_for_windows {
            let signed = target.sign.is_none().then(|| intake.starts.first()).flatten();
            let start = windows.iter().find(|program| signed.is_some_and(|start| start.file == program.path));
            if let Some(program) = start.filter(|program| program.signed_by.is_some()) {
                let what = format!("the stamp changes {}, and it has no valid signature then", program.path);
                findings.push(at("stamp", what, "sign = \"KEY\": lantern signs it after the stamp".to_owned()));
            }
        } else if target.stamp {
            let is_code = Signs::of(intake) == Some(Signs::Code);
            if !is_android && !is_code {
                let what =
                    format!("{} is {}, and stamp is for packages, and for Windows and macOS", intake.name, form.name());
                findings.push(at(
                    "stamp",
                    what,
                    "version-file = \"version.txt\" writes both into a file of it".to_owned(),
                ));
            } else if target.sign.is_none() {
                let what = format!("the stamp changes {}, and it has no valid signature then", intake.name);
                findings.push(at("stamp", what, "sign = \"KEY\": lantern signs it after the stamp".to_owned()));
            }
            let missing = |inside: &Option<String>, what: &str| {
                let what = format!("{} has no {what} to write over", intake.name);
                inside
                    .is_none()
                    .then(|| at("stamp", what, "set one in the engine, whichever, and export again".to_owned()))
            };
            if is_android && claims.identity.is_some() {
                findings.extend(missing(&claims.number, "version code"));
                findings.extend(missing(&claims.version, "version name"));
            }
        }
        if let Some(path) = &target.version_file {
            let wrong = version_file_wrong(intake, path);
            findings.extend(wrong.map(|(what, fix)| at("version-file", what, fix)));
        }
        if target.stamp || target.version_file.is_some() {
            findings.extend(past.stamp_not_seen(intake.name));
        }
        findings
    }
}

/// Why a version file cannot lie at a path of a build, and what to do.
fn version_file_wrong(intake: &Intake<'_>, path: &TreePath) -> Option<(String, String)> {
    let (export, name) = (intake.export(), intake.name);
    if let Form::Package(_) = export.form {
        let what = format!("{name} is {}, and version-file is for folders and archives", export.form.name());
        return Some((what, "stamp = true writes both into the manifest of an Android package".to_owned()));
    }
    let folders: Vec<&str> = path.as_str().match_indices('/').filter_map(|(end, _)| path.as_str().get(..end)).collect();
    let is_file = |path: &str| export.place_of(path).is_some();
    let is_folder =
        export.below(&format!("{path}/")).next().is_some() || (export.has(path.as_str()) && !is_file(path.as_str()));
    if is_folder || folders.iter().any(|folder| is_file(folder)) {
        let what = format!("no file can lie at {path} in {name}");
        return Some((what, "choose another path".to_owned()));
    }
    let is_sealed = |folder: &&&str| {
        ["_CodeSignature/CodeResources", "Contents/_CodeSignature/CodeResources"]
            .iter()
            .any(|seal| export.has(&format!("{folder}/{seal}")))
    };
    let in_bundle = folders.iter().find(|folder| folder.ends_with(".app"));
    if let (Some(bundle), Some(_), Some(Signs::Code)) = (in_bundle, &intake.target.sign, Signs::of(intake)) {
        let what = format!("{path} lies in {bundle}, which is sealed when it is signed");
        return Some((what, "stamp = true writes both into its Info.plist".to_owned()));
    }
    if let Some(bundle) = folders.iter().find(is_sealed) {
        let what = format!("{path} lies in {bundle}, which is signed: one more file makes its signature invalid");
        return Some((what, "choose a path beside it, or have the engine sign it afterwards".to_owned()));
    }
    if intake.target.keep_aside.matches(path) {
        let what = format!("keep-aside covers {path}, so players would not get it");
        return Some((what, "choose another path, or change keep-aside".to_owned()));
    }
    None
}
