//! What a run may use up: kept while it continues, reckoned before it starts.

use std::sync::Mutex;

use fonex_core::cost::{Prices, Usage};

use crate::bench::Budget;

/// What was used on each account, with what is under way counted in.
pub(super) struct Spending {
    budget: Budget,
    prices: Vec<Option<Prices>>,
    used: Mutex<Vec<Usage>>,
}

impl Spending {
    /// One account for everything that is charged together, with its prices.
    pub(super) fn new(budget: Budget, prices: Vec<Option<Prices>>) -> Self {
        let used = Mutex::new(vec![Usage::default(); prices.len()]);
        Self { budget, prices, used }
    }

    /// Counts what was used before.
    pub(super) fn add(&self, account: usize, usage: Usage) {
        let mut used = self.used.lock().expect("no holder of this lock panics");
        used[account] = used[account].plus(usage);
    }

    /// Sets aside what a trial is expected to use.
    ///
    /// # Errors
    /// Which part of the budget it would pass; nothing is set aside then.
    pub(super) fn reserve(&self, account: usize, expected: Usage) -> Result<(), String> {
        let mut used = self.used.lock().expect("no holder of this lock panics");
        let before = used[account];
        used[account] = before.plus(expected);
        match self.passed(&used) {
            None => Ok(()),
            Some(what) => {
                used[account] = before;
                Err(what)
            }
        }
    }

    /// Puts what a trial really used in the place of what was expected.
    pub(super) fn settle(&self, account: usize, expected: Usage, real: Option<Usage>) {
        let mut used = self.used.lock().expect("no holder of this lock panics");
        let real = real.unwrap_or_default();
        let place = &mut used[account];
        *place = Usage {
            requests: (place.requests + real.requests).saturating_sub(expected.requests),
            characters: (place.characters + real.characters).saturating_sub(expected.characters),
            audio_s: (place.audio_s + real.audio_s - expected.audio_s).max(0.0),
        };
    }

    fn cost(&self, used: &[Usage]) -> f64 {
        used.iter()
            .zip(&self.prices)
            .map(|(used, prices)| prices.as_ref().map_or(0.0, |prices| prices.cost(used)))
            .sum()
    }

    fn passed(&self, used: &[Usage]) -> Option<String> {
        let all = used.iter().fold(Usage::default(), |all, used| all.plus(*used));
        let Budget { cost, requests, characters, audio_minutes } = self.budget;
        if let Some(most) = cost.filter(|most| self.cost(used) > *most + 1e-9) {
            return Some(format!("a cost of {most}"));
        }
        if let Some(most) = requests.filter(|most| all.requests > *most) {
            return Some(format!("{most} requests"));
        }
        if let Some(most) = characters.filter(|most| all.characters > *most) {
            return Some(format!("{most} characters"));
        }
        let minutes = audio_minutes.filter(|most| all.audio_s / 60.0 > *most + 1e-9)?;
        Some(format!("{minutes} minutes of audio"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use fonex_core::cost::Price;

    #[test]
    fn nothing_is_begun_that_would_pass_the_budget() {
        let prices = Prices {
            currency: "EUR".into(),
            request: Some(Price::Flat(0.5)),
            character: None,
            audio_minute: None,
            audio_step_s: None,
            audio_least_s: None,
        };
        let spending = Spending::new(Budget { cost: Some(1.0), ..Budget::default() }, vec![Some(prices), None]);
        let one = Usage { requests: 1, ..Usage::default() };
        assert!(
            spending.reserve(0, one).is_ok() && spending.reserve(0, one).is_ok() && spending.reserve(1, one).is_ok()
        );
        assert_eq!(spending.reserve(0, one), Err("a cost of 1".to_owned()));
        // A trial that was never sent gives back what it had set aside.
        spending.settle(0, one, None);
        assert!(spending.reserve(0, one).is_ok());
    }
}
