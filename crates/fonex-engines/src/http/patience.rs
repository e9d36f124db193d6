//! One timer for several waits in turn.

use std::pin::Pin;
use std::task::{Poll, ready};

use tokio::time::{Instant, Sleep, sleep_until};

/// A timer that is set anew only where a wait ends sooner than the last one would have, or was longer than the timer: what is waited
/// for mostly comes long before, and a timer of its own for each wait would have to be given a place among all others each time.
#[derive(Default)]
pub(super) struct Patience(Option<Pin<Box<Sleep>>>);

impl Patience {
    /// Waits for something; none where it has not come by then.
    pub(super) async fn wait<F: Future>(
        &mut self,
        until: std::time::Instant,
        mut work: Pin<&mut F>,
    ) -> Option<F::Output> {
        let until = Instant::from(until);
        std::future::poll_fn(|context| {
            if let Poll::Ready(done) = work.as_mut().poll(context) {
                return Poll::Ready(Some(done));
            }
            let timer = self.0.get_or_insert_with(|| Box::pin(sleep_until(until)));
            if timer.deadline() > until {
                timer.as_mut().reset(until);
            }
            loop {
                ready!(timer.as_mut().poll(context));
                if Instant::now() >= until {
                    return Poll::Ready(None);
                }
                timer.as_mut().reset(until);
            }
        })
        .await
    }
}

#[cfg(test)]
mod tests {
    use std::future::pending;
    use std::pin::pin;
    use std::time::{Duration, Instant};

    use super::*;

    #[test]
    fn each_wait_ends_at_its_own_time_whatever_the_one_before_was_given() {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_time().build().unwrap();
        runtime.block_on(async {
            let ms = Duration::from_millis;
            let start = Instant::now();
            let mut patience = Patience::default();
            assert_eq!(patience.wait(start + ms(30), pin!(async { 7 })).await, Some(7));
            assert_eq!(
                patience.wait(start, pin!(async { 8 })).await,
                Some(8),
                "what is there is taken, however late"
            );
            // Later than the first, sooner, and later again.
            for end in [40, 20, 60, 61] {
                assert_eq!(patience.wait(start + ms(end), pin!(pending::<()>())).await, None);
                assert!(start.elapsed() >= ms(end), "{end} ms: {:?}", start.elapsed());
            }
            let slow = pin!(tokio::time::sleep(ms(5)));
            assert_eq!(patience.wait(Instant::now() + Duration::from_secs(3_600), slow).await, Some(()));
        });
    }
}
