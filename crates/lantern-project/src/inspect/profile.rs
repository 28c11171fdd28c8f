//! The profile of a package for iOS, against the program and its signature.

use lantern_core::finding::{Finding, listed};
use lantern_core::path::shown;
use lantern_formats::Signer;
use lantern_formats::macho::CodeSignature;
use lantern_formats::profile::{Profile, Reach};

use super::{Inspected, small_file};
use crate::outside;

const FILE: &str = "embedded.mobileprovision";
/// The word of the entitlements for what a game is known as: a prefix of the team and its identity.
const IDENTITY: &str = "application-identifier";
const MAX_NAMED: usize = 4;

fn wrong(what: String) -> Finding {
    Finding::stops("profile", what, "export it again, with the profile of this game")
}

/// Looks at the profile of a bundle, and holds the program's signature against it.
pub(super) fn look(
    export: &crate::export::Export,
    bundle: &str,
    code: &CodeSignature,
    signer: Option<&Signer>,
    out: &mut Inspected,
) {
    let Some(bytes) = small_file(export, &format!("{bundle}{FILE}"), out) else {
        out.facts.push(("profile", "none".to_owned()));
        let what = "there is no profile in it: no device takes it";
        return out.findings.push(Finding::warns("no-profile", what, "export it with your team's profile"));
    };
    let profile = match Profile::read(&bytes) {
        Ok(profile) => profile,
        Err(error) => return out.findings.push(wrong(format!("the profile cannot be read: {error}"))),
    };
    let reach = match profile.reach {
        Reach::Development => "for developers' own devices".to_owned(),
        Reach::Named(count) => format!("for {count} named devices"),
        Reach::Organisation => "for the devices of an organisation".to_owned(),
        Reach::Shop => "for the shop".to_owned(),
    };
    let until = profile.expires.as_deref().and_then(|date| date.parse::<jiff::Timestamp>().ok());
    let day = until.map(|until| format!(", until {}", until.strftime("%Y-%m-%d"))).unwrap_or_default();
    out.facts.push(("profile", format!("{}, {reach}{day}", shown(&profile.name))));
    if let Some(why) = &profile.signer.wrong {
        out.findings.push(wrong(format!("the profile does not hold: {why}")));
    }
    if until.is_some_and(|until| until < outside::now()) {
        out.findings
            .push(wrong(format!("the profile is over{}: no device takes it", day.replace(", until", " since"))));
    }
    match profile.reach {
        Reach::Development => {
            let what = "the profile is for development: no shop takes it";
            out.findings.push(Finding::warns("debug-build", what, "export it with the profile for the shop"));
        }
        Reach::Named(_) | Reach::Organisation => {
            let what = format!("the profile is {reach}: no shop takes it");
            out.findings.push(Finding::note("profile-reach", what));
        }
        Reach::Shop => {}
    }
    if code.team().is_some_and(|team| !profile.teams.iter().any(|known| known == team)) {
        let team = code.team().unwrap_or_default();
        out.findings.push(wrong(format!(
            "the team {} has signed it, the profile is of {}",
            shown(team),
            shown(&profile.teams.join(", "))
        )));
    }
    if signer.is_some_and(|signer| !profile.certificates.contains(&signer.certificate)) {
        out.findings.push(wrong("the profile does not name the certificate that it is signed with".to_owned()));
    }
    let entitlements = code.entitlements();
    let beyond: Vec<String> = entitlements.beyond(&profile.allows).into_iter().map(shown).collect();
    if !beyond.is_empty() {
        out.findings.push(wrong(format!("it wants more than the profile allows: {}", listed(&beyond, MAX_NAMED))));
    }
    let (Some(known_as), Some(identity)) = (entitlements.text(IDENTITY), out.identity.as_deref()) else { return };
    if known_as.split_once('.').map(|(_, rest)| rest) != Some(identity) {
        let what = format!("it is signed to be {}, and calls itself {}", shown(known_as), shown(identity));
        out.findings.push(wrong(what));
    }
    if !code.has_entitlements_in_der() {
        let what = "its entitlements are in the older form alone: newer devices do not start it";
        out.findings.push(Finding::warns("profile", what, "sign it with newer tools"));
    }
}
