//! Browser builds.

use std::collections::BTreeSet;

use lantern_core::finding::{Code, Finding, join_some};
use lantern_core::path::{TreePath, shown};

use super::{Fact, Inspected, small_file};
use crate::export::Export;
use crate::intake::START_PAGE;

/// Most files that are named one by one.
const MAX_NAMED: usize = 5;

/// Endings of files that were compressed before they are sent.
const PACKED: [&str; 3] = [".br", ".gz", ".zst"];

pub(super) fn inspect(export: &Export, out: &mut Inspected) {
    let Some(page) = small_file(export, START_PAGE, out) else { return };
    let text = String::from_utf8_lossy(&page);
    out.name = between(&text, "<title>", "</title>").map(|title| shown(title.trim()));
    let is_there = |path: &str| export.place_of(path).is_some();
    let files = export.entries.iter().filter(|e| e.source.is_file()).map(|e| e.source.path.as_str());
    let packed = files.filter_map(|name| PACKED.iter().find_map(|ending| name.strip_suffix(ending)));
    // Next to the plain file it is an offer; without it the place must know what it sends.
    let (offered, alone): (Vec<&str>, Vec<&str>) = packed.partition(|plain| is_there(plain));
    if !offered.is_empty() {
        out.facts.push((Fact::AlsoCompressed, format!("{} files", offered.len())));
    }
    if !alone.is_empty() {
        let names: Vec<String> = alone.iter().map(|plain| shown(plain)).collect();
        out.facts.push((Fact::OnlyCompressed, format!("{} files", alone.len())));
        let what = format!(
            "{} is there in compressed form only: the storefront must declare that when it sends it",
            join_some(&names, 1)
        );
        out.findings.push(Finding::note(Code::OnlyCompressed, what));
    }
    let is_anywhere = |path: &str| is_there(path) || PACKED.iter().any(|ending| is_there(&format!("{path}{ending}")));
    let missing: Vec<String> =
        references(&text).into_iter().filter(|path| !is_anywhere(path)).map(|path| shown(&path)).collect();
    if !missing.is_empty() {
        let list = join_some(&missing, MAX_NAMED);
        let what = format!("{START_PAGE} refers to {list}, which is not there");
        out.findings.push(Finding::of(Code::BrokenPage, what, "export for the browser again, or fix the page"));
    }
}

/// The text between two others, whatever their letter case.
fn between<'a>(text: &'a str, before: &str, after: &str) -> Option<&'a str> {
    // Lower case of ASCII alone: the length stays.
    let lower = text.to_ascii_lowercase();
    let start = lower.find(before)? + before.len();
    let len = lower[start..].find(after)?;
    text.get(start..start + len)
}

/// Files next to the page that its `src` and `href` attributes name.
fn references(text: &str) -> BTreeSet<String> {
    let lower = text.to_ascii_lowercase();
    let mut out = BTreeSet::new();
    for attribute in ["src=", "href="] {
        let mut from = 0;
        while let Some(at) = lower[from..].find(attribute) {
            from += at + attribute.len();
            let Some(quote) = text[from..].chars().next().filter(|c| matches!(c, '"' | '\'')) else { continue };
            let rest = &text[from + 1..];
            let Some(end) = rest.find(quote) else { break };
            let value = rest[..end].split(['?', '#']).next().unwrap_or_default();
            let value = value.strip_prefix("./").unwrap_or(value);
            // Addresses and what a script fills in are not files of ours.
            let is_file = !value.is_empty() && !value.contains([':', '{', '$', '<', '%']) && !value.starts_with('/');
            if is_file && !value.ends_with('/') && TreePath::new(value).is_ok() {
                out.insert(value.to_owned());
            }
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_page_names() {
        let page = r##"<HTML><head><Title>Saltmarsh Post</Title><link HREF='style.css'>
            <script src="./saltmarsh.js?v=3"></script><img src="https://example.test/a.png"><a href="#top">
            <img src="{{ picture }}"><a href="../up.html"><img src=plain.png><img src="cut"##;
        assert_eq!(references(page).into_iter().collect::<Vec<_>>(), ["saltmarsh.js", "style.css"]);
        assert_eq!(between(page, "<title>", "</title>"), Some("Saltmarsh Post"));
        assert_eq!(between(page, "<nothing>", "</title>"), None);
    }
}
