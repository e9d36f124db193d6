//! Executing a plan: every trial once, whatever happens.

mod budget;
mod busy;
mod claim;
mod commit;
mod crew;
mod interrupt;
mod machine;
mod material;
mod order;
mod runner;
mod streak;
mod trial;
mod when_over;

#[cfg(feature = "spread")]
pub(crate) use claim::Claimed;
pub use claim::Which;
#[cfg(feature = "spread")]
pub(crate) use crew::{Crew, no_thread};
pub use fonex_system::hear_of_file_limits;
pub use interrupt::{Heeding, Interrupt};
pub use machine::{now, this_machine};
#[cfg(feature = "spread")]
pub(crate) use material::Material;
#[cfg(feature = "spread")]
pub(crate) use order::{Group, left_to_do};
#[cfg(feature = "spread")]
pub(crate) use runner::{Engines, engines, new_run, print_of};
pub use runner::{Execution, Forecast, Progress, execute, forecast};
pub use trial::{Heardable, Sound, Source};
#[cfg(feature = "spread")]
pub(crate) use when_over::WhenOver;
