//! `fonex corpus import`: a corpus from what people have.

use clap::Args;
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use fonex_core::audio::Audio;
use fonex_core::text::plain_label;
use fonex_core::{Clip, TimedWord};
use fonex_formats::audio::{encode_flac, read_audio};
use fonex_formats::captions::{self, Cue};
use fonex_formats::{MappedTable, Place, Problem, audio_beside, file_name_of, read_corpus, read_mapped};

use super::write_corpus;

use crate::failure::{Code, Failure};
use crate::output::{self, plural};

#[derive(Debug, Args)]
#[command(
    after_help = "A folder holds audio with .txt, .srt, .vtt or .json of the same name. A table has a header; --map names its
columns. A recording with captions is kept whole with its segments, or cut at their bounds.
A column goes where --map puts it: --map text=sentence,audio=path,tags.accent=region
Examples, in the folder the demo made:
  fonex captions write 1 --variant tern --to srt -o captions
  fonex corpus import audio/radio-006.flac --captions captions/radio-006.srt --cut -o imported --lang en"
)]
pub struct CorpusImport {
    /// Folder, .csv or .tsv table, or recording
    pub source: PathBuf,
    /// Captions of the recording, .srt or .vtt
    #[arg(long, value_name = "FILE")]
    pub captions: Option<PathBuf>,
    /// Cut the recording into a clip for each caption
    #[arg(long, requires = "captions")]
    pub cut: bool,
    /// Table column for a field: id, text, audio, lang, speaker, terms or tags.NAME
    #[arg(long, value_delimiter = ',', value_name = "FIELD=COLUMN")]
    pub map: Vec<String>,
    /// Language of clips without one, as a BCP 47 tag
    #[arg(long)]
    pub lang: Option<String>,
    /// Speaker of clips without one
    #[arg(long)]
    pub speaker: Option<String>,
    /// Tag to add to every clip; may be repeated
    #[arg(long = "tag", value_name = "TAG=VALUE")]
    pub tags: Vec<String>,
    /// Also copy audio from outside the source folder
    #[arg(long)]
    pub outside: bool,
    /// Folder for corpus.jsonl; audio from elsewhere is copied into it
    #[arg(short, long, value_name = "DIR")]
    pub output: PathBuf,
}

/// What has been gathered, and what was skipped and why.
#[derive(Default)]
struct Import {
    clips: Vec<(Clip, Option<Source>)>,
    skipped: Vec<String>,
}

/// Where a clip's audio comes from.
enum Source {
    File(PathBuf),
    Cut(Audio),
}

pub fn import(options: &CorpusImport) -> Result<Code, Failure> {
    let target = options.output.join("corpus.jsonl");
    if target.exists() {
        return Err(Problem::new("this folder already holds a corpus", Place::file(&target))
            .remedy("give a new folder")
            .into());
    }
    let mut import = Import::default();
    let source = &options.source;
    match (&options.captions, source.is_dir(), source.extension().and_then(|e| e.to_str())) {
        (Some(captions), false, _) => long_recording(source, captions, options.cut, &mut import)?,
        (None, true, _) => folder(source, &mut import)?,
        (None, false, Some("csv" | "tsv")) => table(source, &options.map, &mut import)?,
        (Some(_), true, _) => {
            return Err(Problem::new("captions belong to one recording, not to a folder", Place::file(source)).into());
        }
        (None, false, _) => {
            return Err(Problem::new("a recording alone has no label", Place::file(source))
                .expected("a folder, a .csv or .tsv table, or a recording with --captions FILE")
                .into());
        }
    }
    let tags = options.tags.iter().map(|typed| tag_and_value(typed)).collect::<Result<Vec<_>, _>>()?;
    let mut written: Vec<Clip> = Vec::new();
    fs::create_dir_all(&options.output).map_err(|error| Problem::io("make", &options.output, &error))?;
    for (mut clip, source) in import.clips {
        clip.lang = clip.lang.or_else(|| options.lang.clone());
        clip.speaker = clip.speaker.or_else(|| options.speaker.clone());
        clip.tags.extend(tags.iter().map(|(tag, value)| ((*tag).to_owned(), (*value).to_owned())));
        if let Some(path) =
            source.as_ref().and_then(|audio| outside(audio, &options.source)).filter(|_| !options.outside)
        {
            import.skipped.push(format!(
                "{}: {} is outside the source folder; --outside includes it",
                clip.id,
                path.display()
            ));
            continue;
        }
        match place_audio(&clip.id, source, &options.output) {
            Ok(audio) => written.push(Clip { audio, ..clip }),
            Err(why) => import.skipped.push(format!("{}: {why}", clip.id)),
        }
    }
    if written.is_empty() {
        let why = import.skipped.first().cloned().unwrap_or_else(|| "there is no label in it".to_owned());
        return Err(Problem::new("nothing could be imported", Place::file(source)).remedy(why).into());
    }
    write_corpus(&target, &written)?;
    // What was written must be a corpus: reading it back finds duplicate ids and impossible times.
    read_corpus(&target)?;
    output::print_lines(&format!("{} imported into {}\n", plural(written.len() as u64, "clip"), target.display()))?;
    if !import.skipped.is_empty() {
        output::caution(&format!("{} skipped", plural(import.skipped.len() as u64, "item")));
        import.skipped.iter().for_each(|why| output::note(&format!("  {why}")));
    }
    output::print_lines(&format!("Next: fonex corpus check {}\n", target.display()))?;
    Ok(Code::Done)
}

