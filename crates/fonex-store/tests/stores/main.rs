//! The store in a temporary folder, and on a server where `FONEX_TEST_POSTGRES` names one.
#![allow(clippy::unwrap_used, reason = "a test that fails here says where")]

mod kept;
mod places;
mod queries;
mod store;
