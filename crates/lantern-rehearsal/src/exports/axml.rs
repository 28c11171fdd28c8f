//! Binary Android manifests. Source: `ResourceTypes.h` of the Android Open Source Project: chunk types, string pool,
//! resource map, nodes with typed attributes.

/// A value of an attribute.
#[derive(Debug, Clone, Copy)]
pub(super) enum Value {
    Text(&'static str),
    Number(u32),
    Yes(bool),
}

/// An element with its attributes (name, resource id, value) and children.
pub(super) struct Element {
    pub name: &'static str,
    pub attributes: Vec<(&'static str, u32, Value)>,
    pub children: Vec<Element>,
}

pub(super) const SPACE: &str = "http://schemas.android.com/apk/res/android";
const NONE: u32 = u32::MAX;

const LABEL: (&str, u32) = ("label", 0x0101_0001);
const NAME: (&str, u32) = ("name", 0x0101_0003);
const MIN_SDK: (&str, u32) = ("minSdkVersion", 0x0101_020c);
const CODE: (&str, u32) = ("versionCode", 0x0101_021b);
const VERSION: (&str, u32) = ("versionName", 0x0101_021c);
const TARGET_SDK: (&str, u32) = ("targetSdkVersion", 0x0101_0270);
const REQUIRED: (&str, u32) = ("required", 0x0101_028e);

/// Returns the manifest of the example game; `for_headsets` says that it needs one.
pub fn manifest(version: &'static str, code: u32, for_headsets: bool) -> Vec<u8> {
    encode(&of_game(version, code, for_headsets))
}

/// The elements of that manifest.
pub(super) fn of_game(version: &'static str, code: u32, for_headsets: bool) -> Element {
    let with = |name: (&'static str, u32), value| (name.0, name.1, value);
    let named = |element: &'static str, name: &'static str| Element {
        name: element,
        attributes: vec![with(NAME, Value::Text(name))],
        children: Vec::new(),
    };
    let mut activity = named("activity", "example.paperheron.saltmarsh.Main");
    activity.children.push(Element {
        name: "intent-filter",
        attributes: Vec::new(),
        children: vec![
            named("action", "android.intent.action.MAIN"),
            named("category", "android.intent.category.LAUNCHER"),
        ],
    });
    let mut children = vec![Element {
        name: "uses-sdk",
        attributes: vec![with(MIN_SDK, Value::Number(26)), with(TARGET_SDK, Value::Number(35))],
        children: Vec::new(),
    }];
    if for_headsets {
        let mut feature = named("uses-feature", "android.hardware.vr.headtracking");
        feature.attributes.push(with(REQUIRED, Value::Yes(true)));
        children.push(feature);
    }
    children.push(Element {
        name: "application",
        attributes: vec![with(LABEL, Value::Text("Saltmarsh Post"))],
        children: vec![activity],
    });
    Element {
        name: "manifest",
        attributes: vec![
            with(CODE, Value::Number(code)),
            with(VERSION, Value::Text(version)),
            ("package", 0, Value::Text("example.paperheron.saltmarsh")),
        ],
        children,
    }
}

/// Strings in the order of the pool: names that have a resource id come first, in the order of their ids.
struct Pool {
    strings: Vec<&'static str>,
    ids: Vec<u32>,
}

impl Pool {
    fn of(root: &Element) -> Self {
        let mut names: Vec<(u32, &'static str)> = Vec::new();
        let mut others: Vec<&'static str> = vec!["android", SPACE];
        let mut open = vec![root];
        while let Some(element) = open.pop() {
            others.push(element.name);
            for (name, id, value) in &element.attributes {
                if *id == 0 {
                    others.push(name);
                } else {
                    names.push((*id, name));
                }
                if let Value::Text(text) = value {
                    others.push(text);
                }
            }
            open.extend(&element.children);
        }
        names.sort_unstable();
        names.dedup();
        let ids = names.iter().map(|(id, _)| *id).collect();
        let mut strings: Vec<&'static str> = names.into_iter().map(|(_, name)| name).collect();
        for text in others {
            if !strings.contains(&text) {
                strings.push(text);
            }
        }
        Self { strings, ids }
    }

    fn index(&self, text: &str) -> u32 {
        self.strings.iter().position(|s| *s == text).and_then(|i| u32::try_from(i).ok()).unwrap_or(NONE)
    }
}

fn chunk(kind: u16, head: &[u8], body: &[u8]) -> Vec<u8> {
    let head_len = u16::try_from(8 + head.len()).unwrap_or(0);
    let len = u32::try_from(8 + head.len() + body.len()).unwrap_or(0);
    [&kind.to_le_bytes()[..], &head_len.to_le_bytes(), &len.to_le_bytes(), head, body].concat()
}

fn words(words: &[u32]) -> Vec<u8> {
    words.iter().flat_map(|word| word.to_le_bytes()).collect()
}

fn encode(root: &Element) -> Vec<u8> {
    let pool = Pool::of(root);
    let (mut offsets, mut texts) = (Vec::new(), Vec::new());
    for text in &pool.strings {
        offsets.push(u32::try_from(texts.len()).unwrap_or(0));
        let units: Vec<u16> = text.encode_utf16().collect();
        texts.extend(u16::try_from(units.len()).unwrap_or(0).to_le_bytes());
        texts.extend(units.iter().flat_map(|unit| unit.to_le_bytes()));
        texts.extend([0, 0]);
    }
    texts.resize(texts.len().div_ceil(4) * 4, 0);
    let count = u32::try_from(pool.strings.len()).unwrap_or(0);
    let start = 28 + 4 * count;
    let strings = chunk(1, &words(&[count, 0, 0, start, 0]), &[words(&offsets), texts].concat());
    let map = chunk(0x180, &[], &words(&pool.ids));
    let space = words(&[pool.index("android"), pool.index(SPACE)]);
    let mut nodes = node(0x100, &space);
    write(&pool, root, &mut nodes);
    nodes.extend(node(0x101, &space));
    chunk(3, &[], &[strings, map, nodes].concat())
}

/// A node carries a line number and no comment.
fn node(kind: u16, body: &[u8]) -> Vec<u8> {
    chunk(kind, &words(&[1, NONE]), body)
}

fn write(pool: &Pool, element: &Element, out: &mut Vec<u8>) {
    let mut attributes: Vec<&(&'static str, u32, Value)> = element.attributes.iter().collect();
    attributes.sort_by_key(|(name, id, _)| (*id == 0, *id, *name));
    let mut body = words(&[NONE, pool.index(element.name)]);
    let count = u16::try_from(attributes.len()).unwrap_or(0);
    for half in [20, 20, count, 0, 0, 0] {
        body.extend(half.to_le_bytes());
    }
    for (name, id, value) in attributes {
        let space = if *id == 0 { NONE } else { pool.index(SPACE) };
        let (raw, kind, data) = match value {
            Value::Text(text) => (pool.index(text), 0x03, pool.index(text)),
            Value::Number(number) => (NONE, 0x10, *number),
            Value::Yes(yes) => (NONE, 0x12, if *yes { u32::MAX } else { 0 }),
        };
        body.extend(words(&[space, pool.index(name), raw]));
        body.extend([8, 0, 0, kind]);
        body.extend(data.to_le_bytes());
    }
    out.extend(node(0x102, &body));
    for child in &element.children {
        write(pool, child, out);
    }
    out.extend(node(0x103, &words(&[NONE, pool.index(element.name)])));
}
