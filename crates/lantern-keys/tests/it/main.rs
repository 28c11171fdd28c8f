//! Keys through files: those that other programs wrote, and ours as other programs read them.

mod files;
mod keyring;
