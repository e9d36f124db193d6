//! The labels of a corpus as they lie in the store: a million of them take a third of the room, and are read where they are used.

use std::collections::HashMap;
use std::sync::Arc;

use fonex_core::Clip;
use fonex_core::accuracy::ScoreBuilder;
use fonex_core::text::TextProfile;
use fonex_store::{Store, StoreError};

/// The labels of a corpus, in its order.
pub(crate) struct Labels {
    records: Vec<Box<str>>,
    ids: Vec<Arc<str>>,
    places: HashMap<Arc<str>, u32>,
}

impl Labels {
    pub(crate) fn load(store: &Store, corpus_checksum: &str) -> Result<Self, StoreError> {
        let mut labels = Self { records: Vec::new(), ids: Vec::new(), places: HashMap::new() };
        store.each_label(corpus_checksum, |id, record| {
            let id: Arc<str> = id.into();
            labels.places.insert(Arc::clone(&id), labels.records.len() as u32);
            labels.ids.push(id);
            labels.records.push(record.into());
            Ok(())
        })?;
        Ok(labels)
    }

    /// Clips.
    pub(crate) const fn len(&self) -> usize {
        self.records.len()
    }

    /// The place of a clip.
    pub(crate) fn place(&self, id: &str) -> Option<u32> {
        self.places.get(id).copied()
    }

    /// The id of the clip at a place.
    pub(crate) fn id(&self, place: usize) -> &str {
        &self.ids[place]
    }

    /// The label at a place.
    pub(crate) fn clip(&self, place: usize) -> Result<Clip, StoreError> {
        Ok(serde_json::from_str(&self.records[place])?)
    }

    /// An empty score that knows the must-hear terms of all of them, since a term is invented wherever it is heard.
    pub(crate) fn empty_score(&self, profile: &TextProfile) -> Result<ScoreBuilder, StoreError> {
        let mut empty = ScoreBuilder::new(&profile.name);
        for (place, record) in self.records.iter().enumerate() {
            if record.contains("\"terms\"") {
                empty.tell_terms(profile, &self.clip(place)?.terms);
            }
        }
        Ok(empty)
    }
}
