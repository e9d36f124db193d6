//! A whole run as one file: JSON Lines that another store takes in.

use std::collections::BTreeSet;
use std::fs;
use std::io::Write;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use fonex_store::{Run, Store, TrialRecord};
use serde::{Deserialize, Serialize};

use crate::failure::Failure;
use crate::output::{self, plural};

/// The version of the file's form.
pub(in crate::commands) const FORM: u32 = 2;
/// The form of a run of which no trial was made again: earlier versions read it too.
const FORM_WITHOUT_RETRIED: u32 = 1;

/// The first line of a run file. The labels follow in the order of the corpus, then the trials, those
/// that failed and were made again, and the audio.
#[derive(Debug, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub(in crate::commands) struct RunFileHead {
    /// The version of the file's form.
    pub fonex_run: u32,
    /// The run.
    pub run: Run,
    /// Lines of labels.
    pub clips: usize,
    /// Lines of trials, those of the warm-up included.
    pub trials: usize,
    /// Lines of trials that failed and were made again.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub retried: usize,
    /// Lines of audio.
    pub audio: usize,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "as serde calls it")]
const fn is_zero(count: &usize) -> bool {
    *count == 0
}

/// One synthesised answer.
#[derive(Debug, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub(in crate::commands) struct AudioLine {
    /// Its name: the checksum of its bytes and its ending.
    pub name: String,
    /// Its bytes.
    pub base64: String,
}

pub(super) fn write(store: &Store, run: &Run, audio: bool, out: &mut dyn Write) -> Result<(), Failure> {
    let clips = store.clips(&run.corpus_checksum)?;
    let (mut trials, mut names, mut lost) = (0, BTreeSet::new(), 0);
    store.each_trial(run.id, |trial: TrialRecord| {
        trials += 1;
        names.extend(trial.audio_file);
    })?;
    let files = store.audio_files();
    names.retain(|name| {
        let there = files.path(name).is_file();
        lost += u64::from(!there);
        there && audio
    });
    if lost > 0 && audio {
        output::caution(&format!("{} of the store is missing and left out", plural(lost, "audio file")));
    }
    let earlier = store.retried(run.id)?;
    let head = RunFileHead {
        fonex_run: if earlier.is_empty() { FORM_WITHOUT_RETRIED } else { FORM },
        run: run.clone(),
        clips: clips.len(),
        trials,
        retried: earlier.len(),
        audio: names.len(),
    };
    let mut line = |line: String| -> std::io::Result<()> {
        out.write_all(line.as_bytes())?;
        out.write_all(b"\n")
    };
    let json = |error: serde_json::Error| std::io::Error::from(error);
    line(serde_json::to_string(&head).map_err(json)?)?;
    for clip in &clips {
        line(serde_json::to_string(clip).map_err(json)?)?;
    }
    let mut written = Ok(());
    store.each_trial(run.id, |trial| {
        if written.is_ok() {
            written = serde_json::to_string(&trial).map_err(json).and_then(&mut line);
        }
    })?;
    written?;
    for trial in &earlier {
        line(serde_json::to_string(trial).map_err(json)?)?;
    }
    for name in names {
        let bytes = fs::read(files.path(&name))?;
        line(serde_json::to_string(&AudioLine { name, base64: STANDARD.encode(bytes) }).map_err(json)?)?;
    }
    Ok(())
}
