//! A minute of noisy speech-like sound.

use fonex_core::audio::Audio;

pub fn minute() -> Audio {
    let mut state = 1_u32;
    let samples = (0..60 * 16_000).map(|i| {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        let hiss = (state >> 8) as f32 / 16_777_216.0 - 0.5;
        (i as f32 * 0.11).sin() * (i as f32 * 0.0004).sin() * 0.4 + hiss * 0.02
    });
    Audio { rate_hz: 16_000, samples: samples.collect() }
}
