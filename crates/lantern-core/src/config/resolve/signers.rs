//! What signs, and the keys that identities are known by.

use std::collections::BTreeMap;

use super::{Check, raw};
use crate::config::ConfigKey::Key as K;
use crate::config::{Signer, SignerKind, TimeStamps};
use crate::finding::Code;
use crate::names::{Identity, Name};
use crate::pins::{Fingerprint, Pins, Role};

/// How long a signature of a program may take where no limit is set: someone may have to find a token and type its PIN.
const SIGNATURE_TIME: std::time::Duration = std::time::Duration::from_secs(300);

impl Check<'_> {
    pub(super) fn signers(&mut self, raw: &raw::Config) -> BTreeMap<Name, Signer> {
        let mut signers = BTreeMap::new();
        for (name, signer) in &raw.signers {
            let at = [K("signers"), K(name)];
            let below = |key| [at.as_slice(), &[K(key)]].concat();
            let key = self.parse::<Name>(&at, name, "rename the signer");
            let of_token = [("module", &signer.module), ("token", &signer.token), ("key", &signer.key)];
            let is_token = of_token.iter().any(|(_, value)| value.is_some());
            if is_token && !signer.run.is_empty() {
                let what = "a signer is a program (run) or a token (module, token, key), and not both";
                self.stop(&below("run"), Code::WrongValue, what.to_owned(), "remove one of the two");
            }
            if is_token {
                for (name, _) in of_token.iter().filter(|(_, value)| value.is_none()) {
                    let what = format!("a token needs {name}");
                    self.stop(&at, Code::MissingKey, what, "write module, token and key: pkcs11-tool -O lists them");
                }
            } else {
                self.has_program(&below("run"), &signer.run, "run = [\"python3\", \"sign.py\"]");
            }
            let certificate = self.words(&below("certificate"), &signer.certificate);
            let time_limit = self.optional(signer.time_limit.as_ref(), |check, text| {
                let time = check.length_of_time(&below("time-limit"), text, "2 minutes")?;
                std::time::Duration::try_from(time).ok()
            });
            if let (Some(key), Some(certificate), Some(time_limit)) = (key, certificate, time_limit) {
                let kind = match (&signer.module, &signer.token, &signer.key) {
                    (Some(module), Some(token), Some(label)) => {
                        SignerKind::Token { module: module.clone(), token: token.clone(), key: label.clone() }
                    }
                    _ => SignerKind::Program {
                        run: signer.run.clone(),
                        time_limit: time_limit.unwrap_or(SIGNATURE_TIME),
                    },
                };
                signers.insert(key, Signer { certificate, kind });
            }
        }
        signers
    }

    pub(super) fn time_stamps(&mut self, raw: &raw::TimeStamps) -> Option<TimeStamps> {
        let at = |key| [K("time-stamps"), K(key)];
        let text = self.words(&at("authority"), &raw.authority)?;
        let rest = text.strip_prefix("https://").or_else(|| text.strip_prefix("http://"));
        let host = rest.and_then(|rest| rest.split(['/', '?']).next()).filter(|host| !host.is_empty());
        // What goes there is the digest of a signature, and what comes back is signed: no secret, and no access.
        if host.is_none_or(|host| host.contains('@')) || text.contains(char::is_whitespace) {
            let what = format!("{text:?} is no address of an authority");
            self.stop(
                &at("authority"),
                Code::WrongAddress,
                what,
                "write it such as: \"http://noon-gun.example/stamp\"",
            );
            return None;
        }
        let may_be_missing = match raw.unreachable.as_deref() {
            None | Some("stop") => false,
            Some("go-on") => true,
            Some(other) => {
                let what = format!("{other:?} is nothing that can happen when the authority cannot be reached");
                self.stop(&at("unreachable"), Code::WrongValue, what, "\"stop\", or \"go-on\" without a time stamp");
                return None;
            }
        };
        Some(TimeStamps { authority: text, may_be_missing })
    }

    pub(super) fn pins(&mut self, raw: &raw::Config) -> Pins {
        let mut pins = Pins::default();
        for (identity, of) in &raw.pins {
            let at = [K("pins"), K(identity)];
            let key = self.parse::<Identity>(&at, identity, "write the game's identity, as in [game]");
            let roles = [
                (Role::OnDevice, "on-device", &of.android.on_device),
                (Role::AtStorefront, "at-storefront", &of.android.at_storefront),
            ];
            for (role, name, text) in roles {
                let at = [at.as_slice(), &[K("android"), K(name)]].concat();
                let fix = "write the SHA-256 fingerprint of the key's certificate: lantern key show NAME";
                let found = text.as_ref().and_then(|text| self.parse::<Fingerprint>(&at, text, fix));
                if let (Some(identity), Some(fingerprint)) = (&key, found) {
                    pins.add(identity.clone(), role, fingerprint);
                }
            }
        }
        pins
    }
}
