//! Turns of a conversation: hear, reply, speak, one after the other, and replies that are interrupted.

mod chain;
mod interrupt;

use std::collections::HashMap;
use std::path::Path;

use fonex_core::audio::Audio;
use fonex_core::latency::{Interruption, InterruptionReport, Turn, TurnReport};
use fonex_core::{Clip, Outcome};
use fonex_engines::{Engine, EngineConfig, Form};
use fonex_formats::{Corpus, Place, Problem, audio_path};
use serde::{Deserialize, Serialize};

use self::chain::Chain;
use self::interrupt::interrupt;
use crate::bench::Bench;
use crate::execute::Interrupt;
use crate::execute::Sound;
use crate::{RunError, with_engine};

/// The turns of a conversation.
#[derive(Debug, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Conversation {
    /// The engine of this link.
    pub hear: String,
    /// The engine of this link.
    pub reply: String,
    /// The engine of this link.
    pub speak: String,
    /// What the turns come to; none without turns.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub summary: Option<TurnReport>,
    /// The turns.
    pub turns: Vec<Turn>,
    /// What became of interruptions, where replies were interrupted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interrupted: Option<InterruptionReport>,
    /// The interruptions.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub interruptions: Vec<Interruption>,
    /// Clips whose turn broke off: where, and how.
    pub broken_off: Vec<BrokenOff>,
}

/// A turn that broke off.
#[derive(Debug, Serialize, Deserialize, schemars::JsonSchema)]
pub struct BrokenOff {
    /// The clip it began with.
    pub clip: String,
    /// The link at which it broke.
    pub link: String,
    /// How.
    pub outcome: Outcome,
    /// Why.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
}

impl BrokenOff {
    pub(crate) fn at(clip: &Clip, link: &str, outcome: Outcome, detail: Option<String>) -> Self {
        Self { clip: clip.id.clone(), link: link.to_owned(), outcome, detail }
    }
}

/// What is said, turn after turn. Clips that belong to no dialogue make one each.
pub struct Dialogue<'c> {
    /// Its name, where it has one.
    pub name: Option<String>,
    /// The clips said in it, in order.
    pub clips: Vec<&'c Clip>,
    /// What is said into the last reply.
    pub then: &'c Clip,
}

/// How turns are taken.
pub struct TurnPlan<'t> {
    /// The recogniser, the responder and the synthesiser, each as `ENGINE`, `ENGINE/MODEL`, `ENGINE/VOICE` or
    /// `ENGINE/MODEL/VOICE`; without them the first that it offers.
    pub engines: [&'t str; 3],
    /// What is said.
    pub dialogues: Vec<Dialogue<'t>>,
    /// Whether audio is delivered live.
    pub live: bool,
    /// After how many seconds of a reply the next clip is said into it.
    pub interrupt_after: Option<f64>,
}

/// Takes the turns of a plan. `say` is told what was left out.
///
/// # Errors
/// When an engine is not known or cannot be built, or cannot listen while somebody speaks and is asked to.
pub fn take_turns(
    bench: &Bench,
    corpus: &Corpus,
    plan: &TurnPlan<'_>,
    interrupt: &Interrupt,
    say: &dyn Fn(&str),
) -> Result<Conversation, RunError> {
    let _heeding = interrupt.heed();
    let stop = interrupt.flag();
    let [hear, reply, speak] = plan.engines.map(|name| Partner::find(bench, name));
    let partners = [hear?, reply?, speak?];
    let configs = partners.each_ref().map(|partner| partner.config);
    let labels: HashMap<String, Clip> = corpus.clips.iter().map(|clip| (clip.id.clone(), clip.clone())).collect();
    let [hear, reply, speak] = plan.engines.map(str::to_owned);
    let mut conversation = Conversation {
        hear,
        reply,
        speak,
        summary: None,
        turns: Vec::new(),
        interrupted: None,
        interruptions: Vec::new(),
        broken_off: Vec::new(),
    };
    with_three(bench, configs, labels, |engines| {
        if plan.interrupt_after.is_some() && !engines[0].takes_live() {
            let what = format!("{} cannot hear live audio", plan.engines[0]);
            return Err(Problem::new(what, Place::file(&bench.path))
                .expected("a recogniser with live input: a socket, or a worker with live = true"));
        }
        let chain = Chain { engines, partners: &partners, live: plan.live, stop };
        for dialogue in plan.dialogues.iter().take_while(|_| !stop.is_set()) {
            conversation.hold(&chain, dialogue, &corpus.folder, plan.interrupt_after, say);
        }
        Ok(())
    })??;
    conversation.summary = TurnReport::of(&conversation.turns, bench.seed);
    conversation.interrupted = InterruptionReport::of(&conversation.interruptions);
    Ok(conversation)
}

