//! What a player chooses at install, and the depots that follow from it.
//!
//! A depot is for all players of its targets, for those who chose an option, or for those who have an add-on. The
//! options of a choice are what depots name; its default decides for a player who says nothing.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Deserializer, Serialize, Serializer, de};

use crate::names::{Name, NameError};
use crate::path::shown;

/// Written for a default, or given for a choice, to have no option at all.
pub const NO_OPTION: &str = "none";
/// Written for a default: the option that fits the language of the player's system.
pub const BY_LANGUAGE: &str = "by-language";

/// Which players of its targets download a depot; without either all of them, with both those who meet both.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Players {
    /// Choice and option: those who chose so.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub choice: BTreeMap<Name, Name>,
    /// Those who have this add-on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub add_on: Option<Name>,
    /// Conditions that a newer lantern wrote, by their words: who meets them is not known here.
    #[serde(flatten)]
    pub other: BTreeMap<String, serde_json::Value>,
}

impl Players {
    /// Whether everybody who has the target downloads it.
    pub fn are_all(&self) -> bool {
        self.choice.is_empty() && self.add_on.is_none() && self.other.is_empty()
    }
}

impl fmt::Display for Players {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.are_all() {
            return f.write_str("all");
        }
        let choices = self.choice.iter().map(|(choice, option)| format!("{choice}={option}"));
        let add_on = self.add_on.iter().map(|edition| format!("add-on {edition}"));
        let other = self.other.keys().map(|other| format!("{} (known to a newer lantern)", shown(other)));
        let parts: Vec<String> = choices.chain(add_on).chain(other).collect();
        f.write_str(&parts.join(", "))
    }
}

/// What a player has who does not choose.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum DefaultOption {
    /// No option.
    #[default]
    None,
    /// The option that fits the language of the player's system; none where no option does.
    ByLanguage,
    /// This one.
    Option(Name),
}

impl DefaultOption {
    fn as_str(&self) -> &str {
        match self {
            Self::None => NO_OPTION,
            Self::ByLanguage => BY_LANGUAGE,
            Self::Option(option) => option.as_str(),
        }
    }
}

impl std::str::FromStr for DefaultOption {
    type Err = NameError;

    fn from_str(text: &str) -> Result<Self, NameError> {
        Ok(match text {
            NO_OPTION => Self::None,
            BY_LANGUAGE => Self::ByLanguage,
            option => Self::Option(option.parse()?),
        })
    }
}

impl Serialize for DefaultOption {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.as_str())
    }
}

impl<'de> Deserialize<'de> for DefaultOption {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map_err(de::Error::custom)
    }
}

impl JsonSchema for DefaultOption {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "DefaultOption".into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string", "description": "An option, or `by-language`, or `none`." })
    }
}

/// The choices of a build, each with its default.
pub type Choices = BTreeMap<Name, DefaultOption>;

/// What a player has chosen. It is kept with an installed build.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Chosen {
    /// For each choice, the options; an empty list for none of them.
    #[serde(default)]
    pub choices: BTreeMap<Name, BTreeSet<Name>>,
    /// The add-ons that are installed.
    #[serde(default)]
    pub add_ons: BTreeSet<Name>,
}

/// What a player says at an install or an update; what is not said stays as it was.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Asked {
    /// For each choice, the options that it is to have from now on.
    pub choices: BTreeMap<Name, BTreeSet<Name>>,
    /// The add-ons that are to be there from now on.
    pub add_ons: Option<BTreeSet<Name>>,
}

/// Something was asked for that a build does not have.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NotOffered {
    /// No depot of the target follows from this choice.
    #[error("the choice {choice}")]
    Choice {
        /// What was asked for.
        choice: Name,
        /// What there is.
        there: Vec<Name>,
    },
    /// No depot of the target is for this option.
    #[error("the option {option} of the choice {choice}")]
    Option {
        /// The choice.
        choice: Name,
        /// What was asked for.
        option: Name,
        /// What there is.
        there: Vec<Name>,
    },
    /// No depot of the target comes with this add-on.
    #[error("the add-on {add_on}")]
    AddOn {
        /// What was asked for.
        add_on: Name,
        /// What there is.
        there: Vec<Name>,
    },
}

