//! What a trial puts into an engine's templates, and the check that a template asks for nothing else.

use std::borrow::Cow;
use std::collections::BTreeMap;

use fonex_formats::{Place, Problem, nearest};
use hyper::header::{HeaderName, HeaderValue};
use serde_json::Value;

use crate::Form;
use crate::net::{Url, url_part};
use crate::secrets::Secrets;
use crate::template::{fill, fill_fitting, values_in};

const SETTING: &str = "settings.";
const VARIABLE: &str = "env.";

/// Which values exist where a template stands.
#[derive(Clone, Copy)]
pub(crate) struct Known<'k> {
    /// Values of the trial.
    pub(crate) values: &'k [&'k str],
    /// Settings the engine has; plans may change them but not add any.
    pub(crate) settings: &'k [String],
    /// Whether secrets may stand here.
    pub(crate) secrets: bool,
}

impl Known<'_> {
    /// Checks one template; `what` says what it is.
    pub(crate) fn check(&self, template: &str, what: &str, place: impl Fn() -> Place) -> Result<(), Problem> {
        for name in values_in(template) {
            if let Some(variable) = name.strip_prefix(VARIABLE) {
                if self.secrets {
                    continue;
                }
                let problem =
                    Problem::new(format!("{what} shows the variable {variable} to everyone on the machine"), place());
                return Err(problem.remedy(format!(
                    "give it through the environment: env = {{ {variable} = \"{{env.{variable}}}\" }}"
                )));
            }
            let known = match name.strip_prefix(SETTING) {
                Some(setting) => self.settings.iter().any(|s| s == setting),
                None => self.values.contains(&name),
            };
            if known {
                continue;
            }
            let settings = self.settings.iter().map(|setting| format!("{SETTING}{setting}"));
            let names: Vec<String> = self.values.iter().map(|v| (*v).to_owned()).chain(settings).collect();
            let what = format!("{what} uses the value \"{{{name}}}\", which does not exist");
            let problem = Problem::new(what, place()).expected(format!("one of {}", names.join(", ")));
            return Err(match nearest(name, names.iter().map(String::as_str)) {
                Some(near) => problem.remedy(format!("write \"{{{near}}}\" if that is meant")),
                None => problem.remedy("for a plain bracket, double it: {{"),
            });
        }
        Ok(())
    }

    /// Checks every string inside a JSON value.
    pub(crate) fn check_json(&self, value: &Value, what: &str, place: &dyn Fn() -> Place) -> Result<(), Problem> {
        match value {
            Value::String(template) => self.check(template, what, place),
            Value::Array(items) => items.iter().try_for_each(|item| self.check_json(item, what, place)),
            Value::Object(fields) => fields.values().try_for_each(|item| self.check_json(item, what, place)),
            _ => Ok(()),
        }
    }
}

/// The variables a template names.
pub(crate) fn variables_in(template: &str) -> impl Iterator<Item = &str> {
    values_in(template).filter_map(|name| name.strip_prefix(VARIABLE))
}

/// The variables named anywhere inside a JSON value.
pub(crate) fn variables_in_json(value: &Value, found: &mut Vec<String>) {
    match value {
        Value::String(template) => found.extend(variables_in(template).map(str::to_owned)),
        Value::Array(items) => items.iter().for_each(|item| variables_in_json(item, found)),
        Value::Object(fields) => fields.values().for_each(|item| variables_in_json(item, found)),
        _ => {}
    }
}

/// The values of one trial.
#[derive(Clone)]
pub(crate) struct Values<'v> {
    form: Form<'v>,
    lang: Option<&'v str>,
    clip_id: &'v str,
    /// What else was set: few enough to be looked through.
    set: Vec<(&'static str, Cow<'v, str>)>,
    variables: &'v BTreeMap<String, String>,
}

