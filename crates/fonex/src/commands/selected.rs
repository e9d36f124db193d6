//! `--where` and the keys of `--by`: which clips of a stored run are looked at, and by what they are sliced.

use std::collections::HashMap;
use std::path::Path;

use clap::Args;
use fonex_analysis::{Selection, Sheet, SliceKey, Wanted, crossed};
use fonex_core::Clip;
use fonex_core::accuracy::{LENGTH, LENGTH_BANDS};
use fonex_core::material::{AudioFacts, Condition};
use fonex_core::text::Label;
use fonex_formats::{Corpus, Place, Problem, read_corpus};
use fonex_run::unknown;
use fonex_store::{Run, Store};

use crate::cli::BenchArg;
use crate::facts::{AUDIO_FIELDS, CLIP_FIELDS, ClipFields, audio_facts, snr_band, with_progress};
use crate::failure::Failure;

/// The slices by signal-to-noise ratio.
const SNR: &str = "snr";

/// Only some clips.
#[derive(Debug, Clone, Default, Args)]
pub struct WhereArg {
    /// Only clips that meet this condition, such as 'channel = radio and words > 5' (see fonex corpus pick --help)
    #[arg(long, value_name = "CONDITION")]
    pub r#where: Option<String>,
}

/// What is asked of a run's clips.
#[derive(Clone, Copy)]
pub struct Selecting<'s> {
    /// The condition of `--where`.
    pub r#where: Option<&'s str>,
    /// Tags, speaker, lang, length or snr, or two of them crossed: `channel*wind`.
    pub by: &'s [String],
    /// Where the corpus of the run is looked for, if its audio must be read.
    pub bench: &'s BenchArg,
}

impl Selecting<'_> {
    /// Adds the selected clips and the further keys to what is wanted of a run.
    pub fn wanted(&self, store: &Store, run: &Run, wanted: Wanted) -> Result<Wanted, Failure> {
        let mut own = OfRun { store, run, bench: self.bench, clips: None, corpus: None };
        let only = self.r#where.map(|text| own.selection(text)).transpose()?;
        let sheet = if self.by.is_empty() { Sheet::default() } else { Sheet::load(store, &run.corpus_checksum)? };
        let mut keys: Vec<SliceKey> = Vec::new();
        for by in self.by {
            if let Some(key) = own.key(&sheet, by)? {
                keys.push(key);
            }
        }
        Ok(Wanted { only, keys, ..wanted })
    }
}

/// The clips of a run, read once they are needed.
struct OfRun<'r> {
    store: &'r Store,
    run: &'r Run,
    bench: &'r BenchArg,
    clips: Option<Vec<Clip>>,
    corpus: Option<Corpus>,
}

