//! How a voice speaks: pitch, rhythm, loudness, spectrum.

use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Pairs, Trials, Unit};
use crate::speech::phrasing;

pub(super) static ALL: &[Measure] = &[
    Measure {
        id: "pitch_hz",
        name: "pitch, median",
        unit: Unit::Hz,
        better: Better::Neither,
        tasks: &[Task::Speak],
        fact: &PITCH,
        estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
        asked: false,
        matters: Matters::Share(0.05),
        rare: false,
        says: ["speaks lower than", "speaks higher than"],
        about: "median pitch of the voiced frames of an answer",
        explained: "The median of the fundamental frequency over the voiced frames of an answer, median over \
                    trials. Creaky voice may count as unvoiced or an octave lower.",
        source: "Talkin, A robust algorithm for pitch tracking, 1995",
    },
    Measure {
        id: "pitch_range_st",
        name: "pitch range, median",
        unit: Unit::Semitones,
        better: Better::Neither,
        tasks: &[Task::Speak],
        fact: &PITCH,
        estimator: Estimator::Median(|row| row[1], Pairs::Differences),
        asked: false,
        matters: Matters::Amount(0.25),
        rare: false,
        says: ["speaks flatter than", "speaks in a wider range than"],
        about: "from the 5th to the 95th percentile of the pitch within an answer",
        explained: "The distance from the 5th to the 95th percentile of the pitch within an answer in semitones, \
                    median over trials. Below five a voice sounds flat, above fourteen lively.",
        source: "Talkin, A robust algorithm for pitch tracking, 1995",
    },
    Measure {
        id: "pitch_movement",
        name: "pitch movement, median",
        unit: Unit::SemitonesPerS,
        better: Better::Neither,
        tasks: &[Task::Speak],
        fact: &PITCH,
        estimator: Estimator::Median(|row| row[2], Pairs::Differences),
        asked: false,
        matters: Matters::Amount(0.5),
        rare: false,
        says: ["moves its pitch less than", "moves its pitch more than"],
        about: "mean of the absolute changes of pitch while voiced, in semitones a second",
        explained: "The mean absolute change of the pitch over 50 ms while voiced, in semitones a second, median \
                    over trials.",
        source: "Talkin, A robust algorithm for pitch tracking, 1995",
    },
    Measure {
        id: "syllable_rate",
        name: "syllables a second",
        unit: Unit::PerSecond,
        better: Better::Neither,
        tasks: &[Task::Speak],
        fact: &SYLLABLES,
        estimator: Estimator::Ratio { part: |row| row[0], whole: |row| row[1], bounds: (0.0, 20.0), most: 20.0 },
        asked: false,
        matters: Matters::Share(0.05),
        rare: false,
        says: ["speaks slower than", "speaks faster than"],
        about: "syllables counted in the sound over the time of speaking, pauses left out",
        explained: "Syllables, which are voiced peaks of the level with a dip of 2.5 dB before them, over the \
                    seconds between the silences at both ends, pauses of a quarter of a second and more left out; \
                    over all trials together.",
        source: "de Jong and Wempe, Behavior Research Methods 41(2), 2009",
    },
    Measure {
        id: "pause_share",
        name: "pauses",
        unit: Unit::Share,
        better: Better::Neither,
        tasks: &[Task::Speak],
        fact: &PAUSES,
        estimator: Estimator::Ratio { part: |row| row[0], whole: |row| row[1], bounds: (0.0, 1.0), most: 1.0 },
        asked: false,
        matters: Matters::Amount(0.01),
        rare: false,
        says: ["pauses less than", "pauses more than"],
        about: "pauses of 0.25 s and more inside, over the time between the silences at both ends",
        explained: "Seconds of pauses of a quarter of a second and more, silence at both ends left out, over the \
                    seconds between the two ends; over all trials together.",
        source: "",
    },
    Measure {
        id: "longest_pause_p95",
        name: "longest pause, p95",
        unit: Unit::S,
        better: Better::Lower,
        tasks: &[Task::Speak],
        fact: &PAUSES,
        estimator: Estimator::Quantile(0.95, |row| row[2]),
        asked: false,
        matters: Matters::Share(0.05),
        rare: false,
        says: ["makes shorter pauses than", "makes longer pauses than"],
        about: "95th percentile of the longest pause inside an answer",
        explained: "The longest pause inside each answer, 95th percentile over trials.",
        source: "",
    },
    Measure {
        id: "pauses_in_phrases",
        name: "pauses inside phrases",
        unit: Unit::Share,
        better: Better::Lower,
        tasks: &[Task::Speak],
        fact: &PHRASING,
        estimator: Estimator::Ratio {
            part: |row| row[0],
            whole: |row| row[0] + row[1],
            bounds: (0.0, 1.0),
            most: 1.0,
        },
        asked: false,
        matters: Matters::Amount(0.01),
        rare: false,
        says: ["pauses inside phrases less often than", "pauses inside phrases more often than"],
        about: "pauses of 0.25 s and more that lie inside phrases, over all pauses",
        explained: "The share of the pauses that lie inside a phrase instead of at punctuation. Pauses are \
                    matched with the punctuation of the text by the lengths between them, in syllables; no \
                    recogniser is needed.",
        source: "Gale and Church, A program for aligning sentences in bilingual corpora, 1993",
    },
    Measure {
        id: "punctuation_paused",
        name: "punctuation with a pause",
        unit: Unit::Share,
        better: Better::Neither,
        tasks: &[Task::Speak],
        fact: &PHRASING,
        estimator: Estimator::Ratio { part: |row| row[1], whole: |row| row[2], bounds: (0.0, 1.0), most: 1.0 },
        asked: false,
        matters: Matters::Amount(0.01),
        rare: false,
        says: ["pauses at punctuation less often than", "pauses at punctuation more often than"],
        about: "signs of punctuation between words at which the voice pauses, over all of them",
        explained: "The share of the signs of punctuation between words, the last sign of a text left out, at \
                    which the voice pauses for a quarter of a second or more.",
        source: "Gale and Church, A program for aligning sentences in bilingual corpora, 1993",
    },
    Measure {
        id: "level_movement_db",
        name: "level movement, median",
        unit: Unit::Db,
        better: Better::Neither,
        tasks: &[Task::Speak],
        fact: &LEVEL_MOVEMENT,
        estimator: Estimator::Median(|row| row[0], Pairs::Differences),
        asked: false,
        matters: Matters::Amount(0.5),
        rare: false,
        says: ["moves its level less than", "moves its level more than"],
        about: "standard deviation of the level while speaking, over stretches of 50 ms",
        explained: "The standard deviation of the level over stretches of a twentieth of a second that are within \
                    30 dB of the loud ones, median over trials. A voice that stresses nothing has little of it.",
        source: "",
    },
    Measure {
        id: "pace_spread",
        name: "pace over repeats",
        unit: Unit::Share,
        better: Better::Lower,
        tasks: &[Task::Speak],
        fact: &SYLLABLES,
        estimator: Estimator::Spread(|row| row[1].max(1e-3).ln()),
        asked: false,
        matters: Matters::Amount(0.01),
        rare: false,
        says: ["keeps its pace from take to take better than", "keeps its pace from take to take worse than"],
        about: "standard deviation of the speaking time over the repeats of a text, as a share of it",
        explained: "How much the time spent speaking varies when the same text is spoken again: the standard \
                    deviation of its logarithm within texts, which is a share of it. Needs repeats.",
        source: "Fisher, Statistical Methods for Research Workers, 1925",
    },
    Measure {
        id: "pitch_spread_st",
        name: "pitch over repeats",
        unit: Unit::Semitones,
        better: Better::Lower,
        tasks: &[Task::Speak],
        fact: &PITCH,
        estimator: Estimator::Spread(|row| 12.0 * row[0].max(1.0).log2()),
        asked: false,
        matters: Matters::Amount(0.25),
        rare: false,
        says: ["keeps its pitch from take to take better than", "keeps its pitch from take to take worse than"],
        about: "standard deviation of the median pitch over the repeats of a text",
        explained: "How much the median pitch varies when the same text is spoken again, in semitones: the \
                    standard deviation within texts. Needs repeats.",
        source: "Fisher, Statistical Methods for Research Workers, 1925",
    },
    Measure {
        id: "loudness_lufs",
        name: "loudness, median",
        unit: Unit::Lufs,
        better: Better::Neither,
        tasks: &[Task::Speak],
        fact: &LOUDNESS,
        estimator: Estimator::Median(|row| row[0], Pairs::Differences),
        asked: false,
        matters: Matters::Amount(0.5),
        rare: false,
        says: ["is quieter than", "is louder than"],
        about: "integrated loudness of the sound spoken",
        explained: "The gated loudness of each answer, median over trials. None for less than 0.4 s of sound.",
        source: "ITU-R BS.1770-4",
    },
    Measure {
        id: "loudness_spread_lu",
        name: "loudness over clips",
        unit: Unit::Db,
        better: Better::Lower,
        tasks: &[Task::Speak],
        fact: &LOUDNESS,
        estimator: Estimator::Scatter(|row| row[0]),
        asked: false,
        matters: Matters::Amount(0.5),
        rare: false,
        says: ["is more evenly loud than", "is less evenly loud than"],
        about: "standard deviation of the loudness from clip to clip",
        explained: "The standard deviation of the integrated loudness over the clips of a voice, in LU. Above two \
                    listeners reach for the volume.",
        source: "ITU-R BS.1770-4",
    },
    Measure {
        id: "true_peak_dbtp",
        name: "true peak, p95",
        unit: Unit::Dbtp,
        better: Better::Lower,
        tasks: &[Task::Speak],
        fact: &TRUE_PEAK,
        estimator: Estimator::Quantile(0.95, |row| row[0]),
        asked: false,
        matters: Matters::Amount(0.5),
        rare: false,
        says: ["peaks lower than", "peaks higher than"],
        about: "95th percentile of the highest level between the samples",
        explained: "The highest level of each answer between its samples, 95th percentile over trials. Above 0 \
                    dBTP playback can distort.",
        source: "ITU-R BS.1770-4, annex 2",
    },
    Measure {
        id: "spectral_tilt",
        name: "spectral tilt, median",
        unit: Unit::DbPerOctave,
        better: Better::Neither,
        tasks: &[Task::Speak],
        fact: &SPECTRUM,
        estimator: Estimator::Median(|row| row[0], Pairs::Differences),
        asked: false,
        matters: Matters::Amount(0.5),
        rare: false,
        says: ["sounds duller than", "sounds brighter than"],
        about: "slope of the long-term spectrum from 250 Hz to 4 kHz",
        explained: "The slope of the long-term average spectrum over the third octaves from 250 Hz to 4 kHz in \
                    decibels an octave, median over trials.",
        source: "Löfqvist and Mandersson, Long-time average spectrum of speech and voice analysis, 1987",
    },
    Measure {
        id: "band_limit_hz",
        name: "band limit, median",
        unit: Unit::Hz,
        better: Better::Higher,
        tasks: &[Task::Speak],
        fact: &SPECTRUM,
        estimator: Estimator::Median(|row| row[1], Pairs::Ratios),
        asked: false,
        matters: Matters::Share(0.05),
        rare: false,
        says: ["has a lower band limit than", "has a higher band limit than"],
        about: "upper limit of the long-term spectrum",
        explained: "The frequency above which the long-term average spectrum lies 75 dB below its strongest part, \
                    median over trials. A value far below half the sample rate shows audio that was upsampled \
                    from a lower rate.",
        source: "",
    },
];

/// Pitch of an answer: median in hertz, range in semitones, movement in semitones a second.
static PITCH: Fact = Fact {
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
static SYLLABLES: Fact = Fact {
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
static PAUSES: Fact = Fact {
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
static LOUDNESS: Fact = Fact {
    id: "loudness",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.speech.and_then(|speech| speech.loudness_lufs)),
};

/// True peak in dBTP.
static TRUE_PEAK: Fact = Fact {
    id: "true_peak",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.speech.and_then(|speech| speech.true_peak_dbtp)),
};

/// Tilt and limit of the long-term spectrum.
static SPECTRUM: Fact = Fact {
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

/// How far the level moves, in decibels.
static LEVEL_MOVEMENT: Fact = Fact {
    id: "level_movement",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.speech.and_then(|speech| speech.level_movement_db)),
};

/// Pauses inside phrases and pauses at punctuation; signs of punctuation between words.
static PHRASING: Fact = Fact {
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
