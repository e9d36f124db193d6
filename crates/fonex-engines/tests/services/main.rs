//! Every transport against the stand-in service over real sockets, and against real programs.
#![allow(clippy::unwrap_used, reason = "a test that fails here says where")]

mod bounds;
mod faults;
mod juggled;
mod once;
mod programs;
mod secure;
mod shapes;
mod util;
