//! The bits of a long comparison, only near the diagonal: time grows with length times errors over 64.
//!
//! The band, its doubling and its narrowing as edits are used up are Ukkonen's, "Algorithms for approximate string
//! matching" (1985). The columns are computed once forwards to find the number of edits, keeping the band at regular distances in
//! columns, and once more stretch by stretch for the sweep back (Hirschberg's trade of time for memory, 1975): only where
//! a cheapest path can pass that ends in the cells the sweep has come to, which is a few words wide.

use super::bits::{Bits, Vertical, next_column};
use super::sweep::{Cost, Sweep};

/// Columns of one stretch, if the bands kept at their starts fit [`KEPT_BYTES`].
const STRETCH: usize = 512;
/// Words of bits that one sweep may compute: ten hours of speech of which every fifth word is wrong.
const MOST_WORK: usize = 50_000_000;
const KEPT_BYTES: usize = 64 << 20;

/// Where each token stands among the said ones: as rows, or as bits where it stands often.
struct Places {
    starts: Vec<u32>,
    rows: Vec<u32>,
    /// For each token the number of its bit row in `often`, or `RARE`.
    dense: Vec<u32>,
    often: Vec<u64>,
    blocks: usize,
}

const RARE: u32 = u32::MAX;

impl Places {
    fn new(said: &[u32], vocabulary: usize) -> Self {
        let blocks = said.len().div_ceil(64);
        let mut starts = vec![0u32; vocabulary + 1];
        said.iter().for_each(|&token| starts[token as usize + 1] += 1);
        let mut dense = vec![RARE; vocabulary];
        let mut bit_rows = 0;
        for token in 0..vocabulary {
            if starts[token + 1] as usize > blocks {
                dense[token] = bit_rows;
                bit_rows += 1;
            }
            starts[token + 1] += starts[token];
        }
        let mut rows = vec![0; said.len()];
        let mut often = vec![0; bit_rows as usize * blocks];
        let mut next = starts.clone();
        for (row, &token) in said.iter().enumerate() {
            let token = token as usize;
            rows[next[token] as usize] = row as u32;
            next[token] += 1;
            if dense[token] != RARE {
                often[dense[token] as usize * blocks + row / 64] |= 1 << (row % 64);
            }
        }
        Self { starts, rows, dense, often, blocks }
    }

    /// Calls `with` with the rows of a token as bits, for the blocks `first..=last`; `buffer` is all zero before and
    /// after.
    fn bits<R>(
        &self,
        token: u32,
        first: usize,
        last: usize,
        buffer: &mut [u64],
        with: impl FnOnce(&[u64]) -> R,
    ) -> R {
        let token = token as usize;
        if token >= self.dense.len() {
            return with(&buffer[..=last - first]);
        }
        if self.dense[token] != RARE {
            let start = self.dense[token] as usize * self.blocks;
            return with(&self.often[start + first..=start + last]);
        }
        let rows = &self.rows[self.starts[token] as usize..self.starts[token + 1] as usize];
        let from = rows.partition_point(|&row| (row as usize) < first * 64);
        let inside = rows[from..].iter().take_while(|&&row| row as usize / 64 <= last);
        inside.clone().for_each(|&row| buffer[row as usize / 64 - first] |= 1 << (row % 64));
        let result = with(&buffer[..=last - first]);
        inside.for_each(|&row| buffer[row as usize / 64 - first] = 0);
        result
    }
}

/// The band at one column. Cell `row + 1` of a column is the one behind said token `row`; cell 0 is behind none.
#[derive(Clone)]
struct Band {
    first: usize,
    blocks: Vec<Vertical>,
    /// The edits of the cell above the first block.
    above: i64,
}

/// The cells of a block, from the one above it to its last.
struct Cells {
    top: i64,
    bottom: i64,
    /// The edits of the last.
    last: i64,
    /// What bounds the edits of all of them, since neighbours differ by one at most.
    fewest: i64,
    most: i64,
}

impl Cells {
    /// The diagonals they lie on at a column, from the last cell's to the first one's.
    const fn diagonals(&self, column: usize) -> Diagonals {
        Diagonals { least: column as i64 - self.bottom, most: column as i64 - self.top }
    }
}

impl Band {
    fn cells(&self, rows: usize) -> impl Iterator<Item = Cells> {
        let mut above = self.above;
        self.blocks.iter().enumerate().map(move |(at, block)| {
            let top = (self.first + at) * 64;
            let height = (rows - top).min(64);
            let last = above + block.over(height);
            let (sum, height) = (above + last, height as i64);
            above = last;
            let (fewest, most) = ((sum - height).div_euclid(2), (sum + height) / 2);
            Cells { top: top as i64, bottom: top as i64 + height, last, fewest, most }
        })
    }

    /// The edits of the last cell.
    fn last_cost(&self, rows: usize) -> i64 {
        self.cells(rows).last().map_or(self.above, |cells| cells.last)
    }

