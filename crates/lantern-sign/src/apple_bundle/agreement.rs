//! Whether certificate, profile, entitlements and identity of a program agree: systems refuse it where they do not.
//!
//! Source: Apple's technical note 3125, "Provisioning Profiles"
//! (<https://developer.apple.com/documentation/technotes/tn3125-inside-code-signing-provisioning-profiles>).

use jiff::Timestamp;
use lantern_core::bytes::hex;
use lantern_core::path::shown;
use lantern_formats::hash::Hash;
use lantern_formats::macho::{Entitlements as Allowed, KNOWN_AS, needs_profile};
use lantern_formats::plist::{Dictionary, Value};
use lantern_formats::profile::Profile;
use lantern_keys::certificate;

use crate::macho::Entitlements;
use crate::macho::requirement::Identity;

const TEAM: &str = "com.apple.developer.team-identifier";
/// Most names of certificates that are said.
const MAX_NAMED: usize = 3;

/// What is about to be signed.
#[derive(Debug, Clone, Copy)]
pub struct Claim<'a> {
    /// The identity in its `Info.plist`.
    pub identity: &'a str,
    /// Whether it is for phones, which start nothing without a profile.
    pub is_for_phones: bool,
    /// What it may do.
    pub entitlements: Option<&'a Entitlements>,
    /// Its profile.
    pub profile: Option<&'a Profile>,
    /// The certificates of who signs: the own first.
    pub chain: &'a [Vec<u8>],
    /// The moment for which the profile has to be valid.
    pub at: Timestamp,
}

/// Two things that do not agree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Disagreement {
    /// Both of them, with their values.
    pub what: String,
    /// What to do.
    pub fix: String,
}

/// What a program with this profile may do at most, as it stands in the profile, with the identity in the place of `*`.
pub fn otherwise(profile: &Profile, identity: &str) -> Option<Entitlements> {
    let mut all: Dictionary = profile.allows.words().map(|(name, value)| (name.clone(), value.clone())).collect();
    for name in KNOWN_AS {
        if let Some(Value::Text(text)) = all.get_mut(name)
            && let Some((prefix, _)) = text.split_once('.')
        {
            *text = format!("{prefix}.{identity}");
        }
    }
    // A pattern from the profile is no value: the project has to state one.
    all.retain(|_, value| !has_star(value));
    Entitlements::of(all).ok()
}

fn has_star(value: &Value) -> bool {
    match value {
        Value::Text(text) => text.ends_with('*'),
        Value::List(values) => values.iter().any(has_star),
        _ => false,
    }
}

/// A value, for people.
fn said(value: &Value) -> String {
    match value {
        Value::Flag(true) => "yes".to_owned(),
        Value::Flag(false) => "no".to_owned(),
        Value::Number(number) => number.to_string(),
        Value::Text(text) => shown(text),
        Value::List(values) => values.iter().map(said).collect::<Vec<_>>().join(", "),
        Value::Dictionary(members) => format!("{} values", members.len()),
        _ => "something else".to_owned(),
    }
}

