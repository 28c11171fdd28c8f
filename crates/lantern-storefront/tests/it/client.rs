//! A scripted server, and what the client makes of it.

use std::collections::VecDeque;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use bytes::Bytes;
use lantern_core::config::{ProtocolStorefront, StorefrontKind};
use lantern_core::digest::{Digest, RecipeId};
use lantern_storefront::protocol::{Move, problem};
use lantern_storefront::{Access, Invited, OnWait, Opening, Storefront, StorefrontError, Upload};
use serde_json::json;

const DISCOVERY: &str = r#"{"id":"b-1","name":"Brambleyard","protocol":1,"token_path":"/v1/token",
    "limits":{"pack_bytes":1,"recipe_bytes":1,"chunk_bytes":1},"something-new":true}"#;
const TOKEN: &str = r#"{"access_token":"t","token_type":"Bearer","expires_in":3600,"scope":"read"}"#;

/// What the server does with one request.
#[derive(Clone)]
enum Step {
    /// Answers with a status, headers and a body.
    Answer(u16, &'static str, String),
    /// Hangs up without a word.
    HangUp,
    /// Announces more than it sends.
    Cut(String),
    /// Sends without end, until the client hangs up.
    Endless,
    /// Takes the request and says nothing.
    Silent,
    /// Begins an answer, and says nothing more.
    Half,
}

/// A server that follows a script, and keeps what it was asked.
struct Script {
    origin: String,
    requests: Arc<Mutex<Vec<String>>>,
}

impl Script {
    fn run(steps: Vec<Step>) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let origin = format!("http://{}", listener.local_addr().unwrap());
        let requests = Arc::new(Mutex::new(Vec::new()));
        let kept = requests.clone();
        std::thread::spawn(move || {
            let mut steps: VecDeque<Step> = steps.into();
            while let Some(step) = steps.pop_front() {
                let Ok((stream, _)) = listener.accept() else { return };
                serve(stream, step, &kept);
            }
        });
        Self { origin, requests }
    }

    fn client(&self) -> Arc<dyn Storefront> {
        self.open(Opening { access: Some(access()), ..Opening::default() })
    }

    /// A player's machine, without access.
    fn player(&self) -> Arc<dyn Storefront> {
        self.open(Opening::default())
    }

    fn open(&self, opening: Opening) -> Arc<dyn Storefront> {
        open(&self.origin, opening)
    }

    fn requests(&self) -> Vec<String> {
        self.requests.lock().unwrap().clone()
    }
}

fn access() -> Access {
    Access { client_id: "paper-heron".into(), client_secret: "hush".into() }
}

fn open(origin: &str, opening: Opening) -> Arc<dyn Storefront> {
    let kind = StorefrontKind::Protocol(ProtocolStorefront { address: origin.to_owned() });
    lantern_storefront::open(&kind, opening).unwrap()
}

fn serve(mut stream: TcpStream, step: Step, requests: &Mutex<Vec<String>>) {
    let mut reader = BufReader::new(stream.try_clone().unwrap());
    let (mut head, mut len) = (String::new(), 0);
    loop {
        let mut line = String::new();
        if reader.read_line(&mut line).unwrap_or(0) == 0 || line == "\r\n" {
            break;
        }
        if let Some(value) = line.to_lowercase().strip_prefix("content-length:") {
            len = value.trim().parse().unwrap_or(0);
        }
        head += &line;
    }
    let mut body = vec![0; len];
    let _ = reader.read_exact(&mut body);
    requests.lock().unwrap().push(format!("{head}{}", String::from_utf8_lossy(&body)));
    let head = |status: u16, headers: &str, len: usize| {
        format!("HTTP/1.1 {status} X\r\nContent-Length: {len}\r\nConnection: close\r\n{headers}\r\n")
    };
    let _ = match step {
        Step::Answer(status, headers, body) => {
            stream.write_all(format!("{}{body}", head(status, headers, body.len())).as_bytes())
        }
        Step::HangUp => Ok(()),
        Step::Cut(body) => stream.write_all(format!("{}{body}", head(206, "", body.len() + 10)).as_bytes()),
        Step::Endless => {
            let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n");
            let part = [b'['; 64 * 1024];
            while stream.write_all(&part).is_ok() {}
            Ok(())
        }
        Step::Silent => wait_for_hang_up(reader),
        Step::Half => {
            let _ = stream.write_all(head(200, "", 10).as_bytes());
            wait_for_hang_up(reader)
        }
    };
}

