//! Voices to choose from: from the bench file, a file of their own, or the engine's own list.

use fonex_core::material::Fields;
use fonex_formats::{Place, Problem, parse_strict};
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::http::RequestConfig;
use crate::mapping::Address;

/// A voice and what is known of it.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Voice {
    /// What the engine calls it.
    pub id: String,
    /// A name for people.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// BCP 47 tags of the languages it is made for; empty where that is not known.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub languages: Vec<String>,
    /// Gender, as the engine says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gender: Option<String>,
    /// Styles it can speak in.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub styles: Vec<String>,
    /// What kind it is, such as a quality level.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<String>,
    /// Regions it is offered in.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub regions: Vec<String>,
    /// Price of a character, where it differs from the engine's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub price: Option<f64>,
}

impl Voice {
    /// A voice of which only the name is known.
    #[must_use]
    pub fn named(id: &str) -> Self {
        Self { id: id.to_owned(), ..Self::default() }
    }
}

/// Whether a voice of these languages (BCP 47) is made for a text in another: the same tag, or the same primary language
/// where one of the two has no region. True where nothing is known.
#[must_use]
pub fn lists_language(languages: &[String], lang: &str) -> bool {
    let fits = |own: &String| {
        let (own, lang) = (own.to_ascii_lowercase(), lang.to_ascii_lowercase());
        let [own_first, lang_first] = [&own, &lang].map(|tag| tag.split('-').next().unwrap_or_default().to_owned());
        own == lang || own_first == lang_first && (own == own_first || lang == lang_first)
    };
    languages.is_empty() || languages.iter().any(fits)
}

impl Fields for Voice {
    fn text(&self, field: &str) -> Option<String> {
        let joined = |list: &[String]| (!list.is_empty()).then(|| list.join(" "));
        match field {
            "id" => Some(self.id.clone()),
            "name" => self.name.clone(),
            "lang" | "languages" => joined(&self.languages),
            "gender" => self.gender.clone(),
            "style" | "styles" => joined(&self.styles),
            "kind" => self.kind.clone(),
            "region" | "regions" => joined(&self.regions),
            "price" => self.price.map(|price| price.to_string()),
            _ => None,
        }
    }

    /// A voice has every language, style and region it lists; `en` is a language of one that lists `en-GB`.
    fn equals(&self, field: &str, value: &str) -> bool {
        match field {
            "lang" | "languages" => !self.languages.is_empty() && lists_language(&self.languages, value),
            "style" | "styles" => self.styles.iter().any(|style| style == value),
            "region" | "regions" => self.regions.iter().any(|region| region == value),
            _ => self.text(field).as_deref() == Some(value),
        }
    }

    fn number(&self, field: &str) -> Option<f64> {
        (field == "price").then_some(self.price)?
    }
}

/// Fields a condition on voices may ask for.
pub const VOICE_FIELDS: [&str; 8] = ["id", "name", "lang", "gender", "style", "kind", "region", "price"];

/// An entry of the bench file's list: a bare id or a whole voice.
#[derive(Deserialize, schemars::JsonSchema)]
#[serde(untagged)]
enum Entry {
    Bare(String),
    Whole(Voice),
}

/// The voices an engine has, as far as is known without asking it.
#[derive(Debug, Clone, PartialEq, Default, Serialize, schemars::JsonSchema)]
pub struct VoiceCatalogue(pub Vec<Voice>);

impl VoiceCatalogue {
    /// The voice of that id.
    #[must_use]
    pub fn find(&self, id: &str) -> Option<&Voice> {
        self.0.iter().find(|voice| voice.id == id)
    }

    pub(crate) fn read(value: Value, place: Place) -> Result<Self, Problem> {
        let wrong = |what: String, i: usize| {
            let field = format!("{}[{i}]", place.field.clone().unwrap_or_default());
            Problem::new(what, place.clone().field(field))
                .expected("an id in quotes, or a table with id, name, languages and more")
        };
        let Value::Array(entries) = value else {
            return Err(Problem::new("voices is no list", place)
                .expected("voices = [\"A\", { id = \"B\", languages = [\"en\"] }]"));
        };
        let mut voices: Vec<Voice> = Vec::new();
        for (i, entry) in entries.into_iter().enumerate() {
            let voice = match entry {
                Value::String(_) | Value::Object(_) => match serde_json::from_value(entry.clone()) {
                    Ok(Entry::Bare(id)) => Voice::named(&id),
                    Ok(Entry::Whole(voice)) => voice,
                    Err(_) => {
                        let why =
                            serde_json::from_value::<Voice>(entry).err().map(|e| e.to_string().replace('`', "\""));
                        return Err(wrong(why.unwrap_or_default(), i));
                    }
                },
                other => return Err(wrong(format!("{other} is no voice"), i)),
            };
            if voices.iter().any(|known| known.id == voice.id) {
                return Err(wrong(format!("the voice \"{}\" stands there twice", voice.id), i));
            }
            voices.push(voice);
        }
        Ok(Self(voices))
    }

