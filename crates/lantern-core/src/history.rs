//! What the events say, for those who read them back.

use std::collections::{HashMap, HashSet};

use crate::digest::ReleaseId;
use crate::event::{
    Action, Asked, BranchFacts, Event, EventBody, EventId, InvitationEnded, Invited, NotDone, StepSaid, StepsBegun,
    StorefrontRef,
};
use crate::names::Name;
use crate::version::{BuildNumber, ReleaseAsked, ReleaseName};

/// What an event is about.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct About<'a> {
    /// By their names.
    pub releases: Vec<&'a ReleaseName>,
    /// By the project's name.
    pub storefront: Option<&'a Name>,
    /// There.
    pub branch: Option<&'a Name>,
}

impl About<'_> {
    /// Whether it is about all that is asked for; what is none is not asked for.
    pub fn is_about(&self, release: Option<&ReleaseAsked>, storefront: Option<&str>, branch: Option<&str>) -> bool {
        release.is_none_or(|asked| self.releases.iter().any(|name| asked.matches(name)))
            && storefront.is_none_or(|asked| self.storefront.is_some_and(|name| name.as_str() == asked))
            && branch.is_none_or(|asked| self.branch.is_some_and(|name| name.as_str() == asked))
    }
}

/// What events refer to and do not say themselves.
#[derive(Debug, Default)]
pub struct History<'a> {
    asked: HashMap<EventId, &'a Asked>,
    begun: HashMap<EventId, &'a StepsBegun>,
    names: HashMap<ReleaseId, &'a ReleaseName>,
}

impl<'a> History<'a> {
    /// Takes it from all events.
    pub fn of(events: &'a [Event]) -> Self {
        let mut out = Self::default();
        for event in events {
            match &event.body {
                EventBody::Asked(e) => _ = out.asked.insert(e.key, e),
                EventBody::StepsBegun(e) => _ = out.begun.insert(e.key, e),
                EventBody::Sealed(e) => _ = out.names.insert(e.release, &e.name),
                EventBody::BuildFound(e) => _ = out.names.insert(e.release, &e.name),
                EventBody::Adopted(e) => _ = out.names.insert(e.release, &e.name),
                _ => {}
            }
        }
        out
    }

    /// Returns what an event is about: a refusal is about what was asked, what was freed about its releases.
    pub fn about(&self, body: &'a EventBody) -> About<'a> {
        match body {
            EventBody::NotDone(NotDone { key, .. }) | EventBody::StepSaid(StepSaid { key, .. }) => {
                let asked = self.asked.get(key).map(|e| about_asked(&e.name, &e.storefront, &e.action));
                let begun = || self.begun.get(key).map(|e| about_asked(&e.name, &e.storefront, &e.action));
                asked.or_else(begun).unwrap_or_default()
            }
            EventBody::Freed(e) => About {
                releases: e.releases.iter().filter_map(|id| self.names.get(id).copied()).collect(),
                ..About::default()
            },
            other => about(other),
        }
    }
}

fn about_asked<'a>(name: &'a ReleaseName, storefront: &'a StorefrontRef, action: &'a Action) -> About<'a> {
    let branch = match action {
        Action::Promote { branch } | Action::Rollback { branch } => Some(branch),
        Action::Push | Action::Withdraw { .. } | Action::Other(_) => None,
    };
    About { releases: vec![name], storefront: Some(&storefront.name), branch }
}

/// Returns what an event is about, as far as it says so itself.
fn about(body: &EventBody) -> About<'_> {
    let (storefront, facts): (&StorefrontRef, &BranchFacts) = match body {
        EventBody::Moved(e) => (&e.storefront, &e.facts),
        EventBody::BranchReported(e) => (&e.storefront, &e.facts),
        EventBody::Sealed(e) => return About { releases: vec![&e.name], ..About::default() },
        EventBody::Looked(e) => return About { releases: vec![&e.name], ..About::default() },
        EventBody::Tried(e) => return About { releases: vec![&e.name], ..About::default() },
        EventBody::Connected(e) => return About { storefront: Some(&e.storefront.name), ..About::default() },
        EventBody::BranchWentBack(e) => (&e.storefront, &e.facts),
        EventBody::NumberLeft(e) => {
            return About { releases: vec![&e.name], storefront: Some(&e.storefront.name), branch: None };
        }
        EventBody::BuildFound(e) => {
            return About { releases: vec![&e.name], storefront: Some(&e.storefront.name), branch: None };
        }
        EventBody::BuildGone(e) => {
            return About { releases: vec![&e.name], storefront: Some(&e.storefront.name), branch: None };
        }
        EventBody::Pushed(e) => {
            return About { releases: vec![&e.name], storefront: Some(&e.storefront.name), branch: None };
        }
        EventBody::Withdrawn(e) => {
            return About { releases: vec![&e.name], storefront: e.storefront.as_ref().map(|p| &p.name), branch: None };
        }
        EventBody::Adopted(e) => {
            let branch = e.branch.as_ref();
            return About { releases: vec![&e.name], storefront: Some(&e.storefront.name), branch };
        }
        EventBody::Asked(e) => return about_asked(&e.name, &e.storefront, &e.action),
        EventBody::StepsBegun(e) => return about_asked(&e.name, &e.storefront, &e.action),
        EventBody::Invited(Invited { storefront, branch, .. })
        | EventBody::InvitationEnded(InvitationEnded { storefront, branch, .. }) => {
            return About { storefront: Some(&storefront.name), branch: Some(branch), ..About::default() };
        }
        EventBody::NumberReserved(_)
        | EventBody::NextNumber(_)
        | EventBody::NotDone(_)
        | EventBody::Freed(_)
        | EventBody::Rebuilt(_)
        | EventBody::StepSaid(_)
        | EventBody::ApprovalSaid(_)
        | EventBody::Other { .. } => return About::default(),
    };
    About {
        releases: facts.targets.values().map(|b| &b.name).collect(),
        storefront: Some(&storefront.name),
        branch: Some(&facts.branch),
    }
}

