//! Written and spoken forms made one: what a person writes short and says long, before signs are taken away.

mod continental;
mod english;
mod fractions;
mod french;
mod german;
mod read;
mod readings;
mod spanish;
mod words;

use super::LabelPart;
use super::numbers::NumberLanguage;
use icu_normalizer::ComposingNormalizerBorrowed;

/// Stands where two numbers meet that are not one: at the end of a sentence, at a comma. The numbers step takes it away.
pub(super) const BOUNDARY: &str = "\u{e000}";

impl NumberLanguage {
    /// Brings the forms of a text into one. Signs and capitals must still be there. Cost is linear.
    pub(super) fn forms(self, text: &str) -> String {
        // Accents in one sign, but "½" and "º" as they are, unlike in form KC.
        let text = ComposingNormalizerBorrowed::new_nfc().normalize(text);
        match self {
            Self::English => english::spoken(&text),
            Self::German => continental::spoken(&german::FORMS, &text),
            Self::French => continental::spoken(&french::FORMS, &text),
            Self::Spanish => continental::spoken(&spanish::FORMS, &text),
        }
    }

    /// The text in parts, where a label that says it can be read in other ways too.
    pub(super) fn readings(self, text: &str) -> Option<Vec<LabelPart>> {
        readings::readings(self, text)
    }
}

#[cfg(test)]
mod tests;
