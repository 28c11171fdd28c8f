//! Migrations: files named by their time, run once each, their content remembered by digest.

use lantern_core::digest::Digest;
use rusqlite::{Connection, TransactionBehavior, params};

use crate::LedgerError;

/// Every migration, oldest first. One that was ever released is never changed.
const MIGRATIONS: [(&str, &str); 1] =
    [("20261123090000_events", include_str!("../migrations/20261123090000_events.sql"))];

pub(crate) fn run(connection: &mut Connection) -> Result<(), LedgerError> {
    let sql = || LedgerError::sql("bring itself up to date");
    // Almost always there is nothing to do, and then nobody has to wait for a writer.
    let table = "SELECT count(*) FROM sqlite_master WHERE name = 'migrations'";
    if connection.query_row(table, [], |row| row.get::<_, i64>(0)).map_err(sql())? > 0
        && check(&done(connection)?)?.is_empty()
    {
        return Ok(());
    }
    // Script and bookkeeping in one transaction: a migration is done or not, never half.
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(sql())?;
    transaction
        .execute_batch("CREATE TABLE IF NOT EXISTS migrations (name TEXT PRIMARY KEY, digest TEXT NOT NULL)")
        .map_err(sql())?;
    for (name, script) in check(&done(&transaction)?)? {
        transaction.execute_batch(script).map_err(sql())?;
        let digest = Digest::of(script.as_bytes()).to_string();
        transaction.execute("INSERT INTO migrations VALUES ($1, $2)", params![name, digest]).map_err(sql())?;
    }
    transaction.commit().map_err(sql())
}

/// Says whether a newer lantern wrote a ledger that is only read.
pub(crate) fn refuse_newer(connection: &Connection) -> Result<(), LedgerError> {
    check(&done(connection)?).map(|_| ())
}

fn done(connection: &Connection) -> Result<Vec<(String, String)>, LedgerError> {
    let sql = || LedgerError::sql("bring itself up to date");
    let mut statement = connection.prepare("SELECT name, digest FROM migrations ORDER BY name").map_err(sql())?;
    let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?))).map_err(sql())?;
    rows.collect::<Result<_, _>>().map_err(sql())
}

/// Compares what was done with what is known, and returns what is still to do.
fn check(done: &[(String, String)]) -> Result<Vec<(&'static str, &'static str)>, LedgerError> {
    for (name, digest) in done {
        match MIGRATIONS.iter().find(|(known, _)| known == name) {
            None => return Err(LedgerError::Newer { migration: name.clone() }),
            Some((_, script)) if Digest::of(script.as_bytes()).to_string() != *digest => {
                return Err(LedgerError::Changed { migration: name.clone() });
            }
            Some(_) => {}
        }
    }
    Ok(MIGRATIONS.into_iter().filter(|(name, _)| !done.iter().any(|(d, _)| d == name)).collect())
}
