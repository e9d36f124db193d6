//! Files that are written whole or not at all.

use std::fs::{self, File};
use std::io::{BufWriter, Write};
use std::path::{Path, PathBuf};

use fonex_formats::Problem;

use crate::failure::Failure;

/// Writes a file by `write`: what was there before stays where the new one cannot be written whole. A device or a pipe takes
/// what comes, and is not replaced by a file; of a link, the file it leads to is.
pub fn write_whole(path: &Path, write: impl FnOnce(&mut dyn Write) -> Result<(), Failure>) -> Result<(), Failure> {
    let goal = fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
    let aside = if goal.exists() && !goal.is_file() { None } else { Some(beside(&goal)) };
    let written = write_to(aside.as_deref().unwrap_or(&goal), path, write).and_then(|()| match &aside {
        Some(aside) => Ok(fs::rename(aside, &goal).map_err(|error| Problem::io("write", path, &error))?),
        None => Ok(()),
    });
    if let Some(aside) = aside.filter(|_| written.is_err()) {
        drop(fs::remove_file(aside));
    }
    written
}

fn beside(goal: &Path) -> PathBuf {
    let mut name = goal.file_name().unwrap_or_default().to_owned();
    name.push(".part");
    goal.with_file_name(name)
}

/// Writes a file, of which complaints speak as `named`.
fn write_to(
    file: &Path,
    named: &Path,
    write: impl FnOnce(&mut dyn Write) -> Result<(), Failure>,
) -> Result<(), Failure> {
    let failed = |error: std::io::Error| Problem::io("write", named, &error);
    let mut out = Named { out: BufWriter::new(File::create(file).map_err(failed)?), failed: None };
    let written = write(&mut out).and_then(|()| Ok(out.flush()?));
    // What went wrong with the file is said of the file, whatever the writer made of it.
    match out.failed {
        Some(error) => Err(failed(error).into()),
        None => written,
    }
}

/// Remembers why its file could not be written.
struct Named {
    out: BufWriter<File>,
    failed: Option<std::io::Error>,
}

impl Named {
    fn noted<T>(&mut self, result: std::io::Result<T>) -> std::io::Result<T> {
        result.inspect_err(|error| {
            let again = error.raw_os_error().map_or_else(|| error.kind().into(), std::io::Error::from_raw_os_error);
            self.failed.get_or_insert(again);
        })
    }
}

impl Write for Named {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        let written = self.out.write(bytes);
        self.noted(written)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        let flushed = self.out.flush();
        self.noted(flushed)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_replaced_whole_and_a_link_stays_one() {
        let folder = tempfile::tempdir().unwrap();
        let [file, link] = ["file", "link"].map(|name| folder.path().join(name));
        fs::write(&file, "old").unwrap();
        std::os::unix::fs::symlink(&file, &link).unwrap();
        let broken = write_whole(&link, |out| {
            out.write_all(b"half")?;
            Err(std::io::Error::other("the rest is missing").into())
        });
        assert!(broken.is_err() && fs::read_dir(folder.path()).unwrap().count() == 2);
        assert_eq!(fs::read(&file).unwrap(), b"old");
        assert!(write_whole(&link, |out| Ok(out.write_all(b"new")?)).is_ok());
        assert!(link.is_symlink() && fs::read(&file).unwrap() == b"new");
    }
}
