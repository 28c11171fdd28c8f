//! Signing Windows programs.

use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::LazyLock;

use lantern_core::progress::Silent;
use lantern_formats::pe::{self as reader, Details};
use lantern_keys::certificate::Purpose;
use lantern_keys::key::{Algorithm, PrivateKey, Signer};
use lantern_keys::keyring;
use lantern_keys::pkcs12::Entry;
use lantern_rehearsal::exports::{GameVersion, windows_program_with_version};
use lantern_sign::pe::{Description, Signing};
use lantern_sign::stamp::Stamp;
use lantern_sign::stamp::program::{self, Patches};
use lantern_sign::time_stamp::{self, Authority, StampError, Unreachable};
use lantern_sign::{SignError, authority, pe};
use proptest::prelude::*;

use crate::scene::{Folder, p256, rsa};

/// The example's program.
pub fn example(folder: &Folder) -> PathBuf {
    let path = folder.path("Saltmarsh Post.exe");
    fs::write(&path, windows_program_with_version(GameVersion::Old)).unwrap();
    path
}

fn about() -> Description {
    Description { name: "Saltmarsh Post".to_owned(), address: Some("https://paperheron.example".to_owned()) }
}

pub fn sign_with(
    from: &Path,
    to: &Path,
    signer: &dyn Signer,
    patches: &Patches,
    authority: Option<&dyn Authority>,
) -> Result<(), SignError> {
    let how = Signing { signer, about: &about(), authority };
    pe::sign(&|| File::open(from), patches, to, &how, &Silent)
}

pub fn sign(from: &Path, to: &Path, signer: &dyn Signer) -> Result<(), SignError> {
    sign_with(from, to, signer, &Patches::default(), None)
}

/// What the reader says of a program: who signed, if it holds.
pub fn verified(path: &Path) -> Result<Option<reader::Signed>, String> {
    let mut file = File::open(path).unwrap();
    let details = Details::read(&mut file).map_err(|error| error.to_string())?;
    let found = reader::verify(&mut file, &details).map_err(|error| error.to_string())?;
    match found.as_ref().and_then(|found| found.signer.wrong.clone()) {
        Some(wrong) => Err(wrong),
        None => Ok(found),
    }
}

/// An authority of our own, which may be asked to lie.
#[derive(Debug)]
pub struct Clock {
    pub key: Entry,
    lie: fn(&mut Vec<u8>, &[u8]) -> Option<Vec<u8>>,
}

impl Clock {
    pub fn new(lie: fn(&mut Vec<u8>, &[u8]) -> Option<Vec<u8>>) -> Self {
        Self { key: clock(Purpose::TimeStamps), lie }
    }

    pub fn honest() -> Self {
        Self::new(|_, _| None)
    }
}

fn clock(purpose: Purpose) -> Entry {
    let key = PrivateKey::generate(Algorithm::P256).unwrap();
    let name = lantern_keys::certificate::name_of_text("CN=Noon Gun").unwrap();
    keyring::with_certificate(key, &name, purpose, 10, "2026-01-01T00:00:00Z".parse().unwrap(), [7; 16]).unwrap()
}

impl Authority for Clock {
    fn name(&self) -> String {
        "http://noon-gun.example".to_owned()
    }

    fn ask(&self, request: &[u8]) -> Result<Vec<u8>, Unreachable> {
        let mut request = request.to_vec();
        if let Some(answer) = (self.lie)(&mut request, b"") {
            return Ok(answer);
        }
        let at = "2026-11-28T12:00:00Z".parse().unwrap();
        Ok(authority::answer(&request, &self.key, at, 1).unwrap())
    }
}

#[test]
fn what_is_signed_holds_and_says_who() {
    let folder = Folder::new();
    let (from, to) = (example(&folder), folder.path("signed.exe"));
    for signer in [rsa(), p256()] {
        sign(&from, &to, &signer).unwrap();
        let found = verified(&to).unwrap().unwrap();
        assert_eq!(&found.signer.certificate, signer.chain().first().unwrap());
        assert_eq!((found.others.len(), found.signer.stamped), (0, None));
        // The same key and program give the same bytes, and signing again changes nothing.
        let (once, again) = (fs::read(&to).unwrap(), folder.path("again.exe"));
        assert_eq!(once.len() % 8, 0);
        sign(&to, &again, &signer).unwrap();
        assert!(once == fs::read(&again).unwrap(), "signing twice is signing once");
    }
    // Another key replaces the first.
    assert_eq!(verified(&to).unwrap().unwrap().signer.certificate, p256().chain()[0]);
}

