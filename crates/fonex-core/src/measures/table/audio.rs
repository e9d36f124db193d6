//! The sound of an answer: pace, level, silence, clipping.

use super::{share_of, yes};
use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Pairs, Trials, Unit};

pub(super) static ALL: &[Measure] = &[
    Measure {
        id: "pace",
        name: "pace, median",
        unit: Unit::WordsPerMinute,
        better: Better::Neither,
        tasks: &[Task::Speak],
        fact: &PACE,
        estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
        asked: false,
        matters: Matters::Share(0.05),
        rare: false,
        says: ["speaks slower than", "speaks faster than"],
        about: "words of the text per minute of sound, without silence at the ends",
        explained: "The words of the text over the length of the sound without the silence at its ends, median \
                    over trials.",
        source: "",
    },
    Measure {
        id: "pace_speaking",
        name: "pace without pauses, median",
        unit: Unit::WordsPerMinute,
        better: Better::Neither,
        tasks: &[Task::Speak],
        fact: &SPEAKING_PACE,
        estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
        asked: false,
        matters: Matters::Share(0.05),
        rare: false,
        says: ["speaks its words slower than", "speaks its words faster than"],
        about: "words of the text per minute of speaking, without pauses",
        explained: "The words of the text over the time of speaking, without pauses of a quarter of a second and \
                    more and without silence at the ends; median over trials.",
        source: "",
    },
    Measure {
        id: "level_dbfs",
        name: "level, median",
        unit: Unit::Dbfs,
        better: Better::Neither,
        tasks: &[Task::Speak],
        fact: &LEVEL_DBFS,
        estimator: Estimator::Median(|row| row[0], Pairs::Differences),
        asked: false,
        matters: Matters::Amount(0.5),
        rare: false,
        says: ["is quieter than", "is louder than"],
        about: "root mean square level of the sound spoken",
        explained: "The root mean square level of the sound relative to full scale, median over trials.",
        source: "",
    },
    Measure {
        id: "peak_dbfs",
        name: "peak, median",
        unit: Unit::Dbfs,
        better: Better::Neither,
        tasks: &[Task::Speak],
        fact: &PEAK_DBFS,
        estimator: Estimator::Median(|row| row[0], Pairs::Differences),
        asked: false,
        matters: Matters::Amount(0.5),
        rare: false,
        says: ["peaks lower than", "peaks higher than"],
        about: "highest sample of the sound spoken",
        explained: "The highest sample of the sound relative to full scale, median over trials. 0 dBFS leaves no \
                    headroom.",
        source: "",
    },
    Measure {
        id: "leading_silence_s",
        name: "leading silence, median",
        unit: Unit::S,
        better: Better::Lower,
        tasks: &[Task::Speak],
        fact: &LEADING_SILENCE_S,
        estimator: Estimator::Quantile(0.5, |row| row[0]),
        asked: false,
        matters: Matters::Share(0.05),
        rare: false,
        says: ["begins with less silence than", "begins with more silence than"],
        about: "silence before the first sound",
        explained: "The silence before the first sound of an answer, median over trials. A listener waits for it.",
        source: "",
    },
    Measure {
        id: "trailing_silence_s",
        name: "trailing silence, median",
        unit: Unit::S,
        better: Better::Neither,
        tasks: &[Task::Speak],
        fact: &TRAILING_SILENCE_S,
        estimator: Estimator::Quantile(0.5, |row| row[0]),
        asked: false,
        matters: Matters::Share(0.05),
        rare: false,
        says: ["ends with less silence than", "ends with more silence than"],
        about: "silence after the last sound",
        explained: "The silence after the last sound of an answer, median over trials.",
        source: "",
    },
    Measure {
        id: "noise_floor_dbfs",
        name: "noise floor, median",
        unit: Unit::Dbfs,
        better: Better::Lower,
        tasks: &[Task::Speak],
        fact: &NOISE_FLOOR,
        estimator: Estimator::Median(|row| row[0], Pairs::Differences),
        asked: false,
        matters: Matters::Amount(0.5),
        rare: false,
        says: ["is quieter in its silences than", "is noisier in its silences than"],
        about: "level of the quietest tenth of frames; answers that are digitally silent there are left out",
        explained: "The level of the quietest tenth of the frames of an answer, median over trials. Answers whose \
                    quietest tenth is digital silence have none.",
        source: "",
    },
    Measure {
        id: "dc_offset",
        name: "DC offset, median",
        unit: Unit::Ratio,
        better: Better::Lower,
        tasks: &[Task::Speak],
        fact: &DC,
        estimator: Estimator::Quantile(0.5, |row| row[0]),
        asked: false,
        matters: Matters::Amount(0.001),
        rare: false,
        says: ["has less DC offset than", "has more DC offset than"],
        about: "absolute mean of all samples; full scale is 1",
        explained: "The absolute mean of all samples of an answer, where full scale is 1; median over trials.",
        source: "",
    },
    Measure {
        id: "clipped_share",
        name: "clipped samples, mean",
        unit: Unit::Share,
        better: Better::Lower,
        tasks: &[Task::Speak],
        fact: &CLIPPED_SHARE,
        estimator: Estimator::Ratio { part: |row| row[0], whole: |_| 1.0, bounds: (0.0, 0.1), most: 1.0 },
        asked: false,
        matters: Matters::Amount(0.000_1),
        rare: false,
        says: ["clips fewer samples than", "clips more samples than"],
        about: "share of the samples in clipped stretches",
        explained: "The share of an answer's samples that lie in clipped stretches, mean over trials.",
        source: "",
    },
    Measure {
        id: "clipped_clips",
        name: "clips with clipping",
        unit: Unit::Share,
        better: Better::Lower,
        tasks: &[Task::Speak],
        fact: &CLIPPED,
        estimator: share_of(|row| yes(row[0] > 0.0)),
        asked: true,
        matters: Matters::Amount(0.01),
        rare: true,
        says: ["clips less often than", "clips more often than"],
        about: "answers with clipped stretches, over all answers",
        explained: "The share of the answers with at least one stretch of clipped samples.",
        source: "",
    },
];

