//! The built program on files that others have made and signed; `scripts/real-files.sh` fetches them.

#[cfg(test)]
mod files;
