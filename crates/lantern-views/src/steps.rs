//! What a person does by hand: the plan, the current step, the sheet with all steps.

use std::collections::BTreeMap;
use std::path::Path;

use jiff::Timestamp;
use lantern_core::by_hand::HandForm;
use lantern_core::event::{Action, EventBody, HandedOver, StepStanding, StepsBegun, StorefrontRef};
use lantern_core::names::{Handle, Name};
use lantern_core::path::shown;
use lantern_core::step::{AnswerForm, Paste, ReadBack, Step};
use lantern_core::version::ReleaseName;
use lantern_core::walk::{Gap, Walk};
use lantern_project::{CameOf, HandPush, NeedShown, OpenWalk, Project};
use serde::Serialize;

use crate::format;
use crate::paint::{bad, care, command, faint, good, strong};
use crate::shared::{for_players, say_of_exports, say_of_sealing};
use crate::table::Table;
use crate::view::View;

/// What `lantern confirm --json` prints, and part of what `push --json` does.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Document<'a> {
    schema: &'static str,
    /// Actions that people are doing, oldest first.
    actions: Vec<WalkDocument<'a>>,
}

/// An action that people are doing.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct WalkDocument<'a> {
    key: String,
    edition: &'a Name,
    storefront: &'a StorefrontRef,
    action: Word<'a>,
    release: &'a ReleaseName,
    /// Where its files were laid out, of a push.
    folder: Option<String>,
    hand_over: &'a [HandedOver],
    /// The step that comes next; null when all are done or left out.
    current: Option<&'a Name>,
    steps: Vec<StepDocument>,
    /// Whether it ended with this command.
    done: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    number_there: Option<u64>,
    /// The numbers of single targets there, where each has one of its own.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    per_target: BTreeMap<Name, u64>,
}

/// What is done, with its branch.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct Word<'a> {
    word: &'static str,
    branch: Option<&'a Name>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct StepDocument {
    #[serde(flatten)]
    step: Step,
    /// Null while nothing was said of it.
    said: Option<SaidDocument>,
}

#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct SaidDocument {
    #[serde(flatten)]
    standing: StepStanding,
    by: String,
    #[cfg_attr(test, schemars(with = "String"))]
    at: Timestamp,
}

fn word(begun: &StepsBegun) -> Word<'_> {
    match &begun.action {
        Action::Push => Word { word: "push", branch: None },
        Action::Promote { branch } => Word { word: "promote", branch: Some(branch) },
        Action::Rollback { branch } => Word { word: "rollback", branch: Some(branch) },
        Action::Withdraw { .. } => Word { word: "withdraw", branch: None },
        Action::Other(_) => Word { word: "other", branch: None },
    }
}

/// What people are doing.
pub fn document<'a>(walks: impl IntoIterator<Item = (&'a OpenWalk, Option<&'a EventBody>)>) -> Document<'a> {
    Document {
        schema: "lantern.steps/1",
        actions: walks.into_iter().map(|(open, end)| walk_document(open, end)).collect(),
    }
}

/// One action; `outcome` is what it came to.
pub fn walk_document<'a>(open: &'a OpenWalk, outcome: Option<&EventBody>) -> WalkDocument<'a> {
    let begun = &open.walk.begun;
    let said = |step: &Step| {
        let said = open.walk.standing(&step.id)?;
        Some(SaidDocument { standing: said.standing.clone(), by: said.by.clone(), at: said.at })
    };
    let steps = begun.steps.iter().map(|step| StepDocument { step: open.walk.shown(step), said: said(step) });
    WalkDocument {
        key: begun.key.to_string(),
        edition: &open.edition,
        storefront: &begun.storefront,
        action: word(begun),
        release: &begun.name,
        folder: open.folder.as_ref().map(|folder| folder.display().to_string()),
        hand_over: &begun.hand_over,
        current: open.walk.current().map(|step| &step.id),
        steps: steps.collect(),
        done: outcome.is_some(),
        number_there: match outcome {
            Some(EventBody::Pushed(pushed)) => Some(pushed.number_there),
            _ => None,
        },
        per_target: match outcome {
            Some(EventBody::Pushed(pushed)) => pushed.numbers.clone(),
            _ => BTreeMap::new(),
        },
    }
}