/// Audio with texts, captions or JSON of the same name.
fn folder(source: &Path, import: &mut Import) -> Result<(), Failure> {
    let corpus = read_corpus(source)?;
    for mut clip in corpus.clips {
        match clip.audio.take().map(|audio| source.join(audio)) {
            Some(path) if path.is_file() => import.clips.push((clip, Some(Source::File(path)))),
            Some(path) => import.skipped.push(format!("{}: there is no {}", clip.id, path.display())),
            None => import.skipped.push(format!("{}: no audio of this name", clip.id)),
        }
    }
    for (id, path) in audio_beside(source)? {
        if !import.clips.iter().any(|(clip, _)| clip.id == id) {
            import.skipped.push(format!("{}: no text of this name", path.display()));
        }
    }
    Ok(())
}

/// A table whose columns are named on the command line.
fn table(source: &Path, map: &[String], import: &mut Import) -> Result<(), Failure> {
    let mut columns: BTreeMap<String, String> = BTreeMap::new();
    for typed in map {
        let (field, column) = typed.split_once('=').ok_or_else(|| {
            Problem::new(format!("\"{typed}\" maps nothing"), Place::default().field("--map"))
                .expected("FIELD=COLUMN, such as text=sentence")
        })?;
        columns.insert(field.to_owned(), column.to_owned());
    }
    let MappedTable { clips, unused } = read_mapped(source, &columns)?;
    if !unused.is_empty() {
        import.skipped.push(format!("columns that nothing is mapped to: {}", unused.join(", ")));
    }
    let folder = source.parent().unwrap_or(Path::new(""));
    for (mut clip, place) in clips {
        let audio = clip.audio.take().map(|audio| folder.join(audio));
        match audio {
            _ if clip.text.trim().is_empty() => import.skipped.push(format!("{place}: the text is empty")),
            Some(path) if !path.is_file() => import.skipped.push(format!("{place}: there is no {}", path.display())),
            audio => import.clips.push((clip, audio.map(Source::File))),
        }
    }
    Ok(())
}

/// One recording with captions: whole with its segments, or a clip for each caption.
fn long_recording(source: &Path, captions_path: &Path, cut: bool, import: &mut Import) -> Result<(), Failure> {
    let text = fonex_formats::regular::read_text(captions_path)
        .map_err(|error| Problem::io("read", captions_path, &error))?;
    let cues = captions::parse(&text, captions_path)?;
    let stem = source.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    if !cut {
        let clip = Clip { id: stem, ..captions::clip_from(&cues) };
        import.clips.push((clip, Some(Source::File(source.to_owned()))));
        return Ok(());
    }
    let decoded = read_audio(source).map_err(|error| Problem::new(error.to_string(), Place::file(source)))?;
    if let Some(defect) = &decoded.defect {
        import.skipped.push(format!("{}: {defect}", source.display()));
    }
    let mut last_end = 0.0;
    for (cue, number) in cues.iter().zip(1..) {
        let place = format!("caption {number} at {} s", cue.start);
        match cut_cue(&decoded.audio, cue, last_end) {
            Ok((clip, audio)) => {
                let id = format!("{stem}-{number:04}");
                import.clips.push((Clip { id, ..clip }, Some(Source::Cut(audio))));
            }
            Err(why) => import.skipped.push(format!("{place}: {why}")),
        }
        last_end = cue.end.max(last_end);
    }
    Ok(())
}

