//! Who executes a run: one process alone, however others start, end or are killed.

use std::fs::{self, File};
use std::io;
use std::path::PathBuf;

use fonex_system::{is_locked, lock_byte};

use crate::database::Database;
use crate::{Store, StoreError};

/// A run, held by this process; ends with the process, however that ends.
pub struct RunLock(#[expect(dead_code, reason = "the lock lives as long as what holds it")] Holding);

enum Holding {
    /// A byte of the store's lock file. One file serves all runs, a byte each, and nobody removes it: a lock on a file that somebody else has
    /// removed would hold nothing.
    Byte(#[expect(dead_code, reason = "the lock lives as long as the open file")] File),
    /// A lock of the connection to a server.
    #[cfg(feature = "postgres")]
    Number(#[expect(dead_code, reason = "dropping it lets the lock go")] Held),
}

/// A lock of the connection to a server, which lets it go when this is dropped.
#[cfg(feature = "postgres")]
pub(crate) struct Held {
    server: std::sync::Arc<crate::database::Server>,
    number: i64,
}

#[cfg(feature = "postgres")]
impl Held {
    pub(crate) const fn new(server: std::sync::Arc<crate::database::Server>, number: i64) -> Self {
        Self { server, number }
    }
}

#[cfg(feature = "postgres")]
impl Drop for Held {
    fn drop(&mut self) {
        self.server.unlock(self.number);
    }
}

/// A number that is unlikely to be taken.
pub(crate) fn random() -> u32 {
    use std::hash::{BuildHasher, RandomState};
    RandomState::new().hash_one(std::process::id()) as u32
}

/// The byte that is held while it is decided which run is executed. Runs are numbered from 1.
const DECIDING: i64 = 0;

impl Store {
    fn lock_file(&self) -> io::Result<File> {
        File::options().create(true).truncate(false).write(true).open(self.folder().join("runs.lock"))
    }

    /// Waits until this process alone decides which run is executed: whether one is resumed or a new one made, and who has it.
    ///
    /// # Errors
    /// When the lock file cannot be used.
    pub fn decide(&self) -> Result<RunLock, StoreError> {
        match &self.database {
            Database::File(_) => {
                let file = self.lock_file()?;
                lock_byte(&file, DECIDING, true)?;
                Ok(RunLock(Holding::Byte(file)))
            }
            #[cfg(feature = "postgres")]
            Database::Server(server) => {
                server.wait_for(DECIDING)?;
                Ok(RunLock(Holding::Number(Held::new(std::sync::Arc::clone(server), DECIDING))))
            }
        }
    }

    /// Takes a run for this process alone.
    ///
    /// # Errors
    /// [`StoreError::Busy`] when another process has it.
    pub fn lock(&self, run: i64) -> Result<RunLock, StoreError> {
        match &self.database {
            Database::File(_) => {
                let file = self.lock_file()?;
                if lock_byte(&file, run, false)? {
                    Ok(RunLock(Holding::Byte(file)))
                } else {
                    Err(StoreError::Busy(run))
                }
            }
            #[cfg(feature = "postgres")]
            Database::Server(server) if server.lock(run)? => {
                Ok(RunLock(Holding::Number(Held::new(std::sync::Arc::clone(server), run))))
            }
            #[cfg(feature = "postgres")]
            Database::Server(_) => Err(StoreError::Busy(run)),
        }
    }

    /// Whether some process executes a run at this moment; it is not disturbed. False where that cannot be told.
    #[must_use]
    pub fn is_executed(&self, run: i64) -> bool {
        #[cfg(feature = "postgres")]
        if let Database::Server(server) = &self.database {
            return server.is_locked(run).unwrap_or(false);
        }
        let Ok(file) = File::open(self.folder().join("runs.lock")) else { return false };
        is_locked(&file, run)
    }

    /// A folder for the temporary files of a run, emptied of what a killed execution left. Only for who holds the run.
    ///
    /// # Errors
    /// When it cannot be emptied or made.
    pub fn scratch(&self, run: i64, _held: &RunLock) -> Result<PathBuf, StoreError> {
        let scratch = self.scratch_path(run);
        if scratch.exists() {
            fs::remove_dir_all(&scratch)?;
        }
        fs::create_dir_all(&scratch)?;
        Ok(scratch)
    }

    fn scratch_path(&self, run: i64) -> PathBuf {
        self.folder().join(format!("scratch-{run}"))
    }

    /// Removes what a finished execution no longer needs, and then lets the run go.
    pub fn unlock(&self, run: i64, lock: RunLock) {
        // Leftovers are harmless: the next execution clears them.
        drop(fs::remove_dir_all(self.scratch_path(run)));
        self.audio_files().clear_aside();
        drop(lock);
    }
}
