//! Executing a plan: every trial once, whatever happens.

mod budget;
mod busy;
mod commit;
mod crew;
mod interrupt;
mod machine;
mod material;
mod order;
mod runner;
mod trial;

pub use interrupt::{Heeding, Interrupt, hear_of_file_limits};
pub use machine::{now, this_machine};
pub use runner::{Execution, Forecast, Progress, execute, forecast};
pub use trial::{Heardable, Sound, Source};
