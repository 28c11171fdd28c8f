//! The client for places that speak the protocol, over HTTP.

use std::io::Read;
use std::sync::Arc;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use bytes::Bytes;
use lantern_core::digest::{Digest, InvitationId, ManifestId};
use lantern_core::event::EventId;
use lantern_core::invitation::Invitation;
use lantern_core::names::{Handle, Name};
use lantern_core::points;
use lantern_core::release::MAX_RECORD_LEN;
use lantern_core::rules::HouseRules;
use reqwest::blocking::{Client, RequestBuilder, Response};
use reqwest::header::{AUTHORIZATION, IF_MATCH, RANGE, RETRY_AFTER};
use reqwest::{Method, StatusCode};
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::protocol::{
    Branch, Branches, Build, Builds, DISCOVERY_PATH, Discovery, FOLDER, IDEMPOTENCY_KEY, INVITATION, InvitationMade,
    InvitationsMade, ManifestNeeds, Move, Moves, NewBuild, NewInvitation, PROTOCOL, Play, Problem, Title, Token,
    TokenError, Withdraw, problem,
};
use crate::{PlaceError, Player, Storefront};

/// How often in a row an access that has just been given may be refused.
const RENEWALS: usize = 3;
/// How long a connection may take to come about.
const CONNECT_TIMEOUT: Duration = Duration::from_secs(10);
/// How long one request may take, a whole pack included.
const REQUEST_TIMEOUT: Duration = Duration::from_secs(120);
/// Waiting times before each further try of a request that found nobody or a failing server.
const RETRY_AFTER_MS: [u64; 4] = [100, 300, 800, 2000];
/// The longest that a server may ask us to wait.
const MAX_RETRY_AFTER: Duration = Duration::from_secs(60);
/// Longest JSON document that is read, in bytes. Ours: bounds memory against a server without end.
const MAX_JSON_LEN: u64 = 64 * 1024 * 1024;
/// Longest binary document that is read, in bytes.
const MAX_BYTES_LEN: u64 = 1024 * 1024 * 1024;

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
pub struct Market {
    origin: String,
    client: Client,
    access: Option<Access>,
    token: Mutex<Option<(String, Instant)>>,
    stop: Arc<AtomicBool>,
    /// What a player's machine shows, where it has been invited.
    invitation: Option<Invited>,
    /// Whether players' requests are made with access: once the place has refused one without.
    plays_as_maker: AtomicBool,
}

/// An invitation, and the number of the installed folder that uses it.
#[derive(Debug, Clone)]
pub struct Invited {
    /// The invitation.
    pub invitation: Invitation,
    /// Random, made once by each folder.
    pub folder: String,
}

/// What stands in the way of sending a request again when it failed.
enum Outcome {
    Done(Response),
    Again(Option<Duration>, PlaceError),
}

impl Market {
    /// Prepares a client; nothing is sent yet. `stop` ends waiting and trying again.
    ///
    /// # Errors
    /// [`PlaceError::Unreachable`] when this computer cannot speak HTTP at all.
    pub fn open(origin: &str, access: Option<Access>, stop: Arc<AtomicBool>) -> Result<Self, PlaceError> {
        let client = Client::builder()
            .connect_timeout(CONNECT_TIMEOUT)
            .timeout(REQUEST_TIMEOUT)
            .redirect(reqwest::redirect::Policy::none())
            .no_proxy()
            .user_agent(concat!("kind-lantern/", env!("CARGO_PKG_VERSION")))
            .build()
            .map_err(|e| PlaceError::Unreachable { address: origin.to_owned(), source: e.into() })?;
        let (token, plays_as_maker) = (Mutex::new(None), AtomicBool::new(false));
        Ok(Self { origin: origin.to_owned(), client, access, token, stop, invitation: None, plays_as_maker })
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
        let mut waits = RETRY_AFTER_MS.into_iter().map(Duration::from_millis);
        loop {
            if self.stop.load(Ordering::Relaxed) {
                return Err(PlaceError::Stopped);
            }
            let (asked, error) = match self.try_once(make()?) {
                Outcome::Done(response) => return Ok(response),
                Outcome::Again(asked, error) => (asked, error),
            };
            let Some(wait) = waits.next() else { return Err(error) };
            self.wait(asked.unwrap_or(wait).min(MAX_RETRY_AFTER))?;
        }
    }

