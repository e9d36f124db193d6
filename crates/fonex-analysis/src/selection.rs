//! Which clips of a run a view is about, and slices that the corpus does not hold as they are.

use std::sync::Arc;

use crate::sheet::SliceKey;

/// The clips that a view is restricted to.
#[derive(Debug, Clone)]
pub struct Selection {
    /// The condition that they meet, as it was written.
    pub condition: String,
    /// By place in the corpus, whether a clip is one of them.
    pub clips: Arc<[bool]>,
}

impl Selection {
    /// Whether it holds the clip at a place.
    #[must_use]
    pub fn holds(&self, place: u32) -> bool {
        self.clips.get(place as usize).copied().unwrap_or(false)
    }
}

/// Two keys crossed: `channel*wind` with values such as `radio*strong`. Clips that lack either have none.
#[must_use]
pub fn crossed(one: &SliceKey, other: &SliceKey) -> SliceKey {
    let mut numbers = vec![0_u32; one.values.len() * other.values.len()];
    let pair = |a: u32, b: u32| (a as usize - 1) * other.values.len() + b as usize - 1;
    let both = || one.of_clip.iter().zip(&other.of_clip).filter(|(a, b)| **a > 0 && **b > 0);
    both().for_each(|(a, b)| numbers[pair(*a, *b)] = 1);
    let mut values = Vec::new();
    for (at, number) in numbers.iter_mut().enumerate().filter(|(_, number)| **number > 0) {
        let (a, b) = (at / other.values.len(), at % other.values.len());
        values.push(format!("{}*{}", one.values[a], other.values[b]));
        *number = values.len() as u32;
    }
    let of_clip = one.of_clip.iter().zip(&other.of_clip).map(|(a, b)| match (*a, *b) {
        (0, _) | (_, 0) => 0,
        (a, b) => numbers[pair(a, b)],
    });
    SliceKey { by: format!("{}*{}", one.by, other.by), of_clip: of_clip.collect(), values }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn crossed_by_hand() {
        let key = |by: &str, values: &[&str], of_clip: &[u32]| SliceKey {
            by: by.to_owned(),
            values: values.iter().map(|value| (*value).to_owned()).collect(),
            of_clip: of_clip.to_vec(),
        };
        let channel = key("channel", &["desk", "radio"], &[1, 2, 2, 0, 1]);
        let wind = key("wind", &["calm", "strong"], &[1, 2, 2, 1, 0]);
        let both = crossed(&channel, &wind);
        assert_eq!((both.by.as_str(), both.of_clip.as_slice()), ("channel*wind", &[1, 2, 2, 0, 0][..]));
        assert_eq!(both.values, ["desk*calm", "radio*strong"]);
    }
}
