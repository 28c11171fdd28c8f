//! The client for places that speak the protocol, over HTTP.

use std::collections::BTreeMap;
use std::io::Read;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Mutex, OnceLock};
use std::time::{Duration, Instant};

use bytes::Bytes;
use lantern_core::digest::{Digest, InvitationId, RecipeId};
use lantern_core::event::EventId;
use lantern_core::failpoint;
use lantern_core::invitation::Invitation;
use lantern_core::limits::{MAX_LOCATOR_LEN, MAX_ROOT_LEN, MAX_SEGMENT_LEN};
use lantern_core::names::{Handle, Name, percent_encoded};
use lantern_core::release::MAX_RECORD_LEN;
use lantern_core::rules::HouseRules;
use reqwest::blocking::{Client, RequestBuilder, Response};
use reqwest::header::{AUTHORIZATION, CONTENT_RANGE, IF_MATCH, LOCATION, RANGE, RETRY_AFTER};
use reqwest::{Method, StatusCode};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

use crate::protocol::{
    Branch, Branches, Build, Builds, DISCOVERY_PATH, Discovery, FOLDER, IDEMPOTENCY_KEY, INVITATION, InvitationMade,
    InvitationsMade, Move, Moves, NewBuild, NewInvitation, PIECES, PROTOCOL, PackReceived, Play, Problem, RecipeNeeds,
    Title, Token, TokenError, Withdraw, problem,
};
use crate::{PlaceError, Player, Storefront};

/// How often in a row an access that has just been given may be refused.
const RENEWALS: usize = 3;
/// How long a connection may take to come about.
const CONNECT_TIMEOUT: Duration = Duration::from_secs(10);
/// How long nothing may come: of an answer's head, and then of each further part of it. What is sent in one request is small
/// enough that a slow line brings it within that time.
const SILENCE: Duration = Duration::from_secs(120);
/// Waiting times before each further try of a request that found nobody or a failing server.
const RETRY_AFTER_MS: [u64; 4] = [100, 300, 800, 2000];
/// Those that follow while content travels: a line may be away for as long as a router takes to start again.
const PATIENT_MS: [u64; 4] = [5_000, 10_000, 20_000, 30_000];
/// From which waiting time on it is said.
const SAID_FROM: Duration = Duration::from_secs(3);
/// Longest that access is trusted without being renewed, whatever the server says.
const MAX_TOKEN_LIFE: u64 = 24 * 60 * 60;
/// How often a player's request is sent on to another address.
const MAX_REDIRECTS: usize = 3;
/// Most entries that are read of a list, over all its pages.
const MAX_LISTED: usize = 1_000_000;
/// The longest that a server may ask us to wait.
const MAX_RETRY_AFTER: Duration = Duration::from_secs(60);
/// Longest JSON document that is read, in bytes. Ours: bounds memory against a server without end.
const MAX_JSON_LEN: u64 = 64 * 1024 * 1024;

/// A name and its secret for unattended use. Source: RFC 6749, section 4.4.
#[derive(Clone)]
pub struct Access {
    /// As whom.
    pub client_id: String,
    /// Shown nowhere.
    pub client_secret: String,
}

impl std::fmt::Debug for Access {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Access({}, secret not shown)", self.client_id)
    }
}

/// A place that speaks the protocol.
#[derive(Debug)]
pub struct HttpStorefront {
    origin: String,
    client: Client,
    access: Option<Access>,
    token: Mutex<Option<(String, Instant)>>,
    stop: Arc<AtomicBool>,
    /// What a player's machine shows, where it has been invited.
    invitation: Option<Invited>,
    /// Whether players' requests are made with access: once the place has refused one without.
    plays_as_maker: AtomicBool,
    /// Whether content travels, so that it is worth to wait long for a line that went away.
    is_patient: AtomicBool,
    /// How content that is sent is cut, by how fast the line is.
    pace: Pace,
    /// Whether the place takes packs in pieces, once that was asked.
    pieces: OnceLock<bool>,
    /// Hears of waiting.
    on_wait: Option<OnWait>,
    /// What the place calls our branches, where that is something else.
    branches: BTreeMap<Name, Handle>,
}

/// Is called with the time that is waited, and the reason.
type Tell = dyn Fn(Duration, &str) + Send + Sync;

/// Hears for how long is waited, and why.
#[derive(Clone)]
pub struct OnWait(Arc<Tell>);

