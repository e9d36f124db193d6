//! Listening panels: the key that is kept, the ratings that listeners send back, and what both together say.

mod agree;
mod collect;
mod key;
mod ratings;

pub use agree::{MeasureAgreement, agree_with_measures};
pub use collect::{CollectedListener, LeftOut, NamedRatings, PanelResult, collect};
pub use key::{Laid, PanelKey, PanelSound, PanelText, PanelVoice, SoundRole, VoiceRole};
pub use ratings::{Answer, Ratings, read_ratings};
