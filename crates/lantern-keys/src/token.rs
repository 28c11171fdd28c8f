//! A signer that is a token, a card or a service with an interface of PKCS #11 (OASIS, "PKCS #11 Cryptographic Token Interface Base
//! Specification", version 2.40; <https://docs.oasis-open.org/pkcs11/pkcs11-base/v2.40/pkcs11-base-v2.40.html>). The key never leaves
//! it: it is given a digest.

use std::fmt;
use std::path::PathBuf;
use std::sync::Mutex;

use cryptoki::context::{CInitializeArgs, CInitializeFlags, Pkcs11};
use cryptoki::error::{Error, RvError};
use cryptoki::mechanism::Mechanism;
use cryptoki::object::{Attribute, AttributeType, ObjectClass, ObjectHandle};
use cryptoki::session::{Session, UserType};
use cryptoki::types::AuthPin;
use lantern_core::names::Name;
use lantern_formats::hash::Hash;

use crate::key::{Algorithm, Signer};
use crate::passphrase::Passphrase;
use crate::{KeyError, certificate};

/// Most keys of a token that are named. Ours: nobody reads more.
const MAX_NAMED: usize = 16;

/// Why a token did not sign.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum TokenError {
    /// The library that speaks to it.
    #[error("its module {} cannot be loaded: {why}", module.display())]
    Module {
        /// The library.
        module: PathBuf,
        /// What the system says.
        why: String,
    },
    /// No token of this name.
    #[error("there is no token {wanted:?}{}", among(known))]
    NoToken {
        /// Its label.
        wanted: String,
        /// Those that there are.
        known: Vec<String>,
    },
    /// No key of this name on it.
    #[error("the token has no key {wanted:?}{}", among(known))]
    NoKey {
        /// Its label.
        wanted: String,
        /// Those that there are.
        known: Vec<String>,
    },
    /// Another PIN.
    #[error("the PIN is not the right one")]
    Pin,
    /// Too many wrong ones.
    #[error("the PIN is locked after too many wrong ones")]
    Locked,
    /// Pulled out, or never there.
    #[error("the token is gone")]
    Gone,
    /// A key that signs otherwise than its certificate says.
    #[error("its signature is not that of its certificate")]
    OtherKey,
    /// Anything else.
    #[error("the token says: {0}")]
    Other(String),
}

fn among(known: &[String]) -> String {
    if known.is_empty() { ": there is none".to_owned() } else { format!("; there are: {}", known.join(", ")) }
}

impl From<Error> for TokenError {
    fn from(error: Error) -> Self {
        match error {
            Error::Pkcs11(RvError::PinIncorrect | RvError::PinInvalid | RvError::PinLenRange, _) => Self::Pin,
            Error::Pkcs11(RvError::PinLocked, _) => Self::Locked,
            Error::Pkcs11(
                RvError::DeviceRemoved
                | RvError::TokenNotPresent
                | RvError::TokenNotRecognized
                | RvError::SessionHandleInvalid
                | RvError::SessionClosed
                | RvError::KeyHandleInvalid
                | RvError::UserNotLoggedIn,
                _,
            ) => Self::Gone,
            other => Self::Other(other.to_string()),
        }
    }
}

/// A token as `lantern.toml` names it, not opened yet.
#[derive(Debug, Clone)]
pub struct Token {
    /// What `lantern.toml` calls it.
    pub name: Name,
    /// The library that speaks to it: a path, or a name that the system finds.
    pub module: PathBuf,
    /// Its label.
    pub token: String,
    /// The key's label on it.
    pub key: String,
    /// The certificate of the key, and those above it.
    pub chain: Vec<Vec<u8>>,
}

/// A token with an open session: its PIN was asked for once.
pub struct OpenToken {
    name: Name,
    chain: Vec<Vec<u8>>,
    /// One session signs one thing at a time.
    session: Mutex<(Session, ObjectHandle)>,
}

impl fmt::Debug for OpenToken {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("OpenToken").field("name", &self.name).finish_non_exhaustive()
    }
}

impl Token {
    /// Opens it with its PIN, and finds its key.
    ///
    /// # Errors
    /// [`KeyError::Token`].
    pub fn open(&self, pin: &Passphrase) -> Result<OpenToken, KeyError> {
        let failed = |why: TokenError| KeyError::Token { name: self.name.to_string(), why };
        let session = self.session(pin).map_err(failed)?;
        let key = self.find(&session).map_err(failed)?;
        let (name, chain) = (self.name.clone(), self.chain.clone());
        Ok(OpenToken { name, chain, session: Mutex::new((session, key)) })
    }

