//! The facts of how something is spoken, which several measures share.

use super::yes;
use crate::measures::{Fact, Trials};

/// Pitch of an answer: median in hertz, range in semitones, movement in semitones a second.
pub(super) static PITCH: Fact = Fact {
    id: "pitch",
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
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.speech.and_then(|speech| speech.loudness_lufs)),
};

/// True peak in dBTP.
pub(super) static TRUE_PEAK: Fact = Fact {
    id: "true_peak",
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.speech.and_then(|speech| speech.true_peak_dbtp)),
};

/// Tilt and limit of the long-term spectrum.
pub(super) static SPECTRUM: Fact = Fact {
    id: "spectrum",
    width: 2,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let spectrum = trial.speech.and_then(|speech| speech.spectrum);
        row.extend(spectrum.iter().flat_map(|spectrum| [spectrum.tilt_db_per_octave, spectrum.band_limit_hz]));
    },
};

/// Whether there are clicks, dropouts, hum, a cut, a repeat, a long pause, no speech.
pub(super) static FAULTS: Fact = Fact {
    id: "audio_faults",
    width: 7,
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
            ]
            .map(yes)
        }));
    },
};
