//! Our files, as `openssl` reads them.

use std::path::Path;
use std::process::Command;

use lantern_keys::key::Algorithm;
use lantern_keys::pkcs12::Entry;
use lantern_keys::{certificate, keyring, pem, pkcs12};

use crate::files::{PASSPHRASE, passphrase};

fn openssl(arguments: &[&str], from: &Path) -> String {
    let output = Command::new("openssl").args(arguments).arg("-in").arg(from).output().expect("openssl is there");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap() + &String::from_utf8(output.stderr).unwrap()
}

#[test]
fn openssl_reads_what_we_write() {
    let folder = tempfile::tempdir().unwrap();
    let at = "2026-11-28T12:00:00Z".parse().unwrap();
    for algorithm in [Algorithm::P256, Algorithm::Rsa(3072)] {
        let subject = certificate::name_of_studio("Paper Heron, \"Oar\" & Słony+=");
        let entry =
            Entry { alias: "saltmarsh-mobile".to_owned(), ..keyring::make(algorithm, &subject, 30, at).unwrap() };
        let file = folder.path().join("key.p12");
        std::fs::write(&file, &*pkcs12::write(&entry, &passphrase(), pkcs12::ROUNDS).unwrap()).unwrap();
        let pass = format!("pass:{PASSPHRASE}");
        let shown = openssl(&["pkcs12", "-info", "-nodes", "-passin", &pass], &file);
        for part in [
            "MAC: sha256, Iteration 600000",
            "PBES2, PBKDF2, AES-256-CBC, Iteration 600000, PRF hmacWithSHA256",
            "friendlyName: saltmarsh-mobile",
            "BEGIN PRIVATE KEY",
            "BEGIN CERTIFICATE",
        ] {
            assert!(shown.contains(part), "{part}: {shown}");
        }
        let certificate = folder.path().join("own.crt");
        std::fs::write(&certificate, pem::write("CERTIFICATE", &entry.chain[0])).unwrap();
        let text = openssl(&["x509", "-noout", "-text", "-nameopt", "RFC2253,utf8,-esc_msb"], &certificate);
        for part in [
            "Version: 3",
            "Not After : Nov 28 12:00:00 2056 GMT",
            "Digital Signature",
            "Code Signing",
            "CA:FALSE",
            "Słony",
        ] {
            assert!(text.contains(part), "{part}: {text}");
        }
        let verified = Command::new("openssl")
            .args(["verify", "-check_ss_sig", "-CAfile"])
            .args([&certificate, &certificate])
            .output()
            .unwrap();
        assert!(verified.status.success(), "{verified:?}");
    }
}
