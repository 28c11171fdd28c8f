//! A signer that is a program: it has the key, or asks a token or a service for it. It is given digest, algorithm and key name as
//! one JSON document, and gives back a signature as one line of JSON; docs/keys.md says how they look.

use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use lantern_core::bytes::hex;
use lantern_core::names::Name;
use lantern_formats::hash::Hash;
use lantern_program::{Aside, Ended, Output};
use serde::{Deserialize, Serialize};

use crate::key::{Algorithm, Signer};
use crate::{KeyError, certificate};

/// Longest answer, in bytes. Ours: a signature has some hundred.
const MAX_ANSWER_LEN: usize = 64 * 1024;
/// Most that is read of it, in bytes. Ours: an answer is one line.
const MAX_OUTPUT: u64 = 2 * MAX_ANSWER_LEN as u64;
const SCHEMA: &str = "lantern.signer/1";

/// A program that signs.
#[derive(Debug, Clone)]
pub struct Program {
    /// What `lantern.toml` calls it.
    pub name: Name,
    /// The program, then its arguments.
    pub run: Vec<String>,
    /// The folder that it runs in.
    pub folder: PathBuf,
    /// The certificate of its key, and those above it.
    pub chain: Vec<Vec<u8>>,
    /// How long one signature may take; someone may have to type a PIN.
    pub time_limit: Duration,
    /// Set when someone asks to stop.
    pub stop: Arc<AtomicBool>,
}

/// What the program is given on its standard input.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct Asked<'a> {
    schema: &'static str,
    key: &'a str,
    algorithm: &'static str,
    hash: &'static str,
    digest: String,
}

/// What it answers.
#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Answer {
    /// The signature in base 64: RSA with PKCS #1 v1.5, ECDSA as DER.
    Signature(String),
    /// Why not.
    Refused(String),
}

impl Program {
    fn failed(&self, why: impl Into<String>) -> KeyError {
        KeyError::Program { name: self.name.to_string(), why: why.into() }
    }

    /// The line that it answers.
    fn answer(&self, asked: &Asked<'_>) -> Result<Vec<u8>, KeyError> {
        let mut text = serde_json::to_vec(asked).expect("a document has only string keys");
        text.push(b'\n');
        let (run, folder, limit) = (self.run.as_slice(), self.folder.as_path(), self.time_limit);
        let runner = lantern_program::Program { run, folder, limit, max_line: MAX_ANSWER_LEN, max_output: MAX_OUTPUT };
        let (mut answer, mut is_endless) = (None, false);
        let mut take = |output| {
            match output {
                Output::Line(line) if line.iter().all(u8::is_ascii_whitespace) => {}
                Output::Line(line) => {
                    answer.get_or_insert(line);
                }
                Output::TooLong | Output::TooMuch => is_endless = true,
            }
            !is_endless
        };
        // It may ask for a PIN at the terminal, and say there what it waits for.
        let ended = runner.run(text, Aside::Terminal, &|| self.stop.load(Ordering::Relaxed), &mut take);
        let name = self.run.first().map(String::as_str).unwrap_or_default();
        match ended.map_err(|error| self.failed(format!("{name} cannot be started: {error}")))? {
            Ended::Stopped => Err(KeyError::Stopped),
            _ if is_endless => Err(self.failed("its answer does not end")),
            Ended::TooLate => Err(self.failed(format!("it did not answer within {} seconds", limit.as_secs()))),
            Ended::With(_) | Ended::GivenUp => answer.ok_or_else(|| self.failed("it gave no answer")),
        }
    }
}

impl Signer for Program {
    fn algorithm(&self) -> Algorithm {
        self.chain.first().and_then(|own| certificate::algorithm(own).ok()).unwrap_or(Algorithm::P256)
    }

    fn chain(&self) -> &[Vec<u8>] {
        &self.chain
    }

    fn sign(&self, hash: Hash, message: &[u8]) -> Result<Vec<u8>, KeyError> {
        let own = self.chain.first().ok_or_else(|| self.failed("it has no certificate"))?;
        let algorithm = match certificate::algorithm(own)? {
            Algorithm::Rsa(_) => "rsa-pkcs1",
            Algorithm::P256 => "ecdsa-p256",
        };
        let name = match hash {
            Hash::Sha256 => "sha256",
            Hash::Sha384 => "sha384",
            Hash::Sha512 => "sha512",
            Hash::Sha1 => return Err(KeyError::Unsupported("nothing is signed with SHA-1".to_owned())),
        };
        let digest = hex(&hash.digest(message));
        let line = self.answer(&Asked { schema: SCHEMA, key: self.name.as_str(), algorithm, hash: name, digest })?;
        let answer: Answer =
            serde_json::from_slice(&line).map_err(|error| self.failed(format!("its answer is none: {error}")))?;
        let packed = match answer {
            Answer::Signature(packed) => packed,
            Answer::Refused(why) => return Err(self.failed(why)),
        };
        let signature = STANDARD.decode(packed.trim()).map_err(|_| self.failed("its signature is not in base 64"))?;
        // It may have signed with another key than its certificate is for.
        match certificate::has_signed_with(own, hash, message, &signature)? {
            true => Ok(signature),
            false => Err(self.failed("its signature is not that of its certificate")),
        }
    }
}
