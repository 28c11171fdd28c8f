//! Android packages and bundles.

use std::collections::BTreeSet;

use std::io::{self, Read};

use lantern_core::bytes::hex;
use lantern_core::finding::{Code, Finding, Severity, join_some};
use lantern_core::path::shown;
use lantern_core::progress::Progress;
use lantern_core::system::System;
use lantern_formats::android::{Manifest, files_of};
use lantern_formats::apk::{self, ApkError, Scheme, SignedBy};
use lantern_formats::certificate::short_name;
use lantern_formats::jar::{self, ArchiveSignature};
use lantern_formats::zip::{self, Method, Packed};

use super::{Fact, Inspected, Inspecting, Signature, icon_findings, picture_sizes, signature_broken, small_file};
use crate::export::{Export, Shared, unreadable};
use crate::metered::Metering;

/// The icon of the home screen on the finest screens: 48 units of four pixels each.
const WANTED_ICON: u16 = 192;
/// Most rights and abilities that are named one by one.
const MAX_NAMED: usize = 6;
/// Page size of newer devices, in bytes: libraries that are loaded from the package itself must lie at multiples of it.
const PAGE_LEN: u64 = 16 * 1024;
/// The newest API level that may be demanded without a word: that of 2022, as with glibc.
const NEWEST_LEVEL: u32 = 33;
/// The API level since when libraries are not unpacked unless the manifest says so.
const LOADED_IN_PLACE_SINCE: u32 = 23;

/// The API level since when signatures over the whole file are known, and the one since when they are demanded.
const WHOLE_FILE_SINCE: u32 = 24;
const WHOLE_FILE_DEMANDED_SINCE: u32 = 30;

pub(super) fn inspect(export: &Export, ending: &str, inspecting: &mut Inspecting<'_>) {
    let out = &mut *inspecting.out;
    let names: Vec<&str> = export.entries.iter().map(|e| e.source.path.as_str()).collect();
    let is_bundle = ending == "aab";
    out.systems = vec![System::Android];
    if is_bundle {
        let manifests = names.iter().filter_map(|n| n.split_once("/manifest/AndroidManifest.xml"));
        let modules: BTreeSet<&str> = manifests.map(|(module, _)| module).collect();
        out.facts.push((Fact::Modules, modules.into_iter().collect::<Vec<_>>().join(", ")));
    }
    let path = if is_bundle { "base/manifest/AndroidManifest.xml" } else { "AndroidManifest.xml" };
    let Some(bytes) = small_file(export, path, out) else { return };
    let manifest = match if is_bundle { Manifest::read_of_bundle(&bytes) } else { Manifest::read(&bytes) } {
        Ok(manifest) => manifest,
        Err(error) => {
            let what = format!("{path} cannot be read: {error}");
            return out.findings.push(Finding::of(Code::BadPackage, what, "export it again"));
        }
    };
    say(&manifest, out);
    out.findings.extend(findings(&manifest));
    let abis = abis(&names, if is_bundle { "base/lib/" } else { "lib/" });
    if !abis.is_empty() {
        let list = abis.iter().copied().collect::<Vec<_>>().join(", ");
        if abis.iter().all(|abi| matches!(*abi, "armeabi-v7a" | "armeabi" | "x86")) {
            let what = format!("native libraries are there for {list} only");
            out.findings.push(
                Finding::of(Code::Only32Bit, what, "export for arm64-v8a, too: shops demand it")
                    .with_severity(Severity::Warning),
            );
        }
        out.facts.push((Fact::Processors, list));
    }
    if !is_bundle {
        icon(&manifest, export, out);
    }
    let mut read = || -> Result<(), ApkError> {
        let mut file = export.open_itself()?;
        if !is_bundle {
            out.findings.extend(unaligned(&manifest, export, &mut file));
            out.findings.extend(packed_resources(&manifest, export, &mut file));
        }
        let seen = Signatures::read(export, is_bundle, inspecting.progress)?;
        seen.say(&manifest, is_bundle, out);
        Ok(())
    };
    if let Err(error) = read() {
        out.findings.push(match error {
            ApkError::Io(error) => unreadable("the package", &error),
            error => signature_broken("the signature", &error.to_string()),
        });
    }
}

