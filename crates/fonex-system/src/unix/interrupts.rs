//! Ctrl-C, a polite kill, a terminal that closes.

use std::io;
use std::sync::Arc;
use std::thread;

use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM, SIGXFSZ};
use signal_hook::iterator::Signals;

/// Has this called at each interruption from now on, in a thread of its own.
///
/// # Errors
/// When it cannot be heard of them: an interruption then ends the process, as it does every other.
pub fn on_interruption(mut then: impl FnMut() + Send + 'static) -> io::Result<()> {
    let mut signals = Signals::new([SIGINT, SIGTERM, SIGHUP])?;
    thread::Builder::new().name("fonex-signals".to_owned()).spawn(move || {
        for _ in signals.forever() {
            then();
        }
    })?;
    Ok(())
}

/// Lets a limit on the size of files show as a write that fails, and not end the process. Programs that are started are not affected.
pub fn hear_of_file_limits() {
    // Where it cannot be set, the limit ends the process as it does every other.
    drop(signal_hook::flag::register(SIGXFSZ, Arc::default()));
}
