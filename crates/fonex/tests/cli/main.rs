//! The real program on files in a temporary folder.
//!
//! Where a test belongs: `score` for labels against results, `bad_input` for complaints about files, `run` for
//! executing plans and resuming, `names` for naming and deleting runs, `failed` for trials that fail alike and are made again, `hostile` for engines that misbehave, `pages` for compare, trend, report and demo, `report_page` for the report in a browser, `spoken` for how sound is measured, `voices` for what is heard of voices, `speaking` for what voices are asked, `panel` for listeners, `gate` for limits and baselines, `own` for measures of one's own, `labels` for labels on trial, `many` for matrices and what changed sides, `export` for runs that leave a store, `facts` for what each fact holds of fixed trials, `trends` for many runs, `schemas` for the forms of files and manual pages, `watch` for runs as they go, `material` for corpora and audio, `stores` for looking after stores, `parts` for scores in parts, `pieces` for labels in many files, `spread` for runs on several machines, `let_in` for who may use a server between them, `versions` for what earlier versions wrote.
//! The JSON contracts are declared a second time, strictly, in `contract`.
#![allow(clippy::unwrap_used, reason = "a test that fails here says where")]

mod bad_input;
mod browser;
mod contract;
mod disks;
mod export;
mod facts;
#[cfg(unix)]
mod failed;
mod gate;
mod hostile;
mod kills;
mod labels;
mod let_in;
mod many;
mod material;
mod matters;
mod names;
mod own;
mod pages;
mod panel;
mod parts;
mod picked;
mod pieces;
mod report_page;
mod run;
mod schemas;
mod score;
mod selected;
mod services;
mod speaking;
mod spoken;
#[cfg(feature = "team")]
mod spread;
mod stores;
mod times;
mod trends;
mod util;
mod varied;
mod versions;
mod voices;
mod watch;
