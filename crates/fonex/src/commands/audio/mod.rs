//! `fonex audio`: measure recordings, and picture one with its labels.

mod drawn;
mod pieces;

use clap::Args;
use std::path::{Path, PathBuf};

use fonex_core::audio::{AudioMeasures, Channels, PauseRule, Stretch};
use fonex_core::speech::{Heard, Recording, SpeechMeasures};
use fonex_core::text::Label;
use fonex_core::{Clip, Side};
use fonex_formats::audio::stream_side;
use fonex_formats::{Corpus, Place, Problem, audio_path, captions, file_name_of, read_corpus};
use fonex_report::charts::{SoundLabel, sound_svg};
use serde::Serialize;

use self::drawn::{picture, terminal_wave};
use self::pieces::Cutting;
use crate::cli::{Format, FormatArg, seconds_above_zero};
use crate::facts::with_progress;
use crate::failure::{Code, Failure};
use fonex_core::measures::Unit;

use crate::output::{self, Cell, Table, plural, speech_lines, write_chart};

#[derive(Debug, Args)]
#[command(after_help = "Examples, in the folder the demo made:
  fonex audio corpus.jsonl
  fonex audio corpus.jsonl --clip radio-006 -o radio-006.png
  fonex audio audio/call-001.flac --cut pieces")]
pub struct AudioOptions {
    /// Recordings, or a corpus to measure all its clips
    #[arg(required = true, value_name = "FILE")]
    pub inputs: Vec<PathBuf>,
    /// Only this clip of the corpus
    #[arg(long, value_name = "ID")]
    pub clip: Option<String>,
    /// Captions to draw below a recording, .srt or .vtt
    #[arg(long, value_name = "FILE")]
    pub captions: Option<PathBuf>,
    /// Cut the recording at pauses; write the pieces into this folder
    #[arg(long, value_name = "DIR")]
    pub cut: Option<PathBuf>,
    /// Shortest silence that counts as a pause, in seconds
    #[arg(long, default_value_t = 0.3, value_name = "SECONDS", value_parser = seconds_above_zero)]
    pub least_pause: f64,
    /// Longest piece, in seconds
    #[arg(long, default_value_t = 30.0, value_name = "SECONDS", value_parser = seconds_above_zero)]
    pub longest_piece: f64,
    /// Also measure speech (pitch, syllables, pauses) and look for audio faults; always on for one recording
    #[arg(long)]
    pub speech: bool,
    /// Write a picture to this file, .svg or .png
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    #[command(flatten)]
    pub format: FormatArg,
}

/// What is measured of one recording.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct Measured {
    file: PathBuf,
    #[serde(skip_serializing_if = "Option::is_none")]
    clip: Option<String>,
    kind: String,
    rate_hz: u32,
    channels: usize,
    /// Each of several channels; loudness, true peak and clipping are those of all of them, the rest is of their mix.
    #[serde(skip_serializing_if = "Option::is_none")]
    apart: Option<Channels>,
    /// About how many seconds of the encoder's priming stand before the sound, where the file does not say how much.
    #[serde(skip_serializing_if = "Option::is_none")]
    priming_s: Option<f64>,
    #[serde(flatten)]
    measures: AudioMeasures,
    #[serde(skip_serializing_if = "Option::is_none")]
    loudness_lufs: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    true_peak_dbtp: Option<f64>,
    pauses: Vec<Stretch>,
    #[serde(skip_serializing_if = "Option::is_none")]
    speech: Option<SpeechMeasures>,
    /// In how many pieces its speech was measured, where it is longer than five minutes.
    #[serde(skip_serializing_if = "Option::is_none")]
    speech_pieces: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    defect: Option<String>,
}

/// One file to look at.
struct Item {
    path: PathBuf,
    clip: Option<String>,
    side: Option<Side>,
    labels: Vec<SoundLabel>,
    /// The whole label, where nothing says when its words are.
    untimed: String,
}