/// Whatever its length is, and whatever lies behind its sections.
#[test]
fn data_behind_a_program_is_covered() {
    let folder = Folder::new();
    let (from, to) = (example(&folder), folder.path("signed.exe"));
    let plain = fs::read(&from).unwrap();
    for more in [0, 1, 7, 8, 9, 300_001] {
        let longer = [plain.clone(), vec![0x5a; more]].concat();
        fs::write(&from, &longer).unwrap();
        sign(&from, &to, &p256()).unwrap();
        let signed = fs::read(&to).unwrap();
        verified(&to).unwrap().unwrap();
        let (checksum, entry) = (0x80 + 24 + 64, 0x80 + 24 + 112 + 32);
        for (at, byte) in longer.iter().enumerate() {
            let is_own = (checksum..checksum + 4).contains(&at) || (entry..entry + 8).contains(&at);
            assert!(is_own || signed[at] == *byte, "byte {at}");
        }
        if more > 0 {
            let mut changed = signed;
            changed[plain.len()] ^= 1;
            fs::write(&to, changed).unwrap();
            assert!(verified(&to).unwrap_err().contains("changed"));
        }
    }
}

#[test]
fn any_changed_byte_is_noticed() {
    let folder = Folder::new();
    let (from, to) = (example(&folder), folder.path("signed.exe"));
    sign_with(&from, &to, &p256(), &Patches::default(), Some(&Clock::honest())).unwrap();
    let signed = fs::read(&to).unwrap();
    let table = fs::metadata(&from).unwrap().len() as usize;
    let (checksum, entry) = (0x80 + 24 + 64, 0x80 + 24 + 112 + 32);
    let holds = |bytes: &[u8]| {
        let mut file = io::Cursor::new(bytes);
        let seen = Details::read(&mut file).ok().and_then(|details| reader::verify(&mut file, &details).ok().flatten());
        seen.is_some_and(|seen| seen.signer.wrong.is_none() && seen.signer.unverified.is_empty())
    };
    assert!(holds(&signed));
    let message_len = {
        let len = u16::from_be_bytes([signed[table + 10], signed[table + 11]]);
        usize::from(len) + 4
    };
    let mut missed = Vec::new();
    // All of the table, and every fifth byte before it.
    for at in (0..table).step_by(5).chain(table..signed.len()) {
        let is_stated = (checksum..checksum + 4).contains(&at)
            || (entry..entry + 8).contains(&at)
            || (table..table + 4).contains(&at)
            || at >= table + 8 + message_len;
        let mut changed = signed.clone();
        changed[at] ^= 1;
        if holds(&changed) && !is_stated {
            missed.push(at - table.min(at));
        }
    }
    assert_eq!(missed, Vec::<usize>::new(), "of the table, which begins at {table}");
}

#[test]
fn what_cannot_be_signed_is_refused_and_says_why() {
    let folder = Folder::new();
    let (from, to) = (example(&folder), folder.path("signed.exe"));
    let (plain, key) = (fs::read(&from).unwrap(), p256());
    let why = |bytes: &[u8]| {
        fs::write(&from, bytes).unwrap();
        sign(&from, &to, &key).unwrap_err().to_string()
    };
    for len in (0..0x80 + 24 + 240).step_by(3) {
        assert!(!why(&plain[..len]).is_empty(), "{len}");
    }
    assert!(why(b"a letter that is no program, and long enough to have a head of 64 bytes").contains("no program"));
    let mut without = plain.clone();
    without[0x80 + 24 + 108] = 4;
    assert!(why(&without).contains("no place for a signature"));
    fs::write(&from, &plain).unwrap();
    sign(&from, &to, &p256()).unwrap();
    let behind = [fs::read(&to).unwrap(), b"hidden".to_vec()].concat();
    assert!(why(&behind).contains("not at its end"));
    // A table that says to lie in the head.
    let mut inside = plain;
    inside[0x80 + 24 + 112 + 32] = 4;
    inside[0x80 + 24 + 112 + 36] = 8;
    assert!(why(&inside).contains("not at its end"));
}

#[test]
fn a_time_stamp_is_kept_with_the_signature() {
    let folder = Folder::new();
    let (from, to) = (example(&folder), folder.path("signed.exe"));
    sign_with(&from, &to, &rsa(), &Patches::default(), Some(&Clock::honest())).unwrap();
    let found = verified(&to).unwrap().unwrap().signer;
    assert_eq!(
        (found.stamped, &found.stamped_by[..]),
        (Some(1_795_867_200), &["Noon Gun".to_owned(), "Noon Gun".to_owned()][..])
    );
}

