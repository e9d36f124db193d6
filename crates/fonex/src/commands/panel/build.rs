//! `fonex panel build`: a page for listeners, and its key.

use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use fonex_analysis::panel::{Laid, PanelKey, PanelSound, PanelText, PanelVoice, SoundRole, VoiceRole};
use fonex_core::in_parallel;
use fonex_core::panel::{Layout, PanelKind, match_sounds};
use fonex_formats::audio::encode_flac;
use fonex_formats::{Place, Problem, checksum};
use fonex_report::{PanelPage, data_uri, render_panel};
use fonex_run::now;

use super::sounds::{Recordings, read, spoken, texts};
use super::write;
use crate::cli::BenchArg;
use crate::commands::find_run;
use crate::failure::{Code, Failure};
use crate::output::{self, plural};

#[derive(Debug, Args)]
#[command(after_help = "Each listener gets the page and a number; the page puts the sounds in that listener's order.
Examples, in the folder the demo made:
  fonex panel build 2 -o listening.html
  fonex panel build 2 --kind pairs --texts 4 --listeners 12 -o pairs.html")]
pub struct PanelBuild {
    /// Runs whose voices are rated: numbers, labels, or last
    #[arg(required = true, value_name = "RUN")]
    pub runs: Vec<String>,
    /// What listeners are asked
    #[arg(long, value_enum, default_value = "opinion")]
    pub kind: Asked,
    /// Only these voices, by voice, variant or run:variant
    #[arg(long = "voice", value_name = "VOICE,VOICE", value_delimiter = ',')]
    pub voices: Vec<String>,
    /// Number of texts, spread over the corpus
    #[arg(long, default_value_t = 8, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=200))]
    pub texts: u32,
    /// Number of listeners to lay out
    #[arg(long, default_value_t = 24, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=1000))]
    pub listeners: u32,
    /// Pages for each listener, practice and checks left out
    #[arg(long, default_value_t = 36, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=500))]
    pub pages: u32,
    /// Pages for each listener that check attention; anchored panels have the hidden reference for that
    #[arg(long, default_value_t = 4, value_name = "N", value_parser = clap::value_parser!(u32).range(0..=20))]
    pub checks: u32,
    /// Practice pages at the beginning, which do not count
    #[arg(long, default_value_t = 2, value_name = "N", value_parser = clap::value_parser!(u32).range(0..=10))]
    pub practice: u32,
    /// Show listeners the text that is spoken
    #[arg(long)]
    pub show_text: bool,
    /// Random seed of the order
    #[arg(long, default_value_t = 1)]
    pub seed: u64,
    /// Page to write; its key is written beside it, as NAME.key.json
    #[arg(short, long, value_name = "FILE", default_value = "panel.html")]
    pub output: PathBuf,
    #[command(flatten)]
    pub bench: BenchArg,
}

/// What listeners are asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Asked {
    /// How good one sound is, from 1 to 5
    Opinion,
    /// Which of two is better
    Pairs,
    /// How good all are beside a recording, from 0 to 100
    Anchored,
}

impl From<Asked> for PanelKind {
    fn from(asked: Asked) -> Self {
        match asked {
            Asked::Opinion => Self::Opinion,
            Asked::Pairs => Self::Pairs,
            Asked::Anchored => Self::Anchored,
        }
    }
}

/// The largest page, in bytes.
const MOST_BYTES: usize = 200 << 20;

