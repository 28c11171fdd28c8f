//! What stands in `docs/` and comes out of the code: the list of all findings, and the help of every command.

#[test]
fn the_findings_in_docs_are_those_of_the_code() {
    use lantern_core::finding::{Code, Explanation};
    let path = std::path::Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/findings.md"));
    let mut text = "# Findings\n\nEvery code that a finding can have, as `lantern check --explain CODE` shows it, with its usual severity. A code \
        keeps its meaning; `[checks] accept` in `lantern.toml` names codes.\n\n| code | severity | what it means | why it matters |\n|---|---|---|---|\n"
        .to_owned();
    for code in Code::ALL {
        let (Explanation { what, why }, severity) = (code.explanation(), code.severity().word());
        text += &format!("| `{code}` | {severity} | {what} | {why} |\n");
    }
    if std::env::var_os("UPDATE_EXPECTED").is_some() {
        std::fs::write(path, &text).unwrap();
    }
    let found = std::fs::read_to_string(path).unwrap_or_default();
    assert!(found == text, "{} is older than the code: UPDATE_EXPECTED=1 writes it again", path.display());
}

fn add_help(command: &mut clap::Command, text: &mut String) {
    let name = command.get_bin_name().unwrap_or("lantern").to_owned();
    *command = std::mem::take(command).term_width(100);
    let help = command.render_long_help().to_string();
    let help: Vec<&str> = help.lines().map(str::trim_end).collect();
    *text += &format!("\n## {name}\n\n```text\n{}\n```\n", help.join("\n").trim_end());
    for below in command.get_subcommands_mut() {
        add_help(below, text);
    }
}

#[test]
fn the_commands_in_docs_are_those_of_the_program() {
    let path = std::path::Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/commands.md"));
    let mut text = "# Commands and options\n\nWhat `lantern COMMAND --help` prints, for every command.\n".to_owned();
    let mut root = crate::args::command();
    root.build();
    add_help(&mut root, &mut text);
    let options = crate::options::common().term_width(100).render_long_help().to_string();
    let options: Vec<&str> = options.lines().map(str::trim_end).collect();
    text += &format!("\n## lantern help options\n\n```text\n{}\n```\n", options.join("\n").trim_end());
    if std::env::var_os("UPDATE_EXPECTED").is_some() {
        std::fs::write(path, &text).unwrap();
    }
    let found = std::fs::read_to_string(path).unwrap_or_default();
    assert!(found == text, "{} is older than the code: UPDATE_EXPECTED=1 writes it again", path.display());
}
