//! Programs and bundles for macOS and iOS.

use lantern_core::finding::Finding;
use lantern_core::path::shown;
use lantern_core::system::System;
use lantern_formats::info::Info;
use lantern_formats::macho::{CodeSignature, Details, Platform, Special, Wrong};
use lantern_formats::program::{Form, Kind, Machine, Program};
use lantern_formats::{FormatError, icon};

use super::{Inspected, Signature, broken, icon_findings, open, signature_broken, small_file};
use crate::export::{Export, ReadSeek};
use crate::intake::systems_of;

/// The icon that macOS shows at its largest.
const WANTED_ICON: u16 = 512;

/// How the parts of a bundle lie in it.
pub(super) struct Layout {
    /// With `/` at its end, or empty where the bundle itself was named.
    bundle: String,
    /// What it is called.
    name: String,
    /// Folder of the programs, from the bundle.
    programs: &'static str,
    info: &'static str,
    resources: &'static str,
    seal: &'static str,
}

impl Layout {
    fn of_macos(bundle: &str, name: &str) -> Self {
        Self {
            bundle: bundle.to_owned(),
            name: shown(name),
            programs: "Contents/MacOS/",
            info: "Contents/Info.plist",
            resources: "Contents/Resources/",
            seal: "Contents/_CodeSignature/CodeResources",
        }
    }

    fn of_ios(bundle: &str) -> Self {
        Self {
            bundle: bundle.to_owned(),
            name: shown(bundle.trim_start_matches("Payload/").trim_end_matches('/')),
            programs: "",
            info: "Info.plist",
            resources: "",
            seal: "_CodeSignature/CodeResources",
        }
    }

    fn path(&self, part: &str) -> String {
        format!("{}{part}", self.bundle)
    }
}

/// What starts an export for macOS: a program in a bundle, or one by itself.
pub(super) fn look(export: &Export, index: usize, out: &mut Inspected) {
    let path = export.entries[index].source.path.as_str().to_owned();
    match path.split_once(".app/") {
        Some((name, _)) => bundle(export, &format!("{name}.app/"), &format!("{name}.app"), out),
        None => {
            if let Some(mut from) = open(export, index, out) {
                program(&mut from, Some((export, None)), &path, out);
            }
        }
    }
}

/// A package for iOS, which is an archive with one bundle in it.
pub(super) fn ios(export: &Export, out: &mut Inspected) {
    let names = export.entries.iter().map(|e| e.source.path.as_str());
    let bundles = names.filter_map(|name| name.strip_suffix("Info.plist"));
    let found = bundles.filter(|p| p.starts_with("Payload/") && p.ends_with(".app/") && p.matches('/').count() == 2);
    match found.collect::<Vec<_>>().as_slice() {
        [one] => {
            out.systems = vec![System::Ios];
            look_into(export, &Layout::of_ios(one), out);
            let has_profile = export.place_of(&format!("{one}embedded.mobileprovision")).is_some();
            let profile = if has_profile { "in it, not verified" } else { "none: no device takes it" };
            out.facts.push(("profile", profile.to_owned()));
        }
        several => {
            let what = format!("there are {} bundles in Payload, one is allowed", several.len());
            out.findings.push(Finding::stops("package", what, "export it again"));
        }
    }
}

/// A bundle for macOS; `prefix` ends with `/`, or is empty where the bundle itself was named.
pub(super) fn bundle(export: &Export, prefix: &str, name: &str, out: &mut Inspected) {
    look_into(export, &Layout::of_macos(prefix, name), out);
}

