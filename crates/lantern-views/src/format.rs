//! Numbers and times as people read them.

use jiff::Timestamp;
use jiff::tz::TimeZone;
use lantern_core::names::Name;
use lantern_core::system::System;
use lantern_project::Project;
use unicode_width::UnicodeWidthStr;

use crate::paint;

/// Writes bytes in decimal units with three digits: `214 kB`, `7.92 MB`.
pub fn bytes(count: u64) -> String {
    lantern_core::size::Size(count).to_string()
}

/// Writes a count with its noun.
pub fn count(count: u64, one: &str, many: &str) -> String {
    format!("{count} {}", if count == 1 { one } else { many })
}

/// Lists systems.
pub fn systems(systems: &[System]) -> String {
    let names: Vec<&str> = systems.iter().map(System::name).collect();
    names.join(", ")
}

/// Lists what starts a build; nothing where nothing is started.
pub fn starts(starts: &[lantern_core::release::Start]) -> String {
    let names: Vec<String> = starts.iter().map(|start| start.file.to_string()).collect();
    if names.is_empty() { String::new() } else { format!("starts {}", names.join(", ")) }
}

/// Lists names.
pub fn names<'a>(names: impl IntoIterator<Item = &'a Name>) -> String {
    let names: Vec<&str> = names.into_iter().map(Name::as_str).collect();
    names.join(", ")
}

/// What an edition is called before a release's name; nothing where there is only one.
pub fn edition_word(project: &Project, edition: &Name) -> String {
    if project.has_editions() { format!("{edition} ") } else { String::new() }
}

/// Folds each line that is wider than `columns`, its further parts two columns further in; none leaves all as it is.
pub fn fold(text: &str, columns: Option<usize>) -> String {
    let Some(columns) = columns else {
        return text.to_owned();
    };
    let fold_line = |line: &str| -> String {
        if width(line) <= columns {
            return line.to_owned();
        }
        let rest = line.trim_start_matches(' ');
        let indent = line.len() - rest.len();
        let (first, more) = (" ".repeat(indent), " ".repeat(indent + 2));
        first + &wrap(rest, columns.saturating_sub(indent + 2)).join(&format!("\n{more}"))
    };
    text.split('\n').map(fold_line).collect::<Vec<_>>().join("\n")
}

/// Whether a word is not put on a line without the one before it: a unit, a build number, a time of day.
fn sticks(word: &str) -> bool {
    let plain = paint::plain(word);
    let plain = plain.trim_end_matches([',', ';', '.', ':', ')']).trim_start_matches('(');
    let is_number = !plain.is_empty() && plain.bytes().all(|b| b.is_ascii_digit());
    let is_time =
        plain.split_once(':').is_some_and(|(h, m)| h.len() == 2 && m.starts_with(|c: char| c.is_ascii_digit()));
    matches!(plain, "B" | "kB" | "MB" | "GB" | "TB") || (word.contains('(') && is_number) || is_time
}

/// Breaks a text into what may stand on a line of its own.
pub fn pieces(text: &str) -> Vec<String> {
    let mut pieces: Vec<String> = Vec::new();
    for word in text.split(' ') {
        match pieces.last_mut() {
            Some(last) if sticks(word) => {
                last.push(' ');
                last.push_str(word);
            }
            _ => pieces.push(word.to_owned()),
        }
    }
    pieces
}

/// Breaks a text into lines of at most so many columns, at spaces; styling takes no room, and goes on in the next line.
pub fn wrap(text: &str, columns: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for (i, word) in pieces(text).into_iter().enumerate() {
        let line = lines.last_mut().expect("there is always a line");
        let len = width(line) + 1 + width(&word);
        if i == 0 {
            line.push_str(&word);
        } else if len <= columns {
            line.push(' ');
            line.push_str(&word);
        } else {
            lines.push(word);
        }
    }
    paint::carry(&mut lines);
    lines
}

/// The columns that a text takes on a terminal.
pub fn width(text: &str) -> usize {
    paint::spans(text).into_iter().map(|(_, text)| text.width()).sum()
}

/// Writes a time in this computer's time zone, to the minute.
pub fn time(at: Timestamp) -> String {
    at.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string()
}

/// Writes a time in this computer's time zone, to the second.
pub fn time_to_the_second(at: Timestamp) -> String {
    at.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M:%S").to_string()
}

/// Names this computer's time zone as it is at a moment: `UTC`, `+01:00`.
pub fn zone(at: Timestamp) -> String {
    let now = at.to_zoned(TimeZone::system());
    if now.offset().is_zero() { "UTC".to_owned() } else { now.strftime("%:z").to_string() }
}

/// Writes a day as people write it down, in their own zone.
pub fn day(at: Timestamp) -> String {
    at.to_zoned(TimeZone::system()).strftime("%Y-%m-%d").to_string()
}