/// What an action by hand is, in a few words: `bring 1.4.0 (27) to old-pier by hand`.
pub fn action(begun: &StepsBegun) -> String {
    let (name, at) = (&begun.name, &begun.storefront.name);
    let how = if begun.connector { "through its connector" } else { "by hand" };
    match &begun.action {
        Action::Push => format!("bring {name} to {at} {how}"),
        Action::Promote { branch } => format!("put {name} on {branch} at {at} {how}"),
        Action::Rollback { branch } => format!("put {name} back on {branch} at {at} {how}"),
        Action::Withdraw { .. } => format!("take {name} away at {at} {how}"),
        Action::Other(_) => format!("do something with {name} at {at} {how} (written by a newer lantern)"),
    }
}

/// What bringing a release there takes.
pub fn plan(plan: &HandPush, project: &Project) -> View {
    let mut view = View::default();
    let edition = format::edition_word(project, &plan.release.edition);
    let (name, storefront) = (strong(&plan.release.name), strong(&plan.storefront_name));
    let how = if plan.connector { "through its connector" } else { "by hand" };
    view.say(format!("Bring {edition}{name} to {storefront} {how}\n"));
    let mut files = Table::default();
    files.head(["hand over", "", "files", "unpacked", "for"]);
    for file in &plan.files {
        let form = match file.form {
            HandForm::Folder => "folder",
            HandForm::Zip => "zip",
            HandForm::TarGz => "tar.gz",
            HandForm::Package => "package",
        };
        files.row([
            file.name.to_string(),
            faint(form),
            file.files.to_string(),
            format::bytes(file.size),
            faint(format::systems(&file.systems)),
        ]);
    }
    view.table(files);
    if !plan.connector {
        view.space();
        show_steps(&plan.steps, &mut view);
    }
    let mut facts = Table::default();
    if let Some(name) = plan.name_there.as_ref().map(Handle::as_str) {
        facts.row([faint("name there"), shown(name)]);
    }
    if !plan.left_here.is_empty() {
        facts.row([faint("not for this storefront"), format::names(&plan.left_here)]);
    }
    if let Some(message) = &plan.texts.message {
        facts.row([faint("for the team"), shown(message)]);
    }
    for (language, text) in plan.texts.notes.iter() {
        facts.row([faint(for_players(language)), shown(text)]);
    }
    if facts.rows().next().is_some() {
        view.space();
        view.table(facts);
    }
    if let Some((branch, audience)) = plan.live_on.as_ref().filter(|_| plan.already.is_none()) {
        let who = if audience.may_be_everyone() { care("everyone:") } else { faint("who:") };
        view.say(format!("\n  {who} players on {branch} get it with this push: there is no step in between"));
        show_needs(&plan.needs, &mut view);
    }
    if let Some(gap) = plan.gap {
        view.say(format!("  {} {}", care("careful:"), gap_sentence(gap)));
    }
    say_of_exports(plan.exports, &mut view);
    say_of_sealing(plan.release.warnings, &plan.release.unsigned, &mut view);
    view
}

/// Steps as a list, each with whose it is and how long it takes.
pub fn show_steps(steps: &[Step], view: &mut View) {
    let mut table = Table::default();
    table.head(["step", "", "takes", "who"]);
    for step in steps {
        let text = step.text.lines().next().unwrap_or_default();
        let takes = step.takes.map(|takes| format!("about {}", format::about(takes))).unwrap_or_default();
        table.row([step.id.to_string(), shown(text), takes, step.by.as_deref().map(shown).unwrap_or_default()]);
    }
    view.table(table);
}

/// What a branch needs of a release, each with the command that meets it.
pub fn show_needs(needs: &[NeedShown], view: &mut View) {
    for need in needs {
        let said = match &need.lacks {
            None => good("yes"),
            Some(lacks) => format!("{} {lacks} ({})", bad("no,"), need.fix),
        };
        view.say(format!("  {} {said}", faint(format!("needs {}:", need.need))));
    }
}

