//! `fonex manual`: a manual page for every command, from the same definitions as its help.

use std::fs;
use std::path::{Path, PathBuf};

use clap::{Args, Command};
use clap_mangen::Man;
use fonex_formats::Problem;

use crate::failure::{Code, Failure};
use crate::output::{self, plural};

#[derive(Debug, Args)]
#[command(after_help = "Example: fonex manual pages")]
pub struct ManualOptions {
    /// Folder to write the pages to
    pub folder: PathBuf,
}

pub fn manual(options: &ManualOptions) -> Result<Code, Failure> {
    let folder = &options.folder;
    fs::create_dir_all(folder).map_err(|error| Problem::io("make", folder, &error))?;
    let mut program = crate::cli::command();
    program.build();
    let pages = write_pages(&program, "fonex", folder)?;
    output::note(&format!("Wrote {} to {}.", plural(pages, "page"), folder.display()));
    Ok(Code::Done)
}

/// Writes the page of a command and those of its subcommands; gives how many they are.
fn write_pages(command: &Command, name: &str, folder: &Path) -> Result<u64, Failure> {
    // A page is found under its command's whole name, such as fonex-corpus-check.
    let page = command.clone().display_name(name.to_owned()).bin_name(name.replace('-', " "));
    let mut text = Vec::new();
    Man::new(page).render(&mut text)?;
    let path = folder.join(format!("{name}.1"));
    fs::write(&path, text).map_err(|error| Problem::io("write", &path, &error))?;
    let mut pages = 1;
    for inner in command.get_subcommands().filter(|inner| inner.get_name() != "help") {
        pages += write_pages(inner, &format!("{name}-{}", inner.get_name()), folder)?;
    }
    Ok(pages)
}
