//! What can go wrong with a store.

use rusqlite::ErrorCode;
use thiserror::Error;

/// Why the store could not do what was asked.
#[derive(Debug, Error)]
pub enum StoreError {
    /// The database refused.
    #[error("the store refused: {0}")]
    Database(#[source] rusqlite::Error),
    /// There is no room left for what is to be stored.
    #[error("no space left for the store, or a disk error: {0}")]
    Full(#[source] rusqlite::Error),
    /// The store lies where nothing can be written.
    #[error("the store cannot be written: {0}")]
    ReadOnly(#[source] rusqlite::Error),
    /// A file beside the database could not be used.
    #[error("the store's folder cannot be used: {0}")]
    Io(#[from] std::io::Error),
    /// A stored record is not what this version writes.
    #[error("a stored record cannot be read: {0}")]
    Record(#[from] serde_json::Error),
    /// A row that belongs to nothing.
    #[error("the store is damaged: run {run} has a trial of variant {variant}, and {known} variants")]
    Damaged {
        /// The run.
        run: i64,
        /// The variant's number.
        variant: i64,
        /// How many variants the run has.
        known: usize,
    },
    /// A column holds what it never should.
    #[error("the store is damaged: column {column} of a row is not {expected}")]
    Cell {
        /// The column, from 0.
        column: usize,
        /// What was expected.
        expected: &'static str,
    },
    /// A row that is always there is not.
    #[error("the store is damaged: a row is missing")]
    NoRow,
    /// A copy is not what was copied.
    #[error("run {run} did not arrive as it was sent, and was not kept")]
    Arrived {
        /// The run.
        run: i64,
    },
    /// There is no store.
    #[error("there are no runs there yet")]
    Empty,
    /// The address of a store is none.
    #[error("\"{shown}\" is no address of a store: {why}")]
    Address {
        /// The address, without a password.
        shown: String,
        /// What is wrong with it.
        why: String,
    },
    /// A server cannot be reached.
    #[error("the store at {server} cannot be reached: {why}")]
    Unreachable {
        /// Its address.
        server: String,
        /// Why.
        why: String,
    },
    /// A server does not let this user in.
    #[error("the store at {server} lets nobody in like this: {why}")]
    Refused {
        /// Its address.
        server: String,
        /// In its words.
        why: String,
    },
    /// A server does not let this user do that.
    #[error("this user may not do that at {server}: {why}")]
    NotAllowed {
        /// Its address.
        server: String,
        /// In its words.
        why: String,
    },
    /// A server has no room.
    #[error("no space left at {server}: {why}")]
    ServerFull {
        /// Its address.
        server: String,
        /// In its words.
        why: String,
    },
    /// A server refuses.
    #[error("the store at {server} refused: {why}")]
    Server {
        /// Its address.
        server: String,
        /// In its words.
        why: String,
    },
    /// A server speaks an older SQL.
    #[error("the server is PostgreSQL {found}; {needed} or newer is needed")]
    TooOld {
        /// Its version.
        found: i64,
        /// The oldest that will do.
        needed: i64,
    },
    /// An older store, where nothing may be written.
    #[error(
        "the store has version {found} and is to be brought to {known}, which this user may not do; let one who may write open it once"
    )]
    Older {
        /// Version of the store.
        found: u32,
        /// Version of this program.
        known: u32,
    },
    /// A newer program wrote the store.
    #[error("the store has version {found}, and this program knows versions up to {known}; use a newer Fonex")]
    Newer {
        /// Version of the store.
        found: u32,
        /// Newest version known.
        known: u32,
    },
    /// Another process executes this run right now.
    #[error("run {0} is being executed by another process; wait for it, or stop it first")]
    Busy(i64),
}

impl From<rusqlite::Error> for StoreError {
    fn from(error: rusqlite::Error) -> Self {
        match error.sqlite_error_code() {
            // A limit on the size of files shows as a write that fails.
            Some(ErrorCode::DiskFull | ErrorCode::SystemIoFailure) => Self::Full(error),
            Some(ErrorCode::ReadOnly | ErrorCode::CannotOpen) => Self::ReadOnly(error),
            _ => Self::Database(error),
        }
    }
}
