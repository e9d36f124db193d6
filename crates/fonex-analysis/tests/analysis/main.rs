//! Stored runs measured, compared and followed, on real stores in temporary folders.
#![allow(clippy::unwrap_used, reason = "a test that fails here says where")]

mod compare;
mod depth;
mod facts;
mod trend;
mod world;