/// The share of clipped samples.
static CLIPPED: Fact = Fact {
    id: "clipped",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.spoken.map(|spoken| spoken.clipped_share)),
};

/// A number of the sound spoken.
static CLIPPED_SHARE: Fact = Fact {
    id: "clipped_share",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.spoken.map(|spoken| spoken.clipped_share)),
};

/// Absolute mean of the samples.
static DC: Fact = Fact {
    id: "dc",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.spoken.map(|spoken| spoken.dc_offset.abs())),
};

/// A number of the sound spoken.
static LEADING_SILENCE_S: Fact = Fact {
    id: "leading_silence_s",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.spoken.map(|spoken| spoken.silence.leading_s)),
};

/// A number of the sound spoken.
static LEVEL_DBFS: Fact = Fact {
    id: "level_dbfs",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.spoken.and_then(|spoken| spoken.level_dbfs)),
};

/// Level of the quietest tenth of frames.
static NOISE_FLOOR: Fact = Fact {
    id: "noise_floor",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        row.extend(trial.spoken.and_then(|spoken| spoken.noise_floor_dbfs).filter(|level| *level > SILENCE_DBFS));
    },
};

/// Words a minute.
static PACE: Fact = Fact {
    id: "pace",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        if let Some(spoken) = trial.spoken {
            let speaking_s = spoken.duration_s - spoken.silence.leading_s - spoken.silence.trailing_s;
            row.extend((speaking_s > 0.0).then(|| trial.words_to_speak() as f64 * 60.0 / speaking_s));
        }
    },
};

/// Words a minute of speaking.
static SPEAKING_PACE: Fact = Fact {
    id: "speaking_pace",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| {
        let speaking_s = trial.speech.map(|speech| speech.speaking_s).filter(|seconds| *seconds > 0.0);
        row.extend(speaking_s.map(|seconds| trial.words_to_speak() as f64 * 60.0 / seconds));
    },
};

/// A number of the sound spoken.
static PEAK_DBFS: Fact = Fact {
    id: "peak_dbfs",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.spoken.and_then(|spoken| spoken.peak_dbfs)),
};

/// A number of the sound spoken.
static TRAILING_SILENCE_S: Fact = Fact {
    id: "trailing_silence_s",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.spoken.map(|spoken| spoken.silence.trailing_s)),
};

/// Below the last bit of 16: nothing is there to be noisy.
const SILENCE_DBFS: f64 = -100.0;
