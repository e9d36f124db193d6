//! `fonex turns`: hear, reply, speak as one turn of a conversation, and where its time goes.

mod chain;
mod interrupt;

use std::collections::HashMap;
use std::path::Path;

use fonex_core::audio::Audio;
use fonex_core::latency::{Interruption, InterruptionReport, Link, Turn, TurnReport};
use fonex_core::{Clip, Outcome};
use fonex_engines::{Engine, EngineConfig};
use fonex_formats::{Corpus, Place, Problem, audio_path, nearest};
use fonex_report::charts::{TurnBar, turns_svg};
use fonex_store::StudyKind;
use serde::{Deserialize, Serialize};

use self::chain::Chain;
use self::interrupt::interrupt;
use super::studies::{find_study, keep_study};
use super::with_engine;
use crate::bench::{Bench, existing_store, open_store, read_bench};
use crate::cli::{Format, Turns};
use crate::execute::{Sound, stop_on_interrupt};
use crate::failure::{Code, Failure};
use crate::output::{self, Table, milliseconds, percent, plural};

/// The turns of a conversation, for programs.
#[derive(Serialize, Deserialize)]
pub(super) struct Conversation {
    hear: String,
    reply: String,
    speak: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    summary: Option<TurnReport>,
    turns: Vec<Turn>,
    /// What became of interruptions, where replies were interrupted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    interrupted: Option<InterruptionReport>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    interruptions: Vec<Interruption>,
    /// Clips whose turn broke off: where, and how.
    broken_off: Vec<BrokenOff>,
}

#[derive(Serialize, Deserialize)]
struct BrokenOff {
    clip: String,
    link: String,
    outcome: Outcome,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    detail: Option<String>,
}

impl BrokenOff {
    fn at(clip: &Clip, link: &str, outcome: Outcome, detail: Option<String>) -> Self {
        Self { clip: clip.id.clone(), link: link.to_owned(), outcome, detail }
    }
}

pub fn turns(options: &Turns) -> Result<Code, Failure> {
    if let Some(typed) = &options.of {
        let store = existing_store(&options.bench.bench)?;
        print(&find_study(&store, StudyKind::Turns, typed)?.figures, options)?;
        return Ok(Code::Done);
    }
    let bench = read_bench(&options.bench.bench, &options.overrides)?;
    let [hear, reply, speak] = [&options.hear, &options.reply, &options.speak].map(|name| bench.engine(name));
    let (hear, reply, speak) = (hear?, reply?, speak?);
    let corpus = bench.read_corpus(None)?;
    let dialogues = dialogues(options, &bench, &corpus)?;
    let stop = stop_on_interrupt();
    let labels: HashMap<String, Clip> = corpus.clips.iter().map(|clip| (clip.id.clone(), clip.clone())).collect();
    let mut conversation = Conversation {
        hear: options.hear.clone(),
        reply: options.reply.clone(),
        speak: options.speak.clone(),
        summary: None,
        turns: Vec::new(),
        interrupted: None,
        interruptions: Vec::new(),
        broken_off: Vec::new(),
    };
    with_three(&bench, [hear, reply, speak], labels, |engines| {
        if options.interrupt_after.is_some() && !engines[0].takes_live() {
            let what = format!("{} cannot listen while somebody speaks", options.hear);
            return Err(Problem::new(what, Place::file(&bench.path))
                .expected("a recogniser that hears live, over a socket or as a worker with live = true"));
        }
        let chain = Chain { engines, configs: [hear, reply, speak], live: options.live, stop: &stop };
        for dialogue in dialogues.iter().take_while(|_| !stop.is_set()) {
            conversation.hold(&chain, dialogue, &corpus.folder, options.interrupt_after);
        }
        Ok(())
    })??;
    conversation.summary = TurnReport::of(&conversation.turns, bench.seed);
    conversation.interrupted = InterruptionReport::of(&conversation.interruptions);
    if !conversation.turns.is_empty() {
        let number = keep_study(&open_store(&options.bench.bench)?, StudyKind::Turns, &conversation)?;
        eprintln!("Kept as study {number}: fonex report RUN --turns {number} puts it on a page.");
    }
    print(&conversation, options)?;
    Ok(match (stop.is_set(), conversation.broken_off.is_empty()) {
        (true, _) => Code::Interrupted,
        (false, false) => Code::TrialsFailed,
        (false, true) => Code::Done,
    })
}

/// What is said, turn after turn. Clips that belong to no dialogue make one each.
struct Dialogue<'c> {
    name: Option<String>,
    clips: Vec<&'c Clip>,
    /// What is said into the last reply.
    then: &'c Clip,
}

