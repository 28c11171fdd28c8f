//! Invitations to branches.

use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::Response;
use lantern_core::digest::InvitationId;
use lantern_storefront::protocol::{InvitationPage, NewInvitation};

use super::request::{Answer, Page, PageAsked, Shared, branch_at, hex, json, once, wait};
use crate::refusal::Refused;
use crate::stand_in::StandIn;

pub(super) async fn invitations(
    State(stand_in): Shared,
    Path((title, branch)): Path<(String, String)>,
    page: PageAsked,
) -> Answer<InvitationPage> {
    let (title, branch) = branch_at(&title, &branch)?;
    let page = Page::of(page)?;
    wait(move || {
        let (invitations, next) = page.cut(stand_in.invitations(&title, &branch)?, |made| made.new.id.to_string())?;
        Ok(Json(InvitationPage { invitations, next }))
    })
    .await
}

pub(super) async fn invite(
    State(stand_in): Shared,
    headers: HeaderMap,
    Path((title, branch)): Path<(String, String)>,
    body: Bytes,
) -> Result<Response, Refused> {
    let (title, branch) = branch_at(&title, &branch)?;
    let invitation: NewInvitation = json(&body)?;
    let request = [format!("{title}\n{branch}\n").as_bytes(), &body].concat();
    let action = move |stand_in: &StandIn, _| stand_in.invite(&title, &branch, &invitation);
    once(stand_in, &headers, request, StatusCode::CREATED, action).await
}

pub(super) async fn end_invitation(
    State(stand_in): Shared,
    headers: HeaderMap,
    Path((title, branch, id)): Path<(String, String, String)>,
) -> Result<Response, Refused> {
    let (title, branch) = branch_at(&title, &branch)?;
    let id = InvitationId(hex(&id)?);
    let request = format!("end\n{title}\n{branch}\n{id}\n").into_bytes();
    let action = move |stand_in: &StandIn, _| stand_in.end_invitation(&title, &branch, id);
    once(stand_in, &headers, request, StatusCode::OK, action).await
}
