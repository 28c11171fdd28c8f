//! Writes a ledger as a busy studio might have after many years: `cargo run --release -p lantern-ledger --example long_ledger -- FILE EVENTS`.
//! Twenty events for each release: reserved, sealed, tried on three targets, pushed to two storefronts, promoted three times,
//! and what storefronts said in between. `scripts/bench-ledger.sh` times the program on it.

use std::collections::BTreeMap;
use std::error::Error;

use jiff::{SignedDuration, Timestamp};
use lantern_core::digest::{Digest, InputDigest, ReleaseId};
use lantern_core::event::{
    Asked, BranchBuild, BranchFacts, Connected, Deed, Event, EventBody, EventId, Moved, NumberReserved, PlaceRef,
    Pushed, Sealed, Seen, Tried,
};
use lantern_core::names::Name;
use lantern_core::notes::Notes;
use lantern_core::version::{BuildNumber, ReleaseName};
use lantern_ledger::Ledger;

const TARGETS: [&str; 3] = ["windows", "macos", "linux"];
const EVENTS_OF_A_RELEASE: u32 = 20;
/// Lines that are added in one transaction.
const TOGETHER: usize = 20_000;

struct Writer {
    ledger: Ledger,
    lines: Vec<String>,
    sequence: u64,
    predecessor: Option<Digest>,
    at: Timestamp,
}

impl Writer {
    fn id(&self) -> EventId {
        let mut random = [0; 10];
        random[2..].copy_from_slice(&self.sequence.to_be_bytes());
        EventId::new(self.at, random)
    }

    fn add(&mut self, revision: Option<u64>, body: EventBody) -> Result<(), Box<dyn Error>> {
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
        self.lines.push(line);
        if self.lines.len() >= TOGETHER { self.write() } else { Ok(()) }
    }

    fn write(&mut self) -> Result<(), Box<dyn Error>> {
        self.ledger.add_lines(&self.lines)?;
        self.lines.clear();
        Ok(())
    }
}

fn place(name: &str) -> Result<PlaceRef, Box<dyn Error>> {
    Ok(PlaceRef { storefront: format!("{name}-1"), name: name.parse()?, handle: "saltmarsh-post".parse()? })
}

fn main() -> Result<(), Box<dyn Error>> {
    let mut arguments = std::env::args().skip(1);
    let (Some(file), Some(events)) = (arguments.next(), arguments.next()) else {
        return Err("give a FILE and a number of EVENTS".into());
    };
    let releases = events.parse::<u32>()? / EVENTS_OF_A_RELEASE;
    let mut to = Writer {
        ledger: Ledger::open(file.as_ref(), [7; 16])?,
        lines: Vec::new(),
        sequence: 0,
        predecessor: None,
        at: "2026-11-23T09:00:00Z".parse()?,
    };
    let places = [place("brambleyard")?, place("estuary-games")?];
    let targets = TARGETS.iter().map(|target| target.parse()).collect::<Result<Vec<Name>, _>>()?;
    for place in &places {
        to.add(None, EventBody::Connected(Connected { place: place.clone(), client: "paper-heron".to_owned() }))?;
    }
    for n in 1..=releases {
        let name = ReleaseName {
            version: format!("1.{}.{}", n / 10, n % 10).parse()?,
            number: BuildNumber::new(u64::from(n))?,
        };
        let (release, input) = (ReleaseId::of(&n.to_be_bytes()), InputDigest::of(&n.to_be_bytes()));
        to.add(None, EventBody::NumberReserved(NumberReserved { number: name.number, input }))?;
        let sealed = Sealed { release, name: name.clone(), input, targets: targets.clone(), warnings: 0 };
        to.add(None, EventBody::Sealed(sealed))?;
        for target in &targets {
            to.add(None, EventBody::Tried(Tried { release, name: name.clone(), target: target.clone(), yes: true }))?;
        }
        for place in &places {
            let key = to.id();
            let asked =
                |deed| Asked { key, place: place.clone(), deed, release, name: name.clone(), targets: targets.clone() };
            to.add(None, EventBody::Asked(asked(Deed::Push)))?;
            let pushed = Pushed {
                key: Some(key),
                place: place.clone(),
                release,
                name: name.clone(),
                build: u64::from(n),
                sent: 1_000_000,
                message: Some("fog fix for testers".to_owned()),
                notes: Notes::default(),
            };
            to.add(Some(u64::from(n)), EventBody::Pushed(pushed))?;
        }
        let build = BranchBuild { build: u64::from(n), release, name: name.clone() };
        let on_all: BTreeMap<Name, BranchBuild> =
            targets.iter().map(|target| (target.clone(), build.clone())).collect();
        for (place, branch) in [(&places[0], "creek"), (&places[0], "open-water"), (&places[1], "everyone")] {
            let (key, branch): (EventId, Name) = (to.id(), branch.parse()?);
            let deed = Deed::Promote { branch: branch.clone() };
            let asked = Asked { key, place: place.clone(), deed, release, name: name.clone(), targets: Vec::new() };
            to.add(None, EventBody::Asked(asked))?;
            let revision = u64::from(n);
            let facts = BranchFacts {
                branch,
                revision,
                since: Some(to.at),
                by: Some("wren".to_owned()),
                targets: on_all.clone(),
            };
            let moved = Moved { key, place: place.clone(), facts: facts.clone(), because: None, restores: None };
            to.add(Some(revision), EventBody::Moved(moved))?;
            to.add(Some(revision), EventBody::Seen(Seen { place: place.clone(), facts }))?;
        }
        to.add(None, EventBody::Connected(Connected { place: places[0].clone(), client: "paper-heron".to_owned() }))?;
        to.add(None, EventBody::Connected(Connected { place: places[1].clone(), client: "paper-heron".to_owned() }))?;
    }
    to.write()?;
    Ok(to.ledger.close()?)
}
