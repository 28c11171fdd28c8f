use lantern_core::version::ReleaseAsked;
use lantern_views::release_shown;

use super::super::{Done, open};
use crate::ui::Ui;

pub fn run(asked: &ReleaseAsked, with_files: bool, ui: &Ui) -> Done {
    let open = open(ui)?;
    let shown = open.show(open.release(Some(asked))?)?;
    let files = if with_files { open.files_of(&shown)? } else { Vec::new() };
    ui.answer(&release_shown::document(&shown, &files), &release_shown::view(&shown, &files, &open.project));
    Ok(())
}
