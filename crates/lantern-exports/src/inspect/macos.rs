//! Programs and bundles for macOS and iOS.

use lantern_core::bytes::hex;
use lantern_core::finding::{Code, Finding, Severity, join_some};
use lantern_core::path::shown;
use lantern_core::system::System;
use lantern_formats::info::Info;
use lantern_formats::macho::{CodeSignature, Details, Platform, Special, SystemVersion, Wrong};
use lantern_formats::program::{Form, Kind, Machine, Program};
use lantern_formats::{FormatError, Signer, icon};
use lantern_store::seal::SourceKind;

use super::{
    Fact, Inspected, LIBRARY, Looking, Signature, broken, code_resources, icon_findings, open, path_from,
    picture_sizes, profile, signature_broken, signer, small_file,
};
use crate::export::{Export, ReadSeek, unreadable};
use crate::intake::systems_of;

/// The icon that macOS shows at its largest.
const WANTED_ICON: u16 = 512;

/// The icon of a phone's home screen: 60 points of two pixels each.
const WANTED_ICON_OF_PHONES: u16 = 120;
/// Most rights that are named one by one.
const MAX_NAMED: usize = 4;
/// The newest systems that may be demanded without a word: those of 2022, as with glibc.
const NEWEST_MACOS: SystemVersion = SystemVersion(13, 255, 255);
const NEWEST_IOS: SystemVersion = SystemVersion(16, 255, 255);

/// What a folder is called that is a bundle.
const BUNDLES: [&str; 8] = ["app", "framework", "bundle", "plugin", "appex", "xpc", "systemextension", "dSYM"];
/// Where a bundle's seal lies, from where its paths begin.
const SEAL: &str = "_CodeSignature/CodeResources";
/// What the notary service says of a bundle for macOS, from where the paths of the seal begin: it is put there last,
/// and no seal covers it.
pub(super) const TICKET: &str = "CodeResources";
/// As seen in public bundles.
const TICKET_MAGIC: &[u8] = b"s8ch";

/// How the parts of a bundle lie in it.
pub(super) struct Layout {
    /// What it is called.
    name: String,
    ending: &'static str,
    /// Where the paths of its seal begin, from the export's top; ends with `/`, or is empty.
    pub base: String,
    /// Folder of its programs, in the same way.
    programs: String,
    pub info: String,
    resources: String,
    /// Whether nothing lies in folders of its own, as on phones.
    is_flat: bool,
}

impl Layout {
    /// Finds out how a folder is laid out; it ends with `/`, or is empty where the bundle itself was named. None where
    /// it is no bundle.
    pub(super) fn find(export: &Export, folder: &str, name: &str) -> Option<Self> {
        let (_, ending) = name.rsplit_once('.')?;
        let ending = *BUNDLES.iter().find(|known| known.eq_ignore_ascii_case(ending))?;
        let versions = format!("{folder}Versions/");
        let current = export.below(&versions).find_map(|(path, index)| match &export.entries[index].source.kind {
            SourceKind::Link { target } if path == "Current" => Some(target.as_str().to_owned()),
            _ => None,
        });
        let version = current.or_else(|| Some(export.below(&versions).next()?.0.split('/').next()?.to_owned()));
        let (contents, top) = (format!("{folder}Contents/"), format!("{folder}Info.plist"));
        let has_contents = export.below(&contents).next().is_some();
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
            if export.below(&own).next().is_some() {
                (out.info, out.resources) = (format!("{own}Info.plist"), own);
            }
        } else if !has_contents && export.place_of(&top).is_some() {
            (out.info, out.resources, out.is_flat) = (top, out.base.clone(), true);
        } else if has_contents || ending == "app" {
            let programs = if ending == "dSYM" { "Resources/DWARF/" } else { "MacOS/" };
            out.programs = format!("{contents}{programs}");
            (out.info, out.resources) = (format!("{contents}Info.plist"), format!("{contents}Resources/"));
            out.base = contents;
        } else {
            export.place_of(&out.info)?;
        }
        Some(out)
    }

    pub(super) fn seal(&self) -> String {
        format!("{}{SEAL}", self.base)
    }

    /// The program, by what its `Info.plist` says; it is called as the bundle is where that says nothing.
    pub(super) fn program(&self, info: &Info) -> String {
        let stem = || self.name.rsplit_once('.').map_or(self.name.as_str(), |(stem, _)| stem);
        format!("{}{}", self.programs, info.executable.as_deref().unwrap_or_else(stem))
    }

    /// Whether people start it, as opposed to programs.
    fn is_app(&self) -> bool {
        self.ending == "app"
    }

    fn is_for_phones(&self) -> bool {
        self.is_app() && self.is_flat
    }
}

