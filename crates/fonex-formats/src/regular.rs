//! Opening what must be a plain file. A pipe would be waited for without end, and a device has no end.

use std::io::{self, ErrorKind, Read};
use std::path::Path;

pub use fonex_system::open_plain as open;

/// Reads a plain file of up to `most` bytes, whatever size it says it has.
///
/// # Errors
/// As [`open`], and when it is longer.
pub fn read(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    open(path)?.take(most + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > most {
        let what = format!("it is longer than {} MiB", most >> 20);
        return Err(io::Error::new(ErrorKind::FileTooLarge, what));
    }
    Ok(bytes)
}

/// The most bytes of a text that is read whole: a bench file, captions, a list.
pub const LONGEST_TEXT: u64 = 32 << 20;

/// Reads a text of up to [`LONGEST_TEXT`] bytes.
///
/// # Errors
/// As [`read`], and when it is not UTF-8.
pub fn read_text(path: &Path) -> io::Result<String> {
    String::from_utf8(read(path, LONGEST_TEXT)?).map_err(|error| {
        let at = error.utf8_error().valid_up_to() + 1;
        io::Error::new(ErrorKind::InvalidData, format!("byte {at} is not UTF-8; save it as UTF-8"))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_plain_files_are_opened_and_no_more_than_asked_is_read() {
        let folder = tempfile::tempdir().expect("there is room");
        let path = folder.path().join("a");
        std::fs::write(&path, "12345").expect("there is room");
        assert_eq!(read(&path, 5).expect("it fits"), b"12345");
        assert_eq!(read(&path, 4).expect_err("it does not").kind(), ErrorKind::FileTooLarge);
        assert_eq!(open(folder.path()).expect_err("it is none").kind(), ErrorKind::IsADirectory);
        assert!(open(Path::new("/dev/zero")).expect_err("it has no end").to_string().contains("a device"));
        let pipe = folder.path().join("pipe");
        let made = std::process::Command::new("mkfifo").arg(&pipe).status().expect("mkfifo is there");
        assert!(made.success());
        assert!(open(&pipe).expect_err("nobody writes").to_string().contains("a pipe"));
    }
}
