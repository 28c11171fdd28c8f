//! Programs and bundles for macOS and iOS.

use std::collections::BTreeSet;
use std::io;

use lantern_core::bytes::hex;
use lantern_core::finding::{Code, Finding, Severity, join_some};
use lantern_core::path::shown;
use lantern_core::size::Size;
use lantern_core::system::System;
use lantern_formats::bundle::{self, Bundle, Layout, SealVerdict, TICKET, is_ticket, verify_code};
use lantern_formats::info::Info;
use lantern_formats::macho::{CodeSignature, Details, Platform, Special, SystemVersion};
use lantern_formats::program::{Form, Kind, Machine, Program};
use lantern_formats::{FormatError, icon};

use super::{
    Fact, Inspected, Inspecting, LIBRARY, Signature, broken, icon_findings, open, path_from, picture_sizes, profile,
    signature_broken, signer, small_file,
};
use crate::export::{Export, ReadSeek};
use crate::intake::systems_of;
use crate::metered::Metering;
use crate::metered_files::MeteredFiles;
use crate::too_new::{NEWEST_IOS, NEWEST_MACOS, oldest_of, too_new_for_macos};

/// The icon that macOS shows at its largest.
const WANTED_ICON: u16 = 512;

/// The icon of a phone's home screen: 60 points of two pixels each.
const WANTED_ICON_OF_PHONES: u16 = 120;
/// Most rights that are named one by one.
const MAX_NAMED: usize = 4;
/// Most programs of others that are named.
const MAX_OTHERS_NAMED: usize = 3;
/// What starts an export for macOS: a program in a bundle, or one by itself.
pub(super) fn inspect(export: &Export, index: usize, inspecting: &mut Inspecting<'_>) {
    let path = export.entries[index].source.path.as_str().to_owned();
    let layout = path.split_once(".app/").and_then(|(name, _)| {
        let name = format!("{name}.app");
        Layout::find(export, &format!("{name}/"), &name)
    });
    match layout {
        Some(layout) => bundle(export, &layout, inspecting),
        None => {
            if let Some(mut from) = open(export, index, inspecting.out) {
                program(&mut from, Some((export, None)), &path, inspecting);
            }
        }
    }
}

/// A package for iOS, which is an archive with one bundle in it.
pub(super) fn ios(export: &Export, inspecting: &mut Inspecting<'_>) {
    let names = export.entries.iter().map(|e| e.source.path.as_str());
    let bundles = names.filter_map(|name| name.strip_suffix("Info.plist"));
    let found = bundles.filter(|p| p.starts_with("Payload/") && p.ends_with(".app/") && p.matches('/').count() == 2);
    match found.collect::<Vec<_>>().as_slice() {
        [one] => {
            let name = one.trim_start_matches("Payload/").trim_end_matches('/');
            if let Some(layout) = Layout::find(export, one, name) {
                bundle(export, &layout, inspecting);
            }
        }
        several => {
            let what = format!("there are {} bundles in Payload, one is allowed", several.len());
            inspecting.out.findings.push(Finding::of(Code::BadPackage, what, "export it again"));
        }
    }
}

/// A bundle that was named itself; none where it is not a bundle.
pub(super) fn named(export: &Export, inspecting: &mut Inspecting<'_>) -> Option<()> {
    let name = export.shown.rsplit('/').next().unwrap_or(&export.shown);
    let layout = Layout::find(export, "", name)?;
    inspecting.out.form = Some(if layout.ending == "dSYM" { "data for debuggers" } else { "a bundle" });
    bundle(export, &layout, inspecting);
    Some(())
}

