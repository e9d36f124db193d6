//! How many clips have the same row: rows of small whole numbers, which most are, as one number each.

use std::hash::{Hash, Hasher};

use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::gathered::WIDEST;
use crate::Table;

/// A row of a group, as the bits of its numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Kind {
    #[serde(with = "super::written::row_bits")]
    pub(super) row: [u64; WIDEST],
    pub(super) group: u32,
}

impl Hash for Kind {
    /// Small whole numbers differ in their upper bits alone.
    fn hash<H: Hasher>(&self, state: &mut H) {
        let [a, b, c, d] = self.row;
        let row = a ^ b.rotate_left(16) ^ c.rotate_left(32) ^ d.rotate_left(48);
        state.write_u64(row.wrapping_add(u64::from(self.group)));
    }
}

/// Bits of a small number.
const BITS: u32 = 12;
const SMALL: u64 = (1 << BITS) - 1;
/// 2^52: the last bit of a double of this size stands for one.
const UNITS: f64 = 4_503_599_627_370_496.0;
/// Groups that are small.
const GROUPS: u32 = 1 << (u64::BITS - WIDEST as u32 * BITS);

/// A row of small whole numbers of a small group as one number; no two rows as wide have the same.
fn packed(row: &[f64], group: u32) -> Option<u64> {
    let mut packed = u64::from(group);
    let mut fits = group < GROUPS;
    for number in row {
        // Added to a number whose last bit is one, a whole number stands in the last bits.
        let moved = number + UNITS;
        let whole = moved.to_bits() ^ UNITS.to_bits();
        fits &= whole <= SMALL && (moved - UNITS).to_bits() == number.to_bits();
        packed = packed << BITS | whole & SMALL;
    }
    fits.then_some(packed << (BITS * (WIDEST - row.len()) as u32))
}

impl Kind {
    pub(super) fn new(row: &[f64], group: u32) -> Self {
        let mut bits = [0; WIDEST];
        bits.iter_mut().zip(row).for_each(|(bits, number)| *bits = number.to_bits());
        Self { row: bits, group }
    }

    fn unpacked(packed: u64) -> Self {
        let number = |at: usize| packed >> (BITS as usize * (WIDEST - 1 - at)) & SMALL;
        let mut row = [0; WIDEST];
        row.iter_mut().enumerate().for_each(|(at, bits)| *bits = (number(at) as f64).to_bits());
        Self { row, group: (packed >> (BITS * WIDEST as u32)) as u32 }
    }
}

/// Rows of groups, with how many clips have each.
#[derive(Debug, Clone, Default)]
pub(super) struct Kinds {
    small: Table<u64, f64>,
    others: Table<Kind, f64>,
}

impl Kinds {
    /// Counts clips of a group with a row of up to [`WIDEST`] numbers.
    pub(super) fn count(&mut self, row: &[f64], group: u32, times: f64) {
        let Some(packed) = packed(row, group) else {
            *self.others.entry(Kind::new(row, group)).or_default() += times;
            return;
        };
        match self.small.get_mut(&packed) {
            Some(counted) => *counted += times,
            None => drop(self.small.insert(packed, times)),
        }
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = (Kind, f64)> {
        let small = self.small.iter().map(|(packed, times)| (Kind::unpacked(*packed), *times));
        small.chain(self.others.iter().map(|(kind, times)| (*kind, *times)))
    }

    pub(super) fn clear(&mut self) {
        self.small.clear();
        self.others.clear();
    }
}

/// In a file, one list of all.
impl Serialize for Kinds {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_seq(self.iter())
    }
}

impl<'d> Deserialize<'d> for Kinds {
    fn deserialize<D: Deserializer<'d>>(deserializer: D) -> Result<Self, D::Error> {
        let mut kinds = Self::default();
        Vec::<(Kind, f64)>::deserialize(deserializer)?.into_iter().for_each(|(Kind { row, group }, times)| {
            kinds.count(&row.map(f64::from_bits), group, times);
        });
        Ok(kinds)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn rows_are_told_apart_whatever_their_numbers_are(
            rows in prop::collection::vec((prop::array::uniform4(number()), prop_oneof![0..3_u32, 65_534..65_538_u32]), 0..30),
        ) {
            let (mut kinds, mut slow) = (Kinds::default(), Vec::<(Kind, f64)>::new());
            for (row, group) in rows {
                // A row that is less wide is one with nothing behind it.
                let row = if row[2] == 0.0 && row[3] == 0.0 { &row[..2] } else { &row[..] };
                let kind = Kind::new(row, group);
                if let Some(packed) = packed(row, group) {
                    prop_assert_eq!(Kind::unpacked(packed), kind);
                }
                kinds.count(row, group, 1.0);
                match slow.iter_mut().find(|(known, _)| *known == kind) {
                    Some((_, times)) => *times += 1.0,
                    None => slow.push((kind, 1.0)),
                }
            }
            let of = |mut kinds: Vec<(Kind, f64)>| {
                kinds.sort_unstable_by_key(|(kind, _)| (kind.row, kind.group));
                kinds
            };
            prop_assert_eq!(of(kinds.iter().collect()), of(slow.clone()));
            let finite = slow.iter().all(|(kind, _)| kind.row.iter().all(|bits| f64::from_bits(*bits).is_finite()));
            if finite {
                let written: Kinds = serde_json::from_str(&serde_json::to_string(&kinds).unwrap()).unwrap();
                prop_assert_eq!(of(written.iter().collect()), of(slow));
            }
        }
    }

    fn number() -> impl Strategy<Value = f64> {
        prop_oneof![
            (0..4_u32).prop_map(f64::from),
            prop::sample::select(vec![4095.0, 4096.0, 0.5, -0.0, -1.0, 1e9, 1e300, f64::INFINITY, 5e-324]),
        ]
    }
}
