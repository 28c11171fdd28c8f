//! The program: arguments, prompts, tables, progress bars. What is decided is decided in the crates below.

mod args;
mod ask;
mod commands;
mod diagnostic;
mod format;
mod log_file;
mod paint;
mod progress;
#[cfg(test)]
mod schemas;
mod sole_storefront;
mod table;
mod ui;
mod usage;

fn main() -> std::process::ExitCode {
    commands::run()
}
