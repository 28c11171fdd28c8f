//! The state of a stand-in storefront: SQLite for what is small and changes, a folder for packs and recipes.

mod branches;
mod builds;
mod content;
mod invitations;
mod served;

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use jiff::{SignedDuration, Timestamp};
use lantern_core::digest::Digest;
use lantern_core::event::EventId;
use lantern_core::names::{Handle, Name};
use lantern_core::notes;
use lantern_core::release::MAX_RECORD_LEN;
use lantern_core::rules::HouseRules;
use lantern_store::pack::{self};
use lantern_store::store::{Store, StoreError};
use lantern_storefront::protocol::{
    Discovery, Limits, MAX_TEXT_LEN, PAGES, PIECES, PROTOCOL, REBUILDS, StorefrontEvent, Title, Token, UPDATES, problem,
};
use rusqlite::{Connection, OptionalExtension, Transaction, TransactionBehavior, params};
use serde::Deserialize;
use serde_json::{Map, Value};

use crate::refusal::Refused;
use crate::weather::Weather;

/// The rights that the stand-in's one client has.
pub const SCOPE: &str = "read send release setup";
/// The name under which it has them.
pub const CLIENT_ID: &str = "paper-heron";
const TOKEN_LIFE: Duration = Duration::from_secs(3600);
/// How long an answer is kept for the same idempotency key.
const ANSWER_LIFE: SignedDuration = SignedDuration::from_hours(7 * 24);
/// The port that a stand-in takes the first time, if nothing else is asked for.
pub const DEFAULT_PORT: u16 = 4870;

/// A storefront as its document describes it.
#[derive(Debug, Clone, Deserialize)]
pub struct StandInDocument {
    /// For people.
    pub name: String,
    /// What it demands.
    pub rules: HouseRules,
    /// Rules that it publishes beside those, to see what becomes of one that nobody knows yet.
    #[serde(default)]
    pub more_rules: Map<String, Value>,
}

impl StandInDocument {
    /// Returns Brambleyard.
    pub fn brambleyard() -> Self {
        toml::from_str(include_str!("../stand-ins/brambleyard.toml")).expect("the document that ships is valid")
    }
}

/// A stand-in's clock.
#[derive(Debug, Clone, Copy, Default)]
struct Clock {
    /// Where it was stopped; none where it runs.
    fixed: Option<Timestamp>,
    /// How much later it is there.
    ahead: SignedDuration,
}

/// A stand-in storefront.
#[derive(Debug)]
pub struct StandIn {
    document: StandInDocument,
    folder: PathBuf,
    id: String,
    secret: String,
    database: Mutex<Connection>,
    tokens: Mutex<HashMap<String, Instant>>,
    weather: Mutex<Option<Arc<Weather>>>,
    clock: Mutex<Clock>,
    /// What branches hand out, as far as it was asked for.
    served: Mutex<HashMap<(Handle, Name), Arc<served::Served>>>,
    /// Held while a piece of a pack is written.
    pieces: Mutex<()>,
}

pub(crate) use content::Incoming;
pub(crate) use invitations::Asker;
pub(crate) use served::Asked;

/// Refuses a text that is longer than the discovery document says.
pub(crate) fn refuse_long(what: &str, len: usize, most: u64) -> Result<(), Refused> {
    if len as u64 <= most {
        return Ok(());
    }
    let detail = format!("{what} has {len} bytes, at most {most} are taken");
    Err(Refused::new(problem::TOO_LARGE, detail, "see limits in the discovery document"))
}

fn random_hex(count: usize) -> Result<String, Refused> {
    let mut bytes = [0_u8; 32];
    getrandom::fill(&mut bytes).map_err(|e| Refused::Failed(e.to_string()))?;
    Ok(Digest::from_bytes(bytes).hex().chars().take(count).collect())
}

fn connect(folder: &Path) -> Result<Connection, Refused> {
    let connection = Connection::open(folder.join("state.db"))?;
    connection.busy_timeout(Duration::from_secs(5))?;
    connection.pragma_update(None, "journal_mode", "wal")?;
    // A kill loses nothing; only a power cut could, and nothing real is behind a stand-in.
    connection.pragma_update(None, "synchronous", "normal")?;
    Ok(connection)
}

