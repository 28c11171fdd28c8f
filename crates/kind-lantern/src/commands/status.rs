//! `lantern` alone: where the game stands and the one next step.

use lantern_views::status::{self, Standing};

use super::Done;
use crate::ui::Ui;

pub fn run(ui: &Ui) -> Done {
    let open = super::open(ui)?;
    let editions = open.project.editions();
    let standing = |edition| -> Result<_, lantern_project::ProjectError> {
        Ok(Standing { edition, game: open.project.edition_name(edition), status: open.status(edition)? })
    };
    let all = editions.iter().map(standing).collect::<Result<Vec<_>, _>>()?;
    let view = status::view(&all, super::ASK_THEM, lantern_project::now());
    ui.answer(&status::document(&open.project.config().game.name, &all), &view);
    Ok(())
}
