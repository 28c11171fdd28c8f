use serde_json::Value;

use super::*;
use crate::choices::DefaultOption;
use crate::finding::Code;

const GOOD: &str = r#"
[game]
name = "Saltmarsh Post"
studio = "Paper Heron"
identity = "example.paperheron.saltmarsh"
version = "1.4.0"

[targets.linux]
systems = ["linux-x86_64"]
export = "exports/linux"
starts = "saltmarsh"
leave-out = ["notes/**"]
must-have = ["saltmarsh.dat"]

[storefronts.brambleyard]
kind = "protocol"
address = "http://127.0.0.1:4870"
handle = "saltmarsh-post"
depots = { linux = "sp-linux" }

[storefronts.brambleyard.branches]
open-water = { audience = "everyone" }
"#;

/// Reads the good text with one replacement and returns what was found as `line:column code: what -> fix`.
fn found(from: &str, to: &str) -> Vec<String> {
    assert!(GOOD.contains(from), "{from:?} is not in the text");
    let text = GOOD.replacen(from, to, 1);
    match Config::read("lantern.toml", &text) {
        Ok(_) => Vec::new(),
        Err(findings) => findings
            .iter()
            .map(|f| {
                let place = f.place.as_ref().unwrap();
                let fix = f.fix.as_deref().unwrap_or("");
                format!("{}:{} {}: {} -> {fix}", place.line, place.column, f.code, f.what)
            })
            .collect(),
    }
}

#[test]
fn a_good_file_is_read() {
    let config = Config::read("lantern.toml", GOOD).unwrap();
    let target = &config.targets[&"linux".parse().unwrap()];
    assert_eq!(target.systems, [System::LinuxX86_64]);
    assert_eq!(target.starts[0].file, "saltmarsh");
    let storefront = &config.storefronts[&"brambleyard".parse().unwrap()];
    assert_eq!(storefront.depots[&"linux".parse().unwrap()].as_str(), "sp-linux");
    assert_eq!(storefront.audience(&"open-water".parse().unwrap()), Some(Audience::Everyone));
}

#[test]
fn what_can_be_seen_need_not_be_written() {
    let text = GOOD.replace("systems = [\"linux-x86_64\"]\n", "").replace("starts = \"saltmarsh\"\n", "");
    let config = Config::read("lantern.toml", &text).unwrap();
    let target = config.targets.values().next().unwrap();
    assert!(target.systems.is_empty() && target.starts.is_empty());
}

#[test]
fn each_mistake_has_its_place_and_fix() {
    let table = [
        ("starts =", "start ="),
        ("export =", "exports ="),
        ("\"1.4.0\"", "1.4"),
        ("\"1.4.0\"", "\"v1.4\""),
        ("[\"linux-x86_64\"]", "[\"linux-x86-64\"]"),
        ("[\"linux-x86_64\"]", "\"linux-x86_64\""),
        ("[\"notes/**\"]", "[\"notes\\\\old\"]"),
        ("[\"notes/**\"]", "[\"notes/[\"]"),
        ("\"exports/linux\"", "\"exports\\\\linux\""),
        ("\"saltmarsh-post\"", "\"<handle>\""),
        ("\"http://127.0.0.1:4870\"", "\"http://brambleyard.example\""),
        ("{ linux = \"sp-linux\" }", "{ linus = \"sp-linux\" }"),
        ("depots = { linux = \"sp-linux\" }", ""),
        ("\"everyone\"", "\"everybody\""),
        ("name = \"Saltmarsh Post\"\n", ""),
        ("kind = \"protocol\"", "kind = \"shop\""),
        ("studio = \"Paper Heron\"", "studio = \"Paper Heron"),
    ];
    let mut out = String::new();
    for (from, to) in table {
        out += &format!("{to}\n");
        for line in found(from, to) {
            out += &format!("  {line}\n");
        }
    }
    let expected = concat!(env!("CARGO_MANIFEST_DIR"), "/src/config/mistakes.txt");
    if std::env::var_os("UPDATE_EXPECTED").is_some() {
        std::fs::write(expected, &out).unwrap();
    }
    assert_eq!(out, std::fs::read_to_string(expected).unwrap());
}

