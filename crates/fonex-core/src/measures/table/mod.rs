//! One file a measure, one line each in [`ALL`]; the facts that several measures share.

mod band_limit_hz;
mod calibration_error;
mod capitals_f1;
mod cer;
mod clipped_clips;
mod clipped_share;
mod clips_cut_off;
mod clips_of_other_form;
mod clips_with_all_terms;
mod clips_with_clicks;
mod clips_with_dropouts;
mod clips_with_hum;
mod clips_with_long_pauses;
mod clips_with_repeats;
mod clips_without_speech;
mod cost_per_audio_minute;
mod cost_per_correct_word;
mod cpu_per_audio_s;
mod dc_offset;
mod drift;
mod faulty_clips;
mod first_audible_p50;
mod first_audible_p95;
mod first_piece_p50;
mod first_word_wrong;
mod interrupted_playback;
mod latency_p50;
mod latency_p95;
mod latency_p99;
mod leading_silence_s;
mod level_dbfs;
mod level_movement_db;
mod live_changed_words;
mod live_false_ends;
mod live_final_p50;
mod live_final_p95;
mod live_first_words_p50;
mod live_first_words_p95;
mod live_missed_ends;
mod live_pauses_taken_for_end;
mod live_settled_p50;
mod live_settled_p95;
mod live_shown_p50;
mod live_shown_p95;
mod longest_pause_p95;
mod loudness_lufs;
mod loudness_spread_lu;
mod markup_followed;
mod mer;
mod noise_floor_dbfs;
mod off_length;
mod outcome_broken;
mod outcome_late;
mod outcome_nothing;
mod outcome_refused;
mod outcome_unclear;
mod outcome_unreachable;
mod pace;
mod pace_speaking;
mod pace_spread;
mod pause_share;
mod pauses_in_phrases;
mod peak_dbfs;
mod peak_memory_kib;
mod pitch_hz;
mod pitch_movement;
mod pitch_range_st;
mod pitch_spread_st;
mod playback_wait_p95;
mod punctuation_f1;
mod punctuation_paused;
mod reply_words;
mod roc_area;
mod rtf;
mod runaway_clips;
mod ser;
mod silent_clips;
mod skipped_clips;
mod spectral_tilt;
mod syllable_rate;
mod term_f1;
mod term_precision;
mod term_recall;
mod trailing_silence_s;
mod true_peak_dbtp;
mod unanswered;
mod weighted_wer;
mod wer;
mod wer_as_written;
mod wer_failures_as_empty;
mod wil;
mod word_start_p50;
mod word_start_p95;
mod words_over_silence;
mod words_within_100ms;
mod words_within_50ms;

mod speech;

use super::{Fact, Measure, Trial, Trials};
use crate::Outcome;
use crate::latency::{Playback, play, sound_pieces};
use speech::{
    FAULTS, LENGTH, LEVEL_MOVEMENT, LOUDNESS, MARKUP, PAUSES, PHRASING, PITCH, SPECTRUM, SYLLABLES, TRUE_PEAK,
};

