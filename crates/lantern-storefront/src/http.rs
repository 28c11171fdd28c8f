//! The client for storefronts that speak the protocol, over HTTP.

mod access;
mod branch_names;
mod pace;
mod player;
mod publisher;
mod spare;
mod time_stamps;
mod waiting;

use std::io::Read;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, OnceLock};
use std::time::{Duration, Instant};

use lantern_core::failpoint;
use reqwest::StatusCode;
use reqwest::blocking::{Client, Request, RequestBuilder, Response};
use reqwest::header::RETRY_AFTER;

use self::pace::Pace;
use self::spare::{MOST_AT_ONCE, Spare, read_into};
use self::waiting::{pause, unless_stopped};
use crate::StorefrontError;
use crate::opening::Opening;
use crate::protocol::{DISCOVERY_PATH, Discovery, PROTOCOL, Problem};

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
/// The longest that a server may ask us to wait.
const MAX_RETRY_AFTER: Duration = Duration::from_secs(60);
/// Longest JSON document that is read, in bytes. Ours: bounds memory against a server without end.
const MAX_JSON_LEN: u64 = 64 * 1024 * 1024;
/// How long the answer to a request that may change something is still waited for when someone asks to stop: storefronts that
/// are well answer within it, so that it is known what was done.
const GRACE: Duration = Duration::from_millis(500);

pub use time_stamps::{StampServer, StampServerError};

/// A storefront that speaks the protocol.
#[derive(Debug)]
pub struct HttpStorefront {
    origin: String,
    client: Client,
    /// For addresses with TLS that a storefront without it leads to; made when the first of them is met.
    client_elsewhere: OnceLock<Client>,
    opening: Opening,
    discovery: OnceLock<Discovery>,
    token: Mutex<Option<(String, Instant)>>,
    /// Whether players' requests are made with access: once the storefront has refused one without.
    plays_as_maker: AtomicBool,
    /// Whether content travels, so that it is worth to wait long for a line that went away.
    is_patient: AtomicBool,
    /// How content that is sent is cut, by how fast the line is.
    pace: Pace,
    /// For the content that comes.
    spare: Spare,
}

/// What is in the way of sending a request again when it failed.
enum Outcome {
    Done(Response),
    Again(Option<Duration>, StorefrontError),
    Stopped,
}

/// Whether the request that a response answers may have changed something.
#[derive(Clone)]
struct MayChange(bool);

fn may_change(response: &Response) -> bool {
    response.extensions().get::<MayChange>().is_some_and(|may| may.0)
}

/// How long an answer is still waited for when someone asks to stop.
fn grace(may_change: bool) -> Duration {
    if may_change { GRACE } else { Duration::ZERO }
}

/// How the library for TLS begins what it says of a certificate that it does not take.
const BAD_CERTIFICATE: &str = "invalid peer certificate: ";

/// What is wrong with a certificate, in words; what is not known here stays as the library says it.
fn certificate_wrong(why: &str) -> String {
    let known = [
        ("UnknownIssuer", "nobody that this computer trusts has signed it"),
        ("Expired", "it has expired"),
        ("certificate expired", "it has expired"),
        ("NotValidYet", "it is not valid yet"),
        ("certificate not valid yet", "it is not valid yet"),
        ("NotValidForName", "it is for another name"),
        ("certificate not valid for name", "it is for another name"),
        ("CaUsedAsEndEntity", "it is that of an authority, which no server may have"),
        ("Revoked", "it was revoked"),
    ];
    let words = known.into_iter().find(|(begin, _)| why.contains(begin)).map(|(_, words)| words);
    words.unwrap_or(why).to_owned()
}

/// The library wraps the reason three times over; the innermost one is what people can use.
fn innermost(error: &reqwest::Error) -> String {
    let mut root: &dyn std::error::Error = error;
    while let Some(source) = root.source() {
        root = source;
    }
    root.to_string()
}

/// Why a request failed, in words.
fn words_of(error: &reqwest::Error) -> String {
    let why = innermost(error);
    match why.strip_prefix(BAD_CERTIFICATE) {
        Some(why) => format!("its certificate is not taken: {}", certificate_wrong(why)),
        None if error.is_timeout() => "it did not answer in time".to_owned(),
        None => why,
    }
}

/// A client for addresses that begin as `origin` does.
fn client_for(origin: &str) -> Result<Client, reqwest::Error> {
    let client = Client::builder()
        .connect_timeout(CONNECT_TIMEOUT)
        .timeout(SILENCE)
        .redirect(reqwest::redirect::Policy::none())
        .user_agent(concat!("kind-lantern/", env!("CARGO_PKG_VERSION")));
    // What is on this computer is asked directly: a proxy of the environment may lead to others. Nor are the certificates read that the system
    // trusts, which takes longer than the rest of a short command.
    let client = if origin.starts_with("http://") { client.no_proxy().tls_certs_only([]) } else { client };
    client.build()
}

