//! Synthesised audio beside the database, each file named by the hash of its content. Of a server's audio the files are copies.

use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::time::Duration;

use fonex_system::{is_locked, lock_byte};

use crate::database::{Database, values};
use crate::lock::random;
use crate::{Store, StoreError};

/// Whether this is a name of ours: a checksum and an ending. Any other could lead anywhere on this machine.
#[must_use]
pub fn is_audio_name(name: &str) -> bool {
    name.split_once('.').is_some_and(|(sum, ending)| {
        sum.len() == 64
            && sum.bytes().all(|byte| byte.is_ascii_digit() || (b'a'..=b'f').contains(&byte))
            && (1..=12).contains(&ending.len())
            && ending.bytes().all(|byte| byte.is_ascii_alphanumeric())
    })
}

/// The folder of audio files of a store.
#[derive(Clone)]
pub struct AudioFiles {
    folder: PathBuf,
    /// Where files are that this machine has not made.
    #[cfg(feature = "postgres")]
    server: Option<std::sync::Arc<crate::database::Server>>,
}

impl AudioFiles {
    pub(crate) fn new(store: &Path, database: &Database) -> Self {
        #[cfg(not(feature = "postgres"))]
        let Database::File(_) = database;
        Self {
            folder: store.join("audio"),
            #[cfg(feature = "postgres")]
            server: match database {
                Database::File(_) => None,
                Database::Server(server) => Some(std::sync::Arc::clone(server)),
            },
        }
    }

    /// Audio files of a folder that belongs to no store.
    #[must_use]
    pub fn in_folder(folder: &Path) -> Self {
        Self {
            folder: folder.join("audio"),
            #[cfg(feature = "postgres")]
            server: None,
        }
    }

    /// Keeps a file under its checksum; the same content is kept once. Gives its name.
    ///
    /// # Errors
    /// When the folder cannot be written.
    pub fn keep(&self, checksum: &str, ending: &str, bytes: &[u8]) -> io::Result<String> {
        let name = format!("{checksum}.{ending}");
        let path = self.here(&name);
        self.put(&path, &name, bytes)?;
        Ok(name)
    }

    fn put(&self, path: &Path, name: &str, bytes: &[u8]) -> io::Result<()> {
        if !path.exists() {
            fs::create_dir_all(&self.folder)?;
            // Written aside and then named, so that a kill leaves no half file under a good name.
            // The name is unlikely to be taken, also by a process of the same number in another container.
            let aside = self.folder.join(format!("{name}.{:08x}{ASIDE}", random()));
            let written = write_held(&aside, bytes).and_then(|_held| fs::rename(&aside, path));
            if written.is_err() {
                // Half a file is of no use, and takes room that may be what is missing.
                drop(fs::remove_file(&aside));
            }
            written?;
        }
        Ok(())
    }

    /// The files there are, with their sizes in bytes; also those that a killed execution left half written.
    ///
    /// # Errors
    /// When the folder cannot be read.
    pub fn list(&self) -> io::Result<Vec<(String, u64)>> {
        let mut files = Vec::new();
        if self.folder.exists() {
            for entry in fs::read_dir(&self.folder)? {
                let entry = entry?;
                if let (true, Ok(name)) = (entry.file_type()?.is_file(), entry.file_name().into_string()) {
                    files.push((name, entry.metadata()?.len()));
                }
            }
        }
        files.sort();
        Ok(files)
    }

    /// Removes what killed executions left half written; others may be writing. A folder that cannot be listed keeps it until
    /// the next time.
    pub(crate) fn clear_aside(&self) {
        let names = self.list().unwrap_or_default().into_iter().map(|(name, _)| name);
        names.filter(|name| self.is_left_behind(name)).for_each(|name| drop(self.delete(&name)));
    }

    /// Whether a file was left half written: its writer, on whichever machine or in whichever container, no longer holds it.
    fn is_left_behind(&self, name: &str) -> bool {
        let path = self.here(name);
        let old = || fs::metadata(&path)?.modified()?.elapsed().map_err(io::Error::other);
        // One that was made this moment may not be held yet.
        name.ends_with(ASIDE)
            && old().is_ok_and(|age| age > HELD_BY_THEN)
            && File::open(&path).is_ok_and(|file| !is_locked(&file, 0))
    }