/// For how long players have nothing.
pub fn gap_sentence(gap: Gap) -> String {
    let least = if gap.is_known { "about " } else { "at least " };
    match (gap.ends, gap.seconds) {
        (true, 0) => "players have nothing between removing the old file and bringing the new one".to_owned(),
        (true, seconds) => format!("players have nothing for {least}{} in between", format::about(seconds)),
        (false, _) => "players have nothing from then on until it is put on a branch".to_owned(),
    }
}

/// That all of it is there.
pub fn already(plan: &HandPush, number: u64) -> View {
    let mut view = View::default();
    let (name, storefront) = (strong(&plan.release.name), &plan.storefront_name);
    view.say(format!("nothing to do: {name} is at {storefront} already; its number there is {number}"));
    view
}

/// The step that comes next, large, with what is copied numbered.
pub fn current(open: &OpenWalk, now: Timestamp) -> View {
    let mut view = View::default();
    let walk = &open.walk;
    let begun = &walk.begun;
    let Some(step) = walk.current() else { return view };
    let (at, count) = walk.place_of(&step.id);
    let title = capital(&action(begun));
    view.say(format!("\n{}   {}", strong(&title), faint(format!("step {at} of {count}"))));
    for step in begun.steps.iter().take(at - 1) {
        view.say(format!("  {}", settled(walk, step, now)));
    }
    let shown_step = walk.shown(step);
    view.say(format!("\n  {}", strong(&step.id)));
    for line in shown_step.text.lines() {
        view.sentence("  ", 2, shown(line));
    }
    view.space();
    let mut table = Table::default();
    if let Some(by) = &step.by {
        table.row([faint("for"), String::new(), shown(by)]);
    }
    if let Some(open) = &shown_step.open {
        table.row([faint("open"), String::new(), command(shown(open))]);
    }
    if let Some(folder) = open.folder.as_ref().filter(|_| step.files) {
        table.row([faint("files"), String::new(), command(shown(&relative(folder)))]);
        for file in &begun.hand_over {
            table.row([
                String::new(),
                String::new(),
                format!("{}  {}", shown(&file.name), faint(format::bytes(file.bytes))),
            ]);
        }
    }
    for (number, paste) in (1..).zip(&shown_step.paste) {
        for (i, line) in paste.text.lines().chain(paste.text.is_empty().then_some("")).enumerate() {
            let (field, number) =
                if i == 0 { (faint(shown(&paste.field)), format!("{number}")) } else { Default::default() };
            table.row([field, number, shown(line)]);
        }
    }
    for back in &step.read_back {
        table.row([faint("note"), String::new(), shown(&back.ask)]);
    }
    if let Some(takes) = step.takes {
        table.row([faint("takes"), String::new(), format!("about {}", format::about(takes))]);
    }
    view.table(table);
    if let Some((since, due)) = walk.waits_until() {
        let due = due.map_or(String::new(), |due| format!(", {}", format::due(due, now)));
        view.say(format!("  {} since {}{due}", care("waiting"), format::day(since)));
    }
    view
}

/// The folder from where the command runs, where it lies below it.
fn relative(folder: &Path) -> String {
    let here = std::env::current_dir().ok();
    let below = here.and_then(|here| folder.strip_prefix(here).ok().map(Path::to_owned));
    below.as_deref().unwrap_or(folder).display().to_string()
}

/// What was said of a step.
fn settled(walk: &Walk, step: &Step, now: Timestamp) -> String {
    let Some(said) = walk.standing(&step.id) else { return format!("{}   {}", step.id, faint("open")) };
    let who = faint(format!("by {}, {}", shown(&said.by), format::ago(said.at, now)));
    match &said.standing {
        StepStanding::Done { read_back } => {
            let answers: Vec<String> = read_back.iter().map(|(key, text)| format!("{key} {}", shown(text))).collect();
            let answers = if answers.is_empty() { String::new() } else { format!("{}   ", answers.join(", ")) };
            format!("{} {}   {answers}{who}", good("done"), step.id)
        }
        StepStanding::Skipped { because } => format!("{} {}   {}   {who}", care("left out"), step.id, shown(because)),
        StepStanding::Waiting { .. } => format!("{} {}   {who}", care("waits"), step.id),
        StepStanding::Reopened => format!("{}   {}", step.id, faint("open")),
        StepStanding::Other(_) => format!("{}   {}   {who}", step.id, faint("said by a newer lantern")),
    }
}

