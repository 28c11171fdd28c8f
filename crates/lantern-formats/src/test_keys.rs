//! Keys and certificates for tests, made anew in every run.

use aws_lc_rs::encoding::AsDer;
use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{ECDSA_P256_SHA256_ASN1_SIGNING, EcdsaKeyPair, KeyPair};

/// A key with a certificate that nobody trusts.
pub struct Key {
    pub pair: EcdsaKeyPair,
    /// As X.509 writes it.
    pub public: Vec<u8>,
    pub certificate: Vec<u8>,
    /// The name of the certificate's subject, which is its issuer, too.
    pub name: Vec<u8>,
}

pub fn der(tag: u8, parts: &[&[u8]]) -> Vec<u8> {
    let content = parts.concat();
    let len = content.len();
    let head = match len {
        0..=127 => vec![tag, len as u8],
        128..=255 => vec![tag, 0x81, len as u8],
        _ => vec![tag, 0x82, (len >> 8) as u8, len as u8],
    };
    [head, content].concat()
}

impl Key {
    /// A fresh key with a certificate that says this name.
    pub fn new(name: &str) -> Self {
        let document = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_ASN1_SIGNING, &SystemRandom::new()).unwrap();
        let pair = EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_ASN1_SIGNING, document.as_ref()).unwrap();
        let public = pair.public_key().as_der().unwrap().as_ref().to_vec();
        let algorithm = der(0x30, &[&[6, 8, 0x2a, 0x86, 0x48, 0xce, 0x3d, 4, 3, 2]]);
        let common_name = der(0x30, &[&[6, 3, 0x55, 4, 3], &der(0x0c, &[name.as_bytes()])]);
        let name = der(0x30, &[&der(0x31, &[&common_name])]);
        let time = der(0x17, &[b"261123120000Z"]);
        let validity = der(0x30, &[&time, &time]);
        let body = der(0x30, &[&[0xa0, 3, 2, 1, 2, 2, 1, 1], &algorithm, &name, &validity, &name, &public]);
        // Nobody looks at the certificate's own signature: the key in it is what counts.
        let certificate = der(0x30, &[&body, &algorithm, &[3, 2, 0, 0]]);
        Self { pair, public, certificate, name }
    }

    pub fn sign(&self, message: &[u8]) -> Vec<u8> {
        self.pair.sign(&SystemRandom::new(), message).unwrap().as_ref().to_vec()
    }
}
