//! `fonex turns`: hear, reply, speak as one turn of a conversation, and where its time goes.

use std::collections::HashMap;

use fonex_core::audio::measure;
use fonex_core::latency::{LiveWhat, Turn, TurnReport, play, sound_pieces};
use fonex_core::{Clip, Heard, Outcome};
use fonex_engines::{Answer, Delivery, Engine, EngineConfig, Form, HearRequest, Pace, SpeakRequest, StopFlag};
use fonex_formats::{Place, Problem, audio_path};
use fonex_report::charts::{TurnBar, turns_svg};
use serde::Serialize;

use super::with_engine;
use crate::bench::{Bench, read_bench};
use crate::cli::{Format, Turns};
use crate::execute::{Sound, stop_on_interrupt};
use crate::failure::{Code, Failure};
use crate::output::{self, Table, milliseconds, percent, plural};

/// The turns of a conversation, for programs.
#[derive(Serialize)]
struct Conversation {
    hear: String,
    reply: String,
    speak: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    summary: Option<TurnReport>,
    turns: Vec<Turn>,
    /// Clips whose turn broke off: where, and how.
    broken_off: Vec<BrokenOff>,
}

#[derive(Serialize)]
struct BrokenOff {
    clip: String,
    link: &'static str,
    outcome: Outcome,
    #[serde(skip_serializing_if = "Option::is_none")]
    detail: Option<String>,
}

pub fn turns(options: &Turns) -> Result<Code, Failure> {
    let bench = read_bench(&options.bench.bench, &options.overrides)?;
    let [hear, reply, speak] = [&options.hear, &options.reply, &options.speak].map(|name| bench.engine(name));
    let (hear, reply, speak) = (hear?, reply?, speak?);
    let corpus = bench.read_corpus(None)?;
    let chosen: Vec<&Clip> = corpus
        .clips
        .iter()
        .filter(|clip| if options.clips.is_empty() { clip.audio.is_some() } else { options.clips.contains(&clip.id) })
        .take(options.most)
        .collect();
    if let Some(missing) = options.clips.iter().find(|id| corpus.clip(id).is_none()) {
        return Err(Problem::new(format!("there is no clip \"{missing}\""), Place::file(&corpus.path)).into());
    }
    let stop = stop_on_interrupt();
    let labels: HashMap<String, Clip> = corpus.clips.iter().map(|clip| (clip.id.clone(), clip.clone())).collect();
    let (mut turns, mut broken_off) = (Vec::new(), Vec::new());
    with_three(&bench, [hear, reply, speak], labels, |engines| {
        let chain = Chain { engines, configs: [hear, reply, speak], live: options.live, stop: &stop };
        for clip in chosen.iter().take_while(|_| !stop.is_set()) {
            let sound = audio_path(&corpus.folder, clip).map(|path| Sound::decode(&path, clip.side));
            match sound {
                Some(Ok(source)) => match chain.turn(clip, &source.audio) {
                    Ok(turn) => turns.push(turn),
                    Err(broken) => broken_off.push(broken),
                },
                Some(Err(why)) => output::caution(&format!("clip {} is left out: {why}", clip.id)),
                None => output::caution(&format!("clip {} has no audio", clip.id)),
            }
        }
    })?;
    let summary = TurnReport::of(&turns, bench.seed);
    if let Some(path) = &options.output {
        let bars = turns.iter().map(|turn| TurnBar {
            name: turn.clip.clone(),
            parts_ms: [turn.hear_ms, turn.reply_ms, turn.speak_first_ms],
            overlapped_ms: turn.overlapped_ms(),
        });
        let names = [&options.hear, &options.reply, &options.speak].map(Clone::clone);
        output::write_chart(
            path,
            &turns_svg("From the end of speech to the first sound of the reply", &names, &bars.collect::<Vec<_>>()),
        )?;
    }
    let failed = !broken_off.is_empty();
    let conversation = Conversation {
        hear: options.hear.clone(),
        reply: options.reply.clone(),
        speak: options.speak.clone(),
        summary,
        turns,
        broken_off,
    };
    match options.format.format {
        Format::Json => output::print_json(&conversation)?,
        Format::Table => output::print(&page(&conversation))?,
        form => output::print_table(&table(&conversation), form)?,
    }
    Ok(match (stop.is_set(), failed) {
        (true, _) => Code::Interrupted,
        (false, true) => Code::TrialsFailed,
        (false, false) => Code::Done,
    })
}

fn with_three(
    bench: &Bench,
    configs: [&EngineConfig; 3],
    labels: HashMap<String, Clip>,
    call: impl FnOnce([&dyn Engine; 3]),
) -> Result<(), Problem> {
    let [hear, reply, speak] = configs;
    with_engine(hear, bench, labels, |hear| {
        with_engine(reply, bench, HashMap::new(), |reply| {
            with_engine(speak, bench, HashMap::new(), |speak| call([hear, reply, speak]))
        })
    })???;
    Ok(())
}

