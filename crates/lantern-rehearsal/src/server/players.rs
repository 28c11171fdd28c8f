//! What players get, without access.

use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, header};
use axum::response::Response;
use lantern_core::digest::RecipeId;
use lantern_storefront::protocol::{FOLDER, INVITATION, Play, problem};

use super::request::{Answer, Shared, branch_at, hex, needed_range, part_of, part_of_pack, wait};
use crate::api::allow;
use crate::refusal::Refused;
use crate::stand_in::{Asked, Asker, StandIn, not_there};

/// Who asks for a player's part. Access that does not hold is an error of its own: anyone who has some can renew it.
pub(super) fn asker(stand_in: &StandIn, headers: &HeaderMap) -> Result<Asker, Refused> {
    let text = |name: &str| headers.get(name).and_then(|v| v.to_str().ok()).map(str::to_owned);
    let is_maker = headers.contains_key(header::AUTHORIZATION);
    if is_maker {
        allow(stand_in, headers, "read")?;
    }
    Ok(Asker { is_maker, invitation: text(INVITATION), folder: text(FOLDER) })
}

pub(super) async fn play(
    State(stand_in): Shared,
    headers: HeaderMap,
    Path((title, branch)): Path<(String, String)>,
) -> Answer<Play> {
    let asker = asker(&stand_in, &headers)?;
    let (title, branch) = branch_at(&title, &branch)?;
    wait(move || Ok(Json(stand_in.play(&title, &branch, &asker)?))).await
}

pub(super) async fn play_recipe(
    State(stand_in): Shared,
    headers: HeaderMap,
    Path((title, branch, recipe)): Path<(String, String, String)>,
) -> Result<Vec<u8>, Refused> {
    let (asker, id) = (asker(&stand_in, &headers)?, RecipeId(hex(&recipe)?));
    let (title, branch) = branch_at(&title, &branch)?;
    wait(move || {
        stand_in.store_for_players(&title, &branch, Asked::Recipe(id), &asker)?.recipe_bytes(id).map_err(not_there)
    })
    .await
}

pub(super) async fn play_locator(
    State(stand_in): Shared,
    headers: HeaderMap,
    Path((title, branch, segment)): Path<(String, String, String)>,
) -> Result<Vec<u8>, Refused> {
    let (asker, segment) = (asker(&stand_in, &headers)?, hex(&segment)?);
    let (title, branch) = branch_at(&title, &branch)?;
    wait(move || {
        let store = stand_in.store_for_players(&title, &branch, Asked::Segment(segment), &asker)?;
        store.locator_bytes(&segment).map_err(not_there)
    })
    .await
}

pub(super) async fn play_segment(
    State(stand_in): Shared,
    headers: HeaderMap,
    Path((title, branch, digest)): Path<(String, String, String)>,
) -> Result<Vec<u8>, Refused> {
    let (asker, digest) = (asker(&stand_in, &headers)?, hex(&digest)?);
    let (title, branch) = branch_at(&title, &branch)?;
    wait(move || {
        let store = stand_in.store_for_players(&title, &branch, Asked::Segment(digest), &asker)?;
        store.segment_bytes(&digest).map_err(not_there)
    })
    .await
}

pub(super) async fn play_pack(
    State(stand_in): Shared,
    headers: HeaderMap,
    Path((title, branch, digest)): Path<(String, String, String)>,
) -> Result<Response, Refused> {
    let asker = asker(&stand_in, &headers)?;
    let ((title, branch), digest) = (branch_at(&title, &branch)?, hex(&digest)?);
    let (first, last) = needed_range(&headers)?;
    wait(move || {
        let store = stand_in.store_for_players(&title, &branch, Asked::Range(digest, first, last), &asker)?;
        part_of_pack(&store, &digest, first, last)
    })
    .await
}

/// An update file holds what the new build has and, to those who know it, what the old one had: so both must be for the one who asks.
pub(super) async fn play_update(
    State(stand_in): Shared,
    headers: HeaderMap,
    Path((title, branch, from, to)): Path<(String, String, String, String)>,
) -> Result<Response, Refused> {
    let asker = asker(&stand_in, &headers)?;
    let ((title, branch), from, to) = (branch_at(&title, &branch)?, RecipeId(hex(&from)?), RecipeId(hex(&to)?));
    let (first, last) = needed_range(&headers)?;
    wait(move || {
        stand_in.store_for_players(&title, &branch, Asked::Recipe(from), &asker)?;
        let store = stand_in.store_for_players(&title, &branch, Asked::Recipe(to), &asker)?;
        let len = store.update_len(from, to).filter(|len| *len > 0);
        let none = || Refused::new(problem::NOT_FOUND, "there is no such update file", "take the chunks");
        part_of(len.ok_or_else(none)?, first, last, |len| {
            store.read_update(from, to, u64::from(first), len).map_err(not_there)
        })
    })
    .await
}
