//! `fonex corpus vary`: derived corpora for robustness, with label times carried through.

use clap::Args;
use std::fs;
use std::path::Path;
use std::path::PathBuf;

use fonex_core::Clip;
use fonex_core::audio::Audio;
use fonex_core::material::{Recipe, STEP_FORMS, Varied};
use fonex_formats::audio::{encode_flac, read_audio, read_side};
use fonex_formats::{Corpus, Place, Problem, Problems, audio_path, file_name_of, read_corpus};

use super::write_corpus;

use crate::facts::with_progress;
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, plural};

#[derive(Debug, Args)]
#[command(after_help = "A recipe is steps parted by spaces, done in order: noise=white|pink|wind|babble:SNR_DB
room=RT60_S[:DIRECT_DB] band=LOW_HZ:HIGH_HZ telephone=a|mu loss=PERCENT[:repeat|none] gain=DB
speed=FACTOR tempo=FACTOR silence=BEFORE_S:AFTER_S; unchanged, alone, keeps the clip as it is, for comparison
Example, in the folder the demo made:
  fonex corpus vary corpus.jsonl --recipe unchanged --recipe noise=babble:5 --recipe 'telephone=a loss=3:repeat' -o harder")]
pub struct CorpusVary {
    /// Corpus, in any supported form
    pub corpus: PathBuf,
    /// Processing steps for every clip; may be repeated, one copy per recipe
    #[arg(long = "recipe", required = true, value_name = "STEPS")]
    pub recipes: Vec<String>,
    /// Folder for the new corpus
    #[arg(short, long, value_name = "DIR")]
    pub output: PathBuf,
    /// Random seed
    #[arg(long, default_value_t = 1)]
    pub seed: u64,
}

/// The clips that talk in the background of babble are drawn from this many.
const BABBLE_CLIPS: usize = 40;

pub fn vary(options: &CorpusVary) -> Result<Code, Failure> {
    let recipes = options.recipes.iter().map(|text| read_recipe(text)).collect::<Result<Vec<_>, _>>()?;
    let corpus = read_corpus(&options.corpus)?;
    let out = &options.output;
    if out.join("corpus.jsonl").exists() {
        let problem = Problem::new("this folder already holds a corpus", Place::file(out));
        return Err(problem.remedy("give a new folder").into());
    }
    fs::create_dir_all(out.join("audio")).map_err(|error| Problem::io("make", out, &error))?;
    let others = if recipes.iter().any(Recipe::needs_babble) { background(&corpus) } else { Vec::new() };
    let jobs: Vec<(usize, usize)> =
        (0..recipes.len()).flat_map(|recipe| (0..corpus.clips.len()).map(move |clip| (recipe, clip))).collect();
    let results = with_progress("varying", &jobs, |(recipe, clip)| {
        vary_clip(&corpus, &corpus.clips[*clip], &recipes[*recipe], *recipe + 1, &others, options.seed, out)
    });
    let (mut clips, mut problems) = (Vec::new(), Vec::new());
    for ((recipe, _), result) in jobs.iter().zip(results) {
        match result {
            Ok(done) => clips.push((*recipe, done)),
            Err(problem) => problems.push(problem),
        }
    }
    write_corpus(&out.join("corpus.jsonl"), clips.iter().map(|(_, (clip, _))| clip))?;
    output::print_lines(&output::text(&summary(&recipes, &clips)))?;
    output::print_lines(&format!("Wrote {}.\n", out.join("corpus.jsonl").display()))?;
    if !problems.is_empty() {
        output::caution(&format!("{} could not be varied", plural(problems.len() as u64, "clip")));
        output::note(&format!("error: {}", Problems(problems)));
        return Ok(Code::TrialsFailed);
    }
    Ok(Code::Done)
}

fn read_recipe(text: &str) -> Result<Recipe, Problem> {
    text.parse::<Recipe>().map_err(|error| {
        Problem::new(error.to_string(), Place::default().field(format!("--recipe {text}")))
            .expected(format!("steps parted by spaces: {}", STEP_FORMS.join(", ")))
    })
}

/// Clips spread over the corpus, decoded.
fn background(corpus: &Corpus) -> Vec<Audio> {
    let step = corpus.clips.len().div_ceil(BABBLE_CLIPS);
    let spread = corpus.clips.iter().step_by(step);
    spread.filter_map(|clip| Some(read_audio(&audio_path(&corpus.folder, clip)?).ok()?.audio)).collect()
}

fn vary_clip(
    corpus: &Corpus,
    clip: &Clip,
    recipe: &Recipe,
    number: usize,
    others: &[Audio],
    seed: u64,
    out: &Path,
) -> Result<(Clip, Varied), Problem> {
    let path = audio_path(&corpus.folder, clip)
        .ok_or_else(|| Problem::new(format!("the clip \"{}\" names no audio", clip.id), Place::file(&corpus.path)))?;
    let broken = |why: String| Problem::new(why, Place::file(&path));
    let audio = read_side(&path, clip.side).map_err(|error| broken(error.to_string()))?.audio;
    let varied = recipe.apply(&audio, clip, others, seed).map_err(|error| broken(error.to_string()))?;
    let id = format!("{}+{number}", clip.id);
    let name = format!("audio/{}.flac", file_name_of(&id));
    let flac = encode_flac(&varied.audio).map_err(|error| broken(error.to_string()))?;
    let target = out.join(&name);
    fs::write(&target, flac).map_err(|error| Problem::io("write", &target, &error))?;
    let mut tags = clip.tags.clone();
    tags.insert(Clip::VARIED.to_owned(), recipe.to_string());
    tags.insert(Clip::VARIED_FROM.to_owned(), clip.origin().to_owned());
    if let Some(snr_db) = varied.snr_db {
        tags.insert("noise_snr_db".to_owned(), format!("{:.1}", (snr_db * 10.0).round() / 10.0 + 0.0));
    }
    let words = varied.words.clone();
    let segments = varied.segments.clone();
    Ok((Clip { id, audio: Some(name), side: None, tags, words, segments, ..clip.clone() }, varied))
}

/// One row a recipe, with what was reached, measured on the samples.
fn summary(recipes: &[Recipe], clips: &[(usize, (Clip, Varied))]) -> Table {
    let mut table =
        Table::new([("recipe", 0), ("clips", 0), ("minutes", 1), ("SNR reached", 0), ("packets lost", 0)]);
    for (at, recipe) in recipes.iter().enumerate() {
        let own: Vec<&Varied> = clips.iter().filter(|(of, _)| *of == at).map(|(_, (_, varied))| varied).collect();
        let minutes = own.iter().map(|varied| varied.audio.duration_s()).sum::<f64>() / 60.0;
        let range = |values: Vec<f64>, scale: f64, unit: &str| {
            let low = values.iter().copied().min_by(f64::total_cmp)?;
            let high = values.iter().copied().max_by(f64::total_cmp)?;
            Some(format!("{:.1} to {:.1} {unit}", low * scale, high * scale))
        };
        table.row([
            Cell::text(recipe.to_string()),
            Cell::Count(own.len() as u64),
            Cell::Number(minutes, 1),
            range(own.iter().filter_map(|varied| varied.snr_db).collect(), 1.0, "dB").map_or(Cell::Empty, Cell::Text),
            range(own.iter().filter_map(|varied| varied.lost).collect(), 100.0, "%").map_or(Cell::Empty, Cell::Text),
        ]);
    }
    table
}
