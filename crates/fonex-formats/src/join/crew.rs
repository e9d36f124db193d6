//! Rounds of lines, read ahead and worked on by all cores without a pause between them.

use std::collections::HashMap;
use std::num::NonZero;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Mutex};
use std::thread;

use super::{PART, ROUND};
use crate::lines::{Block, Lines};
use crate::{Problem, Problems};

/// Rounds that are in memory at once: one is worked on while the next is read.
const AT_ONCE: usize = 2;

/// Lines of the first round: nobody works while it is read.
const FIRST_ROUND: usize = 2 * PART;

/// A part of a round to be worked on: its number among all parts, its place in the round, and the lines of the round.
type Task = (usize, usize, Arc<[Block; 2]>);

/// Calls `work` for each part of each round, on all cores, and `round` for each round, with what becomes of its parts in their order
/// as they come.
pub(super) fn in_rounds<R: Send>(
    mut lines: [Lines; 2],
    work: impl Fn(&[Block; 2], usize) -> R + Sync,
    mut round: impl FnMut(&mut dyn Iterator<Item = R>) -> Result<(), Problems>,
) -> Result<(), Problems> {
    let (tasks, to_do) = channel::<Task>();
    let (done, finished) = channel();
    let (begun, rounds) = channel::<Result<(usize, Arc<[Block; 2]>), Problem>>();
    let (used, empty) = channel::<[Block; 2]>();
    let to_do = Mutex::new(to_do);
    (0..AT_ONCE).for_each(|_| used.send(Default::default()).expect("the other end is here"));
    thread::scope(|scope| {
        // What is left waits no longer once the other end of its channel is gone: at the end, and after an error.
        let (used, rounds) = (used, rounds);
        let mut finished = InOrder { finished, early: HashMap::new(), next: 0 };
        scope.spawn(move || {
            let (mut number, mut most) = (0, FIRST_ROUND);
            // Waits while as many rounds as may be are in memory.
            while let Ok(mut blocks) = empty.recv() {
                if let Err(problem) = lines.iter_mut().zip(&mut blocks).try_for_each(|(l, b)| l.next_block(most, b)) {
                    return drop(begun.send(Err(problem)));
                }
                let parts = blocks.iter().map(|block| block.lines.len()).max().unwrap_or(0).div_ceil(PART);
                let blocks = Arc::new(blocks);
                let queued = (0..parts).all(|part| tasks.send((number + part, part, Arc::clone(&blocks))).is_ok());
                if parts == 0 || !queued || begun.send(Ok((parts, blocks))).is_err() {
                    return;
                }
                number += parts;
                most = ROUND;
            }
        });
        for _ in 0..thread::available_parallelism().map_or(1, NonZero::get) {
            let (done, to_do, work) = (done.clone(), &to_do, &work);
            scope.spawn(move || work_off(to_do, &done, work));
        }
        drop(done);
        for begun in rounds {
            let (parts, blocks) = begun?;
            round(&mut finished.by_ref().take(parts))?;
            // Nobody else has them any more. At the end nobody takes them.
            used.send(Arc::into_inner(blocks).unwrap_or_default()).ok();
        }
        Ok(())
    })
}

type Done<R> = (usize, thread::Result<R>);

fn work_off<R>(to_do: &Mutex<Receiver<Task>>, done: &Sender<Done<R>>, work: impl Fn(&[Block; 2], usize) -> R) {
    loop {
        let task = to_do.lock().expect("no holder of this lock panics").recv();
        let Ok((number, part, blocks)) = task else { return };
        // A panic is passed on to who waits for the part.
        let result = catch_unwind(AssertUnwindSafe(|| work(&blocks, part)));
        drop(blocks);
        if done.send((number, result)).is_err() {
            return;
        }
    }
}

/// What becomes of parts, in the order of their numbers.
struct InOrder<R> {
    finished: Receiver<Done<R>>,
    early: HashMap<usize, thread::Result<R>>,
    next: usize,
}

impl<R> Iterator for InOrder<R> {
    type Item = R;

    fn next(&mut self) -> Option<R> {
        let result = loop {
            if let Some(result) = self.early.remove(&self.next) {
                break result;
            }
            let (number, result) = self.finished.recv().ok()?;
            self.early.insert(number, result);
        };
        self.next += 1;
        Some(result.unwrap_or_else(|panic| resume_unwind(panic)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pieces::Holds;

    #[test]
    fn parts_come_in_order_and_an_error_or_a_panic_ends_all_threads() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.jsonl");
        std::fs::write(&path, "{}\n".repeat(FIRST_ROUND + 2 * ROUND)).unwrap();
        let lines = || [(); 2].map(|()| Lines::open(&path, Holds::Labels).unwrap());
        let mut seen = Vec::new();
        let note = |round: &mut dyn Iterator<Item = usize>| {
            seen.push(round.collect::<Vec<_>>());
            Ok(())
        };
        in_rounds(lines(), |_, part| part, note).unwrap();
        assert_eq!(seen, [FIRST_ROUND, ROUND, ROUND].map(|lines| (0..lines / PART).collect::<Vec<_>>()));

        let mut rounds = 0;
        let give_up = |round: &mut dyn Iterator<Item = usize>| {
            rounds += round.take(1).count();
            Err(Problems(Vec::new()))
        };
        assert!(in_rounds(lines(), |_, part| part, give_up).is_err());
        assert_eq!(rounds, 1);

        let fail = |_: &[Block; 2], part: usize| assert_ne!(part, 3, "of the second round");
        let all = |round: &mut dyn Iterator<Item = ()>| {
            round.for_each(drop);
            Ok(())
        };
        assert!(catch_unwind(AssertUnwindSafe(|| in_rounds(lines(), fail, all))).is_err());
    }
}
