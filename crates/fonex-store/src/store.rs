//! The embedded store: SQLite in write-ahead mode.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::{Connection, OpenFlags};
use tempfile::TempDir;

use crate::schema::migrate;
use crate::{AudioFiles, StoreError};

/// An open store.
///
/// SQL parameters are numbered in the order in which they first stand in the text: SQLite binds `$1` by appearance.
pub struct Store {
    connection: Connection,
    folder: PathBuf,
    /// Holds the copy that is read where the store itself cannot be opened.
    _copy: Option<TempDir>,
}

impl Store {
    /// Opens the store in a folder, making it if need be and bringing it up to date.
    ///
    /// # Errors
    /// When the folder cannot be written, the file is no store, or a newer program wrote it.
    pub fn open(folder: &Path) -> Result<Self, StoreError> {
        fs::create_dir_all(folder)?;
        let mut connection = Connection::open(folder.join("runs.db"))?;
        connection.busy_timeout(Duration::from_secs(20))?;
        connection.pragma_update(None, "journal_mode", "wal")?;
        connection.pragma_update(None, "synchronous", "normal")?;
        connection.pragma_update(None, "foreign_keys", true)?;
        migrate(&mut connection)?;
        Ok(Self { connection, folder: folder.to_owned(), _copy: None })
    }

    /// Opens a store that is there to read from it: also on a full disk, and where nothing can be written.
    ///
    /// # Errors
    /// As [`Self::open`]; and when trials that a killed run left behind can be read neither there nor from a copy.
    pub fn open_to_read(folder: &Path) -> Result<Self, StoreError> {
        match Self::open(folder) {
            Err(StoreError::Full(_) | StoreError::ReadOnly(_) | StoreError::Io(_)) => Self::open_as_it_is(folder),
            opened => opened,
        }
    }

    /// Without a lock, a log or any other file. What the log holds that is not in the database yet is read from a copy of both.
    fn open_as_it_is(folder: &Path) -> Result<Self, StoreError> {
        let (database, log) = (folder.join("runs.db"), folder.join("runs.db-wal"));
        let copy = if fs::metadata(&log).is_ok_and(|log| log.len() > 0) {
            let copy = tempfile::Builder::new().prefix("fonex-store-").tempdir()?;
            fs::copy(&database, copy.path().join("runs.db"))?;
            fs::copy(&log, copy.path().join("runs.db-wal"))?;
            Some(copy)
        } else {
            None
        };
        let mut connection = match &copy {
            Some(copy) => Connection::open(copy.path().join("runs.db"))?,
            None => {
                let path = database.to_string_lossy().replace('%', "%25").replace('?', "%3f").replace('#', "%23");
                let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI;
                Connection::open_with_flags(format!("file:{path}?immutable=1"), flags)?
            }
        };
        migrate(&mut connection)?;
        Ok(Self { connection, folder: folder.to_owned(), _copy: copy })
    }

    pub(crate) fn folder(&self) -> &Path {
        &self.folder
    }

    pub(crate) const fn connection(&self) -> &Connection {
        &self.connection
    }

    /// The store's audio files.
    #[must_use]
    pub fn audio_files(&self) -> AudioFiles {
        AudioFiles::new(&self.folder)
    }
}
