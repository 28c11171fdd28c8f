//! Drives the built program against the real stand-in, on files in a temporary folder.

/// Compares a whole output with what stands in the test.
#[cfg(test)]
macro_rules! snapshot {
    ($text:expr, @$expected:literal) => {
        crate::env::settings().bind(|| insta::assert_snapshot!($text, @$expected))
    };
}

#[cfg(test)]
mod access;
#[cfg(test)]
mod adopting;
// Python is found by PATH there.
#[cfg(test)]
#[cfg(target_os = "linux")]
mod approving;
#[cfg(test)]
mod archives;
#[cfg(test)]
mod by_hand;
#[cfg(test)]
mod chain;
#[cfg(test)]
mod checking;
#[cfg(test)]
mod complete;
mod configuration;
// Its connectors are scripts of a shell that only these systems have.
#[cfg(test)]
#[cfg(unix)]
mod connector;
#[cfg(test)]
mod demo;
#[cfg(test)]
mod depots;
// Its device program is a script of a shell that only these systems have.
#[cfg(test)]
#[cfg(unix)]
mod devices;
#[cfg(test)]
#[cfg(feature = "other-disks")]
mod disks;
#[cfg(test)]
mod editions;
#[cfg(test)]
mod env;
#[cfg(test)]
mod exports;
#[cfg(test)]
mod faults;
#[cfg(test)]
mod first_release;
#[cfg(test)]
mod future;
#[cfg(test)]
mod helping;
#[cfg(test)]
mod hostile;
#[cfg(test)]
mod inspecting;
mod installing;
#[cfg(test)]
mod keeping;
#[cfg(test)]
mod key_chains;
#[cfg(test)]
#[cfg(feature = "key-store")]
mod key_store;
#[cfg(test)]
mod keys;
#[cfg(test)]
mod knowing;
#[cfg(test)]
mod layout;
#[cfg(test)]
mod long;
#[cfg(test)]
mod loose;
#[cfg(test)]
mod macs;
#[cfg(test)]
mod mistakes;
#[cfg(test)]
mod private;
#[cfg(test)]
mod programs;
#[cfg(test)]
mod races;
#[cfg(test)]
mod recovery;
#[cfg(test)]
mod repairing;
#[cfg(test)]
mod schema;
#[cfg(test)]
mod signing_stops;
#[cfg(test)]
mod stamping;
#[cfg(test)]
mod stops;
// It makes a terminal as these systems do.
#[cfg(test)]
#[cfg(unix)]
mod terminal;
#[cfg(test)]
#[cfg(target_os = "linux")]
mod tls;
#[cfg(test)]
#[cfg(feature = "tokens")]
mod token;
#[cfg(test)]
mod updating;
#[cfg(test)]
mod weather;
#[cfg(test)]
mod withdrawing;
