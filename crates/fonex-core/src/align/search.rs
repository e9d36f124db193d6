//! The search for the minimal path: dynamic programming in a band that doubles until the path provably lies inside.
//!
//! Wagner and Fischer, "The string-to-string correction problem" (1974), over a word graph instead of a chain; the
//! band and its doubling are Ukkonen's, "Algorithms for approximate string matching" (1985). Time and memory are
//! O(words x errors); the path keeps one choice a cell.

use super::{Alignment, Edit, EditCounts, Step, UNLIKE_MAX, WordGraph};

/// Above this many cells the look of words no longer breaks ties: it would cost more than the alignment itself.
const LIKENESS_CELLS: u64 = 4_000_000;

/// Edits, then substitutions, then unlikeness, packed so that one comparison orders paths. Where the look of words counts,
/// there are at most 2,000 substitutions ([`LIKENESS_CELLS`]), and their number and unlikeness share the lower half.
type Cost = u64;
const EDIT: Cost = 1 << 32;
const SUBSTITUTION_WITH_LIKENESS: Cost = 1 << 16;
const UNREACHED: Cost = u64::MAX / 4;

/// The most tokens either side may have; beyond it costs would no longer fit their packing.
const MOST_TOKENS: usize = (1 << 29) - 1;

/// Aligns the heard tokens with the label.
///
/// `same` tells whether two tokens agree; `unlike` how different two tokens look, 0 to [`UNLIKE_MAX`].
///
/// # Panics
/// When either side has more than 536,870,911 tokens.
pub fn align<T>(
    said: &WordGraph<T>,
    heard: &[T],
    same: impl Fn(&T, &T) -> bool,
    unlike: impl Fn(&T, &T) -> u64,
) -> Alignment {
    let mut search = Search::new(said, heard, same, unlike);
    let (end, _) = search.widen_until_found(true);
    Alignment { steps: search.trace(end) }
}

/// Counts the edits between two sequences of tokens without keeping the path. The counts are those [`align`] gives.
///
/// # Panics
/// When either side has more than 536,870,911 tokens.
pub fn count_edits<T: PartialEq>(said: &[T], heard: &[T]) -> EditCounts {
    let head = said.iter().zip(heard).take_while(|(a, b)| a == b).count();
    let (said, heard) = (&said[head..], &heard[head..]);
    let tail = said.iter().rev().zip(heard.iter().rev()).take_while(|(a, b)| a == b).count();
    let (said, heard) = (&said[..said.len() - tail], &heard[..heard.len() - tail]);
    let trimmed = (head + tail) as u64;
    let graph = WordGraph::chain(said.iter().collect());
    let heard: Vec<&T> = heard.iter().collect();
    let mut search = Search::new(&graph, &heard, |a, b| a == b, |_, _| 0);
    let (_, cost) = search.widen_until_found(false);
    // With edits e = s + d + i and lengths n = c + s + d, m = c + s + i, two of the counts give all.
    let (edits, substituted) = (cost / EDIT, cost % EDIT);
    let surplus = said.len() as i64 - heard.len() as i64;
    let deleted = ((edits - substituted) as i64 + surplus) as u64 / 2;
    let correct = said.len() as u64 - substituted - deleted;
    EditCounts { correct: correct + trimmed, substituted, deleted, inserted: edits - substituted - deleted }
}

/// The columns of a row that lie inside the band, and the costs in them.
struct Row {
    first: usize,
    costs: Vec<Cost>,
}

impl Row {
    fn at(&self, column: usize) -> Cost {
        column.checked_sub(self.first).and_then(|at| self.costs.get(at)).copied().unwrap_or(UNREACHED)
    }
}

/// How a cell was reached: a kind in the low bits and, above them, which predecessor.
type Choice = u16;
const FROM_PAIR: Choice = 0;
const FROM_DELETION: Choice = 1;
const FROM_INSERTION: Choice = 2;

