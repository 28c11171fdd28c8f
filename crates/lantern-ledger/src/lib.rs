//! The ledger: an append-only record of what was asked, done and heard, in SQLite.
//!
//! [`Log`] is what every ledger can do, [`conformance`] the suite that any implementation runs; [`Ledger`] is the one in SQLite.
//! [`Ledger::open`] opens or makes the file and brings it up to date; [`Log::append`] adds an event in a transaction;
//! [`Ledger::events`] gives all of them, each computer's chain checked; [`Ledger::lines`] and [`Log::add_lines`] carry
//! them from one ledger to another. What follows from the events is computed by
//! `lantern_core::board::Board`.
//!
//! ```
//! use lantern_core::{event::{EventBody, NumberReserved}, digest::InputDigest, names::Name, version::BuildNumber};
//! use lantern_ledger::{Ledger, Log, Origin};
//!
//! let temp = tempfile::tempdir()?;
//! let mut ledger = Ledger::open(&temp.path().join("ledger.db"), [7; 16])?;
//! let origin = Origin { at: "2026-11-23T09:00:00Z".parse()?, random: [1; 10], actor: "wren".into() };
//! let body = NumberReserved { number: BuildNumber::new(1)?, input: InputDigest::of(b"input") };
//! ledger.append(None, &Name::full_edition(), origin, None, EventBody::NumberReserved(body))?;
//! assert_eq!(ledger.events()?.len(), 1);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! Not here: what events mean, and any other database.

mod append_log;
mod chain;
pub mod conformance;
mod migrate;
#[cfg(feature = "samples")]
pub mod samples;

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use lantern_core::digest::Digest;
use lantern_core::event::{Event, EventBody, EventError, EventId};
use lantern_core::failpoint;
use lantern_core::names::Name;
use rusqlite::{Connection, ErrorCode, OpenFlags, OptionalExtension, Transaction, TransactionBehavior, params};
use serde::{Deserialize, Serialize};

pub use append_log::Log;
pub use chain::{ChainError, Chains};

/// How long a write waits for another lantern's.
const BUSY_TIMEOUT: Duration = Duration::from_secs(5);

/// Why the ledger could not be read or written.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LedgerError {
    /// The file could not be opened as a database.
    #[error("could not open the ledger {}", .path.display())]
    Open {
        /// The file.
        path: PathBuf,
        /// SQLite's reason.
        #[source]
        source: rusqlite::Error,
    },
    /// A statement failed.
    #[error("the ledger could not {what}")]
    Sql {
        /// Such as "add an event".
        what: &'static str,
        /// SQLite's reason.
        #[source]
        source: rusqlite::Error,
    },
    /// A newer lantern wrote the file.
    #[error("the ledger was brought up to date by a newer lantern ({migration}); this one must not write to it")]
    Newer {
        /// The migration that is not known.
        migration: String,
    },
    /// A migration is recorded with another content than it has.
    #[error("the ledger's migration {migration} is recorded with another content than this lantern has")]
    Changed {
        /// Which.
        migration: String,
    },
    /// An event cannot be read.
    #[error("event {position} of the ledger is damaged")]
    Event {
        /// Its row.
        position: i64,
        /// How.
        #[source]
        source: EventError,
    },
    /// An event does not follow the one before it.
    #[error("event {position} of the ledger does not follow the one before it: something was removed or changed")]
    Chain {
        /// Its row.
        position: i64,
    },
    /// Lines from elsewhere do not fit what is here.
    #[error("line {line} does not fit this ledger: {source}")]
    Foreign {
        /// From 1.
        line: usize,
        /// How.
        source: ChainError,
    },
    /// Something was added since what the append was decided by.
    #[error("something else was recorded in the meantime")]
    Conflict,
    /// The ledger could only be opened to read.
    #[error("the ledger can only be read now")]
    ReadOnly(#[source] Arc<LedgerError>),
}

/// What an error comes to for the one who must decide what to do next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Outcome {
    /// Look again, and decide again.
    Conflict,
    /// What is there cannot be trusted: copies of it are needed.
    Damaged,
    /// Another version of lantern is needed, mostly a newer one.
    OtherVersion,
    /// There is no room.
    Full,
    /// It may not be written, or not be read.
    Denied,
    /// What was given does not belong here.
    Foreign,
    /// Someone else uses it now, or it could not be asked: the same may work in a moment.
    Unreachable,
}

