//! Distributes the level of one call over its questions: all clips first, slices after.

use super::ALPHA;

/// The level reserved for questions about slices.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Slices {
    /// Half: for slices that a user asks for.
    #[default]
    Half,
    /// None, only what all clips pass on: answers over all clips do not depend on the slices.
    After,
}

/// An answerable question, with its uncorrected probability.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Asked {
    pub(super) of_slice: bool,
    pub(super) p_value: f64,
}

/// The result for a question.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Given {
    /// The share of the level at which it was tested.
    pub(super) share: f64,
    /// The probability, corrected for all questions of the call.
    pub(super) p_value: f64,
}

/// The remaining level and the open questions over all clips, and over slices.
#[derive(Debug, Clone, Copy)]
struct Left {
    level: [f64; 2],
    open: [usize; 2],
    slices: Slices,
}

impl Left {
    fn new(asked: &[Asked], slices: Slices) -> Self {
        let of_slices = asked.iter().filter(|one| one.of_slice).count();
        let open = [asked.len() - of_slices, of_slices];
        let level = match (open, slices) {
            ([0, _], _) => [0.0, 1.0],
            ([_, 0], _) | (_, Slices::After) => [1.0, 0.0],
            (_, Slices::Half) => [0.5, 0.5],
        };
        Self { level, open, slices }
    }

    fn share(&self, group: usize) -> f64 {
        self.level[group] / self.open[group].max(1) as f64
    }

    /// Closes a question with a claimed difference and passes its share on. Half of a share over all clips goes to the slices, even
    /// if none are asked: with [`Slices::After`] the slices change no answer over all clips. A share of a slice stays with the
    /// slices, and after the last one goes to all clips ([`Slices::Half`] only).
    fn take(&mut self, group: usize) {
        let own = self.share(group);
        self.open[group] -= 1;
        let passed = match (group, self.open[group]) {
            (_, 0) => own,
            (0, _) => own / 2.0,
            _ => 0.0,
        };
        self.level[group] -= passed;
        if group == 0 || self.slices == Slices::Half {
            self.level[1 - group] += passed;
        }
    }
}

/// Distributes the level. A claimed difference passes its share on (Bretz, Maurer, Brannath and Posch, "A graphical approach to
/// sequentially rejective multiple test procedures", 2009; special cases are Holm's procedure, 1979, and gatekeeping, Dmitrienko,
/// Offen and Westfall 2003). At most 5 % of calls without a true difference claim one.
pub(super) fn share_out(asked: &[Asked], slices: Slices) -> Vec<Given> {
    let mut left = Left::new(asked, slices);
    let mut given: Vec<Option<Given>> = vec![None; asked.len()];
    let mut largest = 0.0_f64;
    // Shares within a group are equal: the smallest probability is next.
    let next = |given: &[Option<Given>], left: &Left| {
        let open = asked.iter().enumerate().filter(|(at, _)| given[*at].is_none());
        open.map(|(at, one)| (at, one.p_value / left.share(usize::from(one.of_slice))))
            .min_by(|a, b| a.1.total_cmp(&b.1))
    };
    while let Some((at, corrected)) = next(&given, &left).filter(|(_, corrected)| *corrected < ALPHA) {
        let group = usize::from(asked[at].of_slice);
        largest = largest.max(corrected);
        given[at] = Some(Given { share: left.share(group), p_value: largest });
        left.take(group);
    }
    let rest = |one: &Asked| {
        let share = left.share(usize::from(one.of_slice));
        let corrected = if one.p_value >= 1.0 { 1.0 } else { (one.p_value / share).max(largest).min(1.0) };
        Given { share, p_value: corrected }
    };
    given.into_iter().zip(asked).map(|(given, one)| given.unwrap_or_else(|| rest(one))).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn asked(all: &[f64], slices: &[f64]) -> Vec<Asked> {
        let of = |of_slice: bool| move |p_value: &f64| Asked { of_slice, p_value: *p_value };
        all.iter().map(of(false)).chain(slices.iter().map(of(true))).collect()
    }

    fn told(asked: &[Asked], slices: Slices) -> Vec<bool> {
        share_out(asked, slices).iter().map(|given| given.p_value < ALPHA).collect()
    }

    #[test]
    fn by_hand() {
        // Two over all clips: 2.5 % each, then half of the first share for the second: 3.75 %.
        assert_eq!(told(&asked(&[0.02, 0.037], &[]), Slices::Half), [true, true]);
        assert_eq!(told(&asked(&[0.02, 0.038], &[]), Slices::Half), [true, false]);
        // One over all clips and four slices: 2.5 %, and 0.625 % each; each group passes its rest to the other.
        assert_eq!(told(&asked(&[0.024], &[0.012, 0.5, 0.5, 0.5]), Slices::Half), [true, true, false, false, false]);
        assert_eq!(told(&asked(&[0.026], &[0.006, 0.5, 0.5, 0.5]), Slices::Half), [false, true, false, false, false]);
        assert_eq!(told(&asked(&[0.049], &[0.012, 0.02]), Slices::Half), [true, true, true]);
        // After: the answer over all clips is that without slices, which have no level of their own.
        assert_eq!(told(&asked(&[0.049], &[0.012, 0.5, 0.5, 0.5]), Slices::After), [true, true, false, false, false]);
        assert_eq!(told(&asked(&[0.051], &[1e-9, 0.5, 0.5, 0.5]), Slices::After), [false; 5]);
        assert_eq!(share_out(&asked(&[0.02, 0.5], &[]), Slices::Half)[0].p_value, 0.04);
    }

    proptest! {
        #[test]
        fn slices_after_change_no_answer_over_all_clips(
            all in prop::collection::vec(0.0..0.1_f64, 1..5),
            slices in prop::collection::vec(0.0..0.1_f64, 0..5),
        ) {
            let alone = told(&asked(&all, &[]), Slices::After);
            let with = told(&asked(&all, &slices), Slices::After);
            prop_assert_eq!(&alone[..], &with[..all.len()]);
        }

        #[test]
        fn shares_never_exceed_the_level(
            all in prop::collection::vec(0.0..0.1_f64, 0..5),
            slices in prop::collection::vec(0.0..0.1_f64, 0..5),
            half in any::<bool>(),
        ) {
            let asked = asked(&all, &slices);
            let given = share_out(&asked, if half { Slices::Half } else { Slices::After });
            let open: f64 = given.iter().filter(|given| given.p_value >= ALPHA).map(|given| given.share).sum();
            prop_assert!(open <= 1.0 + 1e-12);
            // Within a group the correction keeps the order.
            for (one, given_one) in asked.iter().zip(&given) {
                for (other, given_other) in asked.iter().zip(&given) {
                    if one.of_slice == other.of_slice && one.p_value <= other.p_value {
                        prop_assert!(given_one.p_value <= given_other.p_value + 1e-12);
                    }
                }
            }
        }
    }
}
