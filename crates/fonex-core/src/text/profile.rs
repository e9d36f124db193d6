//! Text profiles: which differences between label and result count, and which are forgiven.

use std::borrow::Cow;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::steps::Signs;
use super::{NumberLanguage, TextStep};

/// One token of a text. Words of up to 24 bytes are held in place, without an allocation.
pub type Token = compact_str::CompactString;

/// An ordered list of text steps with a name.
///
/// Steps run in order on every label and every result alike; what is left is split at white space.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TextProfile {
    /// The name that reports print.
    pub name: String,
    /// What is done, in order.
    pub steps: Vec<TextStep>,
}

const LANGUAGES: [(&str, &str); 10] = [
    ("en", include_str!("../../profiles/en.toml")),
    ("de", include_str!("../../profiles/de.toml")),
    ("fr", include_str!("../../profiles/fr.toml")),
    ("es", include_str!("../../profiles/es.toml")),
    ("it", include_str!("../../profiles/it.toml")),
    ("pt", include_str!("../../profiles/pt.toml")),
    ("nl", include_str!("../../profiles/nl.toml")),
    ("pl", include_str!("../../profiles/pl.toml")),
    ("tr", include_str!("../../profiles/tr.toml")),
    ("ar", include_str!("../../profiles/ar.toml")),
];

/// A name that no shipped profile has.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("there is no text profile \"{0}\"")]
pub struct UnknownProfile(pub String);

impl TextProfile {
    /// The names of the shipped profiles.
    pub const SHIPPED: [&'static str; 12] =
        ["neutral", "verbatim", "en", "de", "fr", "es", "it", "pt", "nl", "pl", "tr", "ar"];

    /// A shipped profile: `verbatim` forgives nothing; `neutral` case, punctuation and markup; those of a language also the
    /// ways it is written. Numbers in digits and words are one in `en`, `de`, `fr` and `es`.
    ///
    /// # Errors
    /// When the name is not in [`Self::SHIPPED`].
    pub fn shipped(name: &str) -> Result<Self, UnknownProfile> {
        let steps = match name {
            "neutral" => TextStep::NEUTRAL.to_vec(),
            "verbatim" => Vec::new(),
            _ => {
                let language = LANGUAGES.iter().find(|(known, _)| *known == name);
                let (_, text) = language.ok_or_else(|| UnknownProfile(name.to_owned()))?;
                return Ok(toml::from_str(text).expect("the shipped profiles are read by a test"));
            }
        };
        Ok(Self { name: name.to_owned(), steps })
    }

    /// The profile with the steps of the shipped profiles it names put in their place.
    ///
    /// # Errors
    /// When it names one that is not shipped.
    pub fn resolved(self) -> Result<Self, UnknownProfile> {
        let mut steps = Vec::new();
        for step in self.steps {
            match step {
                TextStep::Profile(name) => steps.extend(Self::shipped(&name)?.steps),
                other => steps.push(other),
            }
        }
        Ok(Self { steps, ..self })
    }

    /// The profile for a clip in a language (BCP 47): letters of Turkish and Azerbaijani are folded as these languages do.
    #[must_use]
    pub fn in_language(&self, lang: Option<&str>) -> Cow<'_, Self> {
        let subtag = lang.and_then(|lang| lang.split(['-', '_']).next()).unwrap_or_default();
        let turkic = ["tr", "az"].iter().any(|known| subtag.eq_ignore_ascii_case(known));
        if !turkic || !self.steps.contains(&TextStep::Case) {
            return Cow::Borrowed(self);
        }
        let fold = |step: &TextStep| if *step == TextStep::Case { TextStep::TurkicCase } else { step.clone() };
        Cow::Owned(Self { name: self.name.clone(), steps: self.steps.iter().map(fold).collect() })
    }

    /// The language of its forms step.
    pub(super) fn forms(&self) -> Option<NumberLanguage> {
        self.steps.iter().find_map(|step| if let TextStep::Forms(language) = step { Some(*language) } else { None })
    }

    /// The text before the first step and after each, with the step's name.
    #[must_use]
    pub fn explain(&self, text: &str) -> Vec<(&'static str, String)> {
        let mut stages = vec![("as written", text.to_owned())];
        for step in &self.steps {
            let after = step.apply(&stages.last().expect("there is one").1).into_owned();
            stages.push((step.as_str(), after));
        }
        stages
    }

