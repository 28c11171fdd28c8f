//! Takes out of a text what must not be shown to others: values of names that sound secret, tokens and keys by their
//! shapes, invitations.

use crate::invitation::Invitation;
use crate::secrets::TOKENS;

/// Stands where something was taken out.
pub const TAKEN_OUT: &str = "(taken out)";

/// Words in a name that make its value a secret, whatever it looks like.
const SECRET_WORDS: [&str; 8] =
    ["secret", "token", "password", "passwd", "passphrase", "credential", "apikey", "invitation"];

/// Whether a value of this name is secret. `key` alone counts as a part of its own: a keyboard is no key.
fn sounds_secret(name: &str) -> bool {
    let name = name.to_ascii_lowercase();
    SECRET_WORDS.iter().any(|word| name.contains(word)) || name.split(['-', '_', '.']).any(|part| part == "key")
}

fn is_name_char(c: char) -> bool {
    c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '.')
}

/// Takes the values out of `name = value` and `"name": value` where the name sounds secret.
pub fn without_values(line: &str) -> String {
    let mut out = String::with_capacity(line.len());
    let mut rest = line;
    while let Some(at) = rest.find(['=', ':']) {
        let (before, after) = rest.split_at(at + 1);
        out.push_str(before);
        rest = after;
        let name_end = before[..at].trim_end().trim_end_matches(['"', '\'']);
        let name_start = name_end.rfind(|c| !is_name_char(c)).map_or(0, |last| last + 1);
        // Behind a character of several bytes there is none of a name.
        let Some(name) = name_end.get(name_start..) else { continue };
        if !sounds_secret(name) || after.starts_with("//") {
            continue;
        }
        let spaces = after.len() - after.trim_start().len();
        let value = &after[spaces..];
        let len = value_len(value);
        if len > 0 {
            out.push_str(&after[..spaces]);
            out.push_str(TAKEN_OUT);
            rest = &value[len..];
        }
    }
    out.push_str(rest);
    out
}

/// Length of a value: up to its closing quote or bracket, else to what ends it; an open one goes to the line's end.
fn value_len(value: &str) -> usize {
    let closing = |quote: char, skip: usize| {
        let mut escaped = false;
        let end = value.char_indices().skip(skip).find(|(_, c)| {
            let ends = *c == quote && !escaped;
            escaped = *c == '\\' && !escaped;
            ends
        });
        end.map_or(value.len(), |(at, c)| at + c.len_utf8())
    };
    match value.chars().next() {
        Some(quote @ ('"' | '\'')) => closing(quote, 1),
        Some('[') => closing(']', 1),
        Some('{') => closing('}', 1),
        _ => value.find(|c: char| c.is_whitespace() || matches!(c, ',' | ';' | '}' | ']')).unwrap_or(value.len()),
    }
}

/// Takes out everything that is secret by its name or its shape.
pub fn redacted(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut in_key = false;
    for line in text.split_inclusive('\n') {
        if line.contains("-----BEGIN ") && line.contains("PRIVATE KEY") {
            in_key = true;
            out.push_str(TAKEN_OUT);
            out.push('\n');
        }
        if in_key {
            in_key = !line.contains("-----END ");
            continue;
        }
        out.push_str(&without_shapes(&without_values(line)));
    }
    out
}

/// Takes out words that are tokens or invitations by their shape.
fn without_shapes(line: &str) -> String {
    let is_part = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-');
    let mut out = String::with_capacity(line.len());
    let mut rest = line;
    while !rest.is_empty() {
        let word = &rest[..rest.find(|c| !is_part(c)).unwrap_or(rest.len())];
        let token = TOKENS.iter().any(|(prefix, len, _)| word.strip_prefix(prefix).is_some_and(|w| w.len() >= *len));
        out.push_str(if token || word.parse::<Invitation>().is_ok() { TAKEN_OUT } else { word });
        rest = &rest[word.len()..];
        let other = rest.find(is_part).unwrap_or(rest.len());
        out.push_str(&rest[..other]);
        rest = &rest[other..];
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn values_of_secret_names() {
        let cases = [
            ("secret = \"s3cr3t\"", "secret = (taken out)"),
            ("client_secret='a' # mine", "client_secret=(taken out) # mine"),
            ("  \"access-token\": \"x\\\"y\", \"name\": \"n\"", "  \"access-token\": (taken out), \"name\": \"n\""),
            ("[storefronts.shop.access]  password = hunter2", "[storefronts.shop.access]  password = (taken out)"),
            ("access = { secret = \"x\", client = \"punt\" }", "access = { secret = (taken out), client = \"punt\" }"),
            ("secret = { a = \"x\" }", "secret = (taken out)"),
            ("api-key = \"open", "api-key = (taken out)"),
            ("key = [\"a\", \"b\"]", "key = (taken out)"),
        ];
        for (line, expected) in cases {
            assert_eq!(without_values(line), expected, "{line}");
        }
        for line in [
            "keep-aside = [\"*.pdb\"]",
            "keyboard = \"qwerty\"",
            "name = \"The secret of the marsh\"",
            "GET https://token.example/x",
            "secret",
            "é=é",
            "secret =",
        ] {
            assert_eq!(without_values(line), line);
        }
    }

    #[test]
    fn tokens_keys_and_invitations() {
        let invitation = Invitation::new([9; 15]).reveal();
        let token = format!("ghp_{}", "q7Rt2mZk9Wc4Xv8Bn1Lp5Hs3Jd6Fg0YaTuEi");
        let text = format!(
            "install --x {invitation}\nwith {token};\n-----BEGIN {}KEY-----\nMIIE\n-----END X-----\nend\n",
            "PRIVATE "
        );
        assert_eq!(redacted(&text), "install --x (taken out)\nwith (taken out);\n(taken out)\nend\n");
    }

    proptest! {
        #[test]
        fn any_text_is_read_and_what_is_not_secret_stays(text in "[a-z=:\"{}é \n]{0,60}") {
            let out = redacted(&text);
            prop_assert!(out.contains(TAKEN_OUT) || out == text);
        }
    }
}
