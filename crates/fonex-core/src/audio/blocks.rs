//! Samples that come bit by bit, in blocks of one size.

/// Hands over every whole block as soon as it is there, wherever the samples were cut before.
pub(crate) struct Blocks {
    size: usize,
    rest: Vec<f32>,
}

impl Blocks {
    /// Blocks of this many samples, at least one.
    pub(crate) fn of(size: usize) -> Self {
        Self { size: size.max(1), rest: Vec::new() }
    }

    pub(crate) fn add(&mut self, mut samples: &[f32], mut whole: impl FnMut(&[f32])) {
        if !self.rest.is_empty() {
            let (first, others) = samples.split_at((self.size - self.rest.len()).min(samples.len()));
            self.rest.extend_from_slice(first);
            samples = others;
            if self.rest.len() == self.size {
                whole(&self.rest);
                self.rest.clear();
            }
        }
        let blocks = samples.chunks_exact(self.size);
        self.rest.extend_from_slice(blocks.remainder());
        blocks.for_each(whole);
    }

    /// What is left, shorter than a block; none where nothing is.
    pub(crate) fn rest(&self) -> Option<&[f32]> {
        (!self.rest.is_empty()).then_some(&self.rest[..])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn blocks_are_those_of_the_whole_however_it_comes() {
        let samples: Vec<f32> = (0..103).map(|i| i as f32).collect();
        for size in [1, 2, 7, 50, 103, 200] {
            for cut in [1, 3, 7, 10, 49, 103] {
                let (mut blocks, mut found) = (Blocks::of(size), Vec::new());
                samples.chunks(cut).for_each(|part| blocks.add(part, |block| found.push(block.to_vec())));
                found.extend(blocks.rest().map(<[f32]>::to_vec));
                assert_eq!(found, samples.chunks(size).map(<[f32]>::to_vec).collect::<Vec<_>>(), "{size} {cut}");
            }
        }
    }
}
