//! Invitations: texts that let someone follow a branch that not everybody follows. Described in `docs/protocol.md`.

use std::fmt;
use std::str::FromStr;

use crate::digest::InvitationId;

/// Random bytes of an invitation: 120 bits, far beyond guessing.
const SECRET_LEN: usize = 15;
/// Characters of the text, without dashes: 24 of the secret, then 4 that tell a mistyped one.
const TEXT_LEN: usize = 28;
/// Characters between two dashes.
const GROUP_LEN: usize = 4;
/// Digits of 5 bits, without the letters that are taken for others. Source: D. Crockford, "Base 32"
/// (<https://www.crockford.com/base32.html>), without its check symbol.
const DIGITS: &[u8; 32] = b"0123456789abcdefghjkmnpqrstvwxyz";

/// What a tester is given. Anyone who has it can follow the branch that it was made for; only its [`InvitationId`] is known
/// to the storefront.
#[derive(Clone, PartialEq, Eq)]
pub struct Invitation([u8; SECRET_LEN]);

/// Why a text is not an invitation. It does not repeat the text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum InvitationError {
    /// Another length, or characters that none has.
    #[error("this is not an invitation: one has seven groups of four letters and digits")]
    Form,
    /// The last group does not fit the others.
    #[error("this invitation is mistyped: its letters do not fit together")]
    Mistyped,
}

impl Invitation {
    /// Makes an invitation of random bytes.
    pub fn new(random: [u8; SECRET_LEN]) -> Self {
        Self(random)
    }

    /// Returns the id under which a storefront knows it: a one-way digest.
    pub fn id(&self) -> InvitationId {
        InvitationId::of(&self.0)
    }

    /// Returns the text that is given to testers. It is shown when it is made, sent to the storefront by their machines, and
    /// written nowhere else.
    ///
    /// # Security
    /// Anyone who reads it is invited.
    #[expect(clippy::indexing_slicing, reason = "there is a digit for each of 32")]
    pub fn reveal(&self) -> String {
        let digits: Vec<char> = self.digits().iter().map(|digit| char::from(DIGITS[usize::from(*digit)])).collect();
        let groups: Vec<String> = digits.chunks(GROUP_LEN).map(|group| group.iter().collect()).collect();
        groups.join("-")
    }

    /// The digits' values: those of the secret, then those of the first 20 bits of its id.
    fn digits(&self) -> Vec<u8> {
        let id = self.id();
        let mut out = Vec::with_capacity(TEXT_LEN);
        let (mut bits, mut count) = (0_u32, 0);
        for byte in self.0.iter().chain(&id.0.as_bytes()[..3]) {
            (bits, count) = (bits << 8 | u32::from(*byte), count + 8);
            while count >= 5 && out.len() < TEXT_LEN {
                count -= 5;
                out.push((bits >> count & 31) as u8);
            }
        }
        out
    }
}

impl fmt::Debug for Invitation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Invitation({}, text not shown)", self.id().0.short())
    }
}

impl FromStr for Invitation {
    type Err = InvitationError;

    /// Reads a text as people type it: in any letter case, with or without dashes and spaces, with `o` for zero and `i` or
    /// `l` for one.
    #[expect(clippy::indexing_slicing, reason = "it counts no further than there are bytes")]
    fn from_str(text: &str) -> Result<Self, InvitationError> {
        let mut digits = Vec::with_capacity(TEXT_LEN);
        for c in text.chars().filter(|c| !matches!(c, '-' | '\u{2011}' | '\u{2013}') && !c.is_whitespace()) {
            let c = match c.to_ascii_lowercase() {
                'o' => '0',
                'i' | 'l' => '1',
                other => other,
            };
            let digit = DIGITS.iter().position(|digit| char::from(*digit) == c);
            let digit = digit.filter(|_| digits.len() < TEXT_LEN).and_then(|digit| u8::try_from(digit).ok());
            digits.push(digit.ok_or(InvitationError::Form)?);
        }
        if digits.len() != TEXT_LEN {
            return Err(InvitationError::Form);
        }
        let mut secret = [0; SECRET_LEN];
        let (mut bits, mut count, mut at) = (0_u32, 0, 0);
        for digit in &digits {
            (bits, count) = (bits << 5 | u32::from(*digit), count + 5);
            if count >= 8 && at < SECRET_LEN {
                count -= 8;
                secret[at] = (bits >> count & 255) as u8;
                at += 1;
            }
        }
        let invitation = Self(secret);
        if invitation.digits() == digits { Ok(invitation) } else { Err(InvitationError::Mistyped) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_text_is_fixed() {
        let invitation = Invitation::new([7; SECRET_LEN]);
        assert_eq!(invitation.reveal(), "0w3g-e1r7-0w3g-e1r7-0w3g-e1r7-t7na");
        assert!(!format!("{invitation:?}").contains("0w3g"), "{invitation:?}");
    }

    #[test]
    fn a_text_is_read_as_people_type_it() {
        let invitation = Invitation::new([7; SECRET_LEN]);
        let text = invitation.reveal();
        for typed in [
            text.to_uppercase(),
            text.replace('-', " "),
            text.replace('-', ""),
            format!("  {text}\n"),
            text.replace('0', "O").replace('1', "l"),
        ] {
            assert_eq!(typed.parse(), Ok(invitation.clone()), "{typed}");
        }
        for (wrong, why) in [
            ("", InvitationError::Form),
            (&text[1..], InvitationError::Form),
            (&format!("{text}0"), InvitationError::Form),
            (&text.replace('w', "u"), InvitationError::Form),
            (&text.replace('w', "x"), InvitationError::Mistyped),
        ] {
            assert_eq!(wrong.parse::<Invitation>(), Err(why), "{wrong}");
        }
    }

    proptest! {
        #[test]
        fn written_and_read_back(secret: [u8; SECRET_LEN], at in 0..TEXT_LEN) {
            let invitation = Invitation::new(secret);
            let text = invitation.reveal();
            prop_assert_eq!(text.parse(), Ok(invitation));
            // One letter more or less is never taken for another invitation.
            let mut letters: Vec<char> = text.replace('-', "").chars().collect();
            letters.remove(at);
            prop_assert!(letters.iter().collect::<String>().parse::<Invitation>().is_err());
        }
    }
}
