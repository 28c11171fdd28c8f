//! Texts with values in braces, such as `{release.version}`: what a storefront is to call a release.
//!
//! `{{` is a brace, and so is `}}`. One spelling of values wherever a text can have them.

use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

use crate::names::{Identity, Name, nearest};
use crate::version::ReleaseName;

/// The names of values that a template may have.
#[derive(Debug, PartialEq, Eq)]
pub struct Known {
    /// Whole names.
    names: &'static [&'static str],
    /// Names behind which a key of the writer's own comes, with a point between.
    keyed: &'static [&'static str],
}

/// What can stand in the name that a release has at a storefront.
pub static NAME_THERE: Known = Known {
    names: &["game.name", "game.identity", "game.edition", "release.version", "release.number", "storefront.name"],
    keyed: &[],
};

/// What can stand in the name of a file that is handed over, and in the folder on top of it.
pub static FILE_NAME: Known = Known {
    names: &[
        "game.name",
        "game.identity",
        "game.edition",
        "release.version",
        "release.number",
        "release.name-there",
        "storefront.name",
        "target",
    ],
    keyed: &["values"],
};

/// What can stand in a step that a person does.
pub static STEP: Known = Known {
    names: &[
        "game.name",
        "game.identity",
        "game.edition",
        "release.version",
        "release.number",
        "release.name-there",
        "release.number-there",
        "release.id",
        "storefront.name",
        "storefront.address",
        "branch",
        "message",
        "because",
        "before.version",
        "before.number-there",
        "hand-over.files",
        "hand-over.digests",
    ],
    keyed: &["values", "notes", "read-back", "release.number-there"],
};

/// What can stand in the command that puts a build on a device.
pub static DEVICE: Known = Known {
    names: &["file", "folder", "game.name", "game.identity", "target", "release.version", "release.number"],
    keyed: &[],
};

impl Known {
    fn has(&self, name: &str) -> bool {
        let rest = |key: &&str| name.strip_prefix(*key)?.strip_prefix('.').filter(|rest| !rest.is_empty());
        self.names.contains(&name) || self.keyed.iter().any(|key| rest(key).is_some())
    }

    fn all(&self) -> String {
        let whole = self.names.iter().map(|name| format!("{{{name}}}"));
        whole.chain(self.keyed.iter().map(|key| format!("{{{key}.…}}"))).collect::<Vec<_>>().join(", ")
    }
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Part {
    Text(String),
    /// By its name.
    Value(String),
}

/// A text with values.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Template(Vec<Part>);

/// What values are, by their names.
#[derive(Debug, Clone, Default)]
pub struct Values(BTreeMap<String, String>);

impl Values {
    /// The values that every release has.
    pub fn of(game: &str, identity: &Identity, edition: &Name, release: &ReleaseName, storefront: &Name) -> Self {
        let mut values = Self::default();
        values.set("game.name", game);
        values.set("game.identity", identity.to_string());
        values.set("game.edition", edition.to_string());
        values.set("release.version", release.version.to_string());
        values.set("release.number", release.number.to_string());
        values.set("storefront.name", storefront.to_string());
        values
    }

    /// Adds one.
    pub fn set(&mut self, name: impl Into<String>, value: impl Into<String>) {
        self.0.insert(name.into(), value.into());
    }
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
        /// Those that there are.
        known: &'static Known,
    },
    /// A brace without its other half.
    #[error("a brace is open: {{ begins a value, }} ends it, and {{{{ is a brace")]
    Open {
        /// The values that there are.
        known: &'static Known,
    },
}

impl TemplateError {
    /// Returns what to do.
    pub fn fix(&self) -> String {
        match self {
            Self::Unknown { near: Some(near), .. } => format!("did you mean {{{near}}}?"),
            Self::Unknown { near: None, known, .. } => format!("one of {}", known.all()),
            Self::Open { known } => format!("write a value such as {{release.version}}; one of {}", known.all()),
        }
    }
}