/// What an action came to.
pub fn outcome(begun: &StepsBegun, end: &EventBody) -> View {
    let mut view = View::default();
    let (name, at) = (strong(&begun.name), &begun.storefront.name);
    let say = if begun.connector { "" } else { ", as you say" };
    view.say(match end {
        EventBody::Pushed(pushed) => {
            let on = pushed.live_on.as_ref().map_or(String::new(), |branch| format!(", and live on {branch}"));
            format!(
                "\n{} {name} is at {at}{on}; its number there is {}{}",
                good("there:"),
                pushed.number_there,
                format::of_targets(pushed.numbers.iter().map(|(target, number)| (target, *number)))
            )
        }
        EventBody::Moved(moved) => {
            let word = if moved.restores.is_some() { "back:" } else { "live:" };
            format!("\n{} {name} on {} at {at}{say}", good(word), strong(&moved.facts.branch))
        }
        _ => format!("\n{} {name} at {at}{say}", good("withdrawn:")),
    });
    view
}

/// What `lantern wait APPROVAL --json` prints.
#[derive(Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct AnsweredDocument<'a> {
    schema: &'static str,
    approval: &'a str,
    /// Targets with an answer.
    answered: &'a [Name],
}

/// That a vendor has answered about everything that was handed over.
pub fn answered_document<'a>(approval: &'a str, answered: &'a [Name]) -> AnsweredDocument<'a> {
    AnsweredDocument { schema: "lantern.wait/1", approval, answered }
}

/// The same in a sentence.
pub fn answered(approval: &str) -> View {
    let mut view = View::default();
    view.say(format!("{} has answered", strong(shown(approval))));
    view
}

/// That a step waits for someone else.
pub fn waits(open: &OpenWalk, now: Timestamp) -> View {
    let mut view = View::default();
    if let (Some(step), Some((_, due))) = (open.walk.current(), open.walk.waits_until()) {
        let due = due.map_or_else(|| "nobody knows until when".to_owned(), |due| format::due(due, now));
        view.say(format!("\n{} {} at {}: {due}", care("waiting:"), step.id, open.walk.begun.storefront.name));
    }
    view
}

/// What came of a step that waited.
pub fn came_of_waiting(before: &OpenWalk, came: &CameOf) -> View {
    let mut view = View::default();
    let (name, storefront) = (&before.walk.begun.name, &before.walk.begun.storefront.name);
    let step = before.walk.current().map(|step| step.id.clone());
    view.say(match came {
        CameOf::Done => format!("{} {name} at {storefront}: every step is settled", good("done:")),
        CameOf::GivenUp { why } => format!("{} {name} at {storefront}: {why}", care("given up:")),
        CameOf::GoesOn(now) => match step.and_then(|step| Some((now.said.get(&step)?.clone(), step))) {
            Some((said, step)) => {
                format!("{step} at {storefront}: {} says that it is {}", said.by, how(&said.standing))
            }
            None => format!("{name} at {storefront}: it does not wait any more"),
        },
    });
    view
}

/// How a step stands, in a sentence.
fn how(standing: &StepStanding) -> &'static str {
    match standing {
        StepStanding::Done { .. } => "done",
        StepStanding::Skipped { .. } => "left out",
        StepStanding::Waiting { .. } => "waiting",
        StepStanding::Reopened => "open again",
        StepStanding::Other(_) => "something that a newer lantern knows",
    }
}

/// That a person stopped in the middle, or nobody is there to ask.
pub fn paused(open: &OpenWalk, sheets: &[String], now: Timestamp) -> View {
    let mut view = View::default();
    let name = &open.walk.begun.storefront.name;
    if let Some((_, due)) = open.walk.waits_until()
        && let Some(step) = open.walk.current()
    {
        let due = due.map_or(String::new(), |due| format!(", {}", format::due(due, now)));
        view.say(format!("\n{} {} at {name}{due}", care("waiting:"), step.id));
    } else if let Some(step) = open.walk.current() {
        let (at, count) = open.walk.place_of(&step.id);
        view.say(format!("\n{} before step {at} of {count}, {}", care("paused"), step.id));
    }
    let mut table = Table::default();
    for (i, sheet) in sheets.iter().enumerate() {
        table.row([if i == 0 { faint("all steps") } else { String::new() }, command(shown(sheet))]);
    }
    view.table(table);
    view.next(format!("lantern confirm {name}"));
    view
}

