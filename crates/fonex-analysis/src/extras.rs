//! What is known of a variant beside its measures: warm-up, requests, growth with length, an example of what failed.

use std::collections::BTreeSet;

use fonex_core::cost::Usage;
use fonex_core::latency::{Percentiles, Request};
use fonex_core::stats::{Interval, line_through, median, quantile};
use fonex_core::{Outcome, Task};
use fonex_store::TrialRecord;
use serde::{Deserialize, Serialize};

/// What is known of a variant beside its measures.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default)]
pub struct Extras {
    /// Timed trials that have an outcome.
    pub trials: u64,
    /// Warm-up trials, which no figure counts.
    pub warm_up: u64,
    /// Trials by outcome.
    pub outcomes: Vec<OutcomeCount>,
    /// The first trial without an answer that says why.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub example: Option<FailedTrial>,
    /// Clips in a language that the voice does not list; none where its languages are not known.
    pub other_language: u64,
    /// Trials with words that begin after the end of their audio, and the first such clip; omitted if there are none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub beyond_audio: Option<BeyondAudio>,
    /// Trials whose texts were too long and too unlike to be aligned as a whole: their errors are an upper bound.
    pub in_pieces: u64,
    /// What was used of the engine, warm-up included: that is charged as well.
    pub used: Usage,
    /// Seconds of audio heard or spoken.
    pub audio_s: f64,
    /// What the requests took, where there were any.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub requests: Option<RequestSummary>,
    /// How the latency grows with the length of the audio or the text.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub growth: Option<Growth>,
    /// The median latency of the warm-up trials in milliseconds, to hold against the latency.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cold_ms: Option<f64>,
    /// The longest start of a program that stays, in milliseconds; no trial counts it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub start_up_ms: Option<f64>,
    /// The form in which the engine was given audio.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub given: Option<String>,
    /// How audio kept its pace, live.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pacing: Option<LivePacing>,
}

/// How often trials ended in one way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct OutcomeCount {
    /// The way.
    pub outcome: Outcome,
    /// How often.
    pub trials: u64,
}

/// Words that begin after the end of the audio. Usually their times are not in seconds.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct BeyondAudio {
    /// Trials with such words.
    pub trials: u64,
    /// The clip of the first.
    pub clip: String,
    /// Where its last word begins, as the engine says, taken for seconds.
    pub last_s: f64,
    /// Seconds of its audio.
    pub audio_s: f64,
}

/// Seconds after the end of the audio at which a word may still begin: engines round times and pad audio.
const PAST_END_S: f64 = 0.5;

/// A trial without an answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct FailedTrial {
    /// Its clip.
    pub clip: String,
    /// Why it has no answer.
    pub why: String,
}

/// How frames of live audio kept their times.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct LivePacing {
    /// How late frames were at the 99th percentile of the worst trial, in milliseconds.
    pub worst_p99_ms: f64,
    /// Trials that this machine could not deliver in time; their figures are not the engine's alone.
    pub behind: u64,
}

/// Figures over the requests of a variant.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct RequestSummary {
    /// Requests in all, those of failed trials and failed attempts included.
    pub requests: u64,
    /// Requests that repeated an earlier attempt.
    pub repeated: u64,
    /// Share of requests that opened a connection.
    pub opened: f64,
    /// Opening a connection, in milliseconds, where one was opened.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub opening_ms: Option<Percentiles>,
    /// From the whole request being sent to the first byte, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_byte_ms: Option<Percentiles>,
    /// From the first to the last byte.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub receiving_ms: Option<Percentiles>,
    /// What the service says it worked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub service_ms: Option<Percentiles>,
    /// What the network and the waiting before the service took.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub network_ms: Option<Percentiles>,
}

