//! What a command answers to a person, as a value: blocks of text, tables, findings, the next command.

use std::borrow::Cow;
use std::fmt::Write as _;

use lantern_core::finding::{Finding, Severity};

use crate::format::{fold, width, wrap};
use crate::paint::{bad, care, command, faint};
use crate::table::Table;

/// Sentences are not laid out wider than this, however wide the window is.
const WIDEST: usize = 110;
/// Those of a [`Block::Column`] not wider than this, also where there is no window.
const COLUMN: usize = 80;

/// The next sensible command.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Next {
    /// As it could be typed.
    pub command: Cow<'static, str>,
    /// What it does, where the command does not say it.
    pub why: &'static str,
}

impl Next {
    /// A command, and what it does.
    pub const fn new(command: &'static str, why: &'static str) -> Self {
        Self { command: Cow::Borrowed(command), why }
    }

    /// As [`Self::new`], with a name in it.
    pub fn of(command: String, why: &'static str) -> Self {
        Self { command: Cow::Owned(command), why }
    }

    fn lay_out(&self, columns: Option<usize>) -> String {
        let Self { command: line, why } = self;
        // A command is never folded, so that it can be copied as it is.
        let len = 6 + line.len() + if why.is_empty() { 0 } else { 3 + why.len() };
        let is_long = columns.is_some_and(|columns| len > columns);
        let gap = if is_long { "\n      " } else { "   " };
        let why = if why.is_empty() { String::new() } else { format!("{gap}{}", faint(why)) };
        format!("\n{} {}{why}", faint("next:"), command(line))
    }
}

impl From<&'static str> for Next {
    fn from(command: &'static str) -> Self {
        Self::new(command, "")
    }
}

impl From<String> for Next {
    fn from(command: String) -> Self {
        Self::of(command, "")
    }
}

/// What stands below each other in a [`View`].
#[derive(Debug, Clone)]
pub enum Block {
    /// One line or several, as they are.
    Text(String),
    /// Aligned columns.
    Table(Table),
    /// A sentence, which is folded in a window.
    Sentence(Folded),
    /// As a sentence, in a column that is narrow everywhere.
    Column(Folded),
    /// A finding, with its place, its code and its fix.
    Finding(Finding),
    /// The next sensible command.
    Next(Next),
}

/// What is folded.
#[derive(Debug, Clone)]
pub struct Folded {
    /// What its first line begins with.
    pub lead: String,
    /// The columns that its other lines are moved in by.
    pub indent: usize,
    /// What is said.
    pub text: String,
}

impl Folded {
    fn lay_out(&self, columns: usize) -> String {
        let room = columns.saturating_sub(self.indent.max(width(&self.lead)));
        format!("{}{}", self.lead, wrap(&self.text, room).join(&format!("\n{}", " ".repeat(self.indent))))
    }
}

impl Block {
    /// Lays it out within so many columns; none where what is written does not go to a window.
    pub fn lay_out(&self, columns: Option<usize>) -> String {
        let text = match self {
            Self::Text(text) => text.clone(),
            Self::Table(table) => table.lay_out(columns),
            Self::Sentence(sentence) => columns
                .map_or_else(|| format!("{}{}", sentence.lead, sentence.text), |c| sentence.lay_out(c.min(WIDEST))),
            Self::Column(column) => column.lay_out(columns.unwrap_or(COLUMN).min(COLUMN)),
            Self::Finding(finding) => lay_finding_out(finding, columns),
            Self::Next(next) => return next.lay_out(columns),
        };
        fold(&text, columns)
    }
}

/// Lays a finding out: place, line, mark, sentence, fix.
fn lay_finding_out(finding: &Finding, columns: Option<usize>) -> String {
    let mut out = String::new();
    let paint = |text: &str| match finding.severity {
        Severity::Error => bad(text),
        Severity::Warning => care(text),
        Severity::Note => faint(text),
    };
    if let Some(place) = &finding.place {
        let _ = writeln!(out, "  {}", faint(format!("{}, line {}, column {}", place.file, place.line, place.column)));
        // A line of thousands of characters is shown around its place.
        let room = columns.map_or(110, |columns| columns.min(114) - 4);
        let start = place.column.saturating_sub(room / 2 + 5);
        let text: String = place.text.chars().skip(start).take(room).collect();
        let _ = writeln!(out, "    {}", text.trim_end());
        let marks = "~".repeat(place.len.min(room.saturating_sub(place.column - 1 - start)).max(1));
        let _ = writeln!(out, "    {}{}", " ".repeat(place.column - 1 - start), paint(&marks));
    }
    let sentence = |lead: String, text: String| Block::Sentence(Folded { lead, indent: 4, text }).lay_out(columns);
    let lead = format!("  {} ", paint(&format!("{}:", finding.severity.word())));
    out += &sentence(lead, format!("{} {}", finding.what, faint(format!("({})", finding.code))));
    if let Some(fix) = &finding.fix {
        out += &format!("\n{}", sentence(format!("  {} ", faint("fix:")), fix.clone()));
    }
    out
}

/// What a command answers to a person. It is laid out where it is printed, for the window that is there.
#[derive(Debug, Clone, Default)]
pub struct View {
    blocks: Vec<Block>,
}

impl View {
    /// Returns what stands in it, from above.
    pub fn blocks(&self) -> &[Block] {
        &self.blocks
    }

    /// Adds lines as they are.
    pub fn say(&mut self, text: impl Into<String>) {
        self.blocks.push(Block::Text(text.into()));
    }

