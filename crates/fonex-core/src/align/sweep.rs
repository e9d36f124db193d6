//! Among all paths with the fewest edits, the best one: a sweep back from the end over the cells such paths touch.
//!
//! Only the steps that keep the edits minimal are taken, so the work grows with the cells on cheapest paths and not
//! with the matrix.

use super::bits::Bits;
use super::{Edit, Step};

/// What a path costs beyond its edits: substitutions, then pairs apart in time, then the unlikeness of substituted
/// words, so that one comparison orders paths. The lowest bits hold the way on.
pub(super) type Cost = u128;
pub(super) const SUBSTITUTION: Cost = 1 << 86;
pub(super) const APART: Cost = 1 << 44;
pub(super) const UNLIKE: Cost = 1 << 2;

const UNREACHED: Cost = Cost::MAX;
const WAY: Cost = UNLIKE - 1;
const PAIR: Cost = 0;
const DELETION: Cost = 1;
const INSERTION: Cost = 2;
const NONE: Cost = 3;

/// The columns swept so far, from the last one back.
pub(super) struct Sweep {
    here: Vec<Cost>,
    left: Vec<Cost>,
    /// Rows that paths touch in the column to be swept next.
    rows: (usize, usize),
    columns: usize,
    /// The ways on from the touched cells, and for each column (the last first) where they start and their first row.
    ways: Vec<u8>,
    starts: Vec<(usize, u32)>,
    keep_path: bool,
}

impl Sweep {
    /// A sweep from the end of `rows` said and `columns` heard tokens.
    pub(super) fn new(rows: usize, columns: usize, keep_path: bool) -> Self {
        let mut here = vec![UNREACHED; rows + 1];
        here[rows] = NONE;
        let left = vec![UNREACHED; rows + 1];
        Self { here, left, rows: (rows, rows), columns, ways: Vec::new(), starts: Vec::new(), keep_path }
    }

    /// Sweeps the column of heard token `column - 1`; `blocks` are its bits, the first of them block number `first`.
    /// `same` and `tie` look at pairs of a said and a heard token.
    pub(super) fn column(
        &mut self,
        column: usize,
        first: usize,
        blocks: &[Bits],
        same: &impl Fn(usize, usize) -> bool,
        tie: &impl Fn(usize, usize) -> Cost,
    ) {
        let (mut low, high) = self.rows;
        let (mut next_low, mut next_high) = (usize::MAX, 0);
        let mut row = high;
        loop {
            let cost = self.here[row];
            if cost != UNREACHED {
                let cost = cost & !WAY;
                let (down, right, free) = match row.checked_sub(1) {
                    None => (false, true, false),
                    Some(at) => {
                        let bits = &blocks[at / 64 - first];
                        let bit = |word: u64| word >> (at % 64) & 1 == 1;
                        (bit(bits.down), bit(bits.right), bit(bits.free))
                    }
                };
                if down {
                    self.here[row - 1] = self.here[row - 1].min(cost | DELETION);
                    low = low.min(row - 1);
                }
                if right {
                    self.left[row] = self.left[row].min(cost | INSERTION);
                    (next_low, next_high) = (next_low.min(row), next_high.max(row));
                }
                if row > 0 && (!free || same(row - 1, column - 1)) {
                    let pair = cost + tie(row - 1, column - 1) + if free { 0 } else { SUBSTITUTION };
                    self.left[row - 1] = self.left[row - 1].min(pair | PAIR);
                    (next_low, next_high) = (next_low.min(row - 1), next_high.max(row - 1));
                }
            }
            if row == low {
                break;
            }
            row -= 1;
        }
        self.leave(low, high);
        self.rows = (next_low, next_high);
    }

    /// Keeps the ways of a swept column and moves on to the one before.
    fn leave(&mut self, low: usize, high: usize) {
        let touched = &mut self.here[low..=high];
        if self.keep_path {
            self.starts.push((self.ways.len(), low as u32));
            self.ways.extend(touched.iter().map(|cost| (cost & WAY) as u8));
        }
        touched.fill(UNREACHED);
        std::mem::swap(&mut self.here, &mut self.left);
    }

    /// The substitutions of the best path, once every column has been swept.
    pub(super) fn substitutions(&self) -> u64 {
        // In the column before the first heard token only deletions are left.
        (self.here[..=self.rows.1].iter().min().expect("a path reaches the start") / SUBSTITUTION) as u64
    }

    /// The best path, once every column has been swept.
    pub(super) fn steps(mut self) -> Vec<Step> {
        let high = self.rows.1;
        let mut cost = UNREACHED;
        for row in (0..=high).rev() {
            let way_on = if cost == UNREACHED { cost } else { cost & !WAY | DELETION };
            cost = self.here[row].min(way_on);
            self.here[row] = cost;
        }
        self.leave(0, high);
        let (mut row, mut column) = (0, 0);
        let mut steps = Vec::with_capacity(self.columns + 8);
        loop {
            let (start, first) = self.starts[self.columns - column];
            let way = Cost::from(self.ways[start + row - first as usize]);
            let (said, heard) = (Some(row), Some(column));
            match way {
                // Whether the pair is right is not kept; the caller knows the tokens.
                PAIR => steps.push(Step { edit: Edit::Correct, said, heard }),
                DELETION => steps.push(Step { edit: Edit::Deleted, said, heard: None }),
                INSERTION => steps.push(Step { edit: Edit::Inserted, said: None, heard }),
                _ => break,
            }
            row += usize::from(way != INSERTION);
            column += usize::from(way != DELETION);
        }
        steps
    }
}