impl Chosen {
    /// Returns what a player has of a build whose depots are for `offered`: what they ask for, else what they chose
    /// `before`, as far as the build still has it, else each choice's default. `languages` are those of the player's
    /// system, the preferred one first.
    ///
    /// # Errors
    /// [`NotOffered`] for what is asked for and not there.
    pub fn of(
        offered: &[&Players],
        defaults: &Choices,
        asked: &Asked,
        before: Option<&Self>,
        languages: &[String],
    ) -> Result<Self, NotOffered> {
        let mut options: BTreeMap<&Name, BTreeSet<&Name>> = BTreeMap::new();
        for (choice, option) in offered.iter().flat_map(|players| &players.choice) {
            options.entry(choice).or_default().insert(option);
        }
        let add_ons: BTreeSet<&Name> = offered.iter().filter_map(|players| players.add_on.as_ref()).collect();
        let list = |names: &mut dyn Iterator<Item = &&Name>| names.map(|name| (*name).clone()).collect::<Vec<Name>>();
        for (choice, wanted) in &asked.choices {
            let Some(there) = options.get(choice) else {
                return Err(NotOffered::Choice { choice: choice.clone(), there: list(&mut options.keys()) });
            };
            if let Some(option) = wanted.iter().find(|option| !there.contains(option)) {
                let (choice, option, there) = (choice.clone(), option.clone(), list(&mut there.iter()));
                return Err(NotOffered::Option { choice, option, there });
            }
        }
        if let Some(add_on) = asked.add_ons.iter().flatten().find(|name| !add_ons.contains(name)) {
            return Err(NotOffered::AddOn { add_on: add_on.clone(), there: list(&mut add_ons.iter()) });
        }
        let choose = |(choice, there): (&&Name, &BTreeSet<&Name>)| {
            let is_there = |option: &&Name| there.contains(option);
            let options: BTreeSet<Name> =
                match (asked.choices.get(*choice), before.and_then(|b| b.choices.get(*choice))) {
                    (Some(wanted), _) => wanted.clone(),
                    // An option that is gone takes the choice with it: the default decides again.
                    (None, Some(was)) if was.iter().all(|option| is_there(&option)) => was.clone(),
                    _ => match defaults.get(*choice).unwrap_or(&DefaultOption::None) {
                        DefaultOption::None => BTreeSet::new(),
                        DefaultOption::Option(option) => Some(option).filter(is_there).cloned().into_iter().collect(),
                        DefaultOption::ByLanguage => for_languages(languages, there).cloned().into_iter().collect(),
                    },
                };
            ((*choice).clone(), options)
        };
        let choices = options.iter().map(choose).collect();
        let wanted = asked.add_ons.as_ref().or(before.map(|before| &before.add_ons));
        let add_ons = wanted.into_iter().flatten().filter(|name| add_ons.contains(name)).cloned().collect();
        Ok(Self { choices, add_ons })
    }

    /// Whether someone who has chosen so downloads a depot for these players.
    pub fn takes(&self, players: &Players) -> bool {
        let has = |(choice, option)| {
            self.choices.get(choice).is_some_and(|options: &BTreeSet<Name>| options.contains(option))
        };
        players.other.is_empty()
            && players.choice.iter().all(has)
            && players.add_on.as_ref().is_none_or(|add_on| self.add_ons.contains(add_on))
    }
}

impl fmt::Display for Chosen {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let list = |options: &BTreeSet<Name>| match options.is_empty() {
            true => NO_OPTION.to_owned(),
            false => options.iter().map(Name::as_str).collect::<Vec<_>>().join(","),
        };
        let choices = self.choices.iter().map(|(choice, options)| format!("{choice}={}", list(options)));
        let add_ons = self.add_ons.iter().map(|add_on| format!("add-on {add_on}"));
        f.write_str(&choices.chain(add_ons).collect::<Vec<_>>().join(", "))
    }
}