pub fn audio(options: &AudioOptions) -> Result<Code, Failure> {
    let items = items(options)?;
    if (options.output.is_some() || options.cut.is_some()) && items.len() != 1 {
        let problem =
            Problem::new(format!("-o and --cut take one recording, and there are {}", items.len()), Place::default());
        return Err(problem.expected("one").remedy("name one file, or one clip with --clip").into());
    }
    let rule = options.cut.as_ref().map(|_| PauseRule {
        least_pause_s: options.least_pause,
        longest_piece_s: options.longest_piece,
        ..PauseRule::default()
    });
    let results = with_progress("measuring", &items, |item| {
        let (measured, heard) = measured(item, rule, options.speech || items.len() == 1)?;
        Ok::<_, Problem>((measured, (items.len() == 1).then_some(heard)))
    });
    let (mut done, mut problems, mut sound) = (Vec::new(), Vec::new(), None);
    for result in results {
        match result {
            Ok((measured, heard)) => {
                done.push(measured);
                sound = heard;
            }
            Err(problem) => problems.push(problem),
        }
    }
    match options.format.format {
        Format::Json => output::print_json(&done)?,
        Format::Table => match (&sound, done.as_slice()) {
            (Some(heard), [one]) => output::print_lines(&page(one, heard, &items[0]))?,
            // What is wrong with each file is all there is to say.
            (_, []) => {}
            _ => output::print_table(&table(&done), Format::Table)?,
        },
        form => output::print_table(&table(&done), form)?,
    }
    if let (Some(path), Some(heard), [one]) = (&options.output, &sound, done.as_slice()) {
        write_chart(path, &sound_svg(&picture(one, heard, &items[0])?))?;
    }
    if let (Some(folder), Some(heard), [one]) = (&options.cut, &sound, done.as_slice()) {
        let stem = one.clip.clone().or_else(|| Some(one.file.file_stem()?.to_string_lossy().into_owned()));
        let cutting =
            Cutting { rate_hz: one.rate_hz, pieces: &heard.pieces, stem: file_name_of(&stem.unwrap_or_default()) };
        output::note(cutting.write(folder, |take| play(heard, &items[0], take))?.trim_end());
    }
    for problem in &problems {
        output::note(&format!("error: {problem}"));
    }
    Ok(match (problems.is_empty(), done.is_empty()) {
        (true, _) => Code::Done,
        (false, false) => Code::TrialsFailed,
        (false, true) => Code::WrongUse,
    })
}

/// A corpus file stands for all its clips; anything else is a recording.
fn items(options: &AudioOptions) -> Result<Vec<Item>, Failure> {
    let mut items = Vec::new();
    for path in &options.inputs {
        let is_corpus = path.extension().is_some_and(|e| e == "jsonl" || e == "csv" || e == "tsv") || path.is_dir();
        if is_corpus {
            items.extend(corpus_items(&read_corpus(path)?, options.clip.as_deref())?);
        } else {
            let labels = options.captions.as_deref().map(caption_labels).transpose()?.unwrap_or_default();
            items.push(Item { path: path.clone(), clip: None, side: None, labels, untimed: String::new() });
        }
    }
    Ok(items)
}

fn corpus_items(corpus: &Corpus, only: Option<&str>) -> Result<Vec<Item>, Failure> {
    let chosen: Vec<_> = corpus.clips.iter().filter(|clip| only.is_none_or(|only| only == clip.id)).collect();
    if let (true, Some(only)) = (chosen.is_empty(), only) {
        let ids: Vec<String> = corpus.clips.iter().map(|clip| clip.id.clone()).collect();
        let what = format!("the corpus has no clip \"{only}\"");
        return Err(fonex_run::unknown(what, only, ids.iter(), Place::file(&corpus.path)).into());
    }
    let item = |clip: &&Clip| {
        let words = if clip.words.is_empty() { &clip.segments } else { &clip.words }.iter();
        Some(Item {
            path: audio_path(&corpus.folder, clip)?,
            clip: Some(clip.id.clone()),
            side: clip.side,
            untimed: if words.len() > 0 { String::new() } else { first_reading(clip) },
            labels: words.map(|w| SoundLabel { text: w.text.clone(), start: w.start, end: w.end }).collect(),
        })
    };
    Ok(chosen.iter().filter_map(item).collect())
}

