//! The program: arguments, prompts, tables, progress bars. What is decided is decided in the crates below.

mod args;
mod ask;
mod commands;
mod diagnostic;
#[cfg(test)]
mod generated;
mod log_file;
mod progress;
mod sole_storefront;
mod ui;
mod usage;

fn main() -> std::process::ExitCode {
    commands::run()
}
