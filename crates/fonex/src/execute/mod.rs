//! Executing a plan: every trial once, whatever happens.

mod budget;
mod interrupt;
mod machine;
mod progress;
mod runner;
mod trial;

pub use interrupt::stop_on_interrupt;
pub use machine::{now, this_machine};
pub use progress::clip_bar;
pub use runner::{Execution, Forecast, execute, forecast};
pub use trial::{Heardable, Sound};
