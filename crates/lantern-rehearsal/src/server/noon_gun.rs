//! Noon Gun, a stand-in time-stamp authority: it states when it was asked. No computer but yours trusts it.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use axum::Router;
use axum::body::Bytes;
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use jiff::{Timestamp, ToSpan};
use lantern_keys::certificate::{Purpose, name_of_text};
use lantern_keys::key::{Algorithm, PrivateKey};
use lantern_keys::keyring;
use lantern_keys::pkcs12::Entry;
use lantern_sign::authority::{self, REPLY_TYPE};

use crate::refusal::Refused;
use crate::stand_in::StandIn;

/// Where it answers, at the address of the stand-in storefront.
pub const PATH: &str = "/noon-gun";

#[derive(Debug, Clone)]
struct NoonGun {
    stand_in: Arc<StandIn>,
    key: Arc<Entry>,
    stamps: Arc<AtomicU64>,
}

/// The endpoint, with a key that is made for it.
pub(super) fn router<S: Clone + Send + Sync + 'static>(stand_in: Arc<StandIn>) -> Result<Router<S>, Refused> {
    let failed = |error: lantern_keys::KeyError| Refused::Failed(error.to_string());
    let name = name_of_text("CN=Noon Gun").map_err(failed)?;
    let key = PrivateKey::generate(Algorithm::P256).map_err(failed)?;
    // Rehearsals may begin in the past, and go on in the future.
    let from = stand_in.now().checked_sub((24 * 400).hours()).unwrap_or(Timestamp::UNIX_EPOCH);
    let mut serial = [0; 16];
    getrandom::fill(&mut serial).map_err(|error| Refused::Failed(error.to_string()))?;
    let key = keyring::with_certificate(key, &name, Purpose::TimeStamps, 30, from, serial).map_err(failed)?;
    let state = NoonGun { stand_in, key: Arc::new(key), stamps: Arc::default() };
    Ok(Router::new().route(PATH, axum::routing::post(stamp)).with_state(state))
}

async fn stamp(State(own): State<NoonGun>, request: Bytes) -> Response {
    let serial = own.stamps.fetch_add(1, Ordering::Relaxed) + 1;
    match authority::answer(&request, &*own.key, own.stand_in.now(), serial) {
        Ok(answer) => ([(header::CONTENT_TYPE, REPLY_TYPE)], answer).into_response(),
        Err(error) => (StatusCode::INTERNAL_SERVER_ERROR, format!("{error}\n")).into_response(),
    }
}
