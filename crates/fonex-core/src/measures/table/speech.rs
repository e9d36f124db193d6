//! The facts of how something is spoken, which several measures share.

use super::yes;
use crate::measures::{Fact, Trials};
use crate::speech::{phrasing, syllables_of};

/// Pitch of an answer: median in hertz, range in semitones, movement in semitones a second.
pub(super) static PITCH: Fact = Fact {
    id: "pitch",
    version: 0,
    width: 3,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let pitch = trial.speech.and_then(|speech| speech.pitch);
        row.extend(pitch.iter().flat_map(|pitch| [pitch.median_hz, pitch.range_st, pitch.movement_st_per_s]));
    },
};

/// Syllables, and seconds of speaking.
pub(super) static SYLLABLES: Fact = Fact {
    id: "syllables",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let speech = trial.speech.filter(|speech| speech.speaking_s > 0.0);
        row.extend(speech.iter().flat_map(|speech| [f64::from(speech.syllables), speech.speaking_s]));
    },
};

/// Seconds of pauses, seconds between the silences at both ends, and seconds of the longest pause.
pub(super) static PAUSES: Fact = Fact {
    id: "pauses",
    version: 0,
    width: 3,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let speech = trial.speech.filter(|speech| speech.speaking_s > 0.0);
        row.extend(speech.iter().flat_map(|speech| {
            let pauses = speech.pauses;
            [pauses.total_s, pauses.total_s + speech.speaking_s, pauses.longest_s]
        }));
    },
};

/// Loudness in LUFS.
pub(super) static LOUDNESS: Fact = Fact {
    id: "loudness",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.speech.and_then(|speech| speech.loudness_lufs)),
};

/// True peak in dBTP.
pub(super) static TRUE_PEAK: Fact = Fact {
    id: "true_peak",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.speech.and_then(|speech| speech.true_peak_dbtp)),
};

/// Tilt and limit of the long-term spectrum.
pub(super) static SPECTRUM: Fact = Fact {
    id: "spectrum",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let spectrum = trial.speech.and_then(|speech| speech.spectrum);
        row.extend(spectrum.iter().flat_map(|spectrum| [spectrum.tilt_db_per_octave, spectrum.band_limit_hz]));
    },
};

/// Whether there are clicks, dropouts, hum, a cut, a repeat, a long pause, no speech, another rate or container than asked, nothing at all.
pub(super) static FAULTS: Fact = Fact {
    id: "audio_faults",
    version: 0,
    width: 9,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let faults = trial.speech.map(|speech| &speech.faults);
        row.extend(faults.iter().flat_map(|faults| {
            [
                faults.clicks.is_some(),
                faults.dropouts.is_some(),
                faults.hum_dbfs.is_some(),
                faults.cut_beginning || faults.cut_end,
                faults.repeated.is_some(),
                faults.long_pauses.is_some(),
                faults.not_speech,
                faults.other_rate_hz.is_some() || faults.other_container,
                faults.silent,
            ]
            .map(yes)
        }));
    },
};

/// Requests of the markup that are done, and those that can be checked.
pub(super) static MARKUP: Fact = Fact {
    id: "markup",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let markup = trial.markup.filter(|markup| markup.asked > 0);
        row.extend(markup.iter().flat_map(|markup| [markup.done, markup.asked].map(f64::from)));
    },
};

/// How far the level moves, in decibels.
pub(super) static LEVEL_MOVEMENT: Fact = Fact {
    id: "level_movement",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.speech.and_then(|speech| speech.level_movement_db)),
};

/// Pauses inside phrases and pauses at punctuation; signs of punctuation between words.
pub(super) static PHRASING: Fact = Fact {
    id: "phrasing",
    version: 0,
    width: 3,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let speech = trial.speech.filter(|speech| speech.speaking_s > 0.0 && speech.syllables > 0);
        // Trials of an earlier version do not say where their pauses are.
        let speech = speech.filter(|speech| speech.pauses_at.len() as u32 == speech.pauses.count);
        row.extend(speech.iter().flat_map(|speech| {
            let found =
                phrasing(trial.text_to_speak, trial.clip.lang.as_deref(), &speech.pauses_at, speech.speaking_s);
            [found.inside, found.at_punctuation, found.signs].map(f64::from)
        }));
    },
};

/// Syllables counted in the sound, and those of the text as it is written.
pub(super) static LENGTH: Fact = Fact {
    id: "spoken_length",
    version: 0,
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let written = syllables_of(trial.text_to_speak, trial.clip.lang.as_deref());
        let speech = trial.speech.filter(|_| written > 0.0);
        row.extend(speech.iter().flat_map(|speech| [f64::from(speech.syllables), written]));
    },
};
