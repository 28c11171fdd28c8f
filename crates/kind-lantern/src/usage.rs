//! What is wrong on the command line, said as every other error is said.

use std::ffi::OsString;

use clap::error::{ContextKind, ContextValue, ErrorKind};

use crate::diagnostic::CommandError;
use crate::options::{ColorMode, Common};

/// Reads from a command line that could not be understood how its error is to be shown.
pub fn common(arguments: &[OsString]) -> Common {
    let texts: Vec<&str> = arguments.iter().filter_map(|a| a.to_str()).take_while(|a| *a != "--").collect();
    let color = texts.iter().enumerate().find_map(|(i, text)| match text.strip_prefix("--color")? {
        "" => texts.get(i + 1).copied(),
        rest => rest.strip_prefix('='),
    });
    Common {
        project: None,
        json: texts.contains(&"--json"),
        progress: None,
        color: match color {
            Some("never") => ColorMode::Never,
            Some("always") => ColorMode::Always,
            _ => ColorMode::Auto,
        },
        verbose: false,
        quiet: false,
    }
}

/// Turns the argument parser's error into ours.
pub fn error(error: &clap::Error, arguments: &[OsString]) -> CommandError {
    let argument = || plain(text_of(error, ContextKind::InvalidArg));
    let value = || format!("{:?}", text_of(error, ContextKind::InvalidValue));
    let help = help_of(arguments);
    let see = format!("{help} lists them");
    let near = |kind| suggestion(error, kind).map(|near| format!("did you mean {near}?"));
    match error.kind() {
        ErrorKind::UnknownArgument => {
            let argument = argument();
            let is_option = argument.starts_with('-');
            let what = match is_option {
                true => format!("there is no option {argument} here"),
                false => format!("{argument:?} is one argument too many"),
            };
            let otherwise = if is_option { see } else { format!("{help} shows which arguments there are") };
            CommandError::usage(what, near(ContextKind::SuggestedArg).unwrap_or(otherwise))
        }
        ErrorKind::InvalidSubcommand => {
            let asked = text_of(error, ContextKind::InvalidSubcommand);
            let command = crate::args::command();
            let near = lantern_core::names::nearest(&asked, command.get_subcommands().map(clap::Command::get_name));
            let fix = near.map_or(see, |near| format!("did you mean {near}?"));
            CommandError::usage(format!("there is no command {asked:?}"), fix)
        }
        ErrorKind::InvalidValue if text_of(error, ContextKind::InvalidValue).is_empty() => {
            CommandError::usage(format!("{} needs a value", argument()), format!("{help} shows which"))
        }
        ErrorKind::InvalidValue => {
            let valid = texts_of(error, ContextKind::ValidValue).join(", ");
            let fix = near(ContextKind::SuggestedValue).unwrap_or_else(|| format!("one of {valid}"));
            CommandError::usage(format!("{} cannot be {}", argument(), value()), fix)
        }
        ErrorKind::ValueValidation => {
            let what = why_wrong(error).unwrap_or_else(|| format!("{} is not a whole number that fits", value()));
            CommandError::usage(format!("{}: {what}", argument()), format!("{help} shows what it takes"))
        }
        ErrorKind::MissingRequiredArgument => {
            let missing: Vec<String> = texts_of(error, ContextKind::InvalidArg).into_iter().map(plain).collect();
            let verb = if missing.len() == 1 { "is" } else { "are" };
            CommandError::usage(format!("{} {verb} missing", missing.join(" and ")), usage_of(error).unwrap_or(help))
        }
        ErrorKind::ArgumentConflict => {
            let other = texts_of(error, ContextKind::PriorArg).into_iter().map(plain).collect::<Vec<_>>().join(", ");
            let what = if other.is_empty() || other == argument() {
                format!("{} is given twice, or does not go with the rest", argument())
            } else {
                format!("{} and {other} do not go together", argument())
            };
            CommandError::usage(what, "leave one of them out")
        }
        ErrorKind::InvalidUtf8 => CommandError::usage("an argument is not text (UTF-8)", "write it as text"),
        _ => {
            let text = error.render().to_string();
            let first = text.lines().next().unwrap_or_default().trim_start_matches("error: ").to_owned();
            CommandError::usage(first, help)
        }
    }
}

/// Why a value cannot be taken; none for a number that is none.
fn why_wrong(error: &clap::Error) -> Option<String> {
    let source = std::error::Error::source(error)?;
    if source.is::<std::num::ParseIntError>() { None } else { Some(source.to_string()) }
}

/// `--last <N>` as `--last`, `<STOREFRONT>` as `STOREFRONT`.
fn plain(argument: String) -> String {
    let name = argument.split(' ').next().unwrap_or_default();
    name.trim_matches(['<', '>', '[', ']']).trim_end_matches("...").trim_end_matches(['>', ']']).to_owned()
}

