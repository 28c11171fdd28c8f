//! Invitations to branches.

use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::Response;
use lantern_core::digest::InvitationId;
use lantern_storefront::protocol::{InvitationPage, NewInvitation};

use super::request::{Answer, Page, PageAsked, Shared, branch_at, hex, json, once, wait};
use crate::place::Place;
use crate::refusal::Refused;

pub(super) async fn invitations(
    State(place): Shared,
    Path((title, branch)): Path<(String, String)>,
    page: PageAsked,
) -> Answer<InvitationPage> {
    let (title, branch) = branch_at(&title, &branch)?;
    let page = Page::of(page)?;
    wait(move || {
        let (invitations, next) = page.cut(place.invitations(&title, &branch)?, |made| made.new.id.to_string())?;
        Ok(Json(InvitationPage { invitations, next }))
    })
    .await
}

pub(super) async fn invite(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, branch)): Path<(String, String)>,
    body: Bytes,
) -> Result<Response, Refused> {
    let (title, branch) = branch_at(&title, &branch)?;
    let invitation: NewInvitation = json(&body)?;
    let request = [format!("{title}\n{branch}\n").as_bytes(), &body].concat();
    let deed = move |place: &Place, _| place.invite(&title, &branch, &invitation);
    once(place, &headers, request, StatusCode::CREATED, deed).await
}

pub(super) async fn end_invitation(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, branch, id)): Path<(String, String, String)>,
) -> Result<Response, Refused> {
    let (title, branch) = branch_at(&title, &branch)?;
    let id = InvitationId(hex(&id)?);
    let request = format!("end\n{title}\n{branch}\n{id}\n").into_bytes();
    let deed = move |place: &Place, _| place.end_invitation(&title, &branch, id);
    once(place, &headers, request, StatusCode::OK, deed).await
}
