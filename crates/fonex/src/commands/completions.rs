//! `fonex completions`: a completion script for a shell.

use clap::CommandFactory;

use crate::cli::{Cli, Completions};
use crate::failure::{Code, Failure};
use crate::output;

pub fn completions(options: &Completions) -> Result<Code, Failure> {
    let mut script = Vec::new();
    clap_complete::generate(options.shell, &mut Cli::command(), "fonex", &mut script);
    output::print(&String::from_utf8_lossy(&script))?;
    Ok(Code::Done)
}
