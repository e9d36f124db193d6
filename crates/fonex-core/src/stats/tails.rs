//! Tail probabilities that stay exact where resampling has nothing left to count.

use std::cell::Cell;

/// The two-sided tail of Student's distribution: the probability of at least `t` in absolute value at `df` degrees of
/// freedom, by the continued fraction of the incomplete beta function (Abramowitz and Stegun, "Handbook of Mathematical
/// Functions", 1964, 26.5.8 and 26.7.1; evaluated by Lentz's method). Relative accuracy about 1e-10.
#[must_use]
pub fn student_tail(t: f64, df: f64) -> f64 {
    if !t.is_finite() {
        return if t.is_nan() { 1.0 } else { 0.0 };
    }
    incomplete_beta(df / 2.0, 0.5, df / (df + t * t))
}

/// The value that Student's distribution exceeds in absolute value with probability `alpha`, by bisection.
#[must_use]
pub fn student_quantile(alpha: f64, df: f64) -> f64 {
    thread_local! {
        /// What was asked last, and the answer: the measures of a set ask the same, one after the other.
        static LAST: Cell<[f64; 3]> = const { Cell::new([f64::NAN; 3]) };
    }
    let last = LAST.get();
    if last[..2] == [alpha, df] {
        return last[2];
    }
    let found = bisect_student(alpha, df);
    LAST.set([alpha, df, found]);
    found
}

fn bisect_student(alpha: f64, df: f64) -> f64 {
    if alpha >= 1.0 {
        return 0.0;
    }
    let (mut low, mut high) = (0.0, 1.0);
    while student_tail(high, df) > alpha && high < 1e12 {
        high *= 2.0;
    }
    for _ in 0..200 {
        let middle = f64::midpoint(low, high);
        if student_tail(middle, df) > alpha {
            low = middle;
        } else {
            high = middle;
        }
        if high - low <= 1e-12 * high {
            break;
        }
    }
    f64::midpoint(low, high)
}

/// The largest share that `seen` of `all` leaves at level `alpha`: the upper bound of Clopper and Pearson ("The use of
/// confidence or fiducial limits illustrated in the case of the binomial", 1934), one-sided, by bisection.
#[must_use]
pub fn share_bound(seen: u64, all: u64, alpha: f64) -> f64 {
    if seen >= all {
        return 1.0;
    }
    let (mut low, mut high) = (0.0, 1.0);
    for _ in 0..60 {
        let middle = f64::midpoint(low, high);
        if share_at_most(seen as f64, all as f64, middle) > alpha { low = middle } else { high = middle }
    }
    high
}

/// The binomial probability of at most `seen` successes in `all` trials with success probability `share`, by the incomplete beta
/// function; `seen` and `all` need not be integers.
#[must_use]
pub fn share_at_most(seen: f64, all: f64, share: f64) -> f64 {
    if seen >= all {
        return 1.0;
    }
    incomplete_beta(all - seen, seen + 1.0, 1.0 - share)
}

/// The upper tail of Student's distribution. From 500 degrees of freedom on it uses Wallace's normal transformation ("Bounds on
/// normal approximations to Student's and the chi-square distributions", 1959): relative error under 1e-4, and constant cost.
#[must_use]
pub fn student_above(t: f64, df: f64) -> f64 {
    const MANY: f64 = 500.0;
    if df >= MANY && t.is_finite() {
        let normal = (8.0 * df + 1.0) / (8.0 * df + 3.0) * (df * (t * t / df).ln_1p()).sqrt();
        return 0.5 * libm::erfc(normal.copysign(t) / std::f64::consts::SQRT_2);
    }
    let both = student_tail(t, df) / 2.0;
    if t > 0.0 { both } else { 1.0 - both }
}

/// The regularised incomplete beta function.
fn incomplete_beta(a: f64, b: f64, x: f64) -> f64 {
    if x <= 0.0 || x >= 1.0 {
        return if x <= 0.0 { 0.0 } else { 1.0 };
    }
    let front = (libm::lgamma(a + b) - libm::lgamma(a) - libm::lgamma(b) + a * x.ln() + b * (-x).ln_1p()).exp();
    if x < (a + 1.0) / (a + b + 2.0) {
        front * beta_fraction(a, b, x) / a
    } else {
        1.0 - front * beta_fraction(b, a, 1.0 - x) / b
    }
}

fn beta_fraction(a: f64, b: f64, x: f64) -> f64 {
    const TINY: f64 = 1e-300;
    let held = |value: f64| if value.abs() < TINY { TINY } else { value };
    let (mut c, mut d) = (1.0, held(1.0 - (a + b) * x / (a + 1.0)).recip());
    let mut sum = d;
    for step in 1..500 {
        let m = f64::from(step);
        let even = m * (b - m) * x / ((a + 2.0 * m - 1.0) * (a + 2.0 * m));
        let odd = -(a + m) * (a + b + m) * x / ((a + 2.0 * m) * (a + 2.0 * m + 1.0));
        for factor in [even, odd] {
            d = held(1.0 + factor * d).recip();
            c = held(1.0 + factor / c);
            sum *= c * d;
        }
        if (c * d - 1.0).abs() < 1e-14 {
            break;
        }
    }
    sum
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn share_bounds_are_clopper_and_pearson() {
        // None of n: 1 - alpha^(1/n). One of ten: 0.3942 (their table).
        assert!((share_bound(0, 5, 0.05) - (1.0 - 0.05_f64.powf(0.2))).abs() < 1e-9);
        assert!((share_bound(1, 10, 0.05) - 0.394_2).abs() < 1e-4);
        assert!((share_bound(3, 3, 0.05) - 1.0).abs() < 1e-12);
    }

    #[test]
    fn student_by_tables() {
        // Two-sided, from the tables of Fisher and Yates and by the closed forms for one and two degrees of freedom.
        for (t, df, tail) in [(12.706_204_7, 1.0, 0.05), (2.570_581_8, 5.0, 0.05), (2.045_229_6, 29.0, 0.05)] {
            assert!((student_tail(t, df) / tail - 1.0).abs() < 2e-3, "{t} {df} {}", student_tail(t, df));
        }
        for t in [0.3_f64, 2.0, 40.0, 1e4] {
            let one = 1.0 - 2.0 * t.atan() / std::f64::consts::PI;
            assert!((student_tail(t, 1.0) / one - 1.0).abs() < 1e-7, "{t}");
            let two = 1.0 - t / (2.0 + t * t).sqrt();
            assert!((student_tail(t, 2.0) - two).abs() < 1e-9, "{t}");
        }
        for df in [500.0, 20_000.0] {
            for t in [-2.0, 0.1, 1.96, 4.0, 6.0] {
                let exact = if t > 0.0 { student_tail(t, df) / 2.0 } else { 1.0 - student_tail(t, df) / 2.0 };
                assert!((student_above(t, df) / exact - 1.0).abs() < 1e-4, "{t} {df}");
            }
        }
        assert!((student_quantile(1e-6, 1e9) - 4.891_638_475).abs() < 1e-5);
        for alpha in [0.5, 0.05, 1e-4, 1e-9] {
            assert!((student_tail(student_quantile(alpha, 7.0), 7.0) / alpha - 1.0).abs() < 1e-6);
        }
    }
}