    /// The text after every step.
    #[must_use]
    pub fn apply<'t>(&self, text: &'t str) -> Cow<'t, str> {
        let mut signs = Signs::in_text(text);
        let mut text = Cow::Borrowed(text);
        for step in &self.steps {
            if !step.may_change(signs) {
                continue;
            }
            if step.traits().brings_any {
                signs = Signs::ANY;
            }
            text = match text {
                Cow::Borrowed(borrowed) => step.apply(borrowed),
                Cow::Owned(mut owned) => {
                    if !step.apply_in_place(&mut owned) {
                        match step.apply(&owned) {
                            Cow::Borrowed(same) if same.len() == owned.len() => {}
                            changed => owned = changed.into_owned(),
                        }
                    }
                    Cow::Owned(owned)
                }
            };
        }
        text
    }

    /// The tokens of a text, in order.
    #[must_use]
    pub fn tokens(&self, text: &str) -> Vec<Token> {
        let mut tokens = Vec::new();
        self.each_token(text, |token| tokens.push(Token::from(token)));
        tokens
    }

    /// Calls `with` for each token of a text, in order; gives whether they are the text's words as written.
    pub fn each_token(&self, text: &str, with: impl FnMut(&str)) -> bool {
        let left = self.apply(text);
        each_word(&left, with);
        matches!(left, Cow::Borrowed(same) if same.len() == text.len())
    }
}