impl OnWait {
    /// Calls this before each longer wait.
    pub fn new(tell: impl Fn(Duration, &str) + Send + Sync + 'static) -> Self {
        Self(Arc::new(tell))
    }
}

impl std::fmt::Debug for OnWait {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("OnWait")
    }
}

/// An invitation, and the number of the installed folder that uses it.
#[derive(Debug, Clone)]
pub struct Invited {
    /// The invitation.
    pub invitation: Invitation,
    /// Random, made once by each folder.
    pub folder: String,
}

/// What is in the way of sending a request again when it failed.
enum Outcome {
    Done(Response),
    Again(Option<Duration>, PlaceError),
}

impl HttpStorefront {
    /// Prepares a client; nothing is sent yet. `stop` ends waiting and trying again.
    ///
    /// # Errors
    /// [`PlaceError::Unreachable`] when this computer cannot speak HTTP at all.
    pub fn open(origin: &str, access: Option<Access>, stop: Arc<AtomicBool>) -> Result<Self, PlaceError> {
        let client = Client::builder()
            .connect_timeout(CONNECT_TIMEOUT)
            .timeout(SILENCE)
            .redirect(reqwest::redirect::Policy::none())
            .no_proxy()
            .user_agent(concat!("kind-lantern/", env!("CARGO_PKG_VERSION")))
            .build()
            .map_err(|e| PlaceError::Unreachable { address: origin.to_owned(), source: e.into() })?;
        let (token, plays_as_maker) = (Mutex::new(None), AtomicBool::new(false));
        Ok(Self {
            origin: origin.to_owned(),
            client,
            access,
            token,
            stop,
            invitation: None,
            plays_as_maker,
            is_patient: AtomicBool::new(false),
            pace: Pace::default(),
            pieces: OnceLock::new(),
            on_wait: None,
            branches: BTreeMap::new(),
        })
    }

    /// Tells someone of waiting from now on.
    #[must_use]
    pub fn telling(mut self, on_wait: Option<OnWait>) -> Self {
        self.on_wait = on_wait;
        self
    }

    /// Asks for our branches by the names that the place has for them.
    #[must_use]
    pub fn calling(mut self, branches: BTreeMap<Name, Handle>) -> Self {
        self.branches = branches;
        self
    }

    /// Waits longer from now on for a line that went away: content travels.
    pub fn be_patient(&self) {
        self.is_patient.store(true, Ordering::Relaxed);
    }

    /// What the place calls a branch, as a part of an address.
    fn branch(&self, branch: &Name) -> String {
        self.branches.get(branch).map_or_else(|| branch.to_string(), Handle::in_path)
    }

    /// Asks for players' parts with an invitation from now on.
    #[must_use]
    pub fn invited(mut self, invitation: Option<Invited>) -> Self {
        self.invitation = invitation;
        self
    }

    /// Returns the address.
    pub fn origin(&self) -> &str {
        &self.origin
    }

    fn url(&self, path: &str) -> String {
        format!("{}{path}", self.origin)
    }

    fn unreachable(&self, error: reqwest::Error) -> PlaceError {
        // The library wraps the reason three times over; the innermost one is what people can use.
        let mut root: &dyn std::error::Error = &error;
        while let Some(source) = root.source() {
            root = source;
        }
        PlaceError::Unreachable { address: self.origin.clone(), source: root.to_string().into() }
    }

    fn nonsense(&self, what: &'static str, source: impl Into<Box<dyn std::error::Error + Send + Sync>>) -> PlaceError {
        PlaceError::Nonsense { address: self.origin.clone(), what, source: source.into() }
    }

    /// Sends until an answer comes that is not a passing failure. Everything that is sent may be sent twice.
    fn send(&self, make: &dyn Fn() -> Result<RequestBuilder, PlaceError>) -> Result<Response, PlaceError> {
        let mut waits = self.waits();
        loop {
            if self.stop.load(Ordering::Relaxed) {
                return Err(PlaceError::Stopped);
            }
            let (asked, error) = match self.try_once(make()?) {
                Outcome::Done(response) => return Ok(response),
                Outcome::Again(asked, error) => (asked, error),
            };
            let Some(wait) = waits.next() else { return Err(error) };
            let time = asked.unwrap_or(wait).min(MAX_RETRY_AFTER);
            let why = match asked {
                Some(_) => format!("{} asks to wait", self.origin),
                None => error.to_string(),
            };
            self.wait(time, &why)?;
        }
    }

