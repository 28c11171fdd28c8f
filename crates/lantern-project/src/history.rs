//! What happened, newest first, and the part of it that someone asks for.

use std::collections::BTreeSet;

use jiff::civil::Date;
use jiff::tz::TimeZone;
use lantern_core::event::Event;
use lantern_core::finding::one_of;
use lantern_core::history::{History, Settling};
use lantern_core::names::{Name, nearest};
use lantern_core::version::ReleaseAsked;

use crate::error::{Class, Explained};
use crate::releases::MOST_NAMED;
use crate::workspace::Workspace;
use crate::{ProjectError, ReleaseError};

/// Ledgers of so many events are read whole, which takes some tens of milliseconds. Ours.
const READ_WHOLE: u64 = 10_000;

/// Why there is no part of the history to show.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum HistoryError {
    /// A name that neither the configuration nor any event has: a mistake of the keyboard, not a fact.
    #[error("no {what} {asked:?} is known here, in lantern.toml or in what happened")]
    UnknownName {
        /// `storefront` or `branch`.
        what: &'static str,
        /// What was asked for.
        asked: String,
        /// Those that are known, in the order of their names.
        known: Vec<String>,
    },
}

impl Explained for HistoryError {
    fn class(&self) -> Class {
        Class::Usage
    }

    fn fixes(&self) -> Vec<String> {
        let Self::UnknownName { asked, known, .. } = self;
        vec![match nearest(asked, known.iter().map(String::as_str)) {
            Some(near) => format!("did you mean {near}?"),
            None if known.is_empty() => "leave it out".to_owned(),
            None => one_of(known),
        }]
    }
}

/// Which events are wanted; what is none is not asked for.
#[derive(Debug, Clone, Default)]
pub struct HistoryAsked {
    /// How many at most.
    pub count: usize,
    /// Also those that a later event says better.
    pub all: bool,
    /// What concerns a release.
    pub release: Option<ReleaseAsked>,
    /// What concerns a storefront, by the project's name.
    pub storefront: Option<String>,
    /// What concerns a branch.
    pub branch: Option<String>,
    /// From this day on, in this computer's time zone.
    pub since: Option<Date>,
    /// Of one edition alone.
    pub edition: Option<Name>,
}

/// The events that were asked for.
#[derive(Debug)]
pub struct HistoryFound {
    /// Newest first.
    pub events: Vec<Event>,
    /// How many there are; none in a long ledger, of which only the newest were read.
    pub total: Option<usize>,
    /// Whether there are older ones.
    pub has_more: bool,
    /// Whether the ledger has any event at all.
    pub has_begun: bool,
}

impl HistoryAsked {
    fn is_filtered(&self) -> bool {
        self.release.is_some() || self.storefront.is_some() || self.branch.is_some() || self.since.is_some()
    }

    fn is_of_edition(&self, event: &Event) -> bool {
        self.edition.as_ref().is_none_or(|edition| event.edition == *edition)
    }

    fn is_about<'a>(&self, event: &'a Event, history: &History<'a>) -> bool {
        let day = event.recorded_at.to_zoned(TimeZone::system()).date();
        let about = history.about(&event.body);
        about.is_about(self.release.as_ref(), self.storefront.as_deref(), self.branch.as_deref())
            && self.since.is_none_or(|since| day >= since)
    }
}

impl Workspace {
    /// Returns what happened, newest first. A long ledger of which the newest events are wanted is read from its end.
    ///
    /// # Errors
    /// [`HistoryError`], [`ReleaseError::NoRelease`] for names that nothing has; those of the ledger.
    pub fn history(&self, asked: &HistoryAsked) -> Result<HistoryFound, ProjectError> {
        if !asked.is_filtered() && self.event_count()? > READ_WHOLE {
            return self.newest_events(asked);
        }
        let all = self.events()?;
        let history = History::of(&all);
        let mut settling = Settling::default();
        let mut events: Vec<&Event> =
            all.iter().rev().filter(|event| !settling.is_settled(event) || asked.all).collect();
        events.retain(|event| asked.is_of_edition(event) && asked.is_about(event, &history));
        if events.is_empty() {
            self.refuse_unknown(asked, &all, &history)?;
        }
        let total = events.len();
        Ok(HistoryFound {
            events: events.into_iter().take(asked.count).cloned().collect(),
            total: Some(total),
            has_more: total > asked.count,
            has_begun: !all.is_empty(),
        })
    }

    fn newest_events(&self, asked: &HistoryAsked) -> Result<HistoryFound, ProjectError> {
        let mut settling = Settling::default();
        let (mut events, mut has_more) = (Vec::new(), false);
        self.events_backwards(|event| {
            let is_settled = settling.is_settled(&event) && !asked.all;
            if !is_settled && asked.is_of_edition(&event) {
                has_more = events.len() == asked.count;
                if !has_more {
                    events.push(event);
                }
            }
            !has_more
        })?;
        Ok(HistoryFound { events, total: None, has_more, has_begun: true })
    }

    fn refuse_unknown<'a>(
        &self,
        asked: &HistoryAsked,
        all: &'a [Event],
        history: &History<'a>,
    ) -> Result<(), ProjectError> {
        let configured = &self.project.config().storefronts;
        let about = || all.iter().map(|event| history.about(&event.body));
        let storefronts: BTreeSet<&Name> =
            configured.keys().chain(about().filter_map(|about| about.storefront)).collect();
        let branches = configured.values().flat_map(|storefront| storefront.branches.iter().map(|(branch, _)| branch));
        let branches: BTreeSet<&Name> = branches.chain(about().filter_map(|about| about.branch)).collect();
        for (name, known, what) in [(&asked.storefront, storefronts, "storefront"), (&asked.branch, branches, "branch")]
        {
            if let Some(name) = name.as_deref().filter(|name| !known.iter().any(|known| known.as_str() == *name)) {
                let known = known.iter().map(ToString::to_string).collect();
                return Err(HistoryError::UnknownName { what, asked: name.to_owned(), known }.into());
            }
        }
        match &asked.release {
            Some(release) if !about().any(|about| about.is_about(Some(release), None, None)) => {
                let mut known: Vec<_> = about().flat_map(|about| about.releases).cloned().collect();
                known.sort_by_key(|name| std::cmp::Reverse(name.number));
                known.dedup();
                known.truncate(MOST_NAMED);
                Err(ReleaseError::NoRelease { asked: release.clone(), known }.into())
            }
            _ => Ok(()),
        }
    }
}
