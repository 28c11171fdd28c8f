//! Packages and programs that others have made, signed with our keys. `scripts/real-files.sh` fetches them.

#[cfg(test)]
mod code;
#[cfg(test)]
mod packages;

#[cfg(test)]
mod programs;
// Keys and folders, as in the other tests.
#[cfg(test)]
#[path = "../it/scene.rs"]
#[expect(dead_code, reason = "the other tests need more of it")]
mod scene;
