//! One way to speak to either database: the same SQL text, the same values in, the same values out.
//!
//! What SQL text may use is what both understand: `$1` numbered in the order of first appearance, `on conflict`, `cast`,
//! `is not distinct from`, `returning`. Rows are given in the order of their ids by `order by`, never by chance.

#[cfg(feature = "postgres")]
mod address;
#[cfg(feature = "postgres")]
mod server;
mod sqlite;
#[cfg(feature = "postgres")]
mod tls;
mod value;

#[cfg(feature = "postgres")]
pub(crate) use address::ServerAddress;
#[cfg(feature = "postgres")]
pub(crate) use server::Server;
pub(crate) use sqlite::{immutable, open_file};
pub(crate) use value::{Value, values};

use crate::StoreError;
use value::FromValue;

/// The database of a store.
pub(crate) enum Database {
    /// A file of this machine.
    File(rusqlite::Connection),
    /// A server that a team shares.
    #[cfg(feature = "postgres")]
    Server(std::sync::Arc<Server>),
}

/// One row of an answer.
pub(crate) enum Row<'r> {
    File(&'r rusqlite::Row<'r>),
    #[cfg(feature = "postgres")]
    Server(&'r postgres::Row),
}

impl Row<'_> {
    /// The value of a column, counted from 0.
    pub(crate) fn get<'s, T: FromValue<'s>>(&'s self, column: usize) -> Result<T, StoreError> {
        T::from_value(self.borrowed(column)?).ok_or(StoreError::Cell { column, expected: T::NAME })
    }

    /// The value of a column, whatever it is.
    pub(crate) fn value(&self, column: usize) -> Result<Value<'static>, StoreError> {
        self.borrowed(column).map(Value::into_owned)
    }

    fn borrowed(&self, column: usize) -> Result<Value<'_>, StoreError> {
        match self {
            Self::File(row) => sqlite::value(row, column),
            #[cfg(feature = "postgres")]
            Self::Server(row) => server::value(row, column),
        }
    }
}

impl Database {
    /// Whether it is a file of this machine.
    pub(crate) const fn is_file(&self) -> bool {
        matches!(self, Self::File(_))
    }

    /// A column that only picks among rows which are read in the order of their places. SQLite would look the rows up by it, and sort all of them
    /// for each page; a plus before its name keeps it from that.
    pub(crate) fn picks(&self, column: &str) -> String {
        if self.is_file() { format!("+{column}") } else { column.to_owned() }
    }