struct Search<'g, T, S, U> {
    said: &'g WordGraph<T>,
    heard: &'g [T],
    same: S,
    unlike: U,
    depths: Vec<(u32, u32)>,
    remainders: Vec<(u32, u32)>,
    /// The last word that looks back at each word's row; the start's stands at the end.
    last_use: Vec<usize>,
    choices: Vec<(usize, Vec<Choice>)>,
    weigh_likeness: bool,
}

impl<'g, T, S: Fn(&T, &T) -> bool, U: Fn(&T, &T) -> u64> Search<'g, T, S, U> {
    fn new(said: &'g WordGraph<T>, heard: &'g [T], same: S, unlike: U) -> Self {
        let words = said.words().len();
        assert!(words <= MOST_TOKENS && heard.len() <= MOST_TOKENS, "more than {MOST_TOKENS} tokens in one text");
        let mut last_use = vec![0; words + 1];
        for node in 0..words {
            for &before in said.after(node) {
                last_use[slot(said, before)] = node;
            }
        }
        for &end in said.ends() {
            last_use[slot(said, end)] = words;
        }
        Self {
            said,
            heard,
            same,
            unlike,
            depths: said.depths(),
            remainders: said.remainders(),
            last_use,
            choices: Vec::new(),
            weigh_likeness: false,
        }
    }

    /// Doubles the band until the cheapest path costs no more edits than the band admits.
    fn widen_until_found(&mut self, keep_path: bool) -> (u32, Cost) {
        let columns = self.heard.len() as u64 + 1;
        self.weigh_likeness = keep_path && columns * (self.said.words().len() as u64 + 1) <= LIKENESS_CELLS;
        let mut limit = if self.weigh_likeness { u64::MAX } else { 16 };
        loop {
            let (end, cost) = self.fill(limit, keep_path);
            if cost < UNREACHED && cost / EDIT <= limit {
                return (end, cost);
            }
            limit *= 2;
        }
    }

    /// The columns at which a path through a word can still stay within `limit` edits.
    fn band(&self, depth: (u32, u32), remainder: (u32, u32), limit: u64) -> (usize, usize) {
        let heard = self.heard.len() as u64;
        let limit = limit.min(2 * (heard + u64::from(depth.1) + u64::from(remainder.1)) + 2);
        let (least, most) = (u64::from(depth.0), u64::from(depth.1));
        let edits = |column: u64| {
            let here = least.saturating_sub(column) + column.saturating_sub(most);
            let left = heard - column;
            here + u64::from(remainder.0).saturating_sub(left) + left.saturating_sub(u64::from(remainder.1))
        };
        // The bound is convex in the column: the columns within the limit are one run around its minimum, which lies
        // where the words before and the words behind both fit, or between those two places.
        let earliest = heard.saturating_sub(u64::from(remainder.1));
        let latest = heard.saturating_sub(u64::from(remainder.0));
        let valley = least.clamp(earliest, latest);
        if edits(valley) > limit {
            return (1, 0);
        }
        let first = partition(0, valley, |column| edits(column) <= limit);
        let last = heard - partition(0, heard - valley, |back| edits(heard - back) <= limit);
        (first as usize, last as usize)
    }

    fn fill(&mut self, limit: u64, keep_path: bool) -> (u32, Cost) {
        let words = self.said.words().len();
        self.choices.clear();
        let mut rows: Vec<Option<Row>> = Vec::with_capacity(words + 1);
        rows.resize_with(words + 1, || None);
        let (first, last) = self.band((0, 0), self.remainders[words], limit);
        let columns = if first <= last { first as Cost..last as Cost + 1 } else { 0..0 };
        rows[words] = Some(Row { first, costs: columns.map(|column| column * EDIT).collect() });
        for node in 0..words {
            let row = self.fill_row(node, &rows, limit, keep_path);
            rows[node] = Some(row);
            for &before in self.said.after(node) {
                let before = slot(self.said, before);
                if self.last_use[before] == node {
                    rows[before] = None;
                }
            }
        }
        let cost_at =
            |end: u32| rows[slot(self.said, end)].as_ref().map_or(UNREACHED, |row| row.at(self.heard.len()));
        self.said
            .ends()
            .iter()
            .map(|&end| (end, cost_at(end)))
            .min_by_key(|&(_, cost)| cost)
            .expect("a graph has an end")
    }

