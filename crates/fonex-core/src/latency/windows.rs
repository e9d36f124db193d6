//! How long words wait for the window they are sent in.

/// For each word, by its labelled end in seconds, the milliseconds until its text can be there: until its window is full,
/// and for the time a window takes to be heard. `stretches` are the windows in order, `each_ms` what one takes.
#[must_use]
pub fn window_delays(word_ends_s: &[f64], stretches: &[(f64, f64)], each_ms: f64) -> Vec<f64> {
    let last = stretches.last().map_or(0.0, |stretch| stretch.1);
    let delay = |end_s: &f64| {
        let full = stretches.iter().map(|(_, to)| *to).find(|to| to >= end_s).unwrap_or(last);
        (full - end_s).max(0.0) * 1e3 + each_ms
    };
    word_ends_s.iter().map(delay).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_wait_for_their_window() {
        let delays = window_delays(&[0.5, 2.0, 3.0, 9.0], &[(0.0, 2.0), (1.5, 3.5), (3.0, 5.0)], 40.0);
        assert_eq!(delays, [1_540.0, 40.0, 540.0, 40.0]);
    }
}
