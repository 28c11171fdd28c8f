use std::collections::BTreeMap;
use std::path::PathBuf;

use jiff::civil::Date;
use lantern_core::names::Name;
use lantern_core::path::shown;
use lantern_core::version::{BuildNumber, Version};
use lantern_project::ToAdopt;
use lantern_store::durable;
use lantern_views::adopt;
use serde::Deserialize;

use super::{Agreement, Done};
use crate::diagnostic::CommandError;
use crate::options::EditionArg;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern adopt old-pier pier --version 1.2.9 --number 24 --number-there 9 --since 2026-03-01
  lantern adopt old-pier pier --version 1.2.9 --number 24 --target windows=old/saltmarsh-1.2.9.zip
  lantern adopt old-pier --from what-is-out.toml"#;

/// Record what is out already and was not made with this tool
///
/// Numbers and history go on from there. With the files of a target they are sealed as that release, so that comparing and
/// going back have them. What is out at a storefront that programs can ask need not be adopted: lantern live asks it.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// The storefront's name in lantern.toml; may be left out where there is only one
    storefront: String,
    /// The branch that has it, or had it
    #[arg(value_parser = super::name::<Name>)]
    branch: Option<Name>,
    /// Its version
    #[arg(long, value_name = "VERSION", conflicts_with = "from")]
    version: Option<String>,
    /// Its build number: what it has inside, or one below all later ones
    #[arg(long, value_name = "NUMBER", conflicts_with = "from")]
    number: Option<u64>,
    /// Its number there; left out: counted
    #[arg(long, value_name = "NUMBER", conflicts_with = "from")]
    number_there: Option<u64>,
    /// The day since which players have it
    #[arg(long, value_name = "DAY", conflicts_with = "from")]
    since: Option<Date>,
    /// A target, with its files where they are still there; may be given several times. Left out: all, without files
    #[arg(long, value_name = "NAME[=EXPORT]", value_parser = target, conflicts_with = "from")]
    target: Vec<(Name, Option<PathBuf>)>,
    /// How it is known, for your team
    #[arg(long, value_name = "TEXT")]
    because: Option<String>,
    /// A TOML file with a table `release` for each in double brackets: branch, version, number, number-there, since, targets, files
    #[arg(long, value_name = "FILE")]
    from: Option<PathBuf>,
    #[command(flatten)]
    agreement: Agreement,
    #[command(flatten)]
    pub edition: EditionArg,
}

fn target(text: &str) -> Result<(Name, Option<PathBuf>), String> {
    let (name, path) = match text.split_once('=') {
        Some((name, path)) => (name, Some(whole(PathBuf::from(path))?)),
        None => (text, None),
    };
    Ok((super::name::<Name>(name)?, path))
}

/// From wherever the command runs.
fn whole(path: PathBuf) -> Result<PathBuf, String> {
    std::path::absolute(path).map_err(|error| error.to_string())
}

/// A file with what is out.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    release: Vec<Line>,
}

/// One release of it.
#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Line {
    #[serde(default)]
    branch: Option<Name>,
    version: Version,
    number: u64,
    #[serde(default)]
    number_there: Option<u64>,
    #[serde(default)]
    since: Option<String>,
    #[serde(default)]
    targets: Vec<Name>,
    #[serde(default)]
    files: BTreeMap<Name, PathBuf>,
}

/// Largest file that is read, in bytes. Ours: some thousands of releases.
const MAX_LEN: u64 = 1024 * 1024;

pub fn run(args: &Args, ui: &Ui) -> Done {
    let mut session = super::lock(ui)?;
    session.project().storefront(&args.storefront)?;
    let releases = match &args.from {
        Some(path) => read(path, args)?,
        None => vec![asked(args, ui)?],
    };
    let edition = session.project().first_edition();
    let plan = session.plan_adopt(&args.storefront, &edition, releases)?;
    let is_needed = plan.releases.iter().any(|one| !one.is_known);
    ui.show(&adopt::plan(&plan));
    if args.agreement.plan || (is_needed && !args.agreement.ask(ui)?) {
        ui.document(&adopt::document(&plan, false));
        return if args.agreement.plan { Ok(()) } else { Err(CommandError::declined("nothing was recorded", ui)) };
    }
    session.adopt(&plan, &ui.progress())?;
    ui.answer(&adopt::document(&plan, true), &adopt::done(&plan));
    super::next(session.workspace(), ui, super::ASK_THEM)
}

/// The one release that the options or the answers at the terminal describe.
fn asked(args: &Args, ui: &Ui) -> Result<ToAdopt, CommandError> {
    let version = match &args.version {
        Some(version) => version.clone(),
        None => ui.ask("Its version:", "its version", "--version")?,
    };
    let version: Version =
        version.parse().map_err(|error| CommandError::usage(format!("{error}"), "write a version such as 1.2.9"))?;
    let number = match args.number {
        Some(number) => number,
        None => {
            let text = ui.ask("Its build number:", "its build number", "--number")?;
            let wrong = || CommandError::usage(format!("{:?} is not a number", shown(&text)), "write digits");
            text.parse().map_err(|_| wrong())?
        }
    };
    Ok(ToAdopt {
        branch: args.branch.clone(),
        version,
        number: build_number(number)?,
        number_there: args.number_there,
        since: args.since,
        targets: args.target.iter().cloned().collect(),
        because: args.because.clone(),
    })
}

fn build_number(number: u64) -> Result<BuildNumber, CommandError> {
    BuildNumber::new(number).map_err(|error| CommandError::usage(error.to_string(), "numbers begin at 1"))
}

fn read(path: &std::path::Path, args: &Args) -> Result<Vec<ToAdopt>, CommandError> {
    let name = shown(&path.display().to_string());
    let bytes =
        durable::read_limited(path, MAX_LEN).map_err(|e| CommandError::io(&format!("read {name}"), e.source))?;
    let text = String::from_utf8(bytes)
        .map_err(|_| CommandError::usage(format!("{name} is not UTF-8"), "save it as UTF-8 with your editor"))?;
    let wrong = |what: String| CommandError::usage(format!("{name}: {what}"), "see lantern adopt --help");
    let file: File = toml::from_str(&text).map_err(|error| {
        let line = error.span().map_or(1, |span| text.get(..span.start).unwrap_or_default().lines().count().max(1));
        wrong(format!("line {line}: {}", error.message().replace('\n', ", ")))
    })?;
    let folder = path.parent().map(std::path::Path::to_owned).unwrap_or_default();
    let mut releases = Vec::new();
    for line in file.release {
        let since = line.since.as_deref().map(str::parse::<Date>).transpose();
        let since = since.map_err(|_| wrong(format!("{} has no day in since = \"…\"", line.version)))?;
        let mut targets: BTreeMap<Name, Option<PathBuf>> =
            line.targets.into_iter().map(|target| (target, None)).collect();
        for (target, file) in line.files {
            targets.insert(target, Some(whole(folder.join(file)).map_err(&wrong)?));
        }
        releases.push(ToAdopt {
            branch: line.branch.or_else(|| args.branch.clone()),
            version: line.version,
            number: build_number(line.number)?,
            number_there: line.number_there,
            since,
            targets,
            because: args.because.clone(),
        });
    }
    if releases.is_empty() {
        return Err(wrong("it has no [[release]]".to_owned()));
    }
    Ok(releases)
}
