//! The signatures of a program, slice by slice, and of what they cover beside it.

use lantern_core::path::shown;

use super::ReadSeek;
use crate::macho::{CodeSignature, Details, Special, Wrong};
use crate::{FormatError, Signer};

/// What the signatures of a program's slices say.
#[derive(Debug)]
pub struct CodeVerdict {
    /// One of each slice that has one.
    pub signatures: Vec<CodeSignature>,
    /// Who signed the first of them, where it was an identity.
    pub signer: Option<Signer>,
    /// Why they do not hold; none when they do.
    pub wrong: Option<String>,
}

/// Verifies the signature of every slice; the first thing that is wrong counts. `beside` is what it covers
/// beside itself: slot, path and bytes. None where nothing is signed.
///
/// # Errors
/// [`FormatError`].
pub fn verify_code(
    mut from: &mut dyn ReadSeek,
    details: &[Details],
    beside: &[(Special, String, Option<Vec<u8>>)],
) -> Result<Option<CodeVerdict>, FormatError> {
    let mut signatures = Vec::new();
    for of in details {
        signatures.extend(CodeSignature::read(&mut from, of)?.map(|signature| (of.slice, signature)));
    }
    if signatures.is_empty() {
        return Ok(None);
    }
    // Linkers sign the slices for Apple's own processors alone, without an identity: the others need nothing.
    let is_gap = signatures.len() < details.len() && !signatures.iter().all(|(_, signature)| signature.is_ad_hoc());
    let mut wrong = is_gap.then(|| "one of its slices carries none".to_owned());
    let mut first_signer = None;
    for (slice, signature) in &signatures {
        wrong = wrong.or(signature.verify(&mut from)?.map(|wrong| match wrong {
            Wrong::Page(at) => {
                let of = if details.len() > 1 { format!(" for {}", slice.machine) } else { String::new() };
                format!("the code{of} changed after it was signed, first in the page at byte {}", slice.offset + at)
            }
            Wrong::NotCovered => "it does not cover the whole program".to_owned(),
            Wrong::NoMessage => "nobody has signed it, and it does not say that it is ad hoc".to_owned(),
            Wrong::Special(Special::Entitlements | Special::EntitlementsDer) => {
                "its entitlements were changed".to_owned()
            }
            _ => "its code directory was changed".to_owned(),
        }));
        // Nobody promised that the rest of a bundle is as it was where nobody signed it. An identity means all of it.
        let is_code_alone = |slot: Special| signature.is_ad_hoc() && !signature.covers(slot);
        let mut covered = beside.iter().filter(|(slot, ..)| !is_code_alone(*slot));
        let changed = covered.find(|(slot, _, bytes)| !signature.holds(*slot, bytes.as_deref()));
        wrong = wrong.or(changed.map(|(_, path, _)| format!("{} was changed after it was signed", shown(path))));
        let differs = signature.entitlements_agree() == Some(false);
        wrong = wrong.or_else(|| differs.then(|| "its two lists of entitlements differ".to_owned()));
        if let Some(signer) = signature.signer()? {
            wrong = wrong.or_else(|| signer.wrong.clone());
            first_signer = first_signer.or(Some(signer));
        }
    }
    let signatures = signatures.into_iter().map(|(_, signature)| signature).collect();
    Ok(Some(CodeVerdict { signatures, signer: first_signer, wrong }))
}
