//! `number`: the build number that the next release gets.

use lantern_core::board::FAR;
use lantern_core::event::{EventBody, NextNumber, NumberLeft, StorefrontRef};
use lantern_core::version::{BuildNumber, ReleaseName};

use crate::ProjectError;
use crate::records::RecordsError;
use crate::workspace::{Session, Workspace};

/// The next number, and why it is that.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NextNumberShown {
    /// What the next release gets.
    pub next: BuildNumber,
    /// The highest that was taken so far, here or at a storefront.
    pub highest: Option<BuildNumber>,
    /// Where the highest was taken, in words; none where it was here.
    pub seen_at: Option<String>,
    /// What someone set it to, where that counts.
    pub set_to: Option<BuildNumber>,
    /// Numbers at storefronts that lie too far above to be followed without a word.
    pub far: Vec<FarNumber>,
}

/// A number at a storefront that lies far above all others.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FarNumber {
    /// Where.
    pub storefront: StorefrontRef,
    /// The release that has it there.
    pub name: ReleaseName,
}

impl Workspace {
    /// Says which number the next release gets.
    ///
    /// # Errors
    /// [`ProjectError::Ledger`], [`ProjectError::Number`] when numbers ran out.
    pub fn next_number(&self) -> Result<NextNumberShown, ProjectError> {
        let numbers = self.boards()?.numbers();
        let next = numbers.next()?;
        let far = numbers.far.values().cloned().map(|(storefront, name)| FarNumber { storefront, name }).collect();
        let seen_at = numbers.found_at.as_ref().map(ToString::to_string);
        let set_to = numbers.set.filter(|set| *set == next);
        Ok(NextNumberShown { next, highest: numbers.highest, seen_at, set_to, far })
    }
}

impl Session {
    /// Sets the number that the next release gets.
    ///
    /// # Errors
    /// [`RecordsError::NumberTaken`] when it is not above all that were taken.
    pub fn set_next_number(&mut self, next: BuildNumber) -> Result<NextNumberShown, ProjectError> {
        let edition = self.project().first_edition();
        self.record_decided(&edition, |session| {
            let numbers = session.workspace.boards()?.numbers();
            // Below one that lies far above, such as a mistake that was followed, numbers can go on where they were.
            let above = numbers.taken.range(next..).next().filter(|taken| taken.get() - next.get() <= FAR);
            if let Some(highest) = above.and(numbers.highest).or(above.copied()) {
                return Err(RecordsError::NumberTaken { asked: next, highest }.into());
            }
            let is_next = numbers.next()? == next;
            Ok(((), (!is_next).then_some(EventBody::NextNumber(NextNumber { next }))))
        })?;
        self.workspace.next_number()
    }

    /// Keeps numbers from following one at a storefront that lies far above them; it is not asked about again.
    ///
    /// # Errors
    /// [`ProjectError::Ledger`].
    pub fn leave_number(&mut self, far: &FarNumber) -> Result<(), ProjectError> {
        let edition = self.project().first_edition();
        let left = NumberLeft { storefront: far.storefront.clone(), name: far.name.clone() };
        self.workspace.record(&edition, EventBody::NumberLeft(left), None).map(|_| ())
    }
}