/// All signatures of a package, verified.
struct Signatures {
    /// File by file.
    first: Option<ArchiveSignature>,
    /// Over the whole file, oldest first.
    whole: Vec<Scheme>,
}

impl Signatures {
    fn read(export: &Export, is_bundle: bool, progress: &dyn Progress) -> Result<Self, ApkError> {
        let indices: Vec<usize> = (0..export.entries.len()).filter(|i| export.packed(*i).is_some()).collect();
        let source = |index: &usize| &export.entries[*index].source;
        let file = |index| jar::File { name: source(index).path.as_str(), len: source(index).size() };
        let files: Vec<jar::File<'_>> = indices.iter().map(file).collect();
        let has_first = jar::is_signed(&files);
        let unpacked: u64 = if has_first { files.iter().map(|file| file.len).sum() } else { 0 };
        let whole = if is_bundle { 0 } else { export.open_itself()?.len() };
        let watch = Metering::start(progress, unpacked + whole);
        let open = |place: usize| -> io::Result<Box<dyn Read + Send + '_>> {
            Ok(Box::new(watch.over(export.open(indices[place])?)))
        };
        let first = jar::verify(&files, &open)?;
        let whole = if is_bundle { Vec::new() } else { apk::verify(&|| Ok(watch.over(export.open_itself()?)))? };
        Ok(Self { first, whole })
    }

    /// Why they do not hold; none when they do.
    fn wrong(&self, is_bundle: bool) -> Option<(u8, String)> {
        let first = self.first.as_ref();
        let broken = first.and_then(|first| Some((1, first.wrong.clone()?)));
        let broken = broken.or_else(|| self.whole.iter().find_map(|s| Some((s.version, s.wrong.clone()?))));
        // The first scheme says which others there were; bundles have no others.
        let stated = first.filter(|_| !is_bundle).into_iter().flat_map(|first| &first.schemes);
        let mut gone = stated.filter(|stated| matches!(stated, 2 | 3) && !self.has(**stated));
        broken.or_else(|| gone.next().map(|gone| (1, format!("the signature of scheme {gone} was taken out"))))
    }

    fn has(&self, scheme: u8) -> bool {
        self.whole.iter().any(|known| known.version == scheme)
    }

    /// Those who signed by each scheme, the newest last.
    fn signers(&self) -> Vec<Vec<SignedBy>> {
        let first = self.first.iter().map(|first| {
            first.signers.iter().filter_map(|signer| SignedBy::of(&signer.certificate).ok()).collect::<Vec<_>>()
        });
        first.chain(self.whole.iter().map(|scheme| scheme.signers.clone())).collect()
    }

    fn say(&self, manifest: &Manifest, is_bundle: bool, out: &mut Inspected) {
        let schemes: Vec<u8> =
            self.first.iter().map(|_| 1).chain(self.whole.iter().map(|scheme| scheme.version)).collect();
        let signers = self.signers();
        let Some(newest) = signers.last() else {
            out.signature = Signature::None;
            let whom = if is_bundle {
                "bundle is not signed: no shop accepts it"
            } else {
                "package is not signed: no device accepts it"
            };
            let fix = "export it signed with the game's own key, or have it signed here: lantern key --help";
            return out.findings.push(Finding::of(Code::Unsigned, format!("the {whom}"), fix));
        };
        if !is_bundle {
            let list: Vec<String> = schemes.iter().map(|scheme| apk::name_of_scheme(*scheme)).collect();
            out.facts.push((Fact::SignatureSchemes, list.join(", ")));
        }
        out.facts.extend(newest.iter().map(|signer| (Fact::Fingerprint, hex(&signer.fingerprint))));
        let before: Vec<&SignedBy> = self.whole.last().iter().flat_map(|scheme| &scheme.before).collect();
        out.facts.extend(before.iter().map(|signer| (Fact::PreviousKey, hex(&signer.fingerprint))));
        let whose: Vec<String> = newest.iter().map(|signer| shown(short_name(&signer.subject))).collect();
        let wrong = self.wrong(is_bundle);
        out.signature = Signature::Identity { whose: Some(whose.join(", ")), is_intact: Some(wrong.is_none()) };
        out.package_signer = newest.first().filter(|_| wrong.is_none()).cloned();
        out.findings.extend(wrong.map(|(version, why)| match is_bundle {
            true => signature_broken("the signature", &why),
            false => signature_broken(&format!("the signature of scheme {}", apk::name_of_scheme(version)), &why),
        }));
        // A key may have been changed: then the older schemes have the older one.
        let is_known = |signer: &SignedBy| newest.contains(signer) || before.contains(&signer);
        if !signers.iter().flatten().all(is_known) {
            let what = "its signatures are of different keys";
            out.findings.push(Finding::of(Code::BrokenSignature, what, "sign it again, with one key"));
        }
        if newest.iter().any(SignedBy::is_debug) {
            let what = "it is signed with a debug key, which everyone has: no shop accepts it";
            out.findings.push(Finding::of(
                Code::DebugKey,
                what,
                "export it signed with the game's own key, or have it signed here: lantern key --help",
            ));
        }
        if !is_bundle {
            out.findings.extend(missing_scheme(manifest, self.first.is_some(), !self.whole.is_empty()));
        }
    }
}

