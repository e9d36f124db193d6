//! The standard normal distribution.

/// The value below which a standard normal variable lies with probability `p`, by bisection of the error function to
/// 1e-10. Infinite at 0 and 1.
#[must_use]
pub fn normal_quantile(p: f64) -> f64 {
    if p <= 0.0 || p >= 1.0 {
        return if p <= 0.0 { f64::NEG_INFINITY } else { f64::INFINITY };
    }
    let below = |z: f64| 0.5 * libm::erfc(-z / std::f64::consts::SQRT_2);
    let (mut low, mut high) = (-40.0, 40.0);
    while high - low > 1e-10 {
        let middle = f64::midpoint(low, high);
        if below(middle) < p { low = middle } else { high = middle }
    }
    f64::midpoint(low, high)
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
}
