//! Keys and certificates for tests, made anew in every run.

use aws_lc_rs::encoding::AsDer;
use aws_lc_rs::rand::SystemRandom;
use sha2::{Digest, Sha256};
use x509_cert::der::Encode;
use x509_cert::der::asn1::ObjectIdentifier;

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

    /// A signed message about `covered`, of a kind; what is to stand in it, and what stands beside the signature, as DER.
    pub fn message(&self, kind: &str, embedded: Option<&[u8]>, covered: &[u8], unsigned: Unsigned<'_>) -> Vec<u8> {
        let sha256 = der(0x30, &[&oid("2.16.840.1.101.3.4.2.1")]);
        let mut attributes = [
            attribute("1.2.840.113549.1.9.3", &oid(kind)),
            attribute("1.2.840.113549.1.9.4", &der(0x04, &[&Sha256::digest(covered)])),
        ];
        // DER orders the members of a set by their bytes.
        attributes.sort();
        let attributes = attributes.concat();
        let signature = self.sign(&der(0x31, &[&attributes]));
        let unsigned = unsigned(&signature).map(|attribute| der(0xa1, &[&attribute])).unwrap_or_default();
        let algorithm = der(0x30, &[&oid("1.2.840.10045.4.3.2")]);
        let who = der(0x30, &[&self.name, &[2, 1, 1]]);
        let signature = der(0x04, &[&signature]);
        let signer =
            der(0x30, &[&[2, 1, 1], &who, &sha256, &der(0xa0, &[&attributes]), &algorithm, &signature, &unsigned]);
        let embedded = embedded.map(|content| der(0xa0, &[content])).unwrap_or_default();
        let inner = der(0x30, &[&oid(kind), &embedded]);
        let certificates = der(0xa0, &[&self.certificate]);
        let data = der(0x30, &[&[2, 1, 1], &der(0x31, &[&sha256]), &inner, &certificates, &der(0x31, &[&signer])]);
        der(0x30, &[&oid("1.2.840.113549.1.7.2"), &der(0xa0, &[&data])])
    }
}

/// Makes the attribute that stands beside a signature, or none.
pub type Unsigned<'a> = &'a dyn Fn(&[u8]) -> Option<Vec<u8>>;

/// Nothing beside the signature.
pub fn plain(_: &[u8]) -> Option<Vec<u8>> {
    None
}

pub fn oid(text: &str) -> Vec<u8> {
    ObjectIdentifier::new_unwrap(text).to_der().unwrap()
}

pub fn attribute(name: &str, value: &[u8]) -> Vec<u8> {
    der(0x30, &[&oid(name), &der(0x31, &[value])])
}
