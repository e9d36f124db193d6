//! Plain files, and locks of single bytes that belong to the open file: they end with the process, however that ends.

use std::fs::File;
use std::io::{self, ErrorKind};
use std::os::windows::io::AsRawHandle;
use std::path::Path;

use windows_sys::Win32::Foundation::{ERROR_IO_PENDING, ERROR_LOCK_VIOLATION};
use windows_sys::Win32::Storage::FileSystem::{
    FILE_TYPE_DISK, GetFileType, LOCK_FILE_FLAGS, LOCKFILE_EXCLUSIVE_LOCK, LOCKFILE_FAIL_IMMEDIATELY, LockFileEx,
    UnlockFileEx,
};
use windows_sys::Win32::System::IO::{OVERLAPPED, OVERLAPPED_0, OVERLAPPED_0_0};

/// Opens a plain file for reading.
///
/// # Errors
/// When there is none, or it is a folder, a pipe or a device.
pub fn open_plain(path: &Path) -> io::Result<File> {
    if path.is_dir() {
        return Err(ErrorKind::IsADirectory.into());
    }
    let file = File::open(path)?;
    // SAFETY: the handle is open as long as the file.
    if unsafe { GetFileType(file.as_raw_handle()) } == FILE_TYPE_DISK {
        return Ok(file);
    }
    Err(io::Error::new(ErrorKind::InvalidInput, "it is a pipe or a device; write it to a file first"))
}

fn place(byte: i64) -> OVERLAPPED {
    let at = byte.unsigned_abs();
    OVERLAPPED {
        Anonymous: OVERLAPPED_0 { Anonymous: OVERLAPPED_0_0 { Offset: at as u32, OffsetHigh: (at >> 32) as u32 } },
        ..OVERLAPPED::default()
    }
}

fn lock(file: &File, byte: i64, how: LOCK_FILE_FLAGS) -> io::Result<bool> {
    let mut place = place(byte);
    // SAFETY: the handle is open as long as the file, and the place lives for the whole call, which returns once it is done.
    if unsafe { LockFileEx(file.as_raw_handle(), how, 0, 1, 0, &raw mut place) } != 0 {
        return Ok(true);
    }
    let error = io::Error::last_os_error();
    match error.raw_os_error().map(|code| code as u32) {
        Some(ERROR_LOCK_VIOLATION | ERROR_IO_PENDING) => Ok(false),
        _ => Err(error),
    }
}

/// Locks one byte of a file for this open file; false when another one has it. With `wait` it is waited for.
///
/// # Errors
/// When the file cannot be locked.
pub fn lock_byte(file: &File, byte: i64, wait: bool) -> io::Result<bool> {
    lock(file, byte, LOCKFILE_EXCLUSIVE_LOCK | if wait { 0 } else { LOCKFILE_FAIL_IMMEDIATELY })
}

/// Whether another open file holds this byte. It is held together with others for a moment, since the system can be asked in no other way.
#[must_use]
pub fn is_locked(file: &File, byte: i64) -> bool {
    let free = lock(file, byte, LOCKFILE_FAIL_IMMEDIATELY);
    if matches!(free, Ok(true)) {
        let mut place = place(byte);
        // SAFETY: as above.
        unsafe { UnlockFileEx(file.as_raw_handle(), 0, 1, 0, &raw mut place) };
    }
    matches!(free, Ok(false))
}