#[test]
fn all_mistakes_come_in_one_go_and_in_order() {
    let text = GOOD.replace("starts =", "start =").replace("name =", "nmae =").replace("handle =", "handel =");
    let findings = Config::read("lantern.toml", &text).unwrap_err();
    let lines: Vec<usize> = findings.iter().map(|f| f.place.as_ref().unwrap().line).collect();
    assert_eq!(findings.len(), 3, "{findings:?}");
    assert!(lines.is_sorted(), "{lines:?}");
}

#[test]
fn values_are_checked_although_shapes_are_wrong() {
    let text = GOOD.replace("starts =", "start =").replace("\"1.4.0\"", "\"v1\"").replace("kind = \"protocol\"\n", "");
    let codes: Vec<String> =
        Config::read("lantern.toml", &text).unwrap_err().into_iter().map(|f| f.code.to_string()).collect();
    assert_eq!(codes, ["wrong-value", "unknown-key", "missing-key"]);
    let codes: Vec<String> =
        Config::read("x", "[game]\nname = \"\"\n").unwrap_err().into_iter().map(|f| f.code.to_string()).collect();
    assert_eq!(codes, ["missing-key", "missing-key", "missing-key", "no-target", "empty-value"]);
}

/// Two editions, depots shared between systems, a start for each system.
const LARGE: &str = r#"
[game]
name = "Saltmarsh Post"
studio = "Paper Heron"
identity = "example.paperheron.saltmarsh"
version = "1.4.0"

[editions.first-tide]
name = "Saltmarsh Post: First Tide"
kind = "demo"
identity = "example.paperheron.firsttide"

[editions.songs]
name = "Saltmarsh Songs"
kind = "add-on"
depots = ["songs"]

[targets.desktop]
systems = ["windows-x86_64", "linux-x86_64"]
export = "exports/desktop-*"
install-folder = "Saltmarsh Post"
starts = [
    { run = ["Saltmarsh Post.exe", "--from-launcher"], systems = ["windows-x86_64"] },
    { run = ["saltmarsh"], systems = ["linux-x86_64"], cwd = "bin" },
]
keep-aside = ["*.pdb"]

[targets.macos]
systems = ["macos-universal"]
export = "exports/macos"

[targets.tide]
edition = "first-tide"
export = "exports/tide.zip"

[choices.voices]
default = "by-language"

[depots.desktop]
from = "desktop"
leave-out = ["voices/**", "songs/**"]

[depots.macos]
from = "macos"
leave-out = ["voices/**"]

[depots.voices-fr]
from = ["desktop", "macos"]
only = ["voices/fr/**"]
choice = { voices = "fr" }

[depots.songs]
from = "desktop"
only = ["songs/**"]

[storefronts.brambleyard]
kind = "protocol"
address = "http://127.0.0.1:4870"
handle = { full = "saltmarsh-post", first-tide = "sp-first-tide" }
depots = { desktop = "sp-desktop", voices-fr = "sp-voix", songs = "sp-songs", macos = "sp-mac", tide = "sp-tide" }

[storefronts.brambleyard.branches]
creek = { audience = "invited" }
"#;

#[test]
fn a_command_is_a_program_and_its_arguments() {
    let read = |starts: &str| {
        let text = GOOD.replace("starts = \"saltmarsh\"", &format!("starts = {starts}"));
        assert_ne!(text, GOOD, "the text has a start to replace");
        Config::read("lantern.toml", &text).map(|config| config.targets.values().next().unwrap().starts.clone())
    };
    let found = read("[\"saltmarsh\", \"--windowed\"]").unwrap();
    assert_eq!(
        (found.len(), found[0].file.as_str(), found[0].arguments.join(" ")),
        (1, "saltmarsh", "--windowed".into())
    );
    assert_eq!(read("[]").unwrap_err()[0].code, Code::EmptyValue);
    assert_eq!(read("[\"saltmarsh\", 27]").unwrap_err()[0].code, Code::WrongType);
    assert_eq!(read("[\"bin\\\\saltmarsh\"]").unwrap_err()[0].code, Code::Backslash);
    let codes: Vec<Code> = read("{ file = \"saltmarsh\" }").unwrap_err().iter().map(|finding| finding.code).collect();
    assert_eq!(codes, [Code::MissingKey, Code::UnknownKey]);
}

