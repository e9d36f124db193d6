//! The real program against hostile services and programs: the outcome and the memory of each. How long each takes is told by
//! `cargo bench -p fonex --bench peers`.
#![allow(clippy::unwrap_used, clippy::expect_used, reason = "a test that fails here says where")]

mod attack;
mod servers;

use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;

use attack::{meet, peers};

#[test]
fn every_hostile_peer_has_its_outcome_in_bounded_memory() {
    let (peers, next, wrong) = (peers(), AtomicUsize::new(0), Mutex::new(Vec::new()));
    // Most of them are waited for.
    thread::scope(|scope| {
        for _ in 0..8 {
            scope.spawn(|| {
                while let Some(peer) = peers.get(next.fetch_add(1, Ordering::SeqCst)) {
                    let met = meet(env!("CARGO_BIN_EXE_fonex"), peer, |met| peer.may_be_slow(met));
                    if let Some(fault) = peer.fault(&met) {
                        let (name, outcome, detail, memory) = (peer.name, &met.outcome, &met.detail, met.memory_mib);
                        let what = format!("{name}: {fault}: {outcome} ({detail}), {memory} MiB");
                        wrong.lock().unwrap().push(what);
                    }
                }
            });
        }
    });
    let wrong = wrong.into_inner().unwrap();
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
