//! Versions for people, build numbers, and the two together: `1.4.0 (27)`.

use std::fmt;
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize};

/// Why a text is not what it should be.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum VersionError {
    /// Not a version.
    #[error(
        "{0:?} is not a version: it starts with a digit and contains only letters, digits, \".\", \"-\" and \"+\", 64 at most"
    )]
    Version(String),
    /// Not a build number.
    #[error("{0:?} is not a build number: whole, from 1 to {max}", max = BuildNumber::MAX)]
    Number(String),
    /// Not a release.
    #[error("{0:?} is not a release: expected a version, a number, or both, such as \"1.4.0 (27)\"")]
    Release(String),
}

/// The version that people see, such as `1.4.0` or `1.4.0-rc`.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(transparent)]
pub struct Version(String);

impl Version {
    /// Returns the text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl Version {
    /// Which of two versions is the later one: number by number, then what has no suffix after what has one. None where
    /// only the suffixes tell them apart: those have no common order.
    pub fn order(&self, other: &Self) -> Option<std::cmp::Ordering> {
        let split = |version: &Self| {
            let end = version.0.find(['-', '+']).unwrap_or(version.0.len());
            let (numbers, suffix) = version.0.split_at(end);
            let numbers: Option<Vec<u64>> = numbers.split('.').map(|number| number.parse().ok()).collect();
            numbers.map(|mut numbers| {
                while numbers.len() > 1 && numbers.last() == Some(&0) {
                    numbers.pop();
                }
                (numbers, suffix.to_owned())
            })
        };
        let ((ours, our_suffix), (theirs, their_suffix)) = (split(self)?, split(other)?);
        match ours.cmp(&theirs) {
            std::cmp::Ordering::Equal if our_suffix == their_suffix => Some(std::cmp::Ordering::Equal),
            std::cmp::Ordering::Equal if our_suffix.is_empty() => Some(std::cmp::Ordering::Greater),
            std::cmp::Ordering::Equal if their_suffix.is_empty() => Some(std::cmp::Ordering::Less),
            std::cmp::Ordering::Equal => None,
            order => Some(order),
        }
    }
}

impl FromStr for Version {
    type Err = VersionError;
    fn from_str(text: &str) -> Result<Self, VersionError> {
        let fits = (1..=64).contains(&text.len())
            && text.starts_with(|c: char| c.is_ascii_digit())
            && text.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '+'));
        if fits { Ok(Self(text.to_owned())) } else { Err(VersionError::Version(text.chars().take(80).collect())) }
    }
}

impl fmt::Display for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl<'de> Deserialize<'de> for Version {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
    }
}

/// A label that only rises within a game. The release's id is its identity, not this.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(transparent)]
pub struct BuildNumber(u32);

impl BuildNumber {
    /// The largest number; some phones' package managers accept none above it.
    pub const MAX: u32 = 2_100_000_000;

    /// Checks the range, 1 to [`Self::MAX`].
    ///
    /// # Errors
    /// [`VersionError::Number`].
    pub fn new(number: u64) -> Result<Self, VersionError> {
        u32::try_from(number)
            .ok()
            .filter(|n| (1..=Self::MAX).contains(n))
            .map(Self)
            .ok_or_else(|| VersionError::Number(number.to_string()))
    }

    /// Returns the number.
    pub const fn get(self) -> u32 {
        self.0
    }

    /// Returns the number before this one; none before the first.
    pub fn before(self) -> Option<Self> {
        Self::new(u64::from(self.0).saturating_sub(1)).ok()
    }

    /// Returns the number after the highest one seen, 1 when none was.
    ///
    /// # Errors
    /// [`VersionError::Number`] above [`Self::MAX`].
    pub fn after(highest: Option<Self>) -> Result<Self, VersionError> {
        Self::new(highest.map_or(0, |n| u64::from(n.0)) + 1)
    }
}

impl fmt::Display for BuildNumber {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(&self.0, f)
    }
}

impl FromStr for BuildNumber {
    type Err = VersionError;
    fn from_str(text: &str) -> Result<Self, VersionError> {
        let digits = !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit());
        let number = if digits { text.parse().ok() } else { None };
        number.and_then(|n| Self::new(n).ok()).ok_or_else(|| VersionError::Number(text.chars().take(80).collect()))
    }
}

impl<'de> Deserialize<'de> for BuildNumber {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Self::new(u64::deserialize(deserializer)?).map_err(serde::de::Error::custom)
    }
}