/// How the latency grows with the length of the input: the line through its trials at a short, a middle and a long one.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Growth {
    /// What the length is counted in.
    pub unit: LengthUnit,
    /// Milliseconds for each unit.
    pub slope: f64,
    /// Its 95 % interval.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slope_interval: Option<Interval>,
    /// The lengths at which one trial in ten is shorter, half are, and one in ten is longer.
    pub lengths: [f64; 3],
    /// The latency there in milliseconds, on the line.
    pub latency_ms: [f64; 3],
    /// Trials it stands on.
    pub trials: u64,
}

/// What a length is counted in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum LengthUnit {
    /// Seconds of audio heard.
    AudioSeconds,
    /// Characters of text.
    Characters,
}

impl LengthUnit {
    /// Its name for one of them.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::AudioSeconds => "second of audio",
            Self::Characters => "character",
        }
    }
}

/// What a trial that is not of hearing was asked.
#[derive(Debug, Clone, Copy)]
pub(crate) struct AskedText {
    /// The place of its clip.
    pub(crate) place: u32,
    /// Characters of the text.
    pub(crate) characters: u32,
    /// The voice does not list its language.
    pub(crate) other_language: bool,
}

/// Gathers [`Extras`] trial by trial.
pub(crate) struct ExtrasBuilder {
    task: Task,
    extras: Extras,
    /// Places of the clips in a language that the voice does not list.
    other_language: BTreeSet<u32>,
    cold_ms: Vec<f64>,
    /// Length and latency.
    lengths: Vec<(f64, f64)>,
    requests: Requests,
}

#[derive(Default)]
struct Requests {
    all: u64,
    repeated: u64,
    opened: u64,
    /// Opening, first byte, receiving, service, network.
    times: [Vec<f64>; 5],
}

/// Points that the growth is taken from; of more trials an evenly spaced part.
const MOST_POINTS: usize = 20_000;

impl ExtrasBuilder {
    pub(crate) fn new(task: Task) -> Self {
        Self {
            task,
            extras: Extras::default(),
            other_language: BTreeSet::new(),
            cold_ms: Vec::new(),
            lengths: Vec::new(),
            requests: Requests::default(),
        }
    }

    pub(crate) fn add_in_pieces(&mut self, in_pieces: bool) {
        self.extras.in_pieces += u64::from(in_pieces);
    }

    pub(crate) fn add(&mut self, trial: &TrialRecord, asked: Option<AskedText>) {
        let extras = &mut self.extras;
        let answered = trial.outcome.is_answer();
        if let Some(used) = trial.used {
            extras.used = extras.used.plus(used);
        }
        let start_up = trial.traffic.start_up_ms.into_iter().chain(extras.start_up_ms);
        extras.start_up_ms = start_up.max_by(f64::total_cmp);
        if trial.key.warm_up {
            extras.warm_up += 1;
            self.cold_ms.extend(trial.took_ms.filter(|_| answered));
            return;
        }
        extras.trials += 1;
        match extras.outcomes.iter_mut().find(|count| count.outcome == trial.outcome) {
            Some(count) => count.trials += 1,
            None => extras.outcomes.push(OutcomeCount { outcome: trial.outcome, trials: 1 }),
        }
        if let (None, false, Some(why)) = (&extras.example, answered, &trial.detail) {
            extras.example = Some(FailedTrial { clip: trial.key.clip_id.clone(), why: why.clone() });
        }
        if extras.given.is_none() {
            extras.given = trial.prepared.as_ref().and_then(|form| Some(form.rsplit_once(" to ")?.1.to_owned()));
        }
        extras.audio_s += trial.audio_s.filter(|_| answered).unwrap_or_default();
        if let Some((heard, audio_s)) = trial.heard.as_ref().zip(trial.audio_s) {
            let last_s = heard.words.iter().filter_map(|word| word.start).fold(f64::MIN, f64::max);
            if last_s > audio_s + PAST_END_S {
                let clip = trial.key.clip_id.clone();
                let first = BeyondAudio { trials: 0, clip, last_s, audio_s };
                extras.beyond_audio.get_or_insert(first).trials += 1;
            }
        }
        let spoken = asked.filter(|asked| self.task == Task::Speak && asked.other_language);
        self.other_language.extend(spoken.map(|asked| asked.place));
        if let Some(log) = &trial.traffic.live {
            let before = extras.pacing.unwrap_or(LivePacing { worst_p99_ms: 0.0, behind: 0 });
            extras.pacing = Some(LivePacing {
                worst_p99_ms: before.worst_p99_ms.max(log.pacing.late_p99_ms),
                behind: before.behind + u64::from(log.pacing.fell_behind()),
            });
        }
        // Live, the latency is that of speaking.
        let counts = answered && trial.traffic.live.is_none() && self.lengths.len() < MOST_POINTS;
        if let Some(took_ms) = trial.took_ms.filter(|_| counts) {
            let length = match self.task {
                Task::Hear => trial.audio_s,
                Task::Speak | Task::Reply => asked.map(|asked| f64::from(asked.characters)),
            };
            self.lengths.extend(length.map(|length| (length, took_ms)));
        }
        trial.traffic.requests.iter().for_each(|request| self.requests.add(request));
    }