#[test]
fn editions_and_depots() {
    let config = Config::read("lantern.toml", LARGE).unwrap();
    let tide: Name = "first-tide".parse().unwrap();
    assert_eq!(config.editions_with_targets(), [Name::full_edition(), tide.clone()]);
    assert_eq!(config.editions[&tide].identity.as_str(), "example.paperheron.firsttide");
    assert_eq!(config.targets_of(&tide).count(), 1);
    let starts = &config.targets[&"desktop".parse::<Name>().unwrap()].starts;
    assert_eq!(
        (starts[0].file.as_str(), starts[0].arguments.as_slice()),
        ("Saltmarsh Post.exe", &["--from-launcher".to_owned()][..])
    );
    assert_eq!(starts[1].folder.as_ref().map(TreePath::as_str), Some("bin"));
    let rules: Vec<String> =
        config.depots.iter().map(|rule| format!("{} {:?} {}", rule.name, rule.from.len(), rule.players)).collect();
    assert_eq!(rules, ["desktop 1 all", "macos 1 all", "songs 1 add-on songs", "voices-fr 2 voices=fr"]);
    assert_eq!(config.choices.values().collect::<Vec<_>>(), [&DefaultOption::ByLanguage]);
    let depots = config.depots_of(&Name::full_edition());
    assert_eq!(depots.iter().map(Name::as_str).collect::<Vec<_>>(), ["desktop", "songs", "voices-fr", "macos"]);
    let storefront = &config.storefronts[&"brambleyard".parse::<Name>().unwrap()];
    assert_eq!(storefront.handles[&tide].as_str(), "sp-first-tide");
}

#[test]
fn mistakes_in_editions_and_depots() {
    let table = [
        ("edition = \"first-tide\"", "edition = \"first-tied\"", "unknown-edition"),
        ("[editions.first-tide]", "[editions.full]", "edition-full"),
        ("[editions.first-tide]", "[editions.none]", "wrong-value"),
        ("from = \"desktop\"\nonly", "from = \"dekstop\"\nonly", "unknown-target"),
        ("\"desktop\", \"macos\"", "\"desktop\", \"macos\", \"desktop\"", "listed-twice"),
        ("\"desktop\", \"macos\"", "\"desktop\", \"tide\"", "inconsistent-values"),
        ("\"desktop\", \"macos\"", "\"desktop\", \"macro\"", "unknown-target"),
        ("[\"desktop\", \"macos\"]", "[]", "empty-value"),
        ("[\"desktop\", \"macos\"]", "27", "wrong-type"),
        ("voices = \"fr\"", "voices = \"français\"", "wrong-value"),
        ("voices = \"fr\"", "voices = \"none\"", "wrong-value"),
        ("{ voices = \"fr\" }", "{ voice = \"fr\" }", "unknown-choice"),
        ("{ voices = \"fr\" }", "\"fr\"", "wrong-type"),
        ("choice = { voices = \"fr\" }", "", "choice-empty"),
        ("handle = {", "name-there = \"{release.versoin}\"\nhandle = {", "wrong-value"),
        ("handle = {", "name-there = \"{release.version\"\nhandle = {", "wrong-value"),
        ("\"by-language\"", "\"fi\"", "unknown-option"),
        ("default =", "defaults =", "unknown-key"),
        ("kind = \"add-on\"", "kind = \"companion\"", "inconsistent-values"),
        ("depots = [\"songs\"]", "depots = [\"song\"]", "unknown-depot"),
        ("depots = [\"songs\"]", "depots = [\"songs\", \"songs\"]", "listed-twice"),
        (", voices-fr = \"sp-voix\"", "", "no-handle"),
        ("\"sp-voix\"", "\"sp-desktop\"", "duplicate-handle"),
        ("\"sp-first-tide\" }", "\"saltmarsh-post\" }", "duplicate-handle"),
        ("[depots.voices-fr]", "[depots.tide]", "duplicate-depot"),
        ("install-folder = \"Saltmarsh Post\"", "install-folder = \"a/b\"", "wrong-value"),
        ("cwd = \"bin\"", "cwd = \"../bin\"", "wrong-value"),
        ("run = [\"saltmarsh\"]", "run = []", "empty-value"),
        ("run = [\"saltmarsh\"]", "run = [27]", "wrong-type"),
        ("run = [\"saltmarsh\"]", "run = \"saltmarsh\"", "wrong-type"),
        ("kind = \"demo\"", "kind = \"trial\"", "wrong-value"),
        ("[depots.voices-fr]", "[sealing]\ncompression = \"tiny\"\n[depots.voices-fr]", "wrong-value"),
    ];
    for (from, to, code) in table {
        assert!(LARGE.contains(from), "{from}");
        let findings = Config::read("lantern.toml", &LARGE.replace(from, to)).unwrap_err();
        assert!(findings.iter().any(|f| f.code.as_str() == code && f.fix.is_some()), "{to}: {findings:?}");
    }
}

