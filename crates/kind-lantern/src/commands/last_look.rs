use lantern_core::version::ReleaseAsked;
use lantern_views::last_look;

use super::Done;
use crate::diagnostic::CommandError;
use crate::options::EditionArg;
use crate::ui::Ui;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern last-look
  lantern last-look 1.4.0 --answer 1=yes --answer 2=no"#;

/// Answer the studio's own questions for a release
///
/// They stand in lantern.toml: [last-look] questions. Who said yes to what is recorded; a branch with needs = ["last-look"]
/// takes a release when every question is answered with yes. Another release is asked for again.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// Which release: 1.4.0, 27, or "1.4.0 (27)". Left out: the newest
    #[arg(value_parser = super::release_asked)]
    release: Option<ReleaseAsked>,
    /// An answer to a question by its number, as NUMBER=yes or NUMBER=no; may be given several times
    #[arg(long, value_name = "NUMBER=ANSWER", value_parser = answer)]
    answer: Vec<(usize, bool)>,
    #[command(flatten)]
    pub edition: EditionArg,
}

fn answer(text: &str) -> Result<(usize, bool), String> {
    let wrong = || "write it as 1=yes or 1=no".to_owned();
    let (number, answer) = text.split_once('=').ok_or_else(wrong)?;
    let yes = match answer {
        "yes" | "y" => true,
        "no" | "n" => false,
        _ => return Err(wrong()),
    };
    Ok((number.parse().map_err(|_| wrong())?, yes))
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    let open = super::open(ui)?;
    let release = open.release(args.release.as_ref())?;
    let looks = open.looks(&release)?;
    drop(open);
    if looks.is_empty() {
        let fix = "write [last-look] with questions = [\"…\"]";
        return Err(CommandError::usage("lantern.toml has no questions for a last look", fix));
    }
    if let Some((number, _)) = args.answer.iter().find(|(number, _)| !(1..=looks.len()).contains(number)) {
        return Err(CommandError::usage(
            format!("there is no question {number}"),
            format!("there are {}", looks.len()),
        ));
    }
    ui.show(&last_look::title(&release.name));
    if args.answer.is_empty() && ui.can_ask() {
        let is_open = |look: &&lantern_project::Look| !look.answer.as_ref().is_some_and(|answer| answer.yes);
        let count = looks.iter().filter(is_open).count();
        for (at, look) in (1..).zip(looks.iter().filter(is_open)) {
            let question = format!("  {at} of {count}   {} (y/n)", lantern_core::path::shown(&look.question));
            let yes = super::ask_yes_or_no(ui, &question, "your answer", "--answer")?;
            // Each answer is kept at once: what was said is not lost when the next one is interrupted.
            super::lock_waiting(ui)?.answer_look(&release, &look.question, yes)?;
        }
        if count > 0 {
            ui.say("");
        }
    }
    let mut session = super::lock_waiting(ui)?;
    for (number, yes) in &args.answer {
        if let Some(look) = looks.get(number - 1) {
            session.answer_look(&release, &look.question, *yes)?;
        }
    }
    let looks = session.workspace().looks(&release)?;
    let view = last_look::view(&release.name, &looks, lantern_project::now());
    ui.answer(&last_look::document(&release.name, &looks), &view);
    if last_look::is_done(&looks) { super::next(session.workspace(), ui, super::ASK_THEM) } else { Ok(()) }
}
