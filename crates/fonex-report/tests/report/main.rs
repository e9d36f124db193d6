//! Tables and charts with whatever may stand in them.
#![allow(clippy::unwrap_used, reason = "a test that fails here says where")]

mod charts;
mod folding;
mod tables;
