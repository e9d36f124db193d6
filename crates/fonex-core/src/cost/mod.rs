//! What a hosted engine charges: prices by unit, in tiers, with a free allowance and rounding.

use serde::{Deserialize, Serialize};

/// What an engine charges. Units that have no price cost nothing.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Prices {
    /// Currency, as printed.
    pub currency: String,
    /// For each request.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub request: Option<Price>,
    /// For each character of text sent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub character: Option<Price>,
    /// For each minute of audio heard or spoken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub audio_minute: Option<Price>,
    /// Audio of a request is rounded up to a multiple of this many seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub audio_step_s: Option<f64>,
    /// Audio of a request counts as at least this many seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub audio_least_s: Option<f64>,
}

/// The price of one unit: one figure, or tiers with a free allowance.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(untagged)]
pub enum Price {
    /// The same for every unit.
    Flat(f64),
    /// By how much was used before.
    Tiered(Tiers),
}

/// A price that depends on how much was used before.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Tiers {
    /// Units that cost nothing.
    #[serde(default)]
    pub free: f64,
    /// Price of a unit up to the first tier.
    pub each: f64,
    /// Later tiers, each with the use from which it holds, the free units counted in.
    #[serde(default)]
    pub tiers: Vec<Tier>,
}

/// One tier.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Tier {
    /// Units used from which it holds.
    pub from: f64,
    /// Price of a unit from there.
    pub each: f64,
}

impl Price {
    /// Cost of the first `units` units.
    #[must_use]
    pub fn of(&self, units: f64) -> f64 {
        match self {
            Self::Flat(each) => each * units,
            Self::Tiered(Tiers { free, each, tiers }) => {
                let ends = tiers.iter().map(|tier| tier.from).chain([f64::INFINITY]);
                let steps = std::iter::once((*free, *each)).chain(tiers.iter().map(|tier| (tier.from, tier.each)));
                steps.zip(ends).map(|((from, each), to)| each * (units.min(to) - from.max(*free)).max(0.0)).sum()
            }
        }
    }

    /// What is wrong with it, if anything.
    #[must_use]
    pub fn fault(&self) -> Option<&'static str> {
        match self {
            Self::Flat(each) => (!(each.is_finite() && *each >= 0.0)).then_some("a negative price"),
            Self::Tiered(Tiers { free, each, tiers }) => {
                let figures = [*free, *each].into_iter().chain(tiers.iter().flat_map(|t| [t.from, t.each]));
                if figures.into_iter().any(|figure| !(figure.is_finite() && figure >= 0.0)) {
                    return Some("a negative price");
                }
                let rising = tiers.windows(2).all(|pair| pair[0].from < pair[1].from);
                (!rising).then_some("tiers whose limits do not increase")
            }
        }
    }
}

/// What was used of an engine.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Usage {
    /// Requests.
    pub requests: u64,
    /// Characters of text sent.
    pub characters: u64,
    /// Seconds of audio, each request rounded as the prices say.
    pub audio_s: f64,
}

impl Usage {
    /// The use of one request.
    #[must_use]
    pub fn of_request(characters: u64, audio_s: f64, prices: Option<&Prices>) -> Self {
        Self { requests: 1, characters, audio_s: prices.map_or(audio_s, |prices| prices.billed_s(audio_s)) }
    }

    /// This and another together.
    #[must_use]
    pub fn plus(self, other: Self) -> Self {
        Self {
            requests: self.requests + other.requests,
            characters: self.characters + other.characters,
            audio_s: self.audio_s + other.audio_s,
        }
    }
}

impl Prices {
    /// Seconds of one request's audio that are charged.
    #[must_use]
    pub fn billed_s(&self, audio_s: f64) -> f64 {
        let least = audio_s.max(self.audio_least_s.unwrap_or(0.0));
        match self.audio_step_s.filter(|step| *step > 0.0) {
            // A length that is a whole number of steps but for rounding is not charged one more.
            Some(step) => (least / step - 1e-9).ceil() * step,
            None => least,
        }
    }

