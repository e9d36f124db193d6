//! `fonex import`: a run that was exported from another store.

use std::fs::File;
use std::io::{BufRead, BufReader, Read};
use std::path::{Path, PathBuf};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use clap::Args;
use fonex_core::Clip;
use fonex_core::text::Label;
use fonex_formats::{Place, Problem, checksum, corpus_line, parse_strict, regular};
use fonex_store::{NewRun, Run, RunState, Taken, TrialRecord, is_audio_name};
use serde::Deserialize;

use super::export::RunFileHead;
use super::export::run_file::{AudioLine, FORM};
use super::run_names::check_label;
use crate::cli::BenchArg;
use crate::failure::{Code, Failure};
use crate::output::{self, plural};

#[derive(Debug, Args)]
#[command(
    after_help = "Example, in the folder the demo made: fonex import run1.fonexrun.jsonl --bench elsewhere/fonex.toml"
)]
pub struct ImportOptions {
    /// File that fonex export wrote
    pub file: PathBuf,
    /// Another label for it
    #[arg(long, value_name = "LABEL")]
    pub label: Option<String>,
    /// Take it in although the store has this run already
    #[arg(long)]
    pub again: bool,
    #[command(flatten)]
    pub bench: BenchArg,
}

/// A line longer than this is none of ours.
const LONGEST_LINE: u64 = 512 << 20;

pub fn import(options: &ImportOptions) -> Result<Code, Failure> {
    if let Some(label) = &options.label {
        check_label(label)?;
    }
    let mut lines = Lines::open(&options.file)?;
    let head = lines.head()?;
    let clips = lines.clips(&head)?;
    let store = options.bench.store().open()?;
    let known = store.runs()?.into_iter().find(|run| same(run, &head.run));
    if let Some(known) = known.filter(|_| !options.again) {
        let problem =
            Problem::new(format!("the store has this run already, as run {}", known.id), Place::file(&options.file));
        return Err(problem.remedy("nothing is to be done; --again takes it in a second time").into());
    }
    let new = new_run(&head, clips, options.label.clone());
    let finished_at = (head.run.state == RunState::Finished)
        .then(|| head.run.finished_at.clone().unwrap_or_else(|| head.run.started_at.clone()));
    let (mut left, mut retried) = (head.trials, head.retried);
    let files = store.audio_files();
    let mut kept: Vec<String> = Vec::new();
    let taken_in = store.take_in_run(&new, finished_at.as_deref(), || -> Result<Option<Taken>, Failure> {
        if left > 0 {
            left -= 1;
            return Ok(Some(Taken::Trial(Box::new(lines.trial(&new)?))));
        }
        if retried > 0 {
            retried -= 1;
            return Ok(Some(Taken::Retried(Box::new(lines.trial(&new)?))));
        }
        for _ in 0..head.audio {
            let (name, bytes) = lines.audio()?;
            let new = !files.path(&name).exists();
            let (checksum, ending) = name.split_once('.').unwrap_or((&name, ""));
            files.keep(checksum, ending, &bytes)?;
            kept.extend(new.then_some(name));
        }
        lines.end()?;
        Ok(None)
    });
    if taken_in.is_err() {
        // Nothing of a run that is not taken in stays behind.
        kept.iter().for_each(|name| drop(files.delete(name)));
    }
    let id = taken_in?;
    output::note(&format!(
        "Run {} of another store is run {id} here: plan {}, {}.",
        head.run.id,
        head.run.plan,
        plural(head.trials as u64, "trial")
    ));
    Ok(Code::Done)
}

/// Whether two records are of one run: nobody starts two at the same moment on the same material.
fn same(one: &Run, other: &Run) -> bool {
    (&one.started_at, &one.plan, &one.corpus_checksum, one.seed, &one.variants)
        == (&other.started_at, &other.plan, &other.corpus_checksum, other.seed, &other.variants)
}

fn new_run(head: &RunFileHead, clips: Vec<Clip>, label: Option<String>) -> NewRun {
    let run = head.run.clone();
    NewRun {
        label: label.or(run.label),
        commit: run.commit,
        plan: run.plan,
        started_at: run.started_at,
        seed: run.seed,
        // No plan of this folder resumes it.
        fingerprint: format!("imported {}", head.run.id),
        fonex_version: run.fonex_version,
        text_profile: run.text_profile,
        corpus_path: run.corpus_path,
        corpus_checksum: run.corpus_checksum,
        bench_checksum: run.bench_checksum,
        overrides: run.overrides,
        machine: run.machine,
        planned: run.planned,
        variants: run.variants,
        clips,
        left_out: run.left_out,
        notes: run.notes,
    }
}

