//! Signs a package with a key from a file, for `scripts/bench-sign.sh`: `sign FROM TO KEY.p12`, with the passphrase in the variable
//! `LANTERN_KEY_PASSPHRASE`. Prints the time that it took and the most memory.

use std::fs::File;
use std::path::Path;
use std::time::Instant;

use lantern_core::progress::Silent;
use lantern_formats::hash::Hash;
use lantern_keys::key::{Algorithm, Signer};
use lantern_keys::pkcs12::Entry;
use lantern_keys::{KeyError, Passphrase, pkcs12};
use lantern_sign::apk;

#[derive(Debug)]
struct Own(Entry);

impl Signer for Own {
    fn algorithm(&self) -> Algorithm {
        self.0.key.algorithm()
    }
    fn chain(&self) -> &[Vec<u8>] {
        &self.0.chain
    }
    fn sign(&self, hash: Hash, message: &[u8]) -> Result<Vec<u8>, KeyError> {
        self.0.key.sign(hash, message)
    }
}

#[expect(clippy::print_stdout, reason = "it is for reading")]
fn main() -> Result<(), Box<dyn std::error::Error>> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [from, to, key] = arguments.as_slice() else { return Err("sign FROM TO KEY.p12".into()) };
    let passphrase = Passphrase::new(std::env::var("LANTERN_KEY_PASSPHRASE")?);
    let entry = pkcs12::read(&std::fs::read(key)?, &passphrase)?.remove(0);
    let begun = Instant::now();
    let signed = apk::sign(&|| File::open(from), Path::new(to), &Own(entry), &Silent)?;
    println!("{:.2} {:?}", begun.elapsed().as_secs_f64(), signed.schemes);
    Ok(())
}
