//! How alike two words look, to choose among alignments that cost the same.

/// The unlikeness of words that share nothing.
pub const UNLIKE_MAX: u8 = 7;

/// Unlikeness of two words from 0 (alike) to [`UNLIKE_MAX`]: the share of letters outside their common beginning and
/// common end. Cheaper than an edit distance and enough to pair "fourteen" with "forty" rather than with "hold".
/// Cost is linear in the shorter word.
#[must_use]
pub fn unlikeness(a: &str, b: &str) -> u8 {
    let longer = a.len().max(b.len());
    if longer == 0 {
        return 0;
    }
    let head = a.bytes().zip(b.bytes()).take_while(|(x, y)| x == y).count();
    let room = a.len().min(b.len()) - head;
    let tail = a.bytes().rev().zip(b.bytes().rev()).take(room).take_while(|(x, y)| x == y).count();
    (UNLIKE_MAX as usize * (longer - head - tail)).div_ceil(longer) as u8
}