    fn try_once(&self, request: RequestBuilder) -> Outcome {
        let (client, request) = request.build_split();
        // What is asked, never with what access.
        let asked = request.as_ref().map_or_else(ToString::to_string, |r| format!("{} {}", r.method(), r.url()));
        failpoint::pass();
        let started = Instant::now();
        let answer = request.and_then(|request| client.execute(request));
        failpoint::pass();
        let ms = started.elapsed().as_millis();
        match &answer {
            Ok(response) => log::info!("{asked}: {} in {ms} ms", response.status().as_u16()),
            Err(error) => log::warn!("{asked}: no answer in {ms} ms: {error}"),
        }
        match answer {
            Err(error) => Outcome::Again(None, self.unreachable(error)),
            Ok(response) => {
                let status = response.status();
                if status.is_server_error() || status == StatusCode::TOO_MANY_REQUESTS {
                    let asked = response.headers().get(RETRY_AFTER).and_then(|v| v.to_str().ok()?.parse().ok());
                    let error = PlaceError::Failed { address: self.origin.clone(), status: status.as_u16() };
                    return Outcome::Again(asked.map(Duration::from_secs), error);
                }
                Outcome::Done(response)
            }
        }
    }

    fn waits(&self) -> impl Iterator<Item = Duration> {
        let more = if self.is_patient.load(Ordering::Relaxed) { &PATIENT_MS[..] } else { &[] };
        RETRY_AFTER_MS.iter().chain(more).copied().map(Duration::from_millis)
    }

    fn wait(&self, time: Duration, why: &str) -> Result<(), PlaceError> {
        if let Some(OnWait(tell)) = self.on_wait.as_ref().filter(|_| time >= SAID_FROM) {
            tell(time, why);
        }
        let end = Instant::now() + time;
        while Instant::now() < end {
            if self.stop.load(Ordering::Relaxed) {
                return Err(PlaceError::Stopped);
            }
            std::thread::sleep(Duration::from_millis(20).min(end.saturating_duration_since(Instant::now())));
        }
        Ok(())
    }

    fn read(&self, response: Response, limit: u64) -> Result<Vec<u8>, PlaceError> {
        let mut bytes = Vec::new();
        let mut body = response.take(limit + 1);
        let mut buffer = [0; 64 * 1024];
        loop {
            if self.stop.load(Ordering::Relaxed) {
                return Err(PlaceError::Stopped);
            }
            let len = body
                .read(&mut buffer)
                .map_err(|e| PlaceError::Unreachable { address: self.origin.clone(), source: e.into() })?;
            if len == 0 {
                break;
            }
            bytes.extend_from_slice(&buffer[..len]);
        }
        if bytes.len() as u64 > limit {
            return Err(self.nonsense("an answer of a sensible length", format!("more than {limit} bytes came")));
        }
        Ok(bytes)
    }

    /// Reads an answer, or the problem that came in its place.
    fn answer(&self, response: Response, limit: u64) -> Result<Vec<u8>, PlaceError> {
        let status = response.status();
        if status.is_success() {
            return self.read(response, limit);
        }
        let bytes = self.read(response, MAX_JSON_LEN)?;
        match serde_json::from_slice::<Problem>(&bytes) {
            Ok(problem) => Err(PlaceError::Refused(Box::new(problem))),
            Err(_) => Err(PlaceError::Failed { address: self.origin.clone(), status: status.as_u16() }),
        }
    }

    fn json<T: DeserializeOwned>(&self, bytes: &[u8], what: &'static str) -> Result<T, PlaceError> {
        let mut value: Value = serde_json::from_slice(bytes).map_err(|e| self.nonsense(what, e))?;
        self.name_branches(&mut value);
        serde_json::from_value(value).map_err(|e| self.nonsense(what, e))
    }

    /// Puts our names of branches where the place's stand.
    fn name_branches(&self, value: &mut Value) {
        match value {
            Value::Array(items) => items.iter_mut().for_each(|item| self.name_branches(item)),
            Value::Object(fields) => {
                if let Some(fixed) = fields.get_mut("fixed").and_then(Value::as_array_mut) {
                    fixed.iter_mut().filter_map(|rule| rule.get_mut("name")).for_each(|name| self.name_branch(name));
                }
                for (key, field) in fields {
                    if key == "branch" && field.is_string() {
                        self.name_branch(field);
                    } else {
                        self.name_branches(field);
                    }
                }
            }
            _ => {}
        }
    }