    /// What a use costs when nothing was used before.
    #[must_use]
    pub fn cost(&self, usage: &Usage) -> f64 {
        let part = |price: &Option<Price>, units: f64| price.as_ref().map_or(0.0, |price| price.of(units));
        part(&self.request, usage.requests as f64)
            + part(&self.character, usage.characters as f64)
            + part(&self.audio_minute, usage.audio_s / 60.0)
    }

    /// What several uses cost together, shared out: tiers and the free allowance hold for all of them at once, and each
    /// part pays for a unit in proportion to how many of it it used.
    #[must_use]
    pub fn shares(&self, parts: &[Usage]) -> Vec<f64> {
        let all = parts.iter().fold(Usage::default(), |all, part| all.plus(*part));
        let each = |price: &Option<Price>, units: f64| match price {
            Some(price) if units > 0.0 => price.of(units) / units,
            _ => 0.0,
        };
        let request = each(&self.request, all.requests as f64);
        let character = each(&self.character, all.characters as f64);
        let minute = each(&self.audio_minute, all.audio_s / 60.0);
        let cost = |part: &Usage| {
            request * part.requests as f64 + character * part.characters as f64 + minute * part.audio_s / 60.0
        };
        parts.iter().map(cost).collect()
    }

    /// What is wrong with the prices: the key and why.
    #[must_use]
    pub fn fault(&self) -> Option<(&'static str, &'static str)> {
        let prices =
            [("request", &self.request), ("character", &self.character), ("audio_minute", &self.audio_minute)];
        let lengths = [("audio_step_s", self.audio_step_s), ("audio_least_s", self.audio_least_s)];
        let price = prices.into_iter().find_map(|(key, price)| Some((key, price.as_ref()?.fault()?)));
        price.or_else(|| {
            let bad = lengths.into_iter().find(|(_, s)| s.is_some_and(|s| !(s.is_finite() && s > 0.0)))?;
            Some((bad.0, "a length that is not positive"))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tiers_free_allowance_and_rounding_by_hand() {
        let tiers = vec![Tier { from: 100.0, each: 1.0 }, Tier { from: 150.0, each: 0.5 }];
        let price = Price::Tiered(Tiers { free: 20.0, each: 2.0, tiers });
        // 80 at 2, 50 at 1, 10 at 0.5.
        for (units, cost) in [(0.0, 0.0), (20.0, 0.0), (21.0, 2.0), (100.0, 160.0), (160.0, 215.0)] {
            assert!((price.of(units) - cost).abs() < 1e-9, "{units} units");
        }
        let free_beyond_the_tier =
            Price::Tiered(Tiers { free: 120.0, each: 2.0, tiers: vec![Tier { from: 100.0, each: 1.0 }] });
        assert_eq!((free_beyond_the_tier.of(120.0), free_beyond_the_tier.of(130.0)), (0.0, 10.0));
        let prices = Prices {
            currency: "EUR".into(),
            request: Some(Price::Flat(0.01)),
            character: None,
            audio_minute: Some(Price::Flat(0.6)),
            audio_step_s: Some(15.0),
            audio_least_s: Some(20.0),
        };
        assert_eq!([3.0, 20.0, 30.0, 30.1].map(|s| prices.billed_s(s)), [30.0, 30.0, 30.0, 45.0]);
        let used = Usage::of_request(0, 3.0, Some(&prices)).plus(Usage::of_request(0, 30.1, Some(&prices)));
        assert!((prices.cost(&used) - (0.02 + 0.75)).abs() < 1e-9);
        // One minute is free and the next costs 1, whoever of the two used it.
        let tiers = Tiers { free: 1.0, each: 1.0, tiers: Vec::new() };
        let prices = Prices { request: None, audio_minute: Some(Price::Tiered(tiers)), ..prices };
        let part = |audio_s| Usage { requests: 1, characters: 0, audio_s };
        assert_eq!(prices.shares(&[part(90.0), part(30.0), part(0.0)]), [0.75, 0.25, 0.0]);
        assert_eq!(prices.shares(&[Usage::default()]), [0.0]);
    }
}
