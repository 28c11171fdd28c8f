//! Signs a package or a program with a key from a file, for `scripts/bench-sign.sh`, `scripts/bench-programs.sh` and
//! `scripts/bench-code.sh`: `sign FROM TO KEY.p12`, with the passphrase in the variable `LANTERN_KEY_PASSPHRASE`. Prints the time that it took, and that of verifying
//! alone, which is hashing.

use std::fs::File;
use std::path::Path;
use std::time::Instant;

use lantern_core::progress::Silent;
use lantern_formats::bundle::verify_code;
use lantern_formats::macho::{Details, MachO};
use lantern_formats::{apk as reader, pe as programs};
use lantern_keys::{Passphrase, pkcs12};
use lantern_sign::macho::{self, By, Code};
use lantern_sign::pe::{Description, Signing};
use lantern_sign::stamp::Edits;
use lantern_sign::stamp::program::Patches;
use lantern_sign::{apk, pe};

#[expect(clippy::print_stdout, reason = "it is for reading")]
fn main() -> Result<(), Box<dyn std::error::Error>> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [from, to, key] = arguments.as_slice() else { return Err("sign FROM TO KEY.p12".into()) };
    let passphrase = Passphrase::new(std::env::var("LANTERN_KEY_PASSPHRASE")?);
    let entry = pkcs12::read(&std::fs::read(key)?, &passphrase)?.remove(0);
    if MachO::read(&mut File::open(from)?).is_ok() {
        let begun = Instant::now();
        let code = Code { identifier: "example.paperheron.saltmarsh", is_hardened: true, ..Code::default() };
        macho::sign(Path::new(from), Path::new(to), &code, Some(By { signer: &entry, authority: None }), &Silent)?;
        let took = begun.elapsed().as_secs_f64();
        let begun = Instant::now();
        let mut file = File::open(to)?;
        let details = Details::read(&mut file)?;
        let verdict = verify_code(&mut file, &details, &[])?;
        assert!(verdict.is_some_and(|verdict| verdict.wrong.is_none()));
        println!("{took:.2} {:.2}", begun.elapsed().as_secs_f64());
        return Ok(());
    }
    if !from.to_ascii_lowercase().ends_with(".apk") {
        let begun = Instant::now();
        let how = Signing { signer: &entry, about: &Description::default(), authority: None };
        pe::sign(&|| File::open(from), &Patches::default(), Path::new(to), &how, &Silent)?;
        let took = begun.elapsed().as_secs_f64();
        let begun = Instant::now();
        let mut file = File::open(to)?;
        let signed = programs::verify(&mut file, &programs::Details::read(&mut File::open(to)?)?)?;
        assert!(signed.is_some_and(|signed| signed.signer.wrong.is_none()));
        println!("{took:.2} {:.2}", begun.elapsed().as_secs_f64());
        return Ok(());
    }
    let begun = Instant::now();
    let signed = apk::sign((&|| File::open(from), &Edits::new()), Path::new(to), &entry, None, &Silent)?;
    let took = begun.elapsed().as_secs_f64();
    let begun = Instant::now();
    let whole = reader::verify(&|| File::open(to))?;
    let digests = begun.elapsed().as_secs_f64();
    assert!(whole.iter().all(|scheme| scheme.wrong.is_none()));
    println!("{took:.2} {digests:.2} {:?}", signed.schemes);
    Ok(())
}