    fn name_branch(&self, name: &mut Value) {
        let Some(theirs) = name.as_str() else { return };
        let ours = self.branches.iter().find(|(_, known)| known.as_str() == theirs).map(|(ours, _)| ours.to_string());
        let is_name = theirs.parse::<Name>().is_ok();
        // One that nobody gave a name here gets one that is like theirs.
        *name = ours.unwrap_or_else(|| if is_name { theirs.to_owned() } else { like(theirs) }).into();
    }

    fn fresh_token(&self) -> Result<Token, PlaceError> {
        let not_connected = || PlaceError::NotConnected { address: self.origin.clone() };
        let access = self.access.as_ref().ok_or_else(not_connected)?;
        let path = self.discovery()?.token_path;
        if !path.starts_with('/') || path.starts_with("//") {
            return Err(self.nonsense("a discovery document", "its token path leads to another origin"));
        }
        let form = [
            ("grant_type", "client_credentials"),
            ("client_id", access.client_id.as_str()),
            ("client_secret", access.client_secret.as_str()),
        ];
        let response = self.send(&|| Ok(self.client.post(self.url(&path)).form(&form)))?;
        let status = response.status();
        let bytes = self.read(response, MAX_JSON_LEN)?;
        if status.is_success() {
            return self.json(&bytes, "an access token");
        }
        let error: TokenError = self.json(&bytes, "an answer about access")?;
        match error.error.as_str() {
            "invalid_client" => Err(PlaceError::WrongSecret { address: self.origin.clone() }),
            other => Err(self.nonsense("an access token", other.to_owned())),
        }
    }

    fn token(&self) -> Result<String, PlaceError> {
        let mut kept = self.token.lock().expect("nothing panics with the lock");
        if let Some((token, until)) = kept.as_ref()
            && Instant::now() < *until
        {
            return Ok(token.clone());
        }
        let token = self.fresh_token()?;
        // Renewed a little early, so that it does not expire on the way.
        let life = token.expires_in.min(MAX_TOKEN_LIFE);
        let until = Instant::now() + Duration::from_secs(life.saturating_sub(30).max(life / 2));
        *kept = Some((token.access_token.clone(), until));
        Ok(token.access_token)
    }

    /// Sends with access; an expired token is renewed.
    fn with_access(&self, make: &dyn Fn() -> RequestBuilder) -> Result<Response, PlaceError> {
        for _ in 0..=RENEWALS {
            let token = self.token()?;
            let response = self.send(&|| Ok(make().header(AUTHORIZATION, format!("Bearer {token}"))))?;
            if response.status() != StatusCode::UNAUTHORIZED {
                return Ok(response);
            }
            // Another thread may have a fresh one by now.
            let mut kept = self.token.lock().expect("nothing panics with the lock");
            kept.take_if(|(kept, _)| *kept == token);
        }
        Err(PlaceError::AccessNotKept { address: self.origin.clone() })
    }

    /// Asks and reads the whole answer; one that is cut in the middle is asked for again, which harms nothing.
    fn whole(&self, limit: u64, ask: &dyn Fn() -> Result<Response, PlaceError>) -> Result<Vec<u8>, PlaceError> {
        let mut waits = self.waits();
        loop {
            match self.answer(ask()?, limit) {
                Err(error @ PlaceError::Unreachable { .. }) => match waits.next() {
                    Some(wait) => self.wait(wait, &error.to_string())?,
                    None => return Err(error),
                },
                other => return other,
            }
        }
    }

    fn get<T: DeserializeOwned>(&self, path: &str, what: &'static str) -> Result<T, PlaceError> {
        let ask = || self.with_access(&|| self.client.get(self.url(path)));
        self.json(&self.whole(MAX_JSON_LEN, &ask)?, what)
    }

    fn get_bytes(&self, path: &str, limit: u64) -> Result<Vec<u8>, PlaceError> {
        self.whole(limit, &|| self.with_access(&|| self.client.get(self.url(path))))
    }

    /// Reads all pages of a list.
    fn pages<T: DeserializeOwned, I>(
        &self,
        path: &str,
        what: &'static str,
        open: impl Fn(T) -> (Vec<I>, Option<String>),
    ) -> Result<Vec<I>, PlaceError> {
        let mut all = Vec::new();
        let mut after: Option<String> = None;
        loop {
            let query = after.as_ref().map_or_else(String::new, |after| format!("?after={}", percent_encoded(after)));
            let (page, next) = open(self.get(&format!("{path}{query}"), what)?);
            let is_empty = page.is_empty();
            all.extend(page);
            let Some(next) = next else { return Ok(all) };
            if is_empty || all.len() > MAX_LISTED || Some(&next) == after.as_ref() {
                return Err(self.nonsense(what, "its pages have no end"));
            }
            after = Some(next);
        }
    }

