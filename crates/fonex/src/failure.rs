//! Why a command could not do its work, and the exit code that says so.

use std::process::ExitCode;

use fonex_formats::{Place, Problem, Problems};
use fonex_run::{RunError, store_problem};
use fonex_store::StoreError;

/// What a process says with its exit code.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Code {
    /// Done.
    Done,
    /// What was checked did not pass.
    NotPassed,
    /// Wrong use or unreadable input.
    WrongUse,
    /// Some trials failed beyond what the plan allows, or some input was left out.
    TrialsFailed,
    /// Interrupted.
    Interrupted,
}

impl From<Code> for ExitCode {
    fn from(code: Code) -> Self {
        Self::from(match code {
            Code::Done => 0,
            Code::NotPassed => 1,
            Code::WrongUse => 2,
            Code::TrialsFailed => 3,
            Code::Interrupted => 130,
        })
    }
}

/// Why a command could not do its work.
#[derive(Debug)]
pub enum Failure {
    /// Something is wrong with the input.
    Input(Problems),
    /// The reader of our output went away; nobody is left to be told.
    OutputClosed,
}

impl Failure {
    /// The exit code.
    pub const fn code(&self) -> Code {
        match self {
            Self::Input(_) => Code::WrongUse,
            Self::OutputClosed => Code::Done,
        }
    }
}

impl From<Problems> for Failure {
    fn from(problems: Problems) -> Self {
        Self::Input(problems)
    }
}

impl From<Problem> for Failure {
    fn from(problem: Problem) -> Self {
        Self::Input(problem.into())
    }
}

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Self {
        store_problem(&error).into()
    }
}

impl From<RunError> for Failure {
    fn from(error: RunError) -> Self {
        Self::Input(error.0)
    }
}

impl From<std::io::Error> for Failure {
    fn from(error: std::io::Error) -> Self {
        if error.kind() == std::io::ErrorKind::BrokenPipe {
            return Self::OutputClosed;
        }
        Problem::new(format!("cannot write the output: {error}"), Place::default()).into()
    }
}