/// Every measure, in the order tables print them.
pub static ALL: &[&Measure] = &[
    &wer::MEASURE,
    &cer::MEASURE,
    &mer::MEASURE,
    &wil::MEASURE,
    &ser::MEASURE,
    &wer_as_written::MEASURE,
    &wer_failures_as_empty::MEASURE,
    &weighted_wer::MEASURE,
    &term_recall::MEASURE,
    &term_precision::MEASURE,
    &term_f1::MEASURE,
    &clips_with_all_terms::MEASURE,
    &words_over_silence::MEASURE,
    &first_word_wrong::MEASURE,
    &skipped_clips::MEASURE,
    &runaway_clips::MEASURE,
    &punctuation_f1::MEASURE,
    &capitals_f1::MEASURE,
    &calibration_error::MEASURE,
    &roc_area::MEASURE,
    &word_start_p50::MEASURE,
    &word_start_p95::MEASURE,
    &words_within_50ms::MEASURE,
    &words_within_100ms::MEASURE,
    &drift::MEASURE,
    &latency_p50::MEASURE,
    &latency_p95::MEASURE,
    &latency_p99::MEASURE,
    &first_piece_p50::MEASURE,
    &first_audible_p50::MEASURE,
    &first_audible_p95::MEASURE,
    &rtf::MEASURE,
    &cpu_per_audio_s::MEASURE,
    &peak_memory_kib::MEASURE,
    &live_first_words_p50::MEASURE,
    &live_first_words_p95::MEASURE,
    &live_shown_p50::MEASURE,
    &live_shown_p95::MEASURE,
    &live_settled_p50::MEASURE,
    &live_settled_p95::MEASURE,
    &live_final_p50::MEASURE,
    &live_final_p95::MEASURE,
    &live_changed_words::MEASURE,
    &live_false_ends::MEASURE,
    &live_missed_ends::MEASURE,
    &live_pauses_taken_for_end::MEASURE,
    &unanswered::MEASURE,
    &outcome_nothing::MEASURE,
    &outcome_unclear::MEASURE,
    &outcome_refused::MEASURE,
    &outcome_unreachable::MEASURE,
    &outcome_late::MEASURE,
    &outcome_broken::MEASURE,
    &cost_per_audio_minute::MEASURE,
    &cost_per_correct_word::MEASURE,
    &interrupted_playback::MEASURE,
    &playback_wait_p95::MEASURE,
    &pace::MEASURE,
    &pace_speaking::MEASURE,
    &level_dbfs::MEASURE,
    &peak_dbfs::MEASURE,
    &leading_silence_s::MEASURE,
    &trailing_silence_s::MEASURE,
    &noise_floor_dbfs::MEASURE,
    &dc_offset::MEASURE,
    &clipped_share::MEASURE,
    &clipped_clips::MEASURE,
    &pitch_hz::MEASURE,
    &pitch_range_st::MEASURE,
    &pitch_movement::MEASURE,
    &syllable_rate::MEASURE,
    &pause_share::MEASURE,
    &longest_pause_p95::MEASURE,
    &pauses_in_phrases::MEASURE,
    &punctuation_paused::MEASURE,
    &level_movement_db::MEASURE,
    &pace_spread::MEASURE,
    &pitch_spread_st::MEASURE,
    &loudness_lufs::MEASURE,
    &loudness_spread_lu::MEASURE,
    &true_peak_dbtp::MEASURE,
    &spectral_tilt::MEASURE,
    &band_limit_hz::MEASURE,
    &faulty_clips::MEASURE,
    &clips_with_clicks::MEASURE,
    &clips_with_dropouts::MEASURE,
    &clips_with_hum::MEASURE,
    &clips_cut_off::MEASURE,
    &clips_with_repeats::MEASURE,
    &clips_with_long_pauses::MEASURE,
    &clips_without_speech::MEASURE,
    &silent_clips::MEASURE,
    &clips_of_other_form::MEASURE,
    &off_length::MEASURE,
    &markup_followed::MEASURE,
    &reply_words::MEASURE,
];

/// Correct, substituted, deleted and inserted words.
static WORDS: Fact = Fact { id: "words", version: 0, width: 4, timed: false, of: Trials::Answered, observe: words };

fn words(trial: &Trial<'_>, row: &mut Vec<f64>) {
    if let Some(hearing) = trial.hearing {
        let words = hearing.words;
        row.extend([words.correct, words.substituted, words.deleted, words.inserted].map(|n| n as f64));
    }
}

/// Words in a row that are a stretch.
const LEAST_WORDS: f64 = 4.0;

/// The most words in a row that were not heard, and words heard after the last one said.
static GAPS: Fact = Fact {
    id: "gaps",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let gaps = trial.hearing.map(|hearing| [hearing.longest_gap, hearing.words_after]);
        row.extend(gaps.iter().flatten().map(|words| *words as f64));
    },
};

/// Wrong characters and characters said.
static CHARACTERS: Fact = Fact {
    id: "characters",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some(hearing) = trial.hearing {
            row.extend([hearing.characters.errors() as f64, hearing.characters.reference() as f64]);
        }
    },
};