    fn try_once(&self, request: RequestBuilder) -> Outcome {
        let (client, request) = request.build_split();
        // What is asked, never with what access.
        let asked = request.as_ref().map_or_else(ToString::to_string, |r| format!("{} {}", r.method(), r.url()));
        points::pass();
        let started = Instant::now();
        let answer = request.and_then(|request| client.execute(request));
        points::pass();
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

    fn wait(&self, time: Duration) -> Result<(), PlaceError> {
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
        serde_json::from_slice(bytes).map_err(|e| self.nonsense(what, e))
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
        let until = Instant::now() + Duration::from_secs(token.expires_in.saturating_sub(30));
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
        let mut waits = RETRY_AFTER_MS.into_iter().map(Duration::from_millis);
        loop {
            match self.answer(ask()?, limit) {
                Err(error @ PlaceError::Unreachable { .. }) => match waits.next() {
                    Some(wait) => self.wait(wait)?,
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

    fn get_bytes(&self, path: &str) -> Result<Vec<u8>, PlaceError> {
        self.whole(MAX_BYTES_LEN, &|| self.with_access(&|| self.client.get(self.url(path))))
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
    fn play_bytes(&self, path: &str, range: Option<(u32, u32)>) -> Result<Vec<u8>, PlaceError> {
        if !self.plays_as_maker.load(Ordering::Relaxed) {
            let refused = match self.play_once(path, range, false) {
                Err(error) if is_for_others(&error) && self.access.is_some() => error,
                other => return other,
            };
            log::info!("asking with access: {refused}");
        }
        let bytes = self.play_once(path, range, true)?;
        self.plays_as_maker.store(true, Ordering::Relaxed);
        Ok(bytes)
    }

    fn play_once(&self, path: &str, range: Option<(u32, u32)>, as_maker: bool) -> Result<Vec<u8>, PlaceError> {
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
            self.part(response, range.is_some())
        };
        self.whole(range.map_or(MAX_BYTES_LEN, |(_, len)| u64::from(len)), &ask)
    }

    /// A server may answer a range with the whole; that is not what can be used here.
    fn part(&self, response: Response, is_range: bool) -> Result<Response, PlaceError> {
        if is_range && response.status() == StatusCode::OK {
            return Err(self.nonsense("a part of a pack", "the whole pack came"));
        }
        Ok(response)
    }
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

impl Storefront for Market {
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
        self.get(&format!("/v1/titles/{title}"), "a title")
    }

    fn put_manifest(&self, title: &Handle, id: ManifestId, root: Vec<u8>) -> Result<ManifestNeeds, PlaceError> {
        let answer = self.put_bytes(&format!("/v1/titles/{title}/manifests/{}", id.0.hex()), root)?;
        self.json(&answer, "an answer about a manifest")
    }

    fn put_segment(&self, title: &Handle, digest: &Digest, bytes: Vec<u8>) -> Result<(), PlaceError> {
        self.put_bytes(&format!("/v1/titles/{title}/segments/{}", digest.hex()), bytes).map(|_| ())
    }

    fn put_pack(&self, title: &Handle, digest: &Digest, bytes: Bytes) -> Result<(), PlaceError> {
        self.put_bytes(&format!("/v1/titles/{title}/packs/{}", digest.hex()), bytes).map(|_| ())
    }

    fn get_manifest(&self, title: &Handle, id: ManifestId) -> Result<Vec<u8>, PlaceError> {
        self.get_bytes(&format!("/v1/titles/{title}/manifests/{}", id.0.hex()))
    }

    fn get_segment(&self, title: &Handle, digest: &Digest) -> Result<Vec<u8>, PlaceError> {
        self.get_bytes(&format!("/v1/titles/{title}/segments/{}", digest.hex()))
    }

    fn get_locator(&self, title: &Handle, id: ManifestId) -> Result<Vec<u8>, PlaceError> {
        self.get_bytes(&format!("/v1/titles/{title}/locators/{}", id.0.hex()))
    }

    fn get_pack(&self, title: &Handle, pack: &Digest, offset: u32, len: u32) -> Result<Vec<u8>, PlaceError> {
        let url = self.url(&format!("/v1/titles/{title}/packs/{}", pack.hex()));
        let make = || self.client.get(&url).header(RANGE, bytes_of(offset, len));
        self.whole(u64::from(len), &|| self.part(self.with_access(&make)?, true))
    }

    fn builds(&self, title: &Handle) -> Result<Builds, PlaceError> {
        self.get(&format!("/v1/titles/{title}/builds"), "a list of builds")
    }

    fn record(&self, title: &Handle, build: u64) -> Result<Vec<u8>, PlaceError> {
        self.whole(MAX_RECORD_LEN, &|| {
            self.with_access(&|| self.client.get(self.url(&format!("/v1/titles/{title}/builds/{build}/record"))))
        })
    }

    fn make_build(&self, title: &Handle, key: EventId, build: &NewBuild) -> Result<Build, PlaceError> {
        self.post(&format!("/v1/titles/{title}/builds"), key, None, build, "a build")
    }

    fn withdraw_build(&self, title: &Handle, build: u64, key: EventId, why: &Withdraw) -> Result<Build, PlaceError> {
        self.post(&format!("/v1/titles/{title}/builds/{build}/withdrawal"), key, None, why, "a build")
    }

    fn branches(&self, title: &Handle) -> Result<Branches, PlaceError> {
        self.get(&format!("/v1/titles/{title}/branches"), "a list of branches")
    }

    fn moves(&self, title: &Handle, branch: &Name) -> Result<Moves, PlaceError> {
        self.get(&format!("/v1/titles/{title}/branches/{branch}/moves"), "a branch's history")
    }

    fn move_branch(
        &self,
        title: &Handle,
        branch: &Name,
        revision: u64,
        key: EventId,
        wanted: &Move,
    ) -> Result<Branch, PlaceError> {
        self.post(&format!("/v1/titles/{title}/branches/{branch}/moves"), key, Some(revision), wanted, "a branch")
    }

    fn invite(
        &self,
        title: &Handle,
        branch: &Name,
        key: EventId,
        invitation: &NewInvitation,
    ) -> Result<InvitationMade, PlaceError> {
        let path = format!("/v1/titles/{title}/branches/{branch}/invitations");
        self.post(&path, key, None, invitation, "an invitation")
    }

    fn invitations(&self, title: &Handle, branch: &Name) -> Result<InvitationsMade, PlaceError> {
        self.get(&format!("/v1/titles/{title}/branches/{branch}/invitations"), "a list of invitations")
    }

    fn end_invitation(
        &self,
        title: &Handle,
        branch: &Name,
        key: EventId,
        id: InvitationId,
    ) -> Result<InvitationMade, PlaceError> {
        let path = format!("/v1/titles/{title}/branches/{branch}/invitations/{}/end", id.0.hex());
        self.post(&path, key, None, &serde_json::json!({}), "an invitation")
    }
}

impl Player for Market {
    fn play(&self, title: &Handle, branch: &Name) -> Result<Play, PlaceError> {
        let bytes = self.play_bytes(&format!("/v1/play/{title}/{branch}"), None)?;
        self.json(&bytes, "a branch for players")
    }

    fn play_manifest(&self, title: &Handle, branch: &Name, id: ManifestId) -> Result<Vec<u8>, PlaceError> {
        self.play_bytes(&format!("/v1/play/{title}/{branch}/manifests/{}", id.0.hex()), None)
    }

    fn play_segment(&self, title: &Handle, branch: &Name, digest: &Digest) -> Result<Vec<u8>, PlaceError> {
        self.play_bytes(&format!("/v1/play/{title}/{branch}/segments/{}", digest.hex()), None)
    }

    fn play_locator(&self, title: &Handle, branch: &Name, id: ManifestId) -> Result<Vec<u8>, PlaceError> {
        self.play_bytes(&format!("/v1/play/{title}/{branch}/locators/{}", id.0.hex()), None)
    }

    fn play_pack(
        &self,
        title: &Handle,
        branch: &Name,
        pack: &Digest,
        offset: u32,
        len: u32,
    ) -> Result<Vec<u8>, PlaceError> {
        self.play_bytes(&format!("/v1/play/{title}/{branch}/packs/{}", pack.hex()), Some((offset, len)))
    }
}