    fn fill_row(&mut self, node: usize, rows: &[Option<Row>], limit: u64, keep_path: bool) -> Row {
        let (first, last) = self.band(self.depths[node], self.remainders[node], limit);
        let width = (last + 1).saturating_sub(first);
        let mut costs: Vec<Cost> = Vec::with_capacity(width);
        let mut choices = Vec::with_capacity(if keep_path { width } else { 0 });
        let word = &self.said.words()[node];
        let before: Vec<&Row> =
            self.said.after(node).iter().filter_map(|&b| rows[slot(self.said, b)].as_ref()).collect();
        for column in first..first + width {
            let pair = column.checked_sub(1).map_or(UNREACHED, |at| self.pair_cost(word, &self.heard[at]));
            let mut best = (UNREACHED, FROM_PAIR);
            for (branch, row) in (0..).zip(&before) {
                let choice = |kind: Choice| kind | branch << 2;
                if column > 0 {
                    best = best.min((row.at(column - 1) + pair, choice(FROM_PAIR)));
                }
                best = best.min((row.at(column) + EDIT, choice(FROM_DELETION)));
            }
            if let Some(&left) = costs.last() {
                best = best.min((left + EDIT, FROM_INSERTION));
            }
            costs.push(best.0);
            if keep_path {
                choices.push(best.1);
            }
        }
        if keep_path {
            self.choices.push((first, choices));
        }
        Row { first, costs }
    }

    fn pair_cost(&self, said: &T, heard: &T) -> Cost {
        if (self.same)(said, heard) {
            0
        } else if self.weigh_likeness {
            EDIT + SUBSTITUTION_WITH_LIKENESS + (self.unlike)(said, heard).min(UNLIKE_MAX)
        } else {
            EDIT + 1
        }
    }

    /// Walks back from the end of the cheapest path.
    fn trace(&self, end: u32) -> Vec<Step> {
        let mut steps = Vec::with_capacity(self.heard.len() + 8);
        let (mut node, mut column) = (end, self.heard.len());
        while node != WordGraph::<T>::START {
            let said = node as usize;
            let (first, choices) = &self.choices[said];
            let choice = choices[column - first];
            let before = self.said.after(said)[usize::from(choice >> 2)];
            match choice & 3 {
                FROM_PAIR => {
                    column -= 1;
                    let correct = (self.same)(&self.said.words()[said], &self.heard[column]);
                    let edit = if correct { Edit::Correct } else { Edit::Substituted };
                    steps.push(Step { edit, said: Some(said), heard: Some(column) });
                    node = before;
                }
                FROM_DELETION => {
                    steps.push(Step { edit: Edit::Deleted, said: Some(said), heard: None });
                    node = before;
                }
                _ => {
                    column -= 1;
                    steps.push(Step { edit: Edit::Inserted, said: None, heard: Some(column) });
                }
            }
        }
        steps.extend((0..column).rev().map(|heard| Step { edit: Edit::Inserted, said: None, heard: Some(heard) }));
        steps.reverse();
        steps
    }
}

fn slot<T>(said: &WordGraph<T>, node: u32) -> usize {
    if node == WordGraph::<T>::START { said.words().len() } else { node as usize }
}

/// The smallest value in `low..=high` for which `holds`, given that it holds from some value on, and at `high`.
fn partition(low: u64, high: u64, holds: impl Fn(u64) -> bool) -> u64 {
    let (mut low, mut high) = (low, high);
    while low < high {
        let middle = low.midpoint(high);
        if holds(middle) { high = middle } else { low = middle + 1 }
    }
    low
}
