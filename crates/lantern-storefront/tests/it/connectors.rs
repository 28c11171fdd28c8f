//! Connectors that behave, and connectors that do not.

use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use lantern_core::event::EventId;
use lantern_core::progress::{Meter, Progress, Silent, Task};
use lantern_storefront::connector::{
    Asked, Connector, ConnectorError, Document, DocumentAccess, DocumentGame, DocumentStorefront, LineRefused, Outcome,
};

const SECRET: &str = "ebb-and-flood-4711";

fn document(action: Asked) -> Document {
    let storefront = DocumentStorefront { name: "gull-rock".parse().unwrap(), values: [].into() };
    let game = DocumentGame {
        name: "Saltmarsh Post".into(),
        identity: "example.paperheron.saltmarsh".parse().unwrap(),
        edition: "full".parse().unwrap(),
        handle: "saltmarsh".into(),
    };
    let attempt = EventId::new(jiff::Timestamp::UNIX_EPOCH, [7; 10]);
    let access = Some(DocumentAccess { name: "heron".into(), secret: SECRET.into() });
    Document { access, ..Document::new(action, attempt, storefront, game) }
}

struct Ran {
    outcome: Result<Outcome, ConnectorError>,
    said: Vec<String>,
}

impl Ran {
    fn error(&self) -> String {
        self.outcome.as_ref().unwrap_err().to_string()
    }
}

/// Runs a shell's script as the connector.
fn run(script: &str, action: Asked, limit: Duration, progress: &dyn Progress) -> Ran {
    let folder = tempfile::tempdir().unwrap();
    let run = ["sh".to_owned(), "-c".to_owned(), script.to_owned()];
    let said = Mutex::new(Vec::new());
    let say = |text: &str| said.lock().unwrap().push(text.to_owned());
    let outcome = Connector { run: &run, folder: folder.path(), limit }.run(&document(action), progress, &say);
    Ran { outcome, said: said.into_inner().unwrap() }
}

fn plain(script: &str) -> Ran {
    run(script, Asked::Push, Duration::from_secs(60), &Silent)
}

