//! The builds of a board as rows, for the file in which boards are kept: each storefront stands in it once, and no field has a
//! name. Of a long ledger they are most of it.

use std::collections::{BTreeMap, HashMap};

use serde::{Deserialize, Deserializer, Serialize, Serializer, de};

use crate::digest::ReleaseId;
use crate::event::{EventId, Pushed, StorefrontRef};
use crate::names::{Handle, Name};
use crate::notes::Notes;
use crate::version::{BuildNumber, ReleaseName, Version};

#[derive(Serialize, Deserialize)]
struct Row(
    usize,
    Option<EventId>,
    ReleaseId,
    Version,
    BuildNumber,
    u64,
    Option<Handle>,
    u64,
    Vec<Name>,
    Option<String>,
    Notes,
    BTreeMap<Name, u64>,
);

#[derive(Serialize, Deserialize)]
struct Rows(Vec<StorefrontRef>, Vec<Row>);

pub(super) fn serialize<S: Serializer>(pushed: &[Pushed], serializer: S) -> Result<S::Ok, S::Error> {
    let mut storefronts: Vec<StorefrontRef> = Vec::new();
    let mut at: HashMap<&StorefrontRef, usize> = HashMap::new();
    let mut rows = Vec::with_capacity(pushed.len());
    for Pushed {
        key,
        storefront,
        release,
        name,
        number_there: build,
        name_there,
        sent,
        targets,
        message,
        notes,
        numbers,
        live_on: _,
        after: _,
    } in pushed
    {
        let storefront = *at.entry(storefront).or_insert_with(|| {
            storefronts.push(storefront.clone());
            storefronts.len() - 1
        });
        let (version, message, notes) = (name.version.clone(), message.clone(), notes.clone());
        rows.push(Row(
            storefront,
            *key,
            *release,
            version,
            name.number,
            *build,
            name_there.clone(),
            *sent,
            targets.clone(),
            message,
            notes,
            numbers.clone(),
        ));
    }
    Rows(storefronts, rows).serialize(serializer)
}

pub(super) fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<Pushed>, D::Error> {
    let Rows(storefronts, rows) = Rows::deserialize(deserializer)?;
    let pushed = rows.into_iter().map(
        |Row(storefront, key, release, version, number, build, name_there, sent, targets, message, notes, numbers)| {
            let storefront = storefronts.get(storefront).cloned()?;
            Some(Pushed {
                key,
                storefront,
                release,
                name: ReleaseName { version, number },
                number_there: build,
                name_there,
                sent,
                // What a branch has is known from the branch.
                live_on: None,
                after: None,
                targets,
                message,
                notes,
                numbers,
            })
        },
    );
    pushed.collect::<Option<_>>().ok_or_else(|| de::Error::custom("a row names a storefront that is not there"))
}
