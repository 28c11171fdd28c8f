//! Numbers and times as people read them.

use jiff::Timestamp;
use jiff::tz::TimeZone;
use lantern_core::system::System;

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
pub fn names<'a>(names: impl IntoIterator<Item = &'a lantern_core::names::Name>) -> String {
    let names: Vec<&str> = names.into_iter().map(lantern_core::names::Name::as_str).collect();
    names.join(", ")
}

/// Breaks a text to the terminal's width, its further lines with an indent; where nobody looks, it stays one line.
pub fn flow(text: &str, first: usize, indent: usize) -> String {
    let Some((terminal_size::Width(columns), _)) = terminal_size::terminal_size() else {
        return text.to_owned();
    };
    let width = usize::from(columns).clamp(40, 110).saturating_sub(first.max(indent));
    wrap(text, width).join(&format!("\n{}", " ".repeat(indent)))
}

/// Breaks a text into lines of at most `width` columns, at spaces; styling takes no room.
pub fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split(' ') {
        let line = lines.last_mut().expect("there is always a line");
        let len = crate::table::width(line) + 1 + crate::table::width(word);
        if line.is_empty() {
            line.push_str(word);
        } else if len <= width {
            line.push(' ');
            line.push_str(word);
        } else {
            lines.push(word.to_owned());
        }
    }
    lines
}

/// Writes a time in this computer's time zone, to the minute.
pub fn time(at: Timestamp) -> String {
    at.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string()
}

/// Writes a day as people write it down, in their own zone.
pub fn day(at: Timestamp) -> String {
    at.to_zoned(TimeZone::system()).strftime("%Y-%m-%d").to_string()
}

/// Writes a duration to the second: `1:05`, `2:03:05`.
pub fn duration(seconds: u64) -> String {
    let (hours, minutes, rest) = (seconds / 3600, seconds / 60 % 60, seconds % 60);
    if hours > 0 { format!("{hours}:{minutes:02}:{rest:02}") } else { format!("{minutes}:{rest:02}") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn durations() {
        assert_eq!((duration(5), duration(65), duration(7385)), ("0:05".into(), "1:05".into(), "2:03:05".into()));
    }
}
