//! Packages and programs that others have made, signed with our keys. `scripts/real-files.sh` fetches them.

#[cfg(test)]
mod packages;
#[cfg(test)]
mod programs;
