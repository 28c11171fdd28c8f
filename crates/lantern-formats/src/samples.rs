//! Signed things for tests: keys and certificates that are made again in every run, and what they sign.

#![allow(missing_docs, clippy::unwrap_used)]

use std::io::Cursor;

use aws_lc_rs::encoding::AsDer;
use aws_lc_rs::rand::SystemRandom;
use sha2::{Digest, Sha256};
use x509_cert::der::Encode;
use x509_cert::der::asn1::ObjectIdentifier;

use crate::zip::Method;
use crate::zip::write::ZipWriter;

use aws_lc_rs::signature::{ECDSA_P256_SHA256_ASN1_SIGNING, EcdsaKeyPair, KeyPair};

/// A key with a certificate that nobody trusts.
pub struct Key {
    pub pair: EcdsaKeyPair,
    /// As X.509 writes it.
    pub public: Vec<u8>,
    pub certificate: Vec<u8>,
    /// The name of the certificate's subject.
    pub name: Vec<u8>,
    /// The name of who issued the certificate.
    pub issuer: Vec<u8>,
    /// Certificates above it that go into its messages.
    pub above: Vec<Vec<u8>>,
}

/// For whom a certificate is: an extension with one purpose.
fn purpose(oid: &[u8]) -> Vec<u8> {
    let extension = der(0x30, &[&[6, 3, 0x55, 0x1d, 0x25], &der(0x04, &[&der(0x30, &[oid])])]);
    der(0xa3, &[&der(0x30, &[&extension])])
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
        Self::of(name, None, None)
    }

    /// One for time stamps.
    pub fn clock(name: &str) -> Self {
        Self::of(name, None, Some("1.3.6.1.5.5.7.3.8"))
    }

    /// A fresh key whose certificate is issued by another key.
    pub fn below(above: &Self, name: &str) -> Self {
        Self::of(name, Some(above), None)
    }

    fn of(name: &str, above: Option<&Self>, for_what: Option<&str>) -> Self {
        let document = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_ASN1_SIGNING, &SystemRandom::new()).unwrap();
        let pair = EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_ASN1_SIGNING, document.as_ref()).unwrap();
        let public = pair.public_key().as_der().unwrap().as_ref().to_vec();
        let algorithm = der(0x30, &[&[6, 8, 0x2a, 0x86, 0x48, 0xce, 0x3d, 4, 3, 2]]);
        let common_name = der(0x30, &[&[6, 3, 0x55, 4, 3], &der(0x0c, &[name.as_bytes()])]);
        let name = der(0x30, &[&der(0x31, &[&common_name])]);
        let validity = der(0x30, &[&der(0x17, &[b"261123000000Z"]), &der(0x17, &[b"261124000000Z"])]);
        let issuer = above.map_or_else(|| name.clone(), |above| above.name.clone());
        let purpose = for_what.map(|what| purpose(&oid(what))).unwrap_or_default();
        let head = [0xa0, 3, 2, 1, 2, 2, 1, 1];
        let body = der(0x30, &[&head, &algorithm, &issuer, &validity, &name, &public, &purpose]);
        let signature = above.map_or(&pair, |above| &above.pair).sign(&SystemRandom::new(), &body).unwrap();
        let certificate = der(0x30, &[&body, &algorithm, &der(0x03, &[&[0], signature.as_ref()])]);
        let above = above.map(|above| [vec![above.certificate.clone()], above.above.clone()].concat());
        Self { pair, public, certificate, name, issuer, above: above.unwrap_or_default() }
    }

    pub fn sign(&self, message: &[u8]) -> Vec<u8> {
        self.pair.sign(&SystemRandom::new(), message).unwrap().as_ref().to_vec()
    }

    /// A signed message about `covered`, of a kind; what is to stand in it, and what stands next to the signature, as DER.
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
        let who = der(0x30, &[&self.issuer, &[2, 1, 1]]);
        let signature = der(0x04, &[&signature]);
        let signer =
            der(0x30, &[&[2, 1, 1], &who, &sha256, &der(0xa0, &[&attributes]), &algorithm, &signature, &unsigned]);
        let embedded = embedded.map(|content| der(0xa0, &[content])).unwrap_or_default();
        let inner = der(0x30, &[&oid(kind), &embedded]);
        let certificates = der(0xa0, &[&self.certificate, &self.above.concat()]);
        let data = der(0x30, &[&[2, 1, 1], &der(0x31, &[&sha256]), &inner, &certificates, &der(0x31, &[&signer])]);
        der(0x30, &[&oid("1.2.840.113549.1.7.2"), &der(0xa0, &[&data])])
    }
}

/// Makes the attribute that stands beside a signature, or none.
pub type Unsigned<'a> = &'a dyn Fn(&[u8]) -> Option<Vec<u8>>;

/// Nothing next to the signature.
pub fn plain(_: &[u8]) -> Option<Vec<u8>> {
    None
}

pub fn oid(text: &str) -> Vec<u8> {
    ObjectIdentifier::new_unwrap(text).to_der().unwrap()
}

