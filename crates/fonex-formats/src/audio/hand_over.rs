//! Samples handed over as they are decoded, as the one edit of their container plays them.

use super::mp4_edits::Edit;

/// Silence that is handed over at once.
const SILENCE: [f32; 4096] = [0.0; 4096];

/// What one edit plays: silence, and then so many samples behind those that are skipped.
pub(super) struct Window {
    silence: usize,
    skip: usize,
    left: usize,
}

impl Window {
    /// Everything.
    pub(super) const ALL: Self = Self { silence: 0, skip: 0, left: usize::MAX };

    /// That of an edit; none where it plays no sound. The first sample is `first_s` behind the beginning of the media.
    pub(super) fn of(edit: &Edit, first_s: f64, rate_hz: u32) -> Option<Self> {
        let count = |seconds: f64| (seconds * f64::from(rate_hz)).round() as i64;
        let most = edit.lasts_s.map_or(i64::MAX, count).max(0);
        let from = count(edit.from_s? - first_s);
        let silence = (-from).max(0).min(most);
        Some(Self { silence: silence as usize, skip: from.max(0) as usize, left: (most - silence) as usize })
    }

    /// Hands over what is played of the samples that come next. Gives how many.
    pub(super) fn give(&mut self, samples: &[f32], take: &mut dyn FnMut(&[f32])) -> usize {
        let mut given = self.silence;
        while self.silence > 0 {
            let now = self.silence.min(SILENCE.len());
            take(&SILENCE[..now]);
            self.silence -= now;
        }
        let skipped = self.skip.min(samples.len());
        self.skip -= skipped;
        let played = &samples[skipped..][..self.left.min(samples.len() - skipped)];
        if !played.is_empty() {
            take(played);
        }
        self.left -= played.len();
        given += played.len();
        given
    }
}

#[cfg(test)]
mod tests {
    use super::super::mp4_edits::play;
    use super::*;

    #[test]
    fn what_is_handed_over_bit_by_bit_is_what_the_edit_plays() {
        let samples: Vec<f32> = (1..=50_u8).map(f32::from).collect();
        for from_s in [0.0, 0.3, 2.0, 4.9, 9.0] {
            for lasts_s in [None, Some(0.0), Some(1.2), Some(100.0)] {
                for first_s in [0.0, 0.5, 3.0] {
                    let edit = Edit { from_s: Some(from_s), lasts_s };
                    let whole = play(&samples, 10, first_s, &[edit], usize::MAX);
                    for cut in [1, 7, 50] {
                        let (mut window, mut found, mut given) =
                            (Window::of(&edit, first_s, 10).unwrap(), Vec::new(), 0);
                        for part in samples.chunks(cut) {
                            given += window.give(part, &mut |played| found.extend_from_slice(played));
                        }
                        assert_eq!(
                            (&found, given),
                            (&whole, whole.len()),
                            "{edit:?} behind {first_s}, {cut} at a time"
                        );
                    }
                }
            }
        }
        assert!(Window::of(&Edit { from_s: None, lasts_s: Some(1.0) }, 0.0, 10).is_none());
    }
}
