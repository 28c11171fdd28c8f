//! The ledger: an append-only record of what was asked, done and heard, in SQLite.
//!
//! [`Ledger::open`] opens or makes the file and brings it up to date; [`Ledger::append`] adds an event in a transaction;
//! [`Ledger::events`] gives all of them, each computer's chain checked. What follows from the events is computed by
//! `lantern_core::board::Board`.
//!
//! ```
//! use lantern_core::{event::{EventBody, NumberReserved}, digest::InputDigest, names::Name, version::BuildNumber};
//! use lantern_ledger::{Ledger, Stamp};
//!
//! let temp = tempfile::tempdir()?;
//! let mut ledger = Ledger::open(&temp.path().join("ledger.db"), [7; 16])?;
//! let stamp = Stamp { at: "2026-11-23T09:00:00Z".parse()?, random: [1; 10], actor: "wren".into() };
//! let body = NumberReserved { number: BuildNumber::new(1)?, input: InputDigest::of(b"input") };
//! ledger.append(&Name::full_edition(), stamp, None, EventBody::NumberReserved(body))?;
//! assert_eq!(ledger.events()?.len(), 1);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```
//!
//! Not here: what events mean, and any other database.

mod migrate;

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use lantern_core::digest::Digest;
use lantern_core::event::{Event, EventBody, EventError, EventId};
use lantern_core::names::Name;
use lantern_core::points;
use rusqlite::{Connection, ErrorCode, OptionalExtension, TransactionBehavior, params};

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
}

impl LedgerError {
    /// Whether the file itself is damaged, and not the disk full or the folder closed.
    pub fn is_damaged(&self) -> bool {
        use rusqlite::ErrorCode::{DatabaseCorrupt, NotADatabase};
        match self {
            Self::Open { source, .. } | Self::Sql { source, .. } => {
                matches!(source.sqlite_error_code(), Some(DatabaseCorrupt | NotADatabase))
            }
            Self::Event { .. } | Self::Chain { .. } => true,
            _ => false,
        }
    }

    /// Returns what the disk said, where it was the disk that refused.
    pub fn disk_says(&self) -> Option<std::io::ErrorKind> {
        use std::io::ErrorKind;
        let (Self::Open { source, .. } | Self::Sql { source, .. }) = self else { return None };
        Some(match source.sqlite_error_code()? {
            ErrorCode::DiskFull => ErrorKind::StorageFull,
            ErrorCode::ReadOnly => ErrorKind::ReadOnlyFilesystem,
            ErrorCode::PermissionDenied | ErrorCode::CannotOpen => ErrorKind::PermissionDenied,
            _ => return None,
        })
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
pub struct Stamp {
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

/// An open ledger.
#[derive(Debug)]
pub struct Ledger {
    connection: Connection,
    device: String,
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
        Ok(Self { connection, device })
    }

    /// Adds an event; it is on disk when this returns.
    ///
    /// # Errors
    /// [`LedgerError`]; nothing is added then.
    pub fn append(
        &mut self,
        edition: &Name,
        stamp: Stamp,
        server: Option<ServerFacts>,
        body: EventBody,
    ) -> Result<Event, LedgerError> {
        let sql = || LedgerError::sql("add an event");
        let device = self.device.clone();
        let transaction = self.connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(sql())?;
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
            id: EventId::new(stamp.at, stamp.random),
            device,
            sequence: sequence.unsigned_abs(),
            predecessor: last.map(|(_, line)| Digest::of(line.as_bytes())),
            actor: stamp.actor,
            recorded_at: stamp.at,
            happened_at: server.and_then(|s| s.happened_at),
            revision: server.map(|s| s.revision),
            edition: edition.clone(),
            body,
        };
        transaction
            .execute(
                "INSERT INTO events (id, device, sequence, kind, edition, line) VALUES ($1, $2, $3, $4, $5, $6)",
                params![
                    event.id.to_string(),
                    event.device,
                    sequence,
                    event.body.kind(),
                    event.edition.as_str(),
                    event.to_line()
                ],
            )
            .map_err(sql())?;
        points::write().map_err(as_sqlite_says).and_then(|()| transaction.commit()).map_err(sql())?;
        points::pass();
        log::info!("recorded {}: {}", event.body.kind(), event.body.payload());
        Ok(event)
    }

    /// Returns every event in the order of writing, each held against the one before it.
    ///
    /// # Errors
    /// [`LedgerError::Event`], [`LedgerError::Chain`], [`LedgerError::Sql`].
    pub fn events(&self) -> Result<Vec<Event>, LedgerError> {
        let mut last: HashMap<String, (u64, Digest)> = HashMap::new();
        let mut out = Vec::new();
        for (position, line) in self.lines()? {
            let event = Event::from_line(&line).map_err(|source| LedgerError::Event { position, source })?;
            let follows = match last.get(&event.device) {
                Some((sequence, digest)) => event.sequence == sequence + 1 && event.predecessor == Some(*digest),
                None => event.sequence == 1 && event.predecessor.is_none(),
            };
            if !follows {
                return Err(LedgerError::Chain { position });
            }
            last.insert(event.device.clone(), (event.sequence, Digest::of(line.as_bytes())));
            out.push(event);
        }
        Ok(out)
    }

    fn lines(&self) -> Result<Vec<(i64, String)>, LedgerError> {
        let read = || -> Result<_, rusqlite::Error> {
            let mut statement = self.connection.prepare("SELECT position, line FROM events ORDER BY position")?;
            let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?;
            rows.collect()
        };
        read().map_err(LedgerError::sql("read its events"))
    }

    /// Notes when a storefront was last heard. A convenience, not an event: it may be lost.
    ///
    /// # Errors
    /// [`LedgerError::Sql`].
    pub fn note_heard(&mut self, storefront: &str, at: Timestamp) -> Result<(), LedgerError> {
        let sql = "INSERT INTO heard VALUES ($1, $2) ON CONFLICT (storefront) DO UPDATE SET at = excluded.at";
        let at = at.to_string();
        let write = || self.connection.execute(sql, params![storefront, at]);
        let done = points::write().map_err(as_sqlite_says).and_then(|()| write());
        done.map(|_| ()).map_err(LedgerError::sql("note when a storefront was heard"))
    }

    /// Returns when a storefront was last heard.
    ///
    /// # Errors
    /// [`LedgerError::Sql`].
    pub fn heard(&self, storefront: &str) -> Result<Option<Timestamp>, LedgerError> {
        let sql = "SELECT at FROM heard WHERE storefront = $1";
        let found = self.connection.query_row(sql, [storefront], |row| row.get::<_, String>(0)).optional();
        let text = found.map_err(LedgerError::sql("say when a storefront was heard"))?;
        Ok(text.and_then(|text| text.parse().ok()))
    }
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
mod tests;
