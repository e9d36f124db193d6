//! Simulated engines with known behaviour: pure functions of a seed, a profile and what they are given.
//!
//! A stand-in recogniser is told the label and spoils it in proportion to its profile and to the noise it measures in
//! the audio; a stand-in synthesiser speaks with known pace, pitch, level and faults. Both say how long they would
//! take; the caller waits.

mod behaviours;
mod confusions;
mod hear;
mod listeners;
mod misread;
mod reply;
pub mod service;
mod sounds;
mod speak;
mod spoil;

pub use behaviours::{Behaviours, profile_of};
pub use hear::{BuildChange, HearProfile, Hearing, hear};
pub use listeners::{Audience, HeardSound};
pub use reply::{ReplyProfile, Replying, reply};
pub use speak::{EDGE_S, SpeakProfile, Speaking, speak, speak_stretches};
pub use spoil::Spoiling;
