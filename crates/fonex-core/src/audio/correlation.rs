//! How like a stretch of sound is to what comes a lag later: what voicing, pitch and repeats are found by.

/// The sums of squares before each sample and behind the last: any stretch's energy is a difference of two.
pub(crate) fn energies(samples: &[f32]) -> Vec<f64> {
    let mut sum = 0.0;
    let squares = samples.iter().map(|sample| {
        sum += f64::from(sample * sample);
        sum
    });
    std::iter::once(0.0).chain(squares).collect()
}

/// Windows of one length in a recording, compared with each other.
pub(crate) struct Correlation<'s> {
    samples: &'s [f32],
    window: usize,
    energies: Vec<f64>,
}

impl<'s> Correlation<'s> {
    pub(crate) fn new(samples: &'s [f32], window: usize) -> Self {
        Self { samples, window, energies: energies(samples) }
    }

    /// The energy of the window at a place.
    pub(crate) fn energy(&self, start: usize) -> f64 {
        self.energies[start + self.window] - self.energies[start]
    }

    /// The normalised cross-correlation of a window with the one `lag` samples later, from -1 to 1 (Talkin, "A robust algorithm for pitch
    /// tracking", 1995); 0 for silence.
    pub(crate) fn after(&self, start: usize, lag: usize) -> f64 {
        let window = |start: usize| &self.samples[start..start + self.window];
        let both = self.energy(start) * self.energy(start + lag);
        // A difference of two sums may come out a little below zero.
        if both > 0.0 { dot(window(start), window(start + lag)) / both.sqrt() } else { 0.0 }
    }
}

/// In eight strands, which the processor multiplies side by side.
fn dot(a: &[f32], b: &[f32]) -> f64 {
    const STRANDS: usize = 8;
    let mut sums = [0.0_f32; STRANDS];
    let ((a, a_rest), (b, b_rest)) = (a.as_chunks::<STRANDS>(), b.as_chunks::<STRANDS>());
    for (a, b) in a.iter().zip(b) {
        for (sum, (a, b)) in sums.iter_mut().zip(a.iter().zip(b)) {
            *sum += a * b;
        }
    }
    let rest: f32 = a_rest.iter().zip(b_rest).map(|(a, b)| a * b).sum();
    f64::from(sums.iter().sum::<f32>() + rest)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn it_is_the_sum_of_products_over_the_energies(
            samples in prop::collection::vec(-1.0_f32..1.0, 60..90), start in 0_usize..10, lag in 0_usize..20, window in 1_usize..30,
        ) {
            let slow = |at: usize, other: usize| -> f64 {
                (0..window).map(|i| f64::from(samples[at + i]) * f64::from(samples[other + i])).sum()
            };
            let expected = slow(start, start + lag) / (slow(start, start) * slow(start + lag, start + lag)).sqrt();
            let found = Correlation::new(&samples, window);
            prop_assert!((found.after(start, lag) - expected).abs() < 1e-4, "{} for {expected}", found.after(start, lag));
            prop_assert!((found.energy(start) - slow(start, start)).abs() < 1e-4);
        }
    }

    #[test]
    fn silence_is_like_nothing() {
        assert_eq!(Correlation::new(&[0.0; 40], 10).after(3, 7), 0.0);
        assert_eq!(energies(&[]), [0.0]);
    }
}
