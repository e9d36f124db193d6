//! `fonex corpus vary`: derived corpora for robustness, with label times carried through.

use std::fs;
use std::path::Path;

use fonex_core::Clip;
use fonex_core::audio::Audio;
use fonex_core::material::{Recipe, STEP_FORMS, Varied};
use fonex_formats::audio::{encode_flac, read_audio, read_side};
use fonex_formats::{Corpus, Place, Problem, Problems, audio_path, read_corpus};

use super::write_corpus;
use crate::cli::CorpusVary;
use crate::facts::with_progress;
use crate::failure::{Code, Failure};
use crate::output::{self, Table, plural};

/// The clips that talk in the background of babble are drawn from so many.
const BABBLE_CLIPS: usize = 40;

pub fn vary(options: &CorpusVary) -> Result<Code, Failure> {
    let recipes = options.recipes.iter().map(|text| read_recipe(text)).collect::<Result<Vec<_>, _>>()?;
    let corpus = read_corpus(&options.corpus)?;
    let out = &options.output;
    if out.join("corpus.jsonl").exists() {
        let problem = Problem::new("there is a corpus here already", Place::file(out));
        return Err(problem.remedy("name a new folder").into());
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
    output::print(&summary(&recipes, &clips).text())?;
    output::print(&format!("Wrote {}.\n", out.join("corpus.jsonl").display()))?;
    if !problems.is_empty() {
        output::caution(&format!("{} could not be varied", plural(problems.len() as u64, "clip")));
        eprintln!("error: {}", Problems(problems));
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
    let name = format!("audio/{}.flac", id.replace(['/', '\\'], "_"));
    let flac = encode_flac(&varied.audio).map_err(|error| broken(error.to_string()))?;
    let target = out.join(&name);
    fs::write(&target, flac).map_err(|error| Problem::io("write", &target, &error))?;
    let mut tags = clip.tags.clone();
    tags.insert("varied".to_owned(), recipe.to_string());
    tags.insert("varied_from".to_owned(), clip.id.clone());
    if let Some(snr_db) = varied.snr_db {
        tags.insert("noise_snr_db".to_owned(), format!("{snr_db:.1}"));
    }
    let words = varied.words.clone();
    let segments = varied.segments.clone();
    Ok((Clip { id, audio: Some(name), side: None, tags, words, segments, ..clip.clone() }, varied))
}

/// One row a recipe, with what was reached, measured on the samples.
fn summary(recipes: &[Recipe], clips: &[(usize, (Clip, Varied))]) -> Table {
    let mut table = Table::new(["recipe", ">clips", ">minutes", ">SNR reached", ">packets lost"]);
    for (at, recipe) in recipes.iter().enumerate() {
        let own: Vec<&Varied> = clips.iter().filter(|(of, _)| *of == at).map(|(_, (_, varied))| varied).collect();
        let minutes = own.iter().map(|varied| varied.audio.duration_s()).sum::<f64>() / 60.0;
        let range = |values: Vec<f64>, scale: f64, unit: &str| {
            let low = values.iter().copied().min_by(f64::total_cmp)?;
            let high = values.iter().copied().max_by(f64::total_cmp)?;
            Some(format!("{:.1} to {:.1} {unit}", low * scale, high * scale))
        };
        table.row([
            recipe.to_string(),
            own.len().to_string(),
            format!("{minutes:.1}"),
            range(own.iter().filter_map(|varied| varied.snr_db).collect(), 1.0, "dB").unwrap_or_default(),
            range(own.iter().filter_map(|varied| varied.lost).collect(), 100.0, "%").unwrap_or_default(),
        ]);
    }
    table
}