    fn session(&self, pin: &Passphrase) -> Result<Session, TokenError> {
        let module = |why: String| TokenError::Module { module: self.module.clone(), why };
        let context = Pkcs11::new(&self.module).map_err(|error| module(error.to_string()))?;
        match context.initialize(CInitializeArgs::new(CInitializeFlags::OS_LOCKING_OK)) {
            // Another signer of this run has it already.
            Ok(()) | Err(Error::Pkcs11(RvError::CryptokiAlreadyInitialized, _)) => {}
            Err(error) => return Err(module(error.to_string())),
        }
        let mut known = Vec::new();
        for slot in context.get_slots_with_initialized_token()? {
            let label = context.get_token_info(slot)?.label().to_owned();
            if label == self.token {
                let session = context.open_ro_session(slot)?;
                match session.login(UserType::User, Some(&AuthPin::from(pin.text().to_owned()))) {
                    Ok(()) | Err(Error::Pkcs11(RvError::UserAlreadyLoggedIn, _)) => return Ok(session),
                    Err(error) => return Err(error.into()),
                }
            }
            known.push(label);
        }
        Err(TokenError::NoToken { wanted: self.token.clone(), known })
    }

    fn find(&self, session: &Session) -> Result<ObjectHandle, TokenError> {
        let private = Attribute::Class(ObjectClass::PRIVATE_KEY);
        let wanted = [private.clone(), Attribute::Label(self.key.as_bytes().to_vec())];
        if let [key] = session.find_objects(&wanted)?.as_slice() {
            return Ok(*key);
        }
        let mut known = Vec::new();
        for key in session.find_objects(&[private])?.into_iter().take(MAX_NAMED) {
            for attribute in session.get_attributes(key, &[AttributeType::Label])? {
                if let Attribute::Label(label) = attribute {
                    known.push(String::from_utf8_lossy(&label).into_owned());
                }
            }
        }
        Err(TokenError::NoKey { wanted: self.key.clone(), known })
    }
}

/// What stands before a digest that RSA signs: a DigestInfo. Source: RFC 8017, section 9.2, note 1.
fn digest_info(hash: Hash) -> Result<Vec<u8>, KeyError> {
    let (place, len) = match hash {
        Hash::Sha256 => (1, 32),
        Hash::Sha384 => (2, 48),
        Hash::Sha512 => (3, 64),
        Hash::Sha1 => return Err(KeyError::Unsupported("nothing is signed with SHA-1".to_owned())),
    };
    let oid = [0x06, 0x09, 0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, place];
    Ok([&[0x30, 0x11 + len, 0x30, 0x0d], &oid[..], &[0x05, 0x00, 0x04, len]].concat())
}

impl Signer for OpenToken {
    fn algorithm(&self) -> Algorithm {
        self.chain.first().and_then(|own| certificate::algorithm(own).ok()).unwrap_or(Algorithm::P256)
    }

    fn chain(&self) -> &[Vec<u8>] {
        &self.chain
    }

    fn sign(&self, hash: Hash, message: &[u8]) -> Result<Vec<u8>, KeyError> {
        let failed = |why: TokenError| KeyError::Token { name: self.name.to_string(), why };
        let own = self.chain.first().ok_or(KeyError::NoKey)?;
        let digest = hash.digest(message);
        let session = self.session.lock().expect("nothing panics with the lock");
        let (session, key) = &*session;
        let made = match certificate::algorithm(own)? {
            Algorithm::Rsa(_) => {
                let content = [digest_info(hash)?, digest].concat();
                session.sign(&Mechanism::RsaPkcs, *key, &content).map_err(|error| failed(error.into()))?
            }
            Algorithm::P256 => {
                // A token gives both numbers side by side; it takes as much of the digest as the curve is long.
                let short = digest.get(..32).unwrap_or(&digest);
                let raw = session.sign(&Mechanism::Ecdsa, *key, short).map_err(|error| failed(error.into()))?;
                let signature = p256::ecdsa::Signature::from_slice(&raw).map_err(|_| failed(TokenError::OtherKey))?;
                signature.to_der().as_bytes().to_vec()
            }
        };
        match certificate::has_signed_with(own, hash, message, &made)? {
            true => Ok(made),
            false => Err(failed(TokenError::OtherKey)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn digests_are_wrapped_as_the_rfc_has_it() {
        let sha256 = [48, 49, 48, 13, 6, 9, 96, 134, 72, 1, 101, 3, 4, 2, 1, 5, 0, 4, 32];
        let sha512 = [48, 81, 48, 13, 6, 9, 96, 134, 72, 1, 101, 3, 4, 2, 3, 5, 0, 4, 64];
        assert_eq!(
            (digest_info(Hash::Sha256).unwrap(), digest_info(Hash::Sha512).unwrap()),
            (sha256.to_vec(), sha512.to_vec())
        );
        assert!(digest_info(Hash::Sha1).is_err());
    }
}