impl LedgerError {
    /// Returns what it comes to.
    pub fn outcome(&self) -> Outcome {
        match self {
            Self::Conflict => Outcome::Conflict,
            Self::Newer { .. } | Self::Changed { .. } => Outcome::OtherVersion,
            Self::Foreign { .. } => Outcome::Foreign,
            Self::ReadOnly(why) => why.outcome(),
            Self::Event { .. } | Self::Chain { .. } => Outcome::Damaged,
            Self::Open { source, .. } | Self::Sql { source, .. } => match source.sqlite_error_code() {
                Some(ErrorCode::DatabaseCorrupt | ErrorCode::NotADatabase) => Outcome::Damaged,
                Some(ErrorCode::DiskFull) => Outcome::Full,
                Some(ErrorCode::ReadOnly | ErrorCode::PermissionDenied | ErrorCode::CannotOpen) => Outcome::Denied,
                _ => Outcome::Unreachable,
            },
        }
    }

    pub(crate) fn sql(what: &'static str) -> impl FnOnce(rusqlite::Error) -> Self {
        move |source| Self::Sql { what, source }
    }
}

/// A disk that fails at a [`points::write`], in the words in which SQLite would say it.
fn as_sqlite_says(error: std::io::Error) -> rusqlite::Error {
    let code = match error.kind() {
        std::io::ErrorKind::ReadOnlyFilesystem => rusqlite::ffi::SQLITE_READONLY,
        std::io::ErrorKind::StorageFull => rusqlite::ffi::SQLITE_FULL,
        _ => rusqlite::ffi::SQLITE_IOERR,
    };
    rusqlite::Error::SqliteFailure(rusqlite::ffi::Error::new(code), Some(error.to_string()))
}

/// What an event takes from outside: time, randomness, and who is asking.
#[derive(Debug, Clone)]
pub struct Origin {
    /// Now, by this computer's clock.
    pub at: Timestamp,
    /// For the event's id.
    pub random: [u8; 10],
    /// Who, as this computer knows them.
    pub actor: String,
}

/// When and at which revision something happened, by the server.
#[derive(Debug, Clone, Copy)]
pub struct ServerFacts {
    /// By the server's clock.
    pub happened_at: Option<Timestamp>,
    /// The server's revision.
    pub revision: u64,
}

/// How far a ledger was read.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reached {
    /// The row of the last event; 0 before the first.
    position: i64,
    chains: Chains,
}

/// An open ledger.
#[derive(Debug)]
pub struct Ledger {
    connection: Connection,
    device: String,
    /// Why it can only be read.
    refused: Option<Arc<LedgerError>>,
}

