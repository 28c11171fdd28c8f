//! Titles, and what happened at them.

use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::Response;
use lantern_core::names::Handle;
use lantern_storefront::protocol::{StorefrontEvents, Title, TitlePage, problem};
use serde::Deserialize;

use super::request::{Answer, Page, PageAsked, Shared, json, once, parse, wait};
use crate::refusal::Refused;

pub(super) async fn titles(State(stand_in): Shared, page: PageAsked) -> Answer<TitlePage> {
    let page = Page::of(page)?;
    wait(move || {
        let (titles, next) = page.cut(stand_in.titles()?, |title| title.handle.to_string())?;
        Ok(Json(TitlePage { titles, next }))
    })
    .await
}

pub(super) async fn title(State(stand_in): Shared, Path(title): Path<String>) -> Answer<Title> {
    let title: Handle = parse(&title, "the title")?;
    wait(move || Ok(Json(stand_in.title(&title)?))).await
}

pub(super) async fn make_title(State(stand_in): Shared, headers: HeaderMap, body: Bytes) -> Result<Response, Refused> {
    let title: Title = json(&body)?;
    once(stand_in, &headers, body.to_vec(), StatusCode::CREATED, move |stand_in, _| stand_in.make_title(&title)).await
}

#[derive(Deserialize)]
pub(super) struct After {
    #[serde(default)]
    after: u64,
}

pub(super) async fn events(
    State(stand_in): Shared,
    Path(title): Path<String>,
    after: Result<Query<After>, axum::extract::rejection::QueryRejection>,
) -> Answer<StorefrontEvents> {
    let title = parse(&title, "the title")?;
    let malformed = |_| Refused::new(problem::MALFORMED, "after is a number", "leave it out to start at the beginning");
    let after = after.map_err(malformed)?.after;
    wait(move || {
        let events = stand_in.events(&title, after)?;
        let next = events.last().map_or(after, |e| e.cursor);
        Ok(Json(StorefrontEvents { events, next }))
    })
    .await
}
