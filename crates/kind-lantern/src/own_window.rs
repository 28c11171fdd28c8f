//! A double click instead of a command line: on Windows that opens a window of its own, which would close before anyone has read
//! a word.

use std::io::{self, BufRead, IsTerminal, Write};

/// What is shown to someone who is not used to terminals.
const EXPLAINED: &str = "\
Kind Lantern is used from a terminal, by commands.

  1. open the folder of your game in the Explorer
  2. type cmd into its address line and press Enter: a terminal opens there
  3. type: lantern init

If it says that lantern is not found, type the whole path of this program
instead of the word.

Press Enter to close this window.
";

/// Whether the program was given nothing to do in a window that was opened for it alone.
pub fn is_ours(arguments: usize) -> bool {
    arguments <= 1 && io::stdin().is_terminal() && io::stdout().is_terminal() && is_fresh()
}

/// Whether nobody has written anything into this window: behind a prompt the cursor never stands in the first place.
#[cfg(windows)]
fn is_fresh() -> bool {
    let screen = crossterm_winapi::ScreenBuffer::current().and_then(|screen| screen.info());
    screen.is_ok_and(|info| (info.cursor_pos().x, info.cursor_pos().y) == (0, 0))
}

/// Other systems open no window for a program that is not one.
#[cfg(not(windows))]
fn is_fresh() -> bool {
    false
}

/// Explains itself, and waits until it was read.
pub fn explain() {
    explain_to(&mut io::stdin().lock(), &mut anstream::stdout());
}

fn explain_to(from: &mut dyn BufRead, to: &mut dyn Write) {
    let said = to.write_all(EXPLAINED.as_bytes()).and_then(|()| to.flush());
    // A window that cannot be written to is not read either.
    if said.is_ok() {
        let _ = from.read_line(&mut String::new());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_explains_itself_and_waits_for_enter() {
        let (mut from, mut to) = (io::Cursor::new("\nmore"), Vec::new());
        explain_to(&mut from, &mut to);
        assert_eq!(String::from_utf8(to).unwrap(), EXPLAINED);
        assert_eq!(from.position(), 1, "one line is waited for");
    }

    #[test]
    fn a_command_is_done_wherever_it_is_given() {
        assert!(!is_ours(2));
    }
}
