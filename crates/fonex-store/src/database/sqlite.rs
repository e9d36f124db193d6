//! The embedded database: SQLite in write-ahead mode.

use std::borrow::Cow;
use std::path::Path;
use std::time::Duration;

use rusqlite::types::{ToSqlOutput, ValueRef};
use rusqlite::{Connection, OpenFlags, ToSql, params_from_iter};

use super::{Row, Value};
use crate::StoreError;

/// Statements that are kept ready: more than one command ever uses.
const STATEMENTS: usize = 64;

/// Opens a database to read and write, making it if need be.
pub(crate) fn open_file(path: &Path) -> Result<Connection, StoreError> {
    let connection = Connection::open(path)?;
    connection.busy_timeout(Duration::from_secs(20))?;
    connection.pragma_update(None, "journal_mode", "wal")?;
    connection.pragma_update(None, "synchronous", "normal")?;
    connection.pragma_update(None, "foreign_keys", true)?;
    connection.set_prepared_statement_cache_capacity(STATEMENTS);
    Ok(connection)
}

/// Opens a database as it is, without a lock, a log or any other file.
pub(crate) fn immutable(path: &Path) -> Result<Connection, StoreError> {
    let path = path.to_string_lossy().replace('%', "%25").replace('?', "%3f").replace('#', "%23");
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI;
    Ok(Connection::open_with_flags(format!("file:{path}?immutable=1"), flags)?)
}

impl ToSql for Value<'_> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(ToSqlOutput::Borrowed(match self {
            Value::Null => ValueRef::Null,
            Value::Integer(number) => ValueRef::Integer(*number),
            Value::Real(number) => ValueRef::Real(*number),
            Value::Text(text) => ValueRef::Text(text.as_bytes()),
            Value::Bytes(bytes) => ValueRef::Blob(bytes),
        }))
    }
}

pub(super) fn value<'r>(row: &'r rusqlite::Row<'_>, column: usize) -> Result<Value<'r>, StoreError> {
    Ok(match row.get_ref(column)? {
        ValueRef::Null => Value::Null,
        ValueRef::Integer(number) => Value::Integer(number),
        ValueRef::Real(number) => Value::Real(number),
        ValueRef::Text(text) => {
            let text = std::str::from_utf8(text).map_err(|_| StoreError::Cell { column, expected: "UTF-8" })?;
            Value::Text(Cow::Borrowed(text))
        }
        ValueRef::Blob(bytes) => Value::Bytes(Cow::Borrowed(bytes)),
    })
}

pub(super) fn execute(connection: &Connection, sql: &str, values: &[Value<'_>]) -> Result<u64, StoreError> {
    Ok(connection.prepare_cached(sql)?.execute(params_from_iter(values))? as u64)
}

pub(super) fn each(
    connection: &Connection,
    sql: &str,
    values: &[Value<'_>],
    with: &mut dyn FnMut(&Row<'_>) -> Result<(), StoreError>,
) -> Result<(), StoreError> {
    let mut statement = connection.prepare_cached(sql)?;
    let mut rows = statement.query(params_from_iter(values))?;
    while let Some(row) = rows.next()? {
        with(&Row::File(row))?;
    }
    Ok(())
}