pub fn attribute(name: &str, value: &[u8]) -> Vec<u8> {
    der(0x30, &[&oid(name), &der(0x31, &[value])])
}

/// Keeps a sample as a start for fuzzing, where `LANTERN_SEEDS` names a folder for it.
pub fn seed(target: &str, name: &str, bytes: &[u8]) {
    let Some(folder) = std::env::var_os("LANTERN_SEEDS") else { return };
    let folder = std::path::Path::new(&folder).join(target);
    std::fs::create_dir_all(&folder).unwrap();
    std::fs::write(folder.join(name), bytes).unwrap();
}

/// A program for macOS or iOS with a signature.
pub struct MacProgram<'a> {
    /// Bytes before the signature.
    pub code: usize,
    /// 2: ad hoc, 0x10000: hardened.
    pub flags: u32,
    pub identifier: &'a str,
    pub team: &'a str,
    /// What lies beside it in its bundle, with empty bytes for nothing.
    pub info: &'a [u8],
    pub seal: &'a [u8],
    pub entitlements: &'a [u8],
    pub entitlements_der: &'a [u8],
}

impl Default for MacProgram<'_> {
    fn default() -> Self {
        Self {
            code: 10_000,
            flags: 0,
            identifier: "example.paperheron.saltmarsh",
            team: "HERON12345",
            info: b"the property list",
            seal: b"",
            entitlements: b"<plist><dict><key>get-task-allow</key><true/></dict></plist>",
            entitlements_der: b"",
        }
    }
}

impl MacProgram<'_> {
    /// The program, with the message that `sign` makes about its list of hashes.
    pub fn signed(&self, sign: &dyn Fn(&[u8]) -> Vec<u8>) -> Vec<u8> {
        // ARM64, a program, two load commands: for macOS 11.0 and newer, and the signature's place.
        let mut file = vec![0xcf, 0xfa, 0xed, 0xfe];
        let system = [0x32, 24, 1, 0x000b_0000, 0x000b_0000, 0];
        let head = [0x0100_000c_u32, 0, 2, 2, 40, 0, 0];
        for word in head.into_iter().chain(system).chain([0x1d, 16, self.code as u32]) {
            file.extend(word.to_le_bytes());
        }
        let signature_len_at = file.len();
        file.extend(0_u32.to_le_bytes());
        file.resize(self.code, 0x5a);
        let entitlements = blob(0xfade_7171, self.entitlements);
        let in_der =
            if self.entitlements_der.is_empty() { Vec::new() } else { blob(0xfade_7172, self.entitlements_der) };
        let build = |file: &[u8]| {
            let directory = self.directory(&file[..self.code], &entitlements, &in_der);
            let message = blob(0xfade_0b01, &sign(&directory));
            let mut parts = vec![(0_u32, directory), (5, entitlements.clone())];
            if !in_der.is_empty() {
                parts.push((7, in_der.clone()));
            }
            parts.push((0x1_0000, message));
            superblob(&parts)
        };
        // The length stands in the part that is hashed; some room, for not every signature is of one length.
        let len = build(&file).len() as u32 + 16;
        file[signature_len_at..signature_len_at + 4].copy_from_slice(&len.to_le_bytes());
        let signature = build(&file);
        file.extend(signature);
        file.resize(self.code + len as usize, 0);
        file
    }

    fn directory(&self, code: &[u8], entitlements: &[u8], in_der: &[u8]) -> Vec<u8> {
        let identifier = [self.identifier.as_bytes(), b"\0"].concat();
        let team = [self.team.as_bytes(), b"\0"].concat();
        let pages: Vec<Vec<u8>> = code.chunks(4096).map(|page| Sha256::digest(page).to_vec()).collect();
        // Special slots stand backwards: entitlements in DER, nothing, entitlements, nothing, resources, requirements,
        // Info.plist.
        let special = [in_der, b"", entitlements, b"", self.seal, b"", self.info];
        let identifier_at = 52;
        let team_at = identifier_at + identifier.len() as u32;
        let hashes_at = team_at + team.len() as u32 + special.len() as u32 * 32;
        let mut content = Vec::new();
        for word in [
            0x2_0200,
            self.flags,
            hashes_at,
            identifier_at,
            special.len() as u32,
            pages.len() as u32,
            code.len() as u32,
        ] {
            content.extend(word.to_be_bytes());
        }
        content.extend([32, 2, 0, 12]);
        for word in [0, 0, team_at] {
            content.extend(word.to_be_bytes());
        }
        content.extend(identifier);
        content.extend(team);
        for bytes in special {
            content.extend(if bytes.is_empty() { vec![0; 32] } else { Sha256::digest(bytes).to_vec() });
        }
        content.extend(pages.concat());
        blob(0xfade_0c02, &content)
    }
}

/// A part of a code signature.
pub fn blob(magic: u32, content: &[u8]) -> Vec<u8> {
    [&magic.to_be_bytes(), &(content.len() as u32 + 8).to_be_bytes(), content].concat()
}

