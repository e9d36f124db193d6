//! Texts by themselves: labels, what was heard, markup of what is to be spoken.

use std::sync::LazyLock;

use fonex_core::accuracy::score_clip;
use fonex_core::material::{Condition, read_texts};
use fonex_core::speech::read_markup;
use fonex_core::text::{Label, TextProfile};

use crate::Target;

pub(crate) const LABELS: Target = Target {
    name: "labels",
    ending: "txt",
    whole: || {
        let texts = [
            "Hold at {pylon six|pylon 6}, at half past seven or 7:30 p.m. for $5.99 and 2 1/2 km; he'd gone",
            "Um 7.30 Uhr am 3.10. für 2½ € nach St. Pölten, Ludwig XIV. und z. B. 100 km/h",
            "À 7 h 30 moins le quart, le 1er mai, 2,5 M€, XXe siècle, n° 5 — d'accord",
            "A las 7:30, 3 mm, 1.er piso, 2.ª vez, EE. UU., p. ej. ½ hora 🇩🇪👩‍🚀 مرحبا",
        ];
        texts.map(|text| text.as_bytes().to_vec()).into()
    },
    read: |_, bytes| {
        static PROFILES: LazyLock<Vec<TextProfile>> =
            LazyLock::new(|| TextProfile::SHIPPED.map(|name| TextProfile::shipped(name).expect("it ships")).into());
        let text = String::from_utf8_lossy(bytes);
        let label = Label::parse(&text);
        for profile in PROFILES.iter() {
            let words = profile.tokens(&text).len() as u64;
            let Ok(label) = &label else { continue };
            for heard in [&text, "hold at 7:30 pylon six", ""] {
                let score = score_clip(profile, label, heard);
                let counts = score.words;
                assert_eq!(
                    counts.correct + counts.substituted + counts.deleted + counts.inserted,
                    score.steps.len() as u64
                );
                if heard == text {
                    let as_heard = counts.correct + counts.substituted + counts.inserted;
                    assert_eq!(as_heard, words, "every word that was heard is right, another, or too much");
                }
            }
        }
    },
};

pub(crate) const MARKUP: Target = Target {
    name: "markup",
    ending: "xml",
    whole: || {
        vec![
            b"<speak>Hold <break time=\"350ms\"/>at <say-as interpret-as=\"cardinal\">6</say-as>, <emphasis>now</emphasis> &amp; <sub alias=\"six\">6</sub></speak>".into(),
            b"tags.channel = radio".into(),
            b"One text.\n\nAnother, {of two|of 2} lines\nof it.\n".into(),
        ]
    },
    read: |_, bytes| {
        let text = String::from_utf8_lossy(bytes);
        if let Ok(markup) = read_markup(&text) {
            drop(markup.text());
        }
        drop(read_texts(&text));
        if let Ok(condition) = Condition::parse(&text) {
            drop(condition.fields());
        }
    },
};
