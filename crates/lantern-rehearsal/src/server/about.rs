//! What the storefront is: discovery, access, house rules, kinds of problems.

use axum::Json;
use axum::extract::{Form, Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use lantern_storefront::protocol::{Discovery, TokenError, problem};
use serde::Deserialize;

use super::request::Shared;
use crate::refusal::Refused;

pub(super) async fn discovery(State(stand_in): Shared) -> Json<Discovery> {
    Json(stand_in.discovery())
}

#[derive(Deserialize)]
pub(super) struct TokenForm {
    grant_type: String,
    client_id: String,
    client_secret: String,
}

pub(super) async fn token(
    State(stand_in): Shared,
    form: Result<Form<TokenForm>, axum::extract::rejection::FormRejection>,
) -> Response {
    let error = |status: StatusCode, error: &str, why: &str| {
        let body = TokenError { error: error.to_owned(), error_description: Some(why.to_owned()) };
        (status, Json(body)).into_response()
    };
    let Ok(Form(form)) = form else {
        return error(StatusCode::BAD_REQUEST, "invalid_request", "grant_type, client_id and client_secret are needed");
    };
    if form.grant_type != "client_credentials" {
        return error(StatusCode::BAD_REQUEST, "unsupported_grant_type", "only client_credentials is given here");
    }
    match stand_in.new_token(&form.client_id, &form.client_secret) {
        Ok(Some(token)) => ([(header::CACHE_CONTROL, "no-store")], Json(token)).into_response(),
        Ok(None) => error(StatusCode::UNAUTHORIZED, "invalid_client", "name or secret are wrong"),
        Err(refused) => refused.into_response(),
    }
}

pub(super) async fn rules(State(stand_in): Shared, headers: HeaderMap) -> Result<Response, Refused> {
    let etag = format!("\"{}\"", stand_in.rules().revision);
    let known = headers.get(header::IF_NONE_MATCH).is_some_and(|v| v.as_bytes() == etag.as_bytes());
    if known {
        return Ok((StatusCode::NOT_MODIFIED, [(header::ETAG, etag)]).into_response());
    }
    Ok(([(header::ETAG, etag)], Json(stand_in.rules_document()?)).into_response())
}

pub(super) async fn problem_kind(Path(name): Path<String>) -> Result<String, Refused> {
    let found = problem::ALL.iter().find(|(known, _, _)| *known == name);
    let unknown = || Refused::new(problem::NOT_FOUND, "there is no such problem", "see /v1/openapi.json");
    found.map(|(_, status, title)| format!("{title}. (HTTP status {status})\n")).ok_or_else(unknown)
}
