//! Keys through files: those that other programs wrote, and ours as other programs read them.

#[cfg(test)]
mod files;
#[cfg(test)]
mod keyring;
// Where it is part of the system.
#[cfg(test)]
#[cfg(target_os = "linux")]
mod openssl;
