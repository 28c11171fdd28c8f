//! Manifests of Android bundles. Source: `Resources.proto` of the Android Open Source Project, and "Encoding" of Protocol Buffers
//! (<https://protobuf.dev/programming-guides/encoding/>).

use super::axml::{Element, SPACE, Value, of_game};

/// Returns the manifest of the example game's base module.
pub fn manifest(version: &'static str, code: u32) -> Vec<u8> {
    node(&of_game(version, code, false))
}

fn number(mut value: u64) -> Vec<u8> {
    let mut out = Vec::new();
    while value > 0x7f {
        out.push((value & 0x7f) as u8 | 0x80);
        value >>= 7;
    }
    out.push((value & 0x7f) as u8);
    out
}

fn whole(field: u64, value: u64) -> Vec<u8> {
    [number(field << 3), number(value)].concat()
}

fn message(field: u64, content: &[u8]) -> Vec<u8> {
    [&number(field << 3 | 2), &number(content.len() as u64), content].concat()
}

/// A node with one element: what spaces it declares (1), its name (3), attributes (4) and nodes (5).
fn node(element: &Element) -> Vec<u8> {
    let mut out = Vec::new();
    if element.name == "manifest" {
        out.extend(message(1, &[message(1, b"android"), message(2, SPACE.as_bytes())].concat()));
    }
    out.extend(message(3, element.name.as_bytes()));
    for (name, id, value) in &element.attributes {
        out.extend(message(4, &attribute(name, *id, *value)));
    }
    for child in &element.children {
        out.extend(message(5, &node(child)));
    }
    message(1, &out)
}

/// An attribute: its space (1), name (2), text (3), resource id (5) and item (6).
fn attribute(name: &str, id: u32, value: Value) -> Vec<u8> {
    let space = if id == 0 { Vec::new() } else { message(1, SPACE.as_bytes()) };
    let (text, item) = match value {
        Value::Text(text) => (text.to_owned(), Vec::new()),
        Value::Number(value) => (value.to_string(), message(6, &message(7, &whole(6, value.into())))),
        Value::Yes(yes) => (yes.to_string(), message(6, &message(7, &whole(8, yes.into())))),
    };
    let id = if id == 0 { Vec::new() } else { whole(5, id.into()) };
    [space, message(2, name.as_bytes()), message(3, text.as_bytes()), id, item].concat()
}
