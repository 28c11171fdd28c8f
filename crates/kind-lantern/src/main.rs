//! The program: arguments, prompts, tables, progress bars. What is decided is decided in the crates below.

mod app;
mod args;
mod ask;
mod clipboard;
mod commands;
mod diagnostic;
#[cfg(test)]
mod generated;
mod interrupt;
mod log_file;
mod options;
mod own_window;
mod passphrase;
mod progress;
mod sole_storefront;
mod ui;
mod usage;
mod window;

fn main() -> std::process::ExitCode {
    app::run()
}
