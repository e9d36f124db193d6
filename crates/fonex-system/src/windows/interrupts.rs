//! Ctrl-C, Ctrl-Break, a console that closes.

use std::io;
use std::sync::Mutex;

use windows_sys::Win32::System::Console::SetConsoleCtrlHandler;
use windows_sys::core::BOOL;

type Then = Box<dyn FnMut() + Send>;

static THEN: Mutex<Option<Then>> = Mutex::new(None);

/// The system calls it in a thread of its own.
unsafe extern "system" fn interrupted(_kind: u32) -> BOOL {
    if let Some(then) = THEN.lock().unwrap_or_else(std::sync::PoisonError::into_inner).as_mut() {
        then();
    }
    // It was heeded: the process goes on.
    1
}

/// Has this called at each interruption from now on, in a thread of its own.
///
/// # Errors
/// When it cannot be heard of them: an interruption then ends the process, as it does every other.
pub fn on_interruption(then: impl FnMut() + Send + 'static) -> io::Result<()> {
    *THEN.lock().unwrap_or_else(std::sync::PoisonError::into_inner) = Some(Box::new(then));
    // SAFETY: the function lives as long as the process.
    if unsafe { SetConsoleCtrlHandler(Some(interrupted), 1) } == 0 {
        return Err(io::Error::last_os_error());
    }
    Ok(())
}

/// A limit on the size of files shows as a write that fails anyway.
pub const fn hear_of_file_limits() {}
