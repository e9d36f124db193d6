//! A value of a column, the same for either database.

use std::borrow::Cow;

/// A value of a column.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Value<'a> {
    Null,
    Integer(i64),
    Real(f64),
    Text(Cow<'a, str>),
    Bytes(Cow<'a, [u8]>),
}

impl Value<'_> {
    pub(crate) fn into_owned(self) -> Value<'static> {
        match self {
            Self::Null => Value::Null,
            Self::Integer(number) => Value::Integer(number),
            Self::Real(number) => Value::Real(number),
            Self::Text(text) => Value::Text(Cow::Owned(text.into_owned())),
            Self::Bytes(bytes) => Value::Bytes(Cow::Owned(bytes.into_owned())),
        }
    }
}

/// The values of a statement, in the order of its places.
macro_rules! values {
    ($($value:expr),* $(,)?) => { &[$($crate::database::Value::from($value)),*] };
}
pub(crate) use values;

macro_rules! from_number {
    ($($number:ty => $kind:ident as $wide:ty),*) => {
        $(impl From<$number> for Value<'_> {
            fn from(number: $number) -> Self {
                Self::$kind(number as $wide)
            }
        })*
    };
}

from_number!(i64 => Integer as i64, u64 => Integer as i64, u32 => Integer as i64, usize => Integer as i64,
             bool => Integer as i64, f64 => Real as f64);

impl<'a> From<&'a str> for Value<'a> {
    fn from(text: &'a str) -> Self {
        Self::Text(Cow::Borrowed(text))
    }
}

impl<'a> From<&'a String> for Value<'a> {
    fn from(text: &'a String) -> Self {
        Self::Text(Cow::Borrowed(text))
    }
}

impl From<String> for Value<'_> {
    fn from(text: String) -> Self {
        Self::Text(Cow::Owned(text))
    }
}

impl<'a> From<&'a [u8]> for Value<'a> {
    fn from(bytes: &'a [u8]) -> Self {
        Self::Bytes(Cow::Borrowed(bytes))
    }
}

impl<'a, T: Into<Value<'a>>> From<Option<T>> for Value<'a> {
    fn from(value: Option<T>) -> Self {
        value.map_or(Self::Null, Into::into)
    }
}

/// What a value can be read as.
pub(crate) trait FromValue<'a>: Sized {
    /// What was expected, where it is something else.
    const NAME: &'static str;

    fn from_value(value: Value<'a>) -> Option<Self>;
}

macro_rules! read_as {
    ($($kind:ty, $name:literal, $pattern:pat => $read:expr);* $(;)?) => {
        $(impl<'a> FromValue<'a> for $kind {
            const NAME: &'static str = $name;

            fn from_value(value: Value<'a>) -> Option<Self> {
                match value {
                    $pattern => $read,
                    _ => None,
                }
            }
        })*
    };
}

read_as! {
    i64, "a whole number", Value::Integer(number) => Some(number);
    u64, "a whole number", Value::Integer(number) => u64::try_from(number).ok();
    u32, "a whole number", Value::Integer(number) => u32::try_from(number).ok();
    usize, "a whole number", Value::Integer(number) => usize::try_from(number).ok();
    bool, "0 or 1", Value::Integer(number) => (0..=1).contains(&number).then_some(number == 1);
    Cow<'a, str>, "text", Value::Text(text) => Some(text);
    String, "text", Value::Text(text) => Some(text.into_owned());
    Vec<u8>, "bytes", Value::Bytes(bytes) => Some(bytes.into_owned());
}

impl FromValue<'_> for f64 {
    const NAME: &'static str = "a number";

    fn from_value(value: Value<'_>) -> Option<Self> {
        match value {
            Value::Real(number) => Some(number),
            Value::Integer(number) => Some(number as Self),
            _ => None,
        }
    }
}

impl<'a, T: FromValue<'a>> FromValue<'a> for Option<T> {
    const NAME: &'static str = T::NAME;

    fn from_value(value: Value<'a>) -> Option<Self> {
        if value == Value::Null { Some(None) } else { T::from_value(value).map(Some) }
    }
}