impl Claim<'_> {
    /// Everything that does not agree, in the order in which a device asks.
    pub fn disagreements(&self) -> Vec<Disagreement> {
        let mut out = Vec::new();
        let mut add = |what: String, fix: &str| out.push(Disagreement { what, fix: fix.to_owned() });
        let entitlements = self.entitlements.map(|list| Allowed::of(list.all().clone())).unwrap_or_default();
        let Some(profile) = self.profile else {
            if self.is_for_phones {
                add(
                    "it has no profile, and no device starts it without one".to_owned(),
                    "profile = \"FILE.mobileprovision\"",
                );
            }
            let wants: Vec<String> =
                entitlements.names().filter(|name| needs_profile(name, false)).map(shown).collect();
            if !self.is_for_phones && !wants.is_empty() {
                let what = format!("it has no profile, and asks for what only a profile allows: {}", wants.join(", "));
                add(what, "profile = \"FILE.provisionprofile\", or entitlements without these");
            }
            return out;
        };
        let name = shown(&profile.name);
        let again = "make the profile again, and set it as profile";
        if let Some(wrong) = &profile.signer.wrong {
            add(format!("the profile {name} is not as it was signed: {wrong}"), "download the profile again");
        }
        let until = profile.expires.as_deref().and_then(|date| date.parse::<Timestamp>().ok());
        if let Some(until) = until.filter(|until| *until < self.at) {
            add(format!("the profile {name} expired on {}", until.strftime("%Y-%m-%d")), again);
        }
        let own = self.chain.first();
        if own.is_some_and(|own| !profile.certificates.contains(own)) {
            let named: Vec<String> = profile.certificates.iter().take(MAX_NAMED).map(|known| subject(known)).collect();
            let named = if named.is_empty() { "none".to_owned() } else { named.join(", ") };
            let own = own.map(|own| subject(own)).unwrap_or_default();
            add(format!("the profile {name} names the certificates {named}; it is signed with {own}"), again);
        }
        let team = Identity::of(self.chain).ok().and_then(|identity| identity.team);
        if let Some(team) = team.filter(|team| !profile.teams.contains(team)) {
            let what = format!(
                "the profile {name} is for the team {}; the certificate is of {}",
                shown(&profile.teams.join(", ")),
                shown(&team)
            );
            add(what, again);
        }
        self.identities(profile, &entitlements, &mut add);
        let is_judged = |word: &&str| !KNOWN_AS.contains(word) && needs_profile(word, self.is_for_phones);
        for word in entitlements.beyond(&profile.allows).into_iter().filter(is_judged) {
            let own = entitlements.value(word).map(said).unwrap_or_default();
            let allowed = profile
                .allows
                .value(word)
                .map_or_else(|| "does not allow it".to_owned(), |value| format!("allows {}", said(value)));
            let what = format!("the entitlement {} is {own}; the profile {name} {allowed}", shown(word));
            add(what, "turn it on for this identity and make the profile again, or take it out of the entitlements");
        }
        out
    }

    /// The identity, as profile and entitlements have it.
    fn identities(&self, profile: &Profile, entitlements: &Allowed, add: &mut dyn FnMut(String, &str)) {
        let name = shown(&profile.name);
        let (allowed, own) = (profile.allows.known_as(), entitlements.known_as());
        let fits = |full: &str| {
            full.split_once('.').is_some_and(|(_, rest)| match rest.strip_suffix('*') {
                Some(start) => self.identity.starts_with(start),
                None => rest == self.identity,
            })
        };
        if let Some(allowed) = allowed.filter(|allowed| !fits(allowed)) {
            let what = format!(
                "the profile {name} is for {}; the bundle calls itself {}",
                shown(allowed),
                shown(self.identity)
            );
            add(what, "take the profile of this identity, or change the identity in the engine");
        }
        if let Some(own) = own.filter(|own| own.split_once('.').map(|(_, rest)| rest) != Some(self.identity)) {
            let what =
                format!("the entitlements call it {}; the bundle calls itself {}", shown(own), shown(self.identity));
            add(what, "write the prefix of the team and this identity into the entitlements");
        } else if let (Some(own), Some(allowed)) = (own, allowed) {
            let prefix = |full: &str| full.split_once('.').map(|(prefix, _)| prefix.to_owned());
            if prefix(own) != prefix(allowed) {
                let what =
                    format!("the entitlements call it {}; the profile {name} is for {}", shown(own), shown(allowed));
                add(what, "write the prefix of the profile into the entitlements");
            }
        }
        let team = entitlements.text(TEAM);
        if let Some(team) = team.filter(|team| !profile.teams.iter().any(|known| known == team)) {
            let what = format!(
                "the entitlements name the team {}; the profile {name} is for {}",
                shown(team),
                shown(&profile.teams.join(", "))
            );
            add(what, "write the team of the profile into the entitlements");
        }
    }
}

/// Whom a certificate is for, and the beginning of its fingerprint: several may have one name.
fn subject(certificate: &[u8]) -> String {
    let hash = hex(&Hash::Sha256.digest(certificate));
    let short = hash.get(..8).unwrap_or(&hash);
    match certificate::words(certificate).ok().and_then(|words| words.subject(&[0x55, 4, 3]).map(shown)) {
        Some(name) => format!("{name} ({short}…)"),
        None => format!("{short}…"),
    }
}