    /// Adds an empty line.
    pub fn space(&mut self) {
        self.say("");
    }

    /// Adds columns.
    pub fn table(&mut self, table: Table) {
        self.blocks.push(Block::Table(table));
    }

    /// Adds a sentence; `lead` begins its first line, the others are moved in.
    pub fn sentence(&mut self, lead: impl Into<String>, indent: usize, text: impl Into<String>) {
        self.blocks.push(Block::Sentence(Folded { lead: lead.into(), indent, text: text.into() }));
    }

    /// As [`Self::sentence`], in a column that is narrow everywhere.
    pub fn column(&mut self, lead: impl Into<String>, indent: usize, text: impl Into<String>) {
        self.blocks.push(Block::Column(Folded { lead: lead.into(), indent, text: text.into() }));
    }

    /// Adds a finding.
    pub fn finding(&mut self, finding: &Finding) {
        self.blocks.push(Block::Finding(finding.clone()));
    }

    /// Adds the next sensible command.
    pub fn next(&mut self, next: impl Into<Next>) {
        self.blocks.push(Block::Next(next.into()));
    }
}

#[cfg(test)]
mod tests {
    use lantern_core::finding::{Code, TextPlace};

    use super::*;
    use crate::paint::{plain, spans, strong};

    fn sample() -> View {
        let mut view = View::default();
        view.say(format!("{} <to> brambleyard", strong("1.4.0 (27)")));
        let mut table = Table::default();
        table.head(["depot", "size"]);
        table.row(["voices & music".into(), faint("294 kB")]);
        view.table(table);
        view.sentence("  note: ", 4, "one two three four five six seven eight nine ten eleven");
        view.column("  ", 2, "x".repeat(30) + " " + &"y".repeat(60));
        let place = TextPlace { file: "lantern.toml".into(), line: 3, column: 1, len: 4, text: "nmae = 1".into() };
        view.finding(&Finding::of(Code::UnknownKey, "nmae is not a key here", "did you mean name?").at(place));
        view.next(Next::new("lantern live", "asks the storefronts themselves"));
        view
    }

    #[test]
    fn a_view_is_laid_out_for_the_window_that_is_there() {
        let lay_out =
            |columns| -> Vec<String> { sample().blocks().iter().map(|block| plain(&block.lay_out(columns))).collect() };
        insta::assert_snapshot!(lay_out(None).join("\n"), @"
        1.4.0 (27) <to> brambleyard
          depot            size
          voices & music   294 kB
          note: one two three four five six seven eight nine ten eleven
          xxxxxxxxxxxxxxxxxxxxxxxxxxxxxx
          yyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyy
          lantern.toml, line 3, column 1
            nmae = 1
            ~~~~
          error: nmae is not a key here (unknown-key)
          fix: did you mean name?

        next: lantern live   asks the storefronts themselves
        ");
        insta::assert_snapshot!(lay_out(Some(40)).join("\n"), @"
        1.4.0 (27) <to> brambleyard
          depot            size
          voices & music   294 kB
          note: one two three four five six
            seven eight nine ten eleven
          xxxxxxxxxxxxxxxxxxxxxxxxxxxxxx
          yyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyy
          lantern.toml, line 3, column 1
            nmae = 1
            ~~~~
          error: nmae is not a key here
            (unknown-key)
          fix: did you mean name?

        next: lantern live
              asks the storefronts themselves
        ");
    }

    /// What a page would do: it meets every kind of block, and finds text, marks, columns and findings in them.
    #[test]
    fn a_page_can_be_made_of_the_same_blocks() {
        let escape = |text: &str| text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
        let inline = |text: &str| -> String {
            let span = |(mark, text): (Option<crate::paint::Mark>, &str)| match mark {
                Some(mark) => format!("<b class=\"{mark:?}\">{}</b>", escape(text)),
                None => escape(text),
            };
            spans(text).into_iter().map(span).collect()
        };
        let block = |block: &Block| match block {
            Block::Text(text) => format!("<p>{}</p>", inline(text)),
            Block::Table(table) => {
                let row = |cells: &[String]| -> String {
                    cells.iter().map(|cell| format!("<td>{}</td>", inline(cell))).collect()
                };
                let head = table.heading().map(|head| format!("<tr>{}</tr>", row(head)));
                let rows: String = table.rows().map(|cells| format!("<tr>{}</tr>", row(cells))).collect();
                format!("<table>{}{rows}</table>", head.unwrap_or_default())
            }
            Block::Sentence(folded) | Block::Column(folded) => format!("<p>{}</p>", inline(&folded.text)),
            Block::Finding(finding) => format!("<p id=\"{}\">{}</p>", finding.code, escape(&finding.what)),
            Block::Next(next) => format!("<code>{}</code>", escape(&next.command)),
        };
        let page: Vec<String> = sample().blocks().iter().map(block).collect();
        insta::assert_snapshot!(page.join("\n"), @r#"
        <p><b class="Strong">1.4.0 (27)</b> &lt;to&gt; brambleyard</p>
        <table><tr><td>depot</td><td>size</td></tr><tr><td>voices &amp; music</td><td><b class="Faint">294 kB</b></td></tr></table>
        <p>one two three four five six seven eight nine ten eleven</p>
        <p>xxxxxxxxxxxxxxxxxxxxxxxxxxxxxx yyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyyy</p>
        <p id="unknown-key">nmae is not a key here</p>
        <code>lantern live</code>
        "#);
    }
}
