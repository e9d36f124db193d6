//! Fourier transforms and the change of sample rate. The libraries behind them are generic: their code is made where they are
//! called, and would be made anew with every change of a measure if they were called from there.

use std::sync::Arc;

use audioadapter_buffers::direct::InterleavedSlice;
/// One frequency of a transform.
pub use realfft::num_complex::Complex32 as Bin;
use realfft::{ComplexToReal, RealFftPlanner, RealToComplex};
use rubato::{Fft, FixedSync, Resampler, WindowFunction};

/// A transform of real numbers.
pub type Forward = Arc<dyn RealToComplex<f32>>;

/// The transform of `size` real numbers into half as many complex ones and one more.
#[must_use]
pub fn forward(size: usize) -> Forward {
    RealFftPlanner::new().plan_fft_forward(size)
}

/// The transform back into `size` real numbers, which come out `size` times as large.
#[must_use]
pub fn inverse(size: usize) -> Arc<dyn ComplexToReal<f32>> {
    RealFftPlanner::new().plan_fft_inverse(size)
}

/// Samples at another rate, by a synchronous FFT low-pass (Blackman-Harris squared window) over a fifth of a second.
///
/// # Errors
/// What the library says where the filter cannot be built or run.
pub fn change_rate(samples: &[f32], from_hz: u32, to_hz: u32) -> Result<Vec<f32>, String> {
    let (from, to, length) = (from_hz as usize, to_hz as usize, samples.len());
    let window = WindowFunction::BlackmanHarris2;
    let filter = Fft::<f32>::new_custom(from, to, from / 5, 1, 1, window, FixedSync::Input);
    let mut filter = filter.map_err(|error| error.to_string())?;
    let input = InterleavedSlice::new(samples, 1, length).map_err(|error| error.to_string())?;
    let output = filter.process_all(&input, length, None).map_err(|error| error.to_string())?;
    Ok(output.take_data())
}
