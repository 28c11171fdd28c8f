//! What can be seen of an export before anything is said about it.

use lantern_core::system::System;

use lantern_formats::pe::{Details, Subsystem};

use super::start;
use crate::export::{Export, Form};

pub use super::start::single_top;

/// Words in the names of programs that lie beside a game and are not it.
const HELPERS: [&str; 10] =
    ["crash", "report", "unins", "setup", "redist", "helper", "updater", "config", "server", "launcher"];

/// Of several programs for one system returns the one that is likely the game: not one that a helper's name gives away, of the
/// others the one that is twice as large as the next, or, where sizes do not decide, that alone opens a window or has an
/// icon; and those that lie beside it. Where these speak against each other all of them are returned, and none beside.
pub fn likely(export: &Export, starts: Vec<(String, System)>) -> (Vec<(String, System)>, Vec<String>) {
    let is_helper = |path: &str| {
        let name = path.to_lowercase();
        HELPERS.iter().any(|word| name.contains(word))
    };
    let size = |path: &str| export.place_of(path).and_then(|at| export.entries.get(at)).map_or(0, |e| e.source.size());
    let (mut chosen, mut beside): (Vec<(String, System)>, Vec<String>) = (Vec::new(), Vec::new());
    for of_system in starts.chunk_by(|a, b| a.1 == b.1) {
        let mut games: Vec<&(String, System)> = of_system.iter().filter(|(path, _)| !is_helper(path)).collect();
        games.sort_by_key(|(path, _)| std::cmp::Reverse(size(path)));
        let game = match games.as_slice() {
            [] => None,
            [one] => Some(*one),
            several => game_of(several, size, |path| shown_to_players(export, path)),
        };
        match game {
            Some(game) => {
                beside.extend(of_system.iter().map(|(path, _)| path.clone()).filter(|path| *path != game.0));
                chosen.push(game.clone());
            }
            None => chosen.extend(of_system.iter().cloned()),
        }
    }
    (chosen, beside)
}

/// Of programs, the largest first, the one that is the game.
fn game_of<'a>(
    programs: &[&'a (String, System)],
    size: impl Fn(&str) -> u64,
    shown: impl Fn(&str) -> u8,
) -> Option<&'a (String, System)> {
    let (first, second) = (programs.first()?, programs.get(1)?);
    let marks: Vec<u8> = programs.iter().map(|(path, _)| shown(path)).collect();
    let most = marks.iter().copied().max()?;
    // One that is not twice as large as the next is a guess.
    if size(&first.0) >= 2 * size(&second.0) {
        return (marks.first() == Some(&most)).then_some(*first);
    }
    let mut best = programs.iter().zip(&marks).filter(|(_, mark)| **mark == most);
    let only = best.next().map(|(program, _)| *program);
    only.filter(|_| best.next().is_none())
}

/// How much a program for Windows looks like one for players: it opens a window of its own, and has an icon.
fn shown_to_players(export: &Export, path: &str) -> u8 {
    let file = export.place_of(path).and_then(|at| export.hold(at).ok());
    let details = file.and_then(|mut file| Details::read(&mut file).ok());
    details.map_or(0, |pe| u8::from(pe.subsystem == Subsystem::Windows) + u8::from(!pe.icon_sizes.is_empty()))
}

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
