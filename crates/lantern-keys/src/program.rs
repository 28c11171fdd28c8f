//! A signer that is a program: it has the key, or asks a token or a service for it. It is given digest, algorithm and key name as
//! one JSON document, and gives back a signature as one line of JSON; docs/keys.md says how they look.

use std::io::{Read, Write};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::{Duration, Instant};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use lantern_core::bytes::hex;
use lantern_core::names::Name;
use lantern_formats::hash::Hash;
use serde::{Deserialize, Serialize};

use crate::key::{Algorithm, Signer};
use crate::{KeyError, certificate};

/// Longest answer, in bytes. Ours: a signature has some hundred.
const MAX_ANSWER_LEN: u64 = 64 * 1024;
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

    fn answer(&self, asked: &Asked<'_>) -> Result<Vec<u8>, KeyError> {
        let (program, arguments) = self.run.split_first().ok_or_else(|| self.failed("no program is named"))?;
        let mut child = Command::new(program)
            .args(arguments)
            .current_dir(&self.folder)
            // The passphrase of other keys is none of its business.
            .env_remove("LANTERN_KEY_PASSPHRASE")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .map_err(|error| self.failed(format!("{program} cannot be started: {error}")))?;
        let mut line = serde_json::to_vec(asked).expect("a document has only string keys");
        line.push(b'\n');
        // A program that does not read is known by its answer.
        if let Some(mut stdin) = child.stdin.take() {
            let _ = stdin.write_all(&line);
        }
        let out = child.stdout.take();
        let (to, from) = channel();
        std::thread::spawn(move || {
            let mut bytes = Vec::new();
            let read = out.map_or(Ok(0), |out| out.take(MAX_ANSWER_LEN + 1).read_to_end(&mut bytes));
            let _ = to.send(read.map(|_| bytes));
        });
        let begun = Instant::now();
        let bytes = match from.recv_timeout(self.time_limit) {
            Ok(Ok(bytes)) => bytes,
            Ok(Err(error)) => {
                end(&mut child);
                return Err(self.failed(format!("its answer cannot be read: {error}")));
            }
            Err(RecvTimeoutError::Timeout | RecvTimeoutError::Disconnected) => {
                end(&mut child);
                return Err(self.failed(format!("it did not answer within {} seconds", self.time_limit.as_secs())));
            }
        };
        if bytes.len() as u64 > MAX_ANSWER_LEN {
            end(&mut child);
            return Err(self.failed("its answer does not end"));
        }
        loop {
            match child.try_wait() {
                Ok(Some(_)) => return Ok(bytes),
                Ok(None) if begun.elapsed() < self.time_limit => std::thread::sleep(Duration::from_millis(5)),
                _ => {
                    end(&mut child);
                    return Err(self.failed("it answered and did not end"));
                }
            }
        }
    }
}

/// Ends a program that is of no use any more.
fn end(child: &mut Child) {
    let _ = child.kill();
    let _ = child.wait();
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
        let bytes = self.answer(&Asked { schema: SCHEMA, key: self.name.as_str(), algorithm, hash: name, digest })?;
        let text = String::from_utf8_lossy(&bytes);
        let line = text.lines().find(|line| !line.trim().is_empty()).ok_or_else(|| self.failed("it gave no answer"))?;
        let answer: Answer =
            serde_json::from_str(line).map_err(|error| self.failed(format!("its answer is none: {error}")))?;
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