fn document<T: serde::de::DeserializeOwned>(text: &str) -> Result<T, Refused> {
    Ok(serde_json::from_str(text)?)
}

fn text(document: &impl serde::Serialize) -> Result<String, Refused> {
    Ok(serde_json::to_string(document)?)
}

/// The first column of every row, read as a document.
fn documents<T: serde::de::DeserializeOwned>(
    connection: &Connection,
    sql: &str,
    values: impl rusqlite::Params,
) -> Result<Vec<T>, Refused> {
    let mut statement = connection.prepare_cached(sql)?;
    let rows = statement.query_map(values, |row| row.get::<_, String>(0))?;
    rows.map(|row| document(&row?)).collect()
}

/// The folder of a title: its handle, where that is a plain word that every system takes for one part of a path.
fn folder_of(title: &Handle) -> String {
    let is_plain = title.as_str().parse::<Name>().is_ok();
    if is_plain { title.to_string() } else { format!("={}", Digest::of(title.as_str().as_bytes()).hex()) }
}

impl StandIn {
    /// Opens or makes the state in `folder`.
    ///
    /// # Errors
    /// [`Refused::Failed`] when disk or database fail.
    pub fn open(folder: &Path, document: StandInDocument) -> Result<Self, Refused> {
        std::fs::create_dir_all(folder)?;
        let connection = connect(folder)?;
        connection.execute_batch(include_str!("schema.sql"))?;
        let fact = |name: &str, fresh: String| -> Result<String, Refused> {
            connection.execute("INSERT INTO facts VALUES ($1, $2) ON CONFLICT DO NOTHING", [name, &fresh])?;
            Ok(connection.query_row("SELECT value FROM facts WHERE name = $1", [name], |row| row.get(0))?)
        };
        let id = fact("id", format!("{}-{}", document.name.to_lowercase().replace(' ', "-"), random_hex(12)?))?;
        let secret = fact("secret", random_hex(32)?)?;
        let database = Mutex::new(connection);
        let (tokens, weather, clock, served, pieces) = Default::default();
        Ok(Self { document, folder: folder.to_owned(), id, secret, database, tokens, weather, clock, served, pieces })
    }

    /// Returns the secret of [`CLIENT_ID`]. Shown to people only because nothing real is behind it.
    pub fn secret(&self) -> &str {
        &self.secret
    }

    /// Shows these faults from now on; none: fair weather.
    pub fn set_weather(&self, weather: Option<Weather>) {
        *self.weather.lock().unwrap_or_else(PoisonError::into_inner) = weather.map(Arc::new);
    }