/// Who is talked with.
struct Partner<'b> {
    config: &'b EngineConfig,
    model: String,
    voice: String,
}

impl<'b> Partner<'b> {
    fn find(bench: &'b Bench, named: &str) -> Result<Self, Problem> {
        // A name that is an engine's as it stands is that engine's.
        let (name, rest) = match named.split_once('/') {
            Some((name, rest)) if !bench.engines.contains_key(named) => (name, Some(rest)),
            _ => (named, None),
        };
        let config = bench.engine(name)?;
        let voices: Vec<&String> = config.voices.0.iter().map(|voice| &voice.id).collect();
        let has_model = |typed: &str| config.models.iter().any(|model| model == typed);
        let has_voice = |typed: &str| voices.iter().any(|voice| *voice == typed);
        let first = |models: &[String]| models.first().cloned().unwrap_or_default();
        let (model, voice) = match rest {
            None => (None, None),
            Some(rest) if has_model(rest) => (Some(rest), None),
            Some(rest) if has_voice(rest) => (None, Some(rest)),
            Some(rest) => {
                let both = rest.match_indices('/').map(|(at, _)| (&rest[..at], &rest[at + 1..]));
                let found = both.into_iter().find(|(model, voice)| has_model(model) && has_voice(voice));
                let Some((model, voice)) = found else {
                    let what = format!("the engine \"{name}\" has no model or voice \"{rest}\"");
                    let offered = config.models.iter().chain(voices.iter().copied());
                    return Err(crate::unknown(what, rest, offered, Place::file(&bench.path)));
                };
                (Some(model), Some(voice))
            }
        };
        Ok(Self {
            config,
            model: model.map_or_else(|| first(&config.models), str::to_owned),
            voice: voice
                .map_or_else(|| voices.first().map(|voice| (*voice).clone()).unwrap_or_default(), str::to_owned),
        })
    }

    fn form(&self) -> Form<'_> {
        Form { model: &self.model, voice: &self.voice, settings: &self.config.settings }
    }
}

fn sound_of(clip: &Clip, folder: &Path, say: &dyn Fn(&str)) -> Option<Audio> {
    let Some(path) = audio_path(folder, clip) else {
        say(&format!("clip {} has no audio", clip.id));
        return None;
    };
    match Sound::decode(&path, clip.side) {
        Ok(source) => Some(source.audio),
        Err(why) => {
            say(&format!("clip {} is left out: {why}", clip.id));
            None
        }
    }
}

impl Conversation {
    /// Takes the turns of a dialogue; one that breaks off ends it.
    fn hold(
        &mut self,
        chain: &Chain<'_>,
        dialogue: &Dialogue<'_>,
        folder: &Path,
        interrupt_after: Option<f64>,
        say: &dyn Fn(&str),
    ) {
        let mut earlier: Vec<String> = Vec::new();
        for (at, clip) in dialogue.clips.iter().enumerate() {
            if chain.stop.is_set() {
                return;
            }
            let Some(said) = sound_of(clip, folder, say) else { continue };
            let mut taken = match chain.turn(clip, &said, &earlier) {
                Ok(taken) => taken,
                // What was stopped says nothing of the engines.
                Err(_) if chain.stop.is_set() => return,
                Err(broken) => return self.broken_off.push(broken),
            };
            taken.turn.dialogue.clone_from(&dialogue.name);
            taken.turn.position = at as u32 + 1;
            let next = dialogue.clips.get(at + 1).copied().unwrap_or(dialogue.then);
            if let Some((after_s, into)) =
                interrupt_after.and_then(|after_s| Some((after_s, sound_of(next, folder, say)?)))
            {
                match interrupt(chain, &taken, clip, (next, &into), after_s) {
                    Ok(Some(interruption)) => self.interruptions.push(interruption),
                    Ok(None) => {
                        say(&format!("the reply to {} ends before {} could interrupt it", clip.id, next.id));
                    }
                    Err(_) if chain.stop.is_set() => return,
                    Err(broken) => self.broken_off.push(broken),
                }
            }
            earlier.extend([taken.turn.heard.clone(), taken.turn.reply.clone()]);
            self.turns.push(taken.turn);
        }
    }
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
