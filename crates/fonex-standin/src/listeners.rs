//! Stand-in listeners: people with a known opinion of each voice, who rate a panel.

use fonex_core::panel::PanelKind;
use fonex_core::stats::{Stream, normal_quantile, stream};
use rand::RngExt;

/// One sound as a stand-in listener knows it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct HeardSound {
    /// The voice, by its place.
    pub voice: u32,
    /// The text, by its place.
    pub text: u32,
    /// Whether it is under loud noise.
    pub drowned: bool,
    /// Whether it is an open reference, which is not rated.
    pub open: bool,
}

/// What all listeners of a panel share.
#[derive(Debug, Clone, PartialEq)]
pub struct Audience {
    /// What is asked.
    pub kind: PanelKind,
    /// Opinion of each voice by its place, from 1 to 5.
    pub opinions: Vec<f64>,
    /// Seed of all that differs from listener to listener.
    pub seed: u64,
}

/// How listeners differ: in their mean, in their taste for a voice, and from rating to rating, in points of five.
const OF_LISTENER: f64 = 0.4;
const OF_TASTE: f64 = 0.25;
const OF_TEXT: f64 = 0.25;
const OF_RATING: f64 = 0.6;
/// What a drowned sound is felt to be.
const DROWNED: f64 = 0.9;

impl Audience {
    /// The answer of a listener to one page: a value for each sound that is rated, or one for a pair. A careless listener answers by chance.
    #[must_use]
    pub fn answer(&self, listener: u32, careless: bool, page: u32, sounds: &[HeardSound]) -> Vec<f64> {
        let mut random = self.stream(&["answer", &listener.to_string(), &page.to_string()]);
        let (low, high) = self.kind.scale();
        if careless {
            return match self.kind {
                PanelKind::Pairs => vec![[0.0, 0.5, 1.0][random.random_range(0..3)]],
                _ => sounds
                    .iter()
                    .filter(|sound| !sound.open)
                    .map(|_| random.random_range(low..=high).round())
                    .collect(),
            };
        }
        let felt: Vec<f64> = sounds
            .iter()
            .filter(|sound| !sound.open)
            .map(|sound| self.feels(listener, *sound) + drawn(&mut random, OF_RATING))
            .collect();
        match self.kind {
            PanelKind::Opinion => felt.iter().map(|felt| felt.round().clamp(low, high)).collect(),
            // From 1 to 5 onto 0 to 100; what is as good as the reference is found to be it.
            PanelKind::Anchored => felt.iter().map(|felt| ((felt - 1.0) * 25.0).round().clamp(low, high)).collect(),
            PanelKind::Pairs => match felt.as_slice() {
                [first, second] if (first - second).abs() < 0.2 => vec![0.5],
                [first, second] => vec![f64::from(u8::from(first > second))],
                _ => Vec::new(),
            },
        }
    }

    /// What a listener thinks of a sound, before the chance of the moment.
    fn feels(&self, listener: u32, sound: HeardSound) -> f64 {
        if sound.drowned {
            return DROWNED;
        }
        let of = |names: &[&str], spread: f64| drawn(&mut self.stream(names), spread);
        let (listener, voice, text) = (listener.to_string(), sound.voice.to_string(), sound.text.to_string());
        self.opinions.get(sound.voice as usize).copied().unwrap_or(3.0)
            + of(&["listener", &listener], OF_LISTENER)
            + of(&["taste", &listener, &voice], OF_TASTE)
            + of(&["text", &text, &voice], OF_TEXT)
    }

    fn stream(&self, names: &[&str]) -> Stream {
        stream(self.seed, &[&["stand-in listener"], names].concat())
    }
}

fn drawn(random: &mut Stream, spread: f64) -> f64 {
    spread * normal_quantile(random.random_range(0.0001..0.9999))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn listeners_like_what_was_planted_and_hear_what_is_drowned() {
        let audience = |kind| Audience { kind, opinions: vec![4.2, 2.4], seed: 1 };
        let sound = |voice, drowned| HeardSound { voice, text: 0, drowned, open: false };
        let mean = |of: &dyn Fn(u32) -> f64| (0..400).map(of).sum::<f64>() / 400.0;
        let opinion = audience(PanelKind::Opinion);
        let rate = |voice, drowned| {
            mean(&|listener| {
                let text = listener;
                opinion.answer(listener, false, 0, &[HeardSound { text, ..sound(voice, drowned) }])[0]
            })
        };
        assert!((rate(1, false) - 2.4).abs() < 0.15 && rate(0, false) > 3.9 && rate(0, true) < 1.4);
        let pairs = audience(PanelKind::Pairs);
        let first = mean(&|l| pairs.answer(l, false, 0, &[sound(1, false), sound(0, false)])[0]);
        assert!(first < 0.15, "{first}");
        let careless = mean(&|l| opinion.answer(l, true, 0, &[sound(0, false)])[0]);
        assert!((careless - 3.0).abs() < 0.35, "{careless}");
        let open = HeardSound { open: true, ..sound(0, false) };
        let rated = audience(PanelKind::Anchored).answer(1, false, 0, &[open, sound(0, false), sound(1, false)]);
        assert!(rated.len() == 2 && rated.iter().all(|value| (0.0..=100.0).contains(value)));
    }
}
