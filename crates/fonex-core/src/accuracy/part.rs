//! Part of a score, as a file takes it from one machine to another: what a builder has gathered, and under what.

use serde::{Deserialize, Serialize};

use super::{ScoreBuilder, TermsState};
use crate::text::TextProfile;

/// Part of a score: the counts of some of the clips, from which, with those of all others, everything a score says is made.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ScorePart {
    /// How texts were compared.
    profile: TextProfile,
    /// What was counted.
    counted: ScoreBuilder,
    /// The must-hear terms of the whole corpus, and what was counted of each.
    terms: TermsState,
}

impl ScorePart {
    /// What a builder has gathered under a profile.
    #[must_use]
    pub fn new(profile: &TextProfile, builder: ScoreBuilder) -> Self {
        Self { profile: profile.clone(), terms: builder.terms_state(), counted: builder }
    }

    /// The same profile with something else gathered under it.
    #[must_use]
    pub fn with(&self, builder: ScoreBuilder) -> Self {
        Self::new(&self.profile, builder)
    }

    /// What was gathered, as a builder that goes on.
    ///
    /// # Errors
    /// What cannot be right in it.
    pub fn builder(self) -> Result<ScoreBuilder, &'static str> {
        self.counted.restored(&self.profile, self.terms)
    }

    /// Whether another part was made in the same way, and belongs to the same corpus as far as can be seen.
    ///
    /// # Errors
    /// What differs.
    pub fn check_same(&self, other: &Self) -> Result<(), &'static str> {
        if self.profile != other.profile {
            return Err("another text profile");
        }
        if !self.counted.is_made_like(&other.counted) {
            return Err("other weights or crossed slices");
        }
        if !self.terms.are_of(&other.terms) {
            return Err("other must-hear terms: parts are made with --part of the whole corpus");
        }
        Ok(())
    }
}