impl HttpStorefront {
    /// Prepares a client; nothing is sent yet.
    ///
    /// # Errors
    /// [`StorefrontError::Unreachable`] when this computer cannot speak HTTP at all.
    pub fn open(origin: &str, opening: Opening) -> Result<Self, StorefrontError> {
        let client = client_for(origin)
            .map_err(|e| StorefrontError::Unreachable { address: origin.to_owned(), source: e.into() })?;
        Ok(Self {
            origin: origin.to_owned(),
            client,
            client_elsewhere: OnceLock::new(),
            opening,
            discovery: OnceLock::new(),
            token: Mutex::default(),
            plays_as_maker: AtomicBool::new(false),
            is_patient: AtomicBool::new(false),
            pace: Pace::default(),
            spare: Spare::default(),
        })
    }

    fn is_stopped(&self) -> bool {
        self.opening.stop.load(Ordering::Relaxed)
    }

    /// The client for an address that the storefront leads to.
    fn client_of(&self, address: &reqwest::Url) -> Result<&Client, StorefrontError> {
        if address.scheme() == "http" || self.origin.starts_with("https://") {
            return Ok(&self.client);
        }
        if let Some(client) = self.client_elsewhere.get() {
            return Ok(client);
        }
        let client = client_for(address.as_str()).map_err(|error| self.unreachable(error))?;
        Ok(self.client_elsewhere.get_or_init(|| client))
    }

    /// What the storefront says of itself. It is asked once.
    fn discovery(&self) -> Result<&Discovery, StorefrontError> {
        if let Some(known) = self.discovery.get() {
            return Ok(known);
        }
        let bytes = self.whole(MAX_JSON_LEN, &|| self.send(&|| Ok(self.client.get(self.url(DISCOVERY_PATH)))))?;
        let discovery: Discovery = self.json(&bytes, "a discovery document")?;
        if discovery.protocol != PROTOCOL {
            return Err(StorefrontError::Protocol { address: self.origin.clone(), theirs: discovery.protocol });
        }
        Ok(self.discovery.get_or_init(|| discovery))
    }

    fn url(&self, path: &str) -> String {
        format!("{}{path}", self.origin)
    }

    /// Who was asked: the storefront, or whom it leads to.
    fn asked(&self, address: Option<&reqwest::Url>) -> String {
        match address {
            Some(address) if !address.as_str().starts_with(&self.origin) => address.origin().ascii_serialization(),
            _ => self.origin.clone(),
        }
    }

    fn unreachable(&self, error: reqwest::Error) -> StorefrontError {
        let (address, why) = (self.asked(error.url()), innermost(&error));
        match why.strip_prefix(BAD_CERTIFICATE) {
            Some(why) => StorefrontError::Certificate { address, why: certificate_wrong(why) },
            None => StorefrontError::Unreachable { address, source: why.into() },
        }
    }

    fn nonsense(
        &self,
        what: &'static str,
        source: impl Into<Box<dyn std::error::Error + Send + Sync>>,
    ) -> StorefrontError {
        StorefrontError::Nonsense { address: self.origin.clone(), what, source: source.into() }
    }

    /// Sends until an answer comes that is not a passing failure. Everything that is sent may be sent twice.
    fn send(&self, make: &dyn Fn() -> Result<RequestBuilder, StorefrontError>) -> Result<Response, StorefrontError> {
        let mut waits = self.waits();
        let mut may_be_done = false;
        loop {
            if self.is_stopped() {
                return Err(self.stopped(may_be_done));
            }
            let (client, request) = make()?.build_split();
            let request = request.map_err(|error| self.unreachable(error))?;
            may_be_done |= !request.method().is_safe();
            let (asked, error) = match self.try_once(&client, request) {
                Outcome::Done(response) => return Ok(response),
                // Who is not the storefront now is not it in a moment.
                Outcome::Again(_, error @ StorefrontError::Certificate { .. }) => return Err(error),
                Outcome::Again(asked, error) => (asked, error),
                Outcome::Stopped => return Err(self.stopped(may_be_done)),
            };
            let Some(wait) = waits.next() else { return Err(error) };
            let time = asked.unwrap_or(wait).min(MAX_RETRY_AFTER);
            let why = match asked {
                Some(_) => format!("{} asks to wait", self.origin),
                None => error.to_string(),
            };
            if !self.wait(time, &why) {
                return Err(self.stopped(may_be_done));
            }
        }
    }

