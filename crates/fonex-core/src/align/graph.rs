//! The words of a label as a directed acyclic graph, so that alternatives are aligned exactly and not enumerated.

/// Words in an order in which every word stands after all words that may precede it.
///
/// A label without choices is a chain. A choice fans out into its readings and comes together behind them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WordGraph<T> {
    words: Vec<T>,
    /// Where the words lead; none for a chain.
    links: Option<Links>,
}

/// Which words may follow which.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Links {
    /// For each word the words it may follow; [`Links::START`] stands for the start of the label.
    after: Vec<Vec<u32>>,
    /// The words the label may end with, or the start where it may be empty.
    ends: Vec<u32>,
}

impl<T> Default for WordGraph<T> {
    fn default() -> Self {
        Self::new()
    }
}

impl<T> WordGraph<T> {
    /// A label without words.
    #[must_use]
    pub const fn new() -> Self {
        Self { words: Vec::new(), links: None }
    }

    /// A chain of words, each of which must be there.
    #[must_use]
    pub const fn chain(words: Vec<T>) -> Self {
        Self { words, links: None }
    }

    /// Takes out all words, to be refilled.
    pub fn clear(&mut self) {
        self.words.clear();
        self.links = None;
    }

    /// Appends a word that must be there.
    pub fn push_word(&mut self, word: T) {
        if let Some(links) = &mut self.links {
            let ends = std::mem::take(&mut links.ends);
            let node = links.push(ends);
            links.ends.push(node);
        }
        self.words.push(word);
    }

    /// Appends readings of which one is taken; an empty reading makes the words optional.
    pub fn push_choice(&mut self, readings: Vec<Vec<T>>) {
        let words = self.words.len() as u32;
        let links = self.links.get_or_insert_with(|| Links::of_chain(words));
        let before = std::mem::take(&mut links.ends);
        let mut ends = Vec::new();
        for reading in readings {
            let mut last = before.clone();
            for word in reading {
                last = vec![links.push(last)];
                self.words.push(word);
            }
            ends.extend(last);
        }
        ends.sort_unstable();
        ends.dedup();
        links.ends = ends;
    }

    /// The words, in topological order.
    #[must_use]
    pub fn words(&self) -> &[T] {
        &self.words
    }

    /// Whether there is nothing to choose.
    #[must_use]
    pub const fn is_chain(&self) -> bool {
        self.links.is_none()
    }

    pub(super) const fn links(&self) -> Option<&Links> {
        self.links.as_ref()
    }
}

impl Links {
    /// The place before the first word.
    pub(super) const START: u32 = u32::MAX;

    fn of_chain(words: u32) -> Self {
        let before = |word: u32| word.checked_sub(1).unwrap_or(Self::START);
        Self { after: (0..words).map(|word| vec![before(word)]).collect(), ends: vec![before(words)] }
    }

    fn push(&mut self, after: Vec<u32>) -> u32 {
        let node = u32::try_from(self.after.len()).expect("a label has fewer than 2^32 words");
        self.after.push(after);
        node
    }

    /// The words that word `node` may follow.
    pub(super) fn after(&self, node: usize) -> &[u32] {
        &self.after[node]
    }

    /// The words the label may end with.
    pub(super) fn ends(&self) -> &[u32] {
        &self.ends
    }

    /// For each word the fewest and the most words from the start up to and including it.
    pub(super) fn depths(&self) -> Vec<(u32, u32)> {
        let mut depths: Vec<(u32, u32)> = Vec::with_capacity(self.after.len());
        for after in &self.after {
            let before = after.iter().map(|&node| depth_of(&depths, node));
            let fewest = before.clone().map(|(fewest, _)| fewest).min().unwrap_or(0);
            let most = before.map(|(_, most)| most).max().unwrap_or(0);
            depths.push((fewest + 1, most + 1));
        }
        depths
    }

    /// For each word, and last for the start, the fewest and the most words that follow it.
    pub(super) fn remainders(&self) -> Vec<(u32, u32)> {
        let start = self.after.len();
        let mut rest: Vec<Option<(u32, u32)>> = vec![None; start + 1];
        let slot = |node: u32| if node == Self::START { start } else { node as usize };
        for &end in &self.ends {
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
    if node == Links::START { (0, 0) } else { depths[node as usize] }
}