fn look_into(export: &Export, layout: &Layout, out: &mut Inspected) {
    let name = &layout.name;
    let info = match small_file(export, &layout.path(layout.info), out).map(|bytes| Info::read(&bytes)) {
        Some(Ok(info)) => info,
        Some(Err(error)) => {
            let what = format!("{}: {error}", shown(&layout.path(layout.info)));
            out.findings.push(Finding::stops("broken-program", what, "export again"));
            Info::default()
        }
        None => {
            let what = format!("{name} has no {}: it is no bundle", layout.info);
            out.findings.push(Finding::stops("bundle", what, "export again"));
            Info::default()
        }
    };
    (out.identity, out.name) = (info.identifier.clone(), info.name.clone());
    (out.version, out.number) = (info.version.clone(), info.number.clone());
    if let Some(category) = &info.category {
        out.facts.push(("category", shown(category)));
    }
    let icon = info.icon.as_ref().map(|icon| layout.path(&format!("{}{icon}", layout.resources)));
    let sizes = icon.as_deref().and_then(|path| icon::icns_sizes(&small_file(export, path, out)?));
    out.icon_sizes = sizes.unwrap_or_default();
    if layout.programs.starts_with("Contents") {
        let cure = "add one of 512 and one of 1024 pixels";
        out.findings.extend(icon_findings(name, &out.icon_sizes, WANTED_ICON, cure));
    }
    let Some(executable) = &info.executable else { return };
    let path = layout.path(&format!("{}{executable}", layout.programs));
    let Some(index) = export.place_of(&path) else {
        let what = format!("{} names the program {}, which is not there", layout.info, shown(executable));
        return out.findings.push(Finding::stops("bundle", what, "export again"));
    };
    if out.starts.is_empty() {
        out.starts.push(path.clone());
    }
    if let Some(mut from) = open(export, index, out) {
        program(&mut from, Some((export, Some(layout))), &path, out);
    }
    if let Some(wanted) = info.minimum_system {
        out.needs = Some(match layout.programs {
            "" => format!("iOS {wanted}"),
            _ => format!("macOS {wanted}"),
        });
    }
}

/// A program by itself, or that of a bundle.
pub(super) fn program(
    mut from: &mut dyn ReadSeek,
    within: Option<(&Export, Option<&Layout>)>,
    name: &str,
    out: &mut Inspected,
) {
    let details = match Details::read(&mut from) {
        Ok(details) => details,
        Err(error) => return out.findings.extend(broken(name, &error)),
    };
    for library in details.iter().flat_map(|d| &d.libraries) {
        if !out.libraries.contains(&library.name) {
            out.libraries.push(library.name.clone());
        }
    }
    let newest = details.iter().filter_map(|d| d.minimum).max_by_key(|(_, version)| *version);
    out.needs = newest.map(|(platform, version)| match platform {
        Platform::MacOs => format!("macOS {version}"),
        Platform::Ios => format!("iOS {version}"),
        Platform::IosSimulator => "the simulator of iOS".to_owned(),
        _ => format!("version {version} of another system"),
    });
    let name = shown(name);
    if newest.is_some_and(|(platform, _)| platform == Platform::IosSimulator) {
        let what = format!("{name} is for the simulator, which only developers have");
        out.findings.push(Finding::stops("simulator-build", what, "export for the device"));
    }
    if details.iter().any(|d| d.has_debug_data) {
        let what = format!("{name} holds debug data, which players download for nothing");
        out.findings.push(Finding::warns("debug-data", what, "strip it, and keep the debug data aside"));
    }
    if let Some((export, layout)) = within {
        out.findings.extend(missing_libraries(&details, export, layout, &name));
    }
    if let Err(error) = signature(from, &details, within, &name, out) {
        out.findings.extend(broken(&name, &error));
    }
    let machines = || details.iter().map(|d| d.slice.machine);
    if out.systems.is_empty() {
        out.systems = systems_of(&Program { form: Form::MachO, kind: Kind::Program, machines: machines().collect() });
    }
    let is_arm = machines().any(|machine| machine == Machine::Aarch64);
    let Some((_, layout)) = within.filter(|_| out.signature == Signature::None) else { return };
    if layout.is_some_and(|layout| layout.programs.is_empty()) {
        let what = format!("{name} is not signed: no device takes it");
        out.findings.push(Finding::warns("unsigned", what, "export it with your team's profile"));
    } else if is_arm {
        let what = format!("{name} is not signed at all: Apple's own processors do not start it");
        out.findings.push(Finding::warns("unsigned", what, "sign it, ad hoc at least"));
    }
}

