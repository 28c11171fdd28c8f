//! Questions to the one at the terminal.

use std::io::{self, Write};

use crate::diagnostic::CommandError;
use crate::ui::Ui;

impl Ui {
    /// Asks for a secret, which is not shown while it is typed.
    pub fn ask_secret(&self, question: &str, what: &str, option: &str) -> Result<String, CommandError> {
        if !self.can_ask() {
            return Err(CommandError::missing_answer(what, option));
        }
        let secret = self.ask_secret_or_nothing(question)?;
        if secret.is_empty() { Err(CommandError::missing_answer(what, option)) } else { Ok(secret) }
    }

    /// As [`Self::ask_secret`], at a terminal, where to press Enter is an answer, too.
    pub fn ask_secret_or_nothing(&self, question: &str) -> Result<String, CommandError> {
        let asked = rpassword::prompt_password(format!("{question} "));
        if self.is_stopped() {
            return Err(CommandError::stopped());
        }
        asked.map_err(|error| match error.kind() {
            io::ErrorKind::Interrupted => CommandError::stopped(),
            _ => CommandError::io("read it", error),
        })
    }

    /// Asks for a line. Without a terminal nothing is asked: the option that gives the answer is named.
    pub fn ask(&self, question: &str, what: &str, option: &str) -> Result<String, CommandError> {
        if !self.can_ask() {
            return Err(CommandError::missing_answer(what, option));
        }
        let mut out = anstream::stdout();
        write!(out, "{question} ").and_then(|()| out.flush()).map_err(|e| CommandError::io("ask", e))?;
        let mut line = String::new();
        let len = io::stdin().read_line(&mut line).map_err(|e| CommandError::io("read your answer", e))?;
        if self.is_stopped() {
            return Err(CommandError::stopped());
        }
        if len == 0 { Err(CommandError::missing_answer(what, option)) } else { Ok(line.trim().to_owned()) }
    }
}