    pub(crate) fn finish(mut self, seed: u64) -> Extras {
        self.extras.outcomes.sort_by_key(|count| count.outcome);
        self.extras.cold_ms = median(&self.cold_ms);
        self.extras.requests = self.requests.finish();
        self.extras.other_language = self.other_language.len() as u64;
        self.extras.growth = self.growth(seed);
        self.extras
    }

    fn growth(&self, seed: u64) -> Option<Growth> {
        let points = &self.lengths;
        let unit = if self.task == Task::Hear { LengthUnit::AudioSeconds } else { LengthUnit::Characters };
        let distinct: BTreeSet<u64> = points.iter().map(|(length, _)| length.to_bits()).collect();
        // Three lengths make no trend.
        let line = line_through(points, seed).filter(|_| distinct.len() > 4)?;
        let lengths: Vec<f64> = points.iter().map(|point| point.0).collect();
        let at = [quantile(&lengths, 0.1)?, quantile(&lengths, 0.5)?, quantile(&lengths, 0.9)?];
        Some(Growth {
            unit,
            slope: line.slope,
            slope_interval: line.slope_interval,
            lengths: at,
            latency_ms: at.map(|length| (line.at_zero + line.slope * length).max(0.0)),
            trials: line.points,
        })
    }
}

impl Requests {
    fn add(&mut self, request: &Request) {
        self.all += 1;
        self.repeated += u64::from(request.attempt > 1);
        self.opened += u64::from(request.reused == Some(false));
        if !request.outcome.is_answer() || request.purpose == "delete" {
            return;
        }
        let opening = [request.lookup_ms, request.connect_ms, request.tls_ms];
        let opening = opening.iter().any(Option::is_some).then(|| opening.into_iter().flatten().sum());
        // A live service speaks before everything is sent: then there is no such wait.
        let first_byte = request.first_byte_ms.zip(request.sent_ms).map(|(first, sent)| first - sent);
        let receiving = request.last_byte_ms.zip(request.first_byte_ms).map(|(last, first)| (last - first).max(0.0));
        let times =
            [opening, first_byte.filter(|ms| *ms >= 0.0), receiving, request.service_ms(), request.network_ms()];
        self.times.iter_mut().zip(times).for_each(|(all, own)| all.extend(own));
    }

    fn finish(&self) -> Option<RequestSummary> {
        let [opening_ms, first_byte_ms, receiving_ms, service_ms, network_ms] =
            self.times.each_ref().map(|times| Percentiles::of(times));
        (self.all > 0).then(|| RequestSummary {
            requests: self.all,
            repeated: self.repeated,
            opened: self.opened as f64 / self.all as f64,
            opening_ms,
            first_byte_ms,
            receiving_ms,
            service_ms,
            network_ms,
        })
    }
}
