//! Compares a TOML text with the JSON Schema of the raw types: every unknown key and wrong type, with its span.

use std::ops::Range;
use std::sync::OnceLock;

use serde::de::DeserializeOwned;
use serde_json::Value;
use toml::Spanned;
use toml::de::{DeTable, DeValue, Deserializer};

use super::Config;
#[cfg(test)]
use super::raw;
use crate::finding::{Code, Finding, TextPlace};
use crate::names::nearest;

/// How many wrong shapes are reported one by one. Ours: each is looked up in the text.
pub(super) const MAX_PROBLEMS: usize = 100;

/// One step of the way to a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ConfigKey<'a> {
    /// Into a table.
    Key(&'a str),
    /// Into an array.
    Item(usize),
}

/// Something whose shape is wrong.
#[derive(Debug)]
pub(crate) struct Problem {
    pub code: Code,
    pub span: Range<usize>,
    pub what: String,
    pub fix: String,
}

/// What is done to a value that is wrong or missing, so that the others can be checked all the same.
struct Replacement {
    /// The way to it.
    way: Vec<String>,
    /// What stands in for it; none: it is taken out.
    stand_in: Option<toml::Value>,
}

/// Returns a value that passes every check for a key that must be there.
fn stand_in(key: &str) -> Option<toml::Value> {
    let text = match key {
        "address" => "http://127.0.0.1:4870",
        "audience" => "everyone",
        "kind" => "protocol",
        "identity" => "a.b",
        "version" => "0",
        "run" => return Some(toml::Value::Array(vec![toml::Value::String("x".to_owned())])),
        "name" | "studio" | "export" | "file" | "handle" | "from" => "x",
        "game" => {
            let keys = ["name", "studio", "identity", "version"];
            let values = keys.map(|key| (key.to_owned(), stand_in(key)));
            return Some(toml::Value::Table(values.into_iter().filter_map(|(k, v)| Some((k, v?))).collect()));
        }
        _ => return None,
    };
    Some(toml::Value::String(text.to_owned()))
}

/// Where each value stands in the text, and what is wrong with its shape.
pub(crate) struct Shape<'a> {
    root: Spans,
    pub problems: Vec<Problem>,
    replaced: Vec<Replacement>,
    /// What was read, until its values are asked for; none of what is no TOML.
    table: Option<Spanned<DeTable<'a>>>,
}

/// A value's span and those below it.
struct Spans {
    key: Range<usize>,
    value: Range<usize>,
    below: Below,
}

enum Below {
    Nothing,
    Table(Vec<(String, Spans)>),
    Array(Vec<Spans>),
}

/// The schema as the types have it: what [`Config::SCHEMA`] is, which takes less time to read.
#[cfg(test)]
pub(super) fn schema() -> Value {
    schemars::schema_for!(raw::Config).to_value()
}

/// The schema that texts are checked against.
fn shapes() -> &'static Value {
    static SHAPES: OnceLock<Value> = OnceLock::new();
    SHAPES.get_or_init(|| with_any_kind(serde_json::from_str(Config::SCHEMA).expect("a test reads it")))
}

impl<'a> Shape<'a> {
    pub(super) fn read(text: &'a str) -> Self {
        Self::read_as(text, shapes())
    }

    /// Holds a text against another schema.
    pub(crate) fn read_as(text: &'a str, schema: &Value) -> Self {
        let nothing = || Spans { key: 0..0, value: 0..0, below: Below::Nothing };
        match DeTable::parse(text) {
            Ok(table) => {
                let mut walk =
                    Walk { schema, problems: Vec::new(), replaced: Vec::new(), way: Vec::new(), is_required: false };
                walk.table(table.get_ref(), table.span(), schema, "");
                let root = Spans { key: 0..0, value: table.span(), below: below_table(table.get_ref()) };
                Self { root, problems: walk.problems, replaced: walk.replaced, table: Some(table) }
            }
            Err(error) => {
                let problem = Problem {
                    code: Code::NotToml,
                    span: error.span().unwrap_or(0..0),
                    what: format!("this is not TOML: {}", error.message().replace('\n', ", ")),
                    fix: "texts are in \"quotes\", lists in [brackets], one key = value per line".to_owned(),
                };
                Self { root: nothing(), problems: vec![problem], replaced: Vec::new(), table: None }
            }
        }
    }

