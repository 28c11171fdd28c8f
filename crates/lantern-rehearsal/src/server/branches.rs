//! Branches, and what moves them.

use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use lantern_storefront::protocol::{BranchList, Move, MovePage, problem};

use super::request::{Answer, Page, PageAsked, Shared, branch_at, json, once, parse, wait};
use crate::refusal::Refused;
use crate::stand_in::StandIn;

pub(super) async fn branches(State(stand_in): Shared, Path(title): Path<String>) -> Answer<BranchList> {
    let title = parse(&title, "the title")?;
    wait(move || Ok(Json(BranchList { branches: stand_in.branches(&title)? }))).await
}

pub(super) async fn branch(
    State(stand_in): Shared,
    Path((title, branch)): Path<(String, String)>,
) -> Result<Response, Refused> {
    let (title, branch) = branch_at(&title, &branch)?;
    let branch = wait(move || stand_in.branch(&title, &branch)).await?;
    Ok(([(header::ETAG, format!("\"{}\"", branch.facts.revision))], Json(branch)).into_response())
}

pub(super) async fn moves(
    State(stand_in): Shared,
    Path((title, branch)): Path<(String, String)>,
    page: PageAsked,
) -> Answer<MovePage> {
    let (title, branch) = branch_at(&title, &branch)?;
    let page = Page::of(page)?;
    wait(move || {
        stand_in.branch(&title, &branch)?;
        let (moves, next) = page.cut(stand_in.moves(&title, &branch)?, |moved| moved.facts.revision.to_string())?;
        Ok(Json(MovePage { moves, next }))
    })
    .await
}

pub(super) async fn move_branch(
    State(stand_in): Shared,
    headers: HeaderMap,
    Path((title, branch)): Path<(String, String)>,
    body: Bytes,
) -> Result<Response, Refused> {
    let (title, branch) = branch_at(&title, &branch)?;
    let wanted: Move = json(&body)?;
    let condition = headers.get(header::IF_MATCH).and_then(|v| v.to_str().ok());
    let revision = condition.and_then(|v| v.strip_prefix('"')?.strip_suffix('"')?.parse::<u64>().ok());
    let revision = revision.ok_or_else(|| {
        let fix = "send If-Match with the revision that the branch had when you read it";
        Refused::new(problem::CONDITION_MISSING, "If-Match is missing or is not a revision", fix)
    })?;
    let request = [format!("{title}\n{branch}\n{revision}\n").as_bytes(), &body].concat();
    let action = move |stand_in: &StandIn, key| stand_in.move_branch(&title, &branch, revision, key, &wanted);
    once(stand_in, &headers, request, StatusCode::OK, action).await
}