fn bundle(export: &Export, layout: &Layout, inspecting: &mut Inspecting<'_>) {
    let out = &mut *inspecting.out;
    let name = shown(&layout.name);
    let info = match small_file(export, &layout.info, out).map(|bytes| Info::read(&bytes)) {
        Some(Ok(info)) => info,
        Some(Err(error)) => {
            let what = format!("{}: {error}", shown(&layout.info));
            out.findings.push(Finding::of(Code::BrokenProgram, what, "export again"));
            Info::default()
        }
        None => {
            let what = format!("{name} has no {}: it is not a bundle", shown(&layout.info));
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
    let needs = from.as_mut().and_then(|from| program(from, Some((export, Some(layout))), &path, inspecting));
    if let Some(promised) = info.minimum_system.filter(|_| layout.is_app()) {
        promise(layout, &promised, needs, inspecting.out);
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

/// A program by itself, or that of a bundle; returns the oldest system that it starts on.
pub(super) fn program(
    mut from: &mut dyn ReadSeek,
    within: Option<(&Export, Option<&Layout>)>,
    path: &str,
    inspecting: &mut Inspecting<'_>,
) -> Option<SystemVersion> {
    let out = &mut *inspecting.out;
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
    if let Some((system, version, newest)) = too_new_for_macos(&details).filter(|_| out.form != Some(LIBRARY)) {
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
    if let Err(error) = signature(from, &details, within, path, inspecting) {
        inspecting.out.findings.extend(broken(&name, &error));
    }
    let out = &mut *inspecting.out;
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
        let what = format!("{name} is not signed at all: Macs with Apple silicon do not start it");
        out.findings.push(Finding::of(Code::Unsigned, what, "sign it, ad hoc at least"));
    }
    needs
}

/// Compares a bundle with its seal; what is read is counted.
fn verify_seal(
    export: &Export,
    bundle: &Bundle<'_>,
    seal: &[u8],
    inspecting: &Inspecting<'_>,
) -> io::Result<SealVerdict> {
    let total = export.below(&bundle.base).map(|(_, index)| export.entries[index].source.size()).sum();
    let watch = Metering::start(inspecting.progress, total);
    bundle::verify(&MeteredFiles { export, watch: &watch, on_the_way: inspecting.on_the_way }, bundle, seal)
}

/// What is said of programs in a bundle that someone else signed.
fn other_signers(others: BTreeSet<String>) -> Option<Finding> {
    let others: Vec<String> = others.into_iter().collect();
    let what = format!("signed by another team than the bundle: {}", join_some(&others, MAX_OTHERS_NAMED));
    let fix = "sign everything in the bundle with the same identity, from the inside out";
    (!others.is_empty()).then(|| Finding::of(Code::OtherSigner, what, fix))
}

/// Says what the signature of a program is, and of the bundle around it.
fn signature(
    from: &mut dyn ReadSeek,
    details: &[Details],
    within: Option<(&Export, Option<&Layout>)>,
    path: &str,
    inspecting: &mut Inspecting<'_>,
) -> Result<(), FormatError> {
    let name = &shown(path);
    // What a bundle's program covers beside itself.
    let mut beside: Vec<(Special, String, Option<Vec<u8>>)> = Vec::new();
    if let Some((export, Some(layout))) = within {
        for (slot, path) in [(Special::Info, layout.info.clone()), (Special::Resources, layout.seal())] {
            let bytes = small_file(export, &path, inspecting.out);
            beside.push((slot, path, bytes));
        }
    }
    let Some(code) = verify_code(from, details, &beside)? else {
        inspecting.out.signature = Signature::None;
        return Ok(());
    };
    let Some(first) = code.signatures.first() else { return Ok(()) };
    let mut wrong = code.wrong;
    let seal = beside.into_iter().find(|(slot, ..)| *slot == Special::Resources).and_then(|(_, _, bytes)| bytes);
    let is_sealed = first.covers(Special::Resources);
    if let (Some((export, Some(layout))), Some(seal), None, true) = (within, seal, &wrong, is_sealed) {
        let bundle = Bundle { base: layout.base.clone(), main: path.to_owned(), team: first.team() };
        match verify_seal(export, &bundle, &seal, inspecting) {
            Ok(found) => {
                wrong = found.wrong;
                inspecting.out.verified.extend(found.verified);
                inspecting.out.findings.extend(other_signers(found.others));
            }
            // What cannot be read through is not known to be as it was signed.
            Err(error) => wrong = Some(format!("a file of the bundle cannot be read ({error})")),
        }
    }
    let out = &mut *inspecting.out;
    if wrong.is_none() {
        out.verified.push(path.to_owned());
    }
    out.facts.push((Fact::SignedAs, shown(first.identifier())));
    out.facts.extend(first.team().map(|team| (Fact::Team, shown(team))));
    out.facts.extend(first.is_hardened().then(|| (Fact::Runtime, "hardened".to_owned())));
    if within.is_some_and(|(_, layout)| layout.is_some()) && !is_sealed {
        out.facts.push((Fact::SignatureCovers, "only the program, nothing else of the bundle".to_owned()));
    }
    let spare: u64 = code.signatures.iter().map(|signature| signature.spare).sum();
    if spare > 0 {
        out.facts.push((Fact::NotCovered, format!("data in the room behind the signature ({})", Size(spare))));
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
        profile::inspect(export, &layout.base, kind, (first, code.signer.as_ref()), out);
        ticket(export, layout, &code.signatures, out);
    }
    Ok(())
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
