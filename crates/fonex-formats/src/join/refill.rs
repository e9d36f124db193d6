//! Records read into the room that the one before has left: most lines hold a few short texts, and making room for each of
//! them anew costs more than reading it.

use std::fmt;

use fonex_core::{Clip, Heard, Tags};
use serde::de::{DeserializeSeed, Deserializer, Error, IgnoredAny, MapAccess, Visitor};

use super::plain::refill_plain;
use crate::HeardRecord;

/// A record that can be read into the room of another of its kind.
pub(super) trait Refill {
    /// The names of its fields.
    const FIELDS: &'static [&'static str];
    /// Those that must be there, as bits.
    const NEEDED: u32;
    /// All of them, as bits.
    const ALL: u32 = (1 << Self::FIELDS.len()) - 1;

    /// Reads the value of a field, by its place among [`Self::FIELDS`].
    fn fill<'de, M: MapAccess<'de>>(&mut self, field: usize, map: &mut M) -> Result<(), M::Error>;

    /// The room of a field that is a text; none for any other.
    fn text(&mut self, field: usize) -> Option<&mut String>;

    /// The room of a field that is tags.
    fn tags(&mut self, field: usize) -> Option<&mut Tags>;

    /// Takes out the value of a field that the line does not hold.
    fn empty(&mut self, field: usize);
}

/// A record, and which of its fields have something to be taken out before the next line is read, as bits.
#[derive(Default)]
pub(super) struct Room<R> {
    pub(super) record: R,
    filled: u32,
}

impl<R: Refill> Room<R> {
    /// Reads a line of JSON into the record; every field then is what the line says. After an error the record is of no use, and
    /// what is wrong is better asked of [`crate::parse_strict`].
    pub(super) fn refill(&mut self, line: &str) -> Result<(), serde_json::Error> {
        let before = std::mem::replace(&mut self.filled, u32::MAX);
        let seen = match refill_plain(&mut self.record, line) {
            Some(seen) => seen,
            None => refill_any(&mut self.record, line)?,
        };
        let mut left = before & !seen & R::ALL;
        while left != 0 {
            self.record.empty(left.trailing_zeros() as usize);
            left &= left - 1;
        }
        self.filled = seen;
        Ok(())
    }
}

/// Reads a line of JSON; gives which fields it names, as bits. Others are left as they were.
fn refill_any<R: Refill>(record: &mut R, line: &str) -> Result<u32, serde_json::Error> {
    let mut reader = serde_json::Deserializer::from_str(line);
    let seen = Object(record).deserialize(&mut reader)?;
    reader.end()?;
    Ok(seen)
}

struct Object<'r, R>(&'r mut R);

impl<'de, R: Refill> DeserializeSeed<'de> for Object<'_, R> {
    type Value = u32;

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<u32, D::Error> {
        reader.deserialize_map(self)
    }
}

impl<'de, R: Refill> Visitor<'de> for Object<'_, R> {
    type Value = u32;

    fn expecting(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("an object")
    }

    fn visit_map<M: MapAccess<'de>>(self, mut map: M) -> Result<u32, M::Error> {
        let mut seen = 0;
        while let Some(field) = map.next_key_seed(Name(R::FIELDS))? {
            if seen >> field & 1 == 1 {
                return Err(M::Error::duplicate_field(R::FIELDS[field]));
            }
            seen |= 1 << field;
            self.0.fill(field, &mut map)?;
        }
        if seen & R::NEEDED != R::NEEDED {
            return Err(M::Error::custom("a field is missing"));
        }
        Ok(seen)
    }
}

/// The name of a field, as its place among those known.
struct Name(&'static [&'static str]);

impl<'de> DeserializeSeed<'de> for Name {
    type Value = usize;

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<usize, D::Error> {
        reader.deserialize_identifier(self)
    }
}

impl Visitor<'_> for Name {
    type Value = usize;

    fn expecting(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("the name of a field")
    }

    fn visit_str<E: Error>(self, name: &str) -> Result<usize, E> {
        self.0.iter().position(|known| *known == name).ok_or_else(|| E::unknown_field(name, self.0))
    }
}

/// A text put in the place of another.
struct Text<'t>(&'t mut String);

impl<'de> DeserializeSeed<'de> for Text<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<(), D::Error> {
        reader.deserialize_str(self)
    }
}

impl Visitor<'_> for Text<'_> {
    type Value = ();

    fn expecting(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("a string")
    }

    fn visit_str<E>(self, text: &str) -> Result<(), E> {
        self.0.clear();
        self.0.push_str(text);
        Ok(())
    }
}

