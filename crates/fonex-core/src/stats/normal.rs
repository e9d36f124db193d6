//! The standard normal distribution.

use std::f64::consts::{PI, SQRT_2};

/// How far from zero a value is looked for.
const FARTHEST: f64 = 40.0;
/// How often the whole range is halved, until what is left is narrower than 1e-10.
const HALVINGS: i32 = 40;

/// The value below which a standard normal variable lies with probability `p`, to 1e-10. Infinite at 0 and 1.
///
/// It is what bisection of the error function comes to, and found in a few steps where it can be.
#[must_use]
pub fn normal_quantile(p: f64) -> f64 {
    if p <= 0.0 || p >= 1.0 {
        return if p <= 0.0 { f64::NEG_INFINITY } else { f64::INFINITY };
    }
    // Bisection ends in one of so many equal parts of the range; their borders are exact.
    let width = 2.0 * FARTHEST / 2.0_f64.powi(HALVINGS);
    let part = ((near_quantile(p) + FARTHEST) / width).floor();
    let (low, high) = (part * width - FARTHEST, (part + 1.0) * width - FARTHEST);
    if below(low) < p && below(high) >= p { f64::midpoint(low, high) } else { by_bisection(p) }
}

fn below(z: f64) -> f64 {
    0.5 * libm::erfc(-z / SQRT_2)
}

fn by_bisection(p: f64) -> f64 {
    let (mut low, mut high) = (-FARTHEST, FARTHEST);
    for _ in 0..HALVINGS {
        let middle = f64::midpoint(low, high);
        if below(middle) < p { low = middle } else { high = middle }
    }
    f64::midpoint(low, high)
}

/// The quantile, nearly: by Hastings (Abramowitz and Stegun, "Handbook of Mathematical Functions", 1964, 26.2.23), then two of
/// Halley's steps.
fn near_quantile(p: f64) -> f64 {
    let t = (-2.0 * p.min(1.0 - p).ln()).sqrt();
    let far = t
        - (0.010_328 * t + 0.802_853).mul_add(t, 2.515_517)
            / ((0.001_308 * t + 0.189_269).mul_add(t, 1.432_788)).mul_add(t, 1.0);
    let mut z = if p < 0.5 { -far } else { far };
    for _ in 0..2 {
        let newton = (below(z) - p) * (2.0 * PI).sqrt() * (z * z / 2.0).exp();
        z -= newton / (1.0 + z * newton / 2.0);
    }
    z
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tabulated_values() {
        for (p, z) in [(0.5, 0.0), (0.975, 1.959_963_985), (0.995, 2.575_829_304), (0.025, -1.959_963_985)] {
            assert!((normal_quantile(p) - z).abs() < 1e-8, "{p}");
        }
    }

    proptest::proptest! {
        #[test]
        fn the_short_way_comes_to_what_bisection_does(power in -320.0..0.0_f64, high in proptest::bool::ANY, plain in 0.0..1.0_f64) {
            let small = 10.0_f64.powf(power);
            for p in [if high { 1.0 - small } else { small }, plain] {
                if p > 0.0 && p < 1.0 {
                    proptest::prop_assert_eq!(normal_quantile(p), by_bisection(p), "{}", p);
                }
            }
        }
    }
}
