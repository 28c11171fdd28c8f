//! What the events say, for those who read them back.

use std::collections::HashSet;

use crate::event::{BranchFacts, Deed, Event, EventBody, EventId, InvitationEnded, Invited, PlaceRef};
use crate::names::Name;
use crate::version::ReleaseName;

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

/// Returns what an event is about.
pub fn about(body: &EventBody) -> About<'_> {
    let (place, facts): (&PlaceRef, &BranchFacts) = match body {
        EventBody::Moved(e) => (&e.place, &e.facts),
        EventBody::Seen(e) => (&e.place, &e.facts),
        EventBody::Sealed(e) => return About { releases: vec![&e.name], ..About::default() },
        EventBody::Tried(e) => return About { releases: vec![&e.name], ..About::default() },
        EventBody::Connected(e) => return About { storefront: Some(&e.place.name), ..About::default() },
        EventBody::BranchWentBack(e) => (&e.place, &e.facts),
        EventBody::NumberSeen(e) | EventBody::NumberLeft(e) => {
            return About { releases: vec![&e.name], storefront: Some(&e.place.name), branch: None };
        }
        EventBody::BuildFound(e) => {
            return About { releases: vec![&e.name], storefront: Some(&e.place.name), branch: None };
        }
        EventBody::BuildGone(e) => {
            return About { releases: vec![&e.name], storefront: Some(&e.place.name), branch: None };
        }
        EventBody::Pushed(e) => {
            return About { releases: vec![&e.name], storefront: Some(&e.place.name), branch: None };
        }
        EventBody::Withdrawn(e) => {
            return About { releases: vec![&e.name], storefront: e.place.as_ref().map(|p| &p.name), branch: None };
        }
        EventBody::Asked(e) => {
            let branch = match &e.deed {
                Deed::Promote { branch } | Deed::Rollback { branch } => Some(branch),
                Deed::Push | Deed::Withdraw { .. } | Deed::Other(_) => None,
            };
            return About { releases: vec![&e.name], storefront: Some(&e.place.name), branch };
        }
        EventBody::Invited(Invited { place, branch, .. })
        | EventBody::InvitationEnded(InvitationEnded { place, branch, .. }) => {
            return About { storefront: Some(&place.name), branch: Some(branch), ..About::default() };
        }
        EventBody::NumberReserved(_)
        | EventBody::NumbersBegin(_)
        | EventBody::NextNumber(_)
        | EventBody::NotDone(_)
        | EventBody::Freed(_)
        | EventBody::Rebuilt(_)
        | EventBody::Other { .. } => return About::default(),
    };
    About {
        releases: facts.targets.values().map(|b| &b.name).collect(),
        storefront: Some(&place.name),
        branch: Some(&facts.branch),
    }
}

/// Returns the events that a later one says better: askings that were answered, numbers that were sealed.
pub fn settled(events: &[Event]) -> HashSet<EventId> {
    let mut answered = HashSet::new();
    let mut sealed = HashSet::new();
    for event in events {
        match &event.body {
            EventBody::Pushed(e) => answered.extend(e.key),
            EventBody::Moved(e) => answered.extend([e.key]),
            EventBody::NotDone(e) => answered.extend([e.key]),
            EventBody::Withdrawn(e) => answered.extend(e.key),
            EventBody::Sealed(e) => sealed.extend([e.name.number]),
            _ => {}
        }
    }
    let is_settled = |event: &&Event| match &event.body {
        EventBody::Asked(e) => answered.contains(&e.key),
        EventBody::NumberReserved(e) => sealed.contains(&e.number),
        _ => false,
    };
    events.iter().filter(is_settled).map(|event| event.id).collect()
}

#[cfg(test)]
mod tests {
    use jiff::Timestamp;

    use super::*;
    use crate::digest::{InputDigest, ReleaseId};
    use crate::event::{Asked, NotDone, NumberReserved, NumbersBegin, Sealed};
    use crate::version::BuildNumber;

    fn id(n: u8) -> EventId {
        EventId::new(Timestamp::UNIX_EPOCH, [n; 10])
    }

    fn asked(key: u8) -> EventBody {
        let place = PlaceRef {
            storefront: "by-1".into(),
            name: "brambleyard".parse().unwrap(),
            handle: "saltmarsh-post".parse().unwrap(),
        };
        let deed = Deed::Promote { branch: "creek".parse().unwrap() };
        EventBody::Asked(Asked {
            key: id(key),
            place,
            deed,
            release: ReleaseId::of(b"r"),
            name: "1.4.0 (27)".parse().unwrap(),
            targets: Vec::new(),
        })
    }

    #[test]
    fn what_was_answered_or_sealed_is_settled() {
        let input = InputDigest::of(b"i");
        let reserved = |number| {
            let number = BuildNumber::new(number).unwrap();
            EventBody::NumberReserved(NumberReserved { number, input })
        };
        let name = "1.4.0 (27)".parse().unwrap();
        let sealed =
            EventBody::Sealed(Sealed { release: ReleaseId::of(b"r"), name, input, targets: Vec::new(), warnings: 0 });
        let not_done = EventBody::NotDone(NotDone { key: id(101), why: "lost".into() });
        let bodies = [asked(101), asked(102), reserved(27), reserved(28), sealed, not_done];
        let events: Vec<Event> = (1..).zip(bodies).map(|(n, body)| Event::sample(id(n), body)).collect();
        assert_eq!(settled(&events), HashSet::from([id(1), id(3)]));
    }

    #[test]
    fn an_event_is_about_its_release_place_and_branch() {
        let asked = asked(1);
        let found = about(&asked);
        assert_eq!(found.releases.iter().map(ToString::to_string).collect::<Vec<_>>(), ["1.4.0 (27)"]);
        assert_eq!(found.storefront.map(Name::as_str), Some("brambleyard"));
        assert_eq!(found.branch.map(Name::as_str), Some("creek"));
        let begin = EventBody::NumbersBegin(NumbersBegin { last: BuildNumber::new(24).unwrap() });
        assert_eq!(about(&begin), About::default());
    }
}