/// What starts an export for macOS: a program in a bundle, or one by itself.
pub(super) fn look(export: &Export, index: usize, looking: &mut Looking<'_>) {
    let path = export.entries[index].source.path.as_str().to_owned();
    let layout = path.split_once(".app/").and_then(|(name, _)| {
        let name = format!("{name}.app");
        Layout::find(export, &format!("{name}/"), &name)
    });
    match layout {
        Some(layout) => bundle(export, &layout, looking),
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
            let name = one.trim_start_matches("Payload/").trim_end_matches('/');
            if let Some(layout) = Layout::find(export, one, name) {
                bundle(export, &layout, looking);
            }
        }
        several => {
            let what = format!("there are {} bundles in Payload, one is allowed", several.len());
            looking.out.findings.push(Finding::of(Code::BadPackage, what, "export it again"));
        }
    }
}

/// A bundle that was named itself; none where it is no bundle.
pub(super) fn named(export: &Export, looking: &mut Looking<'_>) -> Option<()> {
    let name = export.shown.rsplit('/').next().unwrap_or(&export.shown);
    let layout = Layout::find(export, "", name)?;
    looking.out.form = Some(if layout.ending == "dSYM" { "data for debuggers" } else { "a bundle" });
    bundle(export, &layout, looking);
    Some(())
}

fn bundle(export: &Export, layout: &Layout, looking: &mut Looking<'_>) {
    let out = &mut *looking.out;
    let name = shown(&layout.name);
    let info = match small_file(export, &layout.info, out).map(|bytes| Info::read(&bytes)) {
        Some(Ok(info)) => info,
        Some(Err(error)) => {
            let what = format!("{}: {error}", shown(&layout.info));
            out.findings.push(Finding::of(Code::BrokenProgram, what, "export again"));
            Info::default()
        }
        None => {
            let what = format!("{name} has no {}: it is no bundle", shown(&layout.info));
            out.findings.push(Finding::of(Code::BadBundle, what, "export again"));
            Info::default()
        }
    };
    (out.identity, out.name) = (info.identifier.clone(), info.name.clone());
    (out.version, out.number) = (info.version.clone(), info.number.clone());
    if let Some(category) = &info.category {
        out.facts.push((Fact::Category, shown(category)));
    }
    if layout.is_app() {
        icons(export, layout, &info, out);
    }
    if layout.ending == "dSYM" {
        return debug_data(export, layout, out);
    }
    let path = layout.program(&info);
    let Some(index) = export.place_of(&path) else {
        let what = match &info.executable {
            Some(named) => format!("{} names the program {}, which is not there", shown(&layout.info), shown(named)),
            None if layout.is_app() => format!("{} has no program", shown(&layout.name)),
            // Others may hold nothing but resources.
            None => return,
        };
        return out.findings.push(Finding::of(Code::BadBundle, what, "export again"));
    };
    if out.starts.is_empty() && layout.is_app() {
        out.starts.push(path.clone());
    }
    if layout.is_for_phones() {
        out.systems = vec![System::Ios];
    }
    let mut from = open(export, index, out);
    let needs = from.as_mut().and_then(|from| program(from, Some((export, Some(layout))), &path, looking));
    if let Some(promised) = info.minimum_system.filter(|_| layout.is_app()) {
        promise(layout, &promised, needs, looking.out);
    }
}

/// Compares the oldest system that a bundle names with the one that its program starts on.
fn promise(layout: &Layout, promised: &str, needs: Option<SystemVersion>, out: &mut Inspected) {
    let (system, newest) = if layout.is_flat { ("iOS", NEWEST_IOS) } else { ("macOS", NEWEST_MACOS) };
    out.needs = Some(format!("{system} {}", shown(promised)));
    let Ok(version) = promised.parse::<SystemVersion>() else { return };
    if needs.is_some_and(|needs| version < needs) {
        let needs = needs.map(|needs| needs.to_string()).unwrap_or_default();
        let what = format!(
            "{} declares that it starts on {system} {version}, but its program needs {needs} or newer",
            shown(&layout.name)
        );
        let fix = format!("set the oldest system to {needs} in the engine, or build the program for {version}");
        out.findings.push(Finding::of(Code::NewSystem, what, fix));
    } else if version > newest && needs.is_none_or(|needs| needs <= newest) {
        // That of the program was said already.
        out.findings.push(new_system(&shown(&layout.name), system, version, newest));
    }
}