fn cut_cue(audio: &Audio, cue: &Cue, last_end: f64) -> Result<(Clip, Audio), String> {
    let text = cue.clean_text();
    if text.is_empty() {
        return Err("it has no text".to_owned());
    }
    if cue.start < last_end - 0.001 {
        return Err(format!("it starts before {last_end} s, where another one ends: its audio contains both texts"));
    }
    if cue.end > audio.duration_s() + 0.05 {
        return Err(format!("it ends at {} s, and the recording at {:.3} s", cue.end, audio.duration_s()));
    }
    let at = |seconds: f64| ((seconds * f64::from(audio.rate_hz)).round() as usize).min(audio.samples.len());
    let samples = audio.samples[at(cue.start)..at(cue.end)].to_vec();
    if samples.is_empty() {
        return Err("it has no length".to_owned());
    }
    let moved = |s: f64| ((s - cue.start) * 1e4).round() / 1e4;
    let words = cue.timed_words().into_iter();
    let words = words.map(|w| TimedWord { text: w.text, start: moved(w.start), end: moved(w.end) }).collect();
    let clip = Clip { text: plain_label(&text), speaker: cue.voice().map(str::to_owned), words, ..Clip::default() };
    Ok((clip, Audio { rate_hz: audio.rate_hz, samples }))
}

/// Where a file really lies, if that is outside of the folder that is imported: a table names anything, and so does a link.
fn outside(audio: &Source, source: &Path) -> Option<PathBuf> {
    let Source::File(path) = audio else { return None };
    let folder = if source.is_dir() {
        source
    } else {
        source.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."))
    };
    let (path, folder) = (path.canonicalize().ok()?, folder.canonicalize().ok()?);
    (!path.starts_with(folder)).then_some(path)
}

/// Audio below the target folder stays where it is; other audio is copied, byte for byte, and cuts are written.
fn place_audio(id: &str, source: Option<Source>, target: &Path) -> Result<Option<String>, String> {
    let Some(source) = source else { return Ok(None) };
    let plain = file_name_of(id);
    let folder = target.join("audio");
    let plain_io = |error: std::io::Error| error.to_string();
    match source {
        Source::Cut(audio) => {
            fs::create_dir_all(&folder).map_err(plain_io)?;
            let flac = encode_flac(&audio).map_err(|error| error.to_string())?;
            fs::write(folder.join(format!("{plain}.flac")), flac).map_err(plain_io)?;
            Ok(Some(format!("audio/{plain}.flac")))
        }
        Source::File(path) => {
            let (whole, root) = (path.canonicalize().map_err(plain_io)?, target.canonicalize().map_err(plain_io)?);
            if let Ok(relative) = whole.strip_prefix(&root) {
                return Ok(Some(relative.display().to_string()));
            }
            fs::create_dir_all(&folder).map_err(plain_io)?;
            let ending = path.extension().map(|e| format!(".{}", e.to_string_lossy())).unwrap_or_default();
            fs::copy(&whole, folder.join(format!("{plain}{ending}"))).map_err(plain_io)?;
            Ok(Some(format!("audio/{plain}{ending}")))
        }
    }
}

/// `TAG=VALUE` as typed.
pub(super) fn tag_and_value(typed: &str) -> Result<(&str, &str), Problem> {
    typed.split_once('=').ok_or_else(|| {
        let problem = Problem::new(format!("\"{typed}\" is not TAG=VALUE"), Place::default().field("--tag"));
        problem.expected("TAG=VALUE, such as channel=radio")
    })
}
