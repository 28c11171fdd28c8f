//! Packages that others have made: stripped, signed with our keys, and left in a folder for a verifier that shares nothing
//! with us. `scripts/real-files.sh` fetches them and runs that.

use std::fs::File;
use std::path::{Path, PathBuf};

use lantern_core::progress::Silent;
use lantern_formats::android::Manifest;
use lantern_formats::{apk as reader, zip};
use lantern_keys::certificate;
use lantern_keys::key::Algorithm;
use lantern_keys::keyring::make;
use lantern_sign::stamp::{self, Edits, Stamp};
use lantern_sign::{SignError, apk, bundle_jar};

fn packages(folder: &Path, out: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap().map(Result::unwrap) {
        let path = entry.path();
        if path.is_dir() {
            packages(&path, out);
        } else if path.extension().is_some_and(|ending| ending == "apk") {
            out.push(path);
        }
    }
}

const MANIFEST: &str = "AndroidManifest.xml";

fn stamp() -> Stamp {
    Stamp { version: "1.4.0-ó".to_owned(), number: 27 }
}

/// Name, checksum and size of everything that is not of a signature.
fn kept(path: &Path) -> Vec<(Vec<u8>, u32, u64)> {
    let entries = zip::read(&mut File::open(path).unwrap()).unwrap();
    let all = entries.into_iter().map(|entry| (entry.name, entry.packed.crc32, entry.packed.compressed_len));
    all.filter(|(name, ..)| !name.starts_with(b"META-INF/")).collect()
}

#[test]
fn packages_of_others_are_signed_again() {
    let folder = std::env::var_os("LANTERN_REAL_FILES").expect("LANTERN_REAL_FILES is the folder with them");
    let to = PathBuf::from(std::env::var_os("LANTERN_SIGNED_FILES").expect("LANTERN_SIGNED_FILES is where they go"));
    let mut found = Vec::new();
    packages(Path::new(&folder), &mut found);
    found.sort();
    assert!(found.len() >= 5, "{found:?}");
    let now = "2026-11-28T12:00:00Z".parse().unwrap();
    let subject = certificate::name_of_studio("Paper Heron");
    let (mut signed, mut stamped) = (0, 0);
    for algorithm in [Algorithm::P256, Algorithm::Rsa(3072), Algorithm::Rsa(4096)] {
        let key = make(algorithm, &subject, 30, now).unwrap();
        for (number, path) in found.iter().enumerate() {
            let at = to.join(format!("{number}-{}.apk", algorithm.to_string().replace(' ', "-")));
            let open = || File::open(path);
            // One of three keys signs what was stamped.
            let edits = match algorithm {
                Algorithm::P256 => match stamp::package(&open, &stamp()) {
                    Ok(edits) => edits,
                    // One of them is for tests alone, and has no number.
                    Err(SignError::Refused { what, .. }) if what.contains("no versionCode") => Edits::new(),
                    Err(other) => panic!("{path:?}: {other}"),
                },
                Algorithm::Rsa(_) => Edits::new(),
            };
            match apk::sign((&open, &edits), &at, &key, None, &Silent) {
                Ok(_) => {
                    let schemes = reader::verify(&|| File::open(&at)).unwrap();
                    assert!(schemes.iter().all(|scheme| scheme.wrong.is_none()), "{path:?}: {schemes:?}");
                    let others = |path: &Path| {
                        let is_other =
                            |(name, ..): &(Vec<u8>, u32, u64)| edits.is_empty() || name != MANIFEST.as_bytes();
                        kept(path).into_iter().filter(is_other).collect::<Vec<_>>()
                    };
                    assert_eq!(others(&at), others(path), "{path:?}");
                    if let Some(bytes) = edits.get(MANIFEST) {
                        let after = Manifest::read(bytes).unwrap();
                        assert_eq!((after.version_name.as_deref(), after.version_code), (Some("1.4.0-ó"), Some(27)));
                        stamped += 1;
                    }
                    signed += 1;
                }
                // Two of them are for systems that know only SHA-1.
                Err(SignError::Refused { what, .. }) => {
                    assert!(what.contains("SHA-1"), "{path:?}: {what}");
                    std::fs::remove_file(&at).unwrap_or_default();
                }
                Err(other) => panic!("{path:?}: {other}"),
            }
            // As an archive of Java, which every package is, too.
            let at = to.join(format!("{number}-{}.jar", algorithm.to_string().replace(' ', "-")));
            bundle_jar::sign(&open, &Edits::new(), &at, &key, &Silent).unwrap();
        }
    }
    assert!(signed >= 9 && stamped >= 2, "{signed} {stamped}");
}
