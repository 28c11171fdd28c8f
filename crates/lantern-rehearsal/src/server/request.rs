//! What handlers have in common: reading a request, pages of a list, actions that are done once, ranges.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Query, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use lantern_core::digest::Digest;
use lantern_core::event::EventId;
use lantern_core::names::{Handle, Name};
use lantern_store::store::Store;
use lantern_storefront::protocol::{IDEMPOTENCY_KEY, problem};
use serde::{Deserialize, Serialize};

use crate::refusal::Refused;
use crate::stand_in::{StandIn, not_there};

pub(super) type Shared = State<Arc<StandIn>>;
pub(super) type Answer<T> = Result<Json<T>, Refused>;

/// Runs disk and database work where it may wait.
pub(super) async fn wait<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, Refused> + Send + 'static,
) -> Result<T, Refused> {
    tokio::task::spawn_blocking(work).await.map_err(|e| Refused::Failed(e.to_string()))?
}

pub(super) fn parse<T: std::str::FromStr>(text: &str, what: &str) -> Result<T, Refused> {
    let malformed = |_| Refused::new(problem::MALFORMED, format!("{what} cannot be read"), "fix the address");
    text.parse().map_err(malformed)
}

/// The title and branch of a path.
pub(super) fn branch_at(title: &str, branch: &str) -> Result<(Handle, Name), Refused> {
    Ok((parse(title, "the title")?, parse(branch, "the branch")?))
}

pub(super) fn hex(text: &str) -> Result<Digest, Refused> {
    let malformed = |_| Refused::new(problem::MALFORMED, "not a digest of 64 hexadecimal digits", "fix the address");
    Digest::from_hex(text).map_err(malformed)
}

pub(super) fn json<T: serde::de::DeserializeOwned>(bytes: &[u8]) -> Result<T, Refused> {
    serde_json::from_slice(bytes)
        .map_err(|e| Refused::new(problem::MALFORMED, e.to_string(), "send the document that is described"))
}

/// Which page of a list is asked for.
#[derive(Default, Deserialize)]
pub(super) struct Page {
    /// The last entry that was seen.
    after: Option<String>,
    /// How many at most.
    limit: Option<usize>,
}

/// Most entries of one page.
pub(super) const PAGE: usize = 500;

pub(super) type PageAsked = Result<Query<Page>, axum::extract::rejection::QueryRejection>;

impl Page {
    pub(super) fn of(asked: PageAsked) -> Result<Self, Refused> {
        let malformed =
            |_| Refused::new(problem::MALFORMED, "after or limit cannot be read", "leave them out to begin");
        let Query(page) = asked.map_err(malformed)?;
        if page.limit == Some(0) {
            return Err(Refused::new(problem::MALFORMED, "limit is at least 1", "leave it out"));
        }
        Ok(page)
    }

    /// Cuts the page out of a whole list, whose entries have keys; says what the next one is asked for with.
    pub(super) fn cut<T>(
        &self,
        mut all: Vec<T>,
        key: impl Fn(&T) -> String,
    ) -> Result<(Vec<T>, Option<String>), Refused> {
        if let Some(after) = &self.after {
            let unknown = || {
                Refused::new(
                    problem::MALFORMED,
                    "there is no such position in the list",
                    "take it from the page before",
                )
            };
            let at = all.iter().position(|item| key(item) == *after).ok_or_else(unknown)?;
            all.drain(..=at);
        }
        let limit = self.limit.unwrap_or(PAGE).min(PAGE);
        let has_more = all.len() > limit;
        all.truncate(limit);
        let next = all.last().filter(|_| has_more).map(key);
        Ok((all, next))
    }
}

/// Does an action once for each idempotency key; a key that comes again gets the answer that was given.
pub(super) async fn once<T: Serialize + Send + 'static>(
    stand_in: Arc<StandIn>,
    headers: &HeaderMap,
    request: Vec<u8>,
    status: StatusCode,
    action: impl FnOnce(&StandIn, EventId) -> Result<T, Refused> + Send + 'static,
) -> Result<Response, Refused> {
    let key = headers.get(IDEMPOTENCY_KEY).and_then(|v| v.to_str().ok());
    let fix = "send a UUID of version 7, a fresh one for each action";
    let missing = || Refused::new(problem::CONDITION_MISSING, format!("{IDEMPOTENCY_KEY} is missing"), fix);
    let key: EventId = parse(key.ok_or_else(missing)?, IDEMPOTENCY_KEY)?;
    let digest = Digest::of(&request);
    let (status, body) = wait(move || {
        if let Some(before) = stand_in.answer_before(key, &digest)? {
            return Ok(before);
        }
        let body = serde_json::to_string(&action(&stand_in, key)?)?;
        stand_in.keep_answer(key, &digest, status.as_u16(), &body)?;
        Ok((status.as_u16(), body))
    })
    .await?;
    let status = StatusCode::from_u16(status).unwrap_or(StatusCode::OK);
    Ok((status, [(header::CONTENT_TYPE, "application/json")], body).into_response())
}

/// One range of bytes with both its ends, as RFC 9110, section 14.1.2, writes it. A pack holds chunks of more than one
/// build, and so is never handed out whole.
pub(super) fn needed_range(headers: &HeaderMap) -> Result<(u32, u32), Refused> {
    let range = headers.get(header::RANGE).and_then(|v| v.to_str().ok()).and_then(one_range);
    let fix = "send Range: bytes=FIRST-LAST with what the locator names";
    range.ok_or_else(|| Refused::new(problem::MALFORMED, "a part of a pack is read by its Range only", fix))
}

pub(super) fn part_of_pack(store: &Store, pack: &Digest, first: u32, last: u32) -> Result<Response, Refused> {
    let missing = || Refused::new(problem::NOT_FOUND, "there is no such pack", "ask for the locator again");
    let len = std::fs::metadata(store.pack_path(pack)).map_err(|_| missing())?.len();
    part_of(len, first, last, |part| store.read_pack_range(pack, first, part).map_err(not_there))
}

/// Answers with a part of something of `len` bytes; `read` gets their number.
pub(super) fn part_of(
    len: u64,
    first: u32,
    last: u32,
    read: impl FnOnce(u32) -> Result<Vec<u8>, Refused>,
) -> Result<Response, Refused> {
    if u64::from(first) >= len {
        let total = format!("bytes */{len}");
        return Ok((StatusCode::RANGE_NOT_SATISFIABLE, [(header::CONTENT_RANGE, total)]).into_response());
    }
    let last = last.min(u32::try_from(len - 1).unwrap_or(u32::MAX));
    let bytes = read(last - first + 1)?;
    let content_range = format!("bytes {first}-{last}/{len}");
    Ok((StatusCode::PARTIAL_CONTENT, [(header::CONTENT_RANGE, content_range)], bytes).into_response())
}

pub(super) fn one_range(text: &str) -> Option<(u32, u32)> {
    let (first, last) = text.strip_prefix("bytes=")?.split_once('-')?;
    let (first, last): (u32, u32) = (first.parse().ok()?, last.parse().ok()?);
    (first <= last).then_some((first, last))
}
