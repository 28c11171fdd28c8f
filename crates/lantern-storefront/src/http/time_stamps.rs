//! Asks an authority for time stamps. Source: RFC 3161, section 3.4 (<https://www.rfc-editor.org/rfc/rfc3161>).

use std::io::Read;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use reqwest::blocking::Client;
use reqwest::header::CONTENT_TYPE;

use super::{CONNECT_TIMEOUT, words_of};

const REQUEST: &str = "application/timestamp-query";
const REPLY: &str = "application/timestamp-reply";
/// How long an answer may take. Ours: authorities answer within a second.
const SILENCE: Duration = Duration::from_secs(30);
/// Waiting times before each further try.
const WAITS: [Duration; 3] = [Duration::from_millis(500), Duration::from_secs(2), Duration::from_secs(5)];

/// An authority that is asked over HTTP.
#[derive(Debug)]
pub struct StampServer {
    address: String,
    client: Client,
    stop: Arc<AtomicBool>,
}

/// Why an authority did not answer.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum StampServerError {
    /// Nobody answered, or not with what was asked for.
    #[error("{0}")]
    NoAnswer(String),
    /// Someone asked to stop.
    #[error("nothing is half done")]
    Stopped,
}

impl StampServer {
    /// Prepares a client; nothing is sent yet.
    ///
    /// # Errors
    /// When this computer cannot speak HTTP at all.
    pub fn new(address: &str, stop: Arc<AtomicBool>) -> Result<Self, StampServerError> {
        let client = Client::builder()
            .connect_timeout(CONNECT_TIMEOUT)
            .timeout(SILENCE)
            .redirect(reqwest::redirect::Policy::limited(3))
            .user_agent(concat!("kind-lantern/", env!("CARGO_PKG_VERSION")));
        let client = client.build().map_err(|error| StampServerError::NoAnswer(words_of(&error)))?;
        Ok(Self { address: address.to_owned(), client, stop })
    }

    /// Its address.
    pub fn address(&self) -> &str {
        &self.address
    }

    /// Sends a request, again where nobody answers or the server fails; returns what came back, of at most `limit` bytes.
    ///
    /// # Errors
    /// [`StampServerError`].
    pub fn ask(&self, request: &[u8], limit: u64) -> Result<Vec<u8>, StampServerError> {
        let mut waits = WAITS.iter();
        loop {
            if self.stop.load(Ordering::Relaxed) {
                return Err(StampServerError::Stopped);
            }
            let why = match self.try_once(request, limit) {
                Ok(reply) => return Ok(reply),
                Err((why, false)) => return Err(StampServerError::NoAnswer(why)),
                Err((why, true)) => why,
            };
            let Some(wait) = waits.next() else { return Err(StampServerError::NoAnswer(why)) };
            let end = Instant::now() + *wait;
            while Instant::now() < end && !self.stop.load(Ordering::Relaxed) {
                std::thread::sleep(Duration::from_millis(20).min(*wait));
            }
        }
    }

    /// Why there is no answer, and whether another try may help.
    fn try_once(&self, request: &[u8], limit: u64) -> Result<Vec<u8>, (String, bool)> {
        let started = Instant::now();
        let answer = self.client.post(&self.address).header(CONTENT_TYPE, REQUEST).body(request.to_vec()).send();
        log::info!("a time stamp was asked for, {} ms", started.elapsed().as_millis());
        let answer = answer.map_err(|error| (words_of(&error), !error.is_redirect()))?;
        let status = answer.status();
        if !status.is_success() {
            let may_pass = status.is_server_error() || status.as_u16() == 429;
            return Err((format!("it answered with {}", status.as_u16()), may_pass));
        }
        let kind = answer.headers().get(CONTENT_TYPE).and_then(|kind| kind.to_str().ok()).unwrap_or_default();
        if !kind.starts_with(REPLY) {
            return Err(("what answered is no time-stamp authority".to_owned(), false));
        }
        let mut bytes = Vec::new();
        let read = answer.take(limit + 1).read_to_end(&mut bytes);
        read.map_err(|error| (format!("its answer broke off: {error}"), true))?;
        match bytes.len() as u64 > limit {
            true => Err(("its answer has no end".to_owned(), false)),
            false => Ok(bytes),
        }
    }
}
