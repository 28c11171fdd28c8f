//! What a branch had before, from its history.

/// A move as far as going back is concerned.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Step {
    /// The branch's revision from then on.
    pub revision: u64,
    /// The earlier revision whose builds this move put back; none for a promotion.
    pub restores: Option<u64>,
}

/// Returns the revision to put back: what the branch had before what it has now.
///
/// Going back twice goes back twice: a move that put back a revision counts as that revision, so this never toggles
/// between two. `steps` are oldest first; those that are not `usable`, because something in them was withdrawn, are
/// passed over. None when there is nothing before.
pub fn before_now(steps: &[Step], usable: impl Fn(u64) -> bool) -> Option<u64> {
    let origin = |mut revision: u64| {
        // Each step leads to an earlier revision, so this ends; one that does not is someone's broken history.
        while let Some(step) = steps.iter().find(|s| s.revision == revision) {
            match step.restores.filter(|earlier| *earlier < revision) {
                Some(earlier) => revision = earlier,
                None => break,
            }
        }
        revision
    };
    let now = origin(steps.last()?.revision);
    steps.iter().map(|s| s.revision).filter(|revision| *revision < now && usable(*revision)).max()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn history(restores: &[Option<u64>]) -> Vec<Step> {
        restores.iter().zip(1..).map(|(restores, revision)| Step { revision, restores: *restores }).collect()
    }

    #[test]
    fn going_back_twice_goes_back_twice() {
        assert_eq!(before_now(&[], |_| true), None);
        assert_eq!(before_now(&history(&[None]), |_| true), None);
        assert_eq!(before_now(&history(&[None, None, None]), |_| true), Some(2));
        assert_eq!(before_now(&history(&[None, None, None, Some(2)]), |_| true), Some(1));
        assert_eq!(before_now(&history(&[None, None, None, Some(2), Some(1)]), |_| true), None);
    }

    #[test]
    fn a_promotion_after_going_back_begins_anew() {
        // 1: A, 2: B, 3: A again by going back, 4: C. Before C was A (3), before that nothing.
        assert_eq!(before_now(&history(&[None, None, Some(1), None]), |_| true), Some(3));
        assert_eq!(before_now(&history(&[None, None, Some(1), None, Some(3)]), |_| true), None);
    }

    #[test]
    fn what_was_withdrawn_is_passed_over() {
        assert_eq!(before_now(&history(&[None, None, None]), |revision| revision != 2), Some(1));
        assert_eq!(before_now(&history(&[None, None]), |_| false), None);
    }

    proptest! {
        #[test]
        fn it_always_ends(restores in prop::collection::vec(prop::option::of(0_u64..12), 0..10)) {
            let mut steps = history(&restores);
            let mut rounds = 0;
            while let Some(earlier) = before_now(&steps, |_| true) {
                let revision = steps.len() as u64 + 1;
                prop_assert!(earlier < revision);
                steps.push(Step { revision, restores: Some(earlier) });
                rounds += 1;
                prop_assert!(rounds <= 20);
            }
        }
    }
}