    /// Sends a pack in pieces that the line brings in a few seconds each; goes on behind what has come already.
    fn put_pieces(&self, path: &str, bytes: &Bytes) -> Result<(), PlaceError> {
        let total = bytes.len();
        let mut offset = self.received(path)?.min(total);
        if offset == total {
            offset = 0;
        }
        loop {
            let piece = bytes.slice(offset..total.min(offset + self.pace.piece()));
            let (first, last) = (offset, offset + piece.len().max(1) - 1);
            let make = || {
                let request = self.client.put(self.url(path)).body(piece.clone());
                request.header(CONTENT_RANGE, format!("bytes {first}-{last}/{total}"))
            };
            let started = Instant::now();
            let answer = match self.whole(MAX_JSON_LEN, &|| self.with_access(&make)) {
                // A try that was thought to be lost had come.
                Err(error) if error.problem() == Some(problem::WRONG_OFFSET.0) => {
                    offset = self.received(path)?.min(first);
                    continue;
                }
                other => other?,
            };
            self.pace.took(piece.len(), started.elapsed());
            if answer.is_empty() {
                return Ok(());
            }
            let at: PackReceived = self.json(&answer, "an answer about a pack")?;
            let received = usize::try_from(at.received).unwrap_or(usize::MAX);
            if at.whole {
                return Ok(());
            }
            if received <= first || received > total {
                return Err(self.nonsense("an answer about a pack", "it has not got further"));
            }
            offset = received;
        }
    }

    /// Whether the place takes packs in pieces; asked once.
    fn takes_pieces(&self) -> Result<bool, PlaceError> {
        if let Some(known) = self.pieces.get() {
            return Ok(*known);
        }
        let takes = self.discovery()?.capabilities.iter().any(|word| word == PIECES);
        Ok(*self.pieces.get_or_init(|| takes))
    }

    fn received(&self, path: &str) -> Result<usize, PlaceError> {
        match self.get::<PackReceived>(&format!("{path}/received"), "an answer about a pack") {
            Ok(at) => Ok(usize::try_from(at.received).unwrap_or(0)),
            Err(error) if error.problem() == Some(problem::NOT_FOUND.0) => Ok(0),
            Err(error) => Err(error),
        }
    }

    /// Sends bytes that are cheap to clone: a try again must not copy a whole pack.
    fn put_bytes(&self, path: &str, bytes: impl Into<Bytes>) -> Result<Vec<u8>, PlaceError> {
        let body = bytes.into();
        let make = || self.client.put(self.url(path)).body(body.clone());
        self.whole(MAX_JSON_LEN, &|| self.with_access(&make))
    }

    fn post<T: DeserializeOwned>(
        &self,
        path: &str,
        key: EventId,
        revision: Option<u64>,
        document: &impl Serialize,
        what: &'static str,
    ) -> Result<T, PlaceError> {
        let make = || {
            let request = self.client.request(Method::POST, self.url(path)).json(document);
            let request = request.header(IDEMPOTENCY_KEY, key.to_string());
            match revision {
                Some(revision) => request.header(IF_MATCH, format!("\"{revision}\"")),
                None => request,
            }
        };
        self.json(&self.whole(MAX_JSON_LEN, &|| self.with_access(&make))?, what)
    }

    /// Asks as a player does: without access, with the invitation that was given. Where that is refused, those who make the
    /// game ask with their access.
    fn play_bytes(&self, path: &str, asked: Asked) -> Result<Vec<u8>, PlaceError> {
        if !self.plays_as_maker.load(Ordering::Relaxed) {
            let refused = match self.play_once(path, asked, false) {
                Err(error) if is_for_others(&error) && self.access.is_some() => error,
                other => return other,
            };
            log::info!("asking with access: {refused}");
        }
        let bytes = self.play_once(path, asked, true)?;
        self.plays_as_maker.store(true, Ordering::Relaxed);
        Ok(bytes)
    }