/// How people name a release: `1.4.0 (27)`.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
pub struct ReleaseName {
    /// The version.
    pub version: Version,
    /// The build number.
    pub number: BuildNumber,
}

impl fmt::Display for ReleaseName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&format!("{} ({})", self.version, self.number))
    }
}

impl FromStr for ReleaseName {
    type Err = VersionError;
    fn from_str(text: &str) -> Result<Self, VersionError> {
        let wrong = || VersionError::Release(text.chars().take(80).collect());
        let (version, rest) = text.trim().split_once(' ').ok_or_else(wrong)?;
        let number = rest.trim().strip_prefix('(').and_then(|r| r.strip_suffix(')')).ok_or_else(wrong)?;
        Ok(Self { version: version.parse().map_err(|_| wrong())?, number: number.parse().map_err(|_| wrong())? })
    }
}

/// How people ask for a release on the command line: `1.4.0`, `27`, or `1.4.0 (27)`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ReleaseAsked {
    /// Exactly this one.
    Name(ReleaseName),
    /// The one with this number.
    Number(BuildNumber),
    /// The newest one of this version.
    Version(Version),
}

impl FromStr for ReleaseAsked {
    type Err = VersionError;
    fn from_str(text: &str) -> Result<Self, VersionError> {
        if let Ok(name) = text.parse() {
            return Ok(Self::Name(name));
        }
        if let Ok(number) = text.trim_start_matches('(').trim_end_matches(')').parse() {
            return Ok(Self::Number(number));
        }
        text.parse().map(Self::Version).map_err(|_| VersionError::Release(text.chars().take(80).collect()))
    }
}

impl fmt::Display for ReleaseAsked {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Name(name) => write!(f, "{name}"),
            Self::Number(number) => write!(f, "number {number}"),
            Self::Version(version) => write!(f, "{version}"),
        }
    }
}

impl ReleaseAsked {
    /// Whether a release is meant by this.
    pub fn matches(&self, name: &ReleaseName) -> bool {
        match self {
            Self::Name(asked) => asked == name,
            Self::Number(number) => *number == name.number,
            Self::Version(version) => *version == name.version,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_later_version() {
        use std::cmp::Ordering::{Equal, Greater, Less};
        let order = |a: &str, b: &str| a.parse::<Version>().unwrap().order(&b.parse().unwrap());
        assert_eq!((order("1.10", "1.9.9"), order("1.3.2", "1.4.0")), (Some(Greater), Some(Less)));
        assert_eq!((order("1.4", "1.4.0"), order("1.4.0", "1.4.0-rc")), (Some(Equal), Some(Greater)));
        assert_eq!((order("1.4-a", "1.4-b"), order("1.4b", "1.4")), (None, None));
    }

    #[test]
    fn versions() {
        for good in ["1.4.0", "1.4.0-rc", "2026.11", "0", "1.0.0+tide"] {
            assert_eq!(good.parse::<Version>().unwrap().as_str(), good);
        }
        for bad in ["", "v1.4.0", "1.4.0 ", "1/4", "1.4.0\n", &"1".repeat(65), "…"] {
            assert!(bad.parse::<Version>().is_err(), "{bad:?}");
        }
    }

    #[test]
    fn numbers_have_a_range() {
        assert!(BuildNumber::new(0).is_err());
        assert_eq!(BuildNumber::new(2_100_000_000).unwrap().get(), BuildNumber::MAX);
        assert!(BuildNumber::new(2_100_000_001).is_err());
        assert!("+5".parse::<BuildNumber>().is_err());
        assert_eq!(BuildNumber::after(None).unwrap().get(), 1);
        assert!(BuildNumber::after(Some(BuildNumber::new(2_100_000_000).unwrap())).is_err());
    }

    #[test]
    fn a_release_is_named_and_asked_for() {
        let name: ReleaseName = "1.4.0 (27)".parse().unwrap();
        assert_eq!(name.to_string(), "1.4.0 (27)");
        for asked in ["1.4.0", "27", "(27)", "1.4.0 (27)"] {
            assert!(asked.parse::<ReleaseAsked>().unwrap().matches(&name), "{asked}");
        }
        for other in ["1.4.1", "26", "1.4.0 (26)"] {
            assert!(!other.parse::<ReleaseAsked>().unwrap().matches(&name), "{other}");
        }
        for bad in ["1.4.0(27)", "1.4.0 27", "1.4.0 (x)", ""] {
            assert!(bad.parse::<ReleaseName>().is_err(), "{bad:?}");
        }
    }
}