#[test]
fn each_result_is_understood() {
    let outcome = |script: &str| plain(script).outcome.unwrap();
    let done = |number_there, waits| Outcome::Done {
        number_there,
        per_target: Default::default(),
        branches: None,
        address: None,
        ticket: None,
        waits,
    };
    assert_eq!(outcome(r#"read line; echo '{"done": {"number-there": "42"}}'"#), done(Some(42), false));
    let Outcome::Done { per_target, .. } = outcome(r#"read line; echo '{"done": {"per-target": {"linux": "7"}}}'"#)
    else {
        panic!("it was done")
    };
    assert_eq!(per_target.into_iter().map(|(target, n)| format!("{target} {n}")).collect::<Vec<_>>(), ["linux 7"]);
    assert_eq!(outcome(r#"echo '{"done": {"state": "waiting"}}'"#), done(None, true));
    let refused = LineRefused { because: "too large".into(), fix: Some("leave files out".into()) };
    let script = r#"echo '{"refused": {"because": "too large", "fix": "leave files out"}}'; exit 3"#;
    assert_eq!(outcome(script), Outcome::Refused(refused));
    assert_eq!(outcome(r#"echo '{"unknown-action": true}'"#), Outcome::UnknownAction);
    assert_eq!(outcome(r#"echo '{"by-hand": ["letter"]}'"#), Outcome::ByHand(vec!["letter".parse().unwrap()]));
    let query = run(r#"echo '{"not-begun": true}'"#, Asked::Query, Duration::from_secs(60), &Silent);
    assert_eq!(query.outcome.unwrap(), Outcome::NotBegun);
}

#[test]
fn the_document_arrives_as_one_line_and_nothing_of_ours_is_in_the_environment() {
    // A connector that reads to the end gets the same.
    for read in ["read line", "line=$(cat)"] {
        let script = format!(
            r#"{read}; case $line in *'"action":"push"'*'"secret":"ebb-'*) ;; *) exit 9;; esac; env | grep -q '^LANTERN_' && exit 8; echo '{{"done": {{}}}}'"#
        );
        assert!(plain(&script).outcome.is_ok(), "{read}");
    }
}

#[test]
fn what_does_not_fit_is_not_known() {
    for (script, expected) in [
        ("exit 0", "ended with exit status: 0 and without a result"),
        ("kill -9 $$", "ended with signal: 9 (SIGKILL) and without a result"),
        (r#"echo '{"done": {}}'; exit 1"#, "which does not go with its result"),
        (r#"echo '{"refused": {"because": "x"}}'"#, "which does not go with its result"),
        (r#"echo '{"done": {}}'; echo '{"done": {}}'"#, "printed something behind its result"),
        (r#"echo '{"done": {}, "unknown-action": true}'"#, "printed a result that says two things"),
        (r#"echo '{"done": {"number-there": "forty-two"}}'"#, "gave a number there that is none"),
        (r#"echo '{"done": {"per-target": {"linux": "-1"}}}'"#, "gave a number there that is none"),
        (r#"echo '{"not-begun": true}'"#, "answered a question that was not asked"),
        ("echo done", "printed a line that is none of its kind, \"done"),
    ] {
        let error = plain(script).error();
        assert!(
            error.contains(expected) && error.ends_with("it is not known whether it was done"),
            "{script}: {error}"
        );
    }
    let missing = ["no-such-program-here".to_owned()];
    let connector = Connector { run: &missing, folder: std::path::Path::new("."), limit: Duration::from_secs(9) };
    let error = connector.run(&document(Asked::Push), &Silent, &|_| {}).unwrap_err();
    assert!(matches!(error, ConnectorError::Start { .. }), "{error}");
}

#[test]
fn one_that_prints_without_end_is_ended() {
    let long = plain("head -c 3000000 /dev/zero | tr '\\0' x; sleep 60");
    assert!(long.error().contains("printed a line of more than 1048576 bytes"), "{}", long.error());
    // In long lines: millions of short ones take a slow computer longer than the limit.
    let much = plain(r#"yes "{\"say\": \"$(printf %08000d 0)\"}""#);
    assert!(much.error().contains("printed more than 67108864 bytes"), "{}", much.error());
    // On the side it may print what it likes: as much as is bounded goes into the log, and the rest nowhere.
    let side = plain(r#"head -c 100000000 /dev/zero >&2; echo '{"done": {}}'"#);
    assert!(side.outcome.is_ok(), "{:?}", side.outcome);
}

#[test]
fn one_that_hangs_is_ended_at_its_limit_although_it_does_not_want_to() {
    let begun = Instant::now();
    let hung = run("sleep 300", Asked::Push, Duration::from_millis(300), &Silent);
    assert!(hung.error().contains("took longer than its limit"), "{}", hung.error());
    assert!(begun.elapsed() < Duration::from_secs(9), "a signal is enough for it");
    let deaf = run("trap '' INT; while :; do sleep 1; done", Asked::Push, Duration::from_millis(300), &Silent);
    assert!(deaf.error().contains("took longer than its limit"), "{}", deaf.error());
    // What it leaves running holds nobody up.
    let begun = Instant::now();
    assert!(plain(r#"sleep 20 & echo '{"done": {}}'"#).outcome.is_ok());
    assert!(begun.elapsed() < Duration::from_secs(15));
}

/// Stops once something was said; counts what travelled.
#[derive(Default)]
struct Watching {
    stop: AtomicBool,
    bytes: std::sync::Arc<std::sync::atomic::AtomicU64>,
}

struct Count(std::sync::Arc<std::sync::atomic::AtomicU64>);

impl Meter for Count {
    fn add(&self, bytes: u64) {
        self.0.fetch_add(bytes, Ordering::SeqCst);
    }
}

impl Progress for Watching {
    fn start(&self, _: Task, _: Option<u64>) -> Box<dyn Meter + '_> {
        Box::new(Count(self.bytes.clone()))
    }
    fn careful(&self, _: &str) {}
    fn stopped(&self) -> bool {
        self.stop.load(Ordering::SeqCst)
    }
}

#[test]
fn progress_is_passed_on_and_a_stop_is() {
    let watching = Watching::default();
    let script =
        r#"for n in 10 30 20 40; do echo "{\"progress\": {\"bytes\": $n, \"of\": 40}}"; done; echo '{"done": {}}'"#;
    assert!(run(script, Asked::Push, Duration::from_secs(60), &watching).outcome.is_ok());
    assert_eq!(watching.bytes.load(Ordering::SeqCst), 40);
    // It says when it listens: before that a shell may lose a signal, and is ended ten seconds later.
    let script = r#"trap 'exit 9' INT; echo '{"say": "listening"}'; while :; do sleep 0.1; done"#;
    let run = ["sh", "-c", script].map(str::to_owned);
    let folder = tempfile::tempdir().unwrap();
    let heard = Mutex::new(None);
    let say = |_: &str| {
        watching.stop.store(true, Ordering::SeqCst);
        heard.lock().unwrap().get_or_insert_with(Instant::now);
    };
    let connector = Connector { run: &run, folder: folder.path(), limit: Duration::from_secs(60) };
    let stopped = connector.run(&document(Asked::Push), &watching, &say);
    assert!(matches!(stopped, Err(ConnectorError::Stopped)));
    let took = heard.lock().unwrap().unwrap().elapsed();
    assert!(took < Duration::from_secs(9), "it was not asked to end: {took:?}");
}

#[test]
fn no_secret_comes_back() {
    let script = format!(
        r#"echo '{{"say": "I am heron with {SECRET}\u001b[2J"}}'; echo '{{"refused": {{"because": "{SECRET} is wrong"}}}}'; exit 3"#
    );
    let ran = plain(&script);
    let Outcome::Refused(refused) = ran.outcome.unwrap() else { panic!("it was refused") };
    for text in [&ran.said[0], &refused.because] {
        assert!(!text.contains(SECRET) && !text.contains('\u{1b}') && text.contains("(taken out)"), "{text}");
    }
    let wrong = plain(&format!("echo {SECRET}")).error();
    assert!(!wrong.contains(SECRET), "{wrong}");
    assert!(!format!("{:?}", document(Asked::Probe)).contains(SECRET));
}
