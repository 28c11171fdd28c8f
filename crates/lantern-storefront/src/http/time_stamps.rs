//! Asks an authority for time stamps. Source: RFC 3161, section 3.4 (<https://www.rfc-editor.org/rfc/rfc3161>).

use std::io::Read;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use reqwest::blocking::Client;
use reqwest::header::CONTENT_TYPE;

use super::waiting::{pause, unless_stopped};
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
    waits: [Duration; 3],
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
        Self::with_patience(address, stop, SILENCE, WAITS)
    }

    fn with_patience(
        address: &str,
        stop: Arc<AtomicBool>,
        patience: Duration,
        waits: [Duration; 3],
    ) -> Result<Self, StampServerError> {
        let client = Client::builder()
            .connect_timeout(CONNECT_TIMEOUT.min(patience))
            .timeout(patience)
            .redirect(reqwest::redirect::Policy::limited(3))
            .user_agent(concat!("kind-lantern/", env!("CARGO_PKG_VERSION")));
        let client = client.build().map_err(|error| StampServerError::NoAnswer(words_of(&error)))?;
        Ok(Self { address: address.to_owned(), client, stop, waits })
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
        let mut waits = self.waits.iter();
        loop {
            if self.stop.load(Ordering::Relaxed) {
                return Err(StampServerError::Stopped);
            }
            let (client, address, request) = (self.client.clone(), self.address.clone(), request.to_vec());
            let answer =
                unless_stopped(&self.stop, Duration::ZERO, move || try_once(&client, &address, request, limit));
            let why = match answer.map_err(|error| StampServerError::NoAnswer(error.to_string()))? {
                None => return Err(StampServerError::Stopped),
                Some(Ok(reply)) => return Ok(reply),
                Some(Err((why, false))) => return Err(StampServerError::NoAnswer(why)),
                Some(Err((why, true))) => why,
            };
            let Some(wait) = waits.next() else { return Err(StampServerError::NoAnswer(why)) };
            if !pause(*wait, &self.stop) {
                return Err(StampServerError::Stopped);
            }
        }
    }
}

/// Why there is no answer, and whether another try may help.
fn try_once(client: &Client, address: &str, request: Vec<u8>, limit: u64) -> Result<Vec<u8>, (String, bool)> {
    let started = Instant::now();
    let answer = client.post(address).header(CONTENT_TYPE, REQUEST).body(request).send();
    log::info!("a time stamp was asked for, {} ms", started.elapsed().as_millis());
    // Who is slow once is slow again: nobody waits for that four times.
    let may_pass = |error: &reqwest::Error| !error.is_redirect() && !error.is_timeout();
    let answer = answer.map_err(|error| (words_of(&error), may_pass(&error)))?;
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

#[cfg(test)]
mod tests {
    use std::io::Write;
    use std::net::TcpListener;
    use std::sync::Mutex;

    use super::*;

    /// A server that answers each connection with the next of these texts, and after the last one not at all.
    fn server(answers: Vec<Vec<u8>>) -> (String, Arc<Mutex<usize>>) {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = format!("http://{}/stamp", listener.local_addr().unwrap());
        let asked = Arc::new(Mutex::new(0));
        let count = asked.clone();
        std::thread::spawn(move || {
            let mut open = Vec::new();
            for mut client in listener.incoming().map(Result::unwrap) {
                let mut asked = count.lock().unwrap();
                let mut request = [0; 4096];
                let _ = client.read(&mut request);
                if let Some(answer) = answers.get(*asked) {
                    let _ = client.write_all(answer);
                } else {
                    open.push(client);
                }
                *asked += 1;
            }
        });
        (address, asked)
    }

    fn answer(head: &str, body: &[u8]) -> Vec<u8> {
        let head = format!("HTTP/1.1 {head}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n", body.len());
        [head.as_bytes(), body].concat()
    }

    fn ask(address: &str) -> Result<Vec<u8>, String> {
        let server = StampServer::with_patience(
            address,
            Arc::default(),
            Duration::from_millis(400),
            [Duration::from_millis(5); 3],
        )
        .unwrap();
        server.ask(b"a request", 1000).map_err(|error| error.to_string())
    }

    fn good(body: &[u8]) -> Vec<u8> {
        answer("200 OK\r\nContent-Type: application/timestamp-reply", body)
    }

    #[test]
    fn a_server_that_fails_is_asked_again() {
        let (address, asked) = server(vec![answer("503 Busy", b""), good(b"a token")]);
        assert_eq!(ask(&address), Ok(b"a token".to_vec()));
        assert_eq!(*asked.lock().unwrap(), 2);
    }

    #[test]
    fn what_is_wrong_has_its_own_words() {
        let said = |answers: Vec<Vec<u8>>| ask(&server(answers).0).unwrap_err();
        let page = answer("200 OK\r\nContent-Type: text/html", b"<html>");
        assert_eq!(said(vec![page]), "what answered is no time-stamp authority");
        assert_eq!(said(vec![answer("403 No", b"")]), "it answered with 403");
        assert_eq!(said(vec![good(&[7; 2000])]), "its answer has no end");
        assert_eq!(said(Vec::new()), "it did not answer in time");
        // Nobody listens there any more.
        let closed = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
        assert!(ask(&format!("http://{closed}/stamp")).unwrap_err().contains("refused"));
    }

    #[test]
    fn a_silent_server_keeps_nobody_who_wants_to_stop() {
        let stop = Arc::new(AtomicBool::new(false));
        let server = StampServer::new(&server(Vec::new()).0, stop.clone()).unwrap();
        let started = Instant::now();
        std::thread::spawn(move || {
            std::thread::sleep(Duration::from_millis(200));
            stop.store(true, Ordering::Relaxed);
        });
        assert_eq!(server.ask(b"a request", 1000), Err(StampServerError::Stopped));
        assert!(started.elapsed() < SILENCE / 3, "{:?}", started.elapsed());
    }

    #[test]
    fn nothing_is_asked_once_it_is_stopped() {
        let stop = Arc::new(AtomicBool::new(true));
        let server = StampServer::new("http://127.0.0.1:9/stamp", stop).unwrap();
        assert_eq!(server.ask(b"a request", 1000), Err(StampServerError::Stopped));
    }
}
