//! Synthesised audio beside the database, each file named by the hash of its content.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// The folder of audio files of a store.
#[derive(Debug, Clone)]
pub struct AudioFiles {
    folder: PathBuf,
}

impl AudioFiles {
    pub(crate) fn new(store: &Path) -> Self {
        Self { folder: store.join("audio") }
    }

    /// Keeps a file under its checksum; the same content is kept once. Gives its name.
    ///
    /// # Errors
    /// When the folder cannot be written.
    pub fn keep(&self, checksum: &str, ending: &str, bytes: &[u8]) -> io::Result<String> {
        let name = format!("{checksum}.{ending}");
        let path = self.path(&name);
        if !path.exists() {
            fs::create_dir_all(&self.folder)?;
            // Written aside and then named, so that a kill leaves no half file under a good name.
            let aside =
                self.folder.join(format!("{name}.{}.{:?}.tmp", std::process::id(), std::thread::current().id()));
            fs::write(&aside, bytes)?;
            fs::rename(&aside, &path)?;
        }
        Ok(name)
    }

    /// Where a file is.
    #[must_use]
    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.join(name)
    }
}
