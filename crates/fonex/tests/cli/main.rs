//! The real program on files in a temporary folder.
//!
//! Where a test belongs: `score` for labels against results, `bad_input` for complaints about files, `run` for
//! executing plans and resuming, `names` for naming and deleting runs, `hostile` for engines that misbehave, `pages` for compare, trend, report and demo, `spoken` for how voices speak, `material` for corpora and audio.
//! The JSON contracts are declared a second time, strictly, in `contract`.
#![allow(clippy::unwrap_used, reason = "a test that fails here says where")]

mod bad_input;
mod contract;
mod disks;
mod hostile;
mod kills;
mod material;
mod names;
mod pages;
mod picked;
mod run;
mod score;
mod services;
mod spoken;
mod times;
mod util;
mod varied;
mod voices;
