//! Compares every document that a test reads with its schema in `docs/json/`: as much of JSON Schema as those use.

use serde_json::Value;

/// Checks a document against the schema that its own `schema` field names.
#[track_caller]
pub fn check(document: &Value) {
    let name = document["schema"].as_str().unwrap_or_default();
    let short = name.strip_prefix("lantern.").and_then(|n| n.strip_suffix("/1"));
    let short = short.unwrap_or_else(|| panic!("{name:?} is not the name of a schema"));
    let path = format!("{}/../../docs/json/{short}.schema.json", env!("CARGO_MANIFEST_DIR"));
    let text = std::fs::read_to_string(&path).unwrap_or_else(|e| panic!("{path}: {e}"));
    let schema: Value = serde_json::from_str(&text).unwrap();
    if let Err(why) = fits(document, &schema, &schema, "") {
        panic!("{why} in {document:#}");
    }
}

fn fits(value: &Value, schema: &Value, root: &Value, at: &str) -> Result<(), String> {
    if let Some(reference) = schema.get("$ref").and_then(Value::as_str) {
        let target = root.pointer(reference.trim_start_matches('#')).ok_or(format!("{reference} leads nowhere"))?;
        fits(value, target, root, at)?;
    }
    if let Some(constant) = schema.get("const")
        && value != constant
    {
        return Err(format!("{at} is {value}, expected {constant}"));
    }
    if let Some(words) = schema.get("enum").and_then(Value::as_array)
        && !words.contains(value)
    {
        return Err(format!("{at} is {value}, expected one of {words:?}"));
    }
    for key in ["anyOf", "oneOf"] {
        if let Some(choices) = schema.get(key).and_then(Value::as_array)
            && !choices.iter().any(|choice| fits(value, choice, root, at).is_ok())
        {
            return Err(format!("{at} fits none of the shapes it may have: {value}"));
        }
    }
    let kind = match value {
        Value::Null => "null",
        Value::Bool(_) => "boolean",
        Value::Number(n) if n.is_f64() => "number",
        Value::Number(_) => "integer",
        Value::String(_) => "string",
        Value::Array(_) => "array",
        Value::Object(_) => "object",
    };
    let allowed: Vec<&str> = match schema.get("type") {
        Some(Value::String(one)) => vec![one],
        Some(Value::Array(several)) => several.iter().filter_map(Value::as_str).collect(),
        _ => vec![kind],
    };
    let is_allowed = allowed.contains(&kind) || (kind == "integer" && allowed.contains(&"number"));
    if !is_allowed {
        return Err(format!("{at} is {kind}, expected {}", allowed.join(" or ")));
    }
    for name in schema.get("required").and_then(Value::as_array).into_iter().flatten().filter_map(Value::as_str) {
        if value.get(name).is_none() {
            return Err(format!("{at} lacks {name}"));
        }
    }
    let properties = schema.get("properties").and_then(Value::as_object);
    for (name, below) in value.as_object().into_iter().flatten() {
        let known = properties.and_then(|p| p.get(name)).or(schema.get("additionalProperties"));
        if let Some(known) = known {
            fits(below, known, root, &format!("{at}.{name}"))?;
        }
    }
    for (i, below) in value.as_array().into_iter().flatten().enumerate() {
        if let Some(items) = schema.get("items") {
            fits(below, items, root, &format!("{at}[{i}]"))?;
        }
    }
    Ok(())
}

#[test]
fn the_check_itself_finds_what_is_wrong() {
    let schema = serde_json::json!({
        "type": "object", "required": ["a"],
        "properties": { "a": { "type": ["integer", "null"] }, "b": { "items": { "enum": ["x"] } } },
    });
    let ok = |document: Value| fits(&document, &schema, &schema, "").is_ok();
    assert!(ok(serde_json::json!({ "a": 1, "b": ["x"] })) && ok(serde_json::json!({ "a": null })));
    assert!(!ok(serde_json::json!({})) && !ok(serde_json::json!({ "a": "1" })));
    assert!(!ok(serde_json::json!({ "a": 1, "b": ["y"] })));
}