impl Ledger {
    /// Opens or makes a ledger and runs the migrations that it lacks. `device` names this computer in a new ledger:
    /// 16 random bytes.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn open(path: &Path, device: [u8; 16]) -> Result<Self, LedgerError> {
        let open = || -> Result<Connection, rusqlite::Error> {
            let connection = Connection::open(path)?;
            connection.busy_timeout(BUSY_TIMEOUT)?;
            switch_to_wal(&connection)?;
            connection.pragma_update(None, "synchronous", "full")?;
            // macOS: through the disk's own memory; elsewhere it says nothing. Source: SQLite, "PRAGMA fullfsync".
            connection.pragma_update(None, "fullfsync", true)?;
            connection.pragma_update(None, "checkpoint_fullfsync", true)?;
            Ok(connection)
        };
        let mut connection = open().map_err(|source| LedgerError::Open { path: path.to_owned(), source })?;
        migrate::run(&mut connection)?;
        let fresh = Digest::of(&device).short();
        let know = LedgerError::sql("say which computer this is");
        let ask = || connection.query_row("SELECT value FROM facts WHERE name = 'device'", [], |row| row.get(0));
        let device = ask().optional().and_then(|known| match known {
            Some(known) => Ok(known),
            None => {
                connection.execute("INSERT INTO facts VALUES ('device', $1) ON CONFLICT DO NOTHING", [&fresh])?;
                ask()
            }
        });
        let device = device.map_err(know)?;
        Ok(Self { connection, device, refused: None })
    }

    /// Opens a ledger that cannot be written, because its disk is full or can only be read; `refused` is why, and what every
    /// write says.
    ///
    /// # Errors
    /// [`LedgerError`].
    pub fn open_to_read(path: &Path, refused: LedgerError) -> Result<Self, LedgerError> {
        let open = || -> Result<(Connection, String), rusqlite::Error> {
            let connection = connect_to_read(path)?;
            let known = "SELECT value FROM facts WHERE name = 'device'";
            let device = connection.query_row(known, [], |row| row.get(0)).optional()?;
            Ok((connection, device.unwrap_or_default()))
        };
        let (connection, device) = open().map_err(|source| LedgerError::Open { path: path.to_owned(), source })?;
        migrate::refuse_newer(&connection)?;
        Ok(Self { connection, device, refused: Some(Arc::new(refused)) })
    }

    fn may_write(&self) -> Result<(), LedgerError> {
        self.refused.clone().map_or(Ok(()), |why| Err(LedgerError::ReadOnly(why)))
    }

    /// Brings everything into the one file, so that it can be copied or renamed.
    ///
    /// # Errors
    /// [`LedgerError::Sql`].
    pub fn close(self) -> Result<(), LedgerError> {
        self.connection.close().map_err(|(_, source)| LedgerError::Sql { what: "be closed", source })
    }
}

impl Log for Ledger {
    fn is_read_only(&self) -> bool {
        self.refused.is_some()
    }

    fn lines(&self) -> Result<Vec<(i64, String)>, LedgerError> {
        let read = || -> Result<_, rusqlite::Error> {
            let mut statement = self.connection.prepare("SELECT position, line FROM events ORDER BY position")?;
            let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?;
            rows.collect()
        };
        read().map_err(LedgerError::sql("read its events"))
    }

    fn len_at_most(&self) -> Result<u64, LedgerError> {
        newest(&self.connection).map(i64::unsigned_abs).map_err(LedgerError::sql("count its events"))
    }

    fn note_heard(&mut self, storefront: &str, at: Timestamp) -> Result<(), LedgerError> {
        if self.is_read_only() {
            return Ok(());
        }
        let sql = "INSERT INTO heard VALUES ($1, $2) ON CONFLICT (storefront) DO UPDATE SET at = excluded.at";
        let at = at.to_string();
        let write = || self.connection.execute(sql, params![storefront, at]);
        let done = failpoint::write().map_err(as_sqlite_says).and_then(|()| write());
        done.map(|_| ()).map_err(LedgerError::sql("record when a storefront answered"))
    }

    fn heard(&self, storefront: &str) -> Result<Option<Timestamp>, LedgerError> {
        let sql = "SELECT at FROM heard WHERE storefront = $1";
        let found = self.connection.query_row(sql, [storefront], |row| row.get::<_, String>(0)).optional();
        let text = found.map_err(LedgerError::sql("tell when a storefront answered last"))?;
        Ok(text.and_then(|text| text.parse().ok()))
    }

    fn device(&self) -> &str {
        &self.device
    }

    fn append(
        &mut self,
        after: Option<&Reached>,
        edition: &Name,
        origin: Origin,
        server: Option<ServerFacts>,
        body: EventBody,
    ) -> Result<Event, LedgerError> {
        let sql = || LedgerError::sql("add an event");
        self.may_write()?;
        let device = self.device.clone();
        let transaction = self.connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(sql())?;
        if let Some(after) = after
            && newest(&transaction).map_err(sql())? != after.position
        {
            return Err(LedgerError::Conflict);
        }
        let last: Option<(i64, String)> = transaction
            .query_row(
                "SELECT sequence, line FROM events WHERE device = $1 ORDER BY sequence DESC LIMIT 1",
                [&device],
                |row| Ok((row.get(0)?, row.get(1)?)),
            )
            .optional()
            .map_err(sql())?;
        let sequence = last.as_ref().map_or(1, |(sequence, _)| sequence + 1);
        let event = Event {
            id: EventId::new(origin.at, origin.random),
            device,
            sequence: sequence.unsigned_abs(),
            predecessor: last.map(|(_, line)| Digest::of(line.as_bytes())),
            actor: origin.actor,
            recorded_at: origin.at,
            happened_at: server.and_then(|s| s.happened_at),
            revision: server.map(|s| s.revision),
            edition: edition.clone(),
            body,
        };
        insert(&transaction, &event, &event.to_line()).map_err(sql())?;
        failpoint::write().map_err(as_sqlite_says).and_then(|()| transaction.commit()).map_err(sql())?;
        failpoint::pass();
        log::info!("recorded {}: {}", event.body.kind(), event.body.payload());
        Ok(event)
    }

