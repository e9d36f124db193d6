//! JSON from engines: only what is looked at is kept, and that is bounded in what it becomes, not only in its bytes. `{"":0},` is seven
//! bytes, and half a kilobyte once read.

use std::cell::Cell;
use std::fmt;

use serde::de::{DeserializeSeed, Deserializer, IgnoredAny, MapAccess, SeqAccess, Visitor};
use serde_json::{Map, Number, Value};

use crate::mapping::Wanted;

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

/// Reads the parts of a value that are wanted, whose depth and memory are bounded. Elements of a list before one that is wanted
/// become null, so that it keeps its place.
pub(crate) fn parse(text: &str, wanted: &Wanted) -> Result<Value, Unread> {
    let left = Cell::new(MOST);
    let mut reader = serde_json::Deserializer::from_str(text);
    let part = Part { wanted, left: &left };
    let value = part.deserialize(&mut reader).and_then(|value| reader.end().map(|()| value));
    value.map_err(|error| Unread(error.to_string()))
}

/// Reads the parts of a value that are wanted from bytes.
pub(crate) fn parse_bytes(bytes: &[u8], wanted: &Wanted) -> Result<Value, Unread> {
    let text = std::str::from_utf8(bytes).map_err(|error| Unread(format!("not UTF-8: {error}")))?;
    parse(text, wanted)
}

/// Reads what is wanted of a value, and counts down what memory is left.
#[derive(Clone, Copy)]
struct Part<'l> {
    wanted: &'l Wanted,
    left: &'l Cell<usize>,
}

impl Part<'_> {
    fn take<E: serde::de::Error>(self, weight: usize) -> Result<(), E> {
        let left = self.left.get().checked_sub(weight);
        self.left.set(left.ok_or_else(|| E::custom(format!("it takes more than {} MiB of memory", MOST >> 20)))?);
        Ok(())
    }
}

impl<'de> DeserializeSeed<'de> for Part<'_> {
    type Value = Value;

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<Value, D::Error> {
        reader.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Part<'_> {
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
        while all.len() < self.wanted.elements() {
            let item = match self.wanted.element(all.len()) {
                Some(wanted) => items.next_element_seed(Self { wanted, ..self })?,
                None => items.next_element::<IgnoredAny>()?.map(|_| Value::Null),
            };
            let Some(item) = item else { return Ok(Value::Array(all)) };
            self.take(NODE)?;
            all.push(item);
        }
        while items.next_element::<IgnoredAny>()?.is_some() {}
        Ok(Value::Array(all))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut fields: A) -> Result<Value, A::Error> {
        self.take(OBJECT)?;
        let mut all = Map::new();
        while let Some(key) = fields.next_key::<String>()? {
            let Some(wanted) = self.wanted.part(&key) else {
                fields.next_value::<IgnoredAny>()?;
                continue;
            };
            self.take(NODE + key.len())?;
            all.insert(key, fields.next_value_seed(Self { wanted, ..self })?);
        }
        Ok(Value::Object(all))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::mapping::Address;

    fn all(text: &str) -> Result<Value, Unread> {
        parse(text, &Wanted::everything())
    }

    #[test]
    fn what_becomes_too_much_is_refused_before_it_does_and_passed_over_where_nobody_looks() {
        let at = Wanted::of(&[address("/text")]);
        for one in [r#"{"":0}"#, "[]", "0", r#"["",{}]"#] {
            let text =
                format!(r#"{{"much":[{}{one}],"text":"hold","more":[{{}}]}}"#, format!("{one},").repeat(4_000_000));
            assert!(all(&text).unwrap_err().to_string().contains("96 MiB"), "{one}");
            assert_eq!(parse(&text, &at).unwrap(), serde_json::json!({"text": "hold"}));
        }
        assert!(all(&"[".repeat(10_000)).unwrap_err().to_string().contains("recursion"));
        let deep = format!(r#"{{"deep":{}{},"text":"hold"}}"#, "[".repeat(100_000), "]".repeat(100_000));
        assert_eq!(parse(&deep, &at).unwrap()["text"], "hold");
        // What is passed over must be JSON all the same.
        assert!(parse(r#"{"much":[1,,2],"text":"hold"}"#, &at).is_err());
        // Ten hours of words with their times.
        let word = r#"{"w":"station","from":12.25,"to":12.75,"conf":0.93}"#;
        assert_eq!(all(&format!("[{}{word}]", format!("{word},").repeat(90_000))).unwrap()[89_999]["to"], 12.75);
    }

    fn address(text: &str) -> Address {
        serde_json::from_value(Value::String(text.to_owned())).unwrap()
    }

    /// Any value of some depth, with few names, so that addresses meet some.
    fn value() -> impl Strategy<Value = Value> {
        let leaf = prop_oneof![
            Just(Value::Null),
            any::<bool>().prop_map(Value::from),
            "[a-c ]{0,3}".prop_map(Value::from),
            any::<i32>().prop_map(Value::from)
        ];
        leaf.prop_recursive(4, 40, 4, |inner| {
            prop_oneof![
                prop::collection::vec(inner.clone(), 0..4).prop_map(Value::from),
                prop::collection::hash_map("[a-c]|a b|0|~|a/b", inner, 0..4)
                    .prop_map(|map| Value::Object(map.into_iter().collect())),
            ]
        })
    }

    /// Addresses of all kinds.
    fn addresses() -> impl Strategy<Value = Vec<Address>> {
        let pointer = "(/([a-c]|a b|[0-3]|~0|a~1b)){0,4}";
        let path = r"\$((\.|\.\.)[a-c]|\['(a b|a)'\]|\[[0-3]\]|\[\*\]|\.\*|\[-1\]|\[0:2\]|\[\?@\.a\]|\[\?@\.a==\$\.b\]|\['a','b'\]){0,4}";
        prop::collection::vec(prop_oneof![pointer, path].prop_map(|text| address(&text)), 1..4)
    }

    proptest! {
        /// Every address finds in the part what it finds in the whole.
        #[test]
        fn a_part_has_all_that_its_addresses_find(value in value(), addresses in addresses()) {
            let part = parse(&value.to_string(), &Wanted::of(&addresses)).unwrap();
            for address in &addresses {
                prop_assert_eq!(address.all(&part), address.all(&value), "{} of {}", address, part);
            }
        }

        /// Names are looked up as a JSON Pointer says.
        #[test]
        fn pointers_lead_where_the_standard_says(value in value(), pointer in "(/([a-c]|a b|[0-3]|~0|a~1b|01|-|)){0,4}") {
            let found: Vec<&Value> = value.pointer(&pointer).into_iter().collect();
            prop_assert_eq!(address(&pointer).all(&value), found);
        }

        /// What is small is read as by any reader.
        #[test]
        fn small_values_are_what_they_are(text in r#"(\{"a":[0-9]{1,3},"b":\[(true|null|"x"|-1.5)\]\}|\[[0-9]{1,5}\]|"[a-z]{0,5}"|tru|\{)"#) {
            prop_assert_eq!(all(&text).ok(), serde_json::from_str::<Value>(&text).ok());
        }
    }
}