    /// Returns what is wrong with the shape, as far as anyone would read it.
    pub(crate) fn findings(&self, file: &str, text: &str) -> Vec<Finding> {
        let found = self.problems.iter().take(MAX_PROBLEMS).map(|problem| {
            let place = TextPlace::of(file, text, problem.span.clone());
            Finding::of(problem.code, problem.what.clone(), problem.fix.clone()).at(place)
        });
        found.collect()
    }

    /// Reads the values that are well shaped; none where too little is, or where they do not go together, which is a finding.
    pub(crate) fn values<T: DeserializeOwned>(
        &mut self,
        (file, text): (&str, &str),
        guide: &str,
        findings: &mut Vec<Finding>,
    ) -> Option<T> {
        let table = self.table.take()?;
        let values = match self.replaced.is_empty() {
            true => T::deserialize(Deserializer::from(table)),
            false => T::deserialize(toml::Value::Table(self.with_replacements(text)?)),
        };
        match values {
            Ok(values) => Some(values),
            Err(_) if !self.problems.is_empty() => None,
            Err(error) => {
                let place = TextPlace::of(file, text, error.span().unwrap_or(0..0));
                let fix = format!("compare with the example in {guide}");
                findings.push(Finding::of(Code::InconsistentValues, error.message().to_owned(), fix).at(place));
                None
            }
        }
    }

    /// Returns the whole text's values, with something valid in the place of whatever has a wrong shape: the values that
    /// are well shaped can be checked all the same.
    fn with_replacements(&self, text: &str) -> Option<toml::Table> {
        let mut root: toml::Table = text.parse().ok()?;
        for one in &self.replaced {
            let Some((last, above)) = one.way.split_last() else { continue };
            let mut table = Some(&mut root);
            for step in above {
                table = table.and_then(|t| t.get_mut(step)?.as_table_mut());
            }
            let Some(table) = table else { continue };
            match &one.stand_in {
                Some(value) => {
                    table.insert(last.clone(), value.clone());
                }
                None => {
                    table.remove(last);
                }
            }
        }
        Some(root)
    }

    /// Whether something in a table was wrong in its shape.
    pub(super) fn has_replaced(&self, way: &[&str]) -> bool {
        self.replaced.iter().any(|one| one.way.len() > way.len() && one.way.iter().zip(way).all(|(a, b)| a == b))
    }