    fn play_once(&self, path: &str, asked: Asked, as_maker: bool) -> Result<Vec<u8>, PlaceError> {
        let Asked { range, limit } = asked;
        let make = || {
            let mut request = self.client.get(self.url(path));
            if let Some(invited) = self.invitation.as_ref().filter(|_| !as_maker) {
                request = request.header(INVITATION, invited.invitation.reveal()).header(FOLDER, &invited.folder);
            }
            match range {
                Some((offset, len)) => request.header(RANGE, bytes_of(offset, len)),
                None => request,
            }
        };
        let ask = || {
            let response = if as_maker { self.with_access(&make)? } else { self.send(&|| Ok(make()))? };
            let response = self.follow(response, range)?;
            self.part(response, range.is_some())
        };
        self.whole(limit, &ask)
    }

    /// Goes where a player's request is sent on to, such as another host that has the content. Neither access nor invitation
    /// goes there, and nothing is believed that came from there: every part is compared with its digest.
    fn follow(&self, mut response: Response, range: Option<(u32, u32)>) -> Result<Response, PlaceError> {
        let mut from = response.url().clone();
        for _ in 0..=MAX_REDIRECTS {
            let is_redirect = matches!(response.status().as_u16(), 302 | 303 | 307 | 308);
            let to = response.headers().get(LOCATION).filter(|_| is_redirect).and_then(|v| v.to_str().ok());
            let Some(to) = to else { return Ok(response) };
            let wrong = |why: &str| self.nonsense("a part of a build", why.to_owned());
            let to = from.join(to).map_err(|e| self.nonsense("an address to go on to", e))?;
            let is_http = to.scheme() == "http" && from.scheme() == "http";
            if to.scheme() != "https" && !is_http {
                return Err(wrong("it is sent on to an address that is not safe"));
            }
            let make = || match range {
                Some((offset, len)) => self.client.get(to.clone()).header(RANGE, bytes_of(offset, len)),
                None => self.client.get(to.clone()),
            };
            response = self.send(&|| Ok(make()))?;
            from = to;
        }
        Err(self.nonsense("a part of a build", "it is sent on from one address to the next"))
    }

    /// A server may answer a range with the whole; that is not what can be used here.
    fn part(&self, response: Response, is_range: bool) -> Result<Response, PlaceError> {
        if is_range && response.status() == StatusCode::OK {
            return Err(self.nonsense("a part of a pack", "the whole pack came"));
        }
        Ok(response)
    }
}

/// What of a player's part is asked for, and how long it can be at most.
#[derive(Debug, Clone, Copy)]
struct Asked {
    range: Option<(u32, u32)>,
    limit: u64,
}

impl Asked {
    const fn whole(limit: u64) -> Self {
        Self { range: None, limit }
    }
}

/// How much is sent in one request, and by how many at a time: what a slow line brings in a few seconds.
#[derive(Debug)]
struct Pace {
    piece: AtomicUsize,
}

/// Smallest piece, in bytes: even a line of one kilobyte a second brings it before it is taken for silent.
const MIN_PIECE: usize = 64 * 1024;
/// The first piece; a line that is fast soon gets whole packs.
const FIRST_PIECE: usize = 1024 * 1024;
/// A piece that comes within this time was small.
const QUICK: Duration = Duration::from_secs(2);
/// A piece that takes longer was large.
const SLOW: Duration = Duration::from_secs(8);

impl Default for Pace {
    fn default() -> Self {
        Self { piece: AtomicUsize::new(FIRST_PIECE) }
    }
}

impl Pace {
    fn piece(&self) -> usize {
        self.piece.load(Ordering::Relaxed)
    }

    fn took(&self, len: usize, time: Duration) {
        let piece = self.piece();
        let next = match time {
            time if time < QUICK && len >= piece => piece.saturating_mul(2).min(MAX_PIECE),
            time if time > SLOW => (piece / 2).max(MIN_PIECE),
            _ => piece,
        };
        self.piece.store(next, Ordering::Relaxed);
    }
}

/// Largest piece, in bytes: more than any pack has.
const MAX_PIECE: usize = 64 * 1024 * 1024;

/// A name of ours that is like one of theirs.
fn like(theirs: &str) -> String {
    let fits = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit();
    let text: String = theirs.to_lowercase().chars().map(|c| if fits(c) { c } else { '-' }).take(64).collect();
    let text = text.trim_matches('-');
    if text.is_empty() { format!("branch-{}", Digest::of(theirs.as_bytes()).short()) } else { text.to_owned() }
}