    fn follow(&self, reached: &mut Reached, take: &mut dyn FnMut(Event)) -> Result<(), LedgerError> {
        let sql = || LedgerError::sql("read its events");
        let query = "SELECT position, line FROM events WHERE position > $1 ORDER BY position";
        let mut statement = self.connection.prepare_cached(query).map_err(sql())?;
        let mut rows = statement.query([reached.position]).map_err(sql())?;
        while let Some(row) = rows.next().map_err(sql())? {
            let position = row.get(0).map_err(sql())?;
            let line = row.get_ref(1).and_then(|line| Ok(line.as_str()?)).map_err(sql())?;
            take(reached.chains.follow(line).map_err(|error| match error {
                ChainError::Event(source) => LedgerError::Event { position, source },
                ChainError::Order => LedgerError::Chain { position },
            })?);
            reached.position = position;
        }
        Ok(())
    }

    fn has_reached(&self, reached: &Reached) -> Result<bool, LedgerError> {
        let sql = "SELECT line FROM events WHERE position = $1";
        let found = self.connection.query_row(sql, [reached.position], |row| row.get::<_, String>(0)).optional();
        let line = found.map_err(LedgerError::sql("read an event"))?;
        let Some(event) = line.as_ref().and_then(|line| Event::from_line(line).ok()) else {
            return Ok(line.is_none() && *reached == Reached::default());
        };
        let digest = line.map(|line| Digest::of(line.as_bytes()));
        Ok(reached.chains.end(&event.device).map(|(_, digest)| digest) == digest)
    }

    fn backwards(&self, take: &mut dyn FnMut(Event) -> bool) -> Result<(), LedgerError> {
        let sql = || LedgerError::sql("read its events");
        let query = "SELECT position, line FROM events ORDER BY position DESC";
        let mut statement = self.connection.prepare(query).map_err(sql())?;
        let mut rows = statement.query([]).map_err(sql())?;
        while let Some(row) = rows.next().map_err(sql())? {
            let position = row.get(0).map_err(sql())?;
            let line: String = row.get(1).map_err(sql())?;
            let event = Event::from_line(&line).map_err(|source| LedgerError::Event { position, source })?;
            if !take(event) {
                break;
            }
        }
        Ok(())
    }

    fn line_of(&self, device: &str, sequence: u64) -> Result<Option<String>, LedgerError> {
        let sql = "SELECT line FROM events WHERE device = $1 AND sequence = $2";
        let sequence = i64::try_from(sequence).unwrap_or(i64::MAX);
        let found = self.connection.query_row(sql, params![device, sequence], |row| row.get(0)).optional();
        found.map_err(LedgerError::sql("read an event"))
    }

    fn add_lines(&mut self, lines: &[String]) -> Result<u64, LedgerError> {
        self.may_write()?;
        let sql = || LedgerError::sql("add events");
        let transaction = self.connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(sql())?;
        let mut added = 0;
        for (line, number) in lines.iter().zip(1..) {
            let foreign = |source| LedgerError::Foreign { line: number, source };
            let event = Event::from_line(line).map_err(|e| foreign(e.into()))?;
            let here = |sequence: u64| -> Result<Option<String>, LedgerError> {
                let query = "SELECT line FROM events WHERE device = $1 AND sequence = $2";
                let sequence = i64::try_from(sequence).unwrap_or(i64::MAX);
                let found = transaction.query_row(query, params![event.device, sequence], |row| row.get(0));
                found.optional().map_err(sql())
            };
            match here(event.sequence)? {
                Some(known) if known == *line => continue,
                Some(_) => return Err(foreign(ChainError::Order)),
                None => {}
            }
            let before = here(event.sequence.saturating_sub(1))?.map(|line| Digest::of(line.as_bytes()));
            if event.sequence == 0 || event.predecessor != before || (event.sequence > 1 && before.is_none()) {
                return Err(foreign(ChainError::Order));
            }
            insert(&transaction, &event, line).map_err(sql())?;
            added += 1;
        }
        failpoint::write().map_err(as_sqlite_says).and_then(|()| transaction.commit()).map_err(sql())?;
        failpoint::pass();
        Ok(added)
    }
}

