//! The HTTP side of a stand-in storefront.

use std::net::SocketAddr;
use std::sync::Arc;

use axum::Json;
use axum::body::Bytes;
use axum::extract::{DefaultBodyLimit, Form, Path, Query, State};
use axum::http::{HeaderMap, HeaderName, StatusCode, header};
use axum::response::{IntoResponse, Response};
use lantern_core::digest::{Digest, InvitationId, RecipeId};
use lantern_core::event::EventId;
use lantern_core::names::{Handle, Name};
use lantern_core::release::ReleaseRecord;
use lantern_core::rules::HouseRules;
use lantern_store::store::Store;
use lantern_storefront::protocol::{
    Branch, BranchList, Build, BuildPage, DISCOVERY_PATH, Discovery, FOLDER, IDEMPOTENCY_KEY, INVITATION,
    InvitationMade, InvitationPage, Move, MovePage, NewBuild, NewInvitation, PackReceived, PlaceEvents, Play,
    RecipeNeeds, Title, TitlePage, Token, TokenError, Withdraw, problem,
};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use tokio::net::TcpListener;
use tokio::sync::oneshot;

use crate::api::{Api, Body, Endpoint};
use crate::place::{Asked, Asker, Place, SCOPE, not_there};
use crate::refusal::Refused;
use crate::weather;

type Shared = State<Arc<Place>>;
type Answer<T> = Result<Json<T>, Refused>;

/// Runs disk and database work where it may wait.
async fn wait<T: Send + 'static>(work: impl FnOnce() -> Result<T, Refused> + Send + 'static) -> Result<T, Refused> {
    tokio::task::spawn_blocking(work).await.map_err(|e| Refused::Failed(e.to_string()))?
}

/// Checks the token of a request for the right that its endpoint states.
fn allow(place: &Place, headers: &HeaderMap, right: &str) -> Result<(), Refused> {
    let token = headers.get(header::AUTHORIZATION).and_then(|v| v.to_str().ok()?.strip_prefix("Bearer "));
    match token {
        Some(token) if place.knows_token(token) => {}
        _ => return Err(Refused::new(problem::NO_ACCESS, "this needs access", "connect again")),
    }
    if SCOPE.split(' ').any(|scope| scope == right) {
        return Ok(());
    }
    Err(Refused::new(problem::NO_RIGHT, format!("this needs the right {right:?}"), "ask for that right"))
}

fn parse<T: std::str::FromStr>(text: &str, what: &str) -> Result<T, Refused> {
    let malformed = |_| Refused::new(problem::MALFORMED, format!("{what} cannot be read"), "fix the address");
    text.parse().map_err(malformed)
}

fn hex(text: &str) -> Result<Digest, Refused> {
    let malformed = |_| Refused::new(problem::MALFORMED, "not a digest of 64 hexadecimal digits", "fix the address");
    Digest::from_hex(text).map_err(malformed)
}

fn json<T: serde::de::DeserializeOwned>(bytes: &[u8]) -> Result<T, Refused> {
    serde_json::from_slice(bytes)
        .map_err(|e| Refused::new(problem::MALFORMED, e.to_string(), "send the document that is described"))
}

async fn discovery(State(place): Shared) -> Json<Discovery> {
    Json(place.discovery())
}

#[derive(Deserialize)]
struct TokenForm {
    grant_type: String,
    client_id: String,
    client_secret: String,
}

async fn token(
    State(place): Shared,
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
    match place.new_token(&form.client_id, &form.client_secret) {
        Ok(Some(token)) => ([(header::CACHE_CONTROL, "no-store")], Json(token)).into_response(),
        Ok(None) => error(StatusCode::UNAUTHORIZED, "invalid_client", "name or secret are wrong"),
        Err(refused) => refused.into_response(),
    }
}

async fn rules(State(place): Shared, headers: HeaderMap) -> Result<Response, Refused> {
    allow(&place, &headers, "read")?;
    let etag = format!("\"{}\"", place.rules().revision);
    let known = headers.get(header::IF_NONE_MATCH).is_some_and(|v| v.as_bytes() == etag.as_bytes());
    if known {
        return Ok((StatusCode::NOT_MODIFIED, [(header::ETAG, etag)]).into_response());
    }
    Ok(([(header::ETAG, etag)], Json(place.rules())).into_response())
}

