//! Several bytes of a text looked at together, as one number.

/// The most bytes of a word that are looked at together.
pub(super) const WIDTH: usize = size_of::<u128>();

/// Bytes looked at together, the first one lowest.
macro_rules! bytes_together {
    ($before_space:ident, $are_small:ident, $number:ty) => {
        /// How many bytes stand before the first space.
        pub(super) const fn $before_space(bytes: $number) -> usize {
            const EACH: $number = <$number>::MAX / 255;
            let others = bytes ^ (EACH * b' ' as $number);
            // The lowest bit that is set is that of the first byte that is zero here.
            (others.wrapping_sub(EACH) & !others & EACH << 7).trailing_zeros() as usize / 8
        }

        /// Whether the bytes in the mask are small letters and digits; the others are zero.
        pub(super) const fn $are_small(bytes: $number, mask: $number) -> bool {
            const EACH: $number = <$number>::MAX / 255;
            const TOP: $number = EACH << 7;
            const fn from(raised: $number, byte: u8) -> $number {
                raised - EACH * byte as $number
            }
            let raised = bytes | TOP;
            let letters = from(raised, b'a') & !from(raised, b'z' + 1);
            let digits = from(raised, b'0') & !from(raised, b'9' + 1);
            (letters | digits) & !bytes & TOP == TOP & mask
        }
    };
}

bytes_together!(before_space, are_small, u64);
bytes_together!(before_space_of_16, are_small_of_16, u128);

/// Small letters for the capitals among bytes of ASCII.
pub(super) const fn with_small_letters(bytes: u64) -> u64 {
    const EACH: u64 = u64::MAX / 255;
    const TOP: u64 = EACH << 7;
    let raised = bytes | TOP;
    let capitals = (raised - EACH * b'A' as u64) & !(raised - EACH * (b'Z' + 1) as u64) & !bytes & TOP;
    bytes | capitals >> 2
}

/// With how many bytes two texts begin alike.
pub(crate) fn alike_at_start(a: &[u8], b: &[u8]) -> usize {
    let (eights, others) = (a.as_chunks::<8>().0, b.as_chunks::<8>().0);
    let mut alike = 0;
    for (one, other) in eights.iter().zip(others) {
        let differ = u64::from_le_bytes(*one) ^ u64::from_le_bytes(*other);
        if differ != 0 {
            return alike + differ.trailing_zeros() as usize / 8;
        }
        alike += 8;
    }
    alike + a[alike..].iter().zip(&b[alike..]).take_while(|(a, b)| a == b).count()
}

/// With how many bytes two texts end alike.
pub(crate) fn alike_at_end(a: &[u8], b: &[u8]) -> usize {
    let (eights, others) = (a.as_rchunks::<8>().1, b.as_rchunks::<8>().1);
    let mut alike = 0;
    for (one, other) in eights.iter().rev().zip(others.iter().rev()) {
        let differ = u64::from_le_bytes(*one) ^ u64::from_le_bytes(*other);
        if differ != 0 {
            return alike + differ.leading_zeros() as usize / 8;
        }
        alike += 8;
    }
    let rest = a[..a.len() - alike].iter().rev().zip(b[..b.len() - alike].iter().rev());
    alike + rest.take_while(|(a, b)| a == b).count()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn what_is_alike_at_both_ends_is_counted(
            (start, end) in ("[ab]{0,20}", "[ab]{0,20}"),
            (one, other) in ("[ab]{0,9}", "[ab]{0,9}"),
        ) {
            let [one, other] = [one, other].map(|middle| format!("{start}{middle}{end}"));
            let (one, other) = (one.as_bytes(), other.as_bytes());
            prop_assert_eq!(alike_at_start(one, other), one.iter().zip(other).take_while(|(a, b)| a == b).count());
            let backwards = one.iter().rev().zip(other.iter().rev());
            prop_assert_eq!(alike_at_end(one, other), backwards.take_while(|(a, b)| a == b).count());
        }

        /// The slow twins look at one byte after the other.
        #[test]
        fn bytes_together_are_what_they_are_one_by_one(text in "[ -~\\x00-\\x1F]{16}|[a-z0-9]{0,15} [ -~]{15}") {
            let bytes = &text.as_bytes()[..16];
            let (eight, sixteen) =
                (u64::from_le_bytes(bytes[..8].try_into().unwrap()), u128::from_le_bytes(bytes.try_into().unwrap()));
            let slow = |bytes: &[u8]| bytes.iter().position(|byte| *byte == b' ').unwrap_or(bytes.len());
            prop_assert_eq!((before_space(eight), before_space_of_16(sixteen)), (slow(&bytes[..8]), slow(bytes)));
            let small = |bytes: &[u8]| bytes.iter().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit());
            for length in 0..8 {
                let mask = (1 << (8 * length)) - 1;
                prop_assert_eq!(are_small(eight & mask, mask), small(&bytes[..length]));
            }
            for length in 0..16 {
                let mask = (1 << (8 * length)) - 1;
                prop_assert_eq!(are_small_of_16(sixteen & mask, mask), small(&bytes[..length]));
            }
            prop_assert_eq!(with_small_letters(eight).to_le_bytes().to_vec(), bytes[..8].to_ascii_lowercase());
        }
    }

    #[test]
    fn bytes_beyond_ascii_are_neither_small_nor_made_so() {
        let bytes = u64::from_le_bytes(*b"ab\xC3\xA9\xE1\xFAz9");
        assert!(!are_small(bytes, u64::MAX));
        assert_eq!(with_small_letters(bytes), bytes);
        assert_eq!(before_space(bytes), 8);
    }
}
