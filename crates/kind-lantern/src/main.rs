//! The program: arguments, prompts, tables, progress bars. What is decided is decided in the crates below.

mod args;
mod commands;
mod diagnostic;
mod log_file;
mod progress;
#[cfg(test)]
mod schemas;
mod table;
mod ui;
mod usage;
mod words;

fn main() -> std::process::ExitCode {
    commands::run()
}
