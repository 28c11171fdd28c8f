//! Statements about what was prepared, and by whom they are made: in-toto statements in signed envelopes.
//!
//! Source: in-toto attestation framework, "Statement", version 1 (<https://github.com/in-toto/attestation/blob/main/spec/v1/statement.md>);
//! DSSE, "Protocol", version 1 (<https://github.com/secure-systems-lab/dsse/blob/master/protocol.md>). What stands in them is decided
//! elsewhere: here they are bytes.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use lantern_core::bytes::hex;
use lantern_formats::hash::Hash;
use lantern_keys::key::Signer;
use lantern_keys::{KeyError, certificate, pem};
use serde::{Deserialize, Serialize};

use crate::SignError;

/// The media type of a statement.
pub const PAYLOAD_TYPE: &str = "application/vnd.in-toto+json";
/// Longest envelope that is read, in bytes. Ours: one names a few targets and findings.
pub const MAX_LEN: u64 = 16 * 1024 * 1024;

/// A payload with signatures of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Envelope {
    /// What kind of payload it is.
    pub payload_type: String,
    /// It, in Base64.
    pub payload: String,
    /// Who signed it.
    pub signatures: Vec<Signature>,
}

/// A signature of a payload.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Signature {
    /// SHA-256 of the certificate, in hex: a hint, which nothing rests on.
    #[serde(default)]
    pub keyid: String,
    /// In Base64: RSA with PKCS #1 v1.5 and SHA-256, or ECDSA with SHA-256 as DER.
    pub sig: String,
    /// The certificate, as PEM.
    #[serde(default)]
    pub cert: String,
}

/// What is signed: the kind and the payload, each with the length of its bytes before it.
fn encoded(kind: &str, payload: &[u8]) -> Vec<u8> {
    let mut out = format!("DSSEv1 {} {kind} {} ", kind.len(), payload.len()).into_bytes();
    out.extend(payload);
    out
}

/// Puts a statement into an envelope; without a signer nobody vouches for it.
///
/// # Errors
/// Those of signing.
pub fn seal(statement: &[u8], signers: &[&dyn Signer]) -> Result<Envelope, SignError> {
    let mut signatures = Vec::new();
    for signer in signers {
        let own = signer.chain().first().ok_or(KeyError::NoCertificate { alias: String::new() })?;
        let message = encoded(PAYLOAD_TYPE, statement);
        let sig = signer.sign(Hash::Sha256, &message)?;
        if !certificate::has_signed(own, &message, &sig)? {
            return Err(SignError::NotValid("the signature is not that of the certificate's key".to_owned()));
        }
        let keyid = hex(&Hash::Sha256.digest(own));
        signatures.push(Signature { keyid, sig: STANDARD.encode(sig), cert: pem::write("CERTIFICATE", own) });
    }
    Ok(Envelope { payload_type: PAYLOAD_TYPE.to_owned(), payload: STANDARD.encode(statement), signatures })
}

/// An envelope whose signatures hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Opened {
    /// The statement.
    pub statement: Vec<u8>,
    /// The certificates of those who signed it, as DER; whether they are to be trusted is not judged.
    pub signers: Vec<Vec<u8>>,
}

/// Opens an envelope. Nothing of the statement is given away before its signatures hold.
///
/// # Errors
/// Why it does not hold.
pub fn open(envelope: &[u8]) -> Result<Opened, String> {
    let envelope: Envelope =
        serde_json::from_slice(envelope).map_err(|error| format!("it is no signed statement: {error}"))?;
    if envelope.payload_type != PAYLOAD_TYPE {
        return Err("it is a payload of another kind".to_owned());
    }
    let broken = |_| "it is no signed statement: what should be Base64 is not".to_owned();
    let statement = STANDARD.decode(&envelope.payload).map_err(broken)?;
    let message = encoded(&envelope.payload_type, &statement);
    let mut signers = Vec::new();
    for signature in &envelope.signatures {
        let sig = STANDARD.decode(&signature.sig).map_err(broken)?;
        let own = pem::certificates(signature.cert.as_bytes()).ok().and_then(|all| all.into_iter().next());
        let own = own.ok_or("a signature of it has no certificate")?;
        if !certificate::has_signed(&own, &message, &sig).unwrap_or(false) {
            return Err("it was changed after it was signed, or another key signed it".to_owned());
        }
        signers.push(own);
    }
    Ok(Opened { statement, signers })
}
