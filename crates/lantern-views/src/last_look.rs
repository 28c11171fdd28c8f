//! The studio's own questions, answered for a release.

use jiff::Timestamp;
use lantern_core::path::shown;
use lantern_core::version::ReleaseName;
use lantern_project::Look;
use serde::Serialize;

use crate::format;
use crate::paint::{bad, faint, good, strong};
use crate::view::{Next, View};

/// What `lantern last-look --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    release: &'a ReleaseName,
    questions: Vec<QuestionDocument<'a>>,
    /// Whether every question is answered with yes.
    done: bool,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct QuestionDocument<'a> {
    question: &'a str,
    /// Null while nobody answered.
    yes: Option<bool>,
    by: Option<&'a str>,
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    at: Option<Timestamp>,
}

/// Every question with its answer.
pub fn document<'a>(release: &'a ReleaseName, looks: &'a [Look]) -> Document<'a> {
    let question = |look: &'a Look| QuestionDocument {
        question: &look.question,
        yes: look.answer.as_ref().map(|answer| answer.yes),
        by: look.answer.as_ref().map(|answer| answer.by.as_str()),
        at: look.answer.as_ref().map(|answer| answer.at),
    };
    Document {
        schema: "lantern.last-look/1",
        release,
        questions: looks.iter().map(question).collect(),
        done: is_done(looks),
    }
}

/// Whether every question is answered with yes.
pub fn is_done(looks: &[Look]) -> bool {
    looks.iter().all(|look| look.answer.as_ref().is_some_and(|answer| answer.yes))
}

/// What is looked at.
pub fn title(release: &ReleaseName) -> View {
    let mut view = View::default();
    view.say(format!("Last look at {}\n", strong(release)));
    view
}

/// The same as a list, numbered as the option counts them.
pub fn view(release: &ReleaseName, looks: &[Look], now: Timestamp) -> View {
    let mut view = View::default();
    for (number, look) in (1..).zip(looks) {
        let (mark, who) = match &look.answer {
            None => (faint("?  "), String::new()),
            Some(answer) => {
                let mark = if answer.yes { good("yes") } else { bad("no ") };
                (mark, format!("   {}", faint(format!("by {}, {}", shown(&answer.by), format::ago(answer.at, now)))))
            }
        };
        view.sentence(format!("  {number}  {mark}  "), 10, format!("{}{who}", shown(&look.question)));
    }
    if !is_done(looks) {
        view.next(Next::of(format!("lantern last-look {}", release.number), "asks again what is not a yes"));
    }
    view
}
