//! The shape of a recording of any length in little room: the lowest and the highest sample of even stretches.

/// The lowest and the highest of some samples, and of zero.
fn bounds(samples: &[f32]) -> (f32, f32) {
    samples.iter().fold((0.0_f32, 0.0_f32), |(low, high), s| (low.min(*s), high.max(*s)))
}

fn around(a: (f32, f32), b: (f32, f32)) -> (f32, f32) {
    (a.0.min(b.0), a.1.max(b.1))
}

/// The lowest and highest sample of each of so many even stretches; the last may be shorter.
#[must_use]
pub fn extremes(samples: &[f32], stretches: usize) -> Vec<(f32, f32)> {
    samples.chunks(samples.len().div_ceil(stretches).max(1)).map(bounds).collect()
}

/// The extremes of samples that come bit by bit: where there are too many stretches, each two become one.
#[derive(Debug, Clone, PartialEq)]
pub struct Outline {
    stretch: usize,
    found: Vec<(f32, f32)>,
    /// Samples in the last stretch so far.
    filled: usize,
}

/// Stretches that are kept at most; a picture has far fewer columns.
const MOST: usize = 1 << 16;

impl Default for Outline {
    fn default() -> Self {
        Self { stretch: 1, found: Vec::new(), filled: 1 }
    }
}

impl Outline {
    pub(crate) fn add(&mut self, mut samples: &[f32]) {
        while !samples.is_empty() {
            if self.filled == self.stretch {
                if self.found.len() == MOST {
                    self.found = self.found.chunks(2).map(|two| around(two[0], two[two.len() - 1])).collect();
                    self.stretch *= 2;
                }
                self.found.push((0.0, 0.0));
                self.filled = 0;
            }
            let (now, later) = samples.split_at((self.stretch - self.filled).min(samples.len()));
            if let Some(last) = self.found.last_mut() {
                *last = around(*last, bounds(now));
            }
            self.filled += now.len();
            samples = later;
        }
    }

    /// The extremes of so many even stretches, each begun where a kept one begins.
    #[must_use]
    pub fn extremes(&self, stretches: usize) -> Vec<(f32, f32)> {
        let count = self.found.len();
        let at = |stretch: usize| stretch * count / stretches.max(1);
        let of = |stretch: usize| self.found[at(stretch)..at(stretch + 1)].iter().copied().fold((0.0, 0.0), around);
        if count <= stretches { self.found.clone() } else { (0..stretches).map(of).collect() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_outline_holds_every_peak_where_it_was() {
        let length = 5 * MOST + 1234;
        let mut samples = vec![0.01; length];
        let peaks = [(0, 0.9), (length / 3, -0.8), (length - 1, 0.7)];
        peaks.iter().for_each(|(at, value)| samples[*at] = *value);
        for cut in [1000, 4096, length] {
            let mut outline = Outline::default();
            samples.chunks(cut).for_each(|part| outline.add(part));
            let drawn = outline.extremes(300);
            assert_eq!(drawn.len(), 300);
            for (at, value) in peaks {
                let column = at * 300 / length;
                let near = &drawn[column.saturating_sub(1)..(column + 2).min(300)];
                assert!(near.iter().any(|(low, high)| value == *low || value == *high), "{value} at {at}: {near:?}");
            }
            assert_eq!(drawn.iter().filter(|(low, high)| *low != 0.0 || *high > 0.5).count(), 3, "and nowhere else");
        }
        let mut short = Outline::default();
        short.add(&[0.5, -0.5, 0.25]);
        assert_eq!(short.extremes(10), [(0.0, 0.5), (-0.5, 0.0), (0.0, 0.25)]);
        assert_eq!(extremes(&[0.5, -0.5, 0.25], 2), [(-0.5, 0.5), (0.0, 0.25)]);
    }
}
