//! Two plain sequences of tokens: short ones in one machine word a column, long ones in a band of such words.

use std::collections::HashMap;
use std::hash::Hash;
use std::ops::Range;

use super::band::Long;
use super::bits::{Bits, Vertical, next_column};
use super::sweep::{APART, Cost, Counting, Full, Sweep, UNLIKE};
use super::{Against, Edit, EditCounts, Step};
use crate::text::{alike_at_end, alike_at_start};

/// Rows that fit one machine word.
const SHORT: usize = 64;

/// What is alike at both ends of two sequences, and what stands between.
struct Ends<'t, T> {
    head: usize,
    tail: usize,
    said: &'t [T],
    heard: &'t [T],
}

impl<'t, T: Eq> Ends<'t, T> {
    /// Equal tokens at an end are paired in some best path, unless `may_pair`, told their places, speaks against it.
    fn of(said: &'t [T], heard: &'t [T], may_pair: impl Fn(usize, usize) -> bool) -> Self {
        let starts = said.iter().zip(heard).enumerate();
        let head = starts.take_while(|(at, (a, b))| a == b && may_pair(*at, *at)).count();
        let (rest_said, rest_heard) = (&said[head..], &heard[head..]);
        let ends = rest_said.iter().rev().zip(rest_heard.iter().rev()).enumerate();
        let may_end = |back: usize| may_pair(said.len() - 1 - back, heard.len() - 1 - back);
        let tail = ends.take_while(|(back, (a, b))| a == b && may_end(*back)).count();
        let said = &rest_said[..rest_said.len() - tail];
        let heard = &rest_heard[..rest_heard.len() - tail];
        Self { head, tail, said, heard }
    }
}

impl<'t> Ends<'t, u8> {
    /// [`Self::of`] of bytes of which any may be paired.
    fn of_bytes(said: &'t [u8], heard: &'t [u8]) -> Self {
        let head = alike_at_start(said, heard);
        let (said, heard) = (&said[head..], &heard[head..]);
        let tail = alike_at_end(said, heard);
        Self { head, tail, said: &said[..said.len() - tail], heard: &heard[..heard.len() - tail] }
    }
}

/// Aligns and counts chain after chain; what it allocates serves the next one.
#[derive(Debug, Clone, Default)]
pub(super) struct Chains {
    columns: Vec<Bits>,
    /// For each character of ASCII the rows it stands in, while characters are counted; nothing in between.
    places: Vec<u64>,
    full: Sweep<Full>,
    counting: Sweep<Counting>,
    /// Something was aligned in pieces since this was last asked.
    pub(super) in_pieces: bool,
}

/// Tokens of the longer side of a piece.
const PIECE: usize = 4096;

/// Both sides cut at the same shares of their lengths. What is aligned piece by piece is an alignment of the whole, if not the best.
fn pieces(said: usize, heard: usize) -> impl Iterator<Item = (Range<usize>, Range<usize>)> {
    let count = said.max(heard).div_ceil(PIECE);
    let cut = move |length: usize, at: usize| length * at / count;
    (0..count).map(move |at| (cut(said, at)..cut(said, at + 1), cut(heard, at)..cut(heard, at + 1)))
}

impl Chains {
    /// Puts the steps of the best path into `steps`; see [`super::Aligner::align`].
    pub(super) fn align<T: Eq + Hash>(
        &mut self,
        said: &[T],
        heard: &[T],
        against: impl Fn(usize, usize, bool) -> Against,
        steps: &mut Vec<Step>,
    ) {
        self.align_as(said, heard, &against, steps);
    }

    fn align_as<T: Eq + Hash>(
        &mut self,
        said: &[T],
        heard: &[T],
        against: &dyn Fn(usize, usize, bool) -> Against,
        steps: &mut Vec<Step>,
    ) {
        let ends = Ends::of(said, heard, |row, column| against(row, column, true) == Against::default());
        let head = ends.head;
        let pair = |said_at: usize, heard_at: usize| {
            let edit = if said[said_at] == heard[heard_at] { Edit::Correct } else { Edit::Substituted };
            Step { edit, said: Some(said_at), heard: Some(heard_at) }
        };
        steps.extend((0..head).map(|at| pair(at, at)));
        match (ends.said.len(), ends.heard.len()) {
            (0, 0) => {}
            (1, 1) => steps.push(pair(head, head)),
            (rows, 0) => {
                steps.extend((head..head + rows).map(|at| Step { edit: Edit::Deleted, said: Some(at), heard: None }));
            }
            (0, columns) => steps.extend((head..head + columns).map(|at| Step {
                edit: Edit::Inserted,
                said: None,
                heard: Some(at),
            })),
            _ => {
                let tie = |row: usize, column: usize| {
                    let same = ends.said[row] == ends.heard[column];
                    let Against { apart, unlike } = against(row + head, column + head, same);
                    Full::from(apart) * APART + Full::from(unlike) * UNLIKE
                };
                if sweep(&mut self.columns, &mut self.full, ends.said, ends.heard, true, &tie).is_none() {
                    self.in_pieces = true;
                    for (rows, columns) in pieces(ends.said.len(), ends.heard.len()) {
                        let (row, column, first) = (head + rows.start, head + columns.start, steps.len());
                        let against = |said: usize, heard: usize, same| against(said + row, heard + column, same);
                        self.align_as(&ends.said[rows], &ends.heard[columns], &against, steps);
                        for step in &mut steps[first..] {
                            step.said = step.said.map(|at| at + row);
                            step.heard = step.heard.map(|at| at + column);
                        }
                    }
                    steps.extend((1..=ends.tail).rev().map(|back| pair(said.len() - back, heard.len() - back)));
                    return;
                }
                self.full.walk(|step| match (step.said, step.heard) {
                    (Some(row), Some(column)) => steps.push(pair(row + head, column + head)),
                    (row, column) => {
                        let (said, heard) = (row.map(|at| at + head), column.map(|at| at + head));
                        steps.push(Step { edit: step.edit, said, heard });
                    }
                });
            }
        }
        steps.extend((1..=ends.tail).rev().map(|back| pair(said.len() - back, heard.len() - back)));
    }