/// Writes how long ago something was, or how long it is until then, rounded to its largest unit: `3 days`.
pub fn about(seconds: u64) -> String {
    let rounded = |unit: u64| (seconds + unit / 2) / unit;
    match seconds {
        0..60 => "less than a minute".to_owned(),
        60..7_200 => count(rounded(60), "minute", "minutes"),
        7_200..172_800 => count(rounded(3_600), "hour", "hours"),
        _ => count(rounded(86_400), "day", "days"),
    }
}

/// Writes how long ago something was.
pub fn ago(at: Timestamp, now: Timestamp) -> String {
    match u64::try_from(now.duration_since(at).as_secs()) {
        Ok(0..60) | Err(_) => "just now".to_owned(),
        Ok(seconds) => format!("{} ago", about(seconds)),
    }
}

/// Writes when something is due, and how long that is from now on.
pub fn due(at: Timestamp, now: Timestamp) -> String {
    let left = at.duration_since(now).as_secs();
    match u64::try_from(left) {
        Ok(left) => format!("due {}, in {}", day(at), about(left)),
        Err(_) => format!("overdue since {}, {}", day(at), about(left.unsigned_abs())),
    }
}

/// Writes when something came to be: the day alone, where only a day was given (the beginning of it, UTC), which is the same day
/// everywhere.
pub fn since(at: Timestamp) -> String {
    let there = at.to_zoned(TimeZone::UTC);
    let is_day = there.time() == jiff::civil::Time::midnight();
    if is_day { there.strftime("%Y-%m-%d").to_string() } else { time(at) }
}

/// Writes a duration to the second: `1:05`, `2:03:05`.
pub fn duration(seconds: u64) -> String {
    let (hours, minutes, rest) = (seconds / 3600, seconds / 60 % 60, seconds % 60);
    if hours > 0 { format!("{hours}:{minutes:02}:{rest:02}") } else { format!("{minutes}:{rest:02}") }
}

/// The numbers of single targets in parentheses, with a space before: ` (linux 41, windows 40)`; nothing where there are none.
pub fn of_targets<'a>(numbers: impl IntoIterator<Item = (&'a Name, u64)>) -> String {
    let each: Vec<String> = numbers.into_iter().map(|(target, number)| format!("{target} {number}")).collect();
    if each.is_empty() { String::new() } else { format!(" ({})", each.join(", ")) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn durations() {
        assert_eq!((duration(5), duration(65), duration(7385)), ("0:05".into(), "1:05".into(), "2:03:05".into()));
    }

    #[test]
    fn long_times_are_in_their_largest_unit() {
        let at = |seconds: i64| Timestamp::from_second(1_796_000_000 + seconds).unwrap();
        assert_eq!(
            [59, 60, 7_199, 7_200, 172_799, 172_800].map(about),
            ["less than a minute", "1 minute", "120 minutes", "2 hours", "48 hours", "2 days"]
        );
        assert_eq!(
            (ago(at(0), at(30)), ago(at(9), at(0)), ago(at(0), at(3 * 86_400))),
            ("just now".into(), "just now".into(), "3 days ago".into())
        );
        assert!(due(at(3 * 86_400), at(0)).ends_with(", in 3 days"));
        assert!(due(at(0), at(86_400)).starts_with("overdue since ") && due(at(0), at(86_400)).ends_with(", 24 hours"));
    }

    #[test]
    fn a_day_is_the_same_everywhere() {
        assert_eq!(since("2026-03-01T00:00:00Z".parse().unwrap()), "2026-03-01");
        assert!(since("2026-03-01T00:00:01Z".parse().unwrap()).contains(':'));
    }

    #[test]
    fn lines_break_where_a_reader_would() {
        assert_eq!(wrap("Promote 1.4.0 (27) to creek", 14), ["Promote", "1.4.0 (27) to", "creek"]);
        assert_eq!(wrap("294 kB came, 5 files", 6), ["294 kB", "came,", "5", "files"]);
        assert_eq!(wrap("at 2026-11-27 17:32 by", 8), ["at", "2026-11-27 17:32", "by"]);
        assert_eq!(wrap("averylongword that", 4), ["averylongword", "that"], "a word is never cut");
        assert_eq!(wrap("  fr/ x", 80), ["  fr/ x"], "what is indented stays so");
    }

    #[test]
    fn a_style_goes_on_in_the_next_line() {
        let lines = wrap(&paint::strong("one two"), 4);
        assert_eq!(lines, [paint::strong("one"), paint::strong("two")]);
        let lines = wrap(&format!("{} two", paint::strong("one")), 4);
        assert_eq!(lines, [paint::strong("one"), "two".to_owned()]);
    }
}
