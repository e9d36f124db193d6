//! `fonex corpus pick`: the clips that answer a question.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use clap::Args;

use fonex_core::Clip;
use fonex_core::material::{AudioFacts, Condition, Fields, split_by_speaker, stratified};
use fonex_core::text::TextProfile;
use fonex_formats::{Place, Problem, corpus_folder, read_corpus};

use super::write_corpus;
use crate::commands::chosen::profile_here;
use crate::commands::power::{ONE_PAIR, clips_needed_in_words, least_difference_in_words};
use crate::commands::selected::read_condition;

use crate::facts::{AUDIO_FIELDS, ClipFields, audio_facts};
use crate::failure::{Code, Failure};
use crate::output::{self, plural};

#[derive(Debug, Args)]
#[command(
    after_help = "A condition compares fields (id, text, lang, speaker, words, terms, duration, snr, level, rate,
words_per_s) and tags: = != < <= > >= ~ (holds the text), in (A, B), has FIELD, not, and, or, brackets.
Examples, in the folder the demo made:
  fonex corpus pick corpus.jsonl --where 'channel = radio and snr < 15' -o hard.jsonl
  fonex corpus pick corpus.jsonl --sample 12 --by channel,lang -o small.jsonl
  fonex corpus pick corpus.jsonl --split 80,20 -o part.jsonl"
)]
pub struct CorpusPick {
    /// Corpus, in any supported form
    pub corpus: PathBuf,
    /// Only clips that meet this condition
    #[arg(long, value_name = "CONDITION")]
    pub r#where: Option<String>,
    /// Draw a random sample of this many clips
    #[arg(long, value_name = "N")]
    pub sample: Option<usize>,
    /// Stratify the sample by these fields
    #[arg(long, value_delimiter = ',', value_name = "FIELD,FIELD", requires = "sample")]
    pub by: Vec<String>,
    /// Split into parts with these shares, each speaker in one part only; clips without a speaker are assigned one by one
    #[arg(long, value_delimiter = ',', value_name = "SHARE,SHARE", requires = "output")]
    pub split: Vec<f64>,
    /// Random seed
    #[arg(long, default_value_t = 1)]
    pub seed: u64,
    /// Corpus file to write, in the folder of the source; by default standard output
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
}

pub fn pick(options: &CorpusPick) -> Result<Code, Failure> {
    let corpus = read_corpus(&options.corpus)?;
    let condition = options.r#where.as_deref().map(|text| read_condition(text, &corpus.clips)).transpose()?;
    let needs_audio = condition.iter().flat_map(Condition::fields).any(|field| AUDIO_FIELDS.contains(&field));
    let facts = if needs_audio { audio_facts(&corpus) } else { corpus.clips.iter().map(|_| None).collect() };
    let facts: Vec<Option<AudioFacts>> = facts.into_iter().map(|facts| facts.and_then(Result::ok)).collect();
    let mut picked: Vec<&Clip> = corpus
        .clips
        .iter()
        .zip(&facts)
        .filter(|(clip, facts)| {
            let fields = ClipFields { clip, facts: facts.as_ref() };
            condition.as_ref().is_none_or(|condition| condition.holds(&fields))
        })
        .map(|(clip, _)| clip)
        .collect();
    if let Some(count) = options.sample {
        let groups: Vec<String> = picked.iter().map(|clip| group(clip, &options.by)).collect();
        picked = stratified(&groups, count, options.seed).into_iter().map(|at| picked[at]).collect();
    }
    if picked.is_empty() {
        let problem = Problem::new("no clip is picked", Place::file(&options.corpus));
        return Err(problem.remedy("relax --where; fonex corpus describe summarises the corpus").into());
    }
    let text = format!("{} of {} picked\n", picked.len(), plural(corpus.clips.len() as u64, "clip"));
    let text = text + &what_they_can_show(&picked)?;
    match (&options.output, options.split.as_slice()) {
        (None, _) => {
            output::note(text.trim_end());
            let lines: Vec<String> = picked.iter().map(|clip| fonex_formats::corpus_line(clip) + "\n").collect();
            output::print(&lines.concat())?;
        }
        (Some(path), []) => {
            beside(path, &options.corpus)?;
            write_corpus(path, picked.iter().copied())?;
            output::print_lines(&format!("{text}Wrote {}.\n", path.display()))?;
        }
        (Some(path), shares) => {
            beside(path, &options.corpus)?;
            output::print_lines(&(text + &split(&picked, shares, options.seed, path)?))?;
        }
    }
    Ok(Code::Done)
}

