//! Android packages and bundles.

use std::collections::BTreeSet;
use std::fs::File;
use std::path::Path;

use lantern_core::finding::Finding;
use lantern_core::path::shown;
use lantern_core::system::System;
use lantern_formats::android::Manifest;
use lantern_formats::apk;
use lantern_formats::zip::{self, Method, ZipEntry};

use super::{Inspected, Signature, small_file};
use crate::export::Export;

/// Page size of newer devices, in bytes: libraries that are loaded from the package itself must lie at multiples of it.
const PAGE_LEN: u64 = 16 * 1024;
/// The API level since when libraries are not unpacked unless the manifest says so.
const LOADED_IN_PLACE_SINCE: u32 = 23;

pub(super) fn look(export: &Export, path: &Path, ending: &str, out: &mut Inspected) {
    let names: Vec<&str> = export.entries.iter().map(|e| e.source.path.as_str()).collect();
    let is_bundle = ending == "aab";
    out.systems = vec![System::Android];
    let abis = abis(&names, if is_bundle { "base/lib/" } else { "lib/" });
    if !abis.is_empty() {
        out.facts.push(("processors", abis.iter().copied().collect::<Vec<_>>().join(", ")));
        if abis.iter().all(|abi| matches!(*abi, "armeabi-v7a" | "armeabi" | "x86")) {
            let what =
                format!("native libraries are there for {} alone", abis.iter().copied().collect::<Vec<_>>().join(", "));
            out.findings.push(Finding::warns("only-32-bit", what, "export for arm64-v8a, too: shops demand it"));
        }
    }
    let has_signature_file = names.iter().any(|name| {
        name.strip_prefix("META-INF/").is_some_and(|n| [".RSA", ".DSA", ".EC"].iter().any(|e| n.ends_with(e)))
    });
    if is_bundle {
        let modules: BTreeSet<&str> = names
            .iter()
            .filter_map(|n| n.split_once("/manifest/AndroidManifest.xml").map(|(module, _)| module))
            .collect();
        if !modules.contains("base") {
            let what = "it is not an Android bundle: base/manifest/AndroidManifest.xml is missing in it";
            return out.findings.push(Finding::stops(
                "package",
                what,
                "name the file that was exported for the device",
            ));
        }
        out.facts.push(("modules", modules.into_iter().collect::<Vec<_>>().join(", ")));
        out.signature =
            if has_signature_file { Signature::Identity { whose: None, is_intact: None } } else { Signature::None };
        return;
    }
    let Some(bytes) = small_file(export, "AndroidManifest.xml") else {
        let what = "it is not an Android package: AndroidManifest.xml is missing in it";
        return out.findings.push(Finding::stops("package", what, "name the file that was exported for the device"));
    };
    let manifest = match Manifest::read(&bytes) {
        Ok(manifest) => manifest,
        Err(error) => {
            let what = format!("AndroidManifest.xml cannot be read: {error}");
            return out.findings.push(Finding::stops("package", what, "export it again"));
        }
    };
    let mut file = match File::open(path) {
        Ok(file) => file,
        Err(e) => {
            return out.findings.push(Finding::stops(
                "unreadable",
                e.to_string(),
                "give yourself the right to read it",
            ));
        }
    };
    let entries = zip::read(&mut file).unwrap_or_default();
    say(&manifest, out);
    out.findings.extend(findings(&manifest));
    out.findings.extend(unaligned(&manifest, &mut file, &entries));
    signature(&mut file, has_signature_file, out);
}

/// Verifies the signatures over the whole file; one of each file alone is only seen.
fn signature(file: &mut File, has_signature_file: bool, out: &mut Inspected) {
    let schemes = match apk::verify(file) {
        Ok(schemes) => schemes,
        Err(error) => {
            let what = format!("the signature cannot be read: {error}");
            return out.findings.push(Finding::stops("signature-broken", what, "sign it again"));
        }
    };
    let Some(newest) = schemes.last() else {
        if has_signature_file {
            out.signature = Signature::Identity { whose: None, is_intact: None };
            return out.facts.push(("scheme", "1, not verified".to_owned()));
        }
        out.signature = Signature::None;
        let what = "the package is not signed: no device takes it";
        return out.findings.push(Finding::warns("unsigned", what, "export it signed with the game's own key"));
    };
    let mut versions: Vec<String> = schemes.iter().map(|scheme| scheme.version.to_string()).collect();
    if has_signature_file {
        versions.insert(0, "1 (not verified)".to_owned());
    }
    out.facts.push(("schemes", versions.join(", ")));
    let wrong = schemes.iter().find_map(|scheme| Some((scheme.version, scheme.wrong.clone()?)));
    let whose: Vec<String> = newest.signers.iter().map(|signer| shown(&signer.subject)).collect();
    let hex = |bytes: &[u8]| bytes.iter().map(|b| format!("{b:02x}")).collect::<String>();
    for signer in &newest.signers {
        out.facts.push(("fingerprint", hex(&signer.fingerprint)));
    }
    for signer in &newest.before {
        out.facts.push(("key before", hex(&signer.fingerprint)));
    }
    out.signature = Signature::Identity { whose: Some(whose.join(", ")), is_intact: Some(wrong.is_none()) };
    if let Some((version, why)) = wrong {
        let what = format!("the signature of scheme {version} does not hold: {why}");
        out.findings.push(Finding::stops("signature-broken", what, "sign it again, as the very last step"));
    }
    if schemes.windows(2).any(|pair| pair[0].signers != pair[1].signers) && newest.before.is_empty() {
        let what = "its signatures are of different keys";
        out.findings.push(Finding::stops("signature-broken", what, "sign it again, with one key"));
    }
    if newest.signers.iter().any(apk::Signer::is_debug) {
        let what = "it is signed with the key that developers' tools make: no shop takes it";
        out.findings.push(Finding::stops("debug-key", what, "export it signed with the game's own key"));
    }
}