/// Must-hear terms found, missed and invented.
static TERMS: Fact = Fact {
    id: "terms",
    version: 0,
    width: 3,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| counts(trial.hearing.and_then(|hearing| hearing.terms), row),
};

/// Confidence of each heard word, and whether it was right.
static CONFIDENCE: Fact = Fact {
    id: "confidence",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let confidences = trial.hearing.iter().flat_map(|hearing| &hearing.confidences);
        row.extend(confidences.flat_map(|(confidence, right)| [confidence.clamp(0.0, 1.0), yes(*right)]));
    },
};

/// For each word heard right, where its label puts it in seconds, and how much later the engine does in milliseconds.
static WORD_STARTS: Fact = Fact {
    id: "word_starts",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let offsets = trial.hearing.and_then(|hearing| hearing.offsets.as_ref());
        row.extend(offsets.iter().flat_map(|offsets| &offsets.words).flat_map(|word| [word.at_s, word.start_ms]));
    },
};

/// Wall time in milliseconds.
static TOOK: Fact = Fact {
    id: "took",
    version: 0,
    width: 1,
    timed: true,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.took_ms),
};

/// How a trial ended, by its place among the outcomes; nothing where no trial was made, as for results read from a file.
static OUTCOME: Fact = Fact {
    id: "outcome",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::All,
    observe: |trial, row| {
        let place = || Outcome::ALL.iter().position(|outcome| *outcome == trial.outcome);
        row.extend(trial.traffic.and_then(|_| place()).map(|at| at as f64));
    },
};

/// Milliseconds until the first sound above silence is heard, had it been played as it came.
static FIRST_AUDIBLE: Fact = Fact {
    id: "first_audible",
    version: 0,
    width: 1,
    timed: true,
    of: Trials::Answered,
    observe: |trial, row| row.extend(first_audible_ms(trial)),
};

/// Interruptions of an answer that came in pieces, and the wait in milliseconds that would have avoided them.
static PLAYBACK: Fact = Fact {
    id: "playback",
    version: 0,
    width: 2,
    timed: true,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some(played) = playback(trial) {
            row.extend([played.stalls.len() as f64, played.needed_wait_ms]);
        }
    },
};

/// How a spoken answer would have played; none where it did not come in pieces.
fn playback(trial: &Trial<'_>) -> Option<Playback> {
    trial.spoken?;
    let arrivals: Vec<(f64, u32)> = trial.traffic?.arrivals.iter().collect();
    let pieces = sound_pieces(arrivals.into_iter(), trial.audio_s?);
    if pieces.len() < 2 { None } else { play(&pieces) }
}

fn first_audible_ms(trial: &Trial<'_>) -> Option<f64> {
    let leading_s = trial.spoken?.silence.leading_s;
    match playback(trial) {
        Some(played) => {
            let before = played.stalls.iter().filter(|stall| stall.at_s <= leading_s).map(|stall| stall.ms);
            Some(played.first_ms + leading_s * 1e3 + before.sum::<f64>())
        }
        None => Some(trial.took_ms? + leading_s * 1e3),
    }
}

fn yes(holds: bool) -> f64 {
    f64::from(u8::from(holds))
}

/// Whether a row of [`OUTCOME`] is this one.
fn is(row: &[f64], outcome: Outcome) -> bool {
    Outcome::ALL.get(row[0] as usize) == Some(&outcome)
}

fn per_audio_second(trial: &Trial<'_>, seconds: Option<f64>) -> Option<f64> {
    let audio_s = trial.audio_s.filter(|audio_s| *audio_s > 0.0)?;
    Some(seconds? / audio_s)
}

/// Found, missed and invented, where there is any.
fn counts(counts: Option<[u64; 3]>, row: &mut Vec<f64>) {
    row.extend(counts.filter(|counts| counts.iter().any(|n| *n > 0)).iter().flatten().map(|n| *n as f64));
}

/// 2F / (2F + M + I) of found, missed and invented; none where a side has none at all.
fn f1(sums: &[f64]) -> Option<f64> {
    let [found, missed, invented] = [sums[0], sums[1], sums[2]];
    (found + missed > 0.0 && found + invented > 0.0).then(|| 2.0 * found / (2.0 * found + missed + invented))
}