/// Which page of a list is asked for.
#[derive(Default, Deserialize)]
struct Page {
    /// The last entry that was seen.
    after: Option<String>,
    /// How many at most.
    limit: Option<usize>,
}

/// Most entries of one page.
const PAGE: usize = 500;

type PageAsked = Result<Query<Page>, axum::extract::rejection::QueryRejection>;

impl Page {
    fn of(asked: PageAsked) -> Result<Self, Refused> {
        let malformed =
            |_| Refused::new(problem::MALFORMED, "after or limit cannot be read", "leave them out to begin");
        let Query(page) = asked.map_err(malformed)?;
        if page.limit == Some(0) {
            return Err(Refused::new(problem::MALFORMED, "limit is at least 1", "leave it out"));
        }
        Ok(page)
    }

    /// Cuts the page out of a whole list, whose entries have keys; says what the next one is asked for with.
    fn cut<T>(&self, mut all: Vec<T>, key: impl Fn(&T) -> String) -> Result<(Vec<T>, Option<String>), Refused> {
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

async fn titles(State(place): Shared, headers: HeaderMap, page: PageAsked) -> Answer<TitlePage> {
    allow(&place, &headers, "read")?;
    let page = Page::of(page)?;
    wait(move || {
        let (titles, next) = page.cut(place.titles()?, |title| title.handle.to_string())?;
        Ok(Json(TitlePage { titles, next }))
    })
    .await
}

async fn title(State(place): Shared, headers: HeaderMap, Path(title): Path<String>) -> Answer<Title> {
    allow(&place, &headers, "read")?;
    let title: Handle = parse(&title, "the title")?;
    wait(move || Ok(Json(place.title(&title)?))).await
}

/// Does a deed once for each idempotency key; a key that comes again gets the answer that was given.
async fn once<T: Serialize + Send + 'static>(
    place: Arc<Place>,
    headers: &HeaderMap,
    request: Vec<u8>,
    status: StatusCode,
    deed: impl FnOnce(&Place, EventId) -> Result<T, Refused> + Send + 'static,
) -> Result<Response, Refused> {
    let key = headers.get(IDEMPOTENCY_KEY).and_then(|v| v.to_str().ok());
    let fix = "send a UUID of version 7, a fresh one for each deed";
    let missing = || Refused::new(problem::CONDITION_MISSING, format!("{IDEMPOTENCY_KEY} is missing"), fix);
    let key: EventId = parse(key.ok_or_else(missing)?, IDEMPOTENCY_KEY)?;
    let digest = Digest::of(&request);
    let (status, body) = wait(move || {
        if let Some(before) = place.answer_before(key, &digest)? {
            return Ok(before);
        }
        let body = serde_json::to_string(&deed(&place, key)?)?;
        place.keep_answer(key, &digest, status.as_u16(), &body)?;
        Ok((status.as_u16(), body))
    })
    .await?;
    let status = StatusCode::from_u16(status).unwrap_or(StatusCode::OK);
    Ok((status, [(header::CONTENT_TYPE, "application/json")], body).into_response())
}

async fn make_title(State(place): Shared, headers: HeaderMap, body: Bytes) -> Result<Response, Refused> {
    allow(&place, &headers, "setup")?;
    let title: Title = json(&body)?;
    once(place, &headers, body.to_vec(), StatusCode::CREATED, move |place, _| place.make_title(&title)).await
}

async fn put_recipe(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, recipe)): Path<(String, String)>,
    body: Bytes,
) -> Answer<RecipeNeeds> {
    allow(&place, &headers, "send")?;
    let (title, id) = (parse(&title, "the title")?, RecipeId(hex(&recipe)?));
    wait(move || Ok(Json(place.put_recipe(&title, id, &body)?))).await
}

async fn get_recipe(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, recipe)): Path<(String, String)>,
) -> Result<Vec<u8>, Refused> {
    allow(&place, &headers, "read")?;
    let (title, id) = (parse(&title, "the title")?, RecipeId(hex(&recipe)?));
    wait(move || place.get_recipe(&title, id)).await
}

async fn put_segment(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, digest)): Path<(String, String)>,
    body: Bytes,
) -> Result<StatusCode, Refused> {
    allow(&place, &headers, "send")?;
    let (title, digest) = (parse(&title, "the title")?, hex(&digest)?);
    wait(move || place.put_segment(&title, &digest, &body)).await?;
    Ok(StatusCode::NO_CONTENT)
}