/// Processors that there are native libraries for.
fn abis<'a>(names: &[&'a str], prefix: &str) -> BTreeSet<&'a str> {
    names.iter().filter_map(|name| name.strip_prefix(prefix)?.split_once('/').map(|(abi, _)| abi)).collect()
}

fn say(manifest: &Manifest, out: &mut Inspected) {
    const HEADTRACKING: &str = "android.hardware.vr.headtracking";
    let needs_head = manifest.features.iter().any(|f| f.name == HEADTRACKING && f.is_required);
    if needs_head || manifest.is_for_headsets {
        out.systems = vec![System::Headset];
    }
    out.identity = Some(shown(&manifest.package));
    out.version = manifest.version_name.as_deref().map(shown);
    out.number = manifest.version_code.map(|code| code.to_string());
    out.starts.extend(manifest.launcher.as_deref().map(shown));
    out.needs = manifest.min_sdk.map(|level| format!("API level {level}"));
    out.facts.extend(manifest.target_sdk.map(|level| ("made for", format!("API level {level}"))));
    const MAX_NAMED: usize = 6;
    let list = |names: Vec<&str>| {
        let short = |name: &&str| shown(name.rsplit('.').next().unwrap_or(name));
        let first: Vec<String> = names.iter().take(MAX_NAMED).map(short).collect();
        let more = names.len().saturating_sub(MAX_NAMED);
        if more > 0 { format!("{} and {more} more", first.join(", ")) } else { first.join(", ") }
    };
    let required: Vec<&str> = manifest.features.iter().filter(|f| f.is_required).map(|f| f.name.as_str()).collect();
    if !required.is_empty() {
        out.facts.push(("demands", list(required)));
    }
    if !manifest.permissions.is_empty() {
        out.facts.push(("asks for", list(manifest.permissions.iter().map(String::as_str).collect())));
    }
}

fn findings(manifest: &Manifest) -> Vec<Finding> {
    let mut findings = Vec::new();
    if manifest.is_debuggable {
        let what = "the package is a developer's build: a debugger may look into it";
        findings.push(Finding::stops("debug-build", what, "export a release build"));
    }
    if manifest.is_test_only {
        let what = "the package is marked as for tests alone: shops and devices refuse it";
        findings.push(Finding::stops("test-only", what, "export a release build"));
    }
    if manifest.launcher.is_none() {
        let what = "nothing in the package starts from the home screen";
        findings.push(Finding::warns("no-start", what, "mark the main activity as the launcher"));
    }
    if manifest.version_code.is_none() {
        let what = "the package has no number";
        findings.push(Finding::stops("no-number", what, "set the version code in the engine and export again"));
    }
    findings
}

/// Libraries that are loaded in place and do not lie where a page begins.
fn unaligned(manifest: &Manifest, file: &mut File, entries: &[ZipEntry]) -> Option<Finding> {
    let in_place = !manifest.extracts_libraries.unwrap_or(manifest.min_sdk.unwrap_or(1) < LOADED_IN_PLACE_SINCE);
    let is_library = |e: &&ZipEntry| e.name.starts_with(b"lib/") && e.name.ends_with(b".so");
    let name = |e: &ZipEntry| shown(&String::from_utf8_lossy(&e.name));
    let libraries: Vec<&ZipEntry> = entries.iter().filter(is_library).filter(|_| in_place).collect();
    if let Some(packed) = libraries.iter().find(|e| e.method != Method::Stored) {
        let what = format!("{} is compressed, and the manifest says that libraries are loaded in place", name(packed));
        return Some(Finding::stops("packed-library", what, "export it again"));
    }
    // Those of 32 bits run on no device with large pages.
    let wide = |e: &&&ZipEntry| e.name.starts_with(b"lib/arm64-v8a/") || e.name.starts_with(b"lib/x86_64/");
    let first = libraries.iter().filter(wide).find(|e| zip::data_offset(file, e).is_ok_and(|at| at % PAGE_LEN != 0))?;
    let what = format!("{} does not lie at a multiple of 16 KB: devices with large pages do not start it", name(first));
    Some(Finding::warns("unaligned-library", what, "align it when the package is packed; newer engines do it"))
}
