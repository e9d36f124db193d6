//! `fonex merge`: parts of a score put together.

use std::path::PathBuf;

use clap::Args;
use fonex_formats::{Place, Problem};

use super::score::{PartFile, show_score};
use crate::cli::FormatArg;
use crate::failure::{Code, Failure};
use crate::output::{self, plural};

#[derive(Debug, Args)]
#[command(
    after_help = "What is printed is what fonex score prints of the whole: counts, rates and intervals are the same to the last digit.
Without all parts nothing is printed; -o puts those that are there into one file.

Example, in the folder the demo made:
  fonex score corpus.jsonl heard.jsonl --part 1/2 -o one.part
  fonex score corpus.jsonl heard.jsonl --part 2/2 -o two.part
  fonex merge one.part two.part"
)]
pub struct MergeOptions {
    /// Files that fonex score --part wrote, or fonex merge -o
    #[arg(required = true, value_name = "PART")]
    pub parts: Vec<PathBuf>,
    /// Write what was put together to this file, instead of printing the score
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Show every table below the answer
    #[arg(long)]
    pub all: bool,
    #[command(flatten)]
    pub format: FormatArg,
}

pub fn merge(options: &MergeOptions) -> Result<Code, Failure> {
    let read = |path: &PathBuf| PartFile::read(path).map(|file| (path.clone(), file));
    let (file, builder) = PartFile::together(options.parts.iter().map(read).collect::<Result<_, _>>()?)?;
    let missing = file.missing();
    if let Some(path) = &options.output {
        file.with(builder).write(path)?;
        let left = if missing.is_empty() { "all parts".to_owned() } else { format!("all but {}", listed(&missing)) };
        output::note(&format!("Wrote {}: {left}.", path.display()));
        return Ok(Code::Done);
    }
    if !missing.is_empty() {
        let what = format!("the score lacks {}: {}", plural(missing.len() as u64, "part"), listed(&missing));
        let problem = Problem::new(what, Place::default());
        return Err(problem.remedy("name every part, or put those that are there into one file with -o").into());
    }
    show_score(builder.finish(), Vec::new(), file.unlabelled, &file.of_what, (options.format.format, options.all))?;
    Ok(Code::Done)
}

fn listed(parts: &[u32]) -> String {
    const MOST: usize = 10;
    let shown: Vec<String> = parts.iter().take(MOST).map(ToString::to_string).collect();
    let more = if parts.len() > MOST { format!(" and {} more", parts.len() - MOST) } else { String::new() };
    format!("{}{more}", shown.join(", "))
}