fn dialogues<'c>(options: &Turns, bench: &Bench, corpus: &'c Corpus) -> Result<Vec<Dialogue<'c>>, Failure> {
    let find = |id: &String, place: &dyn Fn() -> Place| {
        let what = format!("there is no clip \"{id}\" in the corpus");
        corpus.clip(id).ok_or_else(|| match nearest(id, corpus.clips.iter().map(|clip| clip.id.as_str())) {
            Some(near) => Problem::new(what, place()).remedy(format!("write \"{near}\" if that is meant")),
            None => Problem::new(what, place()),
        })
    };
    let mut dialogues = Vec::new();
    for name in &options.dialogue {
        let place = || Place::file(&bench.path).field(format!("dialogue.{name}.turns"));
        let ids = bench.dialogue(name)?.iter().take(options.most);
        let clips: Vec<&Clip> = ids.map(|id| find(id, &place)).collect::<Result<_, Problem>>()?;
        dialogues.extend(clips.first().copied().map(|then| Dialogue { name: Some(name.clone()), clips, then }));
    }
    if !options.dialogue.is_empty() {
        return Ok(dialogues);
    }
    let place = || Place::file(&corpus.path);
    let mut chosen: Vec<&Clip> = options.clips.iter().map(|id| find(id, &place)).collect::<Result<_, Problem>>()?;
    if chosen.is_empty() {
        chosen = corpus.clips.iter().filter(|clip| clip.audio.is_some()).collect();
    }
    chosen.truncate(options.most);
    let alone = |at: usize| {
        let (clip, then) = (chosen[at], chosen[(at + 1) % chosen.len()]);
        Dialogue { name: None, clips: vec![clip], then }
    };
    Ok((0..chosen.len()).map(alone).collect())
}

fn sound_of(clip: &Clip, folder: &Path) -> Option<Audio> {
    let Some(path) = audio_path(folder, clip) else {
        output::caution(&format!("clip {} has no audio", clip.id));
        return None;
    };
    match Sound::decode(&path, clip.side) {
        Ok(source) => Some(source.audio),
        Err(why) => {
            output::caution(&format!("clip {} is left out: {why}", clip.id));
            None
        }
    }
}

impl Conversation {
    /// Takes the turns of a dialogue; one that breaks off ends it.
    fn hold(&mut self, chain: &Chain<'_>, dialogue: &Dialogue<'_>, folder: &Path, interrupt_after: Option<f64>) {
        let mut earlier: Vec<String> = Vec::new();
        for (at, clip) in dialogue.clips.iter().enumerate() {
            if chain.stop.is_set() {
                return;
            }
            let Some(said) = sound_of(clip, folder) else { continue };
            let mut taken = match chain.turn(clip, &said, &earlier) {
                Ok(taken) => taken,
                Err(broken) => return self.broken_off.push(broken),
            };
            taken.turn.dialogue.clone_from(&dialogue.name);
            taken.turn.position = at as u32 + 1;
            let next = dialogue.clips.get(at + 1).copied().unwrap_or(dialogue.then);
            if let Some((after_s, into)) =
                interrupt_after.and_then(|after_s| Some((after_s, sound_of(next, folder)?)))
            {
                match interrupt(chain, &taken, clip, (next, &into), after_s) {
                    Ok(Some(interruption)) => self.interruptions.push(interruption),
                    Ok(None) => output::caution(&format!(
                        "the reply to {} is over before {} could interrupt it",
                        clip.id, next.id
                    )),
                    Err(broken) => self.broken_off.push(broken),
                }
            }
            earlier.extend([taken.turn.heard.clone(), taken.turn.reply.clone()]);
            self.turns.push(taken.turn);
        }
    }

    pub(super) fn chart(&self) -> String {
        let name = |turn: &Turn| match &turn.dialogue {
            Some(dialogue) => format!("{dialogue} {}", turn.position),
            None => turn.clip.clone(),
        };
        let bars = self.turns.iter().map(|turn| TurnBar {
            name: name(turn),
            parts_ms: [turn.hear_ms, turn.reply_ms, turn.speak_first_ms],
            overlapped_ms: turn.overlapped_ms(),
        });
        let names = [&self.hear, &self.reply, &self.speak].map(Clone::clone);
        turns_svg("From the end of speech to the first sound of the reply", &names, &bars.collect::<Vec<_>>())
    }

