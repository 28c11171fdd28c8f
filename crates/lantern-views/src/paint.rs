//! How words are shown by what they mean: as the terminal's own markup (ECMA-48, 5th edition, section 8.3.117, SGR), which takes no
//! columns and is left out where it is not understood.

/// What a word means to the reader.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mark {
    /// Names of releases, and headlines.
    Strong,
    /// What can be read over.
    Faint,
    /// Commands to run next.
    Command,
    /// What went well.
    Good,
    /// What needs a look.
    Care,
    /// What went wrong.
    Bad,
}

/// Ends any mark.
const END: &str = "\u{1b}[0m";

impl Mark {
    /// In the order in which they are looked for: one that begins as another one does comes before it.
    const ALL: [Self; 6] = [Self::Good, Self::Care, Self::Bad, Self::Strong, Self::Faint, Self::Command];

    const fn begin(self) -> &'static str {
        match self {
            Self::Strong => "\u{1b}[1m",
            Self::Faint => "\u{1b}[2m",
            Self::Command => "\u{1b}[36m",
            Self::Good => "\u{1b}[1m\u{1b}[32m",
            Self::Care => "\u{1b}[1m\u{1b}[33m",
            Self::Bad => "\u{1b}[1m\u{1b}[31m",
        }
    }

    fn paint(self, text: impl ToString) -> String {
        format!("{}{}{END}", self.begin(), text.to_string())
    }
}

/// Names of releases, and headlines.
pub fn strong(text: impl ToString) -> String {
    Mark::Strong.paint(text)
}

/// What can be read over.
pub fn faint(text: impl ToString) -> String {
    Mark::Faint.paint(text)
}

/// Commands to run next.
pub fn command(text: impl ToString) -> String {
    Mark::Command.paint(text)
}

/// What went well.
pub fn good(text: impl ToString) -> String {
    Mark::Good.paint(text)
}

/// What needs a look.
pub fn care(text: impl ToString) -> String {
    Mark::Care.paint(text)
}

/// What went wrong.
pub fn bad(text: impl ToString) -> String {
    Mark::Bad.paint(text)
}

/// Splits a text into what is marked in one way, without the markup.
pub fn spans(text: &str) -> Vec<(Option<Mark>, &str)> {
    read(text).0
}

/// As [`spans`], with the mark that is not ended.
fn read(text: &str) -> (Vec<(Option<Mark>, &str)>, Option<Mark>) {
    let (mut spans, mut mark) = (Vec::new(), None);
    let (mut rest, mut from) = (text, 0);
    while let Some(at) = rest[from..].find('\u{1b}').map(|at| from + at) {
        let code = &rest[at..];
        let (next, len) = match Mark::ALL.into_iter().find(|mark| code.starts_with(mark.begin())) {
            Some(next) => (Some(next), next.begin().len()),
            None if code.starts_with(END) => (None, END.len()),
            // Not ours: it stays where it is.
            None => {
                from = at + 1;
                continue;
            }
        };
        if at > 0 {
            spans.push((mark, &rest[..at]));
        }
        (rest, from, mark) = (&code[len..], 0, next);
    }
    if !rest.is_empty() {
        spans.push((mark, rest));
    }
    (spans, mark)
}

/// Lets what is marked over the end of a line end there and begin again on the next, so that what stands between keeps its own.
pub fn carry(lines: &mut [String]) {
    let mut open: Option<Mark> = None;
    for line in lines {
        if let Some(mark) = open {
            line.insert_str(0, mark.begin());
        }
        open = read(line).1;
        if open.is_some() {
            line.push_str(END);
        }
    }
}

/// Returns a text without its markup.
pub fn plain(text: &str) -> String {
    spans(text).into_iter().map(|(_, text)| text).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_marked_is_found_again() {
        let text = format!("{} 1.4.0 to {}{}", good("pushed"), strong("brambleyard"), faint(""));
        let found = spans(&text);
        assert_eq!(found, [(Some(Mark::Good), "pushed"), (None, " 1.4.0 to "), (Some(Mark::Strong), "brambleyard")]);
        assert_eq!(plain(&text), "pushed 1.4.0 to brambleyard");
        for mark in Mark::ALL {
            assert_eq!(spans(&mark.paint("x")), [(Some(mark), "x")]);
        }
    }

    #[test]
    fn a_mark_that_begins_at_the_end_of_a_line_goes_on_in_the_next() {
        let mut lines = ["one\u{1b}[2m", "two", "three\u{1b}[0m four"].map(str::to_owned);
        carry(&mut lines);
        let found: Vec<_> = lines.iter().map(|line| spans(line)).collect();
        assert_eq!(found[0], [(None, "one")]);
        assert_eq!(found[1], [(Some(Mark::Faint), "two")]);
        assert_eq!(found[2], [(Some(Mark::Faint), "three"), (None, " four")]);
        assert!(lines[..2].iter().all(|line| line.ends_with(END)));
    }

    #[test]
    fn an_escape_that_is_not_ours_stays_text() {
        assert_eq!(spans("a\u{1b}[5mb"), [(None, "a\u{1b}[5mb")]);
        assert_eq!(spans("\u{1b}"), [(None, "\u{1b}")]);
        assert!(spans("").is_empty());
    }
}