impl OfRun<'_> {
    fn clips(&mut self) -> Result<&[Clip], Failure> {
        if self.clips.is_none() {
            self.clips = Some(self.store.clips(&self.run.corpus_checksum)?);
        }
        Ok(self.clips.as_deref().unwrap_or_default())
    }

    /// The corpus file with its audio, which the store does not hold.
    fn corpus(&mut self, why: &str) -> Result<&Corpus, Failure> {
        if self.corpus.is_none() {
            let written = Path::new(&self.run.corpus_path);
            let beside = self.bench.bench.parent().unwrap_or(Path::new("")).join(written);
            let read = read_corpus(&beside).or_else(|_| read_corpus(written));
            self.corpus = Some(read.map_err(|_| {
                let what =
                    format!("{why} is measured in the audio, and the corpus {} cannot be read", written.display());
                Problem::new(what, Place::default()).remedy("run the command where the corpus and its audio are")
            })?);
        }
        Ok(self.corpus.as_ref().expect("read above"))
    }

    fn selection(&mut self, text: &str) -> Result<Selection, Failure> {
        let condition = read_condition(text, self.clips()?)?;
        let needed = condition.fields().into_iter().find(|field| AUDIO_FIELDS.contains(field)).map(str::to_owned);
        let facts: HashMap<String, AudioFacts> = match needed {
            Some(field) => {
                let corpus = self.corpus(&field)?;
                let facts = corpus.clips.iter().zip(audio_facts(corpus));
                facts.filter_map(|(clip, facts)| Some((clip.id.clone(), facts?.ok()?))).collect()
            }
            None => HashMap::new(),
        };
        let holds = |clip: &Clip| condition.holds(&ClipFields { clip, facts: facts.get(&clip.id) });
        let clips: Vec<bool> = self.clips()?.iter().map(holds).collect();
        if !clips.contains(&true) {
            let what = format!("no clip of run {} meets the condition", self.run.id);
            return Err(Problem::new(what, Place::default().field(format!("--where {text}"))).into());
        }
        Ok(Selection { condition: text.to_owned(), clips: clips.into() })
    }

    /// A key that the sheet does not hold; none where it does, or where nobody knows it.
    fn key(&mut self, sheet: &Sheet, by: &str) -> Result<Option<SliceKey>, Failure> {
        if sheet.keys.iter().any(|key| key.by == by) {
            return Ok(None);
        }
        if let Some((one, other)) = by.split_once('*') {
            let one = self.known(sheet, one.trim())?;
            let other = self.known(sheet, other.trim())?;
            return Ok(Some(SliceKey { by: by.to_owned(), ..crossed(&one, &other) }));
        }
        match by {
            LENGTH => self.lengths().map(Some),
            SNR => self.noise().map(Some),
            _ => Ok(None),
        }
    }

    fn known(&mut self, sheet: &Sheet, by: &str) -> Result<SliceKey, Failure> {
        if let Some(key) = sheet.keys.iter().find(|key| key.by == by) {
            return Ok(key.clone());
        }
        match self.key(sheet, by)? {
            Some(key) => Ok(key),
            None => {
                let further = [LENGTH, SNR].map(str::to_owned);
                let names: Vec<String> = sheet.keys.iter().map(|key| key.by.clone()).chain(further).collect();
                Err(unknown(format!("no clip has the tag \"{by}\""), by, &names, Place::default().field("--by"))
                    .into())
            }
        }
    }

    /// Bands of the words of the label, under the run's text profile.
    fn lengths(&mut self) -> Result<SliceKey, Failure> {
        let profile = &self.run.text_profile;
        let band = |clip: &Clip| {
            let label = Label::parse(&clip.text).ok()?;
            let words = profile.tokens(&label.first_reading()).len() as u64;
            LENGTH_BANDS.iter().position(|(most, _)| words <= *most).or(Some(LENGTH_BANDS.len() - 1))
        };
        let bands: Vec<Option<usize>> = self.clips()?.iter().map(band).collect();
        Ok(key_of(LENGTH, &LENGTH_BANDS.map(|(_, name)| name.to_owned()), &bands))
    }

    /// Bands of the signal-to-noise ratio, measured in the audio.
    fn noise(&mut self) -> Result<SliceKey, Failure> {
        let corpus = self.corpus("snr")?;
        let measured = with_progress("reading audio", &corpus.clips, |clip| snr_band(&corpus.folder, clip));
        let by_id: HashMap<String, String> =
            corpus.clips.iter().zip(measured).filter_map(|(clip, band)| Some((clip.id.clone(), band?))).collect();
        let mut names: Vec<String> = by_id.values().cloned().collect();
        names.sort_by_key(|name| name.trim_start_matches(|c: char| !c.is_ascii_digit()).to_owned());
        names.dedup();
        let band = |clip: &Clip| by_id.get(&clip.id).and_then(|band| names.iter().position(|name| name == band));
        let bands: Vec<Option<usize>> = self.clips()?.iter().map(band).collect();
        Ok(key_of(SNR, &names, &bands))
    }
}

/// A key of bands, without those that hold no clip.
fn key_of(by: &str, names: &[String], bands: &[Option<usize>]) -> SliceKey {
    let used: Vec<usize> = (0..names.len()).filter(|at| bands.contains(&Some(*at))).collect();
    let number = |band: &Option<usize>| {
        band.and_then(|band| used.iter().position(|at| *at == band)).map_or(0, |at| at as u32 + 1)
    };
    SliceKey {
        by: by.to_owned(),
        values: used.iter().map(|at| names[*at].clone()).collect(),
        of_clip: bands.iter().map(number).collect(),
    }
}

/// A condition over clips: only fields and tags that some clip has.
pub fn read_condition(text: &str, clips: &[Clip]) -> Result<Condition, Problem> {
    let place = || Place::default().field(format!("--where {text}"));
    let condition = Condition::parse(text).map_err(|error| {
        Problem::new(format!("the condition cannot be read at column {}: {}", error.column, error.what), place())
            .expected(error.expected)
    })?;
    let mut known: Vec<String> = clips.iter().flat_map(|clip| clip.tags.keys().cloned()).collect();
    known.sort();
    known.dedup();
    known.extend(CLIP_FIELDS.iter().chain(&AUDIO_FIELDS).map(|name| (*name).to_owned()));
    match condition.fields().into_iter().find(|field| !known.iter().any(|name| name == field)) {
        None => Ok(condition),
        Some(field) => Err(unknown(format!("no clip has a field or tag \"{field}\""), field, &known, place())),
    }
}
