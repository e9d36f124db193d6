//! JSON from engines: bounded in what it becomes, not only in its bytes. `{"":0},` is seven bytes, and half a kilobyte once read.

use std::cell::Cell;
use std::fmt;

use serde::de::{DeserializeSeed, Deserializer, MapAccess, SeqAccess, Visitor};
use serde_json::{Map, Number, Value};

/// What a value may weigh: bytes of memory, roughly. Words with their times for more than ten hours fit.
const MOST: usize = 96 << 20;
/// Of an object, which has room for some fields as soon as it has one.
const OBJECT: usize = 640;
/// Of any value.
const NODE: usize = 48;

/// Why a text could not be read, in words.
#[derive(Debug)]
pub(crate) struct Unread(String);

impl fmt::Display for Unread {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// Reads one value, whose depth and memory are bounded.
pub(crate) fn parse(text: &str) -> Result<Value, Unread> {
    let left = Cell::new(MOST);
    let mut reader = serde_json::Deserializer::from_str(text);
    let value = Weighed(&left).deserialize(&mut reader).and_then(|value| reader.end().map(|()| value));
    value.map_err(|error| Unread(error.to_string()))
}

/// Reads one value from bytes.
pub(crate) fn parse_bytes(bytes: &[u8]) -> Result<Value, Unread> {
    let text = std::str::from_utf8(bytes).map_err(|error| Unread(format!("not UTF-8: {error}")))?;
    parse(text)
}

/// Counts down what is left.
#[derive(Clone, Copy)]
struct Weighed<'l>(&'l Cell<usize>);

impl Weighed<'_> {
    fn take<E: serde::de::Error>(self, weight: usize) -> Result<(), E> {
        let left = self.0.get().checked_sub(weight);
        self.0.set(left.ok_or_else(|| E::custom(format!("it becomes more than {} MiB once read", MOST >> 20)))?);
        Ok(())
    }
}

impl<'de> DeserializeSeed<'de> for Weighed<'_> {
    type Value = Value;

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<Value, D::Error> {
        reader.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Weighed<'_> {
    type Value = Value;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a JSON value")
    }

    fn visit_unit<E>(self) -> Result<Value, E> {
        Ok(Value::Null)
    }

    fn visit_bool<E>(self, value: bool) -> Result<Value, E> {
        Ok(Value::Bool(value))
    }

    fn visit_i64<E>(self, value: i64) -> Result<Value, E> {
        Ok(Value::Number(value.into()))
    }

    fn visit_u64<E>(self, value: u64) -> Result<Value, E> {
        Ok(Value::Number(value.into()))
    }

    fn visit_f64<E>(self, value: f64) -> Result<Value, E> {
        Ok(Number::from_f64(value).map_or(Value::Null, Value::Number))
    }

    fn visit_str<E: serde::de::Error>(self, value: &str) -> Result<Value, E> {
        self.take(value.len())?;
        Ok(Value::String(value.to_owned()))
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<Value, A::Error> {
        let mut all = Vec::new();
        while let Some(item) = items.next_element_seed(self)? {
            self.take(NODE)?;
            all.push(item);
        }
        Ok(Value::Array(all))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut fields: A) -> Result<Value, A::Error> {
        self.take(OBJECT)?;
        let mut all = Map::new();
        while let Some(key) = fields.next_key::<String>()? {
            self.take(NODE + key.len())?;
            let value = fields.next_value_seed(self)?;
            all.insert(key, value);
        }
        Ok(Value::Object(all))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_becomes_too_much_is_refused_before_it_does() {
        for one in [r#"{"":0}"#, "[]", "0", r#"["",{}]"#] {
            let text = format!("[{}{one}]", format!("{one},").repeat(4_000_000));
            assert!(parse(&text).unwrap_err().to_string().contains("96 MiB"), "{one}");
        }
        assert!(parse(&"[".repeat(10_000)).unwrap_err().to_string().contains("recursion"));
        // Ten hours of words with their times.
        let word = r#"{"w":"station","from":12.25,"to":12.75,"conf":0.93}"#;
        assert_eq!(parse(&format!("[{}{word}]", format!("{word},").repeat(90_000))).unwrap()[89_999]["to"], 12.75);
    }

    proptest::proptest! {
        /// What is small is read as by any reader.
        #[test]
        fn small_values_are_what_they_are(text in r#"(\{"a":[0-9]{1,3},"b":\[(true|null|"x"|-1.5)\]\}|\[[0-9]{1,5}\]|"[a-z]{0,5}"|tru|\{)"#) {
            let ours = parse(&text).ok();
            proptest::prop_assert_eq!(ours, serde_json::from_str::<Value>(&text).ok());
        }
    }
}
