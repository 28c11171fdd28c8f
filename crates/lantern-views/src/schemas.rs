//! The shapes of all documents that `--json` prints and of the lines of `--progress json`, as they stand in `docs/json/`.

use schemars::generate::SchemaSettings;
use schemars::{JsonSchema, SchemaGenerator};
use serde_json::Value;

use crate::*;

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
        schema_of::<adopt::Document<'static>>("adopt"),
        schema_of::<check::Document<'static>>("check"),
        schema_of::<connect::Document<'static>>("connect"),
        schema_of::<depots::Document>("depots"),
        schema_of::<doctor::Document<'static>>("doctor"),
        schema_of::<error::Document<'static>>("error"),
        schema_of::<help_me::Document>("help-me"),
        schema_of::<history::Document>("history"),
        schema_of::<init::Document<'static>>("init"),
        schema_of::<inspect::Document<'static>>("inspect"),
        schema_of::<install::Document<'static>>("install"),
        schema_of::<install::GivenUpDocument<'static>>("install-given-up"),
        schema_of::<invite::MadeDocument<'static>>("invite"),
        schema_of::<invite::EndedDocument<'static>>("invite-end"),
        schema_of::<invite::ListDocument<'static>>("invite-list"),
        schema_of::<keep::Document<'static>>("keep"),
        schema_of::<key::Document<'static>>("key"),
        schema_of::<key::ListDocument<'static>>("key-list"),
        schema_of::<last_look::Document<'static>>("last-look"),
        schema_of::<ledger::CopiedDocument<'static>>("ledger-backup"),
        schema_of::<ledger::CopiedDocument<'static>>("ledger-export"),
        schema_of::<ledger::ImportedDocument>("ledger-import"),
        schema_of::<ledger::RebuiltDocument<'static>>("ledger-rebuild"),
        schema_of::<live::Document<'static>>("live"),
        schema_of::<number::Document<'static>>("number"),
        schema_of::<prepare::Document<'static>>("prepare"),
        schema_of::<progress::Line>("progress"),
        schema_of::<moves::Document<'static>>("promote"),
        schema_of::<push::Document<'static>>("push"),
        schema_of::<rehearse::Document<'static>>("rehearse"),
        schema_of::<releases::Document<'static>>("releases"),
        schema_of::<release_shown::Document<'static>>("release-shown"),
        schema_of::<release_written::Document<'static>>("release-written"),
        schema_of::<repair::Document<'static>>("repair"),
        schema_of::<moves::Document<'static>>("rollback"),
        schema_of::<status::Document<'static>>("status"),
        schema_of::<steps::Document<'static>>("steps"),
        schema_of::<storefronts::Document<'static>>("storefronts"),
        schema_of::<storefronts::TrialDocument<'static>>("storefronts-try"),
        schema_of::<check::ExplanationDocument>("explanation"),
        schema_of::<trial::Document<'static>>("try"),
        schema_of::<steps::AnsweredDocument<'static>>("wait"),
        schema_of::<verify::InstalledDocument<'static>>("verify"),
        schema_of::<sign::Document<'static>>("sign"),
        schema_of::<statement::WrittenDocument<'static>>("statement"),
        schema_of::<statement::VerifiedDocument<'static>>("verify-statement"),
        schema_of::<verify::BesideDocument<'static>>("verify-beside"),
        schema_of::<verify::SignatureDocument<'static>>("verify-file"),
        schema_of::<verify::StoreDocument<'static>>("verify-store"),
        schema_of::<withdraw::Document<'static>>("withdraw"),
    ]
}

#[test]
fn the_schemas_in_docs_are_those_of_the_code() {
    let folder = std::path::Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/json"));
    let mut all = all();
    // The one file that people write beside lantern.toml.
    all.push(("hand-rules".to_owned(), lantern_core::by_hand::schema()));
    // What connectors read, and the lines that they print.
    let titled = |name: &str, mut schema: Value| {
        schema["title"] = name.into();
        (name.to_owned(), schema)
    };
    let reads: SchemaGenerator = SchemaSettings::draft2020_12().for_serialize().into_generator();
    let reads = reads.into_root_schema_for::<lantern_storefront::connector::Document>().to_value();
    all.push(titled("connector", reads));
    let prints = schemars::schema_for!(lantern_storefront::connector::Line).to_value();
    all.push(titled("connector-line", prints));
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
