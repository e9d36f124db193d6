//! Detects consecutive failures of a variant for the same reason, so that the run can stop the variant.

use fonex_core::Outcome;
use fonex_store::TrialRecord;

/// Consecutive failures of one variant for the same reason.
#[derive(Debug, Default)]
pub(super) struct Streak {
    reason: String,
    length: u32,
}

impl Streak {
    /// Takes the next trial that ended. Returns how many in a row have failed for this trial's reason; zero where it did not
    /// fail, or its failure says nothing of the next clip.
    pub(super) fn take(&mut self, trial: &TrialRecord) -> u32 {
        match reason(trial) {
            Some(reason) if reason == self.reason => self.length += 1,
            Some(reason) => *self = Self { reason, length: 1 },
            None => *self = Self::default(),
        }
        self.length
    }
}

/// Returns the part of a failure that is equal for failures of the same cause: words without digits, since times, counters and
/// identifiers differ.
/// None for a failure that concerns this clip alone: what was refused on this side, or is too long, of the wrong kind or
/// cannot be processed (RFC 9110, status 413, 415 and 422).
fn reason(trial: &TrialRecord) -> Option<String> {
    let last = trial.traffic.requests.last();
    let status = last.and_then(|request| request.status);
    let concerns_engine = match trial.outcome {
        Outcome::Unreachable => true,
        Outcome::Refused => (last.is_some() || trial.took_ms.is_some()) && !matches!(status, Some(413 | 415 | 422)),
        _ => false,
    };
    concerns_engine.then(|| {
        let detail = trial.detail.as_deref().unwrap_or_default();
        let words = detail.split(|c: char| !c.is_alphanumeric()).filter(|word| !word.is_empty());
        let stable = words.filter(|word| !word.chars().any(|c| c.is_ascii_digit())).collect::<Vec<_>>().join(" ");
        format!("{} {status:?} {stable}", trial.outcome)
    })
}

#[cfg(test)]
mod tests {
    use fonex_core::latency::{Request, Traffic};
    use fonex_store::TrialKey;

    use super::*;

    fn trial(outcome: Outcome, status: Option<u16>, detail: &str) -> TrialRecord {
        let key = TrialKey { variant: 0, clip_id: "a".into(), repeat: 0, warm_up: false };
        let requests = status.map(|status| Request { status: Some(status), ..Request::begun("ask", 0) });
        let traffic = Traffic { requests: requests.into_iter().collect(), ..Traffic::default() };
        TrialRecord { traffic, ..TrialRecord::failed(key, outcome, detail.to_owned()) }
    }

    #[test]
    fn only_the_same_reason_makes_a_streak() {
        let mut streak = Streak::default();
        let mut take = |outcome, status, detail: &str| streak.take(&trial(outcome, status, detail));
        // Times and identifiers differ from one answer to the next.
        assert_eq!(take(Outcome::Refused, Some(401), "token expired at 12:00:01 (request 8f3a)"), 1);
        assert_eq!(take(Outcome::Refused, Some(401), "token expired at 12:00:07 (request 77b0)"), 2);
        assert_eq!(take(Outcome::Refused, Some(403), "token expired at 12:00:08 (request 77b1)"), 1);
        assert_eq!(take(Outcome::Refused, Some(403), "not allowed"), 1);
        assert_eq!(take(Outcome::Done, Some(200), ""), 0);
        assert_eq!(take(Outcome::Unreachable, None, "cannot start \"x\": no such file"), 1);
        assert_eq!(take(Outcome::Unreachable, None, "cannot start \"x\": no such file"), 2);
        assert_eq!(take(Outcome::Late, None, "late"), 0);
        // What is refused because of the clip says nothing of the next one.
        assert_eq!(take(Outcome::Refused, None, "the label is empty"), 0);
        assert_eq!(take(Outcome::Refused, Some(413), "too large"), 0);
    }
}