    /// What the turns come to, in sentences.
    pub(super) fn in_words(&self) -> Vec<String> {
        let Some(summary) = &self.summary else { return Vec::new() };
        let mut lines = vec![format!(
            "{}: from the end of speech to the first sound {} in the median, p95 {}",
            plural(summary.turns, "turn"),
            milliseconds(summary.delay_ms.p50),
            milliseconds(summary.delay_ms.p95)
        )];
        let name = match summary.improve_first {
            Link::Hear => &self.hear,
            Link::Reply => &self.reply,
            Link::Speak => &self.speak,
        };
        lines.push(format!("{name} takes {} of it: improve it first", percent(Some(summary.its_share))));
        let saves = summary.overlap_saves_ms;
        let saves = if saves < 0.5 { "nothing".to_owned() } else { milliseconds(saves) };
        lines.push(format!("speaking the first sentence as soon as it is there would save {saves}"));
        lines.extend(summary.ms_per_reply_word.map(|ms| format!("each word of the reply adds {ms:.0} ms")));
        if let [first, .., last] = summary.positions.as_slice() {
            let growth = summary
                .ms_per_earlier_turn
                .map_or_else(String::new, |ms| format!("; {ms:+.0} ms for each turn before"));
            lines.push(format!(
                "{} takes {} at the first turn of a dialogue and {} at turn {}{growth}",
                self.reply,
                milliseconds(first.reply_ms),
                milliseconds(last.reply_ms),
                last.position
            ));
        }
        lines.extend(self.interrupted.as_ref().map(|report| interruptions_in_words(report, &self.hear)));
        lines
    }
}

fn interruptions_in_words(report: &InterruptionReport, hear: &str) -> String {
    let mut line = format!("{}: ", plural(report.interruptions, "interruption"));
    line += &report.noticed_ms.as_ref().map_or_else(
        || format!("{hear} noticed none in time"),
        |noticed| {
            format!(
                "{hear} shows words {} after somebody begins to speak in the median, p95 {}",
                milliseconds(noticed.p50),
                milliseconds(noticed.p95)
            )
        },
    );
    line += &format!("; both speak for {} in the median", milliseconds(report.both_spoke_ms.p50));
    if let Some(held) = report.held_ms.as_ref().filter(|held| held.p50 > 0.0) {
        line += &format!("; a player has to drop {} of sound", milliseconds(held.p50));
    }
    if report.missed > 0 {
        line += &format!("; {} not noticed before the reply was over", report.missed);
    }
    if report.too_early > 0 {
        line += &format!("; {} times words before anybody spoke", report.too_early);
    }
    line
}

fn print(conversation: &Conversation, options: &Turns) -> Result<(), Failure> {
    if let Some(path) = &options.output {
        output::write_chart(path, &conversation.chart())?;
    }
    match options.format.format {
        Format::Json => output::print_json(conversation)?,
        Format::Table => output::print(&page(conversation))?,
        form => output::print_table(&table(conversation), form)?,
    }
    Ok(())
}

fn with_three(
    bench: &Bench,
    configs: [&EngineConfig; 3],
    labels: HashMap<String, Clip>,
    call: impl FnOnce([&dyn Engine; 3]) -> Result<(), Problem>,
) -> Result<Result<(), Problem>, Problem> {
    let [hear, reply, speak] = configs;
    with_engine(hear, bench, labels, |hear| {
        with_engine(reply, bench, HashMap::new(), |reply| {
            with_engine(speak, bench, HashMap::new(), |speak| call([hear, reply, speak]))
        })
    })??
}

fn table(conversation: &Conversation) -> Table {
    let in_dialogues = conversation.turns.iter().any(|turn| turn.dialogue.is_some());
    let first: &[&str] = if in_dialogues { &["dialogue", ">turn"] } else { &[] };
    let columns = ["clip", ">hear", ">reply", ">speak", ">in all", ">overlapped", "reply"];
    let mut table = Table::new(first.iter().chain(&columns).copied());
    for turn in &conversation.turns {
        let reply: String = turn.reply.chars().take(40).collect();
        let times = [turn.hear_ms, turn.reply_ms, turn.speak_first_ms, turn.delay_ms(), turn.overlapped_ms()];
        let place = in_dialogues
            .then(|| [turn.dialogue.clone().unwrap_or_default(), turn.position.to_string()])
            .into_iter()
            .flatten();
        table.row(place.chain([turn.clip.clone()]).chain(times.map(milliseconds)).chain([reply]));
    }
    table
}

fn page(conversation: &Conversation) -> String {
    let mut text = table(conversation).text();
    for broken in &conversation.broken_off {
        let why = broken.detail.as_ref().map_or_else(String::new, |detail| format!(": {detail}"));
        text += &format!("{} broke off at {}, {}{why}\n", broken.clip, broken.link, broken.outcome);
    }
    text.push('\n');
    for line in conversation.in_words() {
        text += &line;
        text.push('\n');
    }
    text
}
