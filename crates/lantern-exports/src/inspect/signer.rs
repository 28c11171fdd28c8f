//! Who signed a thing: the same for programs, packages and bundles.

use lantern_core::finding::{Code, Finding};
use lantern_core::path::shown;
use lantern_formats::Signer;
use lantern_formats::certificate::short_name;

use super::{Fact, Inspected, Signature};

/// Says who signed, until when the certificate holds and when it was; what it is worth depends on who trusts its issuer,
/// which is not judged.
pub(super) fn say(signer: &Signer, is_intact: bool, out: &mut Inspected) {
    let whose = short_name(&signer.subject);
    let whose = Some(whose).filter(|whose| !whose.is_empty()).map(shown);
    out.signature = Signature::Identity { whose, is_intact: Some(is_intact) };
    if !signer.chain.is_empty() {
        out.facts.push((Fact::CertifiedBy, chain_of(&signer.chain)));
    }
    if !signer.subject.is_empty() {
        out.facts.push((Fact::CertificateExpires, day(signer.valid.1)));
    }
    out.facts.extend(signer.stamped.map(|time| (Fact::TimeStamp, day(time))));
    if !signer.stamped_by.is_empty() {
        out.facts.push((Fact::TimeStampBy, chain_of(&signer.stamped_by)));
    }
    let old = signer.stamped_unverified.map(|time| format!("{}, of an older kind, not verified", day(time)));
    out.facts.extend(old.map(|says| (Fact::TimeStamp, says)));
    out.facts.extend(signer.unverified.iter().map(|what| (Fact::NotVerified, shown(what))));
}

fn chain_of(names: &[String]) -> String {
    let names: Vec<String> = names.iter().map(|name| shown(name)).collect();
    names.join(", by ")
}

/// Says that someone else signed as well.
pub(super) fn say_other(signer: &Signer, out: &mut Inspected) {
    let whose = short_name(&signer.subject);
    let chain = if signer.chain.is_empty() { String::new() } else { format!(", by {}", chain_of(&signer.chain)) };
    out.facts.push((Fact::AlsoSignedBy, format!("{}{chain}", shown(whose))));
    out.facts.extend(signer.unverified.iter().map(|what| (Fact::NotVerified, shown(what))));
}

/// A moment, from seconds since 1970; what is beyond all calendars is the last one.
fn moment(seconds: u64) -> jiff::Timestamp {
    let time = i64::try_from(seconds).ok().and_then(|seconds| jiff::Timestamp::from_second(seconds).ok());
    time.unwrap_or(jiff::Timestamp::MAX)
}

fn day(seconds: u64) -> String {
    moment(seconds).strftime("%Y-%m-%d").to_string()
}

/// What is wrong with the certificate of a program, which must hold when it is started unless a time stamp says that it
/// held when it signed.
pub(super) fn judge(signer: &Signer, whose: &str, out: &mut Inspected) {
    let now = u64::try_from(out.at.as_second()).unwrap_or(0);
    let (from, until) = signer.valid;
    let stamped = signer.stamped.or(signer.stamped_unverified);
    let at = stamped.unwrap_or(now);
    if stamped.is_none() {
        out.changes_at(Some(moment(from)));
        out.changes_at(Some(moment(until)));
    }
    if at > until {
        let what = match stamped {
            Some(time) => {
                format!("{whose} was made on {}, when its certificate was over since {}", day(time), day(until))
            }
            None => {
                format!("the certificate of {whose} expired on {}, and the signature has no time stamp", day(until))
            }
        };
        out.findings.push(Finding::of(Code::CertificateExpired, what, "sign it again, with a time stamp"));
    } else if at < from {
        let what = format!("{whose} was made before its certificate, which begins on {}", day(from));
        out.findings.push(Finding::of(Code::CertificateExpired, what, "is a clock wrong? Sign it again"));
    }
    if signer.is_for_other_things {
        let what = format!("{whose} is made with a certificate that is not for signing programs");
        out.findings.push(Finding::of(Code::CertificateKind, what, "sign it with one that is"));
    }
}