struct Chain<'c> {
    engines: [&'c dyn Engine; 3],
    configs: [&'c EngineConfig; 3],
    live: bool,
    stop: &'c StopFlag,
}

impl Chain<'_> {
    fn form(config: &EngineConfig) -> Form<'_> {
        Form {
            model: config.models.first().map_or("", String::as_str),
            voice: config.voices.0.first().map_or("", |voice| voice.id.as_str()),
            settings: &config.settings,
        }
    }

    fn turn(&self, clip: &Clip, audio: &fonex_core::audio::Audio) -> Result<Turn, BrokenOff> {
        let lang = clip.lang.as_deref();
        let request = HearRequest {
            clip_id: &clip.id,
            lang,
            audio,
            form: Self::form(self.configs[0]),
            stop: self.stop,
            live: None,
        };
        let delivery = if self.live { Delivery::Live(Pace::default()) } else { Delivery::Whole };
        let heard = delivery.hear(self.engines[0], &request);
        let hear_ms = hear_ms(&heard, clip, audio.duration_s());
        let (heard, _) = link(clip, "hear", heard)?;
        let ask =
            |text, config| SpeakRequest { clip_id: &clip.id, lang, text, form: Self::form(config), stop: self.stop };
        let reply = self.engines[1].reply(&ask(&heard.text, self.configs[1]));
        let reply_first = reply.measured.first_ms;
        let (reply, reply_ms) = link(clip, "reply", reply)?;
        let spoken = self.engines[2].speak(&ask(&reply, self.configs[2]));
        let arrivals: Vec<(f64, u32)> = spoken.measured.traffic.arrivals.iter().collect();
        let (sound, speak_ms) = link(clip, "speak", spoken)?;
        let leading_ms = measure(&sound).silence.leading_s * 1e3;
        let pieces = sound_pieces(arrivals.into_iter(), sound.duration_s());
        let first_ms =
            if pieces.len() > 1 { play(&pieces).map_or(speak_ms, |played| played.first_ms) } else { speak_ms };
        Ok(Turn {
            clip: clip.id.clone(),
            heard: heard.text,
            hear_ms,
            reply_first_ms: reply_first.unwrap_or(reply_ms),
            reply_ms,
            speak_first_ms: first_ms + leading_ms,
            speak_ms,
            reply,
        })
    }
}

/// From the end of speech to the words: live from the labelled end to the last final result, else what the request took.
fn hear_ms(answer: &Answer<Heard>, clip: &Clip, audio_s: f64) -> f64 {
    let speech_end_ms = clip.words.last().map_or(audio_s, |word| word.end) * 1e3;
    let log = answer.measured.traffic.live.as_ref();
    let last = log.and_then(|log| log.events.iter().rev().find(|event| event.what == LiveWhat::Final));
    match last {
        Some(event) => (event.at_ms - speech_end_ms).max(0.0),
        None => answer.measured.took_ms.unwrap_or_default(),
    }
}

/// What a link gave and how long it took, or how the turn broke off.
fn link<T>(clip: &Clip, link: &'static str, answer: Answer<T>) -> Result<(T, f64), BrokenOff> {
    match answer {
        Answer { outcome: Outcome::Done, value: Some(value), measured, .. } => {
            Ok((value, measured.took_ms.unwrap_or_default()))
        }
        Answer { outcome, detail, .. } => Err(BrokenOff { clip: clip.id.clone(), link, outcome, detail }),
    }
}

fn table(conversation: &Conversation) -> Table {
    let mut table = Table::new(["clip", ">hear", ">reply", ">speak", ">in all", ">overlapped", "reply"]);
    for turn in &conversation.turns {
        let reply: String = turn.reply.chars().take(40).collect();
        let times = [turn.hear_ms, turn.reply_ms, turn.speak_first_ms, turn.delay_ms(), turn.overlapped_ms()];
        let cells = std::iter::once(turn.clip.clone()).chain(times.map(milliseconds)).chain([reply]);
        table.row(cells);
    }
    table
}

fn page(conversation: &Conversation) -> String {
    let mut text = table(conversation).text();
    for broken in &conversation.broken_off {
        let why = broken.detail.as_ref().map_or_else(String::new, |detail| format!(": {detail}"));
        text += &format!("{} broke off at {}, {}{why}\n", broken.clip, broken.link, broken.outcome);
    }
    let Some(summary) = &conversation.summary else { return text };
    text += &format!(
        "\n{}: from the end of speech to the first sound {} in the median, p95 {}\n",
        plural(summary.turns, "turn"),
        milliseconds(summary.delay_ms.p50),
        milliseconds(summary.delay_ms.p95)
    );
    let name = match summary.improve_first {
        fonex_core::latency::Link::Hear => &conversation.hear,
        fonex_core::latency::Link::Reply => &conversation.reply,
        fonex_core::latency::Link::Speak => &conversation.speak,
    };
    text += &format!("{name} takes {} of it: improve it first\n", percent(Some(summary.its_share)));
    text += &format!(
        "speaking the first sentence as soon as it is there would save {}\n",
        milliseconds(summary.overlap_saves_ms)
    );
    if let Some(ms) = summary.ms_per_reply_word {
        text += &format!("each word of the reply adds {ms:.0} ms\n");
    }
    text
}
