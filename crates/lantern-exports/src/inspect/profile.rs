//! The profile of a bundle, against the program and its signature.

use lantern_core::finding::{Code, Finding, Severity, join_some};
use lantern_core::path::shown;
use lantern_formats::Signer;
use lantern_formats::macho::{CodeSignature, needs_profile};
use lantern_formats::profile::{Profile, Reach};

use super::{Fact, Inspected, small_file};
use crate::export::Export;

const MAX_NAMED: usize = 4;

/// What the bundle runs on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    /// Nothing runs without a profile.
    Phone,
    /// A profile is there for what not every program may do.
    Desktop,
}

fn wrong(what: String) -> Finding {
    Finding::of(Code::ProfileMismatch, what, "export it again, with the profile of this game")
}

/// Looks at the profile of a bundle, and compares the program's signature with it.
pub(super) fn inspect(
    export: &Export,
    base: &str,
    kind: Kind,
    (code, signer): (&CodeSignature, Option<&Signer>),
    out: &mut Inspected,
) {
    let is_phone = kind == Kind::Phone;
    let is_judged = |word: &&str| needs_profile(word, is_phone);
    let entitlements = code.entitlements();
    let file = if is_phone { "embedded.mobileprovision" } else { "embedded.provisionprofile" };
    let Some(bytes) = small_file(export, &format!("{base}{file}"), out) else {
        if is_phone {
            out.facts.push((Fact::Profile, "none".to_owned()));
            let what = "it contains no profile: no device accepts it";
            return out.findings.push(Finding::of(Code::NoProfile, what, "export it with your team's profile"));
        }
        let wants: Vec<String> = entitlements.names().filter(is_judged).map(shown).collect();
        if !wants.is_empty() && signer.is_some() {
            let what =
                format!("it asks for what only a profile can allow, and has none: {}", join_some(&wants, MAX_NAMED));
            let fix = "export it with your team's profile, or without these entitlements: macOS does not start it";
            out.findings.push(Finding::of(Code::NoProfile, what, fix));
        }
        return;
    };
    let profile = match Profile::read(&bytes) {
        Ok(profile) => profile,
        Err(error) => return out.findings.push(wrong(format!("the profile cannot be read: {error}"))),
    };
    let reach = match profile.reach {
        Reach::Development => "for developers' own devices".to_owned(),
        Reach::Named(count) => format!("for {count} named devices"),
        Reach::Everywhere if is_phone => "for the devices of an organisation".to_owned(),
        Reach::Everywhere => "for all computers".to_owned(),
        Reach::Shop => "for the shop".to_owned(),
    };
    let until = profile.expires.as_deref().and_then(|date| date.parse::<jiff::Timestamp>().ok());
    let day = until.map(|until| format!(", until {}", until.strftime("%Y-%m-%d"))).unwrap_or_default();
    out.facts.push((Fact::Profile, format!("{}, {reach}{day}", shown(&profile.name))));
    if let Some(why) = &profile.signer.wrong {
        out.findings.push(wrong(format!("the profile is not valid: {why}")));
    }
    if until.is_some_and(|until| until < out.at) {
        let since = day.replace(", until", " on");
        out.findings.push(wrong(format!("the profile expired{since}: devices reject it")));
    }
    out.changes_at(until);
    match profile.reach {
        Reach::Development => {
            let what = "the profile is for development: no shop accepts it";
            out.findings.push(
                Finding::of(Code::DebugBuild, what, "export it with the profile for the shop")
                    .with_severity(Severity::Warning),
            );
        }
        Reach::Everywhere if !is_phone => {}
        Reach::Named(_) | Reach::Everywhere => {
            let what = format!("the profile is {reach}: no shop accepts it");
            out.findings.push(Finding::note(Code::ProfileReach, what));
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
    let beyond = entitlements.beyond(&profile.allows).into_iter().filter(is_judged);
    let beyond: Vec<String> = beyond.map(shown).collect();
    if !beyond.is_empty() {
        out.findings
            .push(wrong(format!("it asks for more than the profile allows: {}", join_some(&beyond, MAX_NAMED))));
    }
    let (Some(known_as), Some(identity)) = (entitlements.known_as(), out.identity.as_deref()) else { return };
    if known_as.split_once('.').map(|(_, rest)| rest) != Some(identity) {
        let what = format!("it is signed to be {}, and calls itself {}", shown(known_as), shown(identity));
        out.findings.push(wrong(what));
    }
    if is_phone && !code.has_entitlements_in_der() {
        let what = "its entitlements are in the older form only: newer devices do not start it";
        out.findings.push(
            Finding::of(Code::ProfileMismatch, what, "sign it with newer tools").with_severity(Severity::Warning),
        );
    }
}