impl<'v> Values<'v> {
    pub(crate) fn new(
        form: Form<'v>,
        lang: Option<&'v str>,
        clip_id: &'v str,
        variables: &'v BTreeMap<String, String>,
    ) -> Self {
        Self { form, lang, clip_id, set: Vec::new(), variables }
    }

    /// Sets a value that not every trial has; one that was there before is replaced.
    pub(crate) fn set(&mut self, name: &'static str, value: impl Into<Cow<'v, str>>) {
        self.set.retain(|(known, _)| *known != name);
        self.set.push((name, value.into()));
    }

    fn get(&self, name: &str) -> Option<&str> {
        if let Some(variable) = name.strip_prefix(VARIABLE) {
            return self.variables.get(variable).map(String::as_str);
        }
        if let Some(setting) = name.strip_prefix(SETTING) {
            return self.form.settings.get(setting).map(String::as_str);
        }
        match name {
            "voice" => Some(self.form.voice),
            "model" => Some(self.form.model),
            "lang" => Some(self.lang.unwrap_or_default()),
            "clip_id" => Some(self.clip_id),
            _ => self.set.iter().find(|(known, _)| *known == name).map(|(_, value)| &**value),
        }
    }

    pub(crate) fn fill(&self, template: &str) -> String {
        fill(template, |name| self.get(name))
    }

    /// Fills an address: each value is encoded as its place asks.
    pub(crate) fn fill_url(&self, template: &str) -> String {
        fill_fitting(template, |name| self.get(name), url_part)
    }

    /// An address with its query, filled in.
    ///
    /// # Errors
    /// Why it is none.
    pub(crate) fn address(&self, url: &str, query: &BTreeMap<String, String>) -> Result<Url, String> {
        let url = Url::parse(&self.fill_url(url))?;
        Ok(query.iter().fold(url, |url, (key, template)| url.with_query(key, &self.fill(template))))
    }

    /// Headers, filled in.
    ///
    /// # Errors
    /// Which one cannot be sent.
    pub(crate) fn headers(
        &self,
        headers: &BTreeMap<String, String>,
    ) -> Result<Vec<(HeaderName, HeaderValue)>, String> {
        headers
            .iter()
            .map(|(name, template)| {
                let value = HeaderValue::from_str(&self.fill(template));
                let filled = HeaderName::try_from(name.as_str()).ok().zip(value.ok());
                filled.ok_or_else(|| format!("the header {template:?} cannot be sent with what is filled in"))
            })
            .collect()
    }

    /// Fills every string. One that is nothing but a setting, or but the rate of the audio, becomes a number or a truth value
    /// where it reads as one.
    pub(crate) fn fill_json(&self, value: &Value) -> Value {
        match value {
            Value::String(template) => {
                let filled = self.fill(template);
                let lone = template.strip_prefix('{').and_then(|rest| rest.strip_suffix('}'));
                let typed = |name: &&str| name.starts_with(SETTING) || *name == "audio_rate_hz";
                let plain = lone.filter(typed).filter(|name| !name.contains(['{', '}'])).and_then(|_| {
                    let value: Value = serde_json::from_str(&filled).ok()?;
                    (value.is_number() || value.is_boolean()).then_some(value)
                });
                plain.unwrap_or(Value::String(filled))
            }
            Value::Array(items) => items.iter().map(|item| self.fill_json(item)).collect(),
            Value::Object(fields) => {
                Value::Object(fields.iter().map(|(key, item)| (key.clone(), self.fill_json(item))).collect())
            }
            other => other.clone(),
        }
    }
}

/// Looks the named variables up.
pub(crate) fn look_up(
    names: impl IntoIterator<Item = String>,
    secrets: &Secrets,
    place: &Place,
) -> Result<BTreeMap<String, String>, Problem> {
    names
        .into_iter()
        .map(|name| match secrets.value(&name) {
            Some(value) => Ok((name, value)),
            None => Err(secrets.missing(&name, place.clone())),
        })
        .collect()
}
