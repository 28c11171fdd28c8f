//! The values of a file of rules: each is checked, and reported with its place and fix.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::OnceLock;

use jiff::SignedDuration;
use serde_json::Value;

use super::{HandForm, HandOver, HandRules, MAX_STEPS, StepRule, Steps, raw};
use crate::config::ConfigKey;
use crate::config::shape::Shape;
use crate::finding::{Code, Finding, Severity, TextPlace};
use crate::names::{Name, nearest};
use crate::notes::is_language;
use crate::path::shown;
use crate::patterns::Patterns;
use crate::step::{NUMBER_OF, ReadBack, length_of_time};
use crate::template::{FILE_NAME, Known, STEP, Template};

use ConfigKey::{Item, Key as K};

/// What of the project the rules refer to.
#[derive(Debug, Clone, Copy)]
pub struct Around<'a> {
    /// The targets that go there.
    pub targets: &'a BTreeSet<Name>,
    /// What `values = { … }` has.
    pub values: &'a BTreeMap<String, String>,
}

/// Returns the JSON Schema (2020-12) of the file, for editors.
pub fn schema() -> Value {
    schemars::schema_for!(raw::Rules).to_value()
}

impl HandRules {
    /// Reads and checks rules; `file` is how the file is named in findings.
    ///
    /// # Errors
    /// Every finding, in the order of the text; never empty.
    pub fn read(file: &str, text: &str, around: Around<'_>) -> Result<Self, Vec<Finding>> {
        static SCHEMA: OnceLock<Value> = OnceLock::new();
        let mut shape = Shape::read_as(text, SCHEMA.get_or_init(schema));
        let mut findings = shape.findings(file, text);
        let raw = shape.values((file, text), "docs/by-hand.md", &mut findings);
        let mut check = Check { file, text, shape: &shape, around, findings };
        let rules = raw.map(|raw| check.resolve(raw));
        let mut findings = check.findings;
        findings.sort_by_key(|f| f.place.as_ref().map_or((usize::MAX, 0), |p| (p.line, p.column)));
        match rules {
            Some(rules) if findings.is_empty() => Ok(rules),
            _ => Err(findings),
        }
    }

    /// The rules of a storefront about which nothing was written.
    pub fn plain(around: Around<'_>) -> Self {
        Self::read("", "", around).expect("the rules of an empty file are valid")
    }

    /// What is handed over of a target.
    pub fn hand_over_of(&self, target: &Name) -> Option<&HandOver> {
        let of = |wanted: Option<&Name>| self.hand_over.iter().find(|(of, _)| of.as_ref() == wanted);
        of(Some(target)).or_else(|| of(None)).map(|(_, hand_over)| hand_over)
    }
}

struct Check<'a> {
    file: &'a str,
    text: &'a str,
    shape: &'a Shape<'a>,
    around: Around<'a>,
    findings: Vec<Finding>,
}