/// A run file, line by line.
struct Lines {
    reader: BufReader<File>,
    path: PathBuf,
    number: u64,
}

impl Lines {
    fn open(path: &Path) -> Result<Self, Problem> {
        let file = regular::open(path).map_err(|error| Problem::io("read", path, &error))?;
        Ok(Self { reader: BufReader::new(file), path: path.to_owned(), number: 0 })
    }

    fn place(&self) -> Place {
        Place::line(&self.path, self.number)
    }

    /// The next line; what is missing names what was expected.
    fn next(&mut self, what: &str) -> Result<String, Problem> {
        self.number += 1;
        let mut bytes = Vec::new();
        let read = (&mut self.reader).take(LONGEST_LINE).read_until(b'\n', &mut bytes);
        read.map_err(|error| Problem::io("read", &self.path, &error))?;
        if bytes.last() != Some(&b'\n') {
            let problem = Problem::new(format!("the file ends before {what}"), self.place());
            return Err(problem.remedy("export the run again: this file is cut short"));
        }
        bytes.pop();
        String::from_utf8(bytes).map_err(|_| Problem::new("this is no UTF-8", self.place()))
    }

    fn head(&mut self) -> Result<RunFileHead, Problem> {
        #[derive(Deserialize, schemars::JsonSchema)]
        struct Form {
            fonex_run: u32,
        }
        let not_one =
            |place: Place| Problem::new("this is no exported run", place).expected("a file that fonex export wrote");
        let line = self.next("its first line").map_err(|_| not_one(Place::file(&self.path)))?;
        let form: Form = serde_json::from_str(&line).map_err(|_| not_one(self.place()))?;
        if form.fonex_run > FORM {
            let what = format!("this run was exported by a newer Fonex, in form {}", form.fonex_run);
            return Err(Problem::new(what, self.place()).expected(format!("form {FORM}")).remedy("use that version"));
        }
        parse_strict(&line, self.place())
    }

    /// The labels, which have to be those that the run's checksum is of.
    fn clips(&mut self, head: &RunFileHead) -> Result<Vec<Clip>, Problem> {
        let mut clips = Vec::new();
        let mut written = String::new();
        for _ in 0..head.clips {
            let line = self.next("its last label")?;
            let clip: Clip = parse_strict(&line, self.place())?;
            if let Err(error) = Label::parse(&clip.text) {
                return Err(Problem::new(error.to_string(), self.place().field("text")));
            }
            written += &corpus_line(&clip);
            written.push('\n');
            clips.push(clip);
        }
        if checksum::of_bytes(written.as_bytes()) != head.run.corpus_checksum {
            let problem = Problem::new("the labels are not those of the run's corpus", Place::file(&self.path));
            return Err(problem.remedy("export the run again: this file was changed"));
        }
        Ok(clips)
    }

    fn trial(&mut self, run: &NewRun) -> Result<TrialRecord, Problem> {
        let line = self.next("its last trial")?;
        let trial: TrialRecord = parse_strict(&line, self.place())?;
        if trial.key.variant >= run.variants.len() {
            let what = format!("a trial of variant {}, but the run has {}", trial.key.variant, run.variants.len());
            return Err(Problem::new(what, self.place().field("variant")));
        }
        if let Some(name) = &trial.audio_file {
            self.check_name(name)?;
        }
        Ok(trial)
    }

    fn audio(&mut self) -> Result<(String, Vec<u8>), Problem> {
        let line = self.next("its last audio file")?;
        let AudioLine { name, base64 } = parse_strict(&line, self.place())?;
        self.check_name(&name)?;
        let bytes =
            STANDARD.decode(base64).map_err(|_| Problem::new("this is no Base64", self.place().field("base64")))?;
        if !name.starts_with(&checksum::of_bytes(&bytes)) {
            return Err(Problem::new("the audio is not what its name says", self.place().field("base64")));
        }
        Ok((name, bytes))
    }

    fn check_name(&self, name: &str) -> Result<(), Problem> {
        if is_audio_name(name) {
            return Ok(());
        }
        Err(Problem::new(format!("\"{name}\" is no name of an audio file"), self.place())
            .expected("a checksum and an ending"))
    }

    fn end(&mut self) -> Result<(), Problem> {
        let mut rest = [0; 1];
        match self.reader.read(&mut rest) {
            Ok(0) => Ok(()),
            _ => Err(Problem::new("the file goes on behind its last line", Place::file(&self.path))),
        }
    }
}
