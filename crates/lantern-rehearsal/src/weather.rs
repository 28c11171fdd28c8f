//! Weather: faults that the stand-in shows when it is asked to, alone or mixed, the same for the same seed.

use std::sync::atomic::{AtomicU64, Ordering};

use jiff::SignedDuration;
use lantern_core::digest::Digest;

/// How wrong a clock can be, in hours: some ten years.
const MAX_CLOCK_ERROR_HOURS: u64 = 24 * 365 * 10;
/// A fault.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// The connection ends in the middle of the answer.
    Cut,
    /// The action is done, and no answer comes.
    LostAnswer,
    /// The server fails before it does anything.
    Failing,
    /// The server fails when it has done it.
    FailingLate,
    /// Too many requests: come back later.
    Busy,
    /// Access has expired.
    Expired,
    /// Bytes of packs and recipes arrive changed.
    WrongBytes,
    /// The answer takes its time.
    Slow,
    /// The server ends and starts again: before the action or after it, without an answer, and all access is forgotten.
    Restart,
    /// The server's disk is full: what would add something fails.
    FullDisk,
    /// The server's clock is wrong by days or years, for all requests.
    WrongClock,
}

impl Fault {
    /// Every fault.
    pub const ALL: [Self; 11] = [
        Self::Cut,
        Self::LostAnswer,
        Self::Failing,
        Self::FailingLate,
        Self::Busy,
        Self::Expired,
        Self::WrongBytes,
        Self::Slow,
        Self::Restart,
        Self::FullDisk,
        Self::WrongClock,
    ];

    /// Returns the word that asks for it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Cut => "cut",
            Self::LostAnswer => "lost-answer",
            Self::Failing => "failing",
            Self::FailingLate => "failing-late",
            Self::Busy => "busy",
            Self::Expired => "expired",
            Self::WrongBytes => "wrong-bytes",
            Self::Slow => "slow",
            Self::Restart => "restart",
            Self::FullDisk => "full-disk",
            Self::WrongClock => "wrong-clock",
        }
    }
}

/// A word that asks for no fault.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not a kind of weather: it is one of {names}", names = Fault::ALL.map(Fault::name).join(", "))]
pub struct UnknownFault(String);

impl std::str::FromStr for Fault {
    type Err = UnknownFault;
    fn from_str(text: &str) -> Result<Self, UnknownFault> {
        Self::ALL.into_iter().find(|fault| fault.name() == text).ok_or_else(|| UnknownFault(text.to_owned()))
    }
}

/// Which faults come, how often, and from which seed.
#[derive(Debug)]
pub struct Weather {
    faults: Vec<Fault>,
    percent: u64,
    seed: u64,
    requests: AtomicU64,
    shown: AtomicU64,
}

impl Weather {
    /// Makes weather of faults, of which one meets `percent` of all requests.
    pub fn new(faults: Vec<Fault>, percent: u64, seed: u64) -> Self {
        Self { faults, percent, seed, requests: AtomicU64::new(0), shown: AtomicU64::new(0) }
    }

    /// Returns how many requests met a fault up to now.
    pub fn shown(&self) -> u64 {
        self.shown.load(Ordering::SeqCst)
    }

    /// By how much the clock is wrong: the same all the time.
    pub(crate) fn clock_error(&self) -> SignedDuration {
        if !self.faults.contains(&Fault::WrongClock) {
            return SignedDuration::ZERO;
        }
        let digest = Digest::of(format!("{} clock", self.seed).as_bytes());
        let hours = i64::try_from(number(&digest, 0) % MAX_CLOCK_ERROR_HOURS).unwrap_or(0);
        SignedDuration::from_hours(if number(&digest, 8).is_multiple_of(2) { hours } else { -hours })
    }

    /// Draws for the next request: by seed and count alone.
    pub(crate) fn draw(&self) -> Option<(Fault, u64)> {
        let count = self.requests.fetch_add(1, Ordering::SeqCst);
        let digest = Digest::of(format!("{} {count}", self.seed).as_bytes());
        let number = |at| number(&digest, at);
        let index = usize::try_from(number(8) % self.faults.len().max(1) as u64).unwrap_or(0);
        let fault = self.faults.get(index).copied();
        let fault = fault.filter(|_| number(0) % 100 < self.percent)?;
        self.shown.fetch_add(1, Ordering::SeqCst);
        Some((fault, number(16)))
    }
}

/// Eight bytes of a digest as a number.
fn number(digest: &Digest, at: usize) -> u64 {
    let bytes = digest.as_bytes().get(at..at + 8).and_then(|b| b.try_into().ok());
    bytes.map_or(0, u64::from_le_bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_seed_gives_the_same_weather() {
        let faults = |seed| {
            let weather = Weather::new(Fault::ALL.to_vec(), 30, seed);
            (0..200).map(|_| weather.draw().map(|(fault, _)| fault)).collect::<Vec<_>>()
        };
        assert_eq!(faults(1), faults(1));
        assert_ne!(faults(1), faults(2));
        let count = faults(3).iter().flatten().count();
        assert!((30..=90).contains(&count), "{count}");
        assert!(Weather::new(Vec::new(), 100, 1).draw().is_none());
    }

    #[test]
    fn every_word_is_known() {
        for fault in Fault::ALL {
            assert_eq!(fault.name().parse(), Ok(fault));
        }
        assert!("hail".parse::<Fault>().is_err());
    }
}