impl Check<'_> {
    fn stop(&mut self, at: &[ConfigKey<'_>], code: Code, what: impl Into<String>, fix: impl Into<String>) {
        let place = TextPlace::of(self.file, self.text, self.shape.span(at));
        self.findings.push(Finding::of(code, what, fix).with_severity(Severity::Error).at(place));
    }

    fn resolve(&mut self, raw: raw::Rules) -> HandRules {
        let usual_wait = self.duration(&[K("usual-wait")], raw.usual_wait.as_deref());
        let mut hand_over: Vec<(Option<Name>, HandOver)> = Vec::new();
        for (of, raw) in &raw.hand_over {
            let at = [K("hand-over"), K(of)];
            let target = if of == "*" { None } else { self.goes_there(&at, of, "\"*\" for all; ") };
            if of == "*" || target.is_some() {
                let found = self.hand_over(&at, raw);
                hand_over.push((target, found));
            }
        }
        if !hand_over.iter().any(|(of, _)| of.is_none()) {
            let found = self.hand_over(&[], &raw::HandOver::default());
            hand_over.push((None, found));
        }
        let steps = Steps {
            push: self.steps("push", &raw.steps.push, PUSH),
            promote: self.steps("promote", &raw.steps.promote, PROMOTE),
            rollback: self.steps("rollback", &raw.steps.rollback, ROLLBACK),
            withdraw: self.steps("withdraw", &raw.steps.withdraw, WITHDRAW),
        };
        if raw.one_at_a_time {
            let marked = |is_it: fn(&StepRule) -> bool| steps.push.iter().chain(&steps.promote).any(is_it);
            if !marked(|step| step.removes_old) || !marked(|step| step.brings_new) {
                let what = "the old file has to go first, but no step says that it removes the old one, or none that it \
                            brings the new one";
                let fix = "write removes-old = true and brings-new = true into the steps that do so";
                self.stop(&[K("one-at-a-time")], Code::InconsistentValues, what, fix);
            }
        }
        let live_on_push = match raw.live_on_push.as_deref().map(str::parse::<Name>) {
            None => None,
            Some(Ok(branch)) => Some(branch),
            Some(Err(error)) => {
                self.stop(&[K("live-on-push")], Code::WrongValue, error.to_string(), "write the name of a branch");
                None
            }
        };
        HandRules {
            notes_max: raw.notes_max,
            live_on_push,
            name: raw.name,
            address: raw.address,
            usual_wait,
            one_at_a_time: raw.one_at_a_time,
            hand_over,
            steps,
            accepted: raw.accepted,
            numbers: raw.numbers,
            branches: raw.branches,
        }
    }

    /// Returns the target of this name; `or` begins the fix where none is near, with what else could stand there.
    fn goes_there(&mut self, at: &[ConfigKey<'_>], text: &str, or: &str) -> Option<Name> {
        let found = self.around.targets.iter().find(|target| target.as_str() == text).cloned();
        if found.is_none() {
            let known: Vec<&str> = self.around.targets.iter().map(Name::as_str).collect();
            let fix = match nearest(text, known.iter().copied()) {
                Some(near) => format!("did you mean {near:?}?"),
                None => format!("{or}the targets that go there are {}", known.join(", ")),
            };
            self.stop(at, Code::UnknownTarget, format!("no target {:?} goes there", shown(text)), fix);
        }
        found
    }

    fn duration(&mut self, at: &[ConfigKey<'_>], text: Option<&str>) -> Option<SignedDuration> {
        let text = text?;
        match length_of_time(text) {
            Some(time) => Some(time),
            None => {
                let what = format!("{:?} is not a length of time of at most a year", shown(text));
                self.stop(at, Code::WrongValue, what, "write \"20 minutes\", \"6 days\" or \"2 weeks\"");
                None
            }
        }
    }

    fn template(&mut self, at: &[ConfigKey<'_>], text: &str, known: &'static Known) -> Option<Template> {
        match Template::read(text, known) {
            Ok(template) => {
                self.keyed_values(at, &template);
                Some(template)
            }
            Err(error) => {
                self.stop(at, Code::WrongValue, error.to_string(), error.fix());
                None
            }
        }
    }

    /// Finds values of the writer's own that are not there.
    fn keyed_values(&mut self, at: &[ConfigKey<'_>], template: &Template) {
        for name in template.names() {
            if let Some(target) = name.strip_prefix("release.number-there.") {
                self.goes_there(at, target, "");
            }
            match name.split_once('.') {
                Some(("values", key)) if !self.around.values.contains_key(key) => {
                    let what = format!("there is no value {:?} for this storefront", shown(key));
                    let fix = match nearest(key, self.around.values.keys().map(String::as_str)) {
                        Some(near) => format!("did you mean {{values.{near}}}?"),
                        None => format!("add it in lantern.toml: values = {{ {key} = \"…\" }}"),
                    };
                    self.stop(at, Code::UnknownKey, what, fix);
                }
                Some(("notes", language)) if !is_language(language) => {
                    let what = format!("{:?} is not a language", shown(language));
                    self.stop(at, Code::WrongValue, what, "write a language tag, such as {notes.en} or {notes.pt-BR}");
                }
                _ => {}
            }
        }
    }

    fn hand_over(&mut self, at: &[ConfigKey<'_>], raw: &raw::HandOver) -> HandOver {
        let below = |key: &'static str| -> Vec<ConfigKey<'_>> { [at, &[K(key)]].concat() };
        let form = raw.form.unwrap_or(HandForm::Zip);
        let plain = format!("{{game.name}} {{release.version}} {{target}}{}", form.ending());
        let name = raw.name.as_deref().unwrap_or(&plain);
        if !name.ends_with(form.ending()) {
            let what = format!("the name of such a file ends with {}", form.ending());
            self.stop(&below("name"), Code::InconsistentValues, what, format!("write \"{name}{}\"", form.ending()));
        }
        if form == HandForm::Package && (raw.top.is_some() || !raw.must_have.is_empty()) {
            let what = "a package is one file: nothing lies in a folder on top, or is looked for in it";
            self.stop(at, Code::InconsistentValues, what, "remove top and must-have");
        }
        let empty = || "".parse().expect("an empty text is a template");
        let must_have = match Patterns::new(raw.must_have.iter().map(String::as_str)) {
            Ok(patterns) => patterns,
            Err(error) => {
                let fix = "a pattern is a path with * (within a name), ** (any folders), ? and [a-z]";
                self.stop(&below("must-have"), Code::WrongPattern, error.to_string(), fix);
                Patterns::default()
            }
        };
        HandOver {
            form,
            name: self.template(&below("name"), name, &FILE_NAME).unwrap_or_else(empty),
            top: self.template(&below("top"), raw.top.as_deref().unwrap_or(""), &FILE_NAME).unwrap_or_else(empty),
            must_have,
        }
    }

    fn steps(&mut self, action: &'static str, raw: &[raw::Step], plain: Plain) -> Vec<StepRule> {
        let list = [K("steps"), K(action)];
        if raw.is_empty() {
            return vec![plain.rule()];
        }
        if raw.len() > MAX_STEPS {
            let what = format!("{} steps, at most {MAX_STEPS} are walked through", raw.len());
            self.stop(&list, Code::WrongValue, what, "put several of them into one");
            return Vec::new();
        }
        let keys: BTreeSet<&str> = raw.iter().flat_map(|step| &step.read_back).map(|back| back.key.as_str()).collect();
        let mut steps: Vec<StepRule> = Vec::new();
        let mut used: BTreeSet<Name> = BTreeSet::new();
        for (i, raw) in raw.iter().enumerate() {
            let at = [&list[..], &[Item(i)]].concat();
            let Some(step) = self.step(&at, raw, &keys) else { continue };
            if steps.iter().any(|known| known.id == step.id) {
                let what = format!("two steps of {action} have the id {}", step.id);
                self.stop(&[&at[..], &[K("id")]].concat(), Code::ListedTwice, what, "rename one of them");
            }
            for back in &step.read_back {
                if let Some(target) = back.key.as_str().strip_prefix(NUMBER_OF) {
                    self.goes_there(&[&at[..], &[K("read-back")]].concat(), target, "");
                }
                if !used.insert(back.key.clone()) {
                    let what = format!("{} is read back twice", back.key);
                    self.stop(&[&at[..], &[K("read-back")]].concat(), Code::ListedTwice, what, "rename one of them");
                }
            }
            steps.push(step);
        }
        steps
    }

    fn step(&mut self, at: &[ConfigKey<'_>], raw: &raw::Step, keys: &BTreeSet<&str>) -> Option<StepRule> {
        let below = |key: &'static str| -> Vec<ConfigKey<'_>> { [at, &[K(key)]].concat() };
        let id = match raw.id.parse::<Name>() {
            Ok(id) => Some(id),
            Err(error) => {
                let fix = "an id has lower-case letters, digits, - and _, such as \"upload\"";
                self.stop(&below("id"), Code::WrongValue, error.to_string(), fix);
                None
            }
        };
        let text = self.step_template(&below("text"), &raw.text, keys);
        let open = raw.open.as_ref().map(|open| self.step_template(&below("open"), open, keys));
        let mut paste = Vec::new();
        for (i, one) in raw.paste.iter().enumerate() {
            let at = [at, &[K("paste"), Item(i), K("text")]].concat();
            paste.extend(self.step_template(&at, &one.text, keys).map(|text| (one.field.clone(), text)));
        }
        let takes = self.duration(&below("takes"), raw.takes.as_deref());
        Some(StepRule {
            id: id?,
            text: text?,
            open: open.flatten(),
            files: raw.files,
            paste,
            read_back: raw.read_back.clone(),
            takes,
            by: raw.by.clone(),
            waits: raw.waits,
            removes_old: raw.removes_old,
            brings_new: raw.brings_new,
        })
    }

    fn step_template(&mut self, at: &[ConfigKey<'_>], text: &str, keys: &BTreeSet<&str>) -> Option<Template> {
        let template = self.template(at, text, &STEP)?;
        let lacking: Vec<String> = template
            .names()
            .filter_map(|name| name.strip_prefix("read-back."))
            .filter(|key| !keys.contains(key))
            .map(str::to_owned)
            .collect();
        for key in lacking {
            let fix = match nearest(&key, keys.iter().copied()) {
                Some(near) => format!("did you mean {{read-back.{near}}}?"),
                None => "write read-back = [{ key = \"…\", ask = \"…\" }] into a step before it".to_owned(),
            };
            self.stop(at, Code::UnknownKey, format!("no step reads {:?} back", shown(&key)), fix);
        }
        Some(template)
    }
}

/// The one step of an action about which nothing was written.
#[derive(Clone, Copy)]
struct Plain {
    id: &'static str,
    text: &'static str,
    files: bool,
    reads: bool,
}

const PUSH: Plain = Plain { id: "upload", text: "Upload the files to {storefront.name}.", files: true, reads: true };
const PROMOTE: Plain = Plain { id: "put-on", text: "Put {release.version} on {branch}.", files: false, reads: false };
const ROLLBACK: Plain =
    Plain { id: "put-back", text: "Put {release.version} back on {branch}.", files: false, reads: false };
const WITHDRAW: Plain =
    Plain { id: "take-away", text: "Take {release.version} away: {because}", files: false, reads: false };

impl Plain {
    fn rule(self) -> StepRule {
        let number = ReadBack {
            key: crate::step::NUMBER_THERE.parse().expect("it is a name"),
            ask: "The number that it has there, if it has one".to_owned(),
            form: crate::step::AnswerForm::Digits,
            optional: true,
        };
        StepRule {
            id: self.id.parse().expect("it is a name"),
            text: Template::read(self.text, &STEP).expect("it is a template"),
            open: Some(Template::read("{storefront.address}", &STEP).expect("it is a template")),
            files: self.files,
            paste: Vec::new(),
            read_back: if self.reads { vec![number] } else { Vec::new() },
            takes: None,
            by: None,
            waits: false,
            removes_old: false,
            brings_new: false,
        }
    }
}
