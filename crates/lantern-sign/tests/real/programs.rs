//! Windows programs that others have made, signed and not: signed with our keys and stamped, and left in a folder for a verifier that
//! shares nothing with us.

use std::fs::File;
use std::path::{Path, PathBuf};

use lantern_core::progress::Silent;
use lantern_formats::pe::{self as reader, Details, Pe};
use lantern_keys::certificate;
use lantern_keys::key::Algorithm;
use lantern_keys::keyring::make;
use lantern_sign::pe::{self, Description, Signing};
use lantern_sign::stamp::Stamp;
use lantern_sign::stamp::program::{self, Patches};

fn programs(folder: &Path, out: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap().map(Result::unwrap) {
        let path = entry.path();
        if path.is_dir() {
            programs(&path, out);
        } else if path
            .extension()
            .is_some_and(|ending| ["exe", "dll", "pyd", "node"].iter().any(|known| ending == *known))
            && Pe::read(&mut File::open(&path).unwrap()).is_ok()
        {
            out.push(path);
        }
    }
}

fn read(path: &Path) -> (Details, Option<reader::Signed>) {
    let mut file = File::open(path).unwrap();
    let details = Details::read(&mut file).unwrap();
    let signed = reader::verify(&mut file, &details).unwrap();
    (details, signed)
}

#[test]
fn programs_of_others_are_signed_again() {
    let folder = std::env::var_os("LANTERN_REAL_FILES").expect("LANTERN_REAL_FILES is the folder with them");
    let to = PathBuf::from(std::env::var_os("LANTERN_SIGNED_FILES").expect("LANTERN_SIGNED_FILES is where they go"));
    let mut found = Vec::new();
    programs(Path::new(&folder), &mut found);
    found.sort();
    assert!(found.len() >= 40, "{found:?}");
    let now = "2026-11-28T12:00:00Z".parse().unwrap();
    let keys = [Algorithm::P256, Algorithm::Rsa(3072)]
        .map(|algorithm| make(algorithm, &certificate::name_of_studio("Paper Heron"), 30, now).unwrap());
    let about = Description { name: "Saltmarsh Post".to_owned(), address: None };
    let stamp = Stamp { version: "1.4.0".to_owned(), number: 1042 };
    let (mut machines, mut were_signed, mut were_stamped) = (Vec::new(), 0, 0);
    for (number, path) in found.iter().enumerate() {
        let key = &keys[number % 2];
        let (before, signed) = read(path);
        were_signed += usize::from(signed.is_some_and(|signed| signed.signer.wrong.is_none()));
        let machine = Pe::read(&mut File::open(path).unwrap()).unwrap().machine;
        let machine = format!("{machine:?}");
        let open = || File::open(path);
        // Every other one is stamped, where it has a version resource with room.
        let patches = match number % 4 < 2 {
            true => program::program(&open, &stamp).unwrap_or_default(),
            false => Patches::default(),
        };
        let at = to.join(format!("{number}.exe"));
        pe::sign(&open, &patches, &at, &Signing { signer: key, about: &about, authority: None }, &Silent)
            .unwrap_or_else(|error| panic!("{}: {error}", path.display()));
        let (after, signed) = read(&at);
        let signed = signed.unwrap();
        assert_eq!((signed.signer.wrong, signed.others.len()), (None, 0), "{}", path.display());
        assert_eq!(signed.signer.certificate, key.chain[0]);
        let is_stamped = !patches.is_empty();
        were_stamped += usize::from(is_stamped);
        // Nothing else that we read changed.
        let mut as_before = after.clone();
        as_before.signature = before.signature;
        if is_stamped {
            as_before.version.clone_from(&before.version);
        }
        assert_eq!(as_before, before, "{}", path.display());
        if is_stamped {
            std::fs::write(at.with_extension("stamped"), path.to_str().unwrap()).unwrap();
        }
        std::fs::write(at.with_extension("from"), path.to_str().unwrap()).unwrap();
        if !machines.contains(&machine) {
            machines.push(machine);
        }
    }
    for machine in ["X86", "X86_64", "Aarch64"] {
        assert!(machines.iter().any(|known| known == machine), "{machine} of {machines:?}");
    }
    assert!(were_signed >= 15 && were_stamped >= 5, "{were_signed} signed, {were_stamped} stamped");
}