#[test]
fn a_storefront_may_take_some_targets_only() {
    let text = LARGE
        .replace(", macos = \"sp-mac\", tide = \"sp-tide\"", "")
        .replace("depots = {", "targets = [\"desktop\"]\ndepots = {");
    let config = Config::read("lantern.toml", &text).unwrap();
    let storefront = config.storefronts.values().next().unwrap();
    assert!(storefront.takes(&"desktop".parse().unwrap()) && !storefront.takes(&"tide".parse().unwrap()));
}

#[test]
fn a_value_is_found_in_the_text_or_what_is_above_it() {
    use ConfigKey::Key as K;
    let at = |way: &[ConfigKey<'_>]| {
        let place = Config::place("lantern.toml", GOOD, way);
        (place.line, place.column, place.len)
    };
    assert_eq!(at(&[K("targets"), K("linux"), K("starts")]), (11, 10, 11));
    assert_eq!(at(&[K("targets"), K("linux"), K("executable")]), (8, 10, 5));
    assert_eq!(at(&[K("targets"), K("linux"), K("leave-out"), ConfigKey::Item(0)]), (12, 14, 10));
    assert_eq!(at(&[K("nowhere")]), (1, 1, 1));
}

#[test]
fn the_schema_lists_every_key_once() {
    let schema = shape::schema();
    let text = serde_json::to_string_pretty(&schema).unwrap() + "\n";
    if std::env::var_os("UPDATE_EXPECTED").is_some() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/src/config/lantern.schema.json");
        std::fs::write(path, &text).unwrap();
    }
    assert!(text == Config::SCHEMA, "the schema is older than the types: UPDATE_EXPECTED=1 writes it again");
    let target = schema.pointer("/$defs/Target/properties").unwrap().as_object().unwrap();
    let keys = target.keys().map(String::as_str).collect::<Vec<_>>().join(" ");
    let expected = "edition entitlements executable export export-root hardened-runtime inside install-folder keep-aside leave-out \
                    lineage lineage-from must-have must-mention must-not-mention profile sign sign-again sign-files stamp starts systems \
                    version-file";
    assert_eq!(keys, expected);
    assert_eq!(schema["$schema"], "https://json-schema.org/draft/2020-12/schema");
}