/// A text that may be null.
struct OptionalText<'t>(&'t mut Option<String>);

impl<'de> DeserializeSeed<'de> for OptionalText<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<(), D::Error> {
        reader.deserialize_option(self)
    }
}

impl<'de> Visitor<'de> for OptionalText<'_> {
    type Value = ();

    fn expecting(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("a string or null")
    }

    fn visit_none<E>(self) -> Result<(), E> {
        *self.0 = None;
        Ok(())
    }

    fn visit_some<D: Deserializer<'de>>(self, reader: D) -> Result<(), D::Error> {
        Text(self.0.get_or_insert_default()).deserialize(reader)
    }
}

/// Tags put in the place of others; corpora name the same tags in every line.
struct TagsOf<'t>(&'t mut Tags);

impl<'de> DeserializeSeed<'de> for TagsOf<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<(), D::Error> {
        reader.deserialize_map(self)
    }
}

impl<'de> Visitor<'de> for TagsOf<'_> {
    type Value = ();

    fn expecting(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("an object of strings")
    }

    fn visit_map<M: MapAccess<'de>>(self, mut map: M) -> Result<(), M::Error> {
        let mut tags = std::mem::take(self.0).into_tuple_vec();
        let mut count = 0;
        loop {
            if count == tags.len() {
                tags.push(Default::default());
            }
            let (name, value) = &mut tags[count];
            if map.next_key_seed(Text(name))?.is_none() {
                break;
            }
            map.next_value_seed(Text(value))?;
            count += 1;
        }
        tags.truncate(count);
        *self.0 = sorted_tags(tags);
        Ok(())
    }
}

pub(super) fn sorted_tags(tags: Vec<(String, String)>) -> Tags {
    if tags.is_sorted_by(|a, b| a.0 < b.0) {
        return Tags::from_sorted_store_unchecked(tags);
    }
    // Of a tag named twice the later value stands, as in every reader of JSON here.
    let mut sorted = Tags::new();
    for (name, value) in tags {
        sorted.insert(name, value);
    }
    sorted
}

impl Refill for Clip {
    const FIELDS: &'static [&'static str] =
        &["id", "text", "lang", "speaker", "tags", "audio", "ssml", "side", "terms", "words", "segments"];
    const NEEDED: u32 = 0b11;

    fn fill<'de, M: MapAccess<'de>>(&mut self, field: usize, map: &mut M) -> Result<(), M::Error> {
        match field {
            0 => map.next_value_seed(Text(&mut self.id))?,
            1 => map.next_value_seed(Text(&mut self.text))?,
            2 => map.next_value_seed(OptionalText(&mut self.lang))?,
            3 => map.next_value_seed(OptionalText(&mut self.speaker))?,
            4 => map.next_value_seed(TagsOf(&mut self.tags))?,
            5 => map.next_value_seed(OptionalText(&mut self.audio))?,
            6 => map.next_value_seed(OptionalText(&mut self.ssml))?,
            7 => self.side = map.next_value()?,
            8 => self.terms = map.next_value()?,
            9 => self.words = map.next_value()?,
            10 => self.segments = map.next_value()?,
            _ => drop(map.next_value::<IgnoredAny>()?),
        }
        Ok(())
    }

    fn text(&mut self, field: usize) -> Option<&mut String> {
        Some(match field {
            0 => &mut self.id,
            1 => &mut self.text,
            2 => self.lang.get_or_insert_default(),
            3 => self.speaker.get_or_insert_default(),
            5 => self.audio.get_or_insert_default(),
            6 => self.ssml.get_or_insert_default(),
            _ => return None,
        })
    }

    fn tags(&mut self, field: usize) -> Option<&mut Tags> {
        (field == 4).then_some(&mut self.tags)
    }

    fn empty(&mut self, field: usize) {
        match field {
            2 => self.lang = None,
            3 => self.speaker = None,
            4 => self.tags.clear(),
            5 => self.audio = None,
            6 => self.ssml = None,
            7 => self.side = None,
            8 => self.terms.clear(),
            9 => self.words.clear(),
            10 => self.segments.clear(),
            _ => {}
        }
    }
}

/// A result with the id of its clip.
#[derive(Debug, Default, PartialEq)]
pub(super) struct Answer {
    pub(super) id: String,
    pub(super) heard: Heard,
}

impl From<HeardRecord> for Answer {
    fn from(record: HeardRecord) -> Self {
        let (id, heard) = record.into_heard();
        Self { id, heard }
    }
}

