//! What a live service said so far.

use fonex_core::Heard;

use crate::mapping::Steps;

/// What the service said.
#[derive(Default)]
pub(super) struct Said {
    pub(super) heard: Heard,
    pub(super) sound: Vec<u8>,
    pub(super) finals: u32,
    pub(super) interim: Option<String>,
}

impl Said {
    pub(super) fn add(&mut self, heard: Heard, steps: Steps) {
        self.finals += 1;
        if steps == Steps::Replace || self.heard.text.is_empty() {
            let words = if steps == Steps::Replace { Vec::new() } else { std::mem::take(&mut self.heard.words) };
            self.heard = Heard { words: words.into_iter().chain(heard.words).collect(), ..heard };
        } else if !heard.text.is_empty() {
            // In place: a service may say very many short things.
            self.heard.text.truncate(self.heard.text.trim_end().len());
            self.heard.text.push(' ');
            self.heard.text.push_str(heard.text.trim_start());
            self.heard.words.extend(heard.words);
        }
    }
}