/// Keeps a connection until the client ends it.
fn wait_for_hang_up(mut reader: BufReader<TcpStream>) -> std::io::Result<()> {
    std::thread::spawn(move || reader.read_to_end(&mut Vec::new()));
    Ok(())
}

fn ok(body: &str) -> Step {
    Step::Answer(200, "", body.to_owned())
}

fn status(status: u16) -> Step {
    Step::Answer(status, "", String::new())
}

#[test]
fn unknown_fields_are_ignored() {
    let script = Script::run(vec![ok(DISCOVERY)]);
    assert_eq!(script.client().identify().unwrap().id, "b-1");
}

#[test]
fn a_newer_protocol_is_told() {
    let script = Script::run(vec![ok(&DISCOVERY.replace("\"protocol\":1", "\"protocol\":2"))]);
    assert!(matches!(script.client().identify(), Err(StorefrontError::Protocol { theirs: 2, .. })));
}

#[test]
fn passing_failures_are_tried_again() {
    let script = Script::run(vec![status(503), Step::HangUp, status(429), ok(DISCOVERY)]);
    assert!(script.client().identify().is_ok());
    assert_eq!(script.requests().len(), 4);
}

#[test]
fn failures_that_stay_end_with_their_status() {
    let script = Script::run(vec![status(500); 5]);
    assert!(matches!(script.client().identify(), Err(StorefrontError::Failed { status: 500, .. })));
    assert_eq!(script.requests().len(), 5);
}

#[test]
fn retry_after_is_obeyed() {
    let script = Script::run(vec![Step::Answer(429, "Retry-After: 1\r\n", String::new()), ok(DISCOVERY)]);
    let started = Instant::now();
    script.client().identify().unwrap();
    assert!(started.elapsed() >= Duration::from_millis(950), "{:?}", started.elapsed());
}

/// Follows a script with someone who soon asks to stop; returns what came of it.
fn stopped<T>(
    steps: Vec<Step>,
    ask: impl FnOnce(&dyn Storefront) -> Result<T, StorefrontError>,
) -> Result<T, StorefrontError> {
    let script = Script::run(steps);
    let stop = Arc::new(AtomicBool::new(false));
    let client = script.open(Opening { stop: stop.clone(), access: Some(access()), ..Opening::default() });
    std::thread::scope(|scope| {
        scope.spawn(|| {
            std::thread::sleep(Duration::from_millis(300));
            stop.store(true, Ordering::Relaxed);
        });
        let started = Instant::now();
        let answer = ask(&*client);
        assert!(started.elapsed() < Duration::from_secs(20), "{:?}", started.elapsed());
        answer
    })
}

#[test]
fn a_stop_ends_the_waiting() {
    let busy = Step::Answer(503, "Retry-After: 50\r\n", String::new());
    for steps in [vec![busy, ok(DISCOVERY)], vec![Step::Silent], vec![Step::Half]] {
        assert!(matches!(stopped(steps, |client| client.identify()), Err(StorefrontError::Stopped)));
    }
}

#[test]
fn an_action_that_was_stopped_without_an_answer_may_have_been_done() {
    let lost = Step::Answer(503, "Retry-After: 50\r\n", String::new());
    for last in [Step::Silent, Step::Half, lost, Step::Cut("{".into())] {
        let answer = stopped(vec![ok(DISCOVERY), ok(TOKEN), last], make_move);
        assert!(matches!(answer, Err(StorefrontError::Unanswered { .. })), "{answer:?}");
    }
}

#[test]
fn nobody_is_there() {
    let client = open("http://127.0.0.1:9", Opening::default());
    assert!(matches!(client.identify(), Err(StorefrontError::Unreachable { .. })));
}