/// Values of every form that a schema has for one thing.
fn examples(root: &Value, shape: &Value) -> Vec<Value> {
    if let Some(name) = shape.get("$ref").and_then(Value::as_str) {
        return examples(root, root.pointer(&name[1..]).unwrap());
    }
    if let Some(forms) = shape.get("anyOf").or(shape.get("oneOf")).and_then(Value::as_array) {
        return forms.iter().flat_map(|form| examples(root, form)).collect();
    }
    if let Some(word) = shape.get("const").or(shape.pointer("/enum/0")) {
        return vec![word.clone()];
    }
    let kinds = shape["type"].as_array().cloned().unwrap_or_else(|| vec![shape["type"].clone()]);
    let of_kind = |kind: &Value| match kind.as_str().unwrap() {
        "string" => vec!["x".into()],
        "integer" => vec![1.into()],
        "boolean" => vec![true.into()],
        "array" => examples(root, &shape["items"]).into_iter().map(|item| serde_json::json!([item])).collect(),
        "object" => {
            let named = |(key, shape): (&String, &Value)| (key.clone(), examples(root, shape));
            let own = shape["properties"].as_object().into_iter().flatten().map(named);
            let free = shape.get("additionalProperties").filter(|of| of.is_object());
            let all: Vec<_> = own.chain(free.map(|of| ("free".to_owned(), examples(root, of)))).collect();
            let most = all.iter().map(|(_, forms)| forms.len()).max().unwrap_or(1);
            let form = |at: usize| all.iter().map(move |(key, forms)| (key.clone(), forms[at % forms.len()].clone()));
            (0..most).map(|at| Value::Object(form(at).collect())).collect()
        }
        _ => vec![],
    };
    kinds.iter().flat_map(of_kind).collect()
}

/// A value as TOML has it in one line.
fn in_line(value: &Value) -> String {
    match value {
        Value::Array(items) => format!("[{}]", items.iter().map(in_line).collect::<Vec<_>>().join(", ")),
        Value::Object(keys) => {
            let keys: Vec<_> = keys.iter().map(|(key, value)| format!("{key:?} = {}", in_line(value))).collect();
            format!("{{ {} }}", keys.join(", "))
        }
        other => other.to_string(),
    }
}

/// Documents that differ from one in a single key each: of every key whose value another document does not have there, too.
fn changed(document: &Value, unlike: &Value, change: &dyn Fn(&mut serde_json::Map<String, Value>, &str)) -> Vec<Value> {
    fn ways(value: &Value, way: &str, out: &mut Vec<(String, String)>) {
        for (key, below) in value.as_object().into_iter().flatten() {
            out.push((way.to_owned(), key.clone()));
            ways(below, &format!("{way}/{key}"), out);
        }
        for (index, item) in value.as_array().into_iter().flatten().enumerate() {
            ways(item, &format!("{way}/{index}"), out);
        }
    }
    let mut all = Vec::new();
    ways(document, "", &mut all);
    let at = |document: &Value, (way, key): &(String, String)| document.pointer(&format!("{way}/{key}")).cloned();
    let is_other = |place: &(String, String)| at(document, place) != at(unlike, place);
    let change = |(way, key): (String, String)| {
        let mut other = document.clone();
        change(other.pointer_mut(&way).unwrap().as_object_mut().unwrap(), &key);
        other
    };
    all.into_iter().filter(is_other).map(change).collect()
}

#[test]
fn the_types_take_what_the_schema_takes() {
    let schema = shape::schema();
    let documents = examples(&schema, &schema);
    assert!(documents.len() >= 3, "each kind of storefront is in one");
    let mut all = documents.clone();
    for (number, document) in documents.iter().enumerate() {
        let before = number.checked_sub(1).map_or(&Value::Null, |before| &documents[before]);
        all.extend(changed(document, before, &|table, key| drop(table.remove(key))));
        all.extend(changed(document, before, &|table, key| drop(table.insert(format!("{key}x"), "x".into()))));
        for other in [serde_json::json!(7), serde_json::json!(["x"]), serde_json::json!({ "x": "y" })] {
            all.extend(changed(document, before, &|table, key| table[key] = other.clone()));
        }
    }
    let (mut right, mut wrong) = (0, 0);
    for document in &all {
        let text: String = document
            .as_object()
            .unwrap()
            .iter()
            .map(|(key, value)| format!("{key:?} = {}\n", in_line(value)))
            .collect();
        let mut shape = shape::Shape::read(&text);
        if shape.problems.is_empty() {
            let mut findings = Vec::new();
            let values: Option<raw::Config> = shape.values(("lantern.toml", &text), "", &mut findings);
            assert!(values.is_some() && findings.is_empty(), "{findings:?}\n{text}");
            right += 1;
        } else {
            wrong += 1;
        }
    }
    assert!(right > 100 && wrong > 500, "{right} right, {wrong} wrong");
}

