//! What titles hold, as those who make the game bring and read it.

use std::sync::Arc;

use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use lantern_core::digest::RecipeId;
use lantern_storefront::protocol::{PackReceived, RecipeNeeds, problem};

use super::request::{Answer, Shared, hex, needed_range, parse, part_of_pack, wait};
use crate::refusal::Refused;
use crate::stand_in::{Incoming, StandIn};

pub(super) async fn put_recipe(
    State(stand_in): Shared,
    Path((title, recipe)): Path<(String, String)>,
    body: Bytes,
) -> Answer<RecipeNeeds> {
    let (title, id) = (parse(&title, "the title")?, RecipeId(hex(&recipe)?));
    wait(move || Ok(Json(stand_in.put_recipe(&title, id, &body)?))).await
}

pub(super) async fn get_recipe(
    State(stand_in): Shared,
    Path((title, recipe)): Path<(String, String)>,
) -> Result<Vec<u8>, Refused> {
    let (title, id) = (parse(&title, "the title")?, RecipeId(hex(&recipe)?));
    wait(move || stand_in.get_recipe(&title, id)).await
}

pub(super) async fn put_segment(
    State(stand_in): Shared,
    Path((title, digest)): Path<(String, String)>,
    body: Bytes,
) -> Result<StatusCode, Refused> {
    let (title, digest) = (parse(&title, "the title")?, hex(&digest)?);
    wait(move || stand_in.put_segment(&title, &digest, &body)).await?;
    Ok(StatusCode::NO_CONTENT)
}

pub(super) async fn get_segment(
    State(stand_in): Shared,
    Path((title, digest)): Path<(String, String)>,
) -> Result<Vec<u8>, Refused> {
    let (title, digest) = (parse(&title, "the title")?, hex(&digest)?);
    wait(move || stand_in.get_segment(&title, &digest)).await
}

pub(super) async fn put_pack(
    State(stand_in): Shared,
    headers: HeaderMap,
    Path((title, digest)): Path<(String, String)>,
    body: Bytes,
) -> Result<Response, Refused> {
    put_large(stand_in, &headers, &title, Incoming::Pack(hex(&digest)?), body).await
}

pub(super) async fn put_update(
    State(stand_in): Shared,
    headers: HeaderMap,
    Path((title, from, to)): Path<(String, String, String)>,
    body: Bytes,
) -> Result<Response, Refused> {
    put_large(stand_in, &headers, &title, Incoming::Update(RecipeId(hex(&from)?), RecipeId(hex(&to)?)), body).await
}

/// Takes something at once, or a piece of it.
async fn put_large(
    stand_in: Arc<StandIn>,
    headers: &HeaderMap,
    title: &str,
    what: Incoming,
    body: Bytes,
) -> Result<Response, Refused> {
    let title = parse(title, "the title")?;
    let Some(range) = headers.get(header::CONTENT_RANGE) else {
        wait(move || stand_in.put_whole(&title, what, &body)).await?;
        return Ok(StatusCode::NO_CONTENT.into_response());
    };
    let fix = "send Content-Range: bytes FIRST-LAST/TOTAL with as many bytes";
    let malformed = || Refused::new(problem::MALFORMED, "the piece does not match its Content-Range", fix);
    let piece = range.to_str().ok().and_then(content_range).ok_or_else(malformed)?;
    if piece.last - piece.first + 1 != body.len() as u64 {
        return Err(malformed());
    }
    let at = wait(move || stand_in.put_piece(&title, what, piece, &body)).await?;
    let status = if at.whole { StatusCode::OK } else { StatusCode::ACCEPTED };
    Ok((status, Json(at)).into_response())
}

/// Which bytes of how many come, as RFC 9110, section 14.4, writes it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct PieceRange {
    pub first: u64,
    pub last: u64,
    pub total: u64,
}

pub(super) fn content_range(text: &str) -> Option<PieceRange> {
    let (range, total) = text.strip_prefix("bytes ")?.split_once('/')?;
    let (first, last) = range.split_once('-')?;
    let piece = PieceRange { first: first.parse().ok()?, last: last.parse().ok()?, total: total.parse().ok()? };
    (piece.first <= piece.last && piece.last < piece.total).then_some(piece)
}

pub(super) async fn pack_received(
    State(stand_in): Shared,
    Path((title, digest)): Path<(String, String)>,
) -> Answer<PackReceived> {
    let (title, what) = (parse(&title, "the title")?, Incoming::Pack(hex(&digest)?));
    wait(move || Ok(Json(stand_in.received(&title, what)?))).await
}

pub(super) async fn update_received(
    State(stand_in): Shared,
    Path((title, from, to)): Path<(String, String, String)>,
) -> Answer<PackReceived> {
    let what = Incoming::Update(RecipeId(hex(&from)?), RecipeId(hex(&to)?));
    let title = parse(&title, "the title")?;
    wait(move || Ok(Json(stand_in.received(&title, what)?))).await
}

pub(super) async fn get_pack(
    State(stand_in): Shared,
    headers: HeaderMap,
    Path((title, digest)): Path<(String, String)>,
) -> Result<Response, Refused> {
    let (title, digest) = (parse(&title, "the title")?, hex(&digest)?);
    let (first, last) = needed_range(&headers)?;
    wait(move || part_of_pack(&stand_in.store_for_makers(&title)?, &digest, first, last)).await
}

pub(super) async fn get_locator(
    State(stand_in): Shared,
    Path((title, segment)): Path<(String, String)>,
) -> Result<Vec<u8>, Refused> {
    let (title, segment) = (parse(&title, "the title")?, hex(&segment)?);
    wait(move || stand_in.get_locator(&title, &segment)).await
}