#[test]
fn nonsense_is_named_as_such() {
    for body in ["<html>hello</html>", "{}", "[]", ""] {
        let script = Script::run(vec![ok(body)]);
        let error = script.client().identify().unwrap_err();
        assert!(matches!(error, StorefrontError::Nonsense { what: "a discovery document", .. }), "{body}: {error}");
    }
    let script = Script::run(vec![Step::Answer(404, "", "<html>not here</html>".to_owned())]);
    assert!(matches!(script.client().identify(), Err(StorefrontError::Failed { status: 404, .. })));
}

#[test]
fn an_answer_without_end_is_given_up() {
    let script = Script::run(vec![Step::Endless]);
    assert!(matches!(script.client().identify(), Err(StorefrontError::Nonsense { .. })));
}

#[test]
fn redirects_are_not_followed() {
    let script = Script::run(vec![Step::Answer(302, "Location: http://127.0.0.1:9/\r\n", String::new())]);
    assert!(matches!(script.client().identify(), Err(StorefrontError::Failed { status: 302, .. })));
}

#[test]
fn a_token_path_on_another_origin_gets_no_secret() {
    for path in ["//elsewhere.example/token", "http://elsewhere.example/token"] {
        let script = Script::run(vec![ok(&DISCOVERY.replace("/v1/token", path))]);
        let error = script.client().try_access().err().unwrap();
        assert!(matches!(error, StorefrontError::Nonsense { .. }), "{error}");
        assert!(script.requests().iter().all(|r| !r.contains("hush")));
    }
}

#[test]
fn a_wrong_secret_is_a_refusal_of_its_own() {
    let refusal = r#"{"error":"invalid_client"}"#.to_owned();
    let script = Script::run(vec![ok(DISCOVERY), Step::Answer(401, "", refusal)]);
    assert!(matches!(script.client().try_access(), Err(StorefrontError::WrongSecret { .. })));
    let client = script.player();
    assert!(matches!(client.try_access(), Err(StorefrontError::NotConnected { .. })));
}

#[test]
fn an_expired_token_is_renewed_a_few_times() {
    let expired = || {
        Step::Answer(
            401,
            "",
            r#"{"type":"/problems/no-access","title":"t","status":401,"detail":"d","fix":"c"}"#.into(),
        )
    };
    let builds = r#"{"builds":[]}"#;
    let script = Script::run(vec![ok(DISCOVERY), ok(TOKEN), expired(), ok(TOKEN), ok(builds)]);
    let title = "saltmarsh-post".parse().unwrap();
    assert!(script.client().builds().unwrap().list(&title).unwrap().is_empty());
    let one = || [ok(TOKEN), expired()];
    let again = one().into_iter().chain(one()).chain(one()).chain(one());
    let script = Script::run([ok(DISCOVERY)].into_iter().chain(again).collect());
    let error = script.client().builds().unwrap().list(&title).unwrap_err();
    assert!(matches!(error, StorefrontError::AccessNotKept { .. }), "{error}");
}

/// Asks for a move, always with the same key; returns the branch's revision.
fn make_move(client: &dyn Storefront) -> Result<u64, StorefrontError> {
    let key = "01a207a2-3280-7fff-bfff-ffffffffffff".parse().unwrap();
    let wanted = Move { targets: Default::default(), restores: None, because: None };
    let (title, name) = ("saltmarsh-post".parse().unwrap(), "open-water".parse().unwrap());
    client.branches().unwrap().make_move(&title, &name, 3, key, &wanted).map(|moved| moved.facts.revision)
}

#[test]
fn an_action_carries_its_key_and_condition_on_every_try() {
    let branch = r#"{"audience":"everyone","branch":"open-water","revision":4,"since":null,"by":null,"targets":{}}"#;
    let script = Script::run(vec![ok(DISCOVERY), ok(TOKEN), Step::HangUp, status(502), ok(branch)]);
    assert_eq!(make_move(&*script.client()).unwrap(), 4);
    let tries: Vec<String> = script.requests().into_iter().filter(|r| r.contains("/moves")).collect();
    assert_eq!(tries.len(), 3);
    for request in tries {
        let request = request.to_lowercase();
        assert!(
            request.contains("if-match: \"3\"") && request.contains("idempotency-key: 01a207a2-3280-7fff"),
            "{request}"
        );
    }
}