    /// Deletes a file.
    ///
    /// # Errors
    /// When it cannot be deleted.
    pub fn delete(&self, name: &str) -> io::Result<()> {
        fs::remove_file(self.here(name))
    }

    fn here(&self, name: &str) -> PathBuf {
        self.folder.join(name)
    }

    /// Where a file is. One that only the server has is copied to there first; where that fails there is no file.
    #[must_use]
    pub fn path(&self, name: &str) -> PathBuf {
        let path = self.here(name);
        #[cfg(feature = "postgres")]
        if let Some(server) = self.server.as_ref().filter(|_| !path.exists()) {
            let database = Database::Server(std::sync::Arc::clone(server));
            let bytes =
                database.first("select bytes from audio where name = $1", values![name], |row| row.get::<Vec<u8>>(0));
            if let Ok(Some(bytes)) = bytes {
                drop(self.put(&path, name, &bytes));
            }
        }
        path
    }
}

impl Store {
    /// Sees to it that audio to which a trial is about to refer is where everybody finds it.
    pub(crate) fn share_audio(&self, name: &str) -> Result<(), StoreError> {
        if self.database.is_file() {
            return Ok(());
        }
        let there = self.database.first("select 1 from audio where name = $1", values![name], |_| Ok(()))?;
        if there.is_none() {
            let bytes = match fs::read(self.audio_files().here(name)) {
                // A run may be taken in without its sound.
                Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
                read => read?,
            };
            let sql = "insert into audio (name, bytes) values ($1, $2) on conflict do nothing";
            self.database.execute(sql, values![name, bytes.as_slice()])?;
        }
        Ok(())
    }

    /// All audio of the store, with its sizes in bytes; also what a killed execution left half written.
    ///
    /// # Errors
    /// When the store or its folder cannot be read.
    pub fn audio(&self) -> Result<Vec<(String, u64)>, StoreError> {
        let mut files = self.audio_files().list()?;
        if !self.database.is_file() {
            files = self.database.rows("select name, octet_length(bytes) from audio order by name", &[], |row| {
                Ok((row.get(0)?, row.get(1)?))
            })?;
        }
        Ok(files)
    }

    /// Deletes audio, here and on the server.
    ///
    /// # Errors
    /// When it cannot be deleted.
    pub fn delete_audio(&self, name: &str) -> Result<(), StoreError> {
        if !self.database.is_file() {
            self.database.execute("delete from audio where name = $1", values![name])?;
        }
        match self.audio_files().delete(name) {
            // Of a server's audio there need be no copy here.
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
            deleted => Ok(deleted?),
        }
    }
}

/// The ending of a file that is being written.
const ASIDE: &str = ".tmp";
/// A file that is being written is held by its writer by this age.
const HELD_BY_THEN: Duration = Duration::from_secs(60);

/// Writes a file that is held as long as what is returned is open.
fn write_held(path: &Path, bytes: &[u8]) -> io::Result<File> {
    let mut file = File::create_new(path)?;
    // Where the volume has no locks, its age alone says that a file was left behind.
    let _ = lock_byte(&file, 0, false);
    file.write_all(bytes)?;
    Ok(file)
}

#[cfg(test)]
mod tests {
    use super::is_audio_name;

    #[test]
    fn names_that_lead_elsewhere_are_no_names_of_sound() {
        let sum = "0f".repeat(32);
        assert!(is_audio_name(&format!("{sum}.flac")));
        for name in [
            "",
            "../../etc/passwd",
            "/etc/passwd",
            "a.wav",
            &format!("{}.wav", sum.to_uppercase()),
            &sum,
            &format!("{sum}."),
            &format!("{sum}.../x"),
            &format!("{sum}.w/../../x"),
            &format!("../{sum}.wav"),
        ] {
            assert!(!is_audio_name(name), "{name}");
        }
    }
}
