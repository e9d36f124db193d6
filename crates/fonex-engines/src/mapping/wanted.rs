//! Which parts of an answer anybody looks at, so that the others are passed over as they are read.

use std::collections::BTreeMap;

use super::Address;

/// The parts of a JSON value that some addresses can find.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Wanted {
    /// This value with all that is in it.
    whole: bool,
    /// Parts of it, by name or place.
    below: BTreeMap<String, Wanted>,
}

impl Wanted {
    /// What these addresses can find.
    pub(crate) fn of<'a>(addresses: impl IntoIterator<Item = &'a Address>) -> Self {
        let mut wanted = Self::default();
        for address in addresses {
            wanted.add(address);
        }
        wanted
    }

    /// A value with all that is in it.
    pub(crate) const fn everything() -> Self {
        Self { whole: true, below: BTreeMap::new() }
    }

    fn add(&mut self, address: &Address) {
        let mut here = self;
        for token in address.leading() {
            here = here.below.entry(token).or_default();
        }
        here.whole = true;
    }

    /// What is wanted of a part; none where nothing is.
    pub(crate) fn part(&self, name: &str) -> Option<&Self> {
        if self.whole { Some(self) } else { self.below.get(name) }
    }

    /// What is wanted of an element of a list.
    pub(crate) fn element(&self, place: usize) -> Option<&Self> {
        if self.whole { Some(self) } else { self.below.get(&place.to_string()) }
    }

    /// How many elements of a list may be looked at.
    pub(crate) fn elements(&self) -> usize {
        let places = self.below.keys().filter_map(|name| name.parse::<usize>().ok());
        if self.whole { usize::MAX } else { places.max().map_or(0, |last| last.saturating_add(1)) }
    }
}