pub fn build(options: &PanelBuild) -> Result<Code, Failure> {
    let kind = PanelKind::from(options.kind);
    let key_path = options.output.with_extension("key.json");
    let store = options.bench.store().existing()?;
    let runs = options.runs.iter().map(|typed| find_run(&store, typed)).collect::<Result<Vec<_>, _>>()?;
    let (Some(first), Some(folder)) = (runs.first(), Some(options.bench.bench.parent().unwrap_or(Path::new(""))))
    else {
        return Ok(Code::Done);
    };
    if let Some(other) = runs.iter().find(|run| run.corpus_checksum != first.corpus_checksum) {
        let what = format!("the runs {} and {} spoke different corpora", first.id, other.id);
        return Err(Problem::new(what, Place::default()).expected("runs of one corpus").into());
    }
    let voices = spoken(&store, &runs, &options.voices)?;
    let clips = store.clips(&first.corpus_checksum)?;
    let recordings = (kind == PanelKind::Anchored).then(|| Recordings::of(first, folder));
    let least = if kind == PanelKind::Pairs { 2 } else { 1 };
    if voices.len() < least {
        let what = format!("the panel has {}", plural(voices.len() as u64, "voice"));
        let problem = Problem::new(what, Place::default()).expected(format!("at least {least}"));
        return Err(problem.remedy("name a run of a plan whose engines speak").into());
    }
    let texts = texts(&voices, &clips, recordings.as_ref(), options.texts as usize);
    if texts.is_empty() {
        let what = "no text has been spoken by every voice".to_owned();
        let what = if kind == PanelKind::Anchored { what + ", with a recording of it in the corpus" } else { what };
        let problem = Problem::new(what, Place::default());
        return Err(problem.remedy("leave a voice out with --voice, or run the plan to its end").into());
    }
    let roles: Vec<(VoiceRole, Option<&super::sounds::Spoken>)> = match kind {
        PanelKind::Anchored => vec![(VoiceRole::Reference, None), (VoiceRole::Anchor, None)],
        PanelKind::Opinion | PanelKind::Pairs => Vec::new(),
    };
    let roles: Vec<_> = roles.into_iter().chain(voices.iter().map(|voice| (VoiceRole::Voice, Some(voice)))).collect();
    let layout = Layout {
        kind,
        voices: roles.len() as u32,
        texts: texts.len() as u32,
        listeners: options.listeners,
        pages: options.pages,
    };
    let laid = Laid { layout, checks: options.checks, practice: options.practice, seed: options.seed };
    let (sounds, sheets) = laid.sounds_and_sheets();
    let mut audio = read(&sounds, &roles, &texts, &clips, recordings.as_ref(), options.seed)?;
    let level_lufs = match_sounds(&mut audio).map_err(|error| Problem::new(error.to_string(), Place::default()))?;
    let encoded = in_parallel(&audio, encode_flac).into_iter().collect::<Result<Vec<_>, _>>();
    let encoded = encoded.map_err(|error| Problem::new(error.to_string(), Place::default()))?;
    let bytes: usize = encoded.iter().map(Vec::len).sum::<usize>() * 4 / 3;
    if bytes > MOST_BYTES {
        let what = format!("the page would have {} MB", bytes / 1_000_000);
        let problem = Problem::new(what, Place::default()).expected(format!("up to {} MB", MOST_BYTES / 1_000_000));
        return Err(problem.remedy("take fewer or shorter texts: --texts 4, or fewer voices: --voice").into());
    }
    let named = |(role, voice): &(VoiceRole, Option<&super::sounds::Spoken>)| match voice {
        Some(spoken) => spoken.voice.clone(),
        None => PanelVoice {
            name: if *role == VoiceRole::Anchor { "low anchor" } else { "reference" }.to_owned(),
            role: *role,
            run: None,
            variant: None,
        },
    };
    let key = PanelKey {
        panel: String::new(),
        kind,
        made_at: now(),
        fonex_version: env!("CARGO_PKG_VERSION").to_owned(),
        seed: options.seed,
        level_lufs,
        audio: checksum::of_bytes(&encoded.concat()),
        seal: String::new(),
        practice: options.practice.min(sheets.first().map_or(0, Vec::len) as u32),
        voices: roles.iter().map(named).collect(),
        texts,
        sounds,
        sheets,
    }
    .named();
    let seconds: f64 = key.sheets[0].iter().flatten().map(|number| audio[*number as usize].duration_s()).sum();
    // Sounds are played once and a half, and an answer takes four seconds.
    let minutes = (seconds * 1.5 + 4.0 * key.sheets[0].len() as f64) / 60.0;
    let page = PanelPage {
        panel: key.panel.clone(),
        kind,
        seal: key.seal.clone(),
        practice: key.practice,
        sounds: encoded.iter().map(|bytes| data_uri("audio/flac", bytes)).collect(),
        texts: options.show_text.then(|| shown(&key.sounds, &key.texts)),
        volume: key.sounds.iter().position(|sound| sound.role != SoundRole::Check).unwrap_or_default() as u32,
        sheets: key.sheets.clone(),
        minutes: minutes.ceil() as u32,
    };
    let html = render_panel(&page).map_err(|error| Problem::new(error.to_string(), Place::file(&options.output)))?;
    write(&options.output, &html)?;
    let mut json = serde_json::to_string(&key).expect("a key is plain data");
    json.push('\n');
    write(&key_path, &json)?;
    let voices = key.voices.iter().map(|voice| voice.name.as_str()).collect::<Vec<_>>().join(", ");
    output::print_lines(&format!(
        "Panel {}: {voices}; {}, {}, {} pages each, about {}.\n\
         Wrote {} ({:.1} MB), the page for every listener; give each a number from 1 to {}.\n\
         Wrote {}, the key. Keep it: it tells whose sound is whose.\n\
         Then: fonex panel collect {} FILE...\n",
        key.panel,
        plural(key.texts.len() as u64, "text"),
        plural(u64::from(options.listeners), "listener"),
        key.sheets[0].len(),
        plural(u64::from(page.minutes.max(1)), "minute"),
        options.output.display(),
        html.len() as f64 / 1e6,
        options.listeners,
        key_path.display(),
        key_path.display(),
    ))?;
    balance(&layout);
    Ok(Code::Done)
}

/// The text of each sound.
fn shown(sounds: &[PanelSound], texts: &[PanelText]) -> Vec<String> {
    sounds.iter().map(|sound| texts[sound.text as usize].text.clone()).collect()
}

/// Says when so many listeners cannot meet everything equally often.
fn balance(layout: &Layout) {
    let full = if layout.kind == PanelKind::Pairs { 2 * layout.texts } else { layout.texts };
    if !layout.listeners.is_multiple_of(full) && layout.pages < layout.most_pages() {
        output::note(&format!(
            "Each listener hears a part. Every text comes equally often with every voice where the number of listeners is a multiple of {full}."
        ));
    }
}
