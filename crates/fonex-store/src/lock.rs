//! Who executes a run: one process alone, however others start, end or are killed.
#![allow(unsafe_code)]

use std::fs::{self, File};
use std::io;
use std::os::fd::AsRawFd;
use std::path::PathBuf;

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

/// The byte that is held while it is decided which run is executed. Runs are numbered from 1.
const DECIDING: i64 = 0;

/// Locks one byte; false when another open file has it. With `wait` it is waited for.
fn lock_byte(file: &File, byte: i64, wait: bool) -> io::Result<bool> {
    // SAFETY: all of it is numbers, for which zeros are values.
    let mut range: libc::flock = unsafe { std::mem::zeroed() };
    range.l_type = libc::F_WRLCK as libc::c_short;
    range.l_whence = libc::SEEK_SET as libc::c_short;
    range.l_start = byte;
    range.l_len = 1;
    let how = if wait { libc::F_OFD_SETLKW } else { libc::F_OFD_SETLK };
    loop {
        // SAFETY: the descriptor is open as long as the file, and the range lives for the whole call.
        if unsafe { libc::fcntl(file.as_raw_fd(), how, &raw const range) } == 0 {
            return Ok(true);
        }
        let error = io::Error::last_os_error();
        match error.raw_os_error() {
            Some(libc::EAGAIN | libc::EACCES) => return Ok(false),
            Some(libc::EINTR) => {}
            _ => return Err(error),
        }
    }
}

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
        // SAFETY: all of it is numbers, for which zeros are values.
        let mut range: libc::flock = unsafe { std::mem::zeroed() };
        range.l_type = libc::F_WRLCK as libc::c_short;
        range.l_whence = libc::SEEK_SET as libc::c_short;
        range.l_start = run;
        range.l_len = 1;
        // SAFETY: the descriptor is open as long as the file, and the range lives for the whole call.
        let asked = unsafe { libc::fcntl(file.as_raw_fd(), libc::F_OFD_GETLK, &raw mut range) };
        asked == 0 && range.l_type != libc::F_UNLCK as libc::c_short
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