    /// At most this many edits have the cells from `low` to `high`.
    fn most_cost(&self, rows: usize, low: i64, high: i64) -> i64 {
        let among = self.cells(rows).filter(|cells| cells.top <= high && low <= cells.bottom);
        among.map(|cells| cells.most).max().unwrap_or(self.above)
    }
}

/// The diagonals, as column less cell, between which cells are computed.
#[derive(Clone, Copy)]
struct Diagonals {
    least: i64,
    most: i64,
}

impl Diagonals {
    const NONE: Self = Self { least: i64::MAX, most: i64::MIN };

    /// The same and this many more at either side.
    const fn widened(self, by: i64) -> Self {
        Self { least: self.least - by, most: self.most + by }
    }

    /// How far apart two stretches of diagonals are.
    fn apart(self, other: Self) -> i64 {
        (self.least - other.most).max(other.least - self.most).max(0)
    }

    /// From the least to the most of both.
    fn with(self, other: Self) -> Self {
        Self { least: self.least.min(other.least), most: self.most.max(other.most) }
    }

    /// What is in both.
    fn within(self, other: Self) -> Self {
        Self { least: self.least.max(other.least), most: self.most.min(other.most) }
    }
}

/// Two long sequences of tokens, numbered from 0; heard tokens that nobody said may have any number.
pub(super) struct Long<'t> {
    said: &'t [u32],
    heard: &'t [u32],
    places: Places,
}

impl<'t> Long<'t> {
    pub(super) fn new(said: &'t [u32], heard: &'t [u32], vocabulary: usize) -> Self {
        Self { said, heard, places: Places::new(said, vocabulary) }
    }

    /// Sweeps over all columns; gives the fewest edits. None where the two are so long and so unlike that it would take minutes.
    pub(super) fn sweep<C: Cost>(
        &self,
        sweep: &mut Sweep<C>,
        keep_path: bool,
        tie: &impl Fn(usize, usize) -> C,
    ) -> Option<u64> {
        let (rows, columns) = (self.said.len(), self.heard.len());
        let surest = some_path(self.said, self.heard);
        // A rough path that lost its way says little: then the band starts small and doubles.
        let mut limit = if surest <= rows / 2 { surest } else { rows.abs_diff(columns) + 64 };
        let same = |said: usize, heard: usize| self.said[said] == self.heard[heard];
        let (kept, every) = loop {
            if limit.min(rows) / 64 * columns > MOST_WORK {
                return None;
            }
            let (edits, kept, every) = self.edits_within(limit);
            if edits <= limit {
                break (kept, every);
            }
            limit = (limit * 2).min(rows.max(columns));
        };
        sweep.start(rows, columns, keep_path);
        let mut bits = Vec::new();
        let mut at_column = Vec::new();
        for (at, pair) in kept.windows(2).enumerate().rev() {
            let start = at * every;
            let end = (start + every).min(columns);
            let diagonals = self.that_lead_to(&pair[0], start, &pair[1], end, sweep.rows());
            bits.clear();
            at_column.clear();
            self.run(pair[0].clone(), start..end, diagonals, |band, column_bits| {
                at_column.push((band.first, bits.len()));
                bits.extend_from_slice(column_bits);
            });
            for column in (start + 1..=end).rev() {
                let (first, from) = at_column[column - start - 1];
                let to = at_column.get(column - start).map_or(bits.len(), |next| next.1);
                sweep.column(column, first, &bits[from..to], &same, tie);
            }
        }
        Some(kept.last().map_or(0, |band| band.last_cost(rows)) as u64)
    }

    /// The first and last block of the band at a column.
    fn blocks_at(&self, column: usize, diagonals: Diagonals) -> (usize, usize) {
        let rows = self.said.len() as i64;
        let row = |diagonal: i64| (column as i64 - diagonal - 1).clamp(0, rows - 1) as usize;
        (row(diagonals.most) / 64, row(diagonals.least) / 64)
    }

    /// The edits of the cheapest path of at most `limit`, with the band kept at regular distances and at the end. Where
    /// there is none, some number above the limit.
    fn edits_within(&self, limit: usize) -> (usize, Vec<Band>, usize) {
        let (rows, columns) = (self.said.len(), self.heard.len());
        let surplus = columns as i64 - rows as i64;
        let slack = (limit as i64 - surplus.abs()).max(0) / 2 + 1;
        let mut diagonals = Diagonals { least: surplus.min(0) - slack, most: surplus.max(0) + slack };
        let widest = (limit / 64 + 4).min(self.places.blocks);
        let every = STRETCH.max(columns * widest / (KEPT_BYTES / size_of::<Vertical>()));
        let (_, last) = self.blocks_at(0, diagonals);
        let mut kept = vec![Band { first: 0, blocks: vec![Vertical::DELETIONS; last + 1], above: 0 }];
        for start in (0..columns).step_by(every) {
            let band = &kept[kept.len() - 1];
            let Some(left) = self.that_can_finish(band, start, limit) else { return (limit + 1, kept, every) };
            diagonals = diagonals.within(left);
            kept.push(self.run(band.clone(), start..(start + every).min(columns), diagonals, |_, _| {}));
        }
        let edits = kept[kept.len() - 1].last_cost(rows);
        (edits as usize, kept, every)
    }

