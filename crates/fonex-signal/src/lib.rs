//! Fourier transforms and the change of sample rate. The libraries behind them are generic: their code is made where they are
//! called, and would be made anew with every change of a measure if they were called from there.

use std::sync::{Arc, LazyLock, Mutex, MutexGuard, PoisonError};

use audioadapter_buffers::direct::InterleavedSlice;
/// One frequency of a transform.
pub use realfft::num_complex::Complex32 as Bin;
use realfft::{ComplexToReal, RealFftPlanner, RealToComplex};
use rubato::{FixedSync, Resampler, WindowFunction};
use rustfft::FftPlanner;

/// A transform of real numbers.
pub type Forward = Arc<dyn RealToComplex<f32>>;

/// A transform of complex numbers in place.
pub type Turn = Arc<dyn rustfft::Fft<f32>>;

/// What plans transforms and keeps the plans: making one takes as long as ten to fifteen transforms.
struct Planners {
    real: RealFftPlanner<f32>,
    complex: FftPlanner<f32>,
}

impl Planners {
    fn new() -> Self {
        Self { real: RealFftPlanner::new(), complex: FftPlanner::new() }
    }
}

/// Lets plan a transform. Plans of larger ones than any measure needs, as long as a recording, are not kept.
fn planned<T>(size: usize, plan: impl FnOnce(&mut Planners) -> T) -> T {
    const LARGEST_KEPT: usize = 1 << 16;
    static KEPT: LazyLock<Mutex<Planners>> = LazyLock::new(|| Mutex::new(Planners::new()));
    if size > LARGEST_KEPT {
        return plan(&mut Planners::new());
    }
    plan(&mut KEPT.lock().unwrap_or_else(PoisonError::into_inner))
}

/// The transform of `size` real numbers into half as many complex ones and one more.
#[must_use]
pub fn forward(size: usize) -> Forward {
    planned(size, |planners| planners.real.plan_fft_forward(size))
}

/// The transform back into `size` real numbers, which come out `size` times as large.
#[must_use]
pub fn inverse(size: usize) -> Arc<dyn ComplexToReal<f32>> {
    planned(size, |planners| planners.real.plan_fft_inverse(size))
}

/// The transform of `size` complex numbers, and the one back, from which they come out `size` times as large.
#[must_use]
pub fn there_and_back(size: usize) -> (Turn, Turn) {
    planned(size, |Planners { complex, .. }| (complex.plan_fft_forward(size), complex.plan_fft_inverse(size)))
}

/// Samples at another rate, by a synchronous FFT low-pass (Blackman-Harris squared window) over a fifth of a second.
///
/// # Errors
/// What the library says where the filter cannot be built or run.
pub fn change_rate(samples: &[f32], from_hz: u32, to_hz: u32) -> Result<Vec<f32>, String> {
    let mut filter = match kept_filters().pop_for((from_hz, to_hz)) {
        Some(filter) => filter,
        None => new_filter(from_hz as usize, to_hz as usize)?,
    };
    let length = samples.len();
    let input = InterleavedSlice::new(samples, 1, length).map_err(|error| error.to_string())?;
    let output = filter.process_all(&input, length, None).map_err(|error| error.to_string())?;
    kept_filters().keep((from_hz, to_hz), filter);
    Ok(output.take_data())
}

fn new_filter(from: usize, to: usize) -> Result<Filter, String> {
    let window = WindowFunction::BlackmanHarris2;
    Filter::new_custom(from, to, from / 5, 1, 1, window, FixedSync::Input).map_err(|error| error.to_string())
}

type Filter = rubato::Fft<f32>;

/// Filters that nobody uses at the moment, by their rates, the latest at the end: making one takes as long as to filter one to four seconds.
struct KeptFilters(Vec<((u32, u32), Filter)>);

impl KeptFilters {
    /// The most that all rates of those kept come to: 7 to 10 MB, enough for 30 threads at the rates of speech.
    const MOST_HZ: u32 = 1_000_000;

    fn pop_for(&mut self, rates: (u32, u32)) -> Option<Filter> {
        let at = self.0.iter().rposition(|(kept, _)| *kept == rates)?;
        Some(self.0.remove(at).1)
    }

    fn keep(&mut self, rates: (u32, u32), filter: Filter) {
        self.0.push((rates, filter));
        let mut hz = 0_u32;
        let fits = |((from, to), _): &&((u32, u32), Filter)| {
            hz = hz.saturating_add(from.saturating_add(*to));
            hz <= Self::MOST_HZ
        };
        let kept = self.0.iter().rev().take_while(fits).count();
        self.0.drain(..self.0.len() - kept);
    }
}

fn kept_filters() -> MutexGuard<'static, KeptFilters> {
    static KEPT: Mutex<KeptFilters> = Mutex::new(KeptFilters(Vec::new()));
    KEPT.lock().unwrap_or_else(PoisonError::into_inner)
}