fn caption_labels(path: &Path) -> Result<Vec<SoundLabel>, Problem> {
    let text = fonex_formats::regular::read_text(path).map_err(|error| Problem::io("read", path, &error))?;
    let cues = captions::parse(&text, path)?;
    Ok(cues.into_iter().map(|cue| SoundLabel { text: cue.text, start: cue.start, end: cue.end }).collect())
}

/// Measures a recording as it is decoded.
fn measured(item: &Item, cut: Option<PauseRule>, speech: bool) -> Result<(Measured, Heard), Problem> {
    let mut recording = None;
    let told = stream_side(&item.path, item.side, &mut |rate_hz, samples| {
        recording.get_or_insert_with(|| Recording::new(rate_hz, cut, speech)).add(samples);
    });
    let broken = |error: &dyn std::fmt::Display| Problem::new(error.to_string(), Place::file(&item.path));
    let told = told.map_err(|error| broken(&error))?;
    let heard = recording.ok_or_else(|| broken(&"it holds no samples"))?.finish();
    let clipped_share = told.clipped_share(heard.measures.clipped_share);
    let apart = told.apart;
    // Loudness is that of the channels, not of their mix.
    let loudness = apart.as_ref().and_then(|apart| apart.loudness).unwrap_or(heard.loudness);
    let measured = Measured {
        file: item.path.clone(),
        clip: item.clip.clone(),
        kind: told.kind,
        rate_hz: told.audio.rate_hz,
        channels: told.channels,
        measures: AudioMeasures { clipped_share, ..heard.measures },
        loudness_lufs: loudness.integrated_lufs,
        true_peak_dbtp: loudness.true_peak_dbtp,
        apart,
        priming_s: told.priming_s,
        pauses: heard.pauses.clone(),
        speech: heard.speech.clone(),
        speech_pieces: heard.speech_pieces,
        defect: told.defect,
    };
    Ok((measured, heard))
}

/// Hands over the sound once more: what was held, or decoded again.
fn play(heard: &Heard, item: &Item, take: &mut dyn FnMut(&[f32])) -> Result<(), Problem> {
    match &heard.sound {
        Some(audio) => take(&audio.samples),
        None => {
            stream_side(&item.path, item.side, &mut |_, samples| take(samples))
                .map_err(|error| Problem::new(error.to_string(), Place::file(&item.path)))?;
        }
    }
    Ok(())
}

fn name(measured: &Measured) -> String {
    measured.clip.clone().unwrap_or_else(|| measured.file.display().to_string())
}

/// A level with its unit, with a true minus.
fn level(value: Option<f64>, unit: &str) -> String {
    value.map_or_else(|| "–".to_owned(), |value| format!("{value:.1} {unit}").replace('-', "−"))
}

fn table(done: &[Measured]) -> Table {
    let mut table = Table::new([
        ("recording", 0),
        ("seconds", 0),
        ("Hz", 2),
        ("channels", 3),
        ("loudness LUFS", 1),
        ("true peak dBTP", 1),
        ("noise floor dBFS", 3),
        ("SNR dB", 1),
        ("clipped", 2),
        ("pauses", 4),
        ("syllables a second", 2),
        ("pitch Hz", 2),
        ("pitch range st", 2),
        ("band limit Hz", 3),
        ("audio faults", 1),
        ("defect", 0),
    ]);
    for one in done {
        let m = &one.measures;
        table.row([
            Cell::text(name(one)),
            Cell::Number(m.duration_s, 2),
            Cell::Count(u64::from(one.rate_hz)),
            Cell::Count(one.channels as u64),
            Cell::number(one.loudness_lufs, 1),
            Cell::number(one.true_peak_dbtp, 1),
            Cell::number(m.noise_floor_dbfs, 1),
            Cell::number(m.snr_db, 1),
            Cell::Figure(Unit::Share, m.clipped_share),
            Cell::Count(one.pauses.len() as u64),
            Cell::number(one.speech.as_ref().and_then(SpeechMeasures::syllables_per_s), 1),
            Cell::number(one.speech.as_ref().and_then(|speech| Some(speech.pitch?.median_hz)), 0),
            Cell::number(one.speech.as_ref().and_then(|speech| Some(speech.pitch?.range_st)), 1),
            Cell::number(one.speech.as_ref().and_then(|speech| Some(speech.spectrum?.band_limit_hz)), 0),
            one.speech.as_ref().map_or(Cell::Empty, |speech| Cell::text(speech.faults.names().join(", "))),
            one.defect.as_ref().map_or(Cell::Empty, |defect| Cell::Warning(defect.to_string())),
        ]);
    }
    table.without_empty_columns()
}

