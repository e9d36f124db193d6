//! Among all paths with the fewest edits, the best one: a sweep back from the end over the cells such paths touch.
//!
//! Only the steps that keep the edits minimal are taken, so the work grows with the cells on cheapest paths and not
//! with the matrix.

use std::ops::Add;

use super::bits::Bits;
use super::{Edit, Step};

/// What a path costs beyond its edits, so that one comparison orders paths. The lowest two bits hold the way on.
pub(super) trait Cost: Copy + Ord + Add<Output = Self> + std::fmt::Debug {
    const UNREACHED: Self;
    const NOTHING: Self;
    const SUBSTITUTION: Self;

    fn way(self) -> u8;
    fn with_way(self, way: u8) -> Self;
    fn substitutions(self) -> u64;
}

/// Substitutions, then pairs apart in time, then the unlikeness of substituted words.
pub(super) type Full = u128;
pub(super) const APART: Full = 1 << 44;
pub(super) const UNLIKE: Full = 1 << 2;

/// Substitutions alone, where only counts are wanted.
pub(super) type Counting = u32;

macro_rules! cost {
    ($of:ty, $substitution:expr) => {
        impl Cost for $of {
            const UNREACHED: Self = Self::MAX;
            const NOTHING: Self = 0;
            const SUBSTITUTION: Self = $substitution;

            fn way(self) -> u8 {
                self as u8 & WAY
            }

            fn with_way(self, way: u8) -> Self {
                self & !Self::from(WAY) | Self::from(way)
            }

            fn substitutions(self) -> u64 {
                (self / Self::SUBSTITUTION) as u64
            }
        }
    };
}

cost!(Full, 1 << 86);
cost!(Counting, 1 << 2);

const WAY: u8 = 3;
const PAIR: u8 = 0;
const DELETION: u8 = 1;
const INSERTION: u8 = 2;
const NONE: u8 = 3;

/// The columns swept so far, from the last one back. What it allocates serves the next sweep.
#[derive(Debug, Clone, Default)]
pub(super) struct Sweep<C> {
    here: Vec<C>,
    left: Vec<C>,
    /// Rows that paths touch in the column to be swept next.
    rows: (usize, usize),
    columns: usize,
    /// The ways on from the touched cells, and for each column (the last first) where they start and their first row.
    ways: Vec<u8>,
    starts: Vec<(usize, u32)>,
    keep_path: bool,
}

impl<C: Cost> Sweep<C> {
    /// Starts from the end of `rows` said and `columns` heard tokens.
    pub(super) fn start(&mut self, rows: usize, columns: usize, keep_path: bool) {
        for column in [&mut self.here, &mut self.left] {
            column.clear();
            column.resize(rows + 1, C::UNREACHED);
        }
        self.here[rows] = C::NOTHING.with_way(NONE);
        self.rows = (rows, rows);
        self.columns = columns;
        self.ways.clear();
        self.starts.clear();
        self.keep_path = keep_path;
    }

    /// The first and last cell that paths touch in the column to be swept next.
    pub(super) const fn rows(&self) -> (usize, usize) {
        self.rows
    }

    /// Sweeps the column of heard token `column - 1`; `blocks` are its bits, the first of them block number `first`.
    /// `same` and `tie` look at pairs of a said and a heard token.
    #[inline]
    pub(super) fn column(
        &mut self,
        column: usize,
        first: usize,
        blocks: &[Bits],
        same: &impl Fn(usize, usize) -> bool,
        tie: &impl Fn(usize, usize) -> C,
    ) {
        let (mut low, high) = self.rows;
        let (mut next_low, mut next_high) = (usize::MAX, 0);
        let mut row = high;
        loop {
            let cost = self.here[row];
            if cost != C::UNREACHED {
                let (down, right, free) = match row.checked_sub(1) {
                    None => (false, true, false),
                    Some(at) => {
                        let bits = &blocks[at / 64 - first];
                        let bit = |word: u64| word >> (at % 64) & 1 == 1;
                        (bit(bits.down), bit(bits.right), bit(bits.free))
                    }
                };
                if down {
                    self.here[row - 1] = self.here[row - 1].min(cost.with_way(DELETION));
                    low = low.min(row - 1);
                }
                if right {
                    self.left[row] = self.left[row].min(cost.with_way(INSERTION));
                    (next_low, next_high) = (next_low.min(row), next_high.max(row));
                }
                if row > 0 && (!free || same(row - 1, column - 1)) {
                    let substitution = if free { C::NOTHING } else { C::SUBSTITUTION };
                    let pair = cost.with_way(PAIR) + tie(row - 1, column - 1) + substitution;
                    self.left[row - 1] = self.left[row - 1].min(pair);
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
            self.ways.extend(touched.iter().map(|cost| cost.way()));
        }
        touched.fill(C::UNREACHED);
        std::mem::swap(&mut self.here, &mut self.left);
    }

    /// The substitutions of the best path, once every column has been swept.
    pub(super) fn substitutions(&self) -> u64 {
        // In the column before the first heard token only deletions are left.
        self.here[..=self.rows.1].iter().min().expect("a path reaches the start").substitutions()
    }

    /// Calls `with` for each step of the best path in reading order, once every column has been swept. Whether a pair is
    /// right is not known here: it is called correct.
    pub(super) fn walk(&mut self, mut with: impl FnMut(Step)) {
        let high = self.rows.1;
        let mut cost = C::UNREACHED;
        for row in (0..=high).rev() {
            let way_on = if cost == C::UNREACHED { cost } else { cost.with_way(DELETION) };
            cost = self.here[row].min(way_on);
            self.here[row] = cost;
        }
        self.leave(0, high);
        let (mut row, mut column) = (0, 0);
        loop {
            let (start, first) = self.starts[self.columns - column];
            let way = self.ways[start + row - first as usize];
            let (said, heard) = (Some(row), Some(column));
            match way {
                PAIR => with(Step { edit: Edit::Correct, said, heard }),
                DELETION => with(Step { edit: Edit::Deleted, said, heard: None }),
                INSERTION => with(Step { edit: Edit::Inserted, said: None, heard }),
                _ => break,
            }
            row += usize::from(way != INSERTION);
            column += usize::from(way != DELETION);
        }
    }
}