    /// Whether a value, or something that holds it, was wrong in its shape.
    pub(super) fn is_replaced(&self, way: &[ConfigKey<'_>]) -> bool {
        let names = |way: &[ConfigKey<'_>]| -> Vec<String> {
            way.iter()
                .map_while(|step| if let ConfigKey::Key(name) = step { Some((*name).to_owned()) } else { None })
                .collect()
        };
        let way = names(way);
        self.replaced.iter().any(|one| way.starts_with(&one.way))
    }

    /// Returns the span of a value, or of the nearest thing above it that exists.
    pub(crate) fn span(&self, way: &[ConfigKey<'_>]) -> Range<usize> {
        let mut here = &self.root;
        for (depth, step) in way.iter().enumerate() {
            let next = match (step, &here.below) {
                (ConfigKey::Key(name), Below::Table(entries)) => {
                    entries.iter().find(|(key, _)| key == name).map(|(_, spans)| spans)
                }
                (ConfigKey::Item(i), Below::Array(items)) => items.get(*i),
                _ => None,
            };
            match next {
                Some(next) => here = next,
                None if depth == 0 => return 0..0,
                None => return here.key.clone(),
            }
        }
        // A table's own span is its header or braces; its key reads better.
        if matches!(here.below, Below::Table(_)) { here.key.clone() } else { here.value.clone() }
    }
}

fn below_table(table: &DeTable<'_>) -> Below {
    Below::Table(table.iter().map(|(key, value)| (key.get_ref().to_string(), spans(key.span(), value))).collect())
}

fn spans(key: Range<usize>, value: &Spanned<DeValue<'_>>) -> Spans {
    let below = match value.get_ref() {
        DeValue::Table(table) => below_table(table),
        DeValue::Array(items) => Below::Array(items.iter().map(|item| spans(item.span(), item)).collect()),
        _ => Below::Nothing,
    };
    Spans { key, value: value.span(), below }
}

struct Walk<'a> {
    schema: &'a Value,
    problems: Vec<Problem>,
    replaced: Vec<Replacement>,
    /// Keys from the root to the value that is looked at; what lies in a list counts as the list.
    way: Vec<String>,
    /// Whether that value must be there.
    is_required: bool,
}

impl<'a> Walk<'a> {
    /// Follows `$ref`, and picks of several shapes the one of the value's type, of several tables the one of its kind.
    fn resolve(&self, schema: &'a Value, value: Option<&DeValue<'_>>) -> &'a Value {
        if let Some(DeValue::Table(table)) = value
            && let Some(kinds) = kinds_of(schema)
        {
            let stated = table.get(TAG).and_then(|kind| kind.get_ref().as_str());
            let shape = kinds.iter().find(|(kind, _)| Some(*kind) == stated).map(|(_, shape)| *shape);
            return shape.or(schema.get(ANY_KIND)).unwrap_or(schema);
        }
        if let Some(reference) = schema.get("$ref").and_then(Value::as_str) {
            let target = reference.strip_prefix('#').and_then(|pointer| self.schema.pointer(pointer));
            return target.map_or(schema, |target| self.resolve(target, value));
        }
        if let Some(choices) = schema.get("anyOf").and_then(Value::as_array) {
            let wanted = value.map(kind);
            let resolved = choices.iter().map(|choice| self.resolve(choice, value));
            let mut fitting = resolved.filter(|choice| wanted.is_some_and(|w| allows(choice, w)));
            let first = fitting.next();
            // Of several kinds of lists the first item says which is meant.
            let Some(DeValue::Array(items)) = value else { return first.unwrap_or(schema) };
            let Some(item) = items.iter().next().map(Spanned::get_ref) else { return first.unwrap_or(schema) };
            let of_item = |choice: &&'a Value| {
                choice.get("items").is_some_and(|shape| allows(self.resolve(shape, Some(item)), kind(item)))
            };
            return first.into_iter().chain(fitting).find(of_item).or(first).unwrap_or(schema);
        }
        schema
    }

    fn table(&mut self, table: &DeTable<'_>, span: Range<usize>, schema: &'a Value, name: &str) {
        let properties = schema.get("properties").and_then(Value::as_object);
        let free = schema.get("additionalProperties").filter(|v| v.is_object());
        let required: Vec<&str> =
            schema.get("required").and_then(Value::as_array).into_iter().flatten().filter_map(Value::as_str).collect();
        let mut meant = Vec::new();
        for (key, value) in table {
            let text = key.get_ref();
            let shape = properties.and_then(|p| p.get(text.as_ref())).or(free);
            match shape {
                Some(shape) => {
                    let full = if name.is_empty() { text.to_string() } else { format!("{name}.{text}") };
                    self.way.push(text.to_string());
                    let outer = std::mem::replace(&mut self.is_required, required.contains(&text.as_ref()));
                    self.value(value, shape, &full);
                    self.is_required = outer;
                    self.way.pop();
                }
                None => {
                    let known: Vec<&str> =
                        properties.map(|p| p.keys().map(String::as_str).collect()).unwrap_or_default();
                    let fix = match nearest(text, known.iter().copied()) {
                        Some(near) => {
                            meant.push(near.to_owned());
                            format!("did you mean \"{near}\"?")
                        }
                        None => format!("known here: {}", known.join(", ")),
                    };
                    let what = format!("unknown key {:?}", crate::path::shown(text));
                    self.problems.push(Problem { code: Code::UnknownKey, span: key.span(), what, fix });
                    let way = [self.way.as_slice(), &[text.to_string()]].concat();
                    self.replaced.push(Replacement { way, stand_in: None });
                }
            }
        }
        for needed in required.into_iter().filter(|needed| !table.keys().any(|key| key.get_ref() == *needed)) {
            let way = [self.way.as_slice(), &[needed.to_owned()]].concat();
            self.replaced.push(Replacement { way, stand_in: stand_in(needed) });
            // A key that is there under a mistake is named once, at the mistake.
            if !meant.iter().any(|near| near == needed) {
                let about = properties.and_then(|p| p.get(needed)).and_then(|p| p.get("description"));
                let fix = match about.and_then(Value::as_str) {
                    Some(about) => format!("add {needed}: {}", about.replace('\n', " ")),
                    None => format!("add {needed}"),
                };
                let what = match name {
                    "" => format!("there is no [{needed}]"),
                    name if name.starts_with("an item of ") => format!("{name} has no {needed:?}"),
                    _ => format!("[{name}] has no {needed:?}"),
                };
                self.problems.push(Problem { code: Code::MissingKey, span: span.clone(), what, fix });
            }
        }
    }

    /// Puts something valid in the place of the value that is looked at.
    fn replace(&mut self) {
        let stand_in = self.way.last().filter(|_| self.is_required).and_then(|key| stand_in(key));
        self.replaced.push(Replacement { way: self.way.clone(), stand_in });
    }

    fn value(&mut self, value: &Spanned<DeValue<'_>>, schema: &'a Value, name: &str) {
        let shape = self.resolve(schema, Some(value.get_ref()));
        let found = kind(value.get_ref());
        if !allows(shape, found) {
            let wanted = self.wanted(schema);
            self.replace();
            let what = format!("{name} is {}, expected {wanted}", article(found));
            let fix = match (found, wanted.as_str()) {
                ("string", "a list") => "put it into brackets: [\"…\"]".to_owned(),
                ("integer" | "number" | "boolean", w) if w.contains("text") => "put it into quotes".to_owned(),
                _ => format!("write {wanted}"),
            };
            self.problems.push(Problem { code: Code::WrongType, span: value.span(), what, fix });
            return;
        }
        match value.get_ref() {
            DeValue::Table(table) => self.table(table, value.span(), shape, name),
            DeValue::Array(items) => {
                if let Some(shape) = shape.get("items") {
                    for item in items.iter() {
                        self.value(item, shape, &format!("an item of {name}"));
                    }
                }
            }
            DeValue::String(text) => {
                let words: Vec<&str> = words_of(shape);
                if !words.is_empty() && !words.contains(&text.as_ref()) {
                    self.replace();
                    let fix = match nearest(text, words.iter().copied()) {
                        Some(near) => format!("did you mean \"{near}\"?"),
                        None => format!("write one of: {}", words.join(", ")),
                    };
                    let what = format!("{:?} is not a value of {name}", crate::path::shown(text));
                    self.problems.push(Problem { code: Code::WrongValue, span: value.span(), what, fix });
                }
            }
            _ => {}
        }
    }

    fn wanted(&self, schema: &'a Value) -> String {
        let choices = match schema.get("anyOf").and_then(Value::as_array) {
            Some(choices) => choices.iter().map(|c| self.resolve(c, None)).collect(),
            None => match schema.get("$ref") {
                Some(_) => return self.wanted(self.resolve(schema, None)),
                None => vec![schema],
            },
        };
        let mut kinds: Vec<&str> = Vec::new();
        for choice in choices {
            if choice.get("anyOf").is_some() {
                return self.wanted(choice);
            }
            for kind in ["string", "integer", "boolean", "array", "object"] {
                if allows(choice, kind) && !kinds.contains(&article(kind)) {
                    kinds.push(article(kind));
                }
            }
        }
        kinds.join(" or ")
    }
}