    /// Returns the weather that it shows now.
    pub fn weather(&self) -> Option<Arc<Weather>> {
        self.weather.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Lets all access expire.
    pub(crate) fn forget_tokens(&self) {
        self.tokens.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }

    /// Forgets what only a running server has, as if it had ended and started again.
    pub(crate) fn restart(&self) -> Result<(), Refused> {
        let mut database = self.database();
        *database = connect(&self.folder)?;
        drop(database);
        self.forget_tokens();
        Ok(())
    }

    /// Now, by the storefront's own clock.
    pub(crate) fn now(&self) -> Timestamp {
        let error = self.weather().map_or(SignedDuration::ZERO, |weather| weather.clock_error());
        let clock = *self.clock.lock().unwrap_or_else(PoisonError::into_inner);
        let now = clock.fixed.unwrap_or_else(Timestamp::now);
        now.checked_add(error).and_then(|now| now.checked_add(clock.ahead)).unwrap_or_default()
    }

    /// Stops its clock at a time.
    pub fn set_clock(&self, now: Timestamp) {
        self.clock.lock().unwrap_or_else(PoisonError::into_inner).fixed = Some(now);
    }

    /// Lets time pass there.
    pub fn pass_time(&self, time: SignedDuration) {
        let mut clock = self.clock.lock().unwrap_or_else(PoisonError::into_inner);
        clock.ahead = clock.ahead.saturating_add(time);
    }

    /// Returns the port that was used the last time.
    pub fn last_port(&self) -> Option<u16> {
        let found =
            self.database().query_row("SELECT value FROM facts WHERE name = 'port'", [], |row| row.get::<_, String>(0));
        found.ok().and_then(|text| text.parse().ok())
    }

    /// Remembers the port: a storefront is one origin.
    pub(crate) fn remember_port(&self, port: u16) -> Result<(), Refused> {
        let sql = "INSERT INTO facts VALUES ('port', $1) ON CONFLICT (name) DO UPDATE SET value = excluded.value";
        self.database().execute(sql, [port.to_string()])?;
        Ok(())
    }

    /// A handler that panicked has left the database as its last transaction did.
    fn database(&self) -> MutexGuard<'_, Connection> {
        self.database.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn store(&self, title: &Handle) -> Store {
        Store::at(self.folder.join("titles").join(folder_of(title)))
    }

    pub(crate) fn discovery(&self) -> Discovery {
        Discovery {
            id: self.id.clone(),
            name: self.document.name.clone(),
            protocol: PROTOCOL,
            now: Some(self.now()),
            token_path: "/v1/token".to_owned(),
            limits: Limits {
                pack_bytes: pack::MAX_PACK_LEN as u64,
                recipe_bytes: lantern_store::recipe::MAX_ROOT_LEN,
                chunk_bytes: lantern_store::codec::MAX_RAW_LEN as u64,
                record_bytes: MAX_RECORD_LEN,
                text_bytes: MAX_TEXT_LEN,
                notes_bytes: notes::MAX_LEN,
            },
            capabilities: [PIECES, PAGES, UPDATES, REBUILDS].map(str::to_owned).to_vec(),
        }
    }

    /// Returns the rules as they are published.
    pub(crate) fn rules_document(&self) -> Result<Value, Refused> {
        let mut document = serde_json::to_value(&self.document.rules)?;
        if let Some(rules) = document.as_object_mut() {
            rules.extend(self.document.more_rules.clone());
        }
        Ok(document)
    }

    pub(crate) fn rules(&self) -> &HouseRules {
        &self.document.rules
    }

    pub(crate) fn new_token(&self, client: &str, secret: &str) -> Result<Option<Token>, Refused> {
        // Digests of equal length are compared, so the time says nothing about the secret.
        if client != CLIENT_ID || Digest::of(secret.as_bytes()) != Digest::of(self.secret.as_bytes()) {
            return Ok(None);
        }
        let access_token = random_hex(64)?;
        let mut tokens = self.tokens.lock().unwrap_or_else(PoisonError::into_inner);
        tokens.retain(|_, until| *until > Instant::now());
        tokens.insert(access_token.clone(), Instant::now() + TOKEN_LIFE);
        Ok(Some(Token {
            access_token,
            token_type: "Bearer".to_owned(),
            expires_in: TOKEN_LIFE.as_secs(),
            scope: SCOPE.to_owned(),
        }))
    }

    pub(crate) fn knows_token(&self, token: &str) -> bool {
        let tokens = self.tokens.lock().unwrap_or_else(PoisonError::into_inner);
        tokens.get(token).is_some_and(|until| *until > Instant::now())
    }

    /// Makes a title, as someone would on the storefront's own pages.
    ///
    /// # Errors
    /// A problem when it is there already with another identity; new depots are added to one that is there.
    pub fn make_title(&self, title: &Title) -> Result<Title, Refused> {
        let mut database = self.database();
        let transaction = database.transaction_with_behavior(TransactionBehavior::Immediate)?;
        let known = find_title(&transaction, &title.handle)?;
        let made = match known.clone() {
            None => title.clone(),
            Some(known) if known.identity != title.identity => {
                let detail = format!("the title {} belongs to {}", title.handle, known.identity);
                return Err(Refused::new(problem::EXISTS, detail, "choose another handle"));
            }
            Some(mut known) => {
                let fresh = title.depots.iter().filter(|d| !known.depots.contains(d)).cloned();
                let fresh: Vec<Handle> = fresh.collect();
                known.depots.extend(fresh);
                known
            }
        };
        if known.as_ref() != Some(&made) {
            let sql =
                "INSERT INTO titles VALUES ($1, $2) ON CONFLICT (handle) DO UPDATE SET document = excluded.document";
            transaction.execute(sql, params![made.handle.as_str(), text(&made)?])?;
            self.note(&transaction, &made.handle, "title-made", 0, None)?;
        }
        transaction.commit()?;
        Ok(made)
    }

    pub(crate) fn titles(&self) -> Result<Vec<Title>, Refused> {
        documents(&self.database(), "SELECT document FROM titles ORDER BY handle", [])
    }

    pub(crate) fn title(&self, handle: &Handle) -> Result<Title, Refused> {
        let found = find_title(&self.database(), handle)?;
        found.ok_or_else(|| {
            let detail = format!("there is no title {:?} here", handle.as_str());
            Refused::new(problem::NOT_FOUND, detail, "make the title first, or fix the handle in lantern.toml")
        })
    }

    pub(crate) fn events(&self, title: &Handle, after: u64) -> Result<Vec<StorefrontEvent>, Refused> {
        self.title(title)?;
        let database = self.database();
        let sql = "SELECT cursor, document FROM events WHERE title = $1 AND cursor > $2 ORDER BY cursor LIMIT 500";
        let mut statement = database.prepare_cached(sql)?;
        let rows =
            statement.query_map(params![title.as_str(), after], |row| Ok((row.get(0)?, row.get::<_, String>(1)?)))?;
        rows.map(|row| {
            let (cursor, text): (u64, String) = row?;
            Ok(StorefrontEvent { cursor, ..document(&text)? })
        })
        .collect()
    }

    /// Returns the answer that was given to this key before; a key of another request is a problem.
    pub(crate) fn answer_before(&self, key: EventId, request: &Digest) -> Result<Option<(u16, String)>, Refused> {
        let sql = "SELECT request, status, body FROM answers WHERE key = $1";
        let found: Option<(String, u16, String)> = self
            .database()
            .query_row(sql, [key.to_string()], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))
            .optional()?;
        match found {
            Some((same, status, body)) if same == request.to_string() => Ok(Some((status, body))),
            Some(_) => {
                let detail = format!("the key {key} was used for another request");
                Err(Refused::new(problem::KEY_REUSED, detail, "use a fresh key for each action"))
            }
            None => Ok(None),
        }
    }

