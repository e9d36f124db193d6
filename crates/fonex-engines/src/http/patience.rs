//! One timer for several waits in turn.

use std::pin::Pin;
use std::task::{Poll, ready};

use tokio::time::{Instant, Sleep, sleep_until};

/// A timer that is set anew only where a wait ends sooner than the last one would have, or was longer than the timer: what is waited
/// for mostly comes long before, and a timer of its own for each wait would have to be given a place among all others each time.
pub(super) struct Patience(Pin<Box<Sleep>>);

impl Patience {
    /// For waits of which the first ends then.
    pub(super) fn until(first: std::time::Instant) -> Self {
        Self(Box::pin(sleep_until(first.into())))
    }

    /// Waits for something; none where it has not come by then.
    pub(super) async fn wait<F: Future>(&mut self, until: std::time::Instant, work: F) -> Option<F::Output> {
        let (until, mut work) = (Instant::from(until), std::pin::pin!(work));
        std::future::poll_fn(|context| {
            if let Poll::Ready(done) = work.as_mut().poll(context) {
                return Poll::Ready(Some(done));
            }
            if self.0.deadline() > until {
                self.0.as_mut().reset(until);
            }
            loop {
                ready!(self.0.as_mut().poll(context));
                if Instant::now() >= until {
                    return Poll::Ready(None);
                }
                self.0.as_mut().reset(until);
            }
        })
        .await
    }
}

#[cfg(test)]
mod tests {
    use std::future::pending;
    use std::time::{Duration, Instant};

    use super::*;

    #[test]
    fn each_wait_ends_at_its_own_time_whatever_the_one_before_was_given() {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_time().build().unwrap();
        runtime.block_on(async {
            let ms = Duration::from_millis;
            let start = Instant::now();
            let mut patience = Patience::until(start + ms(30));
            assert_eq!(patience.wait(start + ms(30), async { 7 }).await, Some(7));
            assert_eq!(patience.wait(start, async { 8 }).await, Some(8), "what is there is taken, however late");
            // Later than the first, sooner, and later again.
            for end in [40, 20, 60, 61] {
                assert_eq!(patience.wait(start + ms(end), pending::<()>()).await, None);
                assert!(start.elapsed() >= ms(end), "{end} ms: {:?}", start.elapsed());
            }
            let slow = async { tokio::time::sleep(ms(5)).await };
            assert_eq!(patience.wait(Instant::now() + Duration::from_secs(3_600), slow).await, Some(()));
        });
    }
}
