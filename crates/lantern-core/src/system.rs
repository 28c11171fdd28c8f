//! Systems that a build can run on.

use std::fmt;
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// An operating system with a processor.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[non_exhaustive]
pub enum System {
    /// 64-bit Intel and AMD.
    #[serde(rename = "linux-x86_64")]
    LinuxX86_64,
    /// 64-bit ARM.
    #[serde(rename = "linux-aarch64")]
    LinuxAarch64,
}

impl System {
    /// Every system, in the order in which they are shown.
    pub const ALL: [Self; 2] = [Self::LinuxX86_64, Self::LinuxAarch64];

    /// Returns the name used in configuration and output.
    pub const fn name(self) -> &'static str {
        match self {
            Self::LinuxX86_64 => "linux-x86_64",
            Self::LinuxAarch64 => "linux-aarch64",
        }
    }

    /// Returns the system that this program itself was built for, if it is one of ours.
    pub fn this_computer() -> Option<Self> {
        let here = format!("{}-{}", std::env::consts::OS, std::env::consts::ARCH);
        here.parse().ok()
    }
}

impl fmt::Display for System {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.name())
    }
}

/// A name that is no system's.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not a system")]
pub struct UnknownSystem(pub String);

impl FromStr for System {
    type Err = UnknownSystem;
    fn from_str(text: &str) -> Result<Self, UnknownSystem> {
        Self::ALL.into_iter().find(|s| s.name() == text).ok_or_else(|| UnknownSystem(text.to_owned()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_the_same_in_json_and_in_text() {
        for system in System::ALL {
            assert_eq!(system.name().parse(), Ok(system));
            assert_eq!(serde_json::to_string(&system).unwrap(), format!("\"{system}\""));
        }
        assert!("linux".parse::<System>().is_err());
    }
}
