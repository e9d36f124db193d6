//! The matrix of edit distances as bits, 64 cells a machine word: which steps into a cell lie on a cheapest path.
//!
//! Myers, "A fast bit-vector algorithm for approximate string matching based on dynamic programming" (1999), in the
//! form of Hyyrö, "A bit-vector algorithm for computing Levenshtein and Damerau edit distances" (2003). Rows are the
//! said tokens, columns the heard ones.

/// The differences between neighbouring cells of 64 rows in one column; bit `r` belongs to the block's row `r`.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Bits {
    /// The cell costs one more than the one above it: a deletion is a cheapest way into it.
    pub(super) down: u64,
    /// The cell costs one more than the one to its left: an insertion is a cheapest way into it.
    pub(super) right: u64,
    /// The cell costs as much as the one diagonally before it.
    pub(super) free: u64,
}

/// The vertical differences of a block: where a cell costs one more, or one less, than the cell above it.
#[derive(Debug, Clone, Copy)]
pub(super) struct Vertical {
    pub(super) more: u64,
    pub(super) less: u64,
}

impl Vertical {
    /// Every cell costs one more than the one above it: nothing but deletions.
    pub(super) const DELETIONS: Self = Self { more: u64::MAX, less: 0 };

    /// How much more the cell below `rows` rows costs than the one above the block.
    pub(super) const fn over(&self, rows: usize) -> i64 {
        let mask = if rows >= 64 { u64::MAX } else { (1 << rows) - 1 };
        (self.more & mask).count_ones() as i64 - (self.less & mask).count_ones() as i64
    }
}

/// Moves a block on by one column. `equal` marks the rows whose token is the column's; `above` is the horizontal
/// difference of the row above the block, -1 to 1, and becomes that of its last row.
#[inline]
pub(super) const fn next_column(vertical: &mut Vertical, equal: u64, above: &mut i8) -> Bits {
    let Vertical { more, less } = *vertical;
    let either = equal | less;
    let equal = equal | (*above < 0) as u64;
    let same = ((equal & more).wrapping_add(more) ^ more) | equal;
    let right_more = less | !(same | more);
    let right_less = more & same;
    let below = (right_more >> 63) as i8 - (right_less >> 63) as i8;
    let shifted_more = right_more << 1 | (*above > 0) as u64;
    let shifted_less = right_less << 1 | (*above < 0) as u64;
    *above = below;
    *vertical = Vertical { more: shifted_less | !(either | shifted_more), less: shifted_more & either };
    Bits { down: vertical.more, right: right_more, free: same | less }
}
