//! Two plain sequences of tokens: short ones in one machine word a column, long ones in a band of such words.

use std::collections::HashMap;
use std::hash::Hash;

use super::band::Long;
use super::bits::{Vertical, next_column};
use super::sweep::{APART, Cost, Sweep, UNLIKE};
use super::{Against, Alignment, Edit, EditCounts, Step};

/// Rows that fit one machine word.
const SHORT: usize = 64;

/// Aligns two sequences; see [`super::align`].
pub(super) fn align_chain<T: Eq + Hash>(
    said: &[T],
    heard: &[T],
    against: impl Fn(usize, usize, bool) -> Against,
) -> Alignment {
    // Equal tokens at the start can be paired in some best path, unless their times speak against it.
    let pairs = said.iter().zip(heard).enumerate();
    let head = pairs.take_while(|(at, (a, b))| a == b && against(*at, *at, true) == Against::default()).count();
    let mut steps: Vec<Step> = Vec::with_capacity(said.len().max(heard.len()) + 4);
    steps.extend((0..head).map(|at| Step { edit: Edit::Correct, said: Some(at), heard: Some(at) }));
    let (rest_said, rest_heard) = (&said[head..], &heard[head..]);
    let tie = |row: usize, column: usize| {
        let same = rest_said[row] == rest_heard[column];
        let Against { apart, unlike } = against(row + head, column + head, same);
        Cost::from(apart) * APART + Cost::from(unlike) * UNLIKE
    };
    let (_, sweep) = sweep(rest_said, rest_heard, true, &tie);
    steps.extend(sweep.steps().into_iter().map(|step| {
        let (said_at, heard_at) = (step.said.map(|at| at + head), step.heard.map(|at| at + head));
        let differ = said_at.zip(heard_at).is_some_and(|(a, b)| said[a] != heard[b]);
        Step { edit: if differ { Edit::Substituted } else { step.edit }, said: said_at, heard: heard_at }
    }));
    Alignment { steps }
}

/// Counts the edits between two sequences of tokens without keeping the path. The counts are those [`super::align`]
/// gives, and so is the cost.
#[must_use]
pub fn count_edits<T: Eq + Hash>(said: &[T], heard: &[T]) -> EditCounts {
    count_middle(said, heard, |said, heard| sweep(said, heard, false, &|_, _| 0))
}

/// Counts the edits between the characters of two texts, as a reader counts them (extended grapheme clusters, UAX 29).
#[must_use]
pub fn count_character_edits(said: &str, heard: &str) -> EditCounts {
    if said.is_ascii() && heard.is_ascii() {
        return count_middle(said.as_bytes(), heard.as_bytes(), |said, heard| {
            if said.len() > SHORT {
                return sweep(said, heard, false, &|_, _| 0);
            }
            let mut places = [0u64; 128];
            said.iter().enumerate().for_each(|(row, byte)| places[usize::from(*byte)] |= 1 << row);
            sweep_short(said, heard, false, |byte| places[usize::from(*byte)], &|_, _| 0)
        });
    }
    let said: Vec<&str> = crate::text::graphemes(said).collect();
    let heard: Vec<&str> = crate::text::graphemes(heard).collect();
    count_edits(&said, &heard)
}

/// Counts what is alike at both ends, and the middle by its edits and the sweep over it.
fn count_middle<'t, T: Eq>(
    said: &'t [T],
    heard: &'t [T],
    middle: impl FnOnce(&'t [T], &'t [T]) -> (u64, Sweep),
) -> EditCounts {
    let head = said.iter().zip(heard).take_while(|(a, b)| a == b).count();
    let (said, heard) = (&said[head..], &heard[head..]);
    let tail = said.iter().rev().zip(heard.iter().rev()).take_while(|(a, b)| a == b).count();
    let (said, heard) = (&said[..said.len() - tail], &heard[..heard.len() - tail]);
    let alike = (head + tail) as u64;
    let rows = said.len() as u64;
    if said.is_empty() || heard.is_empty() {
        return EditCounts { correct: alike, substituted: 0, deleted: rows, inserted: heard.len() as u64 };
    }
    let (edits, sweep) = middle(said, heard);
    // With edits e = s + d + i and lengths n = c + s + d, m = c + s + i, two of the counts give all.
    let substituted = sweep.substitutions();
    let surplus = said.len() as i64 - heard.len() as i64;
    let deleted = ((edits - substituted) as i64 + surplus) as u64 / 2;
    let inserted = edits - substituted - deleted;
    EditCounts { correct: rows - substituted - deleted + alike, substituted, deleted, inserted }
}

fn sweep<T: Eq + Hash>(
    said: &[T],
    heard: &[T],
    keep_path: bool,
    tie: &impl Fn(usize, usize) -> Cost,
) -> (u64, Sweep) {
    if said.len() <= SHORT {
        let rows_like = |token: &T| said.iter().rev().fold(0, |bits, word| bits << 1 | u64::from(word == token));
        return sweep_short(said, heard, keep_path, rows_like, tie);
    }
    let mut numbers: HashMap<&T, u32, foldhash::fast::FixedState> = HashMap::default();
    let mut number = |token| {
        let next = numbers.len() as u32;
        *numbers.entry(token).or_insert(next)
    };
    let said: Vec<u32> = said.iter().map(&mut number).collect();
    let heard: Vec<u32> = heard.iter().map(&mut number).collect();
    let vocabulary = numbers.len();
    Long::new(&said, &heard, vocabulary).sweep(keep_path, tie)
}

/// `rows_like` gives the rows whose token is the one asked for, as bits.
fn sweep_short<T: Eq>(
    said: &[T],
    heard: &[T],
    keep_path: bool,
    rows_like: impl Fn(&T) -> u64,
    tie: &impl Fn(usize, usize) -> Cost,
) -> (u64, Sweep) {
    let mut vertical = Vertical::DELETIONS;
    let columns: Vec<_> = heard.iter().map(|token| next_column(&mut vertical, rows_like(token), &mut 1)).collect();
    let edits = heard.len() as i64 + vertical.over(said.len());
    let mut sweep = Sweep::new(said.len(), heard.len(), keep_path);
    let same = |row: usize, column: usize| said[row] == heard[column];
    for column in (1..=heard.len()).rev() {
        sweep.column(column, 0, &columns[column - 1..column], &same, tie);
    }
    (edits as u64, sweep)
}
