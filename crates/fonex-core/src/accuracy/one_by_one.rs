//! Clips scored one after the other as they are read, each with its only result.

use super::{Answered, ScoreBuilder};
use crate::align::EditCounts;
use crate::text::{Label, LabelError, TextProfile};
use crate::{Clip, Heard};

impl ScoreBuilder {
    /// Counts a clip with its result, or without one, into what its label makes of it: disputed, missing or scored. Gives the words
    /// of a clip that was scored. `label` is room for the label.
    ///
    /// # Errors
    /// When the label cannot be read.
    pub fn take(
        &mut self,
        profile: &TextProfile,
        clip: &Clip,
        label: &mut Label,
        heard: Option<&Heard>,
    ) -> Result<Option<EditCounts>, LabelError> {
        label.refill(&clip.text)?;
        if clip.is_disputed() {
            self.add_disputed(profile, clip, label, heard);
            return Ok(None);
        }
        let Some(heard) = heard else {
            self.add_missing(profile, clip, label);
            return Ok(None);
        };
        let counts = self.hear(profile, clip, label, heard);
        let words = counts.words;
        self.add(clip, &[Answered { counts, took_ms: heard.took_ms }]);
        Ok(Some(words))
    }
}
