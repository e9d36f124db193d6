//! `fonex completions`: a completion script for a shell.

use clap::Args;

use crate::failure::{Code, Failure};
use crate::output;

#[derive(Debug, Args)]
#[command(after_help = "Example: fonex completions bash > fonex.bash")]
pub struct CompletionsOptions {
    /// The shell
    pub shell: clap_complete::Shell,
}

pub fn completions(options: &CompletionsOptions) -> Result<Code, Failure> {
    let mut script = Vec::new();
    clap_complete::generate(options.shell, &mut crate::cli::command(), "fonex", &mut script);
    output::print(&String::from_utf8_lossy(&script))?;
    Ok(Code::Done)
}
