//! A passphrase that a program of the user's own gives: the system's key store, or whatever keeps passwords.

use std::path::Path;
use std::time::Duration;

use lantern_core::names::Name;
use lantern_program::{Aside, Ended, Output, Program};
use zeroize::Zeroize;

use crate::KeyError;
use crate::passphrase::Passphrase;

/// How long it may take: someone may have to unlock the store.
const TIME_LIMIT: Duration = Duration::from_secs(300);
/// Longest passphrase, in bytes.
const MAX_LEN: usize = 64 * 1024;

/// Runs the program, and takes the first line of what it prints. It may ask the person at the terminal.
///
/// # Errors
/// [`KeyError::Remembered`]; [`KeyError::Stopped`].
pub fn passphrase(
    name: &Name,
    run: &[String],
    folder: &Path,
    stopped: &dyn Fn() -> bool,
) -> Result<Passphrase, KeyError> {
    let failed = |why: &str| KeyError::Remembered {
        name: name.to_string(),
        program: run.first().cloned().unwrap_or_default(),
        why: why.to_owned(),
    };
    let program = Program { run, folder, limit: TIME_LIMIT, max_line: MAX_LEN, max_output: 2 * MAX_LEN as u64 };
    let mut first: Option<Vec<u8>> = None;
    let mut take = |output| match output {
        Output::Line(line) if first.is_none() => {
            first = Some(line);
            true
        }
        Output::Line(mut line) => {
            line.zeroize();
            true
        }
        Output::TooLong | Output::TooMuch => false,
    };
    let ended = program.run(Vec::new(), Aside::Terminal, stopped, &mut take);
    match ended.map_err(|error| failed(&format!("it cannot be started: {error}")))? {
        Ended::Stopped => Err(KeyError::Stopped),
        Ended::TooLate => Err(failed("it took too long")),
        Ended::GivenUp => Err(failed("it printed more than a passphrase")),
        Ended::With(status) if !status.success() => Err(failed(&format!("it ended with {status}"))),
        Ended::With(_) => {
            let passphrase = first.and_then(Passphrase::of_bytes).filter(|passphrase| !passphrase.is_empty());
            passphrase.ok_or_else(|| failed("it printed nothing"))
        }
    }
}