impl FromStr for Template {
    type Err = TemplateError;

    fn from_str(text: &str) -> Result<Self, TemplateError> {
        Self::read(text, &NAME_THERE)
    }
}

impl Template {
    /// Reads a text that may have these values.
    ///
    /// # Errors
    /// [`TemplateError`].
    pub fn read(text: &str, known: &'static Known) -> Result<Self, TemplateError> {
        Self::parse(text, known, |name| known.has(name))
    }

    /// Reads what [`Self::fill_known`] made, as it is written: any name may be in it.
    ///
    /// # Errors
    /// [`TemplateError::Open`].
    pub fn read_again(text: &str) -> Result<Self, TemplateError> {
        Self::parse(text, &STEP, |_| true)
    }

    fn parse(text: &str, known: &'static Known, has: impl Fn(&str) -> bool) -> Result<Self, TemplateError> {
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
                from.strip_prefix('{').and_then(|from| from.split_once('}')).ok_or(TemplateError::Open { known })?;
            if !has(name.trim()) {
                let near = nearest(name.trim(), known.names.iter().copied());
                return Err(TemplateError::Unknown { name: name.to_owned(), near, known });
            }
            if !plain.is_empty() {
                parts.push(Part::Text(std::mem::take(&mut plain)));
            }
            parts.push(Part::Value(name.trim().to_owned()));
            rest = after;
        }
        plain.push_str(rest);
        if !plain.is_empty() {
            parts.push(Part::Text(plain));
        }
        Ok(Self(parts))
    }

    /// Returns the names of the values in it.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.0.iter().filter_map(|part| match part {
            Part::Value(name) => Some(name.as_str()),
            Part::Text(_) => None,
        })
    }

    /// Puts the values in; one that there is not is empty.
    pub fn fill(&self, values: &Values) -> String {
        let text = |part: &Part| match part {
            Part::Text(text) => text.clone(),
            Part::Value(name) => values.0.get(name).cloned().unwrap_or_default(),
        };
        self.0.iter().map(text).collect()
    }

    /// Puts those values in that there are, and leaves the others as they stand.
    #[must_use]
    pub fn fill_known(&self, values: &Values) -> Self {
        let part = |part: &Part| match part {
            Part::Value(name) => values.0.get(name).cloned().map_or_else(|| part.clone(), Part::Text),
            Part::Text(_) => part.clone(),
        };
        Self(self.0.iter().map(part).collect())
    }
}

impl fmt::Display for Template {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|part| match part {
            Part::Text(text) => f.write_str(&text.replace('{', "{{").replace('}', "}}")),
            Part::Value(name) => write!(f, "{{{name}}}"),
        })
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
        let values = Values::of("Saltmarsh Post", &identity, &edition, &release, &storefront);
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
        assert!(fix("{moon}").starts_with("one of {game.name}, "));
        for text in ["{release.version", "release.version}", "{", "}", "a{b"] {
            assert_eq!(fill(text).unwrap_err(), TemplateError::Open { known: &NAME_THERE }, "{text}");
        }
    }

    #[test]
    fn what_is_not_known_yet_stays_in_it_and_is_put_in_later() {
        let step = Template::read("{{{release.version}}} in berth {read-back.number-there}", &STEP).unwrap();
        let mut values = Values::default();
        values.set("release.version", "1.4.0 {beta}");
        let kept = step.fill_known(&values).to_string();
        assert_eq!(kept, "{{1.4.0 {{beta}}}} in berth {read-back.number-there}");
        let again = Template::read_again(&kept).unwrap();
        assert_eq!(again.names().collect::<Vec<_>>(), ["read-back.number-there"]);
        values.set("read-back.number-there", "12");
        assert_eq!(again.fill(&values), "{1.4.0 {beta}} in berth 12");
        assert!(Template::read("{values.berth} {notes.pt-BR}", &STEP).is_ok());
        assert!(Template::read("{values.}", &STEP).is_err() && Template::read("{target}", &STEP).is_err());
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
