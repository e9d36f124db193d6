//! `fonex init`: a commented bench file to start from.

use clap::Args;
use std::fs::{self, OpenOptions};
use std::io::{ErrorKind, Write};
use std::path::PathBuf;

use fonex_formats::{Place, Problem};

use crate::failure::{Code, Failure};
use crate::output;

#[derive(Debug, Args)]
#[command(after_help = "Example: fonex init my-bench")]
pub struct InitOptions {
    /// Folder to write fonex.toml into
    #[arg(value_name = "DIR", default_value = ".")]
    pub folder: PathBuf,
}

const TEMPLATE: &str = include_str!("template.toml");

pub fn init(options: &InitOptions) -> Result<Code, Failure> {
    fs::create_dir_all(&options.folder).map_err(|error| Problem::io("make", &options.folder, &error))?;
    let path = options.folder.join("fonex.toml");
    let mut file =
        OpenOptions::new().write(true).create_new(true).open(&path).map_err(|error| match error.kind() {
            ErrorKind::AlreadyExists => Problem::new("this folder already holds a bench file", Place::file(&path))
                .remedy("edit it, or give another folder"),
            _ => Problem::io("write", &path, &error),
        })?;
    file.write_all(TEMPLATE.as_bytes()).map_err(|error| Problem::io("write", &path, &error))?;
    output::print_lines(&format!(
        "Wrote {}.\nNext: put your clips into corpus.jsonl beside it, edit the engine's command, and run in that folder:\n  \
         fonex try my-recogniser CLIP-ID    one clip, now\n  fonex run hear                      all of them\n",
        path.display()
    ))?;
    Ok(Code::Done)
}
