//! Noon Gun, a stand-in time-stamp authority: it states when it was asked. No computer but yours trusts it.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

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
    /// Made when it is first asked for: most rehearsals do without.
    key: Arc<Mutex<Option<Arc<Entry>>>>,
    stamps: Arc<AtomicU64>,
}

/// The endpoint, with a key that is made for it.
pub(super) fn router<S: Clone + Send + Sync + 'static>(stand_in: Arc<StandIn>) -> Router<S> {
    let state = NoonGun { stand_in, key: Arc::default(), stamps: Arc::default() };
    Router::new().route(PATH, axum::routing::post(stamp)).with_state(state)
}

impl NoonGun {
    fn key(&self) -> Result<Arc<Entry>, Refused> {
        let mut key = self.key.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(key) = &*key {
            return Ok(key.clone());
        }
        let failed = |error: lantern_keys::KeyError| Refused::Failed(error.to_string());
        let name = name_of_text("CN=Noon Gun").map_err(failed)?;
        let new = PrivateKey::generate(Algorithm::P256).map_err(failed)?;
        // Rehearsals may begin in the past, and go on in the future.
        let from = self.stand_in.now().checked_sub((24 * 400).hours()).unwrap_or(Timestamp::UNIX_EPOCH);
        let mut serial = [0; 16];
        getrandom::fill(&mut serial).map_err(|error| Refused::Failed(error.to_string()))?;
        let new = keyring::with_certificate(new, &name, Purpose::TimeStamps, 30, from, serial).map_err(failed)?;
        Ok(key.insert(Arc::new(new)).clone())
    }
}

async fn stamp(State(own): State<NoonGun>, request: Bytes) -> Result<Response, Refused> {
    let key = own.key()?;
    let serial = own.stamps.fetch_add(1, Ordering::Relaxed) + 1;
    Ok(match authority::answer(&request, &*key, own.stand_in.now(), serial) {
        Ok(answer) => ([(header::CONTENT_TYPE, REPLY_TYPE)], answer).into_response(),
        Err(error) => (StatusCode::INTERNAL_SERVER_ERROR, format!("{error}\n")).into_response(),
    })
}