/// Calls `with` for each stretch of a text between white space.
pub fn each_word(text: &str, with: impl FnMut(&str)) {
    if text.is_ascii() {
        text.split_ascii_whitespace().for_each(with);
    } else {
        text.split_whitespace().for_each(with);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Written form, and what the neutral profile leaves of it; worked out by hand.
    const CASES: [(&str, &str); 16] = [
        ("Cabin fourteen, hold at pylon six.", "cabin fourteen hold at pylon six"),
        ("DON'T  stop\u{2014}now!", "don't stop now"),
        ("don\u{2019}t \u{2018}quote\u{2019}", "don't quote"),
        ("3.5 metres, 1,200 and 7:20.", "3.5 metres 1,200 and 7:20"),
        ("50 % & €4", "50 % & €4"),
        ("help-point", "help point"),
        ("<v Ilka>Doors <b>close</b></v> now", "doors close now"),
        ("{\\an8}top line &amp; more", "top line & more"),
        ("<|start|> yes <|0.40|>", "yes"),
        ("a < b and c > d", "a < b and c > d"),
        ("Straße GROSS", "strasse gross"),
        ("ﬁrn \u{FF11}\u{FF12}", "firn 12"),
        ("e\u{301}te\u{301}", "été"),
        ("sof\u{AD}t ze\u{200B}ro", "soft zero"),
        ("नमस्ते।", "नमस्ते"),
        ("... ?!", ""),
    ];

    #[test]
    fn neutral_profile_on_hand_made_cases() {
        let profile = TextProfile::shipped("neutral").unwrap();
        for (written, expected) in CASES {
            assert_eq!(profile.tokens(written).join(" "), expected, "from {written:?}");
        }
    }

    #[test]
    fn names_of_speakers_go_and_events_stay() {
        for (written, expected) in [
            ("[Operator Two] hold here", " hold here"),
            ("[SPEAKER_1]: yes. [Anna-Lena]: no", " yes.  no"),
            ("[laughter] yes [3 s]", "[laughter] yes [3 s]"),
            ("[Éva] igen [?]", " igen [?]"),
            ("[Half a name", "[Half a name"),
            ("[] [Up: 3] [[Anna]", "[] [Up: 3] [ "),
        ] {
            assert_eq!(
                TextStep::Speakers.apply(written).split_whitespace().collect::<Vec<_>>(),
                expected.split_whitespace().collect::<Vec<_>>(),
                "from {written:?}"
            );
        }
        // Before the case step a name is still seen as one.
        let steps = vec![TextStep::Speakers, TextStep::Case, TextStep::Punctuation];
        let profile = TextProfile { name: "ours".to_owned(), steps };
        assert_eq!(profile.tokens("[Anna]: Hold, [laughter] please."), ["hold", "laughter", "please"]);
    }

    /// What the profiles of single languages leave: profile, written, expected; worked out by hand.
    const LANGUAGE_CASES: [(&str, &str, &str); 24] = [
        (
            "neutral",
            "\u{1F468}\u{200D}\u{1F469}\u{200D}\u{1F467} ok",
            "\u{1F468}\u{200D}\u{1F469}\u{200D}\u{1F467} ok",
        ),
        ("neutral", "ok\u{1F44D}!", "ok \u{1F44D}"),
        ("neutral", "\u{1F44D}\u{1F3FD} \u{1F44D}", "\u{1F44D}\u{1F3FD} \u{1F44D}"),
        ("neutral", "\u{1F1E9}\u{1F1EA}\u{1F1EB}\u{1F1F7}", "\u{1F1E9}\u{1F1EA} \u{1F1EB}\u{1F1F7}"),
        ("neutral", "\u{2764}\u{FE0F} love", "\u{2764} love"),
        ("neutral", "Fonex\u{2122} \u{A9} \u{266A}", "fonextm"),
        ("neutral", "\u{661}\u{662} \u{967}\u{968}", "12 12"),
        ("tr", "IŞIK İYİ Iğdır", "ışık iyi ığdır"),
        ("tr", "Ankara\u{2019}da %5", "ankarada yüzde 5"),
        ("tr", "kâğıt", "kağıt"),
        ("de", "Maße und MASSE", "maße und masse"),
        ("de", "GRÖẞE", "größe"),
        ("ar", "مُحَمَّد", "محمد"),
        ("ar", "أحمد إلى آخر", "احمد الي اخر"),
        ("ar", "مدرسة", "مدرسه"),
        ("ar", "سـلام \u{663}\u{665}", "سلام 35"),
        ("it", "L\u{2019}ora dell'arrivo, ehm, perchè", "l' ora dell' arrivo perché"),
        ("it", "il sig. Lohr, 5 %", "il signor lohr 5 per cento"),
        ("pt", "O Sr. Lohr, é óptimo", "o senhor lohr é ótimo"),
        ("pt", "pra você, né?", "para você não é"),
        ("nl", "'t Is zo'n dag", "het is zo een dag"),
        ("nl", "Dhr. Lohr z\u{2019}n e-mail", "de heer lohr zijn email"),
        ("pl", "Dr Lohr, np. dziś, itd.", "doktor lohr na przykład dziś i tak dalej"),
        ("pl", "5 zł", "5 złotych"),
    ];

    #[test]
    fn profiles_of_languages_on_hand_made_cases() {
        for (name, written, expected) in LANGUAGE_CASES {
            let profile = TextProfile::shipped(name).unwrap();
            assert_eq!(profile.tokens(written).join(" "), expected, "{name}: {written:?}");
        }
    }

    #[test]
    fn letters_follow_the_language_of_the_clip() {
        let neutral = TextProfile::shipped("neutral").unwrap();
        let of = |lang| neutral.in_language(lang).tokens("IRMAK İZMİR").join(" ");
        assert_eq!(of(Some("tr-TR")), "ırmak izmir");
        assert_eq!(of(Some("az")), "ırmak izmir");
        assert_eq!(of(Some("en")), of(None));
        assert_ne!(of(Some("en")), of(Some("tr")));
        assert!(matches!(neutral.in_language(Some("trv")), Cow::Borrowed(_)), "another language that begins so");
        let verbatim = TextProfile::shipped("verbatim").unwrap();
        assert!(matches!(verbatim.in_language(Some("tr")), Cow::Borrowed(_)));
    }

    #[test]
    fn unclosed_openings_cost_linear_time_and_stay() {
        let profile = TextProfile::shipped("neutral").unwrap();
        assert_eq!(profile.tokens(&format!("{}>", "<a ".repeat(200_000))).len(), 199_999);
    }

    proptest::proptest! {
        #[test]
        fn neutral_profile_is_idempotent_on_any_text(text in "\\PC{0,40}") {
            let profile = TextProfile::shipped("neutral").unwrap();
            let once = profile.tokens(&text).join(" ");
            let twice = profile.tokens(&once).join(" ");
            // Folding and form KC can each open the way for the other once more (UTS 10 toNFKC_Casefold notes this).
            proptest::prop_assert_eq!(&profile.tokens(&twice).join(" "), &twice);
        }

        /// A profile of a language comes to an end on any text, and leaves no capitals, marks or double spaces.
        #[test]
        fn any_text_is_read_by_every_profile(text in "[\\PC]{0,24}", place in 0..TextProfile::SHIPPED.len()) {
            let profile = TextProfile::shipped(TextProfile::SHIPPED[place]).unwrap();
            for token in profile.tokens(&text) {
                proptest::prop_assert!(!token.is_empty() && !token.contains(char::is_whitespace));
                proptest::prop_assert!(profile.name == "verbatim" || !token.contains(|c: char| c.is_ascii_uppercase()));
            }
        }
    }
}
