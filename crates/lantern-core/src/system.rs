//! Systems that a build can run on.

use std::fmt;
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::names::Word;

/// An operating system with a processor, or with several.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[non_exhaustive]
pub enum System {
    /// Windows on 64-bit Intel and AMD.
    #[serde(rename = "windows-x86_64")]
    WindowsX86_64,
    /// Windows on 64-bit ARM.
    #[serde(rename = "windows-arm64")]
    WindowsArm64,
    /// Windows on 32-bit Intel and AMD.
    #[serde(rename = "windows-x86")]
    WindowsX86,
    /// macOS on both its processors, in one file.
    #[serde(rename = "macos-universal")]
    MacosUniversal,
    /// macOS on Intel.
    #[serde(rename = "macos-x86_64")]
    MacosX86_64,
    /// macOS on Apple's own processors.
    #[serde(rename = "macos-aarch64")]
    MacosAarch64,
    /// Linux on 64-bit Intel and AMD.
    #[serde(rename = "linux-x86_64")]
    LinuxX86_64,
    /// Linux on 64-bit ARM.
    #[serde(rename = "linux-aarch64")]
    LinuxAarch64,
    /// Android phones and tablets.
    #[serde(rename = "android")]
    Android,
    /// iPhones and iPads.
    #[serde(rename = "ios")]
    Ios,
    /// Headsets that take Android packages.
    #[serde(rename = "headset")]
    Headset,
    /// A browser.
    #[serde(rename = "web")]
    Web,
    /// One that this code does not know: what a newer lantern made is passed on as it is.
    #[serde(untagged)]
    #[schemars(skip)]
    Other(Word),
}

/// What systems have in common whatever their processor: how files are named and programs are formed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Family {
    /// Windows.
    Windows,
    /// macOS.
    Macos,
    /// Linux.
    Linux,
    /// Android phones and tablets.
    Android,
    /// iPhones and iPads.
    Ios,
    /// Headsets.
    Headset,
    /// Browsers.
    Web,
    /// One that this code does not know.
    Other,
}

impl Family {
    /// Returns the name; a target that is made for someone is named so.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Windows => "windows",
            Self::Macos => "macos",
            Self::Linux => "linux",
            Self::Android => "android",
            Self::Ios => "ios",
            Self::Headset => "headset",
            Self::Web => "web",
            Self::Other => "other",
        }
    }

    /// Whether a build is a program for a computer, with its files beside it.
    pub const fn is_desktop(self) -> bool {
        matches!(self, Self::Windows | Self::Macos | Self::Linux)
    }
}

impl System {
    /// Every system that is known, in the order in which they are shown.
    pub const ALL: [Self; 12] = [
        Self::WindowsX86_64,
        Self::WindowsArm64,
        Self::WindowsX86,
        Self::MacosUniversal,
        Self::MacosX86_64,
        Self::MacosAarch64,
        Self::LinuxX86_64,
        Self::LinuxAarch64,
        Self::Android,
        Self::Ios,
        Self::Headset,
        Self::Web,
    ];

    /// Returns the name used in configuration and output.
    pub fn name(&self) -> &str {
        match self {
            Self::WindowsX86_64 => "windows-x86_64",
            Self::WindowsArm64 => "windows-arm64",
            Self::WindowsX86 => "windows-x86",
            Self::MacosUniversal => "macos-universal",
            Self::MacosX86_64 => "macos-x86_64",
            Self::MacosAarch64 => "macos-aarch64",
            Self::LinuxX86_64 => "linux-x86_64",
            Self::LinuxAarch64 => "linux-aarch64",
            Self::Android => "android",
            Self::Ios => "ios",
            Self::Headset => "headset",
            Self::Web => "web",
            Self::Other(word) => word.as_str(),
        }
    }

    /// Returns what it has in common with its neighbours.
    pub const fn family(self) -> Family {
        match self {
            Self::WindowsX86_64 | Self::WindowsArm64 | Self::WindowsX86 => Family::Windows,
            Self::MacosUniversal | Self::MacosX86_64 | Self::MacosAarch64 => Family::Macos,
            Self::LinuxX86_64 | Self::LinuxAarch64 => Family::Linux,
            Self::Android => Family::Android,
            Self::Ios => Family::Ios,
            Self::Headset => Family::Headset,
            Self::Web => Family::Web,
            Self::Other(_) => Family::Other,
        }
    }

    /// Returns the system that this program itself was built for, if it is one of ours.
    pub fn this_computer() -> Option<Self> {
        match (std::env::consts::OS, std::env::consts::ARCH) {
            ("windows", "x86_64") => Some(Self::WindowsX86_64),
            ("windows", "aarch64") => Some(Self::WindowsArm64),
            ("windows", "x86") => Some(Self::WindowsX86),
            ("macos", "x86_64") => Some(Self::MacosX86_64),
            ("macos", "aarch64") => Some(Self::MacosAarch64),
            ("linux", "x86_64") => Some(Self::LinuxX86_64),
            ("linux", "aarch64") => Some(Self::LinuxAarch64),
            _ => None,
        }
    }

    /// Whether a build for this system runs on a computer with that one.
    pub fn runs_on(self, computer: Self) -> bool {
        matches!(
            (self, computer),
            (Self::MacosUniversal, Self::MacosX86_64 | Self::MacosAarch64) | (Self::WindowsX86, Self::WindowsX86_64)
        ) || self == computer
    }

    /// Whether a build for any of these systems runs on this computer.
    pub fn any_runs_here(systems: &[Self]) -> bool {
        Self::this_computer().is_some_and(|here| systems.iter().any(|system| system.runs_on(here)))
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
        let newer: System = serde_json::from_str("\"linux-riscv64\"").unwrap();
        assert_eq!((newer.name(), newer.family()), ("linux-riscv64", Family::Other));
        assert_eq!(serde_json::to_string(&newer).unwrap(), "\"linux-riscv64\"");
        assert!(!System::any_runs_here(&[newer]));
    }

    #[test]
    fn what_runs_where() {
        assert!(System::ALL.iter().all(|s| s.runs_on(*s)));
        assert!(System::MacosUniversal.runs_on(System::MacosAarch64));
        assert!(System::WindowsX86.runs_on(System::WindowsX86_64));
        assert!(!System::WindowsX86_64.runs_on(System::WindowsX86));
        assert!(!System::MacosAarch64.runs_on(System::MacosUniversal));
        let pairs = System::ALL.iter().flat_map(|a| System::ALL.iter().map(move |b| (a, b)));
        assert!(pairs.filter(|(a, b)| a.runs_on(**b)).all(|(a, b)| a.family() == b.family()));
    }
}