    /// Executes a statement that answers nothing; gives the rows it changed. Of a server it is executed again where the
    /// connection breaks, so that an insert has to say what happens on a conflict.
    pub(crate) fn execute(&self, sql: &str, values: &[Value<'_>]) -> Result<u64, StoreError> {
        debug_assert!(!sql.trim_start().starts_with("insert") || sql.contains("on conflict"), "{sql}");
        match self {
            Self::File(connection) => sqlite::execute(connection, sql, values),
            #[cfg(feature = "postgres")]
            Self::Server(server) => server.execute(sql, values),
        }
    }

    /// Inserts many rows: `into` is a table with its columns, each row has as many values.
    pub(crate) fn insert_all(&self, into: &str, rows: &[Vec<Value<'_>>]) -> Result<(), StoreError> {
        let Some(width) = rows.first().map(Vec::len) else { return Ok(()) };
        let sql = |rows: usize| {
            let row = |row: usize| {
                let places: Vec<String> = (1..=width).map(|column| format!("${}", row * width + column)).collect();
                format!("({})", places.join(", "))
            };
            let rows: Vec<String> = (0..rows).map(row).collect();
            format!("insert into {into} values {} on conflict do nothing", rows.join(", "))
        };
        match self {
            Self::File(connection) => {
                let sql = sql(1);
                rows.iter().try_for_each(|row| sqlite::execute(connection, &sql, row).map(drop))
            }
            #[cfg(feature = "postgres")]
            Self::Server(server) => {
                // A server waits for no row by itself; a statement takes 65,535 values.
                for chunk in rows.chunks((20_000 / width).max(1)) {
                    let values: Vec<Value<'_>> = chunk.iter().flatten().cloned().collect();
                    server.execute(&sql(chunk.len()), &values)?;
                }
                Ok(())
            }
        }
    }

    /// Inserts a row and returns the number that it gets. Not repeated where the connection to a server breaks: there might be
    /// two of it.
    pub(crate) fn inserted(&self, sql: &str, values: &[Value<'_>]) -> Result<i64, StoreError> {
        let sql = format!("{sql} returning id");
        let mut id = Err(StoreError::NoRow);
        match self {
            Self::File(connection) => sqlite::each(connection, &sql, values, &mut |row| {
                id = row.get(0);
                Ok(())
            })?,
            #[cfg(feature = "postgres")]
            Self::Server(server) => {
                for row in &server.query(&sql, values, server::Repeat::Never)? {
                    id = Row::Server(row).get(0);
                }
            }
        }
        id
    }

    /// Calls `with` for each row. Of a server all rows are in memory before the first: ask for many in pages.
    pub(crate) fn each(
        &self,
        sql: &str,
        values: &[Value<'_>],
        mut with: impl FnMut(&Row<'_>) -> Result<(), StoreError>,
    ) -> Result<(), StoreError> {
        match self {
            Self::File(connection) => sqlite::each(connection, sql, values, &mut with),
            #[cfg(feature = "postgres")]
            Self::Server(server) => {
                let rows = server.query(sql, values, server::Repeat::Safe)?;
                rows.iter().try_for_each(|row| with(&Row::Server(row)))
            }
        }
    }

    /// What `read` makes of each row.
    pub(crate) fn rows<T>(
        &self,
        sql: &str,
        values: &[Value<'_>],
        mut read: impl FnMut(&Row<'_>) -> Result<T, StoreError>,
    ) -> Result<Vec<T>, StoreError> {
        let mut rows = Vec::new();
        self.each(sql, values, |row| {
            rows.push(read(row)?);
            Ok(())
        })?;
        Ok(rows)
    }

    /// What `read` makes of the only row there is, or none; the text says `limit 1` where there may be more.
    pub(crate) fn first<T>(
        &self,
        sql: &str,
        values: &[Value<'_>],
        mut read: impl FnMut(&Row<'_>) -> Result<T, StoreError>,
    ) -> Result<Option<T>, StoreError> {
        let mut first = None;
        self.each(sql, values, |row| {
            if first.is_none() {
                first = Some(read(row)?);
            }
            Ok(())
        })?;
        Ok(first)
    }

    /// The one row that is always there, such as a count.
    pub(crate) fn only<T>(
        &self,
        sql: &str,
        values: &[Value<'_>],
        read: impl FnMut(&Row<'_>) -> Result<T, StoreError>,
    ) -> Result<T, StoreError> {
        self.first(sql, values, read)?.ok_or(StoreError::NoRow)
    }

    /// Begins a transaction. What is done until it is committed is undone when it is dropped instead.
    pub(crate) fn begin(&self) -> Result<Transaction<'_>, StoreError> {
        match self {
            Self::File(connection) => connection.execute_batch("begin").map_err(StoreError::from)?,
            #[cfg(feature = "postgres")]
            Self::Server(server) => server.begin()?,
        }
        Ok(Transaction { database: self, open: true })
    }

    fn end(&self, word: &str) -> Result<(), StoreError> {
        match self {
            Self::File(connection) => Ok(connection.execute_batch(word)?),
            #[cfg(feature = "postgres")]
            Self::Server(server) => server.end(word),
        }
    }
}

/// Statements that hold together or not at all.
pub(crate) struct Transaction<'d> {
    database: &'d Database,
    open: bool,
}

impl Transaction<'_> {
    /// Makes what was done since the beginning last.
    pub(crate) fn commit(mut self) -> Result<(), StoreError> {
        self.database.end("commit")?;
        self.open = false;
        Ok(())
    }
}

impl Drop for Transaction<'_> {
    fn drop(&mut self) {
        if self.open {
            // A connection that is lost has undone it already.
            drop(self.database.end("rollback"));
        }
    }
}
