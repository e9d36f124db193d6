//! The minimal path through a label with choices: dynamic programming in a band that doubles until the path provably lies inside.
//!
//! Wagner and Fischer, "The string-to-string correction problem" (1974), over a word graph instead of a chain; the
//! band and its doubling are Ukkonen's, "Algorithms for approximate string matching" (1985). Time and memory are
//! O(words x errors); the path keeps one choice a cell.

use super::graph::Links;
use super::{Against, Edit, Step};

/// Above this many tokens on a side neither times nor the look of words break ties: they would cost more than the alignment
/// itself.
const WEIGHED_TOKENS: usize = 2_000;

/// Edits, then heard words that are not right, then pairs apart in time, then unlikeness, packed so that one comparison orders
/// paths. What was heard is the same for every reading, so that the fewest heard words that are not right (substituted or
/// inserted) leave the most that are. Where ties are weighed, at most [`WEIGHED_TOKENS`] words were heard, and what is below
/// the edits fits 41 bits.
type Cost = u64;
const EDIT: Cost = 1 << 41;
const NOT_RIGHT: Cost = 1 << 30;
const APART: Cost = 1 << 15;
const UNREACHED: Cost = u64::MAX / 4;

/// Tokens a side may have. Where ties are not weighed, heard words that are not right take the room below the edits alone.
const MOST_TOKENS: usize = (1 << 29) - 1;

/// Aligns the heard tokens with a label that offers choices.
pub(super) fn align_graph<T: Eq>(
    words: &[T],
    links: &Links,
    heard: &[T],
    against: impl Fn(usize, usize, bool) -> Against,
) -> Vec<Step> {
    let mut search = Search::new(words, links, heard, against);
    let end = search.widen_until_found();
    search.trace(end)
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

struct Search<'g, T, A> {
    words: &'g [T],
    links: &'g Links,
    heard: &'g [T],
    against: A,
    depths: Vec<(u32, u32)>,
    remainders: Vec<(u32, u32)>,
    /// The last word that looks back at each word's row; the start's stands at the end.
    last_use: Vec<usize>,
    choices: Vec<(usize, Vec<Choice>)>,
    weigh: bool,
    /// What a heard word that is not right costs below the edits.
    not_right: Cost,
}

impl<'g, T: Eq, A: Fn(usize, usize, bool) -> Against> Search<'g, T, A> {
    fn new(words: &'g [T], links: &'g Links, heard: &'g [T], against: A) -> Self {
        let count = words.len();
        assert!(count <= MOST_TOKENS && heard.len() <= MOST_TOKENS, "more than {MOST_TOKENS} tokens in one text");
        let mut last_use = vec![0; count + 1];
        for node in 0..count {
            for &before in links.after(node) {
                last_use[slot(before, count)] = node;
            }
        }
        for &end in links.ends() {
            last_use[slot(end, count)] = count;
        }
        let weigh = heard.len() <= WEIGHED_TOKENS && count <= WEIGHED_TOKENS;
        let not_right = if weigh { NOT_RIGHT } else { 1 };
        let (depths, remainders) = (links.depths(), links.remainders());
        Self { words, links, heard, against, depths, remainders, last_use, choices: Vec::new(), weigh, not_right }
    }

    /// Doubles the band until the cheapest path costs no more edits than the band admits.
    fn widen_until_found(&mut self) -> u32 {
        let mut limit = 16;
        loop {
            let (end, cost) = self.fill(limit);
            if cost < UNREACHED && cost / EDIT <= limit {
                return end;
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

    fn fill(&mut self, limit: u64) -> (u32, Cost) {
        let words = self.words.len();
        self.choices.clear();
        let mut rows: Vec<Option<Row>> = Vec::with_capacity(words + 1);
        rows.resize_with(words + 1, || None);
        let (first, last) = self.band((0, 0), self.remainders[words], limit);
        let columns = if first <= last { first as Cost..last as Cost + 1 } else { 0..0 };
        rows[words] = Some(Row { first, costs: columns.map(|column| column * (EDIT + self.not_right)).collect() });
        for node in 0..words {
            let row = self.fill_row(node, &rows, limit);
            rows[node] = Some(row);
            for &before in self.links.after(node) {
                let before = slot(before, words);
                if self.last_use[before] == node {
                    rows[before] = None;
                }
            }
        }
        let cost_at = |end: u32| rows[slot(end, words)].as_ref().map_or(UNREACHED, |row| row.at(self.heard.len()));
        self.links
            .ends()
            .iter()
            .map(|&end| (end, cost_at(end)))
            .min_by_key(|&(_, cost)| cost)
            .expect("a graph has an end")
    }

    fn fill_row(&mut self, node: usize, rows: &[Option<Row>], limit: u64) -> Row {
        let (first, last) = self.band(self.depths[node], self.remainders[node], limit);
        let width = (last + 1).saturating_sub(first);
        let mut costs: Vec<Cost> = Vec::with_capacity(width);
        let mut choices = Vec::with_capacity(width);
        let before: Vec<&Row> =
            self.links.after(node).iter().filter_map(|&b| rows[slot(b, self.words.len())].as_ref()).collect();
        for column in first..first + width {
            let pair = column.checked_sub(1).map_or(UNREACHED, |at| self.pair_cost(node, at));
            let mut best = (UNREACHED, FROM_PAIR);
            for (branch, row) in (0..).zip(&before) {
                let choice = |kind: Choice| kind | branch << 2;
                if column > 0 {
                    best = best.min((row.at(column - 1) + pair, choice(FROM_PAIR)));
                }
                best = best.min((row.at(column) + EDIT, choice(FROM_DELETION)));
            }
            if let Some(&left) = costs.last() {
                best = best.min((left + EDIT + self.not_right, FROM_INSERTION));
            }
            costs.push(best.0);
            choices.push(best.1);
        }
        self.choices.push((first, choices));
        Row { first, costs }
    }

    fn pair_cost(&self, node: usize, at: usize) -> Cost {
        let same = self.words[node] == self.heard[at];
        let edit = if same { 0 } else { EDIT + self.not_right };
        if !self.weigh {
            return edit;
        }
        let against = (self.against)(node, at, same);
        edit + Cost::from(against.apart) * APART + Cost::from(against.unlike)
    }

    /// Walks back from the end of the cheapest path.
    fn trace(&self, end: u32) -> Vec<Step> {
        let mut steps = Vec::with_capacity(self.heard.len() + 8);
        let (mut node, mut column) = (end, self.heard.len());
        while node != Links::START {
            let said = node as usize;
            let (first, choices) = &self.choices[said];
            let choice = choices[column - first];
            let before = self.links.after(said)[usize::from(choice >> 2)];
            match choice & 3 {
                FROM_PAIR => {
                    column -= 1;
                    let correct = self.words[said] == self.heard[column];
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

const fn slot(node: u32, words: usize) -> usize {
    if node == Links::START { words } else { node as usize }
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
