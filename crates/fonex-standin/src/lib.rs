//! Simulated engines with known behaviour: pure functions of a seed, a profile and what they are given.
//!
//! A stand-in recogniser is told the label and spoils it in proportion to its profile and to the noise it measures in
//! the audio; a stand-in synthesiser makes vowel-like sound of known pace, pitch and level. Both say how long they would
//! take; the caller waits.

mod behaviours;
mod confusions;
mod hear;
mod reply;
pub mod service;
mod speak;

pub use behaviours::{Behaviours, profile_of};
pub use hear::{BuildChange, HearProfile, Hearing, hear};
pub use reply::{ReplyProfile, Replying, reply};
pub use speak::{SpeakProfile, Speaking, speak};
