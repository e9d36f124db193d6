//! `fonex turns`: hear, reply, speak as one turn of a conversation, and where its time goes.

use std::path::PathBuf;

use clap::Args;
use fonex_core::Clip;
use fonex_core::latency::{InterruptionReport, Link, SpeechEnd, Turn};
use fonex_core::measures::Unit;
use fonex_formats::{Corpus, Place, Problem, nearest};
use fonex_report::charts::{TurnBar, turns_svg};
use fonex_run::{Bench, Conversation, Dialogue, Interrupt, TurnPlan, read_bench, take_turns};
use fonex_store::StudyKind;

use super::studies::{find_study, keep_study};
use crate::brief::Brief;
use crate::cli::{BenchArg, Format, FormatArg, seconds_above_zero};
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, milliseconds, percent, plural};

#[derive(Debug, Args)]
#[command(
    after_help = "Example, in the folder the demo made: fonex turns --bench services.toml --hear tern --reply quill --speak osier --limit 5"
)]
pub struct TurnsOptions {
    /// Clips that start a turn; by default all that have audio
    pub clips: Vec<String>,
    /// The recogniser, with its model where it has several: marl/river
    #[arg(
        long,
        value_name = "ENGINE",
        required_unless_present = "study",
        default_value = "",
        hide_default_value = true
    )]
    pub hear: String,
    /// The responder, with its model where it has several
    #[arg(
        long,
        value_name = "ENGINE",
        required_unless_present = "study",
        default_value = "",
        hide_default_value = true
    )]
    pub reply: String,
    /// The synthesiser, with its model or voice where it has several: osier/Ilka, osier/MODEL/VOICE
    #[arg(
        long,
        value_name = "ENGINE",
        required_unless_present = "study",
        default_value = "",
        hide_default_value = true
    )]
    pub speak: String,
    /// Run this scripted dialogue of the bench file; may be repeated
    #[arg(long, value_name = "NAME", conflicts_with = "clips")]
    pub dialogue: Vec<String>,
    /// Interrupt each reply with the next clip after this many seconds of playback
    #[arg(long, value_name = "SECONDS", value_parser = seconds_above_zero)]
    pub interrupt_after: Option<f64>,
    /// Print this stored study, a number or last, and send nothing
    #[arg(long, value_name = "STUDY")]
    pub study: Option<String>,
    /// Stream the audio in real time and measure from the end of speech
    #[arg(long)]
    pub live: bool,
    /// Maximum number of clips
    #[arg(long, default_value_t = 100, value_name = "N")]
    pub limit: usize,
    /// Chart each turn as a bar in this file, .svg or .png
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Override a bench file value for this call
    #[arg(long = "set", value_name = "PATH=VALUE")]
    pub overrides: Vec<String>,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

pub fn turns(options: &TurnsOptions) -> Result<Code, Failure> {
    if let Some(typed) = &options.study {
        let store = options.bench.store().existing()?;
        print(&find_study(&store, StudyKind::Turns, typed)?.figures, options)?;
        return Ok(Code::Done);
    }
    let bench = read_bench(&options.bench.bench, &options.overrides)?;
    let corpus = bench.read_corpus(None)?;
    let interrupt = Interrupt::listen();
    let plan = TurnPlan {
        engines: [&options.hear, &options.reply, &options.speak].map(String::as_str),
        dialogues: dialogues(options, &bench, &corpus)?,
        live: options.live,
        interrupt_after: options.interrupt_after,
    };
    let conversation = take_turns(&bench, &corpus, &plan, &interrupt, &output::caution)?;
    if !conversation.turns.is_empty() {
        let number = keep_study(&options.bench.store().open()?, StudyKind::Turns, &conversation)?;
        output::note(&format!("Kept as study {number}: fonex report RUN --turns {number} puts it on a page."));
    }
    print(&conversation, options)?;
    Ok(match (interrupt.flag().is_set(), conversation.broken_off.is_empty()) {
        (true, _) => Code::Interrupted,
        (false, false) => Code::TrialsFailed,
        (false, true) => Code::Done,
    })
}

fn dialogues<'c>(options: &TurnsOptions, bench: &Bench, corpus: &'c Corpus) -> Result<Vec<Dialogue<'c>>, Failure> {
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
        let ids = bench.dialogue(name)?.iter().take(options.limit);
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
    chosen.truncate(options.limit);
    let alone = |at: usize| {
        let (clip, then) = (chosen[at], chosen[(at + 1) % chosen.len()]);
        Dialogue { name: None, clips: vec![clip], then }
    };
    Ok((0..chosen.len()).map(alone).collect())
}

pub(super) fn chart(conversation: &Conversation) -> String {
    let name = |turn: &Turn| match &turn.dialogue {
        Some(dialogue) => format!("{dialogue} {}", turn.position),
        None => turn.clip.clone(),
    };
    let bars = conversation.turns.iter().map(|turn| TurnBar {
        name: name(turn),
        parts_ms: [turn.hear_ms, turn.reply_ms, turn.speak_first_ms],
        overlapped_ms: turn.overlapped_ms(),
    });
    let names = [&conversation.hear, &conversation.reply, &conversation.speak].map(Clone::clone);
    turns_svg("From end of speech to first sound of the reply", &names, &bars.collect::<Vec<_>>())
}

