//! The program: reads the command line, hands over to one command, and turns the result into an exit code.

mod brief;
mod cli;
mod commands;
mod facts;
mod failure;
mod memory;
mod output;

use std::process::ExitCode;

use clap::FromArgMatches;

use cli::Cli;

fn main() -> ExitCode {
    clap_complete::CompleteEnv::with_factory(|| commands::completions::with_values(cli::command()))
        .var(commands::completions::ASKED_BY)
        .complete();
    let matches = cli::command().get_matches();
    let cli = Cli::from_arg_matches(&matches).unwrap_or_else(|error| error.exit());
    if cli.command.as_ref().is_some_and(cli::Command::keeps_many_threads) {
        memory::come_in_small_pages();
    }
    output::set_manner(cli.quiet, cli.color);
    std::panic::set_hook(Box::new(|panic| {
        let place =
            panic.location().map_or_else(String::new, |place| format!(" ({}:{})", place.file(), place.line()));
        let why = fonex_engines::panic_message(panic.payload());
        output::caution(&format!("{why}{place}"));
        output::note(
            "  This is a fault of Fonex, not of your input: please report it with the command and this message.",
        );
    }));
    fonex_run::hear_of_file_limits();
    fonex_engines::notice::set(|program, line| output::note(&format!("{program} says: {line}")));
    match commands::dispatch(cli) {
        Ok(code) => code.into(),
        Err(failure) => {
            output::print_failure(&failure);
            failure.code().into()
        }
    }
}