async fn get_segment(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, digest)): Path<(String, String)>,
) -> Result<Vec<u8>, Refused> {
    allow(&place, &headers, "read")?;
    let (title, digest) = (parse(&title, "the title")?, hex(&digest)?);
    wait(move || place.get_segment(&title, &digest)).await
}

async fn put_pack(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, digest)): Path<(String, String)>,
    body: Bytes,
) -> Result<Response, Refused> {
    allow(&place, &headers, "send")?;
    let (title, digest) = (parse(&title, "the title")?, hex(&digest)?);
    let Some(range) = headers.get(header::CONTENT_RANGE) else {
        wait(move || place.put_pack(&title, &digest, &body)).await?;
        return Ok(StatusCode::NO_CONTENT.into_response());
    };
    let fix = "send Content-Range: bytes FIRST-LAST/TOTAL with as many bytes";
    let malformed = || Refused::new(problem::MALFORMED, "the piece does not match its Content-Range", fix);
    let piece = range.to_str().ok().and_then(content_range).ok_or_else(malformed)?;
    if piece.last - piece.first + 1 != body.len() as u64 {
        return Err(malformed());
    }
    let at = wait(move || place.put_piece(&title, &digest, piece, &body)).await?;
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

fn content_range(text: &str) -> Option<PieceRange> {
    let (range, total) = text.strip_prefix("bytes ")?.split_once('/')?;
    let (first, last) = range.split_once('-')?;
    let piece = PieceRange { first: first.parse().ok()?, last: last.parse().ok()?, total: total.parse().ok()? };
    (piece.first <= piece.last && piece.last < piece.total).then_some(piece)
}

async fn pack_received(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, digest)): Path<(String, String)>,
) -> Answer<PackReceived> {
    allow(&place, &headers, "send")?;
    let (title, digest) = (parse(&title, "the title")?, hex(&digest)?);
    wait(move || Ok(Json(place.pack_received(&title, &digest)?))).await
}

async fn builds(
    State(place): Shared,
    headers: HeaderMap,
    Path(title): Path<String>,
    page: PageAsked,
) -> Answer<BuildPage> {
    allow(&place, &headers, "read")?;
    let (title, page) = (parse(&title, "the title")?, Page::of(page)?);
    wait(move || {
        let (builds, next) = page.cut(place.builds(&title)?, |build| build.build.to_string())?;
        Ok(Json(BuildPage { builds, next }))
    })
    .await
}

async fn record(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, build)): Path<(String, String)>,
) -> Result<Response, Refused> {
    allow(&place, &headers, "read")?;
    let (title, build) = (parse(&title, "the title")?, parse(&build, "the build")?);
    let text = wait(move || place.record(&title, build)).await?;
    Ok(([(header::CONTENT_TYPE, "application/json")], text).into_response())
}

async fn make_build(
    State(place): Shared,
    headers: HeaderMap,
    Path(title): Path<String>,
    body: Bytes,
) -> Result<Response, Refused> {
    allow(&place, &headers, "send")?;
    let (title, build): (Handle, NewBuild) = (parse(&title, "the title")?, json(&body)?);
    let request = [title.as_str().as_bytes(), b"\n", &body].concat();
    once(place, &headers, request, StatusCode::CREATED, move |place, key| place.make_build(&title, key, &build)).await
}

async fn withdraw_build(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, build)): Path<(String, String)>,
    body: Bytes,
) -> Result<Response, Refused> {
    allow(&place, &headers, "release")?;
    let (title, build): (Handle, u64) = (parse(&title, "the title")?, parse(&build, "the build")?);
    let why: Withdraw = json(&body)?;
    let request = [format!("{title}\n{build}\n").as_bytes(), &body].concat();
    let deed = move |place: &Place, _| place.withdraw_build(&title, build, &why.because);
    once(place, &headers, request, StatusCode::OK, deed).await
}

async fn branches(State(place): Shared, headers: HeaderMap, Path(title): Path<String>) -> Answer<BranchList> {
    allow(&place, &headers, "read")?;
    let title = parse(&title, "the title")?;
    wait(move || Ok(Json(BranchList { branches: place.branches(&title)? }))).await
}

