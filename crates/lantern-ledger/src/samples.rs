//! The ledger of a busy studio, for tests and benchmarks: of every release it is reserved, sealed, tried on three targets,
//! pushed to two storefronts, promoted three times, and what storefronts said in between. Always the same.

use std::collections::BTreeMap;

use jiff::{SignedDuration, Timestamp};
use lantern_core::digest::{Digest, InputDigest, ReleaseId};
use lantern_core::event::{
    Action, Asked, BranchBuild, BranchFacts, BranchReported, Connected, Event, EventBody, EventId, Moved,
    NumberReserved, Pushed, Sealed, StorefrontRef, Tried,
};
use lantern_core::names::Name;
use lantern_core::notes::Notes;
use lantern_core::version::{BuildNumber, ReleaseName};

const TARGETS: [&str; 3] = ["windows", "macos", "linux"];
/// Events of one release.
pub const EVENTS_OF_A_RELEASE: u32 = 20;

struct Writer<T> {
    take: T,
    sequence: u64,
    predecessor: Option<Digest>,
    at: Timestamp,
}

impl<T: FnMut(String)> Writer<T> {
    fn id(&self) -> EventId {
        let mut random = [0; 10];
        random[2..].copy_from_slice(&self.sequence.to_be_bytes());
        EventId::new(self.at, random)
    }

    fn add(&mut self, revision: Option<u64>, body: EventBody) {
        self.at += SignedDuration::from_secs(317);
        self.sequence += 1;
        let event = Event {
            id: self.id(),
            device: "0123456789ab".to_owned(),
            sequence: self.sequence,
            predecessor: self.predecessor,
            actor: "wren".to_owned(),
            recorded_at: self.at,
            happened_at: revision.map(|_| self.at),
            revision,
            edition: Name::full_edition(),
            body,
        };
        let line = event.to_line();
        self.predecessor = Some(Digest::of(line.as_bytes()));
        (self.take)(line);
    }
}

fn name(text: &str) -> Name {
    text.parse().expect("a word in small letters is a name")
}

fn storefront(of: &str) -> StorefrontRef {
    let handle = "saltmarsh-post".parse().expect("a word is a handle");
    StorefrontRef { id: format!("{of}-1"), name: name(of), handle }
}

/// Gives the line of every event, in the order of writing; what was asked for last is not answered.
pub fn busy(releases: u32, take: impl FnMut(String)) {
    let at = Timestamp::UNIX_EPOCH + SignedDuration::from_hours(24 * 365 * 50);
    let mut to = Writer { take, sequence: 0, predecessor: None, at };
    let storefronts = [storefront("brambleyard"), storefront("estuary-games")];
    let targets = TARGETS.map(name).to_vec();
    for n in 1..=releases {
        let number = BuildNumber::new(u64::from(n)).expect("a release has a number above 0");
        let version = format!("1.{}.{}", n / 10, n % 10).parse().expect("numbers with full stops are a version");
        let (name_of, revision) = (ReleaseName { version, number }, Some(u64::from(n)));
        let (release, input) = (ReleaseId::of(&n.to_be_bytes()), InputDigest::of(&n.to_be_bytes()));
        let asked = |key, storefront: &StorefrontRef, action, targets: &[Name]| {
            let (storefront, name, targets) = (storefront.clone(), name_of.clone(), targets.to_vec());
            EventBody::Asked(Asked { key, storefront, action, release, name, targets })
        };
        for storefront in &storefronts {
            to.add(
                None,
                EventBody::Connected(Connected { storefront: storefront.clone(), client: "paper-heron".to_owned() }),
            );
        }
        to.add(None, EventBody::NumberReserved(NumberReserved { number, input }));
        let sealed = Sealed::new(release, name_of.clone(), input, targets.clone());
        to.add(None, EventBody::Sealed(sealed));
        for target in &targets {
            let yes = n % 7 != 0;
            to.add(None, EventBody::Tried(Tried { release, name: name_of.clone(), target: target.clone(), yes }));
        }
        for storefront in &storefronts {
            let key = to.id();
            to.add(None, asked(key, storefront, Action::Push, &targets));
            let pushed = Pushed {
                key: Some(key),
                sent: 1_000_000,
                message: (n % 2 == 0).then(|| "fog fix for testers".to_owned()),
                notes: if n % 3 == 0 { Notes::plain("The lighthouse is lit.") } else { Notes::default() },
                ..Pushed::new(storefront.clone(), (release, name_of.clone()), u64::from(n))
            };
            to.add(revision, EventBody::Pushed(pushed));
        }
        let build = BranchBuild { number_there: u64::from(n), release, name: name_of.clone() };
        let on_all: BTreeMap<Name, BranchBuild> =
            targets.iter().map(|target| (target.clone(), build.clone())).collect();
        for (storefront, branch) in
            [(&storefronts[0], "creek"), (&storefronts[0], "open-water"), (&storefronts[1], "everyone")]
        {
            let (key, branch) = (to.id(), name(branch));
            to.add(None, asked(key, storefront, Action::Promote { branch: branch.clone() }, &[]));
            if n == releases && branch.as_str() == "everyone" {
                break;
            }
            let (since, by, targets) = (Some(to.at), Some("wren".to_owned()), on_all.clone());
            let facts = BranchFacts { branch, revision: u64::from(n), since, by, targets };
            let moved = Moved {
                key,
                storefront: storefront.clone(),
                facts: facts.clone(),
                because: None,
                restores: None,
                changes: Vec::new(),
                after: None,
            };
            to.add(revision, EventBody::Moved(moved));
            to.add(revision, EventBody::BranchReported(BranchReported::new(storefront.clone(), facts)));
        }
    }
}
