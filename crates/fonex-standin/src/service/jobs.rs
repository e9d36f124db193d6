//! Jobs that a client submits, asks for, fetches and should delete.

use std::collections::HashMap;
use std::time::Instant;

/// A result that is kept until it is deleted.
pub(super) struct Job {
    pub(super) done_at: Instant,
    pub(super) media_type: &'static str,
    pub(super) body: Vec<u8>,
}

#[derive(Default)]
pub(super) struct Jobs {
    next: u64,
    kept: HashMap<String, Job>,
}

impl Jobs {
    pub(super) fn keep(&mut self, job: Job) -> String {
        self.next += 1;
        let id = format!("job-{}", self.next);
        self.kept.insert(id.clone(), job);
        id
    }

    pub(super) fn get(&self, id: &str) -> Option<&Job> {
        self.kept.get(id)
    }

    pub(super) fn delete(&mut self, id: &str) -> bool {
        self.kept.remove(id).is_some()
    }

    pub(super) fn len(&self) -> usize {
        self.kept.len()
    }
}
