//! A score in a few lines, and its measures as a table.

use fonex_core::accuracy::Score;
use fonex_core::measures::ALL;
use fonex_core::stats::Interval;

use crate::output::{self, Cell, Table, percent, plural, rate_with_interval};
use fonex_core::verdict::FEW_CLIPS;

/// The figures of a score in a few lines.
pub fn score_summary(score: &Score) -> String {
    let words = &score.words;
    let mut text = format!(
        "WER {} over {} and {}\n",
        rate_with_interval(words.wer, words.interval),
        plural(score.clips, "clip"),
        plural(words.reference, "word")
    );
    if score.clips < FEW_CLIPS {
        text += &format!("caution: with fewer than {FEW_CLIPS} clips, intervals are rough\n");
    }
    if let Some(speakers) = score.speakers {
        text += &match score.interval_by_speaker {
            Some(Interval { low, high }) => format!(
                "for speakers that were not recorded: {} to {} (drawn by speaker, {speakers} of them)\n",
                percent(Some(low)),
                percent(Some(high))
            ),
            None => {
                format!("for speakers that were not recorded: no interval, {speakers} speakers are too few (8)\n")
            }
        };
    }
    text += &format!(
        "text profile {}   mean of the clips' own rates {}\n",
        score.text_profile,
        percent(score.mean_clip_wer)
    );
    if let Some(disputed) = &score.disputed {
        let clips = plural(disputed.clips, "clip");
        text += &format!("{clips} with a disputed label counted apart: WER {} there\n", percent(disputed.words.wer));
    }
    if let Some(timing) = &score.timing {
        output::timing_notes(timing).iter().for_each(|note| text += &format!("{note}\n"));
    }
    text
}

/// Every measure of a score, a row each; files side by side.
pub fn score_measures(scores: &[(String, &Score)]) -> Table {
    let names = scores.iter().map(|(name, _)| (name.as_str(), 0));
    let mut table = Table::new([("measure", 0)].into_iter().chain(names).chain([("clips", 1)]));
    for measure in ALL {
        let estimates: Vec<_> = scores.iter().map(|(_, score)| score.measures.get(measure.id)).collect();
        let Some(clips) = estimates.iter().flatten().map(|estimate| estimate.clips).max() else { continue };
        let empty = |estimate: &&fonex_core::measures::Estimate| estimate.value == 0.0;
        if measure.rare && estimates.iter().flatten().all(empty) {
            continue;
        }
        if measure.id.starts_with("outcome_") {
            continue;
        }
        let cells = estimates.iter().map(|estimate| {
            estimate.map_or(Cell::Empty, |estimate| Cell::Estimate(measure.unit, estimate.value, estimate.interval))
        });
        table.row([Cell::Named(measure.id, measure.name)].into_iter().chain(cells).chain([Cell::Count(clips)]));
    }
    table
}
