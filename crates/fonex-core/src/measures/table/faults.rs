//! Faults of the sound, and what was asked of it and not done.

use super::{share_of, yes};
use crate::Task;
use crate::measures::{Better, Estimator, Fact, Matters, Measure, Trials, Unit};
use crate::speech::syllables_of;

const FAULT: Measure = Measure {
    id: "faulty_clips",
    name: "clips with audio faults",
    unit: Unit::Share,
    better: Better::Lower,
    tasks: &[Task::Speak],
    fact: &FAULTS,
    estimator: share_of(|row| yes(row.contains(&1.0))),
    asked: true,
    matters: Matters::Amount(0.01),
    rare: true,
    says: ["has fewer faulty answers than", "has more faulty answers than"],
    about: "answers with a click, dropout, hum, cut, repeat, long pause, no speech, silence or another sample \
            rate or container than asked, over all answers",
    explained: "The share of the answers in which at least one fault of the audio was found; the measures of each \
                kind say which. Clipping is counted apart.",
    source: "",
};

pub(super) static ALL: &[Measure] = &[
    FAULT,
    Measure {
        id: "clips_with_clicks",
        name: "clips with clicks",
        estimator: share_of(|row| row[0]),
        asked: false,
        says: ["clicks less often than", "clicks more often than"],
        about: "answers with an isolated pulse, over all answers",
        explained: "The share of the answers with at least one pulse that is five times as high as everything \
                    within 20 ms, in the second difference of the samples.",
        source: "after Godsill and Rayner, Digital audio restoration, 1998",
        ..FAULT
    },
    Measure {
        id: "clips_with_dropouts",
        name: "clips with dropouts",
        estimator: share_of(|row| row[1]),
        asked: false,
        says: ["drops out less often than", "drops out more often than"],
        about: "answers with a gap that begins and ends abruptly, over all answers",
        explained: "The share of the answers with a gap of 4 ms to 0.5 s below -76 dBFS, whose edges are as loud \
                    as speech.",
        ..FAULT
    },
    Measure {
        id: "clips_with_hum",
        name: "clips with hum",
        estimator: share_of(|row| row[2]),
        asked: false,
        says: ["hums less often than", "hums more often than"],
        about: "answers with mains hum in their silences, over all answers",
        explained: "The share of the answers in whose silences at least two of the first four multiples of 50 or \
                    60 Hz rise 12 dB above their neighbourhood. Without a silence of 0.2 s none is found.",
        ..FAULT
    },
    Measure {
        id: "clips_cut_off",
        name: "clips cut off",
        estimator: share_of(|row| row[3]),
        asked: false,
        says: ["is cut off less often than", "is cut off more often than"],
        about: "answers that begin or end in the middle of a sound, over all answers",
        explained: "The share of the answers whose first or last hundredth of a second is within 12 dB of the \
                    level of the speech.",
        ..FAULT
    },
    Measure {
        id: "clips_with_repeats",
        name: "clips with repeated sound",
        estimator: share_of(|row| row[4]),
        asked: false,
        says: ["repeats sound less often than", "repeats sound more often than"],
        about: "answers in which a stretch of sound comes twice, over all answers",
        explained: "The share of the answers in which a stretch of half a second to three seconds comes twice in \
                    a row, sample by sample: a buffer that was played again.",
        ..FAULT
    },
    Measure {
        id: "clips_with_long_pauses",
        name: "clips with long pauses",
        estimator: share_of(|row| row[5]),
        asked: false,
        says: ["has fewer answers with a long pause than", "has more answers with a long pause than"],
        about: "answers with a pause of two seconds or more inside, over all answers",
        explained: "The share of the answers with a pause inside that no speaker makes: two seconds and longer.",
        ..FAULT
    },
    Measure {
        id: "clips_without_speech",
        name: "clips without speech",
        estimator: share_of(|row| row[6]),
        asked: false,
        says: ["has fewer answers without speech than", "has more answers without speech than"],
        about: "answers with sound but hardly any voiced speech, over all answers",
        explained: "The share of the answers with more than 0.3 s of sound of which less than 12 % is voiced.",
        ..FAULT
    },
    Measure {
        id: "silent_clips",
        name: "silent answers",
        estimator: share_of(|row| row[8]),
        asked: false,
        says: ["is silent less often than", "is silent more often than"],
        about: "answers that hold no sound above -80 dBFS, over all answers",
        explained: "The share of the answers whose level lies below -80 dBFS: sound was delivered, and nothing is \
                    in it.",
        ..FAULT
    },
    Measure {
        id: "clips_of_other_form",
        name: "clips of another form",
        estimator: share_of(|row| row[7]),
        asked: false,
        says: [
            "has another sample rate than asked less often than",
            "has another sample rate than asked more often than",
        ],
        about: "answers whose sample rate or container is not what the engine was asked for, over all answers",
        explained: "The share of the answers whose sample rate or container is not the audio_rate_hz or \
                    audio_container that the bench file gives the engine. Zero where it gives none.",
        ..FAULT
    },
    Measure {
        id: "off_length",
        name: "answers of another length than their text",
        unit: Unit::Share,
        better: Better::Lower,
        tasks: &[Task::Speak],
        fact: &LENGTH,
        estimator: Estimator::Ratio {
            part: |row| yes(row[1] >= LEAST_SYLLABLES && !(SHORTEST..=LONGEST).contains(&(row[0] / row[1]))),
            whole: |row| yes(row[1] >= LEAST_SYLLABLES),
            bounds: (0.0, 1.0),
            most: 1.0,
        },
        asked: false,
        matters: Matters::Amount(0.01),
        rare: true,
        says: ["leaves out or adds speech less often than", "leaves out or adds speech more often than"],
        about: "answers with under 0.55 or over 1.8 of the syllables of their text, over all of texts with ten \
                and more",
        explained: "The share of the answers in which fewer than 0.55 or more than 1.8 of the syllables of the \
                    text are counted: something was skipped, or the sound runs on after the text. Texts of fewer \
                    than ten syllables are left out. Numbers and abbreviations are counted as written, so that \
                    texts full of them may be called wrongly.",
        source: "",
    },
    Measure {
        id: "markup_followed",
        name: "markup followed",
        unit: Unit::Share,
        better: Better::Higher,
        tasks: &[Task::Speak],
        fact: &MARKUP,
        estimator: Estimator::Ratio { part: |row| row[0], whole: |row| row[1], bounds: (0.0, 1.0), most: 1.0 },
        asked: false,
        matters: Matters::Amount(0.01),
        rare: false,
        says: ["follows markup less often than", "follows markup more often than"],
        about: "requests of the markup that are done in the sound, over those that can be checked in it",
        explained: "The share of what the markup of the texts asks for that is found in the sound: breaks of 0.3 \
                    s and more; and, against the same text without markup by the same voice in the same run, a \
                    text marked as a whole that is faster or slower, higher or lower, louder or softer by at \
                    least 30 % of what is asked.",
        source: "Speech Synthesis Markup Language 1.1, W3C 2010",
    },
];

/// Whether there are clicks, dropouts, hum, a cut, a repeat, a long pause, no speech, another rate or container than asked, nothing at all.
static FAULTS: Fact = Fact {
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
static MARKUP: Fact = Fact {
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

/// Syllables counted in the sound, and those of the text as it is written.
static LENGTH: Fact = Fact {
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

/// Shorter texts say too little.
const LEAST_SYLLABLES: f64 = 10.0;

/// Syllables in the sound over those of the text; both are counted within a fifth.
const SHORTEST: f64 = 0.55;

const LONGEST: f64 = 1.8;