#[test]
fn each_lie_of_an_authority_has_its_own_words() {
    let said = |lie: fn(&mut Vec<u8>, &[u8]) -> Option<Vec<u8>>| {
        time_stamp::of(b"a signature", &Clock::new(lie), [1, 2, 3, 4, 5, 6, 7, 8]).unwrap_err().to_string()
    };
    let nothing = said(|_, _| Some(b"<html>".to_vec()));
    assert!(nothing.contains("no answer to a request for a time stamp"), "{nothing}");
    let refused = said(|_, _| Some(vec![0x30, 9, 0x30, 7, 2, 1, 2, 3, 2, 2, 4]));
    assert!(refused.contains("refused: the request could not be read"), "{refused}");
    let silent = said(|_, _| Some(vec![0x30, 5, 0x30, 3, 2, 1, 2]));
    assert!(silent.contains("refused: it did not say why"), "{silent}");
    // Another number, or another digest, than was asked for.
    let nonce = said(|request, _| {
        let at = request.windows(8).position(|w| w == [1, 2, 3, 4, 5, 6, 7, 8]).unwrap();
        request[at] = 9;
        None
    });
    assert!(nonce.contains("its nonce differs"), "{nonce}");
    let other = said(|request, _| {
        request[30] ^= 1;
        None
    });
    assert!(other.contains("of another signature"), "{other}");
    let nobody = Clock { key: clock(Purpose::Code), lie: |_, _| None };
    let nobody = time_stamp::of(b"a signature", &nobody, [1; 8]).unwrap_err().to_string();
    assert!(nobody.contains("not one for time stamps"), "{nobody}");

    #[derive(Debug)]
    struct Away;
    impl Authority for Away {
        fn name(&self) -> String {
            "http://noon-gun.example".to_owned()
        }
        fn ask(&self, _: &[u8]) -> Result<Vec<u8>, Unreachable> {
            Err(Unreachable { why: "nobody answers".to_owned(), is_stopped: false })
        }
    }
    let away = time_stamp::of(b"a signature", &Away, [1; 8]).unwrap_err();
    assert!(matches!(away, StampError::Unreachable { .. }), "{away}");
    // A nonce that begins with zeros is the same number.
    time_stamp::of(b"a signature", &Clock::honest(), [0, 0, 3, 4, 5, 6, 7, 8]).unwrap();
}

#[test]
fn a_stamp_fits_or_moves_behind_the_last_resource() {
    let folder = Folder::new();
    let (from, to) = (example(&folder), folder.path("signed.exe"));
    for (version, number) in [("1.4.0", 2), ("1.4.0", 1042), ("2026.11.28-a-rather-long-name.7", u32::MAX)] {
        let stamp = Stamp { version: version.to_owned(), number };
        let patches = program::program(&|| File::open(&from), &stamp).unwrap();
        assert!(!patches.is_empty());
        sign_with(&from, &to, &p256(), &patches, None).unwrap();
        verified(&to).unwrap().unwrap();
        let says = Details::read(&mut File::open(&to).unwrap()).unwrap().version.unwrap();
        assert_eq!((says.text("ProductVersion"), says.text("CompanyName")), (Some(version), Some("Paper Heron")));
        assert!(says.text("FileVersion").unwrap().ends_with(&format!(".{number}")));
        assert_eq!(says.file.unwrap()[3], u16::try_from(number).unwrap_or(0));
        // Once it says so, nothing changes any more.
        assert!(program::program(&|| File::open(&to), &stamp).unwrap().is_empty());
    }
    let long = Stamp { version: format!("1.4.0-{}", "x".repeat(600)), number: 1 };
    let none = program::program(&|| File::open(&from), &long).unwrap_err().to_string();
    assert!(none.contains("no room"), "{none}");
}

/// Opening a file of keys takes longer than signing with one.
static KEY: LazyLock<Entry> = LazyLock::new(p256);

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    /// Whatever a program looks like, it is signed so that the reader takes it, or refused; nothing else.
    #[test]
    fn hostile_programs_are_signed_rightly_or_refused(
        changes in prop::collection::vec((0_usize..1700, any::<u8>()), 1..6),
        len in prop::option::of(0_usize..3000),
        is_stamped: bool,
    ) {
        let folder = Folder::new();
        let (from, to) = (folder.path("hostile.exe"), folder.path("signed.exe"));
        let mut program = windows_program_with_version(GameVersion::Old);
        for (at, value) in changes {
            program[at] = value;
        }
        program.truncate(len.unwrap_or(usize::MAX));
        fs::write(&from, &program).unwrap();
        let stamp = Stamp { version: "1.4.0".to_owned(), number: 27 };
        let patches = if is_stamped { program::program(&|| File::open(&from), &stamp) } else { Ok(Patches::default()) };
        let Ok(patches) = patches else { return Ok(()) };
        if sign_with(&from, &to, &*KEY, &patches, None).is_ok() {
            prop_assert!(verified(&to).unwrap().is_some());
        }
        prop_assert_eq!(fs::read(&from).unwrap(), program, "the original is never touched");
    }
}