/// Returns the option that fits the first of some languages for which one does. Source: RFC 4647, section 3.4
/// ("Lookup"): a language tag is cut from its end, part by part, until there is an option of its name; a single letter
/// that is then at the end goes, too. Letter case does not count.
fn for_languages<'a>(languages: &[String], options: &BTreeSet<&'a Name>) -> Option<&'a Name> {
    languages.iter().find_map(|language| {
        let tag = language.to_ascii_lowercase();
        let mut parts: Vec<&str> = tag.split('-').collect();
        while !parts.is_empty() {
            let wanted = parts.join("-");
            if let Some(found) = options.iter().find(|option| option.as_str() == wanted) {
                return Some(*found);
            }
            parts.pop();
            while parts.last().is_some_and(|part| part.len() == 1) {
                parts.pop();
            }
        }
        None
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::notes::is_language;

    fn name(text: &str) -> Name {
        text.parse().unwrap()
    }

    fn players(choice: &[(&str, &str)], add_on: Option<&str>) -> Players {
        Players {
            choice: choice.iter().map(|(c, o)| (name(c), name(o))).collect(),
            add_on: add_on.map(name),
            ..Players::default()
        }
    }

    #[test]
    fn who_gets_a_depot_may_be_known_to_a_newer_lantern_alone() {
        let text = r#"{"choice":{"voices":"fr"},"region":["north"]}"#;
        let newer: Players = serde_json::from_str(text).unwrap();
        assert_eq!(serde_json::to_string(&newer).unwrap(), text);
        assert!(!newer.are_all());
        assert_eq!(newer.to_string(), "voices=fr, region (known to a newer lantern)");
        let only: Players = serde_json::from_str(r#"{"region":["north"]}"#).unwrap();
        assert!(!only.are_all() && !Chosen::default().takes(&only) && Chosen::default().takes(&Players::default()));
    }

    fn asked(choices: &[(&str, &[&str])], add_ons: Option<&[&str]>) -> Asked {
        let set = |names: &[&str]| names.iter().map(|n| name(n)).collect::<BTreeSet<Name>>();
        Asked { choices: choices.iter().map(|(c, o)| (name(c), set(o))).collect(), add_ons: add_ons.map(set) }
    }

    /// Voices in three languages, French textures in two sizes, an add-on, and an add-on's own voices.
    fn offered() -> Vec<Players> {
        vec![
            Players::default(),
            players(&[("voices", "fr")], None),
            players(&[("voices", "ja")], None),
            players(&[("voices", "pt")], None),
            players(&[("textures", "large")], None),
            players(&[], Some("songs")),
            players(&[("voices", "ja")], Some("songs")),
        ]
    }

    fn choose(asked: &Asked, before: Option<&Chosen>, languages: &[&str]) -> Result<Chosen, NotOffered> {
        let offered = offered();
        let defaults = Choices::from([(name("voices"), DefaultOption::ByLanguage)]);
        let languages: Vec<String> = languages.iter().map(|l| (*l).to_owned()).collect();
        Chosen::of(&offered.iter().collect::<Vec<_>>(), &defaults, asked, before, &languages)
    }

    fn taken(chosen: &Chosen) -> String {
        let taken = offered().into_iter().filter(|players| chosen.takes(players));
        taken.map(|players| players.to_string()).collect::<Vec<_>>().join("; ")
    }

    #[test]
    fn the_default_decides_for_those_who_say_nothing() {
        for (languages, expected) in [
            (&["fr-CA", "ja"] as &[&str], "all; voices=fr"),
            (&["de-DE", "ja-JP"], "all; voices=ja"),
            (&["pt-BR"], "all; voices=pt"),
            (&["PT"], "all; voices=pt"),
            (&["f-r"], "all"),
            (&["de"], "all"),
            (&[], "all"),
        ] {
            assert_eq!(taken(&choose(&Asked::default(), None, languages).unwrap()), expected, "{languages:?}");
        }
    }

    #[test]
    fn what_is_chosen_counts_and_is_kept() {
        let first = choose(&asked(&[("voices", &["fr", "ja"])], Some(&["songs"])), None, &["pt"]).unwrap();
        assert_eq!(taken(&first), "all; voices=fr; voices=ja; add-on songs; voices=ja, add-on songs");
        let second = choose(&asked(&[("textures", &["large"])], None), Some(&first), &["pt"]).unwrap();
        assert_eq!(second.to_string(), "textures=large, voices=fr,ja, add-on songs");
        let none = choose(&asked(&[("voices", &[])], Some(&[])), Some(&second), &["pt"]).unwrap();
        assert_eq!(taken(&none), "all; textures=large");
        let kept = choose(&Asked::default(), Some(&none), &["pt"]).unwrap();
        assert_eq!(kept, none, "none was chosen, and the default does not decide again");
    }

    #[test]
    fn what_is_gone_is_decided_again() {
        let before = Chosen {
            choices: BTreeMap::from([(name("voices"), BTreeSet::from([name("de")]))]),
            add_ons: BTreeSet::from([name("maps")]),
        };
        assert_eq!(taken(&choose(&Asked::default(), Some(&before), &["ja"]).unwrap()), "all; voices=ja");
    }

    #[test]
    fn what_is_not_offered_is_named_with_what_is() {
        let error = |wanted: &Asked| choose(wanted, None, &[]).unwrap_err();
        let there = vec![name("textures"), name("voices")];
        assert_eq!(error(&asked(&[("voice", &["fr"])], None)), NotOffered::Choice { choice: name("voice"), there });
        let (choice, option, there) = (name("voices"), name("de"), vec![name("fr"), name("ja"), name("pt")]);
        assert_eq!(error(&asked(&[("voices", &["fr", "de"])], None)), NotOffered::Option { choice, option, there });
        let there = vec![name("songs")];
        assert_eq!(error(&asked(&[], Some(&["maps"]))), NotOffered::AddOn { add_on: name("maps"), there });
    }

    #[test]
    fn defaults_are_words() {
        for text in ["none", "by-language", "fr"] {
            let default: DefaultOption = text.parse().unwrap();
            assert_eq!(serde_json::to_string(&default).unwrap(), format!("{text:?}"));
            assert_eq!(serde_json::from_str::<DefaultOption>(&format!("{text:?}")).unwrap(), default);
        }
        assert!("Fr anglais".parse::<DefaultOption>().is_err());
        assert!(is_language("pt-br") && is_language("ja") && !is_language("fr_FR") && !is_language("languages"));
    }
}
