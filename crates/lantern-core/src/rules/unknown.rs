//! Keys of a document of house rules that its types do not have: found by walking it along the schema of the types, so that no
//! list of keys has to be kept.

use std::sync::OnceLock;

use serde_json::Value;

use super::HouseRules;

fn schema() -> &'static Value {
    static SCHEMA: OnceLock<Value> = OnceLock::new();
    SCHEMA.get_or_init(|| schemars::schema_for!(HouseRules).to_value())
}

/// Returns the dotted names of all keys that are not known, in the order of the document.
pub(super) fn keys(document: &Value) -> Vec<String> {
    let mut out = Vec::new();
    walk(document, schema(), "", &mut out);
    out
}

fn walk(value: &Value, shape: &Value, name: &str, out: &mut Vec<String>) {
    let shape = resolved(shape);
    match value {
        Value::Object(fields) => {
            let known = shape.get("properties").and_then(Value::as_object);
            // What may have any keys has none that is unknown.
            let Some(known) = known else { return };
            for (key, field) in fields {
                let full = if name.is_empty() { key.clone() } else { format!("{name}.{key}") };
                match known.get(key) {
                    Some(shape) => walk(field, shape, &full, out),
                    None => out.push(full),
                }
            }
        }
        Value::Array(items) => {
            let Some(shape) = shape.get("items") else { return };
            for (index, item) in items.iter().enumerate() {
                // People know what is in a list by its name, and not by where it stands.
                let own = item.get("name").and_then(Value::as_str).map_or_else(|| index.to_string(), str::to_owned);
                let list = name.rsplit_once('.').map_or(name, |(before, _)| before);
                walk(item, shape, &format!("{list}.{own}"), out);
            }
        }
        _ => {}
    }
}

/// Follows references, and past what may be null.
fn resolved(shape: &Value) -> &Value {
    if let Some(reference) = shape.get("$ref").and_then(Value::as_str) {
        let target = reference.strip_prefix('#').and_then(|pointer| schema().pointer(pointer));
        return target.map_or(shape, resolved);
    }
    let choices = shape.get("anyOf").and_then(Value::as_array).into_iter().flatten();
    let is_null = |choice: &&Value| choice.get("type").and_then(Value::as_str) == Some("null");
    choices.into_iter().find(|choice| !is_null(choice)).map_or(shape, resolved)
}
