//! The words of a label as a directed acyclic graph, so that alternatives are aligned exactly and not enumerated.

/// Words in an order in which every word stands after all words that may precede it.
///
/// A label without choices is a chain. A choice fans out into its readings and comes together behind them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WordGraph<T> {
    words: Vec<T>,
    /// For each word the words it may follow; [`Self::START`] stands for the start of the label.
    after: Vec<Vec<u32>>,
    /// The words the label may end with, or the start where it may be empty.
    open_ends: Vec<u32>,
}

impl<T> Default for WordGraph<T> {
    fn default() -> Self {
        Self::new()
    }
}

impl<T> WordGraph<T> {
    /// The place before the first word.
    pub const START: u32 = u32::MAX;

    /// A label without words.
    #[must_use]
    pub fn new() -> Self {
        Self { words: Vec::new(), after: Vec::new(), open_ends: vec![Self::START] }
    }

    /// A chain of words, each of which must be there.
    #[must_use]
    pub fn chain(words: Vec<T>) -> Self {
        let mut graph = Self::new();
        graph.push_words(words);
        graph
    }

    /// Appends words that must be there.
    pub fn push_words(&mut self, words: Vec<T>) {
        for word in words {
            let ends = std::mem::take(&mut self.open_ends);
            self.open_ends = vec![self.push_word(word, ends)];
        }
    }

    /// Appends readings of which one is taken; an empty reading makes the words optional.
    pub fn push_choice(&mut self, readings: Vec<Vec<T>>) {
        let before = std::mem::take(&mut self.open_ends);
        let mut ends = Vec::new();
        for reading in readings {
            let mut last = before.clone();
            for word in reading {
                last = vec![self.push_word(word, last)];
            }
            ends.extend(last);
        }
        ends.sort_unstable();
        ends.dedup();
        self.open_ends = ends;
    }

    fn push_word(&mut self, word: T, after: Vec<u32>) -> u32 {
        let node = u32::try_from(self.words.len()).expect("a label has fewer than 2^32 words");
        self.words.push(word);
        self.after.push(after);
        node
    }

    /// The words, in topological order.
    #[must_use]
    pub fn words(&self) -> &[T] {
        &self.words
    }

    /// The words that word `node` may follow.
    #[must_use]
    pub fn after(&self, node: usize) -> &[u32] {
        &self.after[node]
    }

    /// The words the label may end with.
    #[must_use]
    pub fn ends(&self) -> &[u32] {
        &self.open_ends
    }

    /// For each word the fewest and the most words from the start up to and including it.
    #[must_use]
    pub fn depths(&self) -> Vec<(u32, u32)> {
        let mut depths: Vec<(u32, u32)> = Vec::with_capacity(self.words.len());
        for after in &self.after {
            let before = after.iter().map(|&node| depth_of(&depths, node));
            let fewest = before.clone().map(|(fewest, _)| fewest).min().unwrap_or(0);
            let most = before.map(|(_, most)| most).max().unwrap_or(0);
            depths.push((fewest + 1, most + 1));
        }
        depths
    }

    /// For each word, and last for the start, the fewest and the most words that follow it.
    #[must_use]
    pub fn remainders(&self) -> Vec<(u32, u32)> {
        let start = self.words.len();
        let mut rest: Vec<Option<(u32, u32)>> = vec![None; start + 1];
        let slot = |node: u32| if node == Self::START { start } else { node as usize };
        for &end in &self.open_ends {
            rest[slot(end)] = Some((0, 0));
        }
        for node in (0..start).rev() {
            let (fewest, most) = rest[node].expect("every word leads to an end");
            for &before in &self.after[node] {
                let known = &mut rest[slot(before)];
                let (low, high) = known.unwrap_or((fewest + 1, most + 1));
                *known = Some((low.min(fewest + 1), high.max(most + 1)));
            }
        }
        rest.into_iter().map(|r| r.expect("every word leads to an end")).collect()
    }
}

fn depth_of(depths: &[(u32, u32)], node: u32) -> (u32, u32) {
    if node == WordGraph::<()>::START { (0, 0) } else { depths[node as usize] }
}