async fn branch(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, branch)): Path<(String, String)>,
) -> Result<Response, Refused> {
    allow(&place, &headers, "read")?;
    let (title, branch): (Handle, Name) = (parse(&title, "the title")?, parse(&branch, "the branch")?);
    let branch = wait(move || place.branch(&title, &branch)).await?;
    Ok(([(header::ETAG, format!("\"{}\"", branch.facts.revision))], Json(branch)).into_response())
}

async fn moves(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, branch)): Path<(String, String)>,
    page: PageAsked,
) -> Answer<MovePage> {
    allow(&place, &headers, "read")?;
    let (title, branch): (Handle, Name) = (parse(&title, "the title")?, parse(&branch, "the branch")?);
    let page = Page::of(page)?;
    wait(move || {
        place.branch(&title, &branch)?;
        let (moves, next) = page.cut(place.moves(&title, &branch)?, |moved| moved.facts.revision.to_string())?;
        Ok(Json(MovePage { moves, next }))
    })
    .await
}

async fn move_branch(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, branch)): Path<(String, String)>,
    body: Bytes,
) -> Result<Response, Refused> {
    allow(&place, &headers, "release")?;
    let (title, branch): (Handle, Name) = (parse(&title, "the title")?, parse(&branch, "the branch")?);
    let wanted: Move = json(&body)?;
    let condition = headers.get(header::IF_MATCH).and_then(|v| v.to_str().ok());
    let revision = condition.and_then(|v| v.strip_prefix('"')?.strip_suffix('"')?.parse::<u64>().ok());
    let revision = revision.ok_or_else(|| {
        let fix = "send If-Match with the revision that the branch had when you read it";
        Refused::new(problem::CONDITION_MISSING, "If-Match is missing or is not a revision", fix)
    })?;
    let request = [format!("{title}\n{branch}\n{revision}\n").as_bytes(), &body].concat();
    let deed = move |place: &Place, key| place.move_branch(&title, &branch, revision, key, &wanted);
    once(place, &headers, request, StatusCode::OK, deed).await
}

#[derive(Deserialize)]
struct After {
    #[serde(default)]
    after: u64,
}

async fn events(
    State(place): Shared,
    headers: HeaderMap,
    Path(title): Path<String>,
    after: Result<Query<After>, axum::extract::rejection::QueryRejection>,
) -> Answer<PlaceEvents> {
    allow(&place, &headers, "read")?;
    let title = parse(&title, "the title")?;
    let malformed = |_| Refused::new(problem::MALFORMED, "after is a number", "leave it out to start at the beginning");
    let after = after.map_err(malformed)?.after;
    wait(move || {
        let events = place.events(&title, after)?;
        let next = events.last().map_or(after, |e| e.cursor);
        Ok(Json(PlaceEvents { events, next }))
    })
    .await
}

/// Who asks for a player's part. Access that does not hold is an error of its own: anyone who has some can renew it.
fn asker(place: &Place, headers: &HeaderMap) -> Result<Asker, Refused> {
    let text = |name: &str| headers.get(name).and_then(|v| v.to_str().ok()).map(str::to_owned);
    let is_maker = headers.contains_key(header::AUTHORIZATION);
    if is_maker {
        allow(place, headers, "read")?;
    }
    Ok(Asker { is_maker, invitation: text(INVITATION), folder: text(FOLDER) })
}

async fn play(State(place): Shared, headers: HeaderMap, Path((title, branch)): Path<(String, String)>) -> Answer<Play> {
    let asker = asker(&place, &headers)?;
    let (title, branch) = (parse(&title, "the title")?, parse(&branch, "the branch")?);
    wait(move || Ok(Json(place.play(&title, &branch, &asker)?))).await
}

async fn play_recipe(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, branch, recipe)): Path<(String, String, String)>,
) -> Result<Vec<u8>, Refused> {
    let (asker, id) = (asker(&place, &headers)?, RecipeId(hex(&recipe)?));
    let (title, branch) = (parse(&title, "the title")?, parse(&branch, "the branch")?);
    wait(move || {
        place.store_for_players(&title, &branch, Asked::Recipe(id), &asker)?.recipe_bytes(id).map_err(not_there)
    })
    .await
}

