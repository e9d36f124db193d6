//! Readers of answers by themselves, for the fuzzer: no server, no program, no clock.

use std::path::Path;
use std::time::Duration;

use fonex_core::{Heard, Task};
use fonex_formats::Problem;

use crate::http::read_pieces;
use crate::mapping::ResultConfig;
use crate::worker::read_line;

/// What an HTTP answer with this body says, by an engine's `result`.
///
/// # Errors
/// What is wrong with the answer, in words.
pub fn answer(config: &ResultConfig, task: Task, body: &[u8]) -> Result<(Heard, Vec<u8>), String> {
    let pieces = body.chunks(61).zip(1..).map(|(piece, ms)| (piece, Duration::from_millis(ms)));
    read_pieces(config, task, pieces)
}

/// Whether a line of a worker is an answer to request 1.
///
/// # Errors
/// What is wrong with it, in words.
pub fn worker_line(line: &str) -> Result<bool, String> {
    Ok(read_line(line, 1)?.is_some())
}

/// The keys of a `.env` file.
///
/// # Errors
/// Where a line is none.
pub fn secrets(text: &str) -> Result<(), Problem> {
    crate::secrets::lines(text, Path::new(".env")).map(drop)
}
