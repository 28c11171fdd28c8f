//! What can be seen of an export before anything is said about it.

use lantern_core::system::System;

use super::start;
use crate::export::{Export, Form};

pub use super::start::single_top;

/// Returns what starts an export with the system that each is for: programs, the start page, or the package itself.
pub fn starts(export: &Export) -> Vec<(String, System)> {
    let entry = export.entries.first().map(|e| e.source.path.clone());
    if let (Form::Package(ending), Some(file)) = (export.form, &entry) {
        let system = start::system_of_package(export, ending);
        let is_good = start::check_package(export, file, ending).is_ok();
        return if is_good { vec![(file.as_str().to_owned(), system)] } else { Vec::new() };
    }
    let programs = start::programs_at_the_top(export).into_iter();
    let mut found: Vec<(String, System)> =
        programs.filter_map(|(path, systems)| Some((path.as_str().to_owned(), systems.into_iter().next()?))).collect();
    let page = export.entries.iter().find(|e| e.source.path.as_str() == start::START_PAGE);
    if let (true, Some(page)) = (found.is_empty(), page) {
        found.push((page.source.path.as_str().to_owned(), System::Web));
    }
    found.sort_by(|a, b| a.1.cmp(&b.1).then_with(|| a.0.cmp(&b.0)));
    found
}