async fn play_locator(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, branch, recipe)): Path<(String, String, String)>,
) -> Result<Vec<u8>, Refused> {
    let (asker, id) = (asker(&place, &headers)?, RecipeId(hex(&recipe)?));
    let (title, branch) = (parse(&title, "the title")?, parse(&branch, "the branch")?);
    wait(move || {
        let store = place.store_for_players(&title, &branch, Asked::Recipe(id), &asker)?;
        Ok(store.locator(id).map_err(not_there)?.encode())
    })
    .await
}

async fn play_segment(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, branch, digest)): Path<(String, String, String)>,
) -> Result<Vec<u8>, Refused> {
    let (asker, digest) = (asker(&place, &headers)?, hex(&digest)?);
    let (title, branch) = (parse(&title, "the title")?, parse(&branch, "the branch")?);
    wait(move || {
        let store = place.store_for_players(&title, &branch, Asked::Segment(digest), &asker)?;
        store.segment_bytes(&digest).map_err(not_there)
    })
    .await
}

async fn play_pack(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, branch, digest)): Path<(String, String, String)>,
) -> Result<Response, Refused> {
    let asker = asker(&place, &headers)?;
    let (title, branch, digest) = (parse(&title, "the title")?, parse(&branch, "the branch")?, hex(&digest)?);
    let (first, last) = needed_range(&headers)?;
    wait(move || {
        let store = place.store_for_players(&title, &branch, Asked::Range(digest, first, last), &asker)?;
        part_of_pack(&store, &digest, first, last)
    })
    .await
}

async fn get_pack(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, digest)): Path<(String, String)>,
) -> Result<Response, Refused> {
    allow(&place, &headers, "read")?;
    let (title, digest) = (parse(&title, "the title")?, hex(&digest)?);
    let (first, last) = needed_range(&headers)?;
    wait(move || part_of_pack(&place.store_for_makers(&title)?, &digest, first, last)).await
}

async fn get_locator(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, recipe)): Path<(String, String)>,
) -> Result<Vec<u8>, Refused> {
    allow(&place, &headers, "read")?;
    let (title, id) = (parse(&title, "the title")?, RecipeId(hex(&recipe)?));
    wait(move || place.get_locator(&title, id)).await
}

/// One range of bytes with both its ends, as RFC 9110, section 14.1.2, writes it. A pack holds chunks of more than one
/// build, and so is never handed out whole.
fn needed_range(headers: &HeaderMap) -> Result<(u32, u32), Refused> {
    let range = headers.get(header::RANGE).and_then(|v| v.to_str().ok()).and_then(one_range);
    let fix = "send Range: bytes=FIRST-LAST with what the locator names";
    range.ok_or_else(|| Refused::new(problem::MALFORMED, "a part of a pack is read by its Range only", fix))
}

fn part_of_pack(store: &Store, pack: &Digest, first: u32, last: u32) -> Result<Response, Refused> {
    let missing = || Refused::new(problem::NOT_FOUND, "there is no such pack", "ask for the locator again");
    let len = std::fs::metadata(store.pack_path(pack)).map_err(|_| missing())?.len();
    if u64::from(first) >= len {
        let total = format!("bytes */{len}");
        return Ok((StatusCode::RANGE_NOT_SATISFIABLE, [(header::CONTENT_RANGE, total)]).into_response());
    }
    let last = last.min(u32::try_from(len - 1).unwrap_or(u32::MAX));
    let bytes = store.read_pack_range(pack, first, last - first + 1).map_err(not_there)?;
    let content_range = format!("bytes {first}-{last}/{len}");
    Ok((StatusCode::PARTIAL_CONTENT, [(header::CONTENT_RANGE, content_range)], bytes).into_response())
}

async fn invitations(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, branch)): Path<(String, String)>,
    page: PageAsked,
) -> Answer<InvitationPage> {
    allow(&place, &headers, "read")?;
    let (title, branch) = (parse(&title, "the title")?, parse(&branch, "the branch")?);
    let page = Page::of(page)?;
    wait(move || {
        let (invitations, next) = page.cut(place.invitations(&title, &branch)?, |made| made.new.id.to_string())?;
        Ok(Json(InvitationPage { invitations, next }))
    })
    .await
}

async fn invite(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, branch)): Path<(String, String)>,
    body: Bytes,
) -> Result<Response, Refused> {
    allow(&place, &headers, "release")?;
    let (title, branch): (Handle, Name) = (parse(&title, "the title")?, parse(&branch, "the branch")?);
    let invitation: NewInvitation = json(&body)?;
    let request = [format!("{title}\n{branch}\n").as_bytes(), &body].concat();
    let deed = move |place: &Place, _| place.invite(&title, &branch, &invitation);
    once(place, &headers, request, StatusCode::CREATED, deed).await
}