/// A system that many players do not have.
fn new_system(name: &str, system: &str, version: SystemVersion, newest: SystemVersion) -> Finding {
    let what = format!("{name} needs {system} {version}: who has {} or older cannot play", newest.0);
    Finding::of(Code::NewSystem, what, "build it for an older system, unless this is intended")
}

/// Which programs a bundle of debug data belongs to, by the id that both have.
fn debug_data(export: &Export, layout: &Layout, out: &mut Inspected) {
    let files: Vec<usize> = export.below(&layout.programs).map(|(_, index)| index).collect();
    let mut ids = Vec::new();
    for index in files {
        let Some(mut from) = open(export, index, out) else { continue };
        match Details::read(&mut from) {
            Ok(slices) => ids.extend(slices.iter().filter_map(|details| Some(hex(&details.uuid?)))),
            Err(error) => out.findings.extend(broken(&export.entries[index].source.path.shown(), &error)),
        }
    }
    out.facts.push((Fact::DebugDataOf, if ids.is_empty() { "unknown".to_owned() } else { ids.join(", ") }));
}

fn icons(export: &Export, layout: &Layout, info: &Info, out: &mut Inspected) {
    let icon = info.icon.as_ref().map(|icon| format!("{}{icon}", layout.resources));
    let sizes = icon.as_deref().and_then(|path| icon::icns_sizes(&small_file(export, path, out)?));
    out.icon_sizes = sizes.unwrap_or_default();
    let (wanted, fix) = if layout.is_flat {
        let starts: Vec<String> = info.icon_files.iter().map(|start| format!("{}{start}", layout.base)).collect();
        let names = export.entries.iter().map(|e| e.source.path.as_str());
        let icons = names.filter(|name| name.ends_with(".png") && starts.iter().any(|start| name.starts_with(start)));
        out.icon_sizes = picture_sizes(export, icons);
        (WANTED_ICON_OF_PHONES, "add those for all devices: newer engines do it by themselves")
    } else {
        (WANTED_ICON, "add one of 512 and one of 1024 pixels")
    };
    out.findings.extend(icon_findings(&shown(&layout.name), &out.icon_sizes, wanted, fix));
}

fn oldest_of(details: &[Details]) -> Option<(Platform, SystemVersion)> {
    details.iter().filter_map(|d| d.minimum).min_by_key(|(_, version)| *version)
}

/// The system that it needs, where that is newer than many have, with the newest that is not.
pub(crate) fn too_new(details: &[Details]) -> Option<(&'static str, SystemVersion, SystemVersion)> {
    let (platform, version) = oldest_of(details)?;
    let (system, newest) = match platform {
        Platform::MacOs => ("macOS", NEWEST_MACOS),
        Platform::Ios => ("iOS", NEWEST_IOS),
        _ => return None,
    };
    (version > newest).then_some((system, version, newest))
}