/// Devices that a package is for and that do not know, or no longer accept, how it is signed.
fn missing_scheme(manifest: &Manifest, has_first: bool, has_newer: bool) -> Option<Finding> {
    let needs_first = manifest.min_sdk.unwrap_or(1) < WHOLE_FILE_SINCE;
    let needs_newer = manifest.target_sdk.is_some_and(|level| level >= WHOLE_FILE_DEMANDED_SINCE);
    let fix = "sign it again, with the schemes 1 and 2 at least";
    if needs_newer && !has_newer {
        let what = format!(
            "it is made for API level {WHOLE_FILE_DEMANDED_SINCE} or newer and signed with scheme 1 only: newer devices refuse it"
        );
        return Some(Finding::of(Code::SignatureSchemeMissing, what, fix));
    }
    if needs_first && !has_first {
        let what = format!(
            "it supports API level {} and up, and devices below {WHOLE_FILE_SINCE} know only scheme 1",
            manifest.min_sdk.unwrap_or(1)
        );
        return Some(Finding::of(Code::SignatureSchemeMissing, what, fix).with_severity(Severity::Warning));
    }
    None
}

/// A table of resources that newer devices would have to unpack.
fn packed_resources(manifest: &Manifest, export: &Export, file: &mut Shared) -> Option<Finding> {
    if manifest.target_sdk.is_none_or(|level| level < WHOLE_FILE_DEMANDED_SINCE) {
        return None;
    }
    let entry = export.packed(export.place_of("resources.arsc")?)?;
    let is_fine = entry.method == Method::Stored && zip::data_offset(file, entry).is_ok_and(|at| at % 4 == 0);
    let what = "resources.arsc is compressed or not aligned: newer devices refuse the package";
    (!is_fine).then(|| Finding::of(Code::CompressedResources, what, "pack it again; newer engines do it right"))
}

/// The widths of the icon; one that is drawn by a description has any.
fn icon(manifest: &Manifest, export: &Export, out: &mut Inspected) {
    let Some(id) = manifest.icon else { return out.findings.extend(icon_findings("the package", &[], 0, "")) };
    let Some(table) = small_file(export, "resources.arsc", out) else { return };
    let files = match files_of(&table, id) {
        Ok(files) => files,
        Err(error) => {
            let what = format!("resources.arsc cannot be read: {error}");
            return out.findings.push(Finding::of(Code::BadPackage, what, "export it again"));
        }
    };
    out.icon_sizes = picture_sizes(export, files.iter().map(String::as_str));
    let is_drawn = files.iter().any(|file| file.ends_with(".xml"));
    if !is_drawn {
        let fix = format!("add one of {WANTED_ICON} pixels: devices with fine screens show it");
        out.findings.extend(icon_findings("the package", &out.icon_sizes, WANTED_ICON, &fix));
    }
}

/// Processors that there are native libraries for.
fn abis<'a>(names: &[&'a str], prefix: &str) -> BTreeSet<&'a str> {
    names.iter().filter_map(|name| name.strip_prefix(prefix)?.split_once('/').map(|(abi, _)| abi)).collect()
}