impl Refill for Answer {
    const FIELDS: &'static [&'static str] =
        &["id", "text", "words", "alternatives", "segments", "lang", "confidence", "took_ms"];
    const NEEDED: u32 = 0b11;

    fn fill<'de, M: MapAccess<'de>>(&mut self, field: usize, map: &mut M) -> Result<(), M::Error> {
        let heard = &mut self.heard;
        match field {
            0 => map.next_value_seed(Text(&mut self.id))?,
            1 => map.next_value_seed(Text(&mut heard.text))?,
            2 => heard.words = map.next_value()?,
            3 => heard.alternatives = map.next_value()?,
            4 => heard.segments = map.next_value()?,
            5 => map.next_value_seed(OptionalText(&mut heard.lang))?,
            6 => heard.confidence = map.next_value()?,
            7 => heard.took_ms = map.next_value()?,
            _ => drop(map.next_value::<IgnoredAny>()?),
        }
        Ok(())
    }

    fn text(&mut self, field: usize) -> Option<&mut String> {
        Some(match field {
            0 => &mut self.id,
            1 => &mut self.heard.text,
            5 => self.heard.lang.get_or_insert_default(),
            _ => return None,
        })
    }

    fn tags(&mut self, _: usize) -> Option<&mut Tags> {
        None
    }

    fn empty(&mut self, field: usize) {
        let heard = &mut self.heard;
        match field {
            2 => heard.words.clear(),
            3 => heard.alternatives.clear(),
            4 => heard.segments.clear(),
            5 => heard.lang = None,
            6 => heard.confidence = None,
            7 => heard.took_ms = None,
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// Lines as people and programs write them, and such as are refused.
    const FIELDS: [&str; 27] = [
        r#""id":"clip\\7""#,
        r#""text": "Türen — schließen.""#,
        r#""tags": {"wind": "strong", "channel": "radio"}"#,
        r#""tags":{"wind":"\u0041"}"#,
        "\"lang\":\"e\tn\"",
        r#""id":"a""#,
        r#""id":"b\u00e9\n""#,
        r#""text":"Doors close.""#,
        r#""text":"""#,
        r#""text":7"#,
        r#""lang":"en""#,
        r#""lang":null"#,
        r#""speaker":"op-1""#,
        r#""tags":{"wind":"strong","channel":"radio"}"#,
        r#""tags":{"a":"1","b":"2","a":"3"}"#,
        r#""tags":{}"#,
        r#""tags":{"a":1}"#,
        r#""audio":"a.wav""#,
        r#""ssml":null"#,
        r#""side":"left""#,
        r#""terms":["pylon six"]"#,
        r#""words":[{"text":"doors","start":0.5,"end":0.75}]"#,
        r#""segments":[{"text":"doors","start":0.5,"end":0.75}]"#,
        r#""alternatives":[{"text":"doors","confidence":0.5}]"#,
        r#""confidence":0.25"#,
        r#""took_ms":12.5"#,
        r#""nonsense":1"#,
    ];

    proptest! {
        /// The slow twin is the reader that makes every record anew.
        #[test]
        fn a_record_read_into_anothers_room_is_the_one_read_anew(
            lines in prop::collection::vec(prop::sample::subsequence((0..FIELDS.len()).collect::<Vec<_>>(), 0..7), 1..12),
            with_text in any::<bool>(),
            ending in prop::sample::select(vec!["}", "", "} x", "}\n"]),
            comma in prop::sample::select(vec![",", ", ", " ,\t"]),
        ) {
            let (mut clip, mut answer) = (Room::<Clip>::default(), Room::<Answer>::default());
            for fields in lines {
                let mut fields: Vec<&str> = fields.into_iter().map(|at| FIELDS[at]).collect();
                if with_text {
                    fields.retain(|field| !field.contains("\"id\"") && !field.starts_with("\"text\""));
                    fields.extend([r#""id":"a""#, r#""text":"hold at pylon six""#]);
                }
                let line = format!("{{{}{ending}", fields.join(comma));
                let anew = serde_json::from_str::<Clip>(&line);
                let again = clip.refill(&line);
                prop_assert_eq!(again.is_ok(), anew.is_ok(), "{}", line);
                if let Ok(anew) = anew {
                    prop_assert_eq!(&clip.record, &anew);
                }
                let anew = serde_json::from_str::<HeardRecord>(&line);
                prop_assert_eq!(answer.refill(&line).is_ok(), anew.is_ok(), "{}", line);
                if let Ok(anew) = anew {
                    prop_assert_eq!(&answer.record, &Answer::from(anew));
                }
            }
        }
    }
}