    /// Reads a file with one voice a line.
    pub(crate) fn read_file(path: &std::path::Path) -> Result<Self, Problem> {
        let text = fonex_formats::regular::read_text(path).map_err(|error| Problem::io("read", path, &error))?;
        let lines = text.lines().zip(1_u64..).filter(|(line, _)| !line.trim().is_empty());
        lines.map(|(line, at)| parse_strict(line, Place::line(path, at))).collect::<Result<_, _>>().map(Self)
    }
}

/// How an engine is asked for its voices, and where the parts of one stand.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct VoiceListConfig {
    /// The request.
    pub request: RequestConfig,
    /// The list in the answer.
    #[serde(default = "whole")]
    pub items: Address,
    /// Id in an element of the list.
    pub id: Address,
    /// Name for people.
    #[serde(default)]
    pub name: Option<Address>,
    /// Language or languages.
    #[serde(default)]
    pub languages: Option<Address>,
    /// Gender.
    #[serde(default)]
    pub gender: Option<Address>,
    /// Styles.
    #[serde(default)]
    pub styles: Option<Address>,
    /// Kind.
    #[serde(default)]
    pub kind: Option<Address>,
    /// Regions.
    #[serde(default)]
    pub regions: Option<Address>,
    /// Price of a character.
    #[serde(default)]
    pub price: Option<Address>,
}

fn whole() -> Address {
    Address::Pointer(String::new())
}

impl VoiceListConfig {
    pub(crate) fn check(&self, settings: &[String], at: &dyn Fn(&str) -> Place) -> Result<(), Problem> {
        self.request.check(None, false, settings, "voice_list.request", at)
    }

    pub(crate) fn read(&self, answer: &Value) -> Result<Vec<Voice>, String> {
        let found = self.items.all(answer);
        let items: Vec<&Value> = match found.as_slice() {
            [Value::Array(items)] => items.iter().collect(),
            [] => return Err(format!("its answer has no list of voices at {}", self.items)),
            several => several.to_vec(),
        };
        items.into_iter().enumerate().map(|(i, item)| self.voice(item, i)).collect()
    }

    fn voice(&self, item: &Value, i: usize) -> Result<Voice, String> {
        let strings = |address: &Option<Address>| -> Vec<String> {
            let found = address.iter().flat_map(|address| address.all(item));
            let flat =
                found.flat_map(|value| value.as_array().map_or_else(|| vec![value], |list| list.iter().collect()));
            flat.filter_map(|value| value.as_str().map(str::to_owned)).collect()
        };
        let one = |address: &Option<Address>| strings(address).into_iter().next();
        let id = one(&Some(self.id.clone()))
            .ok_or_else(|| format!("voice {} of its list has no id at {}", i + 1, self.id))?;
        Ok(Voice {
            id,
            name: one(&self.name),
            languages: strings(&self.languages),
            gender: one(&self.gender),
            styles: strings(&self.styles),
            kind: one(&self.kind),
            regions: strings(&self.regions),
            price: self.price.as_ref().and_then(|address| address.one(item)?.as_f64()),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn languages_match_with_and_without_region() {
        for (own, lang, speaks) in [
            (vec!["en-GB"], "en", true),
            (vec!["en"], "en-US", true),
            (vec!["en-GB"], "en-US", false),
            (vec!["de", "EN-gb"], "en-GB", true),
            (vec!["de"], "en", false),
            (vec![], "en", true),
        ] {
            let languages: Vec<String> = own.iter().map(|l| (*l).to_owned()).collect();
            assert_eq!(lists_language(&languages, lang), speaks, "{own:?} {lang}");
        }
    }

    #[test]
    fn an_engines_own_list_is_read_by_addresses() {
        let list: VoiceListConfig = serde_json::from_value(json!({
            "request": {"url": "http://h/voices"}, "items": "/v", "id": "/key", "languages": "/locale", "styles": "$.styles[*].name"
        }))
        .unwrap();
        let answer = json!({"v": [{"key": "a", "locale": "en-GB", "styles": [{"name": "calm"}, {"name": "bright"}]}, {"key": "b"}]});
        let voices = list.read(&answer).unwrap();
        assert_eq!((voices[0].languages.as_slice(), voices[0].styles.len()), (&["en-GB".to_owned()][..], 2));
        assert!(list.read(&json!({"v": [{}]})).unwrap_err().contains("no id at /key"));
        assert!(list.read(&json!({})).is_err());
    }

    #[test]
    fn the_bench_files_list_takes_ids_and_tables() {
        let read = |value| VoiceCatalogue::read(value, Place::default().field("voices"));
        let catalogue = read(json!(["A", {"id": "B", "gender": "f"}])).unwrap();
        assert_eq!(catalogue.find("B").and_then(|voice| voice.gender.as_deref()), Some("f"));
        for bad in [json!(["A", "A"]), json!([{"id": "B", "sex": "f"}]), json!([1]), json!("A")] {
            assert!(read(bad).is_err());
        }
    }
}
