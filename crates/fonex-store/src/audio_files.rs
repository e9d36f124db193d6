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
            let written = fs::write(&aside, bytes).and_then(|()| fs::rename(&aside, &path));
            if written.is_err() {
                // Half a file is of no use, and takes room that may be what is missing.
                drop(fs::remove_file(&aside));
            }
            written?;
        }
        Ok(name)
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

    /// Removes what killed executions left half written; others may be writing.
    pub(crate) fn clear_aside(&self) {
        let gone = |name: &String| {
            let mut parts = name.strip_suffix(".tmp")?.rsplit('.');
            let writer: u32 = parts.nth(1)?.parse().ok()?;
            (!Path::new(&format!("/proc/{writer}")).exists()).then_some(())
        };
        let names = self.list().unwrap_or_default().into_iter().map(|(name, _)| name);
        names.filter(|name| gone(name).is_some()).for_each(|name| drop(self.delete(&name)));
    }

    /// Deletes a file.
    ///
    /// # Errors
    /// When it cannot be deleted.
    pub fn delete(&self, name: &str) -> io::Result<()> {
        fs::remove_file(self.path(name))
    }

    /// Where a file is.
    #[must_use]
    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.join(name)
    }
}
