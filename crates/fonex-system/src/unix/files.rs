//! Plain files, and locks of single bytes that belong to the open file: they end with the process, however that ends.
#![allow(unsafe_code)]

use std::fs::File;
use std::io::{self, ErrorKind};
use std::os::fd::AsRawFd;
use std::os::unix::fs::{FileTypeExt, OpenOptionsExt};
use std::path::Path;

/// Opens a plain file for reading, without waiting for anybody to write to it.
///
/// # Errors
/// When there is none, or it is a folder, a pipe, a socket or a device.
pub fn open_plain(path: &Path) -> io::Result<File> {
    // Without O_NONBLOCK the opening of a pipe waits until somebody opens its other end.
    let file = File::options().read(true).custom_flags(libc::O_NONBLOCK | libc::O_NOCTTY).open(path)?;
    let kind = file.metadata()?.file_type();
    if kind.is_file() {
        return Ok(file);
    }
    if kind.is_dir() {
        return Err(ErrorKind::IsADirectory.into());
    }
    let what = if kind.is_fifo() { "a pipe" } else { "a device" };
    Err(io::Error::new(ErrorKind::InvalidInput, format!("it is {what}; write it to a file first")))
}

fn one_byte(byte: i64) -> libc::flock {
    // SAFETY: all of it is numbers, for which zeros are values.
    let mut range: libc::flock = unsafe { std::mem::zeroed() };
    range.l_type = libc::F_WRLCK as libc::c_short;
    range.l_whence = libc::SEEK_SET as libc::c_short;
    range.l_start = byte;
    range.l_len = 1;
    range
}

/// Locks one byte of a file for this open file; false when another one has it. With `wait` it is waited for.
///
/// # Errors
/// When the file cannot be locked.
pub fn lock_byte(file: &File, byte: i64, wait: bool) -> io::Result<bool> {
    let range = one_byte(byte);
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

/// Whether another open file holds this byte. It is not disturbed.
#[must_use]
pub fn is_locked(file: &File, byte: i64) -> bool {
    let mut range = one_byte(byte);
    // SAFETY: the descriptor is open as long as the file, and the range lives for the whole call.
    let asked = unsafe { libc::fcntl(file.as_raw_fd(), libc::F_OFD_GETLK, &raw mut range) };
    asked == 0 && range.l_type != libc::F_UNLCK as libc::c_short
}
