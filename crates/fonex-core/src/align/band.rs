//! The bits of a long comparison, only near the diagonal: time grows with length times errors over 64.
//!
//! The band and its doubling are Ukkonen's, "Algorithms for approximate string matching" (1985). The columns are
//! computed once forwards to find the number of edits, keeping the band every so many columns, and once more stretch by
//! stretch for the sweep back (Hirschberg's trade of time for memory, 1975), so that memory stays within a few megabytes.

use super::bits::{Bits, Vertical, next_column};
use super::sweep::{Cost, Sweep};

/// Bytes of bits kept for one stretch.
const STRETCH_BYTES: usize = 8 << 20;

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

/// The band at one column.
#[derive(Clone)]
struct Band {
    first: usize,
    blocks: Vec<Vertical>,
    /// The edits of the cell above the first block.
    above: i64,
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

    /// The fewest edits, and the sweep over all columns.
    pub(super) fn sweep(&self, keep_path: bool, tie: &impl Fn(usize, usize) -> Cost) -> (u64, Sweep) {
        let (rows, columns) = (self.said.len(), self.heard.len());
        let surest = some_path(self.said, self.heard);
        // A rough path that lost its way says little: then the band starts small and doubles.
        let mut limit = if surest <= rows / 2 { surest } else { rows.abs_diff(columns) + 64 };
        let same = |said: usize, heard: usize| self.said[said] == self.heard[heard];
        loop {
            let (edits, kept, every) = self.edits_within(limit);
            if edits <= limit {
                let mut sweep = Sweep::new(rows, columns, keep_path);
                let mut bits = Vec::new();
                let mut end = columns;
                for (at, band) in kept.into_iter().enumerate().rev() {
                    let start = at * every;
                    bits.clear();
                    let mut at_column = Vec::with_capacity(end - start);
                    self.run(band, start..end, limit, |band, column_bits| {
                        at_column.push((band.first, bits.len()));
                        bits.extend_from_slice(column_bits);
                    });
                    for column in (start + 1..=end).rev() {
                        let (first, from) = at_column[column - start - 1];
                        let to = at_column.get(column - start).map_or(bits.len(), |next| next.1);
                        sweep.column(column, first, &bits[from..to], &same, tie);
                    }
                    end = start;
                }
                return (edits as u64, sweep);
            }
            limit = (limit * 2).min(rows.max(columns));
        }
    }

    /// The first and last block of the band at a column, and how many blocks a band has at most.
    fn blocks_at(&self, column: usize, limit: usize) -> (usize, usize) {
        let (rows, columns) = (self.said.len() as i64, self.heard.len() as i64);
        let surplus = columns - rows;
        let slack = (limit as i64 - surplus.abs()).max(0) / 2 + 1;
        let (least, most) = (surplus.min(0) - slack, surplus.max(0) + slack);
        let row = |diagonal: i64| (column as i64 - diagonal - 1).clamp(0, rows - 1) as usize;
        (row(most) / 64, row(least) / 64)
    }

    /// The edits of the cheapest path inside the band, with the band kept every so many columns.
    fn edits_within(&self, limit: usize) -> (usize, Vec<Band>, usize) {
        let (rows, columns) = (self.said.len(), self.heard.len());
        let widest = (limit / 64 + 4).min(self.places.blocks);
        let every = (STRETCH_BYTES / (size_of::<Bits>() * widest)).max(64);
        let mut kept = Vec::new();
        let (_, last) = self.blocks_at(0, limit);
        let mut band = Band { first: 0, blocks: vec![Vertical::DELETIONS; last + 1], above: 0 };
        let mut start = 0;
        while start < columns || start == 0 {
            kept.push(band.clone());
            let end = (start + every).min(columns);
            band = self.run(band, start..end, limit, |_, _| {});
            if end == columns {
                break;
            }
            start = end;
        }
        let rows_from = |block: usize| rows - block * 64;
        let edits = band
            .blocks
            .iter()
            .enumerate()
            .fold(band.above, |sum, (at, block)| sum + block.over(rows_from(band.first + at).min(64)));
        (edits as usize, kept, every)
    }

    /// Moves the band over some columns, showing it and its bits after each.
    fn run(
        &self,
        mut band: Band,
        columns: std::ops::Range<usize>,
        limit: usize,
        mut show: impl FnMut(&Band, &[Bits]),
    ) -> Band {
        let mut buffer = vec![0; self.places.blocks];
        let mut bits = vec![Bits::default(); self.places.blocks];
        for column in columns {
            let (first, last) = self.blocks_at(column + 1, limit);
            while band.first < first {
                let dropped = band.blocks.remove(0);
                band.above += dropped.over(64);
                band.first += 1;
            }
            while band.first + band.blocks.len() <= last {
                band.blocks.push(Vertical::DELETIONS);
            }
            // Above the band nothing but insertions is assumed, which no path within the limit can use.
            band.above += 1;
            let width = band.blocks.len();
            self.places.bits(self.heard[column], first, first + width - 1, &mut buffer, |equal| {
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