async fn end_invitation(
    State(place): Shared,
    headers: HeaderMap,
    Path((title, branch, id)): Path<(String, String, String)>,
) -> Result<Response, Refused> {
    allow(&place, &headers, "release")?;
    let (title, branch): (Handle, Name) = (parse(&title, "the title")?, parse(&branch, "the branch")?);
    let id = InvitationId(hex(&id)?);
    let request = format!("end\n{title}\n{branch}\n{id}\n").into_bytes();
    let deed = move |place: &Place, _| place.end_invitation(&title, &branch, id);
    once(place, &headers, request, StatusCode::OK, deed).await
}

fn one_range(text: &str) -> Option<(u32, u32)> {
    let (first, last) = text.strip_prefix("bytes=")?.split_once('-')?;
    let (first, last): (u32, u32) = (first.parse().ok()?, last.parse().ok()?);
    (first <= last).then_some((first, last))
}

async fn problem_kind(Path(name): Path<String>) -> Result<String, Refused> {
    let found = problem::ALL.iter().find(|(known, _, _)| *known == name);
    let unknown = || Refused::new(problem::NOT_FOUND, "there is no such problem", "see /v1/openapi.json");
    found.map(|(_, status, title)| format!("{title}. (HTTP status {status})\n")).ok_or_else(unknown)
}