/// Whether a refusal says that this is not for everybody.
fn is_for_others(error: &PlaceError) -> bool {
    let names = [problem::NOT_INVITED, problem::NOT_OWNED, problem::NO_RIGHT].map(|(name, ..)| name);
    error.problem().is_some_and(|problem| names.contains(&problem))
}

/// A range of bytes as RFC 9110, section 14.1.2, writes it.
fn bytes_of(offset: u32, len: u32) -> String {
    format!("bytes={offset}-{}", u64::from(offset) + u64::from(len.max(1)) - 1)
}

impl Storefront for HttpStorefront {
    fn discovery(&self) -> Result<Discovery, PlaceError> {
        let bytes = self.whole(MAX_JSON_LEN, &|| self.send(&|| Ok(self.client.get(self.url(DISCOVERY_PATH)))))?;
        let discovery: Discovery = self.json(&bytes, "a discovery document")?;
        if discovery.protocol != PROTOCOL {
            return Err(PlaceError::Protocol { address: self.origin.clone(), theirs: discovery.protocol });
        }
        Ok(discovery)
    }

    fn try_access(&self) -> Result<Token, PlaceError> {
        self.fresh_token()
    }

    fn rules(&self) -> Result<HouseRules, PlaceError> {
        self.get("/v1/rules", "house rules")
    }

    fn title(&self, title: &Handle) -> Result<Title, PlaceError> {
        self.get(&format!("/v1/titles/{}", title.in_path()), "a title")
    }

    fn put_recipe(&self, title: &Handle, id: RecipeId, root: Vec<u8>) -> Result<RecipeNeeds, PlaceError> {
        let answer = self.put_bytes(&format!("/v1/titles/{}/recipes/{}", title.in_path(), id.0.hex()), root)?;
        self.json(&answer, "an answer about a recipe")
    }

    fn put_segment(&self, title: &Handle, digest: &Digest, bytes: Vec<u8>) -> Result<(), PlaceError> {
        self.put_bytes(&format!("/v1/titles/{}/segments/{}", title.in_path(), digest.hex()), bytes).map(|_| ())
    }

    fn put_pack(&self, title: &Handle, digest: &Digest, bytes: Bytes) -> Result<(), PlaceError> {
        let path = format!("/v1/titles/{}/packs/{}", title.in_path(), digest.hex());
        if bytes.len() <= self.pace.piece() || !self.takes_pieces()? {
            let started = Instant::now();
            let len = bytes.len();
            self.put_bytes(&path, bytes)?;
            self.pace.took(len, started.elapsed());
            return Ok(());
        }
        self.put_pieces(&path, &bytes)
    }

    fn get_recipe(&self, title: &Handle, id: RecipeId) -> Result<Vec<u8>, PlaceError> {
        self.get_bytes(&format!("/v1/titles/{}/recipes/{}", title.in_path(), id.0.hex()), MAX_ROOT_LEN)
    }

    fn get_segment(&self, title: &Handle, digest: &Digest) -> Result<Vec<u8>, PlaceError> {
        self.get_bytes(&format!("/v1/titles/{}/segments/{}", title.in_path(), digest.hex()), MAX_SEGMENT_LEN)
    }

    fn get_locator(&self, title: &Handle, id: RecipeId) -> Result<Vec<u8>, PlaceError> {
        self.get_bytes(&format!("/v1/titles/{}/locators/{}", title.in_path(), id.0.hex()), MAX_LOCATOR_LEN)
    }

