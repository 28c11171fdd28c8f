//! Programs and bundles for macOS and iOS.

use lantern_core::finding::{Finding, listed};
use lantern_core::path::shown;
use lantern_core::system::System;
use lantern_formats::info::Info;
use lantern_formats::macho::{CodeSignature, Details, Platform, Special, Wrong};
use lantern_formats::program::{Form, Kind, Machine, Program};
use lantern_formats::{FormatError, Signer, icon};

use super::{
    Looking, Signature, broken, icon_findings, open, path_from, picture_sizes, profile, seal, signature_broken, signer,
    small_file,
};
use crate::export::{Export, ReadSeek, unreadable};
use crate::intake::systems_of;

/// The icon that macOS shows at its largest.
const WANTED_ICON: u16 = 512;

/// The icon of a phone's home screen: 60 points of two pixels each.
const WANTED_ICON_OF_PHONES: u16 = 120;
/// Most rights that are named one by one.
const MAX_NAMED: usize = 4;

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
    /// Where the paths of the seal begin, from the bundle.
    base: &'static str,
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
            base: "Contents/",
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
            base: "",
        }
    }

    fn is_for_phones(&self) -> bool {
        self.programs.is_empty()
    }

    fn path(&self, part: &str) -> String {
        format!("{}{part}", self.bundle)
    }
}

/// What starts an export for macOS: a program in a bundle, or one by itself.
pub(super) fn look(export: &Export, index: usize, looking: &mut Looking<'_>) {
    let path = export.entries[index].source.path.as_str().to_owned();
    match path.split_once(".app/") {
        Some((name, _)) => bundle(export, &format!("{name}.app/"), &format!("{name}.app"), looking),
        None => {
            if let Some(mut from) = open(export, index, looking.out) {
                program(&mut from, Some((export, None)), &path, looking);
            }
        }
    }
}

/// A package for iOS, which is an archive with one bundle in it.
pub(super) fn ios(export: &Export, looking: &mut Looking<'_>) {
    let names = export.entries.iter().map(|e| e.source.path.as_str());
    let bundles = names.filter_map(|name| name.strip_suffix("Info.plist"));
    let found = bundles.filter(|p| p.starts_with("Payload/") && p.ends_with(".app/") && p.matches('/').count() == 2);
    match found.collect::<Vec<_>>().as_slice() {
        [one] => {
            looking.out.systems = vec![System::Ios];
            look_into(export, &Layout::of_ios(one), looking);
        }
        several => {
            let what = format!("there are {} bundles in Payload, one is allowed", several.len());
            looking.out.findings.push(Finding::stops("package", what, "export it again"));
        }
    }
}

/// A bundle for macOS; `prefix` ends with `/`, or is empty where the bundle itself was named.
pub(super) fn bundle(export: &Export, prefix: &str, name: &str, looking: &mut Looking<'_>) {
    look_into(export, &Layout::of_macos(prefix, name), looking);
}

