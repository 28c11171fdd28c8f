//! Builds: made, read, and taken away.

use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use lantern_core::names::Handle;
use lantern_storefront::protocol::{BuildPage, NewBuild, Withdraw};

use super::request::{Answer, Page, PageAsked, Shared, json, once, parse, wait};
use crate::refusal::Refused;
use crate::stand_in::StandIn;

pub(super) async fn builds(State(stand_in): Shared, Path(title): Path<String>, page: PageAsked) -> Answer<BuildPage> {
    let (title, page) = (parse(&title, "the title")?, Page::of(page)?);
    wait(move || {
        let (mut builds, next) = page.cut(stand_in.builds(&title)?, |build| build.number_there.to_string())?;
        for target in builds.iter_mut().flat_map(|build| build.targets.values_mut()) {
            stand_in.with_updates(&title, target)?;
        }
        Ok(Json(BuildPage { builds, next }))
    })
    .await
}

pub(super) async fn record(
    State(stand_in): Shared,
    Path((title, build)): Path<(String, String)>,
) -> Result<Response, Refused> {
    let (title, build) = (parse(&title, "the title")?, parse(&build, "the build")?);
    let text = wait(move || stand_in.record(&title, build)).await?;
    Ok(([(header::CONTENT_TYPE, "application/json")], text).into_response())
}

pub(super) async fn make_build(
    State(stand_in): Shared,
    headers: HeaderMap,
    Path(title): Path<String>,
    body: Bytes,
) -> Result<Response, Refused> {
    let (title, build): (Handle, NewBuild) = (parse(&title, "the title")?, json(&body)?);
    let request = [title.as_str().as_bytes(), b"\n", &body].concat();
    once(stand_in, &headers, request, StatusCode::CREATED, move |stand_in, key| {
        stand_in.make_build(&title, key, &build)
    })
    .await
}

pub(super) async fn withdraw_build(
    State(stand_in): Shared,
    headers: HeaderMap,
    Path((title, build)): Path<(String, String)>,
    body: Bytes,
) -> Result<Response, Refused> {
    let (title, build): (Handle, u64) = (parse(&title, "the title")?, parse(&build, "the build")?);
    let why: Withdraw = json(&body)?;
    let request = [format!("{title}\n{build}\n").as_bytes(), &body].concat();
    let action = move |stand_in: &StandIn, _| stand_in.withdraw_build(&title, build, &why.because);
    once(stand_in, &headers, request, StatusCode::OK, action).await
}
