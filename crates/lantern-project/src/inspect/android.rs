//! Android packages and bundles.

use std::collections::BTreeSet;
use std::fs::File;

use lantern_core::finding::{Finding, listed};
use lantern_core::path::shown;
use lantern_core::system::System;
use lantern_formats::android::Manifest;
use lantern_formats::apk::{self, SignedBy};
use lantern_formats::zip::{self, Method, ZipEntry};

use super::{Inspected, Signature, signature_broken, small_file};
use crate::export::{Export, unreadable};

/// Most rights and abilities that are named one by one.
const MAX_NAMED: usize = 6;
/// Page size of newer devices, in bytes: libraries that are loaded from the package itself must lie at multiples of it.
const PAGE_LEN: u64 = 16 * 1024;
/// The API level since when libraries are not unpacked unless the manifest says so.
const LOADED_IN_PLACE_SINCE: u32 = 23;

pub(super) fn look(export: &Export, ending: &str, out: &mut Inspected) {
    let names: Vec<&str> = export.entries.iter().map(|e| e.source.path.as_str()).collect();
    let is_bundle = ending == "aab";
    out.systems = vec![System::Android];
    let abis = abis(&names, if is_bundle { "base/lib/" } else { "lib/" });
    if !abis.is_empty() {
        let list = abis.iter().copied().collect::<Vec<_>>().join(", ");
        if abis.iter().all(|abi| matches!(*abi, "armeabi-v7a" | "armeabi" | "x86")) {
            let what = format!("native libraries are there for {list} alone");
            out.findings.push(Finding::warns("only-32-bit", what, "export for arm64-v8a, too: shops demand it"));
        }
        out.facts.push(("processors", list));
    }
    let has_signature_file = names.iter().any(|name| {
        name.strip_prefix("META-INF/").is_some_and(|n| [".RSA", ".DSA", ".EC"].iter().any(|e| n.ends_with(e)))
    });
    if is_bundle {
        let manifests = names.iter().filter_map(|n| n.split_once("/manifest/AndroidManifest.xml"));
        let modules: BTreeSet<&str> = manifests.map(|(module, _)| module).collect();
        out.facts.push(("modules", modules.into_iter().collect::<Vec<_>>().join(", ")));
        let whose = Signature::Identity { whose: None, is_intact: None };
        out.signature = if has_signature_file { whose } else { Signature::None };
        return;
    }
    let Some(bytes) = small_file(export, "AndroidManifest.xml", out) else { return };
    let manifest = match Manifest::read(&bytes) {
        Ok(manifest) => manifest,
        Err(error) => {
            let what = format!("AndroidManifest.xml cannot be read: {error}");
            return out.findings.push(Finding::stops("package", what, "export it again"));
        }
    };
    say(&manifest, out);
    out.findings.extend(findings(&manifest));
    match export.open_itself() {
        Ok(mut file) => {
            out.findings.extend(unaligned(&manifest, export, &mut file));
            signature(&mut file, has_signature_file, out);
        }
        Err(error) => out.findings.push(unreadable("the package", &error)),
    }
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
    out.findings
        .extend(wrong.map(|(version, why)| signature_broken(&format!("the signature of scheme {version}"), &why)));
    if schemes.windows(2).any(|pair| pair[0].signers != pair[1].signers) && newest.before.is_empty() {
        let what = "its signatures are of different keys";
        out.findings.push(Finding::stops("signature-broken", what, "sign it again, with one key"));
    }
    if newest.signers.iter().any(SignedBy::is_debug) {
        let what = "it is signed with the key that developers' tools make: no shop takes it";
        out.findings.push(Finding::stops("debug-key", what, "export it signed with the game's own key"));
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
    out.facts.extend(manifest.target_sdk.map(|level| ("made for", format!("API level {level}"))));
    let list = |names: Vec<&str>| {
        let short = |name: &&str| shown(name.rsplit('.').next().unwrap_or(name));
        listed(&names.iter().map(short).collect::<Vec<_>>(), MAX_NAMED)
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
fn unaligned(manifest: &Manifest, export: &Export, file: &mut File) -> Option<Finding> {
    let in_place = !manifest.extracts_libraries.unwrap_or(manifest.min_sdk.unwrap_or(1) < LOADED_IN_PLACE_SINCE);
    if !in_place {
        return None;
    }
    let entries = export.entries.iter().enumerate().map(|(i, entry)| (entry.source.path.as_str(), i));
    let libraries = entries.filter(|(name, _)| name.starts_with("lib/") && name.ends_with(".so"));
    let libraries: Vec<(&str, &ZipEntry)> =
        libraries.filter_map(|(name, i)| Some((name, export.zip_entry(i)?))).collect();
    if let Some((packed, _)) = libraries.iter().find(|(_, entry)| entry.method != Method::Stored) {
        let what = format!("{} is compressed, and the manifest says that libraries are loaded in place", shown(packed));
        return Some(Finding::stops("packed-library", what, "export it again"));
    }
    // Those of 32 bits run on no device with large pages.
    let wide = |name: &str| name.starts_with("lib/arm64-v8a/") || name.starts_with("lib/x86_64/");
    for (name, entry) in libraries.into_iter().filter(|(name, _)| wide(name)) {
        match zip::data_offset(file, entry) {
            Ok(at) if at % PAGE_LEN == 0 => {}
            Ok(_) => {
                let what = format!(
                    "{} does not lie at a multiple of 16 KB: devices with large pages do not start it",
                    shown(name)
                );
                let cure = "align it when the package is packed; newer engines do it";
                return Some(Finding::warns("unaligned-library", what, cure));
            }
            Err(error) => {
                return Some(Finding::stops("package", format!("{}: {error}", shown(name)), "export it again"));
            }
        }
    }
    None
}