fn say(manifest: &Manifest, out: &mut Inspected) {
    if manifest.needs_headset() {
        out.systems = vec![System::Headset];
    }
    out.identity = Some(shown(&manifest.package));
    out.version = manifest.version_name.as_deref().map(shown);
    out.number = manifest.version_code.map(|code| code.to_string());
    out.starts.extend(manifest.launcher.as_deref().map(shown));
    out.needs = manifest.min_sdk.map(|level| format!("API level {level}"));
    out.facts.extend(manifest.target_sdk.map(|level| (Fact::MadeFor, format!("API level {level}"))));
    let list = |names: Vec<&str>| {
        let short = |name: &&str| shown(name.rsplit('.').next().unwrap_or(name));
        join_some(&names.iter().map(short).collect::<Vec<_>>(), MAX_NAMED)
    };
    let required: Vec<&str> = manifest.features.iter().filter(|f| f.is_required).map(|f| f.name.as_str()).collect();
    if !required.is_empty() {
        out.facts.push((Fact::Requires, list(required)));
    }
    if !manifest.permissions.is_empty() {
        out.facts.push((Fact::Permissions, list(manifest.permissions.iter().map(String::as_str).collect())));
    }
}

fn findings(manifest: &Manifest) -> Vec<Finding> {
    let mut findings = Vec::new();
    if manifest.is_debuggable {
        let what = "the package is a debug build: a debugger may be attached to it";
        findings.push(Finding::of(Code::DebugBuild, what, "export a release build"));
    }
    if manifest.is_test_only {
        let what = "the package is marked as a test build: shops and devices refuse it";
        findings.push(Finding::of(Code::TestOnly, what, "export a release build"));
    }
    if manifest.launcher.is_none() {
        let what = "nothing in the package starts from the home screen";
        findings.push(
            Finding::of(Code::NoStart, what, "mark the main activity as the launcher").with_severity(Severity::Warning),
        );
    }
    // Headsets get newer systems for as long as they are sold.
    if let Some(level) = manifest.min_sdk.filter(|level| *level > NEWEST_LEVEL && !manifest.needs_headset()) {
        let what = format!("it needs API level {level}: devices with {NEWEST_LEVEL} or older do not install it");
        let fix = "build it for older ones, unless this is intended";
        findings.push(Finding::of(Code::NewSystem, what, fix));
    }
    if manifest.version_code.is_none() {
        let what = "the package has no number";
        findings.push(Finding::of(Code::NoNumber, what, "set the version code in the engine and export again"));
    }
    findings
}

/// Libraries that are loaded in place and do not lie where a page begins.
fn unaligned(manifest: &Manifest, export: &Export, file: &mut Shared) -> Option<Finding> {
    let in_place = !manifest.extracts_libraries.unwrap_or(manifest.min_sdk.unwrap_or(1) < LOADED_IN_PLACE_SINCE);
    if !in_place {
        return None;
    }
    let entries = export.entries.iter().enumerate().map(|(i, entry)| (entry.source.path.as_str(), i));
    let libraries = entries.filter(|(name, _)| name.starts_with("lib/") && name.ends_with(".so"));
    let libraries: Vec<(&str, &Packed)> = libraries.filter_map(|(name, i)| Some((name, export.packed(i)?))).collect();
    if let Some((packed, _)) = libraries.iter().find(|(_, entry)| entry.method != Method::Stored) {
        let what =
            format!("{} is compressed, and the manifest declares that libraries are loaded in place", shown(packed));
        return Some(Finding::of(Code::CompressedLibrary, what, "export it again"));
    }
    // Those of 32 bits run on no device with large pages.
    let wide = |name: &str| name.starts_with("lib/arm64-v8a/") || name.starts_with("lib/x86_64/");
    for (name, entry) in libraries.into_iter().filter(|(name, _)| wide(name)) {
        match zip::data_offset(file, entry) {
            Ok(at) if at % PAGE_LEN == 0 => {}
            Ok(_) => {
                let what = format!("{} is not aligned to 16 KB: devices with large pages do not start it", shown(name));
                let fix = "align it when the package is packed; newer engines do it";
                return Some(Finding::of(Code::UnalignedLibrary, what, fix));
            }
            Err(error) => {
                return Some(Finding::of(Code::BadPackage, format!("{}: {error}", shown(name)), "export it again"));
            }
        }
    }
    None
}