    fn try_once(&self, client: &Client, request: Request) -> Outcome {
        // What is asked, never with what access.
        let asked = format!("{} {}", request.method(), request.url());
        let may_change = !request.method().is_safe();
        failpoint::pass();
        let started = Instant::now();
        let client = client.clone();
        let answer = unless_stopped(&self.opening.stop, grace(may_change), move || client.execute(request));
        failpoint::pass();
        let ms = started.elapsed().as_millis();
        match answer {
            Err(source) => Outcome::Again(None, self.no_thread(source)),
            Ok(None) => {
                log::warn!("{asked}: stopped after {ms} ms, without an answer");
                Outcome::Stopped
            }
            Ok(Some(Err(error))) => {
                log::warn!("{asked}: no answer in {ms} ms: {error}");
                Outcome::Again(None, self.unreachable(error))
            }
            Ok(Some(Ok(mut response))) => {
                let status = response.status();
                log::info!("{asked}: {} in {ms} ms", status.as_u16());
                if status.is_server_error() || status == StatusCode::TOO_MANY_REQUESTS {
                    let asked = response.headers().get(RETRY_AFTER).and_then(|v| v.to_str().ok()?.parse().ok());
                    let error =
                        StorefrontError::Failed { address: self.asked(Some(response.url())), status: status.as_u16() };
                    return Outcome::Again(asked.map(Duration::from_secs), error);
                }
                response.extensions_mut().insert(MayChange(may_change));
                Outcome::Done(response)
            }
        }
    }

    /// What a stop means to the caller: `may_be_done` says whether something was sent that changes something there.
    fn stopped(&self, may_be_done: bool) -> StorefrontError {
        match may_be_done {
            true => StorefrontError::Unanswered { address: self.origin.clone() },
            false => StorefrontError::Stopped,
        }
    }

    fn no_thread(&self, source: std::io::Error) -> StorefrontError {
        StorefrontError::Unreachable { address: self.origin.clone(), source: source.into() }
    }

    fn waits(&self) -> impl Iterator<Item = Duration> {
        let more = if self.is_patient.load(Ordering::Relaxed) { &PATIENT_MS[..] } else { &[] };
        RETRY_AFTER_MS.iter().chain(more).copied().map(Duration::from_millis)
    }

    /// Waits before another try, and says whether nobody asked to stop meanwhile.
    fn wait(&self, time: Duration, why: &str) -> bool {
        if let Some(on_wait) = self.opening.on_wait.as_ref().filter(|_| time >= SAID_FROM) {
            on_wait.tell(time, why);
        }
        pause(time, &self.opening.stop)
    }

    fn read(&self, response: Response, limit: u64) -> Result<Vec<u8>, StorefrontError> {
        let may_be_done = may_change(&response);
        // A server need not say how much comes; of a part that was asked for it is known.
        let expected = response.content_length().unwrap_or(if limit <= MOST_AT_ONCE { limit } else { 0 }).min(limit);
        let memory = self.spare.take(expected);
        let read = move || read_into(memory, expected, &mut response.take(limit + 1));
        let bytes = match unless_stopped(&self.opening.stop, grace(may_be_done), read) {
            Ok(Some(Ok(bytes))) => bytes,
            Ok(Some(Err(source))) => {
                return Err(StorefrontError::Unreachable { address: self.origin.clone(), source: source.into() });
            }
            Ok(None) => return Err(self.stopped(may_be_done)),
            Err(source) => return Err(self.no_thread(source)),
        };
        if bytes.len() as u64 > limit {
            return Err(self.nonsense("an answer of a sensible length", format!("more than {limit} bytes came")));
        }
        Ok(bytes)
    }

    /// Reads an answer, or the problem that came in its place.
    fn answer(&self, response: Response, limit: u64) -> Result<Vec<u8>, StorefrontError> {
        let status = response.status();
        if status.is_success() {
            return self.read(response, limit);
        }
        let bytes = self.read(response, MAX_JSON_LEN)?;
        match serde_json::from_slice::<Problem>(&bytes) {
            Ok(problem) => Err(StorefrontError::Refused(Box::new(problem))),
            Err(_) => Err(StorefrontError::Failed { address: self.origin.clone(), status: status.as_u16() }),
        }
    }

    /// Asks and reads the whole answer; one that is cut in the middle is asked for again, which harms nothing.
    fn whole(
        &self,
        limit: u64,
        ask: &dyn Fn() -> Result<Response, StorefrontError>,
    ) -> Result<Vec<u8>, StorefrontError> {
        let mut waits = self.waits();
        let mut may_be_done = false;
        loop {
            let response = match ask() {
                Err(StorefrontError::Stopped) => return Err(self.stopped(may_be_done)),
                response => response?,
            };
            may_be_done |= may_change(&response);
            match self.answer(response, limit) {
                Err(error @ StorefrontError::Unreachable { .. }) => match waits.next() {
                    Some(wait) if self.wait(wait, &error.to_string()) => {}
                    Some(_) => return Err(self.stopped(may_be_done)),
                    None => return Err(error),
                },
                other => return other,
            }
        }
    }

    /// A server may answer a range with the whole; that is not what can be used here.
    fn part(&self, response: Response, is_range: bool) -> Result<Response, StorefrontError> {
        if is_range && response.status() == StatusCode::OK {
            return Err(self.nonsense("a part of a pack", "the whole pack came"));
        }
        Ok(response)
    }
}

/// A range of bytes as RFC 9110, section 14.1.2, writes it.
fn bytes_of(offset: u32, len: u32) -> String {
    format!("bytes={offset}-{}", u64::from(offset) + u64::from(len.max(1)) - 1)
}
