//! Which listener hears what, in which order, so that no voice, text or place in the session has an advantage.

use rand::seq::SliceRandom;

use super::PanelKind;
use crate::stats::stream;

/// What a panel is laid out from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Layout {
    /// What listeners are asked.
    pub kind: PanelKind,
    /// How many voices; of an anchored panel with the hidden reference and the anchor.
    pub voices: u32,
    /// How many texts.
    pub texts: u32,
    /// How many listeners are laid out.
    pub listeners: u32,
    /// Pages for each listener; fewer where there are no more.
    pub pages: u32,
}

/// What a listener meets on one page.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Page {
    /// The text, by its place.
    pub text: u32,
    /// The voices in the order in which they are offered.
    pub voices: Vec<u32>,
}

impl Layout {
    /// Pages of a listener who meets everything once.
    #[must_use]
    pub fn most_pages(&self) -> u32 {
        match self.kind {
            PanelKind::Opinion => self.voices * self.texts,
            PanelKind::Pairs => self.voices * self.voices.saturating_sub(1) / 2 * self.texts,
            PanelKind::Anchored => self.texts,
        }
    }
}

/// The pages of each listener, in order.
///
/// Things to rate (voices, or pairs of voices) come in blocks, in which each comes once, in the order of a Williams square ("Experimental
/// designs balanced for the estimation of residual effects of treatments", 1949), so that over the listeners each comes as often in each
/// place and, for an even number, as often after each other. The text moves on with block, thing and listener: over as many listeners as
/// there are texts each thing is heard with each text equally often, and a listener hears the same text again as late as there are texts.
/// The two orders of a pair alternate, and are equally frequent over twice as many listeners as there are texts. Nothing is drawn but
/// which voice and text are called first, so that a layout does not depend on the order in which voices are named.
#[must_use]
pub fn sheets(layout: Layout, seed: u64) -> Vec<Vec<Page>> {
    let shuffled = |count: u32, name: &str| {
        let mut places: Vec<u32> = (0..count).collect();
        places.shuffle(&mut stream(seed, &["panel", name]));
        places
    };
    let (voices, texts) = (shuffled(layout.voices, "voices"), shuffled(layout.texts, "texts"));
    let things: Vec<Vec<u32>> = match layout.kind {
        PanelKind::Opinion => voices.iter().map(|voice| vec![*voice]).collect(),
        PanelKind::Pairs => (1..voices.len())
            .flat_map(|second| (0..second).map(move |first| (first, second)))
            .map(|(first, second)| vec![voices[first], voices[second]])
            .collect(),
        PanelKind::Anchored => vec![voices],
    };
    let (count, pages) = (things.len() as u32, layout.pages.min(layout.most_pages()));
    if count == 0 || texts.is_empty() {
        return Vec::new();
    }
    (0..layout.listeners)
        .map(|listener| {
            (0..pages)
                .map(|page| {
                    let (block, place) = (page / count, page % count);
                    let thing = williams(count, listener + block, place);
                    let text = texts[((block + thing + listener) % layout.texts) as usize];
                    let mut voices = things[thing as usize].clone();
                    match layout.kind {
                        PanelKind::Opinion => {}
                        PanelKind::Pairs => {
                            if (listener / layout.texts + block + thing) % 2 == 1 {
                                voices.swap(0, 1);
                            }
                        }
                        // All are offered at once; their places are drawn anew on each page.
                        PanelKind::Anchored => {
                            let name = format!("{listener}");
                            voices.shuffle(&mut stream(seed, &["panel page", &name, &page.to_string()]));
                        }
                    }
                    Page { text, voices }
                })
                .collect()
        })
        .collect()
}

/// The thing at a place of a row of a Williams square: 0, 1, n-1, 2, n-2, ... moved on by the row. For odd numbers every second turn of the
/// rows is taken backwards.
fn williams(count: u32, row: u32, place: u32) -> u32 {
    let place = if count % 2 == 1 && (row / count) % 2 == 1 { count - 1 - place } else { place };
    let step = if place % 2 == 1 { place.div_ceil(2) } else { (count - place / 2) % count };
    (step + row) % count
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;
    use std::hash::Hash;

    use super::*;

    fn counts<K: Hash + Eq>(of: impl Iterator<Item = K>) -> HashMap<K, u32> {
        let mut counts = HashMap::new();
        of.for_each(|key| *counts.entry(key).or_default() += 1);
        counts
    }

    fn all_alike<K: Hash + Eq>(counts: &HashMap<K, u32>, kinds: u32) -> bool {
        counts.len() as u32 == kinds && counts.values().collect::<std::collections::HashSet<_>>().len() == 1
    }

    #[test]
    fn every_voice_comes_with_every_text_and_in_every_place_equally_often() {
        for (voices, texts) in [(2, 4), (3, 6), (4, 8), (5, 5), (6, 3)] {
            let layout = Layout {
                kind: PanelKind::Opinion,
                voices,
                texts,
                listeners: 2 * voices * texts,
                pages: voices * 2.min(texts),
            };
            let all = sheets(layout, 3);
            assert!(all.iter().all(|pages| pages.len() as u32 == layout.pages));
            let met = counts(all.iter().flatten().map(|page| (page.voices[0], page.text)));
            assert!(all_alike(&met, voices * texts), "{voices} {texts}");
            let placed =
                counts(all.iter().flat_map(|pages| pages.iter().enumerate().map(|(at, p)| (at, p.voices[0]))));
            assert!(all_alike(&placed, layout.pages * voices), "{voices} {texts}");
            // Within a block each voice follows each other equally often.
            let after = counts(all.iter().flat_map(|pages| {
                pages
                    .chunks(voices as usize)
                    .flat_map(|block| block.windows(2).map(|two| (two[0].voices[0], two[1].voices[0])))
            }));
            assert!(all_alike(&after, voices * (voices - 1)), "{voices} {texts}: {after:?}");
        }
    }

    #[test]
    fn a_listener_meets_nothing_twice_and_all_of_it_in_the_end() {
        for kind in PanelKind::ALL {
            let layout = Layout { kind, voices: 4, texts: 6, listeners: 12, pages: 1_000 };
            for pages in sheets(layout, 1) {
                assert_eq!(pages.len() as u32, layout.most_pages());
                let met = counts(pages.into_iter().map(|page| {
                    let mut voices = page.voices;
                    voices.sort_unstable();
                    (page.text, voices)
                }));
                assert!(met.values().all(|times| *times == 1), "{kind:?}");
            }
        }
    }

    #[test]
    fn both_orders_of_a_pair_are_equally_frequent_for_every_text() {
        let layout = Layout { kind: PanelKind::Pairs, voices: 4, texts: 5, listeners: 10, pages: 12 };
        let met = counts(sheets(layout, 9).into_iter().flatten().map(|page| (page.text, page.voices)));
        assert!(all_alike(&met, 5 * 12), "{met:?}");
    }

    #[test]
    fn layouts_are_the_seeds_and_empty_ones_are_empty() {
        let layout = Layout { kind: PanelKind::Anchored, voices: 5, texts: 4, listeners: 3, pages: 4 };
        assert_eq!(sheets(layout, 1), sheets(layout, 1));
        assert_ne!(sheets(layout, 1), sheets(layout, 2));
        assert!(sheets(Layout { texts: 0, ..layout }, 1).is_empty());
        assert!(sheets(Layout { kind: PanelKind::Pairs, voices: 1, ..layout }, 1).is_empty());
    }
}