    /// Counts the edits without keeping the path.
    pub(super) fn count<T: Eq + Hash>(&mut self, said: &[T], heard: &[T]) -> EditCounts {
        let Self { columns, counting, .. } = self;
        let counts = count_middle(Ends::of(said, heard, |_, _| true), |said, heard| {
            if said.len() <= SHORT {
                return Some(count_short(columns, said, heard, |token| rows_like(said, token)));
            }
            let edits = sweep(columns, counting, said, heard, false, &|_, _| 0)?;
            Some((edits, counting.substitutions()))
        });
        counts.unwrap_or_else(|| {
            self.in_pieces = true;
            let pieces = pieces(said.len(), heard.len());
            pieces
                .map(|(rows, columns)| self.count(&said[rows], &heard[columns]))
                .fold(EditCounts::default(), |a, b| a + b)
        })
    }

    /// Counts the edits between the characters of two texts.
    pub(super) fn count_characters(&mut self, said: &str, heard: &str) -> EditCounts {
        if said.is_ascii() && heard.is_ascii() {
            return self.count_ascii(said.as_bytes(), heard.as_bytes());
        }
        let said: Vec<&str> = crate::text::graphemes(said).collect();
        let heard: Vec<&str> = crate::text::graphemes(heard).collect();
        self.count(&said, &heard)
    }

    /// [`Self::count_characters`] of texts known to be ASCII.
    pub(super) fn count_ascii(&mut self, said: &[u8], heard: &[u8]) -> EditCounts {
        let Self { columns, places, counting, .. } = self;
        let counts = count_middle(Ends::of_bytes(said, heard), |said, heard| {
            if said.len() > SHORT {
                let [said, heard]: [Vec<u32>; 2] =
                    [said, heard].map(|text| text.iter().map(|byte| u32::from(*byte)).collect());
                let edits = Long::new(&said, &heard, 128).sweep(counting, false, &|_, _| 0)?;
                return Some((edits, counting.substitutions()));
            }
            places.resize(128, 0);
            said.iter().enumerate().for_each(|(row, byte)| places[usize::from(*byte)] |= 1 << row);
            let counts = count_short(columns, said, heard, |byte| places[usize::from(*byte)]);
            said.iter().for_each(|byte| places[usize::from(*byte)] = 0);
            Some(counts)
        });
        counts.unwrap_or_else(|| self.count(said, heard))
    }
}

/// Counts what is alike at both ends, and the middle by its edits and the substitutions among them.
fn count_middle<'t, T: Eq>(
    ends: Ends<'t, T>,
    middle: impl FnOnce(&'t [T], &'t [T]) -> Option<(u64, u64)>,
) -> Option<EditCounts> {
    let Ends { head, tail, said, heard } = ends;
    let alike = (head + tail) as u64;
    let (rows, columns) = (said.len() as u64, heard.len() as u64);
    match (rows, columns) {
        (0, _) | (_, 0) => {
            return Some(EditCounts { correct: alike, substituted: 0, deleted: rows, inserted: columns });
        }
        (1, 1) => return Some(EditCounts { correct: alike, substituted: 1, deleted: 0, inserted: 0 }),
        _ => {}
    }
    let (edits, substituted) = middle(said, heard)?;
    // With edits e = s + d + i and lengths n = c + s + d, m = c + s + i, two of the counts give all.
    let surplus = rows as i64 - columns as i64;
    let deleted = ((edits - substituted) as i64 + surplus) as u64 / 2;
    let inserted = edits - substituted - deleted;
    Some(EditCounts { correct: rows - substituted - deleted + alike, substituted, deleted, inserted })
}

