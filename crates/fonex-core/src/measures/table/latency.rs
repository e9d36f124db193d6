//! How long an answer takes, and what it takes of the machine.

use super::playback;
use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Pairs, Trial, Trials, Unit};

const LATENCY: Measure = Measure {
    id: "latency_p50",
    name: "latency, median",
    unit: Unit::Ms,
    better: Better::Lower,
    tasks: &[Task::Hear, Task::Speak, Task::Reply],
    fact: &TOOK,
    estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
    asked: true,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["answers sooner than", "answers later than"],
    about: "wall time of the answered calls, median over trials",
    explained: "The wall time of a call, from handing over the input to the whole answer, at the median of the \
                answered trials. Warm-up trials do not count. Live, it includes the time the audio plays. Two \
                variants are compared by the ratios clip by clip, and their geometric means are shown.",
    source: "Hyndman and Fan 1996; Woodruff 1952",
};

const FIRST_AUDIBLE_TIME: Measure = Measure {
    id: "first_audible_p50",
    name: "first audible sound, median",
    unit: Unit::Ms,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &FIRST_AUDIBLE,
    estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
    asked: false,
    matters: Matters::Share(0.05),
    rare: false,
    says: ["is audible sooner than", "is audible later than"],
    about: "time until the first sound above silence would be heard",
    explained: "The median time until a listener hears something: the sound is played as it comes, and silence \
                before the first sound counts.",
    source: "",
};

pub(super) static ALL: &[Measure] = &[
    LATENCY,
    Measure {
        id: "latency_p95",
        name: "latency, p95",
        estimator: Estimator::Quantile(0.95, |row| row[0]),
        asked: false,
        about: "wall time of the answered calls, p95",
        explained: "The wall time of a call, from handing over the input to the whole answer, at the 95th \
                    percentile of the answered trials. Warm-up trials do not count. Live, it includes the time \
                    the audio plays.",
        ..LATENCY
    },
    Measure {
        id: "latency_p99",
        name: "latency, p99",
        estimator: Estimator::Quantile(0.99, |row| row[0]),
        asked: false,
        about: "wall time of the answered calls, p99",
        explained: "The wall time of a call, from handing over the input to the whole answer, at the 99th \
                    percentile of the answered trials. Warm-up trials do not count. Live, it includes the time \
                    the audio plays.",
        ..LATENCY
    },
    Measure {
        id: "first_piece_p50",
        name: "first piece, median",
        unit: Unit::Ms,
        better: Better::Lower,
        tasks: &[Task::Hear, Task::Speak, Task::Reply],
        fact: &FIRST,
        estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
        asked: false,
        matters: Matters::Share(0.05),
        rare: false,
        says: ["gives a first piece sooner than", "gives a first piece later than"],
        about: "time to the first text or sound of answers that came in pieces",
        explained: "The median time until the first text or sound arrived, over the answers that came in pieces.",
        source: "",
    },
    FIRST_AUDIBLE_TIME,
    Measure {
        id: "first_audible_p95",
        name: "first audible sound, p95",
        estimator: Estimator::Quantile(0.95, |row| row[0]),
        says: ["is audible sooner (p95) than", "is audible later (p95) than"],
        about: "time until the first sound above silence would be heard, 95th percentile",
        explained: "One answer in twenty takes longer than this until a listener hears something.",
        ..FIRST_AUDIBLE_TIME
    },
    Measure {
        id: "rtf",
        name: "RTF, median",
        unit: Unit::Ratio,
        better: Better::Lower,
        tasks: &[Task::Hear, Task::Speak],
        fact: &RTF,
        estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
        asked: false,
        matters: Matters::Share(0.05),
        rare: false,
        says: ["has a lower RTF than", "has a higher RTF than"],
        about: "wall time per second of audio heard or spoken",
        explained: "Real-time factor: the wall time of a call over the length of its audio, median over trials. \
                    Below 1 an engine is faster than the audio plays.",
        source: "",
    },
    Measure {
        id: "cpu_per_audio_s",
        name: "CPU per second of audio, median",
        unit: Unit::Ratio,
        better: Better::Lower,
        tasks: &[Task::Hear, Task::Speak],
        fact: &CPU,
        estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
        asked: false,
        matters: Matters::Share(0.05),
        rare: false,
        says: ["uses less processor time than", "uses more processor time than"],
        about: "processor seconds of the engine for each second of audio",
        explained: "Processor time of the engine's process over the length of the audio, median over trials, \
                    where the engine is a program that Fonex started.",
        source: "",
    },
    Measure {
        id: "peak_memory_kib",
        name: "peak memory, median",
        unit: Unit::Kib,
        better: Better::Lower,
        tasks: &[Task::Hear, Task::Speak, Task::Reply],
        fact: &MEMORY,
        estimator: Estimator::Median(|row| row[0], Pairs::Ratios),
        asked: false,
        matters: Matters::Share(0.05),
        rare: false,
        says: ["needs less memory than", "needs more memory than"],
        about: "largest resident memory of the engine in a trial",
        explained: "The largest resident memory of the engine's process during a trial, median over trials, where \
                    the engine is a program that Fonex started.",
        source: "",
    },
];

/// Processor seconds for each second of audio.
static CPU: Fact = Fact {
    id: "cpu",
    version: 0,
    width: 1,
    timed: true,
    of: Trials::Answered,
    observe: |trial, row| row.extend(per_audio_second(trial, trial.cpu_s)),
};

/// Milliseconds until the first piece.
static FIRST: Fact = Fact {
    id: "first_piece",
    version: 0,
    width: 1,
    timed: true,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.first_ms),
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

/// Milliseconds until the first sound above silence is heard, had it been played as it came.
static FIRST_AUDIBLE: Fact = Fact {
    id: "first_audible",
    version: 0,
    width: 1,
    timed: true,
    of: Trials::Answered,
    observe: |trial, row| row.extend(first_audible_ms(trial)),
};

/// Peak memory of the engine in KiB.
static MEMORY: Fact = Fact {
    id: "peak_memory",
    version: 0,
    width: 1,
    timed: false,
    of: Trials::Answered,
    observe: |trial, row| row.extend(trial.peak_memory_kib.map(|kib| kib as f64)),
};

/// Wall time for each second of audio.
static RTF: Fact = Fact {
    id: "rtf",
    version: 0,
    width: 1,
    timed: true,
    of: Trials::Answered,
    observe: |trial, row| row.extend(per_audio_second(trial, trial.took_ms.map(|ms| ms / 1e3))),
};

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

fn per_audio_second(trial: &Trial<'_>, seconds: Option<f64>) -> Option<f64> {
    let audio_s = trial.audio_s.filter(|audio_s| *audio_s > 0.0)?;
    Some(seconds? / audio_s)
}