/// Tells which events a later one says better: askings that were answered, numbers that were sealed. It is given the events
/// from the newest to the oldest.
#[derive(Debug, Default)]
pub struct Settling {
    answered: HashSet<EventId>,
    sealed: HashSet<BuildNumber>,
}

impl Settling {
    /// Whether a later event says this one better.
    pub fn is_settled(&mut self, event: &Event) -> bool {
        match &event.body {
            EventBody::Pushed(e) => self.answered.extend(e.key),
            EventBody::Moved(e) => self.answered.extend([e.key]),
            EventBody::NotDone(e) => self.answered.extend([e.key]),
            EventBody::Withdrawn(e) => self.answered.extend(e.key),
            EventBody::Sealed(e) => self.sealed.extend([e.name.number]),
            EventBody::Asked(e) => return self.answered.contains(&e.key),
            EventBody::StepsBegun(e) => return self.answered.contains(&e.key),
            EventBody::StepSaid(e) => return self.answered.contains(&e.key),
            EventBody::NumberReserved(e) => return self.sealed.contains(&e.number),
            _ => {}
        }
        false
    }
}

#[cfg(test)]
mod tests {
    use jiff::Timestamp;

    use super::*;
    use crate::digest::{InputDigest, ReleaseId};
    use crate::event::{Asked, Freed, NextNumber, NotDone, NumberReserved, Sealed};

    fn id(n: u8) -> EventId {
        EventId::new(Timestamp::UNIX_EPOCH, [n; 10])
    }

    fn asked(key: u8) -> EventBody {
        let storefront = StorefrontRef {
            id: "by-1".into(),
            name: "brambleyard".parse().unwrap(),
            handle: "saltmarsh-post".parse().unwrap(),
        };
        let action = Action::Promote { branch: "creek".parse().unwrap() };
        EventBody::Asked(Asked {
            key: id(key),
            storefront,
            action,
            release: ReleaseId::of(b"r"),
            name: "1.4.0 (27)".parse().unwrap(),
            targets: Vec::new(),
        })
    }

    fn settled(events: &[Event]) -> HashSet<EventId> {
        let mut settling = Settling::default();
        events.iter().rev().filter(|event| settling.is_settled(event)).map(|event| event.id).collect()
    }

    #[test]
    fn what_was_answered_or_sealed_is_settled() {
        let input = InputDigest::of(b"i");
        let reserved = |number| {
            let number = BuildNumber::new(number).unwrap();
            EventBody::NumberReserved(NumberReserved { number, input })
        };
        let name = "1.4.0 (27)".parse().unwrap();
        let sealed = EventBody::Sealed(Sealed::new(ReleaseId::of(b"r"), name, input, Vec::new()));
        let not_done = EventBody::NotDone(NotDone { key: id(101), why: "lost".into() });
        let bodies = [asked(101), asked(102), reserved(27), reserved(28), sealed, not_done];
        let events: Vec<Event> = (1..).zip(bodies).map(|(n, body)| Event::sample(id(n), body)).collect();
        assert_eq!(settled(&events), HashSet::from([id(1), id(3)]));
    }

    #[test]
    fn what_was_not_done_is_about_what_was_asked_and_what_was_freed_about_its_releases() {
        let not_done = EventBody::NotDone(NotDone { key: id(101), why: "lost".into() });
        let name: ReleaseName = "1.4.0 (27)".parse().unwrap();
        let (input, release) = (InputDigest::of(b"i"), ReleaseId::of(b"r"));
        let sealed = EventBody::Sealed(Sealed::new(release, name, input, Vec::new()));
        let freed = EventBody::Freed(Freed { releases: vec![release] });
        let bodies = [asked(101), sealed, not_done, freed];
        let events: Vec<Event> = (1..).zip(bodies).map(|(n, body)| Event::sample(id(n), body)).collect();
        let history = History::of(&events);
        let asked: ReleaseAsked = "27".parse().unwrap();
        let other: ReleaseAsked = "28".parse().unwrap();
        let about = |n: usize| history.about(&events[n].body);
        assert!(about(2).is_about(Some(&asked), Some("brambleyard"), Some("creek")));
        assert!(!about(2).is_about(Some(&other), None, None) && !about(2).is_about(None, Some("old-pier"), None));
        assert!(about(3).is_about(Some(&asked), None, None) && !about(3).is_about(None, None, Some("creek")));
    }

    #[test]
    fn an_event_is_about_its_release_storefront_and_branch() {
        let asked = asked(1);
        let found = about(&asked);
        assert_eq!(found.releases.iter().map(ToString::to_string).collect::<Vec<_>>(), ["1.4.0 (27)"]);
        assert_eq!(found.storefront.map(Name::as_str), Some("brambleyard"));
        assert_eq!(found.branch.map(Name::as_str), Some("creek"));
        let begin = EventBody::NextNumber(NextNumber { next: BuildNumber::new(24).unwrap() });
        assert_eq!(about(&begin), About::default());
    }
}