#[test]
fn a_refusal_brings_its_words_along() {
    let (name, number, title) = problem::BRANCH_MOVED;
    let body = format!(
        r#"{{"type":"/problems/{name}","title":"{title}","status":{number},"detail":"by mika","fix":"look again"}}"#
    );
    let script = Script::run(vec![ok(DISCOVERY), ok(TOKEN), Step::Answer(number, "", body)]);
    let error = script.client().builds().unwrap().list(&"saltmarsh-post".parse().unwrap()).unwrap_err();
    assert!(error.is(problem::BRANCH_MOVED));
    assert_eq!(error.to_string(), "by mika");
}

#[test]
fn a_download_that_is_cut_is_asked_for_again() {
    let script = Script::run(vec![Step::Cut("abc".into()), Step::Answer(206, "", "abcdef".into())]);
    let (title, branch) = ("saltmarsh-post".parse().unwrap(), "open-water".parse().unwrap());
    let bytes = script.player().player().unwrap().pack(&title, &branch, &Digest::of(b"p"), 5, 6).unwrap();
    assert_eq!(bytes, b"abcdef");
    assert!(script.requests().iter().all(|r| r.to_lowercase().contains("range: bytes=5-10")));
}

#[test]
fn who_makes_the_game_plays_with_access_where_players_are_refused() {
    let (name, number, title) = problem::NOT_INVITED;
    let refusal = || {
        let body =
            format!(r#"{{"type":"/problems/{name}","title":"{title}","status":{number},"detail":"d","fix":"c"}}"#);
        Step::Answer(number, "", body)
    };
    let part = || Step::Answer(206, "", "abcdef".into());
    let (title, branch) = ("saltmarsh-post".parse().unwrap(), "creek".parse().unwrap());
    let script = Script::run(vec![refusal(), ok(DISCOVERY), ok(TOKEN), part(), part()]);
    let client = script.client();
    let ask = || client.player().unwrap().pack(&title, &branch, &Digest::of(b"p"), 0, 6).unwrap();
    assert_eq!((ask(), ask()), (b"abcdef".to_vec(), b"abcdef".to_vec()));
    let asked: Vec<bool> = script
        .requests()
        .iter()
        .filter(|r| r.contains("/v1/play/"))
        .map(|r| r.to_lowercase().contains("authorization: bearer"))
        .collect();
    assert_eq!(asked, [false, true, true]);
    // A player's machine has nothing else to show.
    let script = Script::run(vec![refusal()]);
    let error = script.player().player().unwrap().pack(&title, &branch, &Digest::of(b"p"), 0, 6).unwrap_err();
    assert!(error.is(problem::NOT_INVITED));
}

#[test]
fn access_is_renewed_in_the_middle_of_an_installation() {
    let (name, number, title) = problem::NOT_INVITED;
    let refusal =
        format!(r#"{{"type":"/problems/{name}","title":"{title}","status":{number},"detail":"d","fix":"c"}}"#);
    let part = || Step::Answer(206, "", "abcdef".into());
    let script = Script::run(vec![
        Step::Answer(number, "", refusal),
        ok(DISCOVERY),
        ok(TOKEN),
        part(),
        // The storefront has restarted, and knows the token no more.
        status(401),
        ok(TOKEN),
        part(),
    ]);
    let (title, branch) = ("saltmarsh-post".parse().unwrap(), "creek".parse().unwrap());
    let client = script.client();
    for _ in 0..2 {
        assert_eq!(client.player().unwrap().pack(&title, &branch, &Digest::of(b"p"), 0, 6).unwrap(), b"abcdef");
    }
}

#[test]
fn a_folder_that_would_lie_elsewhere_is_no_answer() {
    let play = |folder: &str| {
        let build = json!({ "systems": ["linux-x86_64"], "starts": [], "folder": folder, "depots": [] });
        let document = json!({
            "name": "Saltmarsh Post", "identity": "example.paperheron.saltmarsh", "branch": "open-water", "revision": 4,
            "since": null, "by": null, "targets": {}, "builds": { "linux": build },
        });
        let script = Script::run(vec![Step::Answer(200, "", document.to_string())]);
        script.player().player().unwrap().branch(&"saltmarsh-post".parse().unwrap(), &"open-water".parse().unwrap())
    };
    assert_eq!(play("Saltmarsh Post").unwrap().builds.len(), 1);
    for folder in ["..", "../..", "/etc", "a/b", "a\\b", "C:", "C:game", "CON", ".lantern-install", "", "~", "game."] {
        let answer = play(folder);
        assert!(matches!(answer, Err(StorefrontError::Nonsense { .. })), "{folder:?}: {answer:?}");
    }
}

#[test]
fn an_answer_that_is_cut_is_asked_for_again_with_the_same_key() {
    let branch = r#"{"audience":"everyone","branch":"open-water","revision":4,"since":null,"by":null,"targets":{}}"#;
    let script = Script::run(vec![ok(DISCOVERY), ok(TOKEN), Step::Cut("{".into()), ok(branch)]);
    assert_eq!(make_move(&*script.client()).unwrap(), 4);
    let tries: Vec<String> = script.requests().into_iter().filter(|r| r.contains("/moves")).collect();
    assert_eq!((tries.len(), &tries[0]), (2, &tries[1]));
}

#[test]
fn more_than_was_asked_for_is_not_taken() {
    let (title, branch) = ("saltmarsh-post".parse().unwrap(), "open-water".parse().unwrap());
    let ask =
        |step: Step| Script::run(vec![step]).player().player().unwrap().pack(&title, &branch, &Digest::of(b"p"), 0, 3);
    assert!(matches!(ask(Step::Answer(206, "", "abcdef".into())), Err(StorefrontError::Nonsense { .. })));
    assert!(matches!(ask(Step::Answer(200, "", "abc".into())), Err(StorefrontError::Nonsense { .. })));
}

#[test]
fn a_secret_is_never_printed() {
    let script = Script::run(vec![]);
    let text = format!("{:?}", script.client());
    assert!(text.contains("paper-heron") && !text.contains("hush"), "{text}");
}

#[test]
fn access_that_lasts_for_ever_or_not_at_all_harms_nothing() {
    for life in ["18446744073709551615", "0"] {
        let token = TOKEN.replace("3600", life);
        let builds = || ok(r#"{"builds":[]}"#);
        let mut steps = vec![ok(DISCOVERY), ok(&token), builds()];
        if life == "0" {
            steps.push(ok(&token));
        }
        steps.push(builds());
        let script = Script::run(steps);
        let (client, title) = (script.client(), "saltmarsh-post".parse().unwrap());
        for _ in 0..2 {
            assert!(client.builds().unwrap().list(&title).unwrap().is_empty(), "{life}");
        }
    }
}

#[test]
fn lists_are_read_page_by_page_and_not_for_ever() {
    let build = |number: u64| {
        json!({ "number_there": number, "release": lantern_core::digest::ReleaseId::of(b"r"), "version": "1.4.0", "number": 27,
            "message": null, "made_at": "2026-11-27T09:00:00Z", "made_by": "wren", "targets": {} })
    };
    let page = |numbers: &[u64], next: Option<&str>| {
        let builds: Vec<_> = numbers.iter().map(|n| build(*n)).collect();
        ok(&json!({ "builds": builds, "next": next }).to_string())
    };
    let script = Script::run(vec![ok(DISCOVERY), ok(TOKEN), page(&[1, 2], Some("2 &")), page(&[3], None)]);
    let title = "saltmarsh-post".parse().unwrap();
    let builds = script.client().builds().unwrap().list(&title).unwrap();
    assert_eq!(builds.iter().map(|b| b.number_there).collect::<Vec<_>>(), [1, 2, 3]);
    assert!(script.requests()[3].starts_with("GET /v1/titles/saltmarsh-post/builds?after=2%20%26 "));
    // The same page for ever.
    let script = Script::run(vec![ok(DISCOVERY), ok(TOKEN), page(&[1], Some("1")), page(&[1], Some("1"))]);
    let error = script.client().builds().unwrap().list(&title).unwrap_err();
    assert!(matches!(error, StorefrontError::Nonsense { .. }), "{error:?}");
}

#[test]
fn names_of_the_place_go_through_addresses_and_back() {
    let title = "Salt/Marsh?".parse().unwrap();
    let branch = r#"{"branches":[{"branch":"Open Water","audience":"everyone","revision":0,"since":null,"by":null,"targets":{}},
        {"branch":"Für alle!","audience":"everyone","revision":0,"since":null,"by":null,"targets":{}}]}"#;
    let script = Script::run(vec![ok(DISCOVERY), ok(TOKEN), ok(branch), ok(r#"{"moves":[]}"#)]);
    let ours: lantern_core::names::Name = "open-water".parse().unwrap();
    let called = [(ours.clone(), "Open Water".parse().unwrap())].into();
    let client = script.open(Opening { access: Some(access()), branches: called, ..Opening::default() });
    let branches = client.branches().unwrap().list(&title).unwrap();
    let names: Vec<&str> = branches.iter().map(|b| b.facts.branch.as_str()).collect();
    assert_eq!(names, ["open-water", "f-r-alle"]);
    client.branches().unwrap().moves(&title, &ours).unwrap();
    let asked = script.requests();
    assert!(asked[2].starts_with("GET /v1/titles/Salt%2FMarsh%3F/branches "), "{}", asked[2]);
    assert!(asked[3].starts_with("GET /v1/titles/Salt%2FMarsh%3F/branches/Open%20Water/moves "), "{}", asked[3]);
}

#[test]
fn players_parts_may_come_from_another_host_without_anything_private() {
    let (title, branch) = ("saltmarsh-post".parse().unwrap(), "creek".parse().unwrap());
    let other = Script::run(vec![Step::Answer(206, "", "abcdef".into())]);
    let location: &'static str = format!("Location: {}/packs/p?sign=1\r\n", other.origin).leak();
    let script = Script::run(vec![Step::Answer(307, location, String::new())]);
    let invitation = lantern_core::invitation::Invitation::new([7; 15]);
    let invited = Invited { invitation, folder: "f".into() };
    let client = script.open(Opening { invited: Some(invited), ..Opening::default() });
    assert_eq!(client.player().unwrap().pack(&title, &branch, &Digest::of(b"p"), 0, 6).unwrap(), b"abcdef");
    assert!(script.requests()[0].to_lowercase().contains("lantern-invitation"));
    let there = other.requests()[0].to_lowercase();
    assert!(there.starts_with("get /packs/p?sign=1 ") && there.contains("range: bytes=0-5"), "{there}");
    assert!(!there.contains("lantern-") && !there.contains("authorization"), "{there}");
    // Nobody is led around in a circle, or to what is no web address.
    let circle = Script::run(vec![Step::Answer(302, "Location: /again\r\n", String::new()); 6]);
    let error = circle.player().player().unwrap().pack(&title, &branch, &Digest::of(b"p"), 0, 6).unwrap_err();
    assert!(matches!(error, StorefrontError::Nonsense { .. }), "{error:?}");
    let file = Script::run(vec![Step::Answer(302, "Location: file:///etc/passwd\r\n", String::new())]);
    let error = file.player().player().unwrap().pack(&title, &branch, &Digest::of(b"p"), 0, 6).unwrap_err();
    assert!(matches!(error, StorefrontError::Nonsense { .. }), "{error:?}");
}

#[test]
fn a_pack_goes_on_where_it_was() {
    let bytes = vec![7_u8; 3 * 1024 * 1024];
    let at = |received: u64, whole: bool| {
        let status = if whole { 200 } else { 202 };
        Step::Answer(status, "", json!({ "received": received, "whole": whole }).to_string())
    };
    let mib = 1024 * 1024;
    // Half a megabyte came of an earlier push; then pieces, each as large as the line has shown that it can be.
    let able = DISCOVERY.replace("\"something-new\":true", "\"capabilities\":[\"pieces\",\"moon\"]");
    let script = Script::run(vec![ok(&able), ok(TOKEN), at(mib / 2, false), at(mib * 3 / 2, false), at(mib * 3, true)]);
    let (title, name) = ("saltmarsh-post".parse().unwrap(), Digest::of(&bytes));
    script.client().content().unwrap().put_pack(&title, &name, bytes.into()).unwrap();
    let asked = script.requests();
    assert!(asked[2].starts_with(&format!("GET /v1/titles/saltmarsh-post/packs/{}/received ", name.hex())));
    let range = |request: &str| {
        let lower = request.to_lowercase();
        let line = lower.lines().find(|line| line.starts_with("content-range:")).unwrap_or_default().to_owned();
        line.trim_start_matches("content-range: bytes ").to_owned()
    };
    assert_eq!(range(&asked[3]), "524288-1572863/3145728");
    assert_eq!(range(&asked[4]), "1572864-3145727/3145728");
}

/// Something of any length that is read piece by piece; what lies behind a place of it cannot be read.
struct Readable {
    len: u64,
    ends: u64,
    longest: AtomicUsize,
}

impl Upload for Readable {
    fn size(&self) -> u64 {
        self.len
    }

    fn piece(&self, offset: u64, len: usize) -> std::io::Result<Bytes> {
        self.longest.fetch_max(len, Ordering::Relaxed);
        if offset + len as u64 > self.ends {
            return Err(std::io::Error::other("the disk is gone"));
        }
        Ok(vec![7; len].into())
    }
}

#[test]
fn of_something_long_no_more_than_a_piece_is_read() {
    let mib = 1024 * 1024;
    let title = "saltmarsh-post".parse().unwrap();
    let put = |capabilities: &str, answers: Vec<Step>, update: &Readable| {
        let able = DISCOVERY.replace("\"something-new\":true", capabilities);
        let script = Script::run([vec![ok(&able), ok(TOKEN)], answers].concat());
        let from_to = (RecipeId(Digest::of(b"from")), RecipeId(Digest::of(b"to")));
        script.client().content().unwrap().put_update(&title, from_to, update, &|_| {})
    };
    let came = |mib_there: u64, whole: bool| {
        let status = if whole { 200 } else { 202 };
        Step::Answer(status, "", json!({ "received": mib_there * mib, "whole": whole }).to_string())
    };
    let update = |len: u64, ends: u64| Readable { len: len * mib, ends: ends * mib, longest: AtomicUsize::new(0) };
    let longest = |update: &Readable| update.longest.load(Ordering::Relaxed) as u64 / mib;
    // More than four gigabytes, of which the last ten megabytes are lacking there.
    let pieces = r#""capabilities":["pieces"]"#;
    let long = update(5000, 5000);
    let answers = vec![came(4990, false), came(4991, false), came(4993, false), came(4997, false), came(5000, true)];
    put(pieces, answers, &long).unwrap();
    assert_eq!(longest(&long), 4);
    let broken = put(pieces, vec![came(0, false), came(1, false)], &update(300, 2)).unwrap_err();
    assert!(matches!(broken, StorefrontError::NotRead { .. }), "{broken}");
    // Where no pieces are taken, it is not read at all.
    let whole = update(300, 300);
    let unable = put(r#""capabilities":[]"#, Vec::new(), &whole).unwrap_err();
    assert!(matches!(unable, StorefrontError::NoPieces { .. }), "{unable}");
    assert_eq!(longest(&whole), 0);
}

#[test]
fn waiting_is_told() {
    let script = Script::run(vec![Step::Answer(429, "Retry-After: 3\r\n", String::new()), ok(DISCOVERY)]);
    let answer = Arc::new(Mutex::new(Vec::new()));
    let keep = answer.clone();
    let tell = move |time: Duration, why: &str| keep.lock().unwrap().push(format!("{} {why}", time.as_secs()));
    let client = script.open(Opening { on_wait: Some(OnWait::new(tell)), ..Opening::default() });
    client.identify().unwrap();
    let answer = answer.lock().unwrap();
    assert!(
        answer.len() == 1 && answer[0].starts_with("3 http://") && answer[0].ends_with("asks to wait"),
        "{answer:?}"
    );
}
