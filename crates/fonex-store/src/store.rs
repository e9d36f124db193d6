//! A store as it is opened: a folder of this machine, or a server that a team shares.

use std::fmt;
use std::fs;
use std::path::{Path, PathBuf};

use tempfile::TempDir;

use crate::database::{Database, Value, immutable, open_file};
#[cfg(feature = "postgres")]
use crate::database::{Server, ServerAddress};
use crate::schema::migrate;
#[cfg(feature = "postgres")]
use crate::schema::migrate_server;
use crate::{AudioFiles, StoreError};

/// Where a store is.
#[derive(Clone)]
pub enum StorePlace {
    /// A folder with an embedded database.
    Folder(PathBuf),
    /// A server.
    #[cfg(feature = "postgres")]
    Server(Box<ServerPlace>),
}

/// A server, and what of this machine serves it.
#[cfg(feature = "postgres")]
#[derive(Clone)]
pub struct ServerPlace {
    address: ServerAddress,
    /// Holds copies of sound and the temporary files of runs.
    folder: PathBuf,
}

impl StorePlace {
    /// Reads where a store is: a folder, or `postgres://...`. `beside` is the folder that serves a server on this
    /// machine, `password` what is used where the address has none.
    ///
    /// # Errors
    /// [`StoreError::Address`] when it is neither.
    pub fn parse(text: &str, beside: &Path, password: Option<&str>) -> Result<Self, StoreError> {
        match text.split_once("://") {
            None => Ok(Self::Folder(PathBuf::from(text))),
            Some(("postgres" | "postgresql", _)) => Self::server(text, beside, password),
            Some((scheme, _)) => Err(StoreError::Address {
                shown: format!("{scheme}://..."),
                why: "expected a folder or postgres://USER@HOST/DATABASE".to_owned(),
            }),
        }
    }

    #[cfg(feature = "postgres")]
    fn server(text: &str, beside: &Path, password: Option<&str>) -> Result<Self, StoreError> {
        let address = ServerAddress::parse(text, password)
            .map_err(|why| StoreError::Address { shown: "postgres://...".to_owned(), why })?;
        let folder = beside.join(address.file_name());
        Ok(Self::Server(Box::new(ServerPlace { address, folder })))
    }

    #[cfg(not(feature = "postgres"))]
    fn server(_: &str, _: &Path, _: Option<&str>) -> Result<Self, StoreError> {
        Err(StoreError::Address {
            shown: "postgres://...".to_owned(),
            why: "this Fonex was built without PostgreSQL (feature team)".to_owned(),
        })
    }

    /// The same place, where a folder is meant from another folder.
    #[must_use]
    pub fn seen_from(self, folder: &Path) -> Self {
        match self {
            Self::Folder(path) => Self::Folder(folder.join(path)),
            #[cfg(feature = "postgres")]
            server @ Self::Server(_) => server,
        }
    }

    /// Whether an address that is to stand in a file has a password in it.
    #[must_use]
    pub fn has_password(text: &str) -> bool {
        #[cfg(feature = "postgres")]
        return text.contains("://") && ServerAddress::has_password(text);
        #[cfg(not(feature = "postgres"))]
        text.split_once("://").is_some_and(|(_, rest)| rest.contains('@') && rest.contains(':'))
    }
}

impl fmt::Display for StorePlace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Folder(folder) => write!(f, "{}", folder.display()),
            #[cfg(feature = "postgres")]
            Self::Server(place) => write!(f, "{}", place.address),
        }
    }
}

/// An open store.
pub struct Store {
    pub(crate) database: Database,
    folder: PathBuf,
    /// Holds the copy that is read where the store itself cannot be opened.
    _copy: Option<TempDir>,
}

impl Store {
    /// Opens a store to read and write, making it if need be and bringing it up to date.
    ///
    /// # Errors
    /// When the folder cannot be written, the file is no store, the server cannot be reached or does not let this user in, or a newer program
    /// wrote it.
    pub fn open_at(place: &StorePlace) -> Result<Self, StoreError> {
        match place {
            StorePlace::Folder(folder) => Self::open(folder),
            #[cfg(feature = "postgres")]
            StorePlace::Server(place) => Self::open_server(place, true),
        }
    }

    /// Opens a store to change what is in it; one that is not there is not made.
    ///
    /// # Errors
    /// As [`Self::open_at`], and [`StoreError::Empty`] when it is not there.
    pub fn open_existing(place: &StorePlace) -> Result<Self, StoreError> {
        match place {
            StorePlace::Folder(folder) if !folder.join("runs.db").is_file() => Err(StoreError::Empty),
            StorePlace::Folder(folder) => Self::open(folder),
            #[cfg(feature = "postgres")]
            StorePlace::Server(place) => Self::open_server(place, false),
        }
    }

    #[cfg(feature = "postgres")]
    fn open_server(place: &ServerPlace, make: bool) -> Result<Self, StoreError> {
        let server = std::sync::Arc::new(Server::connect(place.address.clone())?);
        let database = Database::Server(std::sync::Arc::clone(&server));
        migrate_server(&database, &server, make)?;
        Ok(Self { database, folder: place.folder.clone(), _copy: None })
    }

    /// Opens the store in a folder, making it if need be and bringing it up to date.
    ///
    /// # Errors
    /// When the folder cannot be written, the file is no store, or a newer program wrote it.
    pub fn open(folder: &Path) -> Result<Self, StoreError> {
        fs::create_dir_all(folder)?;
        let mut connection = open_file(&folder.join("runs.db"))?;
        migrate(&mut connection)?;
        Ok(Self { database: Database::File(connection), folder: folder.to_owned(), _copy: None })
    }

    /// Opens a store that is there to read from it: also on a full disk, and where nothing can be written.
    ///
    /// # Errors
    /// As [`Self::open_at`]; and when trials that a killed run left behind can be read neither there nor from a copy.
    pub fn open_to_read(place: &StorePlace) -> Result<Self, StoreError> {
        match (Self::open_existing(place), place) {
            (Err(StoreError::Full(_) | StoreError::ReadOnly(_) | StoreError::Io(_)), StorePlace::Folder(folder)) => {
                Self::open_as_it_is(folder)
            }
            (opened, _) => opened,
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
            Some(copy) => rusqlite::Connection::open(copy.path().join("runs.db"))?,
            None => immutable(&database)?,
        };
        migrate(&mut connection)?;
        Ok(Self { database: Database::File(connection), folder: folder.to_owned(), _copy: copy })
    }

    /// The folder of this machine that serves the store.
    pub(crate) fn folder(&self) -> &Path {
        &self.folder
    }

    /// The number that a row which is inserted gets.
    pub(crate) fn inserted(&self, sql: &str, values: &[Value<'_>]) -> Result<i64, StoreError> {
        self.database.inserted(sql, values)
    }

    /// The store's audio files.
    #[must_use]
    pub fn audio_files(&self) -> AudioFiles {
        AudioFiles::new(&self.folder, &self.database)
    }
}
