//! `accepted`: what is taken in.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Push, Refusal, Section};
use crate::system::System;

/// What is taken in.
#[derive(Debug, Clone, PartialEq, Deserialize, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Accepted {
    /// Systems whose builds are taken.
    pub systems: Vec<System>,
    /// Largest depot, in bytes of its files.
    pub depot_max_bytes: u64,
    /// Whether builds are refused that were knowingly left unsigned. Left out: they are taken.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub refuse_unsigned: bool,
}

impl Section for Accepted {
    fn refuse_push(&self, push: &Push<'_>) -> Vec<Refusal> {
        let mut out = Vec::new();
        for target in push.targets {
            for system in target.systems.iter().filter(|s| !self.systems.contains(s)) {
                let taken: Vec<&str> = self.systems.iter().map(System::name).collect();
                let what = format!("builds for {system} (target {}) are not taken there", target.target);
                let fix = format!("leave it out of the storefront's targets = […]; taken are {}", taken.join(", "));
                out.push(Refusal::new("system-not-taken", what, fix));
            }
            if self.refuse_unsigned && target.unsigned {
                let what = format!("{} is not signed, and unsigned builds are not taken there", target.target);
                out.push(Refusal::new("unsigned", what, "prepare it without --unsigned"));
            }
            for depot in target.depots.iter().filter(|d| d.size > self.depot_max_bytes) {
                let (name, size, max) = (&depot.depot, depot.size, self.depot_max_bytes);
                let what = format!("the depot {name} has {size} bytes, at most {max} are taken");
                out.push(Refusal::new("depot-too-large", what, "leave files out, or divide the depot"));
            }
        }
        out
    }
}
