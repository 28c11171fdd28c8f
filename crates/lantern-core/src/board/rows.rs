//! The builds of a board as rows, for the file in which boards are kept: each place stands in it once, and no field has a
//! name. Of a long ledger they are most of it.

use std::collections::HashMap;

use serde::{Deserialize, Deserializer, Serialize, Serializer, de};

use crate::digest::ReleaseId;
use crate::event::{EventId, PlaceRef, Pushed};
use crate::notes::Notes;
use crate::version::{BuildNumber, ReleaseName, Version};

#[derive(Serialize, Deserialize)]
struct Row(usize, Option<EventId>, ReleaseId, Version, BuildNumber, u64, u64, Option<String>, Notes);

#[derive(Serialize, Deserialize)]
struct Rows(Vec<PlaceRef>, Vec<Row>);

pub(super) fn serialize<S: Serializer>(pushed: &[Pushed], serializer: S) -> Result<S::Ok, S::Error> {
    let mut places: Vec<PlaceRef> = Vec::new();
    let mut at: HashMap<&PlaceRef, usize> = HashMap::new();
    let mut rows = Vec::with_capacity(pushed.len());
    for Pushed { key, place, release, name, build, sent, message, notes } in pushed {
        let place = *at.entry(place).or_insert_with(|| {
            places.push(place.clone());
            places.len() - 1
        });
        let (version, message, notes) = (name.version.clone(), message.clone(), notes.clone());
        rows.push(Row(place, *key, *release, version, name.number, *build, *sent, message, notes));
    }
    Rows(places, rows).serialize(serializer)
}

pub(super) fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<Pushed>, D::Error> {
    let Rows(places, rows) = Rows::deserialize(deserializer)?;
    let pushed = rows.into_iter().map(|Row(place, key, release, version, number, build, sent, message, notes)| {
        let place = places.get(place).cloned()?;
        Some(Pushed { key, place, release, name: ReleaseName { version, number }, build, sent, message, notes })
    });
    pushed.collect::<Option<_>>().ok_or_else(|| de::Error::custom("a row names a place that is not there"))
}