fn page(one: &Measured, heard: &Heard, item: &Item) -> String {
    let m = &one.measures;
    let mut text = format!(
        "{}: {:.2} s, {} Hz, {}, {}\n",
        name(one),
        m.duration_s,
        one.rate_hz,
        plural(one.channels as u64, "channel"),
        one.kind
    );
    if let Some(defect) = &one.defect {
        text += &format!("  defect: {defect}\n");
    }
    text += &format!(
        "  loudness {}, true peak {}, level {}, peak {}\n",
        level(one.loudness_lufs, "LUFS"),
        level(one.true_peak_dbtp, "dBTP"),
        level(m.level_dbfs, "dBFS"),
        level(m.peak_dbfs, "dBFS")
    );
    if let Some(priming_s) = one.priming_s {
        text += &format!(
            "  about {:.0} ms of the encoder's priming stand before the sound: the file does not say how much\n",
            priming_s * 1e3
        );
    }
    if let Some(apart) = &one.apart {
        text += &channel_lines(apart);
    }
    text += &format!(
        "  noise floor {}, SNR {}, clipped {:.2} % of samples, offset {:.4}\n",
        level(m.noise_floor_dbfs, "dBFS"),
        level(m.snr_db, "dB"),
        m.clipped_share * 100.0,
        m.dc_offset
    );
    text += &format!(
        "  silence {:.2} s before and {:.2} s after, {} inside\n",
        m.silence.leading_s,
        m.silence.trailing_s,
        plural(one.pauses.iter().filter(|p| p.start > 0.0 && p.end < m.duration_s - 0.02).count() as u64, "pause")
    );
    text += &one.speech.as_ref().map_or_else(String::new, speech_lines);
    if let Some(pieces) = one.speech_pieces {
        text += &format!("  speech measured in {}\n", plural(u64::from(pieces), "piece"));
    }
    text.push('\n');
    text + &terminal_wave(heard, &item.labels)
}

/// What is measured of which channels, and what each of them has.
fn channel_lines(apart: &Channels) -> String {
    let count = apart.each.len();
    let mut text =
        format!("  loudness, true peak and clipping are those of all {count} channels; the rest is of their mix\n");
    for (number, channel) in (1..).zip(&apart.each).take(MOST_CHANNELS) {
        let clipped = channel.clipped_share * 100.0;
        text += &format!(
            "  channel {number}: level {}, peak {}, clipped {clipped:.2} % of samples\n",
            level(channel.level_dbfs, "dBFS"),
            level(channel.peak_dbfs, "dBFS"),
        );
    }
    if apart.are_opposite() {
        let lost = apart.lost_in_mix_db.unwrap_or_default();
        text += &format!("  caution: the channels cancel: their mix is {lost:.0} dB below their mean level\n");
    }
    text
}

/// Channels that are listed.
const MOST_CHANNELS: usize = 8;

fn first_reading(clip: &Clip) -> String {
    Label::parse(&clip.text).map_or_else(|_| clip.text.clone(), |label| label.first_reading())
}