fn look_into(export: &Export, layout: &Layout, looking: &mut Looking<'_>) {
    let out = &mut *looking.out;
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
    if layout.is_for_phones() {
        let starts: Vec<String> = info.icon_files.iter().map(|start| layout.path(start)).collect();
        let names = export.entries.iter().map(|e| e.source.path.as_str());
        let icons = names.filter(|name| name.ends_with(".png") && starts.iter().any(|start| name.starts_with(start)));
        out.icon_sizes = picture_sizes(export, icons);
        let cure = "add those for all devices: newer engines do it by themselves";
        out.findings.extend(icon_findings(name, &out.icon_sizes, WANTED_ICON_OF_PHONES, cure));
    } else {
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
        program(&mut from, Some((export, Some(layout))), &path, looking);
    }
    if let Some(wanted) = info.minimum_system {
        looking.out.needs = Some(match layout.programs {
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
    looking: &mut Looking<'_>,
) {
    let out = &mut *looking.out;
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
    if let Err(error) = signature(from, &details, within, &name, looking) {
        looking.out.findings.extend(broken(&name, &error));
    }
    let out = &mut *looking.out;
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

/// What the signatures of a program's slices say.
pub(crate) struct Code {
    /// One of each slice that has one.
    pub signatures: Vec<CodeSignature>,
    /// Who signed the first of them, where it was an identity.
    pub signer: Option<Signer>,
    /// Why they do not hold; none when they do.
    pub wrong: Option<String>,
}

/// Verifies the signature of every slice; the first thing that is wrong counts. None where nothing is signed.
pub(crate) fn verify_code(
    mut from: &mut dyn ReadSeek,
    details: &[Details],
    beside: &[(Special, &str, Option<Vec<u8>>)],
) -> Result<Option<Code>, FormatError> {
    let mut signatures = Vec::new();
    for slice in details {
        signatures.extend(CodeSignature::read(&mut from, slice)?);
    }
    if signatures.is_empty() {
        return Ok(None);
    }
    // Linkers sign the slices for Apple's own processors alone, without an identity: the others need nothing.
    let is_gap = signatures.len() < details.len() && !signatures.iter().all(CodeSignature::is_ad_hoc);
    let mut wrong = is_gap.then(|| "one of its slices carries none".to_owned());
    let mut first_signer = None;
    for signature in &signatures {
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
        let differs = signature.entitlements_agree() == Some(false);
        wrong = wrong.or_else(|| differs.then(|| "its two lists of entitlements say different things".to_owned()));
        if let Some(signer) = signature.signer()? {
            wrong = wrong.or_else(|| signer.wrong.clone());
            first_signer = first_signer.or(Some(signer));
        }
    }
    Ok(Some(Code { signatures, signer: first_signer, wrong }))
}

/// Says what the signature of a program is, and of the bundle around it.
fn signature(
    from: &mut dyn ReadSeek,
    details: &[Details],
    within: Option<(&Export, Option<&Layout>)>,
    name: &str,
    looking: &mut Looking<'_>,
) -> Result<(), FormatError> {
    // What a bundle's program covers beside itself.
    let mut beside: Vec<(Special, &str, Option<Vec<u8>>)> = Vec::new();
    if let Some((export, Some(layout))) = within {
        for (slot, path) in [(Special::Info, layout.info), (Special::Resources, layout.seal)] {
            beside.push((slot, path, small_file(export, &layout.path(path), looking.out)));
        }
    }
    let Some(code) = verify_code(from, details, &beside)? else {
        looking.out.signature = Signature::None;
        return Ok(());
    };
    let Some(first) = code.signatures.first() else { return Ok(()) };
    let mut wrong = code.wrong;
    let seal = beside.into_iter().find(|(slot, ..)| *slot == Special::Resources).and_then(|(_, _, bytes)| bytes);
    if let (Some((export, Some(layout))), Some(seal), None) = (within, seal, &wrong) {
        let bundle = seal::Bundle { base: layout.path(layout.base), main: name.to_owned(), team: first.team() };
        match seal::wrong_in(export, &bundle, &seal, looking.progress) {
            Ok(found) => {
                wrong = found.wrong;
                looking.out.findings.extend(found.findings);
            }
            Err(error) => looking.out.findings.push(unreadable(name, &error)),
        }
    }
    let out = &mut *looking.out;
    out.facts.push(("signed as", shown(first.identifier())));
    out.facts.extend(first.team().map(|team| ("team", shown(team))));
    out.facts.extend(first.is_hardened().then(|| ("runtime", "hardened".to_owned())));
    let entitlements = first.entitlements();
    let may: Vec<String> = entitlements.names().map(shown).collect();
    if !may.is_empty() {
        out.facts.push(("may", listed(&may, MAX_NAMED)));
    }
    match (first.is_ad_hoc(), &code.signer) {
        (false, Some(signer)) => signer::say(signer, wrong.is_none(), out),
        (false, None) => out.signature = Signature::Identity { whose: None, is_intact: Some(wrong.is_none()) },
        (true, _) => out.signature = Signature::AdHoc { is_intact: wrong.is_none() },
    }
    if entitlements.is_on("get-task-allow")
        && within.is_none_or(|(_, layout)| layout.is_none_or(|l| !l.is_for_phones()))
    {
        let what = format!("{name} may be looked into by debuggers: it was signed for developers");
        out.findings.push(Finding::warns("debug-build", what, "sign it without get-task-allow"));
    }
    let whose = format!("the signature of {name}");
    match (wrong, &code.signer) {
        (Some(why), _) => out.findings.push(signature_broken(&whose, &why)),
        (None, Some(signer)) => out.findings.extend(signer::findings(signer, &whose)),
        (None, None) => {}
    }
    if let Some((export, Some(layout))) = within.filter(|(_, layout)| layout.is_some_and(Layout::is_for_phones)) {
        profile::look(export, &layout.bundle, first, code.signer.as_ref(), out);
    }
    Ok(())
}

/// Libraries that are neither part of the system nor where their install names lead.
fn missing_libraries(details: &[Details], export: &Export, layout: Option<&Layout>, name: &str) -> Vec<Finding> {
    let folder = name.rsplit_once('/').map_or("", |(folder, _)| folder);
    let resolve = |path: &str| -> Option<String> {
        let rest = path.strip_prefix("@executable_path/").or_else(|| path.strip_prefix("@loader_path/"))?;
        path_from(folder, rest)
    };
    let is_there = |path: &str| export.has(path);
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