/// Returns the words an enumeration allows, whether the schema writes them as `enum` or one `const` each.
fn words_of(schema: &Value) -> Vec<&str> {
    let listed = schema.get("enum").and_then(Value::as_array).into_iter().flatten().filter_map(Value::as_str);
    let each = schema.get("oneOf").and_then(Value::as_array).into_iter().flatten();
    listed.chain(each.filter_map(|one| one.get("const").and_then(Value::as_str))).collect()
}

fn kind(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "string",
        DeValue::Integer(_) => "integer",
        DeValue::Float(_) => "number",
        DeValue::Boolean(_) => "boolean",
        DeValue::Datetime(_) => "date",
        DeValue::Array(_) => "array",
        DeValue::Table(_) => "object",
    }
}

fn article(kind: &str) -> &'static str {
    match kind {
        "string" => "a text",
        "integer" => "a whole number",
        "number" => "a number",
        "boolean" => "true or false",
        "date" => "a date",
        "array" => "a list",
        _ => "a table",
    }
}

fn allows(schema: &Value, kind: &str) -> bool {
    match schema.get("type") {
        Some(Value::String(one)) => one == kind,
        Some(Value::Array(several)) => several.iter().any(|one| one == kind),
        _ if kinds_of(schema).is_some() => kind == "object",
        _ => kind == "string" && !words_of(schema).is_empty(),
    }
}

/// The key that says of which kind a table is.
const TAG: &str = "kind";
/// Next to the kinds of a table: the shape of one whose kind is not known.
const ANY_KIND: &str = "anyKind";