/// A program by itself, or that of a bundle; returns the oldest system that it starts on.
pub(super) fn program(
    mut from: &mut dyn ReadSeek,
    within: Option<(&Export, Option<&Layout>)>,
    path: &str,
    looking: &mut Looking<'_>,
) -> Option<SystemVersion> {
    let out = &mut *looking.out;
    let details = match Details::read(&mut from) {
        Ok(details) => details,
        Err(error) => {
            out.findings.extend(broken(path, &error));
            return None;
        }
    };
    for library in details.iter().flat_map(|d| &d.libraries) {
        if !out.libraries.contains(&library.name) {
            out.libraries.push(library.name.clone());
        }
    }
    // Of several slices each is for another processor: Apple's own came with 11.0, whatever the others start on.
    let oldest = oldest_of(&details);
    out.needs = oldest.map(|(platform, version)| match platform {
        Platform::MacOs => format!("macOS {version}"),
        Platform::Ios => format!("iOS {version}"),
        Platform::IosSimulator => "the simulator of iOS".to_owned(),
        _ => format!("version {version} of another system"),
    });
    let name = shown(path);
    // What loads a library speaks for it.
    if let Some((system, version, newest)) = too_new(&details).filter(|_| out.form != Some(LIBRARY)) {
        out.findings.push(new_system(&name, system, version, newest));
    }
    if oldest.is_some_and(|(platform, _)| platform == Platform::IosSimulator) {
        let what = format!("{name} is for the simulator, which only developers have");
        out.findings.push(Finding::of(Code::SimulatorBuild, what, "export for the device"));
    }
    if details.iter().any(|d| d.has_debug_data) {
        let what = format!("{name} contains debug data, which players download for no benefit");
        out.findings.push(Finding::of(Code::DebugData, what, "strip it, and keep the debug data aside"));
    }
    // Where another program finds its libraries is that one's business.
    if let Some((export, layout)) = within.filter(|(_, layout)| layout.is_none_or(Layout::is_app)) {
        out.findings.extend(missing_libraries(&details, export, layout, path));
    }
    if let Err(error) = signature(from, &details, within, path, looking) {
        looking.out.findings.extend(broken(&name, &error));
    }
    let out = &mut *looking.out;
    let machines = || details.iter().map(|d| d.slice.machine);
    if out.systems.is_empty() {
        out.systems = systems_of(&Program { form: Form::MachO, kind: Kind::Program, machines: machines().collect() });
    }
    let is_arm = machines().any(|machine| machine == Machine::Aarch64);
    if machines().all(|machine| matches!(machine, Machine::X86 | Machine::Arm)) {
        let what = format!("{name} is 32-bit only: macOS since 10.15 and iOS since 11 do not start it");
        out.findings.push(Finding::of(Code::Only32Bit, what, "export for 64 bits"));
    }
    // Others count in versions of their own.
    let needs = oldest.filter(|(platform, _)| matches!(platform, Platform::MacOs | Platform::Ios));
    let needs = needs.map(|(_, version)| version);
    let Some((_, layout)) = within.filter(|_| out.signature == Signature::None) else { return needs };
    if layout.is_some_and(|layout| !layout.is_app()) {
        return needs;
    }
    if layout.is_some_and(Layout::is_for_phones) {
        let what = format!("{name} is not signed: no device accepts it");
        out.findings.push(Finding::of(Code::Unsigned, what, "export it with your team's profile"));
    } else if is_arm {
        let what = format!("{name} is not signed at all: Apple's own processors do not start it");
        out.findings.push(Finding::of(Code::Unsigned, what, "sign it, ad hoc at least"));
    }
    needs
}

/// What the signatures of a program's slices say.
pub(crate) struct CodeVerdict {
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
    beside: &[(Special, String, Option<Vec<u8>>)],
) -> Result<Option<CodeVerdict>, FormatError> {
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
            _ => "its code directory was changed".to_owned(),
        }));
        // Nobody promised that the rest of a bundle is as it was where nobody signed it. An identity means all of it.
        let is_code_alone = |slot: Special| signature.is_ad_hoc() && !signature.covers(slot);
        let mut covered = beside.iter().filter(|(slot, ..)| !is_code_alone(*slot));
        let changed = covered.find(|(slot, _, bytes)| !signature.holds(*slot, bytes.as_deref()));
        wrong = wrong.or(changed.map(|(_, path, _)| format!("{} was changed after it was signed", shown(path))));
        let differs = signature.entitlements_agree() == Some(false);
        wrong = wrong.or_else(|| differs.then(|| "its two lists of entitlements differ".to_owned()));
        if let Some(signer) = signature.signer()? {
            wrong = wrong.or_else(|| signer.wrong.clone());
            first_signer = first_signer.or(Some(signer));
        }
    }
    Ok(Some(CodeVerdict { signatures, signer: first_signer, wrong }))
}

