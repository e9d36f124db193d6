//! Somebody speaks while the machine does: how soon it is noticed, and how soon the speech has stopped.

use serde::{Deserialize, Serialize};

use super::Percentiles;

/// One interruption of a spoken reply. All times are milliseconds.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Interruption {
    /// The clip that was said into the reply.
    pub clip: String,
    /// From the first sound of the reply to the beginning of that speech.
    pub into_reply_ms: f64,
    /// From the beginning of speech to the first words the recogniser showed; none where it showed none. Below zero where
    /// words came before anybody spoke.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub noticed_ms: Option<f64>,
    /// From then until the synthesiser had ended, told to stop; zero where all of its sound had come before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub closed_ms: Option<f64>,
    /// Sound that had come and had not been played yet when the speech was noticed: a player has to drop it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub held_ms: Option<f64>,
    /// From the beginning of speech to the end of the reply, had nobody stopped it.
    pub reply_left_ms: f64,
}

impl Interruption {
    /// How long both spoke at once, with a player that drops what it holds as soon as the speech is noticed.
    #[must_use]
    pub fn both_spoke_ms(&self) -> f64 {
        self.noticed_ms.unwrap_or(f64::INFINITY).clamp(0.0, self.reply_left_ms.max(0.0))
    }
}

/// What became of interruptions.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct InterruptionReport {
    /// Interruptions made.
    pub interruptions: u64,
    /// Of which the reply was over before anything was noticed.
    pub missed: u64,
    /// Of which words were shown before anybody spoke.
    pub too_early: u64,
    /// From the beginning of speech to the first words, over those noticed at or after it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub noticed_ms: Option<Percentiles>,
    /// How long both spoke at once, over all.
    pub both_spoke_ms: Percentiles,
    /// From noticing to the end of the synthesiser's stream, where one was still coming.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub closed_ms: Option<Percentiles>,
    /// Sound a player had to drop.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub held_ms: Option<Percentiles>,
}

impl InterruptionReport {
    /// None without interruptions.
    #[must_use]
    pub fn of(all: &[Interruption]) -> Option<Self> {
        let of = |pick: &dyn Fn(&Interruption) -> Option<f64>| {
            Percentiles::of(&all.iter().filter_map(pick).collect::<Vec<_>>())
        };
        let missed = |one: &&Interruption| one.noticed_ms.is_none_or(|ms| ms >= one.reply_left_ms);
        let early = |one: &&Interruption| one.noticed_ms.is_some_and(|ms| ms < 0.0);
        Some(Self {
            interruptions: all.len() as u64,
            missed: all.iter().filter(missed).count() as u64,
            too_early: all.iter().filter(early).count() as u64,
            noticed_ms: of(&|one| one.noticed_ms.filter(|ms| *ms >= 0.0)),
            both_spoke_ms: of(&|one| Some(one.both_spoke_ms()))?,
            closed_ms: of(&|one| one.closed_ms.filter(|ms| *ms > 0.0)),
            held_ms: of(&|one| one.held_ms),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn interruptions_by_hand() {
        let one = |noticed_ms: Option<f64>, reply_left_ms: f64| Interruption {
            clip: "a".into(),
            into_reply_ms: 500.0,
            noticed_ms,
            closed_ms: noticed_ms.map(|_| 0.0),
            held_ms: noticed_ms.map(|ms| reply_left_ms - ms),
            reply_left_ms,
        };
        // Noticed in time, noticed when the reply was over, never noticed, and noticed before anybody spoke.
        let all = [one(Some(300.0), 2_000.0), one(Some(900.0), 800.0), one(None, 700.0), one(Some(-50.0), 1_000.0)];
        let spoke: Vec<f64> = all.iter().map(Interruption::both_spoke_ms).collect();
        assert_eq!(spoke, [300.0, 800.0, 700.0, 0.0]);
        let report = InterruptionReport::of(&all).unwrap();
        assert_eq!((report.interruptions, report.missed, report.too_early), (4, 2, 1));
        assert_eq!(report.noticed_ms.unwrap().count, 2, "what came before anybody spoke was no notice");
        assert_eq!(report.both_spoke_ms.p50, 500.0);
        assert_eq!(report.closed_ms, None, "all sound had come before");
        assert_eq!(InterruptionReport::of(&[]), None);
    }
}
