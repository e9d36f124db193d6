//! Ctrl-C: the first one asks running trials to end, a second one ends the process.

use fonex_engines::StopFlag;
use signal_hook::consts::{SIGINT, SIGTERM};
use signal_hook::flag;

/// A flag that Ctrl-C and a polite kill set.
pub fn stop_on_interrupt() -> StopFlag {
    let stop = StopFlag::default();
    for signal in [SIGINT, SIGTERM] {
        // Registered in this order: a second signal finds the flag set and ends the process at once.
        let registered = flag::register_conditional_shutdown(signal, 130, stop.shared())
            .and_then(|_| flag::register(signal, stop.shared()));
        if let Err(error) = registered {
            eprintln!("warning: Ctrl-C will end the run at once: {error}");
        }
    }
    stop
}
