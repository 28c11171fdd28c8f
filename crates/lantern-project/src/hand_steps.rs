//! The steps of an action by hand, with everything put in that is known of the release.

use lantern_core::board::KnownRelease;
use lantern_core::by_hand::StepRule;
use lantern_core::names::Handle;
use lantern_core::step::Step;
use lantern_core::template::Values;

use crate::ProjectError;
use crate::hand_rules::Hand;
use crate::push::PushTexts;
use crate::storefronts::OpenStorefront;
use crate::workspace::Session;

impl Session {
    /// What the texts of rules can name of a release.
    pub(crate) fn hand_values(
        &self,
        at: &OpenStorefront,
        release: &KnownRelease,
        name_there: Option<&Handle>,
        texts: &PushTexts,
    ) -> Values {
        let game = &self.project().config().game;
        let name = &at.reference.name;
        let mut values = Values::of(&game.name, &game.identity, &release.edition, &release.name, name);
        values.set("game.name", self.project().edition_name(&release.edition));
        let version = release.name.version.to_string();
        values.set("release.name-there", name_there.map_or(version, |name| name.as_str().to_owned()));
        values.set("release.id", release.id.to_string());
        values.set("message", texts.message.clone().unwrap_or_default());
        for name in ["branch", "because", "before.version", "before.number-there", "release.number-there"] {
            values.set(name, "");
        }
        if let Some(hand) = &at.hand {
            hand.add_values(name, &texts.notes, &mut values);
        }
        values
    }

    /// The steps of an action about a release that is there.
    pub(crate) fn steps_of(
        &self,
        at: &OpenStorefront,
        release: &KnownRelease,
        number_there: Option<u64>,
        of: impl Fn(&Hand) -> &[StepRule],
        more: impl FnOnce(&mut Values),
    ) -> Result<Vec<Step>, ProjectError> {
        let Some(hand) = &at.hand else { return Ok(Vec::new()) };
        let board = self.workspace.board(&release.edition)?;
        let pushed = board.pushed.iter().rfind(|p| p.release == release.id && p.storefront.is_at(&at.reference.key()));
        let texts = PushTexts {
            message: pushed.and_then(|pushed| pushed.message.clone()),
            notes: pushed.map(|pushed| pushed.notes.clone()).unwrap_or_default(),
        };
        let mut values = self.hand_values(at, release, pushed.and_then(|pushed| pushed.name_there.as_ref()), &texts);
        for (target, number) in pushed.iter().flat_map(|pushed| &pushed.numbers) {
            values.set(format!("release.number-there.{target}"), number.to_string());
        }
        if let Some(number) = number_there {
            values.set("release.number-there", number.to_string());
        }
        values.set("hand-over.files", "");
        values.set("hand-over.digests", "");
        more(&mut values);
        Ok(hand.steps(of(hand), &values))
    }
}
