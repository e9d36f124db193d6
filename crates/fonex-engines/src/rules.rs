//! What an engine's way of failing means: rules of the bench file from statuses, exit codes and words to outcomes.

use std::time::Duration;

use fonex_core::Outcome;
use regex::{Regex, RegexBuilder};
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::RetryAdvice;
use crate::mapping::Address;

/// One rule; everything that is given must hold. The first rule that fits decides.
#[derive(Debug, Clone, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct OutcomeRule {
    /// Status of an HTTP answer, or exit code of a program.
    #[serde(default, alias = "exit_code", skip_serializing_if = "Option::is_none")]
    pub status: Option<u16>,
    /// A value of a JSON answer; without `equals` and `matches`, that it is there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<Address>,
    /// What stands at `at`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub equals: Option<Value>,
    /// A regular expression, over what stands at `at`, or over everything the engine said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub matches: Option<Pattern>,
    /// What it means.
    #[serde(deserialize_with = "engine_outcome")]
    pub outcome: Outcome,
    /// The quota is used up: the variant stops.
    #[serde(default)]
    pub quota: bool,
    /// Whether trying again may help; the transport's own judgement where it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub again: Option<bool>,
}

/// An outcome an engine can have; that a trial was stopped only this side knows.
fn engine_outcome<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<Outcome, D::Error> {
    match Outcome::deserialize(deserializer)? {
        Outcome::Stopped => {
            Err(serde::de::Error::custom("no engine can say that it was stopped: only a trial of ours is"))
        }
        outcome => Ok(outcome),
    }
}

/// A regular expression, bounded in size, whose search takes time linear in the text.
#[derive(Debug, Clone)]
pub struct Pattern(Regex);

impl Pattern {
    pub(crate) fn found_in(&self, text: &str) -> bool {
        self.0.is_match(text)
    }
}

impl schemars::JsonSchema for Pattern {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Pattern".into()
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({ "description": "A regular expression", "type": "string", "format": "regex" })
    }
}

impl Serialize for Pattern {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.0.as_str())
    }
}

impl<'de> Deserialize<'de> for Pattern {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        let built = RegexBuilder::new(&text).size_limit(1 << 20).build();
        built.map(Self).map_err(|error| {
            let last = error.to_string().lines().last().unwrap_or_default().trim().to_owned();
            serde::de::Error::custom(format!("{text:?} is not a regular expression: {last}"))
        })
    }
}

/// What an engine gave, for rules to look at.
#[derive(Clone, Copy, Default)]
pub(crate) struct Said<'s> {
    pub(crate) status: Option<u16>,
    pub(crate) json: Option<&'s Value>,
    pub(crate) text: &'s str,
}

impl OutcomeRule {
    fn fits(&self, said: &Said<'_>) -> bool {
        if self.status.is_some_and(|status| said.status != Some(status)) {
            return false;
        }
        holds(self.at.as_ref(), self.equals.as_ref(), self.matches.as_ref(), said.json, said.text)
    }

    /// What may be done after a failure by this rule; `after` is when the engine wishes to be asked again.
    pub(crate) fn then(&self, after: Option<Duration>) -> RetryAdvice {
        match (self.quota, self.again) {
            (true, _) => RetryAdvice::QuotaGone,
            (false, Some(true)) => RetryAdvice::Repeat(after),
            _ => RetryAdvice::Leave,
        }
    }
}

/// Whether something at an address equals a value and matches a pattern, as far as they are given; without an address,
/// whether the whole text matches.
pub(crate) fn holds(
    at: Option<&Address>,
    equals: Option<&Value>,
    matches: Option<&Pattern>,
    json: Option<&Value>,
    text: &str,
) -> bool {
    let Some(at) = at else { return matches.is_none_or(|pattern| pattern.found_in(text)) };
    json.is_some_and(|json| {
        at.all(json).into_iter().any(|value| {
            let text = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
            equals.is_none_or(|equals| is_same(equals, value))
                && matches.is_none_or(|pattern| pattern.found_in(&text))
        })
    })
}

/// Whether a value of the bench file is that of an answer. A number or a truth value may stand in quotes on either side, and
/// 1 is 1.0.
fn is_same(one: &Value, other: &Value) -> bool {
    let plain = |value: &Value| match value {
        Value::String(text) => text.clone(),
        scalar => scalar.to_string(),
    };
    match (one, other) {
        (Value::Number(one), Value::Number(other)) => one == other || one.as_f64() == other.as_f64(),
        (Value::String(_), Value::Number(_) | Value::Bool(_))
        | (Value::Number(_) | Value::Bool(_), Value::String(_)) => plain(one) == plain(other),
        _ => one == other,
    }
}

/// Every address that the rules look at.
pub(crate) fn addresses(rules: &[OutcomeRule]) -> impl Iterator<Item = &Address> {
    rules.iter().filter_map(|rule| rule.at.as_ref())
}

/// The first rule that fits.
pub(crate) fn find<'r>(rules: &'r [OutcomeRule], said: &Said<'_>) -> Option<&'r OutcomeRule> {
    rules.iter().find(|rule| rule.fits(said))
}

/// A rule that says nothing about when it holds, or compares nothing.
pub(crate) fn fault(rule: &OutcomeRule) -> Option<&'static str> {
    if rule.status.is_none() && rule.at.is_none() && rule.matches.is_none() {
        return Some("this rule fits every answer");
    }
    (rule.equals.is_some() && rule.at.is_none()).then_some("\"equals\" needs \"at\", the address of what it compares")
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn a_value_is_the_same_in_quotes_and_without() {
        for (one, other) in
            [(json!("true"), json!(true)), (json!(7), json!("7")), (json!(1), json!(1.0)), (json!("a"), json!("a"))]
        {
            assert!(is_same(&one, &other) && is_same(&other, &one), "{one} {other}");
        }
        for (one, other) in [
            (json!("true"), json!(false)),
            (json!("null"), json!(null)),
            (json!("[]"), json!([])),
            (json!(1), json!(2)),
        ] {
            assert!(!is_same(&one, &other) && !is_same(&other, &one), "{one} {other}");
        }
    }

    #[test]
    fn the_first_rule_that_fits_decides() {
        let rules: Vec<OutcomeRule> = serde_json::from_value(json!([
            {"status": 400, "at": "/error/code", "equals": "no_speech", "outcome": "nothing"},
            {"at": "$.errors[*].code", "matches": "^quota", "outcome": "refused", "quota": true},
            {"matches": "(?i)could not understand", "outcome": "unclear"},
            {"status": 400, "outcome": "refused"}
        ]))
        .unwrap();
        let outcome = |status, json: Value| {
            let text = json.to_string();
            find(&rules, &Said { status: Some(status), json: Some(&json), text: &text }).map(|r| (r.outcome, r.quota))
        };
        assert_eq!(outcome(400, json!({"error": {"code": "no_speech"}})), Some((Outcome::Nothing, false)));
        assert_eq!(
            outcome(403, json!({"errors": [{"code": 7}, {"code": "quota_day"}]})),
            Some((Outcome::Refused, true))
        );
        assert_eq!(outcome(200, json!({"said": "Could not understand"})), Some((Outcome::Unclear, false)));
        assert_eq!(outcome(400, json!({})), Some((Outcome::Refused, false)));
        assert_eq!(outcome(500, json!({})), None);
    }
}