/// Verifies the signature of every slice; the first that is wrong counts.
fn signature(
    mut from: &mut dyn ReadSeek,
    details: &[Details],
    within: Option<(&Export, Option<&Layout>)>,
    name: &str,
    out: &mut Inspected,
) -> Result<(), FormatError> {
    let mut signatures = Vec::new();
    for slice in details {
        signatures.push(CodeSignature::read(&mut from, slice)?);
    }
    let found: Vec<&CodeSignature> = signatures.iter().flatten().collect();
    let Some(first) = found.first() else {
        out.signature = Signature::None;
        return Ok(());
    };
    let mut wrong = (found.len() < signatures.len()).then(|| "one of its slices carries none".to_owned());
    // What a bundle's program covers beside itself.
    let mut beside: Vec<(Special, &str, Option<Vec<u8>>)> = Vec::new();
    if let Some((export, Some(layout))) = within {
        for (slot, path) in [(Special::Info, layout.info), (Special::Resources, layout.seal)] {
            beside.push((slot, path, small_file(export, &layout.path(path), out)));
        }
    }
    for signature in &found {
        wrong = wrong.or(signature.verify(&mut from)?.map(|wrong| match wrong {
            Wrong::Page(at) => format!("the code changed after it was signed, first at byte {at}"),
            Wrong::NotCovered => "it does not cover the whole program".to_owned(),
            Wrong::Special(Special::Entitlements | Special::EntitlementsDer) => {
                "its entitlements were changed".to_owned()
            }
            _ => "what it says of itself was changed".to_owned(),
        }));
        let changed = beside.iter().find(|(slot, _, bytes)| !signature.holds(*slot, bytes.as_deref()));
        wrong = wrong.or(changed.map(|(_, path, _)| format!("{path} was changed after it was signed")));
    }
    out.facts.push(("signed as", shown(first.identifier())));
    out.facts.extend(first.is_hardened().then(|| ("runtime", "hardened".to_owned())));
    let is_intact = wrong.is_none();
    out.signature = match first.is_ad_hoc() {
        true => Signature::AdHoc { is_intact },
        false => Signature::Identity {
            whose: first.team().map(|team| format!("team {}", shown(team))),
            is_intact: Some(is_intact),
        },
    };
    out.findings.extend(wrong.map(|why| signature_broken(&format!("the signature of {name}"), &why)));
    Ok(())
}

/// Libraries that are neither part of the system nor where their install names lead.
fn missing_libraries(details: &[Details], export: &Export, layout: Option<&Layout>, name: &str) -> Vec<Finding> {
    let folder = name.rsplit_once('/').map_or("", |(folder, _)| folder);
    let resolve = |path: &str| -> Option<String> {
        let rest = path.strip_prefix("@executable_path/").or_else(|| path.strip_prefix("@loader_path/"))?;
        let mut parts: Vec<&str> = folder.split('/').filter(|p| !p.is_empty()).collect();
        for part in rest.split('/') {
            match part {
                ".." => drop(parts.pop()?),
                "." | "" => {}
                other => parts.push(other),
            }
        }
        Some(parts.join("/"))
    };
    let is_there = |path: &str| export.entries.iter().any(|e| e.source.path.as_str() == path);
    let of_system = |path: &str| path.starts_with("/usr/lib/") || path.starts_with("/System/");
    let mut missing: Vec<String> = Vec::new();
    for slice in details {
        for library in slice.libraries.iter().filter(|l| !l.is_weak && !of_system(&l.name)) {
            let places: Vec<String> = match library.name.strip_prefix("@rpath/") {
                Some(rest) => {
                    slice.search.iter().map(|path| format!("{}/{rest}", path.trim_end_matches('/'))).collect()
                }
                None => vec![library.name.clone()],
            };
            let found =
                places.iter().any(|place| of_system(place) || resolve(place).is_some_and(|path| is_there(&path)));
            let shown_name = shown(&library.name);
            if !found && !missing.contains(&shown_name) {
                missing.push(shown_name);
            }
        }
    }
    if missing.is_empty() {
        return Vec::new();
    }
    let what = format!("{name} needs {}: neither in the export nor part of macOS", missing.join(", "));
    let cure = match layout {
        Some(_) => "put them into Contents/Frameworks, and name them by @rpath or @executable_path",
        None => "put them beside it, and name them by @executable_path",
    };
    vec![Finding::warns("library-missing", what, cure)]
}