    /// The diagonals that paths of at most `limit` edits can still touch from a column on; none if there is no such path.
    ///
    /// A path that has used `edits` and needs `to_end` more to come to the last cell's diagonal can stray from the way
    /// there by half of what is left.
    fn that_can_finish(&self, band: &Band, column: usize, limit: usize) -> Option<Diagonals> {
        let rows = self.said.len();
        let last = self.heard.len() as i64 - rows as i64;
        let end = Diagonals { least: last, most: last };
        let mut diagonals = Diagonals::NONE;
        for cells in band.cells(rows) {
            let here = cells.diagonals(column);
            let left = limit as i64 - cells.fewest - here.apart(end);
            if left >= 0 {
                diagonals = diagonals.with(here.with(end).widened(left / 2 + 1));
            }
        }
        (diagonals.least <= diagonals.most).then_some(diagonals)
    }

    /// The diagonals on which cheapest paths come from the column of `band` to the cells `low..=high` of a later one.
    fn that_lead_to(
        &self,
        band: &Band,
        start: usize,
        later: &Band,
        end: usize,
        (low, high): (usize, usize),
    ) -> Diagonals {
        let (rows, low, high) = (self.said.len(), low as i64, high as i64);
        let most = later.most_cost(rows, low, high);
        let to = Diagonals { least: end as i64 - high, most: end as i64 - low };
        let (mut from, mut fewest) = (Diagonals::NONE, most);
        for cells in band.cells(rows) {
            let here = cells.diagonals(start);
            if cells.fewest + here.apart(to) <= most {
                from = from.with(here);
                fewest = fewest.min(cells.fewest);
            }
        }
        // A path strays from where it begins and from where it ends by no more than the edits between.
        let between = most - fewest + 1;
        to.widened(between).within(from.widened(between))
    }

    /// Moves the band over some columns, showing it and its bits after each.
    fn run(
        &self,
        mut band: Band,
        columns: std::ops::Range<usize>,
        diagonals: Diagonals,
        mut show: impl FnMut(&Band, &[Bits]),
    ) -> Band {
        let mut buffer = Vec::new();
        let mut bits = Vec::new();
        for column in columns {
            let (first, last) = self.blocks_at(column + 1, diagonals);
            while band.first < first && band.blocks.len() > 1 {
                let dropped = band.blocks.remove(0);
                band.above += dropped.over(64);
                band.first += 1;
            }
            while band.first + band.blocks.len() <= last {
                band.blocks.push(Vertical::DELETIONS);
            }
            band.blocks.truncate((last + 1).saturating_sub(band.first).max(1));
            // Above the band nothing but insertions is assumed, which no path within the limit can use.
            band.above += 1;
            let width = band.blocks.len();
            buffer.resize(width.max(buffer.len()), 0);
            bits.resize(width.max(bits.len()), Bits::default());
            self.places.bits(self.heard[column], band.first, band.first + width - 1, &mut buffer, |equal| {
                let mut above = 1;
                for ((block, equal), bits) in band.blocks.iter_mut().zip(equal).zip(&mut bits) {
                    *bits = next_column(block, *equal, &mut above);
                }
            });
            show(&band, &bits[..width]);
        }
        band
    }
}

/// The edits of a path found by looking ahead a little at every difference: never fewer than the fewest.
fn some_path(said: &[u32], heard: &[u32]) -> usize {
    const AHEAD: usize = 40;
    let (mut row, mut column, mut edits) = (0, 0, 0);
    let agree = |row: usize, column: usize| match (said.get(row), heard.get(column)) {
        (Some(a), Some(b)) => a == b,
        (None, None) => true,
        _ => false,
    };
    while row < said.len() && column < heard.len() {
        if said[row] == heard[column] {
            (row, column) = (row + 1, column + 1);
            continue;
        }
        let near = (1..AHEAD).find_map(|far| {
            let around = (0..=far).flat_map(|side| [(far, side), (side, far)]);
            around
                .into_iter()
                .find(|(down, right)| agree(row + down, column + right) && agree(row + down + 1, column + right + 1))
        });
        let (down, right) = near.unwrap_or((1, 1));
        let (down, right) = (down.min(said.len() - row), right.min(heard.len() - column));
        edits += down.max(right);
        (row, column) = (row + down, column + right);
    }
    edits + (said.len() - row) + (heard.len() - column)
}