/// Says what the signature of a program is, and of the bundle around it.
fn signature(
    from: &mut dyn ReadSeek,
    details: &[Details],
    within: Option<(&Export, Option<&Layout>)>,
    path: &str,
    looking: &mut Looking<'_>,
) -> Result<(), FormatError> {
    let name = &shown(path);
    // What a bundle's program covers beside itself.
    let mut beside: Vec<(Special, String, Option<Vec<u8>>)> = Vec::new();
    if let Some((export, Some(layout))) = within {
        for (slot, path) in [(Special::Info, layout.info.clone()), (Special::Resources, layout.seal())] {
            let bytes = small_file(export, &path, looking.out);
            beside.push((slot, path, bytes));
        }
    }
    let Some(code) = verify_code(from, details, &beside)? else {
        looking.out.signature = Signature::None;
        return Ok(());
    };
    let Some(first) = code.signatures.first() else { return Ok(()) };
    let mut wrong = code.wrong;
    let seal = beside.into_iter().find(|(slot, ..)| *slot == Special::Resources).and_then(|(_, _, bytes)| bytes);
    let is_sealed = first.covers(Special::Resources);
    if let (Some((export, Some(layout))), Some(seal), None, true) = (within, seal, &wrong, is_sealed) {
        let bundle = code_resources::Bundle { base: layout.base.clone(), main: path.to_owned(), team: first.team() };
        match code_resources::wrong_in(export, &bundle, &seal, looking.progress) {
            Ok(found) => {
                wrong = found.wrong;
                looking.out.findings.extend(found.findings);
            }
            Err(error) => looking.out.findings.push(unreadable(name, &error)),
        }
    }
    let out = &mut *looking.out;
    out.facts.push((Fact::SignedAs, shown(first.identifier())));
    out.facts.extend(first.team().map(|team| (Fact::Team, shown(team))));
    out.facts.extend(first.is_hardened().then(|| (Fact::Runtime, "hardened".to_owned())));
    if within.is_some_and(|(_, layout)| layout.is_some()) && !is_sealed {
        out.facts.push((Fact::SignatureCovers, "only the program, nothing else of the bundle".to_owned()));
    }
    let entitlements = first.entitlements();
    let may: Vec<String> = entitlements.names().map(shown).collect();
    if !may.is_empty() {
        out.facts.push((Fact::Entitlements, join_some(&may, MAX_NAMED)));
    }
    match (first.is_ad_hoc(), &code.signer) {
        (false, Some(signer)) => signer::say(signer, wrong.is_none(), out),
        (false, None) => out.signature = Signature::Identity { whose: None, is_intact: Some(wrong.is_none()) },
        (true, _) => out.signature = Signature::AdHoc { is_intact: wrong.is_none() },
    }
    // For phones the profile says it.
    let is_debug = ["get-task-allow", "com.apple.security.get-task-allow"].iter().any(|word| entitlements.is_on(word));
    if is_debug && within.is_none_or(|(_, layout)| layout.is_none_or(|l| !l.is_for_phones())) {
        let what = format!("{name} allows debuggers to attach: it was signed for development");
        out.findings.push(
            Finding::of(Code::DebugBuild, what, "sign it without get-task-allow").with_severity(Severity::Warning),
        );
    }
    let whose = format!("the signature of {name}");
    match (wrong, &code.signer) {
        (Some(why), _) => out.findings.push(signature_broken(&whose, &why)),
        (None, Some(signer)) => signer::judge(signer, &whose, out),
        (None, None) => {}
    }
    if let Some((export, Some(layout))) = within.filter(|(_, layout)| layout.is_some_and(Layout::is_app)) {
        let kind = if layout.is_flat { profile::Kind::Phone } else { profile::Kind::Desktop };
        profile::look(export, &layout.base, kind, (first, code.signer.as_ref()), out);
        ticket(export, layout, &code.signatures, out);
    }
    Ok(())
}

/// Whether bytes begin as a ticket of the notary service does.
pub(super) fn is_ticket(bytes: &[u8]) -> bool {
    bytes.starts_with(TICKET_MAGIC)
}

/// What the notary service says of a bundle. Its form is not published; seen in public bundles: it holds the hash that
/// stands for the signature of each slice of each program.
fn ticket(export: &Export, layout: &Layout, signatures: &[CodeSignature], out: &mut Inspected) {
    let bytes = small_file(export, &format!("{}{TICKET}", layout.base), out);
    let Some(bytes) = bytes.filter(|bytes| is_ticket(bytes) && !layout.is_flat) else { return };
    if signatures.iter().all(|signature| signature.is_named_in(&bytes)) {
        return out.facts.push((Fact::Notarized, "its ticket is attached".to_owned()));
    }
    let what = format!("{} has a ticket of the notary service that is for another build", shown(&layout.name));
    out.findings.push(Finding::of(Code::TicketMismatch, what, "have it notarized again: it was signed again since"));
}

/// Libraries that are neither part of the system nor where their install names lead.
fn missing_libraries(details: &[Details], export: &Export, layout: Option<&Layout>, path: &str) -> Vec<Finding> {
    let (name, folder) = (shown(path), path.rsplit_once('/').map_or("", |(folder, _)| folder));
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
    let what = format!("{name} needs {}: neither in the export nor part of macOS", join_some(&missing, MAX_NAMED));
    let fix = match layout {
        Some(_) => "put them into Contents/Frameworks, and name them by @rpath or @executable_path",
        None => "put them next to it, and name them by @executable_path",
    };
    vec![Finding::of(Code::LibraryMissing, what, fix)]
}
