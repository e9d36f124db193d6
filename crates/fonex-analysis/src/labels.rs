//! Where each clip of a corpus stands, and its labels read from the store round by round: a million of them never lie in memory.

use std::collections::HashMap;

use fonex_core::Clip;
use fonex_store::{Store, StoreError};

/// The clips of a corpus, in its order.
pub(crate) struct Labels<'s> {
    store: &'s Store,
    corpus_checksum: &'s str,
    places: HashMap<Box<str>, u32>,
}

/// A label as it lies in the store, to be read where it is used.
#[derive(Debug)]
pub(crate) struct StoredLabel {
    /// The place of its clip in the corpus.
    pub(crate) place: u32,
    /// The id of its clip.
    pub(crate) id: Box<str>,
    record: Box<str>,
}

impl StoredLabel {
    pub(crate) fn read(&self) -> Result<Clip, StoreError> {
        Ok(serde_json::from_str(&self.record)?)
    }
}

/// The labels at some places of a corpus.
pub(crate) fn labels_at(
    store: &Store,
    corpus_checksum: &str,
    places: impl Iterator<Item = u32>,
) -> Result<Vec<StoredLabel>, StoreError> {
    let mut labels = Vec::with_capacity(places.size_hint().0);
    store.labels_at(corpus_checksum, places, |place, id, record| {
        labels.push(StoredLabel { place, id: id.into(), record: record.into() });
    })?;
    Ok(labels)
}

impl<'s> Labels<'s> {
    pub(crate) fn load(store: &'s Store, corpus_checksum: &'s str) -> Result<Self, StoreError> {
        let mut places = HashMap::new();
        store.each_label(corpus_checksum, |id, _| {
            places.insert(id.into(), places.len() as u32);
            Ok(())
        })?;
        places.shrink_to_fit();
        Ok(Self { store, corpus_checksum, places })
    }

    /// The labels at some places.
    pub(crate) fn at(&self, places: impl Iterator<Item = u32>) -> Result<Vec<StoredLabel>, StoreError> {
        labels_at(self.store, self.corpus_checksum, places)
    }

    /// The place of a clip.
    pub(crate) fn place(&self, id: &str) -> Option<u32> {
        self.places.get(id).copied()
    }
}