/// Audio paths are relative to the corpus file: a picked corpus must stand beside the one it came from.
fn beside(path: &Path, corpus: &Path) -> Result<(), Problem> {
    let folder = |path: &Path| {
        let folder = corpus_folder(path);
        let folder = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
        folder.canonicalize().ok()
    };
    if folder(path).is_some() && folder(path) == folder(corpus) {
        return Ok(());
    }
    Err(Problem::new("the new corpus would be in another folder than its audio", Place::file(path))
        .expected("a file beside the corpus, since audio paths are relative to it"))
}

/// What a clip is grouped by, all values together.
fn group(clip: &Clip, by: &[String]) -> String {
    let fields = ClipFields { clip, facts: None };
    by.iter().map(|field| fields.text(field).unwrap_or_default()).collect::<Vec<_>>().join("\u{1f}")
}

/// What a comparison over these clips can tell, as `corpus check` and `run --dry-run` say it.
fn what_they_can_show(picked: &[&Clip]) -> Result<String, Problem> {
    let profile = profile_here(None)?;
    Ok(least_difference_in_words(picked, &profile, ONE_PAIR) + &clips_needed_in_words(picked, &profile))
}

fn split(picked: &[&Clip], shares: &[f64], seed: u64, path: &Path) -> Result<String, Problem> {
    if shares.len() < 2 || shares.iter().any(|share| !share.is_finite() || *share <= 0.0) {
        let problem =
            Problem::new("a split needs two shares or more, each above 0", Place::default().field("--split"));
        return Err(problem.expected("such as --split 80,20"));
    }
    let nameless = picked.iter().filter(|clip| clip.speaker.is_none()).count();
    if nameless > 0 {
        output::caution(&format!(
            "{nameless} of {} have no speaker: a voice may end up in two parts; only equal texts and clips made from the same original stay together",
            plural(picked.len() as u64, "clip")
        ));
    }
    // A clip without a speaker stands for itself, with those of the same text and those made of it.
    let mut first_of: HashMap<String, String> = HashMap::new();
    let mut own = |clip: &Clip| {
        let profile = TextProfile::shipped("neutral").expect("it ships");
        let by_text =
            first_of.entry(profile.tokens(&clip.text).join(" ")).or_insert_with(|| clip.origin().to_owned());
        format!("\0{by_text}")
    };
    let speakers: Vec<String> = picked.iter().map(|clip| clip.speaker.clone().unwrap_or_else(|| own(clip))).collect();
    let parts = split_by_speaker(&speakers, shares, seed)
        .map_err(|error| Problem::new(error.to_string(), Place::default().field("--split")))?;
    let mut text = String::new();
    for part in 0..shares.len() {
        let own: Vec<&Clip> = picked.iter().zip(&parts).filter(|(_, p)| **p == part).map(|(clip, _)| *clip).collect();
        let path = part_path(path, part + 1);
        write_corpus(&path, own.iter().copied())?;
        let mut names: Vec<&str> = own.iter().filter_map(|clip| clip.speaker.as_deref()).collect();
        names.sort_unstable();
        names.dedup();
        let speakers =
            if names.is_empty() { "no speakers named".to_owned() } else { format!("speakers {}", names.join(", ")) };
        text += &format!("Wrote {}: {}, {speakers}.\n", path.display(), plural(own.len() as u64, "clip"));
    }
    Ok(text)
}

/// `set.jsonl` becomes `set-1.jsonl`.
fn part_path(path: &Path, part: usize) -> PathBuf {
    let stem = path.file_stem().unwrap_or_default().to_string_lossy();
    let ending = path.extension().map_or_else(String::new, |ending| format!(".{}", ending.to_string_lossy()));
    path.with_file_name(format!("{stem}-{part}{ending}"))
}
