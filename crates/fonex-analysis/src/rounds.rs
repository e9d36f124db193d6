//! Reading from the store while what was read before is worked on.

use std::sync::mpsc::{channel, sync_channel};
use std::thread;

use fonex_store::StoreError;

/// Takes rounds as they are read.
type Then<'t, T> = &'t mut dyn FnMut(T) -> Result<(), StoreError>;

/// Reads rounds here, which is where the store is, and has `work` take them in another thread; what it gives away meanwhile is
/// kept here. One round waits at most.
///
/// # Errors
/// Of reading, keeping or working, whichever fails.
pub(crate) fn in_rounds<T: Send, K: Send, R: Send>(
    read: impl FnOnce(Then<'_, T>) -> Result<(), StoreError>,
    keep: &mut dyn FnMut(K) -> Result<(), StoreError>,
    work: impl FnOnce(&mut dyn Iterator<Item = T>, &mut dyn FnMut(K)) -> Result<R, StoreError> + Send,
) -> Result<R, StoreError> {
    thread::scope(|scope| {
        let (send_round, rounds) = sync_channel(1);
        let (send_kept, kept) = channel();
        let worker = scope.spawn(move || {
            // Nobody takes what is given away where keeping has failed.
            work(&mut rounds.into_iter(), &mut |one| drop(send_kept.send(one)))
        });
        let read = read(&mut |round| {
            kept.try_iter().try_for_each(&mut *keep)?;
            // Nobody takes a round where working has failed.
            drop(send_round.send(round));
            Ok(())
        });
        drop(send_round);
        let worked = worker.join().expect("what works on rounds does not panic");
        read?;
        kept.iter().try_for_each(keep)?;
        worked
    })
}