    fn get_pack(&self, title: &Handle, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, PlaceError> {
        let url = self.url(&format!("/v1/titles/{}/packs/{}", title.in_path(), pack.hex()));
        let make = || self.client.get(&url).header(RANGE, bytes_of(offset, len));
        self.whole(u64::from(len), &|| self.part(self.with_access(&make)?, true))
    }

    fn builds(&self, title: &Handle) -> Result<Builds, PlaceError> {
        let path = format!("/v1/titles/{}/builds", title.in_path());
        let builds = self.pages(&path, "a list of builds", |page: Builds| (page.builds, page.next))?;
        Ok(Builds { builds, next: None })
    }

    fn record(&self, title: &Handle, build: u64) -> Result<Vec<u8>, PlaceError> {
        self.whole(MAX_RECORD_LEN, &|| {
            self.with_access(&|| {
                self.client.get(self.url(&format!("/v1/titles/{}/builds/{build}/record", title.in_path())))
            })
        })
    }

    fn make_build(&self, title: &Handle, key: EventId, build: &NewBuild) -> Result<Build, PlaceError> {
        self.post(&format!("/v1/titles/{}/builds", title.in_path()), key, None, build, "a build")
    }

    fn withdraw_build(&self, title: &Handle, build: u64, key: EventId, why: &Withdraw) -> Result<Build, PlaceError> {
        self.post(&format!("/v1/titles/{}/builds/{build}/withdrawal", title.in_path()), key, None, why, "a build")
    }

    fn branches(&self, title: &Handle) -> Result<Branches, PlaceError> {
        self.get(&format!("/v1/titles/{}/branches", title.in_path()), "a list of branches")
    }

    fn moves(&self, title: &Handle, branch: &Name) -> Result<Moves, PlaceError> {
        let path = format!("/v1/titles/{}/branches/{}/moves", title.in_path(), self.branch(branch));
        let moves = self.pages(&path, "a branch's history", |page: Moves| (page.moves, page.next))?;
        Ok(Moves { moves, next: None })
    }

    fn move_branch(
        &self,
        title: &Handle,
        branch: &Name,
        revision: u64,
        key: EventId,
        wanted: &Move,
    ) -> Result<Branch, PlaceError> {
        let path = format!("/v1/titles/{}/branches/{}/moves", title.in_path(), self.branch(branch));
        self.post(&path, key, Some(revision), wanted, "a branch")
    }

    fn invite(
        &self,
        title: &Handle,
        branch: &Name,
        key: EventId,
        invitation: &NewInvitation,
    ) -> Result<InvitationMade, PlaceError> {
        let path = format!("/v1/titles/{}/branches/{}/invitations", title.in_path(), self.branch(branch));
        self.post(&path, key, None, invitation, "an invitation")
    }

    fn invitations(&self, title: &Handle, branch: &Name) -> Result<InvitationsMade, PlaceError> {
        let path = format!("/v1/titles/{}/branches/{}/invitations", title.in_path(), self.branch(branch));
        let open = |page: InvitationsMade| (page.invitations, page.next);
        let invitations = self.pages(&path, "a list of invitations", open)?;
        Ok(InvitationsMade { invitations, next: None })
    }

    fn end_invitation(
        &self,
        title: &Handle,
        branch: &Name,
        key: EventId,
        id: InvitationId,
    ) -> Result<InvitationMade, PlaceError> {
        let (title, branch) = (title.in_path(), self.branch(branch));
        let path = format!("/v1/titles/{title}/branches/{branch}/invitations/{}/end", id.0.hex());
        self.post(&path, key, None, &serde_json::json!({}), "an invitation")
    }
}

impl Player for HttpStorefront {
    fn play(&self, title: &Handle, branch: &Name) -> Result<Play, PlaceError> {
        let path = format!("/v1/play/{}/{}", title.in_path(), self.branch(branch));
        let bytes = self.play_bytes(&path, Asked::whole(MAX_JSON_LEN))?;
        self.json(&bytes, "a branch for players")
    }

    fn play_recipe(&self, title: &Handle, branch: &Name, id: RecipeId) -> Result<Vec<u8>, PlaceError> {
        let path = format!("/v1/play/{}/{}/recipes/{}", title.in_path(), self.branch(branch), id.0.hex());
        self.play_bytes(&path, Asked::whole(MAX_ROOT_LEN))
    }

    fn play_segment(&self, title: &Handle, branch: &Name, digest: &Digest) -> Result<Vec<u8>, PlaceError> {
        let path = format!("/v1/play/{}/{}/segments/{}", title.in_path(), self.branch(branch), digest.hex());
        self.play_bytes(&path, Asked::whole(MAX_SEGMENT_LEN))
    }

    fn play_locator(&self, title: &Handle, branch: &Name, id: RecipeId) -> Result<Vec<u8>, PlaceError> {
        let path = format!("/v1/play/{}/{}/locators/{}", title.in_path(), self.branch(branch), id.0.hex());
        self.play_bytes(&path, Asked::whole(MAX_LOCATOR_LEN))
    }

    fn play_pack(
        &self,
        title: &Handle,
        branch: &Name,
        pack: &Digest,
        offset: u32,
        len: u32,
    ) -> Result<Vec<u8>, PlaceError> {
        let path = format!("/v1/play/{}/{}/packs/{}", title.in_path(), self.branch(branch), pack.hex());
        self.play_bytes(&path, Asked { range: Some((offset, len)), limit: u64::from(len) })
    }
}
