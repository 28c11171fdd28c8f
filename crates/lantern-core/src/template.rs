//! Texts with values in braces, such as `{release.version}`: what a storefront is to call a release.
//!
//! `{{` is a brace, and so is `}}`. One spelling of values wherever a text can have them.

use std::fmt;
use std::str::FromStr;

use crate::names::{Identity, Name, nearest};
use crate::version::ReleaseName;

/// What can stand in braces.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Value {
    GameName,
    GameIdentity,
    GameEdition,
    ReleaseVersion,
    ReleaseNumber,
    StorefrontName,
}

const VALUES: &[(&str, Value)] = &[
    ("game.name", Value::GameName),
    ("game.identity", Value::GameIdentity),
    ("game.edition", Value::GameEdition),
    ("release.version", Value::ReleaseVersion),
    ("release.number", Value::ReleaseNumber),
    ("storefront.name", Value::StorefrontName),
];

#[derive(Debug, Clone, PartialEq, Eq)]
enum Part {
    Text(String),
    Value(Value),
}

/// A text with values.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Template(Vec<Part>);

/// What a template's values are.
#[derive(Debug, Clone, Copy)]
pub struct Values<'a> {
    /// The name that players see.
    pub game: &'a str,
    /// The game's identity.
    pub identity: &'a Identity,
    /// The edition.
    pub edition: &'a Name,
    /// The release.
    pub release: &'a ReleaseName,
    /// The project's name for the storefront.
    pub storefront: &'a Name,
}

/// Why a text is no template.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TemplateError {
    /// No value has this name.
    #[error("{{{name}}} is not a value")]
    Unknown {
        /// As it was written.
        name: String,
        /// The nearest that there is.
        near: Option<&'static str>,
    },
    /// A brace without its other half.
    #[error("a brace is open: {{ begins a value, }} ends it, and {{{{ is a brace")]
    Open,
}

impl TemplateError {
    /// Returns what to do.
    pub fn fix(&self) -> String {
        let known = || VALUES.iter().map(|(name, _)| format!("{{{name}}}")).collect::<Vec<_>>().join(", ");
        match self {
            Self::Unknown { near: Some(near), .. } => format!("did you mean {{{near}}}?"),
            Self::Unknown { near: None, .. } => format!("there are {}", known()),
            Self::Open => format!("write a value such as {{release.version}}; there are {}", known()),
        }
    }
}

impl FromStr for Template {
    type Err = TemplateError;

    fn from_str(text: &str) -> Result<Self, TemplateError> {
        let mut parts = Vec::new();
        let mut plain = String::new();
        let mut rest = text;
        while let Some(at) = rest.find(['{', '}']) {
            let (before, from) = rest.split_at(at);
            plain.push_str(before);
            if let Some(after) = from.strip_prefix("{{").or_else(|| from.strip_prefix("}}")) {
                plain.extend(from.chars().next());
                rest = after;
                continue;
            }
            let (name, after) =
                from.strip_prefix('{').and_then(|from| from.split_once('}')).ok_or(TemplateError::Open)?;
            let found = VALUES.iter().find(|(known, _)| *known == name.trim());
            let Some((_, value)) = found else {
                let near = nearest(name.trim(), VALUES.iter().map(|(known, _)| *known));
                return Err(TemplateError::Unknown { name: name.to_owned(), near });
            };
            if !plain.is_empty() {
                parts.push(Part::Text(std::mem::take(&mut plain)));
            }
            parts.push(Part::Value(*value));
            rest = after;
        }
        plain.push_str(rest);
        if !plain.is_empty() {
            parts.push(Part::Text(plain));
        }
        Ok(Self(parts))
    }
}

impl Template {
    /// Puts the values in.
    pub fn fill(&self, values: &Values<'_>) -> String {
        let text = |part: &Part| match part {
            Part::Text(text) => text.clone(),
            Part::Value(Value::GameName) => values.game.to_owned(),
            Part::Value(Value::GameIdentity) => values.identity.to_string(),
            Part::Value(Value::GameEdition) => values.edition.to_string(),
            Part::Value(Value::ReleaseVersion) => values.release.version.to_string(),
            Part::Value(Value::ReleaseNumber) => values.release.number.to_string(),
            Part::Value(Value::StorefrontName) => values.storefront.to_string(),
        };
        self.0.iter().map(text).collect()
    }
}

impl fmt::Display for Template {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for part in &self.0 {
            match part {
                Part::Text(text) => f.write_str(&text.replace('{', "{{").replace('}', "}}"))?,
                Part::Value(value) => {
                    let known = VALUES.iter().find(|(_, known)| known == value);
                    write!(f, "{{{}}}", known.map_or("", |(name, _)| name))?;
                }
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn fill(text: &str) -> Result<String, TemplateError> {
        let identity = "example.paperheron.saltmarsh".parse().unwrap();
        let (edition, storefront) = (Name::full_edition(), "old-pier".parse().unwrap());
        let release = "1.4.0 (27)".parse().unwrap();
        let values = Values {
            game: "Saltmarsh Post",
            identity: &identity,
            edition: &edition,
            release: &release,
            storefront: &storefront,
        };
        text.parse::<Template>().map(|template| template.fill(&values))
    }

    #[test]
    fn values_are_put_in() {
        let all = "{game.name} {game.identity} {game.edition} {release.version}-{release.number} {storefront.name}";
        let filled = "Saltmarsh Post example.paperheron.saltmarsh full 1.4.0-27 old-pier";
        assert_eq!(fill(all).unwrap(), filled);
        assert_eq!(fill("").unwrap(), "");
        assert_eq!(fill("{{{release.version}}} { release.number }").unwrap(), "{1.4.0} 27");
    }

    #[test]
    fn what_is_no_template_says_what_there_is() {
        let fix = |text: &str| fill(text).unwrap_err().fix();
        assert_eq!(fix("{release.versoin}"), "did you mean {release.version}?");
        assert!(fix("{moon}").starts_with("there are {game.name}, "));
        for text in ["{release.version", "release.version}", "{", "}", "a{b"] {
            assert_eq!(fill(text).unwrap_err(), TemplateError::Open, "{text}");
        }
    }

    proptest! {
        /// Any text is one, once its braces are doubled, and a template is read as it is written.
        #[test]
        fn any_text_goes_through(text in "[a-z{} .]{0,30}") {
            let doubled = text.replace('{', "{{").replace('}', "}}");
            prop_assert_eq!(fill(&doubled).unwrap(), text.clone());
            if let Ok(template) = text.parse::<Template>() {
                prop_assert_eq!(template.to_string().parse::<Template>().unwrap(), template);
            }
        }
    }
}