    pub(crate) fn keep_answer(&self, key: EventId, request: &Digest, status: u16, body: &str) -> Result<(), Refused> {
        let database = self.database();
        let now = self.now();
        database.execute("DELETE FROM answers WHERE at < $1", [(now - ANSWER_LIFE).to_string()])?;
        let sql = "INSERT INTO answers VALUES ($1, $2, $3, $4, $5) ON CONFLICT DO NOTHING";
        database.execute(sql, params![key.to_string(), request.to_string(), status, body, now.to_string()])?;
        Ok(())
    }

    fn note(
        &self,
        transaction: &Transaction<'_>,
        title: &Handle,
        kind: &str,
        number: u64,
        branch: Option<&Name>,
    ) -> Result<(), Refused> {
        let event = StorefrontEvent {
            cursor: 0,
            at: self.now(),
            by: CLIENT_ID.to_owned(),
            kind: kind.to_owned(),
            number,
            branch: branch.cloned(),
        };
        let sql = "INSERT INTO events (title, document) VALUES ($1, $2)";
        transaction.execute(sql, params![title.as_str(), text(&event)?])?;
        Ok(())
    }
}

fn find_title(connection: &Connection, handle: &Handle) -> Result<Option<Title>, Refused> {
    let found: Vec<Title> = documents(connection, "SELECT document FROM titles WHERE handle = $1", [handle.as_str()])?;
    Ok(found.into_iter().next())
}

fn damaged(error: impl std::error::Error) -> Refused {
    Refused::new(problem::DAMAGED, error.to_string(), "send it again")
}

pub(crate) fn not_there(error: StoreError) -> Refused {
    match error {
        StoreError::Missing { .. } => {
            Refused::new(problem::NOT_FOUND, error.to_string(), "push again: what is missing is sent then")
        }
        StoreError::Recipe { source, .. } => damaged(source),
        other => other.into(),
    }
}