/// What was said of a step.
pub fn said(open: &OpenWalk, step: &Name, now: Timestamp) -> View {
    let mut view = View::default();
    if let Ok(step) = open.walk.step(step.as_str()) {
        view.say(settled(&open.walk, step, now));
    }
    view
}

/// That this was said before, and ended what was begun.
pub fn said_before(open: &OpenWalk) -> View {
    let mut view = View::default();
    view.say(format!("nothing to do: that was said before, and ended: to {}", action(&open.walk.begun)));
    view
}

/// That an action ended without a result.
pub fn given_up(open: &OpenWalk) -> View {
    let mut view = View::default();
    view.say(format!("given up: to {}; what was done there stays as it is", action(&open.walk.begun)));
    view
}

/// What the sheets of an action are called, without their endings: `1.4.0-27-push`.
pub fn file_stem(open: &OpenWalk) -> String {
    let begun = &open.walk.begun;
    let edition = if open.edition == Name::full_edition() { String::new() } else { format!("{}-", open.edition) };
    let word = word(begun);
    let branch = word.branch.map(|branch| format!("-{branch}")).unwrap_or_default();
    format!("{edition}{}-{}-{}{branch}", begun.name.version, begun.name.number, word.word)
}

fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |first| first.to_uppercase().chain(chars).collect())
}

/// What is asked for at the end of a step.
pub fn question(back: &ReadBack) -> String {
    let form = match back.form {
        AnswerForm::Text | AnswerForm::Other(_) => "",
        AnswerForm::Digits => " (digits)",
        AnswerForm::Address => " (an address)",
        AnswerForm::Date => " (a day, such as 2026-12-03)",
    };
    let optional = if back.optional { ", or nothing" } else { "" };
    format!("{}{form}{optional}:", shown(&back.ask))
}

/// The command that records that a step was done.
pub fn confirm_command(begun: &StepsBegun, step: &Step) -> String {
    let answers: BTreeMap<&Name, &ReadBack> = step.read_back.iter().map(|back| (&back.key, back)).collect();
    let answers: String = answers.keys().map(|key| format!(" --read-back {key}=…")).collect();
    format!("lantern confirm {} {}{answers}", begun.storefront.name, step.id)
}

/// All steps as text, to be printed or sent to the person who does them.
pub fn sheet(open: &OpenWalk) -> String {
    let begun = &open.walk.begun;
    let mut out = format!("{}\n", capital(&action(begun)));
    for file in &begun.hand_over {
        let digest = file.sha256.as_ref().map_or(String::new(), |sha256| format!("\n      SHA-256 {sha256}"));
        out += &format!("\n  {}   {}{digest}", shown(&file.name), format::bytes(file.bytes));
    }
    out += "\n";
    for (number, step) in (1..).zip(&begun.steps) {
        let step = open.walk.shown(step);
        let mark = if open.walk.is_settled(&step.id) { "x" } else { " " };
        out += &format!("\n[{mark}] {number}. {}\n", step.id);
        for line in step.text.lines() {
            out += &format!("    {}\n", shown(line));
        }
        let field = |name: &str, text: &str| format!("    {}: {}\n", shown(name), shown(text));
        out.extend(step.by.as_ref().map(|by| field("for", by)));
        out.extend(step.open.as_ref().map(|open| field("open", open)));
        for Paste { field: name, text } in &step.paste {
            match text.lines().collect::<Vec<_>>().as_slice() {
                [] => {}
                [one] => out += &field(name, one),
                lines => {
                    out += &format!("    {}:\n", shown(name));
                    for line in lines {
                        out += format!("      {}", shown(line)).trim_end();
                        out.push('\n');
                    }
                }
            }
        }
        for back in &step.read_back {
            out += &format!("    note: {} ________\n", question(back));
        }
        out += &format!("    then: {}\n", confirm_command(begun, &step));
    }
    out
}
