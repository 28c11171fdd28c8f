//! The number of the next release.

use lantern_core::names::Name;
use lantern_core::version::{BuildNumber, ReleaseName};
use lantern_project::NextNumberShown;
use serde::Serialize;

use crate::paint::{faint, good, strong};
use crate::view::View;

/// What `lantern number --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    next: BuildNumber,
    /// The highest that was taken so far.
    highest: Option<BuildNumber>,
    /// The storefront that showed the highest, where it was not taken here.
    seen_at: Option<&'a str>,
    /// What someone set it to, where that counts.
    set_to: Option<BuildNumber>,
    /// Numbers at storefronts that lie too far above to be followed without a word.
    far: Vec<FarDocument<'a>>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct FarDocument<'a> {
    storefront: &'a Name,
    #[serde(flatten)]
    name: &'a ReleaseName,
}

/// What the next number is, and why.
pub fn document(shown: &NextNumberShown) -> Document<'_> {
    Document {
        schema: "lantern.number/1",
        next: shown.next,
        highest: shown.highest,
        seen_at: shown.seen_at.as_deref(),
        set_to: shown.set_to,
        far: shown.far.iter().map(|far| FarDocument { storefront: &far.storefront.name, name: &far.name }).collect(),
    }
}

/// The same in sentences; `is_set` says that it was set just now.
pub fn view(shown: &NextNumberShown, is_set: bool) -> View {
    let mut view = View::default();
    let done = if is_set { good("set:") } else { String::new() };
    let line = format!("{done} the next release gets the number {}", strong(shown.next));
    view.say(line.trim_start());
    let why = match (shown.set_to, shown.highest, &shown.seen_at) {
        (Some(_), Some(highest), _) => format!("it was set; the highest so far is {highest}"),
        (Some(_), None, _) => "it was set; none was taken yet".to_owned(),
        (None, Some(highest), Some(storefront)) => format!("the highest so far is {highest}, seen at {storefront}"),
        (None, Some(highest), None) => format!("the highest so far is {highest}"),
        (None, None, _) => "none was taken yet".to_owned(),
    };
    view.say(format!("  {}", faint(why)));
    for far in &shown.far {
        let (storefront, name) = (&far.storefront.name, &far.name);
        view.say(format!("  {}", faint(format!("{storefront} has {name}, far above; numbers here do not follow it"))));
    }
    view
}