fn api() -> Api {
    let open = |summary, gives| Endpoint {
        summary,
        scope: None,
        takes: Body::Nothing,
        gives,
        headers: &[],
        may: &[],
        query: &[],
        status: 200,
        also: &[],
        answers: &[],
        error: None,
        is_for_players: false,
    };
    let play_of = |summary, gives| Endpoint { is_for_players: true, ..open(summary, gives) };
    let range: &[&str] = &["Range"];
    let part_of = |endpoint: Endpoint| Endpoint {
        headers: range,
        status: 206,
        also: &[(416, "The range begins behind the end")],
        answers: &["Content-Range"],
        ..endpoint
    };
    let read = |summary, gives| Endpoint { scope: Some("read"), ..open(summary, gives) };
    let list = |summary, gives| Endpoint { query: &["after", "limit"], ..read(summary, gives) };
    let send = |summary, takes, gives| Endpoint { scope: Some("send"), takes, ..open(summary, gives) };
    let key: &[&str] = &[IDEMPOTENCY_KEY];
    let deed =
        |scope, summary, takes, gives| Endpoint { scope: Some(scope), takes, headers: key, ..open(summary, gives) };
    Api::new()
        .get(DISCOVERY_PATH, open("What this storefront is", Body::json::<Discovery>()), discovery)
        .post(
            "/v1/token",
            Endpoint {
                takes: Body::Form(&["grant_type", "client_id", "client_secret"]),
                error: Some(|generator| generator.subschema_for::<TokenError>().to_value()),
                ..open("An access token (RFC 6749, section 4.4)", Body::json::<Token>())
            },
            token,
        )
        .get(
            "/v1/rules",
            Endpoint {
                may: &["If-None-Match"],
                also: &[(304, "They are those of the ETag")],
                answers: &["ETag"],
                ..read("The house rules; cache them by ETag", Body::json::<HouseRules>())
            },
            rules,
        )
        .get("/v1/titles", list("Your titles", Body::json::<TitlePage>()), titles)
        .post(
            "/v1/titles",
            Endpoint {
                status: 201,
                ..deed("setup", "Makes a title, or adds depots to it", Body::json::<Title>(), Body::json::<Title>())
            },
            make_title,
        )
        .get("/v1/titles/{title}", read("A title", Body::json::<Title>()), title)
        .put(
            "/v1/titles/{title}/recipes/{recipe}",
            send("Brings a recipe's root; returns what is missing", Body::Bytes("A root"), Body::json::<RecipeNeeds>()),
            put_recipe,
        )
        .get("/v1/titles/{title}/recipes/{recipe}", read("A recipe's root", Body::Bytes("A root")), get_recipe)
        .put(
            "/v1/titles/{title}/segments/{segment}",
            Endpoint { status: 204, ..send("Brings a segment of a recipe", Body::Bytes("A segment"), Body::Nothing) },
            put_segment,
        )
        .get("/v1/titles/{title}/segments/{segment}", read("A segment", Body::Bytes("A segment")), get_segment)
        .put(
            "/v1/titles/{title}/packs/{pack}",
            Endpoint {
                may: &["Content-Range"],
                also: &[(202, "The piece has come, and more is to come"), (204, "All of it came at once")],
                ..send(
                    "Brings a pack, or by Content-Range a piece of one; every chunk in it is checked",
                    Body::Bytes("A pack"),
                    Body::json::<PackReceived>(),
                )
            },
            put_pack,
        )
        .get(
            "/v1/titles/{title}/packs/{pack}/received",
            Endpoint {
                scope: Some("send"),
                ..open("How much of a pack has come in pieces", Body::json::<PackReceived>())
            },
            pack_received,
        )
        .get(
            "/v1/titles/{title}/packs/{pack}",
            part_of(read("A Range of a pack", Body::Bytes("Bytes of a pack"))),
            get_pack,
        )
        .get(
            "/v1/titles/{title}/locators/{recipe}",
            read("Where a recipe's chunks lie", Body::Bytes("A locator")),
            get_locator,
        )
        .get("/v1/titles/{title}/builds", list("All builds, oldest first", Body::json::<BuildPage>()), builds)
        .post(
            "/v1/titles/{title}/builds",
            Endpoint {
                status: 201,
                ..deed(
                    "send",
                    "Makes a build; a release that has one already gets it",
                    Body::json::<NewBuild>(),
                    Body::json::<Build>(),
                )
            },
            make_build,
        )
        .get(
            "/v1/titles/{title}/builds/{build}/record",
            read("The exact text of the release record that a build was made of", Body::json::<ReleaseRecord>()),
            record,
        )
        .post(
            "/v1/titles/{title}/builds/{build}/withdrawal",
            deed(
                "release",
                "Takes a build away for good: no branch can get it any more",
                Body::json::<Withdraw>(),
                Body::json::<Build>(),
            ),
            withdraw_build,
        )
        .get("/v1/titles/{title}/branches", read("All branches", Body::json::<BranchList>()), branches)
        .get(
            "/v1/titles/{title}/branches/{branch}",
            Endpoint {
                answers: &["ETag"],
                ..read("A branch; its ETag is the revision to send in If-Match", Body::json::<Branch>())
            },
            branch,
        )
        .get(
            "/v1/titles/{title}/branches/{branch}/moves",
            list("A branch's history, oldest first", Body::json::<MovePage>()),
            moves,
        )
        .post(
            "/v1/titles/{title}/branches/{branch}/moves",
            Endpoint {
                headers: &[IDEMPOTENCY_KEY, "If-Match"],
                ..deed(
                    "release",
                    "Moves a branch, if it still is at the revision in If-Match",
                    Body::json::<Move>(),
                    Body::json::<Branch>(),
                )
            },
            move_branch,
        )
        .get(
            "/v1/titles/{title}/branches/{branch}/invitations",
            list("All invitations to a branch, oldest first", Body::json::<InvitationPage>()),
            invitations,
        )
        .post(
            "/v1/titles/{title}/branches/{branch}/invitations",
            Endpoint {
                status: 201,
                ..deed(
                    "release",
                    "Makes an invitation to a branch; one of the same id stays as it is",
                    Body::json::<NewInvitation>(),
                    Body::json::<InvitationMade>(),
                )
            },
            invite,
        )
        .post(
            "/v1/titles/{title}/branches/{branch}/invitations/{invitation}/end",
            deed(
                "release",
                "Ends an invitation: from now on it lets nobody in",
                Body::Nothing,
                Body::json::<InvitationMade>(),
            ),
            end_invitation,
        )
        .get(
            "/v1/titles/{title}/events",
            Endpoint {
                query: &["after"],
                ..read("What happened after a cursor, oldest first", Body::json::<PlaceEvents>())
            },
            events,
        )
        .get("/v1/play/{title}/{branch}", play_of("What a branch has, for players", Body::json::<Play>()), play)
        .get(
            "/v1/play/{title}/{branch}/recipes/{recipe}",
            play_of("A recipe's root", Body::Bytes("A root")),
            play_recipe,
        )
        .get(
            "/v1/play/{title}/{branch}/segments/{segment}",
            play_of("A segment", Body::Bytes("A segment")),
            play_segment,
        )
        .get(
            "/v1/play/{title}/{branch}/locators/{recipe}",
            play_of("Where a recipe's chunks lie", Body::Bytes("A locator")),
            play_locator,
        )
        .get(
            "/v1/play/{title}/{branch}/packs/{pack}",
            part_of(play_of("A Range of a pack that the branch's locators name", Body::Bytes("Bytes of a pack"))),
            play_pack,
        )
        .get("/problems/{problem}", open("What a problem's type means", Body::Bytes("A sentence")), problem_kind)
}