/// What the turns come to, in sentences.
pub(super) fn in_words(conversation: &Conversation) -> Vec<String> {
    let Some(summary) = &conversation.summary else { return Vec::new() };
    let mut lines = vec![format!(
        "{}: from the end of speech to the first sound {} in the median, p95 {}",
        plural(summary.turns, "turn"),
        milliseconds(summary.delay_ms.p50),
        milliseconds(summary.delay_ms.p95)
    )];
    let name = match summary.improve_first {
        Link::Hear => &conversation.hear,
        Link::Reply => &conversation.reply,
        Link::Speak => &conversation.speak,
    };
    let ends = |how| conversation.turns.iter().filter(|turn| turn.speech_end == Some(how)).count() as u64;
    match (ends(SpeechEnd::Measured), ends(SpeechEnd::AudioEnd)) {
        (0, 0) => {}
        (measured, 0) => lines.push(format!(
            "without word labels, the end of speech was taken from the silence in the audio ({})",
            plural(measured, "turn")
        )),
        (_, unknown) => lines.push(format!(
            "the end of speech is not known ({}: no word labels, no silence at the end): times count from the end of the audio",
            plural(unknown, "turn")
        )),
    }
    // Whose part it is cannot be said where it is not known when the recogniser's began.
    if ends(SpeechEnd::AudioEnd) == 0 {
        lines.push(format!("{name} takes {} of it: the first place to improve", percent(Some(summary.its_share))));
    }
    let saves = summary.overlap_saves_ms;
    let saves = if saves < 0.5 { "nothing".to_owned() } else { milliseconds(saves) };
    lines.push(format!("speaking the first sentence as soon as it is available would save {saves}"));
    lines.extend(summary.ms_per_reply_word.map(|ms| format!("each word of the reply adds {ms:.0} ms")));
    if let [first, .., last] = summary.positions.as_slice() {
        let growth =
            summary.ms_per_earlier_turn.map_or_else(String::new, |ms| format!("; {ms:+.0} ms for each turn before"));
        lines.push(format!(
            "{} takes {} at the first turn of a dialogue and {} at turn {}{growth}",
            conversation.reply,
            milliseconds(first.reply_ms),
            milliseconds(last.reply_ms),
            last.position
        ));
    }
    lines.extend(conversation.interrupted.as_ref().map(|report| interruptions_in_words(report, &conversation.hear)));
    lines
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
    line += &format!("; both speak at once for {} (median)", milliseconds(report.both_spoke_ms.p50));
    if let Some(held) = report.held_ms.as_ref().filter(|held| held.p50 > 0.0) {
        line += &format!("; a player has to drop {} of audio", milliseconds(held.p50));
    }
    if report.missed > 0 {
        line += &format!("; {} not noticed before the reply was over", report.missed);
    }
    if report.too_early > 0 {
        line += &format!("; {} times words before anybody spoke", report.too_early);
    }
    line
}

fn print(conversation: &Conversation, options: &TurnsOptions) -> Result<(), Failure> {
    if let Some(path) = &options.output {
        output::write_chart(path, &chart(conversation))?;
    }
    match options.format.format {
        Format::Json => output::print_json(conversation)?,
        form @ (Format::Table | Format::Markdown) => brief(conversation).print(form)?,
        form => output::print_table(&table(conversation), form)?,
    }
    Ok(())
}

fn table(conversation: &Conversation) -> Table {
    let in_dialogues = conversation.turns.iter().any(|turn| turn.dialogue.is_some());
    let first = [("dialogue", 0), ("turn", 0)].into_iter().filter(|_| in_dialogues);
    let columns = [
        ("clip", 0),
        ("hear", 1),
        ("reply", 1),
        ("speak", 1),
        ("in all", 0),
        ("overlapped", 2),
        ("what was replied", 3),
    ];
    let mut table = Table::new(first.chain(columns));
    for turn in &conversation.turns {
        let reply: String = turn.reply.chars().take(40).collect();
        let times = [turn.hear_ms, turn.reply_ms, turn.speak_first_ms, turn.delay_ms(), turn.overlapped_ms()];
        let dialogue = turn.dialogue.clone().unwrap_or_default();
        let place = [Cell::text(dialogue), Cell::Count(u64::from(turn.position))];
        let place = place.into_iter().filter(|_| in_dialogues);
        let times = times.map(|ms| Cell::Figure(Unit::Ms, ms));
        table.row(place.chain([Cell::text(turn.clip.as_str())]).chain(times).chain([Cell::text(reply)]));
    }
    table
}

/// Lines of the answer, the others stand out.
const ANSWER: usize = 3;

fn brief(conversation: &Conversation) -> Brief {
    let mut lines = in_words(conversation).into_iter();
    let heading = lines.next().unwrap_or_else(|| "No turn was completed".to_owned());
    let answer: Vec<String> =
        lines.by_ref().take(ANSWER).map(|line| format!("{}.", output::capital(&line))).collect();
    let broken = conversation.broken_off.iter().map(|broken| {
        let why = broken.detail.as_ref().map_or_else(String::new, |detail| format!(": {detail}"));
        format!("{} broke off at {}, {}{why}", broken.clip, broken.link, broken.outcome)
    });
    Brief {
        heading,
        answer,
        tables: vec![table(conversation)],
        stands_out: broken.chain(lines).collect(),
        ..Brief::default()
    }
}
