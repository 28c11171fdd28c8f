//! The one storefront of a project need not be named: where the argument is left out, it is put in before the command line
//! is read. Nothing is guessed where there are several, or where a word could be a misspelt name.

use std::ffi::OsString;
use std::path::Path;

use clap::{ArgAction, Command};
use lantern_core::config::{Config, FILE_NAME, MAX_CONFIG_LEN, Storefront};
use lantern_core::names::Name;
use lantern_core::version::ReleaseAsked;
use lantern_project::Project;

/// What comes after the storefront, by which it is seen that it was left out.
#[derive(Clone, Copy)]
enum Then {
    Nothing,
    Release,
    Branch,
    Step,
}

/// Commands whose first argument is a storefront.
const COMMANDS: [(&str, Then); 9] = [
    ("connect", Then::Nothing),
    ("push", Then::Release),
    ("promote", Then::Branch),
    ("rollback", Then::Branch),
    ("adopt", Then::Branch),
    ("confirm", Then::Step),
    ("wait", Then::Nothing),
    ("invite", Then::Branch),
    ("install", Then::Branch),
];

/// Returns the command line with the name of the storefront in it; `root` says what can stand there.
pub fn fill_in(root: &Command, mut arguments: Vec<OsString>) -> Vec<OsString> {
    let Some(at) = positional((root, root), &arguments, 1) else { return arguments };
    let Some((name, then)) = COMMANDS.iter().find(|(name, _)| arguments[at] == *name) else { return arguments };
    let Some(own) = root.find_subcommand(name) else { return arguments };
    if arguments.iter().any(|a| matches!(a.to_str(), Some("--help" | "-h" | "--give-up"))) {
        return arguments;
    }
    let first = positional((root, own), &arguments, at + 1);
    let word = first.and_then(|first| arguments[first].to_str());
    let Some((storefront, configured)) = sole(&folder(&arguments)) else { return arguments };
    if is_left_out(*then, word, &storefront, &configured) {
        arguments.insert(first.unwrap_or(at + 1), storefront.as_str().into());
    }
    arguments
}

fn is_left_out(then: Then, word: Option<&str>, name: &Name, at: &Storefront) -> bool {
    match (then, word) {
        (_, None) => true,
        (Then::Nothing, Some(_)) => false,
        (Then::Release, Some(word)) => {
            word.starts_with(|c: char| c.is_ascii_digit()) && word.parse::<ReleaseAsked>().is_ok()
        }
        // The names of steps stand elsewhere: what is not nearly the storefront's name is one.
        (Then::Step, Some(word)) => lantern_core::names::nearest(word, [name.as_str()]).is_none(),
        (Then::Branch, Some(word)) => at.branches.iter().any(|(branch, _)| branch.as_str() == word),
    }
}

/// The place of the first argument from `from` on that is neither an option nor the value of one.
fn positional((root, command): (&Command, &Command), arguments: &[OsString], from: usize) -> Option<usize> {
    let takes_value = |long: &str| {
        let options = command.get_arguments().chain(root.get_arguments());
        let mut found = options.filter(|option| option.get_long() == Some(long));
        found.any(|option| matches!(option.get_action(), ArgAction::Set | ArgAction::Append))
    };
    let mut at = from;
    while let Some(argument) = arguments.get(at) {
        match argument.to_str() {
            Some("--") => return (at + 1 < arguments.len()).then_some(at + 1),
            Some(text) if text.starts_with("--") => {
                at += if !text.contains('=') && takes_value(&text[2..]) { 2 } else { 1 }
            }
            Some(text) if text.starts_with('-') && text.len() > 1 => at += 1,
            _ => return Some(at),
        }
    }
    None
}

fn folder(arguments: &[OsString]) -> OsString {
    let mut texts = arguments.iter();
    while let Some(argument) = texts.next() {
        if argument == "--project" {
            return texts.next().cloned().unwrap_or_else(|| ".".into());
        }
        if let Some(folder) = argument.to_str().and_then(|text| text.strip_prefix("--project=")) {
            return folder.into();
        }
    }
    ".".into()
}

/// The one storefront of the project, if there is one project with one storefront.
fn sole(from: &OsString) -> Option<(Name, Storefront)> {
    let path = Project::root_above(Path::new(from))?.join(FILE_NAME);
    let bytes = lantern_store::durable::read_limited(&path, MAX_CONFIG_LEN).ok()?;
    let config = Config::read_partly(FILE_NAME, &String::from_utf8(bytes).ok()?).0?;
    let mut storefronts = config.storefronts.into_iter();
    storefronts.next().filter(|_| storefronts.next().is_none())
}

#[cfg(test)]
mod tests {
    use super::*;

    const CONFIG: &str = r#"
[game]
name = "Saltmarsh Post"
studio = "Paper Heron"
identity = "example.paperheron.saltmarsh"
version = "1.4.0"

[targets.linux]
systems = ["linux-x86_64"]
export = "exports/linux"

[storefronts.brambleyard]
kind = "protocol"
address = "http://127.0.0.1:4870"
handle = "saltmarsh-post"
depots = { linux = "sp-linux" }

[storefronts.brambleyard.branches]
creek = { audience = "invited" }
open-water = { audience = "everyone" }
"#;

    fn filled(folder: &Path, line: &str) -> String {
        let line = format!("lantern --project {} {line}", folder.display());
        let arguments: Vec<OsString> = line.split(' ').map(OsString::from).collect();
        let skipped = 3;
        let out = fill_in(&crate::args::command(), arguments)
            .into_iter()
            .skip(skipped)
            .map(|a| a.to_string_lossy().into_owned());
        out.collect::<Vec<_>>().join(" ")
    }

    #[test]
    fn the_one_storefront_is_put_in_where_it_is_left_out() {
        let temp = tempfile::tempdir().unwrap();
        std::fs::write(temp.path().join(FILE_NAME), CONFIG).unwrap();
        for (line, expected) in [
            ("push", "push brambleyard"),
            ("push 1.4.0 --yes", "push brambleyard 1.4.0 --yes"),
            ("push --message fog 27", "push --message fog brambleyard 27"),
            ("push --yes -- 27", "push --yes -- brambleyard 27"),
            ("push brambleyard 27", "push brambleyard 27"),
            ("push bramblyard", "push bramblyard"),
            ("connect --client heron", "connect brambleyard --client heron"),
            ("promote creek --plan", "promote brambleyard creek --plan"),
            ("promote --target linux creek 27", "promote --target linux brambleyard creek 27"),
            ("promote creak", "promote creak"),
            ("promote", "promote brambleyard"),
            ("rollback brambleyard creek", "rollback brambleyard creek"),
            ("install open-water games", "install brambleyard open-water games"),
            ("install", "install brambleyard"),
            ("install --give-up games", "install --give-up games"),
            ("live", "live"),
            ("push --help", "push --help"),
        ] {
            assert_eq!(filled(temp.path(), line), expected, "{line}");
        }
    }

    #[test]
    fn with_several_storefronts_or_none_nothing_is_put_in() {
        let temp = tempfile::tempdir().unwrap();
        assert_eq!(filled(temp.path(), "push"), "push");
        let other = CONFIG[CONFIG.find("[storefronts").unwrap()..].replace("brambleyard", "estuary-games");
        std::fs::write(temp.path().join(FILE_NAME), format!("{CONFIG}{other}")).unwrap();
        assert_eq!(filled(temp.path(), "push"), "push");
        assert_eq!(filled(temp.path(), "promote creek"), "promote creek");
    }
}