fn superblob(parts: &[(u32, Vec<u8>)]) -> Vec<u8> {
    let mut at = 12 + parts.len() as u32 * 8;
    let mut index = Vec::new();
    for (slot, part) in parts {
        index.extend([slot.to_be_bytes(), at.to_be_bytes()].concat());
        at += part.len() as u32;
    }
    let bytes: Vec<u8> = parts.iter().flat_map(|(_, part)| part.clone()).collect();
    let head = [0xfade_0cc0_u32.to_be_bytes(), at.to_be_bytes(), (parts.len() as u32).to_be_bytes()].concat();
    [head, index, bytes].concat()
}

/// No message: an ad hoc signature.
pub fn nobody(_: &[u8]) -> Vec<u8> {
    Vec::new()
}

pub fn base64_of(bytes: &[u8]) -> String {
    const DIGITS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    let digits = bytes.chunks(3).flat_map(|three| {
        let bits = three.iter().fold(0_u32, |bits, b| bits << 8 | u32::from(*b)) << (8 * (3 - three.len()));
        (0..4).map(move |i| if i <= three.len() { DIGITS[(bits >> (18 - 6 * i) & 63) as usize] as char } else { '=' })
    });
    digits.collect()
}

/// Lines of at most 72 bytes, cut wherever it comes.
pub fn field(key: &str, value: &str) -> Vec<u8> {
    let whole = format!("{key}: {value}").into_bytes();
    let (first, rest) = whole.split_at(whole.len().min(70));
    let mut out = first.to_vec();
    rest.chunks(69).for_each(|part| out.extend([b"\r\n ", part].concat()));
    [out, b"\r\n".to_vec()].concat()
}

pub fn sha256(bytes: &[u8]) -> Vec<u8> {
    Sha256::digest(bytes).to_vec()
}

pub fn digest(bytes: &[u8]) -> String {
    base64_of(&sha256(bytes))
}

pub fn manifest(files: &[(&str, &[u8])]) -> (Vec<u8>, Vec<Vec<u8>>) {
    let main = b"Manifest-Version: 1.0\r\nCreated-By: a test\r\n\r\n".to_vec();
    let sections = files
        .iter()
        .map(|(name, bytes)| [field("Name", name), field("SHA-256-Digest", &digest(bytes)), b"\r\n".to_vec()].concat());
    (main, sections.collect())
}

/// An archive of files, with the signature's own.
pub fn archive(files: &[(&str, &[u8])], manifest: &[u8], signed: &[u8], block: &[u8]) -> Vec<u8> {
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    let own = [("META-INF/MANIFEST.MF", manifest), ("META-INF/HERON.SF", signed), ("META-INF/HERON.EC", block)];
    for (name, bytes) in files.iter().chain(&own) {
        zip.file(name, Method::Deflate, 0o644, bytes.len() as u64, |out| out.write_all(bytes)).unwrap();
    }
    zip.finish().unwrap().into_inner()
}

/// What a signer says of a manifest: of all of it, or of each section.
pub fn signer_file(main: &[u8], sections: &[Vec<u8>], files: &[(&str, &[u8])], whole: bool) -> Vec<u8> {
    let all = [main, &sections.concat()].concat();
    let head = if whole { field("SHA-256-Digest-Manifest", &digest(&all)) } else { Vec::new() };
    let mut out = [b"Signature-Version: 1.0\r\nX-Android-APK-Signed: 2, 3\r\n".as_slice(), &head, b"\r\n"].concat();
    for ((name, _), section) in files.iter().zip(sections) {
        out.extend([field("Name", name), field("SHA-256-Digest", &digest(section)), b"\r\n".to_vec()].concat());
    }
    out
}

/// An archive of files that is signed file by file: by one digest of its manifest, or by one of each section.
pub fn signed_archive(key: &Key, files: &[(&str, &[u8])], whole: bool) -> Vec<u8> {
    let (main, sections) = manifest(files);
    let signed = signer_file(&main, &sections, files, whole);
    let block = key.message("1.2.840.113549.1.7.1", None, &signed, &plain);
    archive(files, &[main, sections.concat()].concat(), &signed, &block)
}

/// Entitlements in DER, as the property list has them.
pub fn entitlements_in_der(list: &[u8]) -> Vec<u8> {
    use crate::plist::{Dictionary, Value};
    fn value(from: &Value) -> Vec<u8> {
        match from {
            Value::Text(text) => der(0x0c, &[text.as_bytes()]),
            Value::Flag(flag) => vec![1, 1, if *flag { 0xff } else { 0 }],
            Value::List(list) => der(0x30, &[&list.iter().flat_map(value).collect::<Vec<u8>>()]),
            Value::Dictionary(pairs) => dictionary(pairs),
            other => panic!("{other:?} is of no use here"),
        }
    }
    fn dictionary(pairs: &Dictionary) -> Vec<u8> {
        let pair = |(key, from): (&String, &Value)| der(0x30, &[&der(0x0c, &[key.as_bytes()]), &value(from)]);
        der(0xb0, &[&pairs.iter().flat_map(pair).collect::<Vec<u8>>()])
    }
    der(0x70, &[&[2, 1, 1], &dictionary(&crate::plist::read(list).unwrap())])
}