fn text_of(error: &clap::Error, kind: ContextKind) -> String {
    texts_of(error, kind).into_iter().next().unwrap_or_default()
}

fn texts_of(error: &clap::Error, kind: ContextKind) -> Vec<String> {
    match error.get(kind) {
        Some(ContextValue::String(text)) => vec![text.clone()],
        Some(ContextValue::Strings(texts)) => texts.clone(),
        Some(ContextValue::StyledStr(text)) => vec![text.to_string()],
        _ => Vec::new(),
    }
}

/// The nearest known word, where the parser knows one that is near.
fn suggestion(error: &clap::Error, kind: ContextKind) -> Option<String> {
    texts_of(error, kind).into_iter().next_back()
}

/// How the command is written, from the parser's own line of usage.
fn usage_of(error: &clap::Error) -> Option<String> {
    let text = text_of(error, ContextKind::Usage);
    let plain = anstream::adapter::strip_str(&text).to_string();
    Some(plain.lines().next()?.strip_prefix("Usage: ")?.trim().to_owned())
}

/// The help of the command that was meant.
fn help_of(arguments: &[OsString]) -> String {
    let mut command = &crate::args::command();
    let mut words = vec!["lantern"];
    for argument in arguments.iter().skip(1).filter_map(|argument| argument.to_str()) {
        let Some(below) = command.find_subcommand(argument) else { continue };
        command = below;
        words.push(argument);
    }
    format!("{} --help", words.join(" "))
}

#[cfg(test)]
mod tests {
    use clap::Parser;

    use crate::args::Cli;

    use super::*;

    fn said(line: &str) -> String {
        let arguments: Vec<OsString> = line.split(' ').map(OsString::from).collect();
        error(&Cli::try_parse_from(&arguments).expect_err(line), &arguments).in_short_with_fixes()
    }

    #[test]
    fn each_kind_is_said_in_our_words() {
        let lines = [
            "lantern check --nope",
            "lantern check --stric",
            "lantern nope",
            "lantern prepar",
            "lantern keep --last x",
            "lantern keep --last",
            "lantern history --since tomorrow",
            "lantern live --color blue",
            "lantern push yard 1.4.0 again",
            "lantern promote",
            "lantern releases v1.4.0",
            "lantern releases withdraw",
            "lantern number --next x",
            "lantern prepare --version=-",
            "lantern check --explain",
            "lantern releases --files",
            "lantern promote yard Estuary!",
        ];
        let all: Vec<String> = lines.iter().map(|line| format!("{line}\n  {}", said(line))).collect();
        insta::assert_snapshot!(all.join("\n"), @r#"
        lantern check --nope
          there is no option --nope here / lantern check --help lists them
        lantern check --stric
          there is no option --stric here / did you mean --strict?
        lantern nope
          there is no command "nope" / lantern --help lists them
        lantern prepar
          there is no command "prepar" / did you mean prepare?
        lantern keep --last x
          --last: "x" is not a whole number that fits / lantern keep --help shows what it takes
        lantern keep --last
          --last needs a value / lantern keep --help shows which
        lantern history --since tomorrow
          --since: "tomorrow" is not a day such as 2027-03-01 / lantern history --help shows what it takes
        lantern live --color blue
          --color cannot be "blue" / one of auto, always, never
        lantern push yard 1.4.0 again
          "again" is one argument too many / lantern push --help shows which arguments there are
        lantern promote
          STOREFRONT and BRANCH are missing / lantern promote <STOREFRONT> <BRANCH> [RELEASE]
        lantern releases v1.4.0
          RELEASE: "v1.4.0" is not a release: expected a version, a number, or both, such as "1.4.0 (27)" / lantern releases --help shows what it takes
        lantern releases withdraw
          RELEASE is missing / lantern releases withdraw <RELEASE>
        lantern number --next x
          --next: "x" is not a build number: whole, from 1 to 2100000000 / lantern number --help shows what it takes
        lantern prepare --version=-
          --version: "-" is not a version: it starts with a digit and contains only letters, digits, ".", "-" and "+", 64 at most / lantern prepare --help shows what it takes
        lantern check --explain
          --explain needs a value / lantern check --help shows which
        lantern releases --files
          RELEASE is missing / lantern releases --files <RELEASE>
        lantern promote yard Estuary!
          BRANCH: "Estuary!" is not a name: lower-case letters, digits, "-" and "_", 64 at most / lantern promote --help shows what it takes
        "#);
    }

    #[test]
    fn how_to_say_it_is_read_even_then() {
        let of = |line: &str| common(&line.split(' ').map(OsString::from).collect::<Vec<_>>());
        assert!(of("lantern check --nope --json").json);
        assert!(!of("lantern check -- --json").json);
        assert_eq!(of("lantern --color=never").color, ColorMode::Never);
        assert_eq!(of("lantern --color always x").color, ColorMode::Always);
    }
}
