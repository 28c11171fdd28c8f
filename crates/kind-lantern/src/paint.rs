//! How words are shown by what they mean.

use anstyle::{AnsiColor, Style};

/// For names of releases and headlines.
const STRONG: Style = Style::new().bold();
/// For what can be read over.
const FAINT: Style = Style::new().dimmed();
/// For commands to run next.
const COMMAND: Style = AnsiColor::Cyan.on_default();
/// For what went well.
const GOOD: Style = AnsiColor::Green.on_default().bold();
/// For what needs a look.
const CARE: Style = AnsiColor::Yellow.on_default().bold();
/// For what went wrong.
const BAD: Style = AnsiColor::Red.on_default().bold();

fn paint(style: Style, text: &str) -> String {
    format!("{style}{text}{style:#}")
}

pub fn strong(text: impl ToString) -> String {
    paint(STRONG, &text.to_string())
}

pub fn faint(text: impl ToString) -> String {
    paint(FAINT, &text.to_string())
}

pub fn command(text: impl ToString) -> String {
    paint(COMMAND, &text.to_string())
}

pub fn good(text: impl ToString) -> String {
    paint(GOOD, &text.to_string())
}

pub fn care(text: impl ToString) -> String {
    paint(CARE, &text.to_string())
}

pub fn bad(text: impl ToString) -> String {
    paint(BAD, &text.to_string())
}
