//! The interval of the WER over speakers.

use serde::{Deserialize, Serialize};

use crate::Table;
use crate::align::EditCounts;
use crate::measures::{Estimate, Sample, estimate, find};
use crate::stats::UnitKind;

/// Error counts of each speaker's clips; clips without a speaker stand alone.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(super) struct Speakers {
    speakers: Table<String, [u64; 3]>,
    /// Errors and words of clips without a speaker, with how many have the same.
    #[serde(with = "crate::tables")]
    alone: Table<[u64; 2], u64>,
}

impl Speakers {
    pub(super) fn add(&mut self, speaker: Option<&str>, words: EditCounts) {
        let (errors, reference) = (words.errors(), words.reference());
        let Some(speaker) = speaker else {
            *self.alone.entry([errors, reference]).or_default() += 1;
            return;
        };
        let counts = [1, errors, reference];
        match self.speakers.get_mut(speaker) {
            Some(sum) => sum.iter_mut().zip(counts).for_each(|(sum, count)| *sum += count),
            None => drop(self.speakers.insert(speaker.to_owned(), counts)),
        }
    }

    pub(super) fn merge(&mut self, other: Self) {
        for (counts, clips) in other.alone {
            *self.alone.entry(counts).or_default() += clips;
        }
        for (speaker, counts) in other.speakers {
            let sum = self.speakers.entry(speaker).or_default();
            sum.iter_mut().zip(counts).for_each(|(sum, count)| *sum += count);
        }
    }

    /// Whole speakers are drawn (Field and Welsh, "Bootstrapping clustered data", 2007). None where none has several clips.
    pub(super) fn estimate(&self) -> Option<Estimate> {
        if self.speakers.values().all(|counts| counts[0] == 1) {
            return None;
        }
        let mut sample = Sample::new(4, UnitKind::Group);
        let row = |errors: u64, words: u64| [words as f64 - errors as f64, errors as f64, 0.0, 0.0];
        let mut alone: Vec<([u64; 2], u64)> = self.alone.iter().map(|(counts, clips)| (*counts, *clips)).collect();
        alone.sort_unstable();
        // In an order that does not depend on how they were met.
        let mut speakers: Vec<(&String, &[u64; 3])> = self.speakers.iter().collect();
        speakers.sort_unstable();
        for (_, [_, errors, words]) in speakers {
            sample.add_alike(&row(*errors, *words), 1.0);
        }
        for ([errors, words], clips) in alone {
            sample.add_alike(&row(errors, words), clips as f64);
        }
        estimate(find("wer")?.estimator, &sample)
    }
}
