//! What stands in `docs/` and comes out of the code: the shapes of all documents that `--json` prints and of the lines of
//! `--progress json`, in `docs/json/`, and the list of all findings.

use schemars::generate::SchemaSettings;
use schemars::{JsonSchema, SchemaGenerator};
use serde_json::Value;

use crate::commands;
use crate::diagnostic::ErrorDocument;
use crate::progress::Line;

/// Returns the schema of a document; its `schema` field has one value alone.
fn schema_of<T: JsonSchema>(name: &str) -> (String, Value) {
    let generator: SchemaGenerator = SchemaSettings::draft2020_12().for_serialize().into_generator();
    let mut schema = generator.into_root_schema_for::<T>().to_value();
    schema["title"] = name.into();
    schema["properties"]["schema"] = serde_json::json!({ "const": format!("lantern.{name}/1") });
    (name.to_owned(), schema)
}

fn all() -> Vec<(String, Value)> {
    vec![
        schema_of::<commands::check::Document<'static>>("check"),
        schema_of::<commands::connect::Document<'static>>("connect"),
        schema_of::<commands::depots::Document>("depots"),
        schema_of::<ErrorDocument<'static>>("error"),
        schema_of::<commands::help_me::Document>("help-me"),
        schema_of::<commands::history::Document>("history"),
        schema_of::<commands::init::Document<'static>>("init"),
        schema_of::<commands::inspect::Document<'static>>("inspect"),
        schema_of::<commands::install::Document<'static>>("install"),
        schema_of::<commands::install::GivenUpDocument<'static>>("install-given-up"),
        schema_of::<commands::invite::MadeDocument<'static>>("invite"),
        schema_of::<commands::invite::EndedDocument<'static>>("invite-end"),
        schema_of::<commands::invite::ListDocument<'static>>("invite-list"),
        schema_of::<commands::keep::Document<'static>>("keep"),
        schema_of::<commands::ledger::CopiedDocument<'static>>("ledger-backup"),
        schema_of::<commands::ledger::CopiedDocument<'static>>("ledger-export"),
        schema_of::<commands::ledger::ImportedDocument>("ledger-import"),
        schema_of::<commands::ledger::RebuiltDocument<'static>>("ledger-rebuild"),
        schema_of::<commands::live::Document>("live"),
        schema_of::<commands::number::Document<'static>>("number"),
        schema_of::<commands::prepare::Document<'static>>("prepare"),
        schema_of::<Line>("progress"),
        schema_of::<commands::MoveDocument<'static>>("promote"),
        schema_of::<commands::push::Document<'static>>("push"),
        schema_of::<commands::rehearse::Document<'static>>("rehearse"),
        schema_of::<commands::releases::ListDocument>("releases"),
        schema_of::<commands::releases::ShowDocument<'static>>("release-shown"),
        schema_of::<commands::releases::WrittenDocument<'static>>("release-written"),
        schema_of::<commands::repair::Document<'static>>("repair"),
        schema_of::<commands::MoveDocument<'static>>("rollback"),
        schema_of::<commands::StatusDocument<'static>>("status"),
        schema_of::<commands::check::ExplanationDocument>("explanation"),
        schema_of::<commands::trial::Document<'static>>("try"),
        schema_of::<commands::verify::InstalledDocument<'static>>("verify"),
        schema_of::<commands::verify::StoreDocument<'static>>("verify-store"),
        schema_of::<commands::releases::WithdrawDocument<'static>>("withdraw"),
    ]
}

#[cfg(test)]
#[test]
fn the_schemas_in_docs_are_those_of_the_code() {
    let folder = std::path::Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/json"));
    let all = all();
    for (name, schema) in &all {
        let path = folder.join(format!("{name}.schema.json"));
        let text = format!("{}\n", serde_json::to_string_pretty(schema).unwrap());
        if std::env::var_os("UPDATE_EXPECTED").is_some() {
            std::fs::create_dir_all(folder).unwrap();
            std::fs::write(&path, &text).unwrap();
        }
        let found = std::fs::read_to_string(&path).unwrap_or_default();
        assert!(found == text, "{name} is older than the code: UPDATE_EXPECTED=1 writes it again");
    }
    let files = std::fs::read_dir(folder).unwrap().count();
    assert_eq!(files, all.len(), "docs/json contains a schema of nothing");
}

#[cfg(test)]
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

#[cfg(test)]
#[test]
fn the_commands_in_docs_are_those_of_the_program() {
    let path = std::path::Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/commands.md"));
    let mut text = "# Commands and options\n\nWhat `lantern COMMAND --help` prints, for every command.\n".to_owned();
    let mut root = crate::args::command();
    root.build();
    add_help(&mut root, &mut text);
    let options = crate::args::common_options().term_width(100).render_long_help().to_string();
    let options: Vec<&str> = options.lines().map(str::trim_end).collect();
    text += &format!("\n## lantern help options\n\n```text\n{}\n```\n", options.join("\n").trim_end());
    if std::env::var_os("UPDATE_EXPECTED").is_some() {
        std::fs::write(path, &text).unwrap();
    }
    let found = std::fs::read_to_string(path).unwrap_or_default();
    assert!(found == text, "{} is older than the code: UPDATE_EXPECTED=1 writes it again", path.display());
}