/// Returns the shapes of a table that comes in several kinds, each with the word that stands for it.
fn kinds_of(schema: &Value) -> Option<Vec<(&str, &Value)>> {
    let shapes = schema.get("oneOf")?.as_array()?;
    let kind_of = |shape| Value::pointer(shape, "/properties/kind/const").and_then(Value::as_str);
    shapes.iter().map(|shape| Some((kind_of(shape)?, shape))).collect()
}

/// Lets every kind of a table know the words of all of them, and adds what they have in common: a table whose kind is
/// missing or mistaken is checked against that.
#[expect(clippy::indexing_slicing, reason = "it is the schema of our own types")]
fn with_any_kind(mut schema: Value) -> Value {
    let definitions = schema.get_mut("$defs").and_then(Value::as_object_mut);
    for definition in definitions.into_iter().flat_map(serde_json::Map::values_mut) {
        let Some(kinds) = kinds_of(definition) else { continue };
        let words: Vec<String> = kinds.iter().map(|(word, _)| (*word).to_owned()).collect();
        let mut properties = serde_json::Map::new();
        let mut required: Option<Vec<Value>> = None;
        for (_, shape) in &kinds {
            properties.extend(shape["properties"].as_object().cloned().unwrap_or_default());
            let own = shape["required"].as_array().cloned().unwrap_or_default();
            required = Some(match required {
                Some(common) => common.into_iter().filter(|key| own.contains(key)).collect(),
                None => own,
            });
        }
        properties.insert(TAG.to_owned(), serde_json::json!({ "type": "string", "enum": words }));
        let any = serde_json::json!({ "type": "object", "properties": properties, "required": required });
        for shape in definition["oneOf"].as_array_mut().into_iter().flatten() {
            shape["properties"][TAG]["enum"] = words.clone().into();
        }
        definition[ANY_KIND] = any;
    }
    schema
}

#[cfg(test)]
mod tests {
    use serde::Deserialize;

    use super::*;

    /// Two kinds, as there will be one day.
    #[derive(Debug, Deserialize, schemars::JsonSchema)]
    #[serde(tag = "kind", rename_all = "kebab-case")]
    #[expect(dead_code, reason = "only its schema is used")]
    enum Boat {
        /// Has sails.
        Sailing { name: String, sails: u8 },
        /// Has oars.
        Rowing { name: String, oars: u8 },
    }

    #[derive(Debug, Deserialize, schemars::JsonSchema)]
    #[serde(deny_unknown_fields)]
    #[expect(dead_code, reason = "only its schema is used")]
    struct Harbor {
        boats: std::collections::BTreeMap<String, Boat>,
    }

    fn problems(boat: &str) -> Vec<String> {
        let text = format!("[boats.heron]\n{boat}\n");
        let schema = with_any_kind(schemars::schema_for!(Harbor).to_value());
        let mut walk =
            Walk { schema: &schema, problems: Vec::new(), replaced: Vec::new(), way: Vec::new(), is_required: false };
        let table = DeTable::parse(&text).unwrap();
        walk.table(table.get_ref(), table.span(), &schema, "");
        walk.problems.into_iter().map(|problem| format!("{}; {}", problem.what, problem.fix)).collect()
    }

    #[test]
    fn a_table_is_held_against_its_kind() {
        assert_eq!(problems("kind = \"rowing\"\nname = \"x\"\noars = 2"), [""; 0]);
        let other = problems("kind = \"rowing\"\nname = \"x\"\noars = 2\nsails = 1");
        assert_eq!(other, ["unknown key \"sails\"; known here: kind, name, oars"]);
        assert_eq!(problems("kind = \"rowing\"\noars = 2"), ["[boats.heron] has no \"name\"; add name"]);
        // Of a kind that is not known only what all kinds need is asked for.
        let unknown = problems("kind = \"rowin\"\nname = \"x\"\nsails = 1");
        assert_eq!(unknown, ["\"rowin\" is not a value of boats.heron.kind; did you mean \"rowing\"?"]);
        let unknown = problems("kind = \"raft\"");
        assert_eq!(
            unknown,
            [
                "\"raft\" is not a value of boats.heron.kind; write one of: sailing, rowing",
                "[boats.heron] has no \"name\"; add name"
            ]
        );
        assert_eq!(problems("name = \"x\""), ["[boats.heron] has no \"kind\"; add kind"]);
    }
}