/// Sweeps over two sequences; gives the fewest edits, or none where that takes too long.
fn sweep<T: Eq + Hash, C: Cost>(
    columns: &mut Vec<Bits>,
    sweep: &mut Sweep<C>,
    said: &[T],
    heard: &[T],
    keep_path: bool,
    tie: &impl Fn(usize, usize) -> C,
) -> Option<u64> {
    if said.len() <= SHORT {
        let edits = short_columns(columns, said.len(), heard, |token| rows_like(said, token));
        sweep.start(said.len(), heard.len(), keep_path);
        let same = |row: usize, column: usize| said[row] == heard[column];
        for column in (1..=heard.len()).rev() {
            sweep.column(column, 0, &columns[column - 1..column], &same, tie);
        }
        return Some(edits);
    }
    let mut numbers: HashMap<&T, u32, foldhash::fast::FixedState> = HashMap::default();
    let mut number = |token| {
        let next = numbers.len() as u32;
        *numbers.entry(token).or_insert(next)
    };
    let said: Vec<u32> = said.iter().map(&mut number).collect();
    let heard: Vec<u32> = heard.iter().map(&mut number).collect();
    let vocabulary = numbers.len();
    Long::new(&said, &heard, vocabulary).sweep(sweep, keep_path, tie)
}

/// The fewest edits between sequences of which the first fits one machine word.
pub(super) fn short_distance<T: Eq>(said: &[T], heard: &[T]) -> Option<u64> {
    (said.len() <= SHORT).then(|| {
        let mut vertical = Vertical::DELETIONS;
        for token in heard {
            next_column(&mut vertical, rows_like(said, token), &mut 1);
        }
        (heard.len() as i64 + vertical.over(said.len())) as u64
    })
}

/// The rows whose token is this one, as bits.
fn rows_like<T: Eq>(said: &[T], token: &T) -> u64 {
    said.iter().rev().fold(0, |bits, word| bits << 1 | u64::from(word == token))
}

/// The steps into each column of a matrix of at most 64 rows, and the fewest edits; `rows_like` gives the rows of a token.
fn short_columns<T>(columns: &mut Vec<Bits>, rows: usize, heard: &[T], rows_like: impl Fn(&T) -> u64) -> u64 {
    let mut vertical = Vertical::DELETIONS;
    columns.clear();
    columns.extend(heard.iter().map(|token| next_column(&mut vertical, rows_like(token), &mut 1)));
    (heard.len() as i64 + vertical.over(rows)) as u64
}

/// The fewest edits, and the fewest substitutions among them, of sequences of which the first fits one machine word.
fn count_short<T: Eq>(columns: &mut Vec<Bits>, said: &[T], heard: &[T], rows_like: impl Fn(&T) -> u64) -> (u64, u64) {
    let edits = short_columns(columns, said.len(), heard, rows_like);
    if edits == said.len().abs_diff(heard.len()) as u64 {
        return (edits, 0);
    }
    (edits, u64::from(fewest_substitutions(columns, said, heard)))
}

/// How far back from a cell, by its row and column, the only cheapest path leads over equal tokens.
fn along_pairs<T: Eq>(
    columns: &[Bits],
    said: &[T],
    heard: &[T],
    mut row: usize,
    mut column: usize,
) -> (usize, usize) {
    while row > 0 && column > 0 {
        let bits = &columns[column - 1];
        let is_only = (bits.free & !bits.down & !bits.right) >> (row - 1) & 1 == 1;
        if !is_only || said[row - 1] != heard[column - 1] {
            break;
        }
        (row, column) = (row - 1, column - 1);
    }
    (row, column)
}

/// The fewest substitutions of a cheapest path: what [`Sweep`] finds, where nothing else is asked and a column is short.
fn fewest_substitutions<T: Eq>(columns: &[Bits], said: &[T], heard: &[T]) -> u8 {
    const UNREACHED: u8 = u8::MAX;
    let mut cells = [[UNREACHED; SHORT + 1]; 2];
    let [mut here, mut left] = cells.each_mut();
    here[said.len()] = 0;
    // The first and last row that paths touch.
    let (mut low, mut high) = (said.len(), said.len());
    let mut column = columns.len();
    while column > 0 {
        if low == high {
            let behind = low;
            (low, column) = along_pairs(columns, said, heard, low, column);
            high = low;
            here.swap(behind, low);
            if column == 0 {
                break;
            }
        }
        column -= 1;
        let (bits, token) = (&columns[column], &heard[column]);
        let (mut next_low, mut next_high) = (usize::MAX, 0);
        let mut reach = |row: usize, cost: u8| {
            left[row] = left[row].min(cost);
            (next_low, next_high) = (next_low.min(row), next_high.max(row));
        };
        let mut row = high;
        loop {
            let cost = std::mem::replace(&mut here[row], UNREACHED);
            if cost != UNREACHED {
                match row.checked_sub(1) {
                    None => reach(0, cost),
                    Some(above) => {
                        let is_set = |bits: u64| bits >> above & 1 == 1;
                        if is_set(bits.down) {
                            here[above] = here[above].min(cost);
                            low = low.min(above);
                        }
                        if is_set(bits.right) {
                            reach(row, cost);
                        }
                        let free = is_set(bits.free);
                        if !free || said[above] == *token {
                            reach(above, cost + u8::from(!free));
                        }
                    }
                }
            }
            if row == low {
                break;
            }
            row -= 1;
        }
        (low, high) = (next_low, next_high);
        std::mem::swap(&mut here, &mut left);
    }
    // In front of the first heard token only deletions are left.
    here[..=high].iter().copied().min().unwrap_or(0)
}