/// The row of the newest event; 0 where there is none.
fn newest(connection: &Connection) -> Result<i64, rusqlite::Error> {
    connection.query_row("SELECT coalesce(max(position), 0) FROM events", [], |row| row.get(0))
}

fn insert(transaction: &Transaction<'_>, event: &Event, line: &str) -> Result<(), rusqlite::Error> {
    let sql = "INSERT INTO events (id, device, sequence, kind, edition, line) VALUES ($1, $2, $3, $4, $5, $6)";
    let (id, sequence) = (event.id.to_string(), i64::try_from(event.sequence).unwrap_or(i64::MAX));
    let edition = event.edition.as_str();
    transaction.execute(sql, params![id, event.device, sequence, event.body.kind(), edition, line]).map(|_| ())
}

/// Returns the events of a ledger that may be damaged, as their lines: of each computer those that follow one another from
/// the first on. None when the file cannot be read at all.
pub fn salvage(path: &Path) -> Vec<String> {
    let read = || -> Result<Vec<String>, rusqlite::Error> {
        let connection = connect_to_read(path)?;
        let mut statement = connection.prepare("SELECT line FROM events ORDER BY position")?;
        let rows = statement.query_map([], |row| row.get::<_, String>(0))?;
        // A damaged page ends it: what lies behind it cannot be reached in order.
        Ok(rows.map_while(Result::ok).collect())
    };
    let mut chains = Chains::default();
    read().unwrap_or_default().into_iter().filter(|line| chains.follow(line).is_ok()).collect()
}

fn connect_to_read(path: &Path) -> Result<Connection, rusqlite::Error> {
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    Connection::open_with_flags(read_only_uri(path), flags)
}

/// The address under which SQLite opens a file without writing anything beside it. Source: SQLite, "Uniform Resource
/// Identifiers" (uri.html), sections 3.1 to 3.3.
fn read_only_uri(path: &Path) -> String {
    let mut uri = String::from("file:");
    let text = path.to_string_lossy();
    let text = if cfg!(windows) { text.replace('\\', "/") } else { text.into_owned() };
    for byte in text.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'/' | b'.' | b'-' | b'_' | b':' => uri.push(char::from(byte)),
            other => uri.push_str(&format!("%{other:02x}")),
        }
    }
    let log = path.with_file_name(format!("{}-wal", path.file_name().unwrap_or_default().to_string_lossy()));
    // Without a log of writes nothing more is needed than the file itself.
    let has_log = std::fs::metadata(log).is_ok_and(|m| m.len() > 0);
    uri.push_str(if has_log { "?mode=ro" } else { "?mode=ro&immutable=1" });
    uri
}

/// With a write-ahead log, readers never wait. Switching needs the file alone, and SQLite does not wait for that by
/// itself; it is done once in a ledger's life.
fn switch_to_wal(connection: &Connection) -> Result<(), rusqlite::Error> {
    let started = Instant::now();
    loop {
        let mode: String = connection.pragma_query_value(None, "journal_mode", |row| row.get(0))?;
        if mode == "wal" {
            return Ok(());
        }
        match connection.pragma_update(None, "journal_mode", "wal") {
            Err(error)
                if error.sqlite_error_code() == Some(ErrorCode::DatabaseBusy) && started.elapsed() < BUSY_TIMEOUT =>
            {
                std::thread::sleep(Duration::from_millis(10));
            }
            other => return other,
        }
    }
}

#[cfg(test)]
mod memory_log;
#[cfg(test)]
mod tests;
