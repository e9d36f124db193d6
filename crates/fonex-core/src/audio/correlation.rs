//! How like a stretch of sound is to what comes a lag later: what voicing, pitch and repeats are found by.

/// The energy of any stretch of a recording, as a difference of two sums of squares. A sum is kept for every so many samples, so
/// that long recordings cost little memory; the few squares from there on are added in the same order.
pub(crate) struct Energies<'s> {
    samples: &'s [f32],
    /// Of the samples before each multiple of [`Self::STEP`].
    sums: Vec<f64>,
}

impl<'s> Energies<'s> {
    const STEP: usize = 8;

    pub(crate) fn new(samples: &'s [f32]) -> Self {
        let mut sum = 0.0;
        let sums = samples.chunks(Self::STEP).map(|chunk| {
            let before = sum;
            sum = added(sum, chunk);
            before
        });
        let mut sums: Vec<f64> = sums.collect();
        if samples.len().is_multiple_of(Self::STEP) {
            sums.push(sum);
        }
        Self { samples, sums }
    }

    /// Of the samples from one to before another.
    pub(crate) fn between(&self, start: usize, end: usize) -> f64 {
        self.before(end) - self.before(start)
    }

    /// The sums before each sample of a stretch and behind its last, for who looks at many stretches within it.
    pub(crate) fn fill_sums(&self, start: usize, end: usize, sums: &mut Vec<f64>) {
        let mut sum = self.before(start);
        sums.clear();
        sums.push(sum);
        sums.extend(self.samples[start..end].iter().map(|sample| {
            sum += f64::from(sample * sample);
            sum
        }));
    }

    fn before(&self, at: usize) -> f64 {
        let step = at / Self::STEP;
        added(self.sums[step], &self.samples[step * Self::STEP..at])
    }
}

fn added(sum: f64, samples: &[f32]) -> f64 {
    samples.iter().fold(sum, |sum, sample| sum + f64::from(sample * sample))
}

/// Windows of one length in a recording, compared with each other.
pub(crate) struct Correlation<'s> {
    samples: &'s [f32],
    window: usize,
    energies: Energies<'s>,
}

impl<'s> Correlation<'s> {
    pub(crate) fn new(samples: &'s [f32], window: usize) -> Self {
        Self { samples, window, energies: Energies::new(samples) }
    }

    /// The energy of the window at a place.
    pub(crate) fn energy(&self, start: usize) -> f64 {
        self.energies.between(start, start + self.window)
    }

    /// The normalised cross-correlation of a window with the one `lag` samples later, from -1 to 1 (Talkin, "A robust algorithm for pitch
    /// tracking", 1995); 0 for silence.
    pub(crate) fn after(&self, start: usize, lag: usize) -> f64 {
        let window = |start: usize| &self.samples[start..start + self.window];
        let both = self.energy(start) * self.energy(start + lag);
        // A difference of two sums may come out a little below zero.
        if both > 0.0 { dot(window(start), window(start + lag)) / both.sqrt() } else { 0.0 }
    }

    /// [`Self::after`] for every lag from 1 on that there is room for in `like`, at the place of its number. `sums` is room to work in.
    pub(crate) fn after_all(&self, start: usize, like: &mut [f64], sums: &mut Vec<f64>) {
        let window = self.window;
        self.energies.fill_sums(start, start + window + like.len() - 1, sums);
        let likeness = |lag: usize, product: f64| {
            let both = (sums[window] - sums[0]) * (sums[lag + window] - sums[lag]);
            if both > 0.0 { product / both.sqrt() } else { 0.0 }
        };
        let here = &self.samples[start..start + window];
        let mut lag = 1;
        while lag + SIDE_BY_SIDE <= like.len() {
            let products = dots(here, &self.samples[start + lag..start + lag + window + SIDE_BY_SIDE - 1]);
            for (further, product) in products.into_iter().enumerate() {
                like[lag + further] = likeness(lag + further, f64::from(product));
            }
            lag += SIDE_BY_SIDE;
        }
        for (lag, like) in like.iter_mut().enumerate().skip(lag) {
            *like = likeness(lag, dot(here, &self.samples[start + lag..start + lag + window]));
        }
    }
}

/// Lags whose products are summed up together: what was loaded for one serves the others.
const SIDE_BY_SIDE: usize = 16;

/// The sums of products of `a` with as many samples of `b`, from its first, second, third one and so on; each in two strands.
fn dots(a: &[f32], b: &[f32]) -> [f32; SIDE_BY_SIDE] {
    let (mut even, mut odd) = ([0.0_f32; SIDE_BY_SIDE], [0.0_f32; SIDE_BY_SIDE]);
    let (pairs, last) = a.as_chunks::<2>();
    let mut left = b;
    for a in pairs {
        let Some(b) = left.first_chunk::<{ SIDE_BY_SIDE + 1 }>() else { break };
        for lag in 0..SIDE_BY_SIDE {
            even[lag] += a[0] * b[lag];
            odd[lag] += a[1] * b[lag + 1];
        }
        left = &left[2..];
    }
    for lag in 0..SIDE_BY_SIDE {
        even[lag] += odd[lag];
        if let Some(last) = last.first() {
            even[lag] += last * left[lag];
        }
    }
    even
}

/// In eight strands, which the processor multiplies side by side; by number, as sums of samples are.
fn dot(a: &[f32], b: &[f32]) -> f64 {
    const STRANDS: usize = 8;
    let mut sums = [0.0_f32; STRANDS];
    let ((a, a_rest), (b, b_rest)) = (a.as_chunks::<STRANDS>(), b.as_chunks::<STRANDS>());
    for (a, b) in a.iter().zip(b) {
        for strand in 0..STRANDS {
            sums[strand] += a[strand] * b[strand];
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
            let mut like = vec![7.0; samples.len() - start - window];
            found.after_all(start, &mut like, &mut Vec::new());
            for (lag, like) in like.iter().enumerate().skip(1) {
                prop_assert!((like - found.after(start, lag)).abs() < 1e-5, "{lag}: {like}");
            }
        }
    }

    proptest! {
        #[test]
        fn energies_are_those_of_a_sum_kept_for_every_sample(samples in prop::collection::vec(-1.0_f32..1.0, 0..70)) {
            let mut sums = vec![0.0_f64];
            samples.iter().for_each(|s| sums.push(sums[sums.len() - 1] + f64::from(s * s)));
            let energies = Energies::new(&samples);
            for (start, from) in sums.iter().enumerate() {
                let mut filled = vec![7.0];
                energies.fill_sums(start, samples.len(), &mut filled);
                prop_assert_eq!(&filled, &sums[start..]);
                for (end, to) in sums.iter().enumerate().skip(start) {
                    prop_assert_eq!(energies.between(start, end), to - from);
                }
            }
        }
    }

    #[test]
    fn silence_is_like_nothing() {
        assert_eq!(Correlation::new(&[0.0; 40], 10).after(3, 7), 0.0);
        assert_eq!(Energies::new(&[]).between(0, 0), 0.0);
    }
}