/// Returns the protocol's OpenAPI 3.1 document, made of the code that answers.
pub fn openapi() -> Value {
    api().finish().1
}

/// A stand-in that answers until this is dropped.
#[derive(Debug)]
pub struct Running {
    address: SocketAddr,
    place: Arc<Place>,
    stop: Option<oneshot::Sender<()>>,
    thread: Option<std::thread::JoinHandle<()>>,
}

impl Running {
    /// Starts answering on loopback; port 0 takes a free one.
    ///
    /// # Errors
    /// [`Refused::Failed`], for instance when the port is taken.
    pub fn start(place: Place, port: u16) -> Result<Self, Refused> {
        let place = Arc::new(place);
        let runtime = tokio::runtime::Builder::new_multi_thread().enable_io().enable_time().build()?;
        let listener = runtime.block_on(TcpListener::bind(("127.0.0.1", port)))?;
        let address = listener.local_addr()?;
        place.remember_port(address.port())?;
        let (stop, stopped) = oneshot::channel::<()>();
        let (router, document) = api().finish();
        let limit = usize::try_from(place.discovery().limits.recipe_bytes).unwrap_or(usize::MAX);
        let router = router
            .route("/v1/openapi.json", axum::routing::get(move || async move { Json(document) }))
            .fallback(|| async { Refused::new(problem::NOT_FOUND, "there is nothing here", "see /v1/openapi.json") })
            .layer(DefaultBodyLimit::max(limit))
            .layer(axum::middleware::map_response(name_too_large))
            .layer(axum::middleware::from_fn(say_how_long))
            .layer(axum::middleware::from_fn_with_state(place.clone(), weather::act))
            .with_state(place.clone());
        let thread = std::thread::spawn(move || {
            runtime.block_on(async {
                let server = axum::serve(listener, router);
                tokio::select! {
                    _ = server => {}
                    _ = stopped => {}
                }
            });
            runtime.shutdown_timeout(std::time::Duration::from_secs(2));
        });
        Ok(Self { address, place, stop: Some(stop), thread: Some(thread) })
    }

    /// Returns the origin, such as `http://127.0.0.1:4870`.
    pub fn origin(&self) -> String {
        format!("http://{}", self.address)
    }

    /// Returns the place behind it.
    pub fn place(&self) -> &Place {
        &self.place
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        if let Some(stop) = self.stop.take() {
            // Anyone who would hear it may have ended already.
            let _ = stop.send(());
        }
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// Says how long an answer can be kept: what is named by its content for ever, everything else not without asking.
async fn say_how_long(request: axum::extract::Request, next: axum::middleware::Next) -> Response {
    let path = request.uri().path().to_owned();
    let is_get = request.method() == axum::http::Method::GET;
    let mut response = next.run(request).await;
    let is_named_by_content = ["/recipes/", "/segments/", "/packs/"].iter().any(|part| path.contains(part))
        && !path.ends_with("/received")
        && response.status().is_success();
    let how = if is_get && is_named_by_content { "private, max-age=31536000, immutable" } else { "no-cache" };
    response.headers_mut().entry(header::CACHE_CONTROL).or_insert(axum::http::HeaderValue::from_static(how));
    response
}

/// The body limit answers with plain text of its own; people get the problem document.
async fn name_too_large(response: Response) -> Response {
    let is_ours = response
        .headers()
        .get(HeaderName::from_static("content-type"))
        .is_some_and(|v| v == "application/problem+json");
    if response.status() == StatusCode::PAYLOAD_TOO_LARGE && !is_ours {
        return Refused::new(problem::TOO_LARGE, "the body is above the limit", "see limits in the discovery document")
            .into_response();
    }
    response
}