#[test]
fn hostile_texts_are_refused_without_harm() {
    for text in ["", "[", "a=1", "\u{0}", "[game]\n[game]", &"[a.".repeat(1000), &"x = [".repeat(500)] {
        assert!(Config::read("lantern.toml", text).is_err());
    }
}

#[test]
fn what_is_accepted() {
    let accept = "\n[checks]\naccept = [{ code = \"no-icon\", because = \"it has none\", until = \"2027-03-01\" }]\n";
    let read = |text: &str| Config::read("lantern.toml", &format!("{GOOD}{text}"));
    let config = read(accept).unwrap();
    assert_eq!(config.accept[0].until, Some(jiff::civil::date(2027, 3, 1)));
    let finding = Finding::of(Code::NoIcon, "it has no icon", "set one");
    assert!(config.accept[0].is_about(None, &finding));
    let linux: Name = "linux".parse().unwrap();
    let other = Accept { target: Some("macos".parse().unwrap()), ..config.accept[0].clone() };
    assert!(!other.is_about(Some(&linux), &finding));
    for (from, to, code) in [
        ("no-icon", "no-icno", "unknown-code"),
        ("2027-03-01", "in spring", "wrong-value"),
        ("it has none", " ", "empty-value"),
        ("code =", "target = \"linxu\", code =", "unknown-target"),
    ] {
        let findings = read(&accept.replacen(from, to, 1)).unwrap_err();
        assert_eq!(findings[0].code.as_str(), code, "{findings:?}");
    }
}

#[test]
fn approvals_and_what_signatures_say() {
    let more = "sign = \"studio\"\nentitlements = \"linux.entitlements\"\nhardened-runtime = false\n\n\
                [targets.linux.inside.\"Post.app/PlugIns/Tide.appex\"]\nprofile = \"tide.profile\"\n\n\
                [approvals.harbour-office]\ntargets = [\"linux\"]\nusually = \"2 hours\"\nvalues = { desk = \"3\" }\n\n[storefronts.brambleyard]";
    let config = Config::read("lantern.toml", &GOOD.replacen("\n[storefronts.brambleyard]", more, 1)).unwrap();
    let target = &config.targets[&"linux".parse().unwrap()];
    assert_eq!(target.code.main.entitlements.as_deref(), Some("linux.entitlements"));
    assert!(!target.code.is_hardened);
    assert_eq!(target.code.inside.values().next().unwrap().profile.as_deref(), Some("tide.profile"));
    let approval = &config.approvals[&"harbour-office".parse().unwrap()];
    assert_eq!((approval.targets[0].as_str(), approval.time_limit.as_secs()), ("linux", 1800));
    assert_eq!(approval.usually, Some(jiff::SignedDuration::from_hours(2)));
    let wrong = |approval: &str| found("[storefronts.brambleyard]", &format!("{approval}\n[storefronts.brambleyard]"));
    for (approval, says) in [
        ("[approvals.office]\ntargets = [\"linus\"]\n", "there is no target \"linus\" -> did you mean \"linux\"?"),
        ("[approvals.office]\ntargets = []\n", "a target is missing here"),
        ("[approvals.office]\ntargets = [\"linux\"]\nusually = \"soon\"\n", "\"soon\" is not a length of time"),
        ("[approvals.brambleyard]\ntargets = [\"linux\"]\n", "brambleyard is a storefront, too"),
        (
            "[approvals.a]\ntargets = [\"linux\"]\n[approvals.b]\ntargets = [\"linux\"]\n",
            "linux is looked at by a already",
        ),
    ] {
        let found = wrong(approval);
        assert!(found.len() == 1 && found[0].contains(says), "{says}: {found:?}");
    }
}
