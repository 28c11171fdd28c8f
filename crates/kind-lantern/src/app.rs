//! The program: reads the command line, runs the command, and ends with its exit code.

use std::process::ExitCode;

use clap::{CommandFactory, FromArgMatches};
use lantern_project::{Project, ProjectError};

use crate::args::{self, Cli, Command};
use crate::commands::*;
use crate::diagnostic::CommandError;
use crate::ui::Ui;

/// Runs the program.
pub fn run() -> ExitCode {
    if crate::own_window::is_ours(std::env::args_os().len()) {
        crate::own_window::explain();
        return ExitCode::SUCCESS;
    }
    let mut command = args::command();
    let arguments = crate::sole_storefront::fill_in(&command, std::env::args_os().collect());
    let parsed = command.try_get_matches_from_mut(&arguments).and_then(|found| Cli::from_arg_matches(&found));
    // Taking apart what describes some hundred options takes as long as reading them, and the program ends soon.
    std::mem::forget(command);
    let cli = match parsed {
        Ok(cli) => cli,
        Err(error) => {
            // Help and version are printed to standard output, and are no failure.
            if error.use_stderr() {
                let ui = Ui::new(&crate::usage::common(&arguments));
                let error = crate::usage::error(&error, &arguments);
                error.print(&ui);
                return ExitCode::from(error.exit_code());
            }
            crate::ui::print(error.render().ansi().to_string().trim_end());
            return ExitCode::SUCCESS;
        }
    };
    let ui = Ui::new(&cli.common);
    #[cfg(debug_assertions)]
    for_tests::listen();
    crate::log_file::begin(cli.common.verbose);
    crate::interrupt::listen(ui.stop.clone(), ui.clone());
    let done = match (cli.command, cli.edition.name.is_some()) {
        (Some(_), true) => Err(CommandError::usage("--edition comes before the command", "put it after the command")),
        (Some(command), false) => dispatch(command, &ui),
        (None, _) => alone(&ui.about(&cli.edition), cli.common.project.is_some()),
    };
    match done {
        Ok(()) => {
            log::info!(target: "lantern", "done");
            ExitCode::SUCCESS
        }
        Err(error) => {
            log::warn!(target: "lantern", "ended with exit code {}: {}", error.exit_code(), error.in_short());
            error.print(&ui);
            ExitCode::from(error.exit_code())
        }
    }
}

/// Without a command: where the game stands; outside of any game, the help.
fn alone(ui: &Ui, is_named: bool) -> Done {
    match Project::find(&ui.project, ui.stop.clone()) {
        Err(ProjectError::NoProject(_)) if !ui.json && !is_named => {
            ui.say(&args::command().render_help().ansi().to_string());
            Ok(())
        }
        Err(error) => Err(error.into()),
        Ok(_) => status::run(ui),
    }
}

fn dispatch(command: Command, ui: &Ui) -> Done {
    match command {
        Command::Init(args) => init::run(&args, ui),
        Command::Inspect(args) => inspect::run(&args, ui),
        Command::Check(args) => check::run(&args, &ui.about(&args.edition)),
        Command::Depots(args) => depots::run(&args, &ui.about(&args.edition)),
        Command::Key(args) => key::run(&args, ui),
        Command::Prepare(args) => prepare::run(&args, &ui.about(&args.edition)),
        Command::Try(args) => trial::run(&args, &ui.about(&args.edition)),
        Command::LastLook(args) => last_look::run(&args, &ui.about(&args.edition)),
        Command::Releases(args) => releases::run(&args, ui),
        Command::Keep(args) => keep::run(&args, &ui.about(&args.edition)),
        Command::Number(args) => number::run(&args, ui),
        Command::Storefronts(args) => storefronts::run(&args, ui),
        Command::Connect(args) => connect::run(&args, ui),
        Command::Push(args) => push::run(&args, &ui.about(&args.edition)),
        Command::Promote(args) => promote::run(&args, &ui.about(&args.edition)),
        Command::Rollback(args) => rollback::run(&args, &ui.about(&args.edition)),
        Command::Adopt(args) => adopt::run(&args, &ui.about(&args.edition)),
        Command::Confirm(args) => confirm::run(&args, &ui.about(&args.edition)),
        Command::Wait(args) => wait::run(&args, &ui.about(&args.edition)),
        Command::Invite(args) => invite::run(&args, &ui.about(&args.edition)),
        Command::Live(args) => live::run(&args, &ui.about(&args.edition)),
        Command::History(args) => history::run(&args, &ui.about(&args.edition)),
        Command::Install(args) => install::run(&args, &ui.about(&args.edition)),
        Command::Sign(args) => sign::run(&args, ui),
        Command::Verify(args) => verify::run(&args, &ui.about(&args.edition)),
        Command::Repair(args) => repair::run(&args, &ui.about(&args.edition)),
        Command::Ledger(args) => ledger::run(&args, ui),
        Command::Rehearse(args) => rehearse::run(&args, ui),
        Command::Demo(args) => demo::run(&args, ui),
        Command::Doctor(args) => doctor::run(&args, ui),
        Command::HelpMe(args) => help_me::run(&args, ui),
        Command::Completions(args) => completions::run(&args, Cli::command()),
        Command::Manual(args) => manual::run(&args, args::command(), ui),
        Command::Help(args) => help::run(&args, args::command(), ui),
    }
}
