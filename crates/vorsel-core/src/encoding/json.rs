//! Strict JSON objects: one value, nothing behind it, no member twice at any level.
//!
//! Two readers of one token must not see two different claims, so the freedom that
//! [RFC 8259 section 4](https://www.rfc-editor.org/rfc/rfc8259#section-4) leaves with repeated names is closed, as
//! [RFC 7515 section 4](https://www.rfc-editor.org/rfc/rfc7515#section-4) allows. Nesting is bounded by the parser at
//! 128 levels, so no input can exhaust the stack.

use std::borrow::Cow;
use std::fmt;

use serde::de::{DeserializeSeed, Deserializer, MapAccess, SeqAccess, Visitor};
use serde_json::map::Entry;
use serde_json::{Map, Number, Value};

/// A JSON object as it was written: members in order, none twice.
pub type Object = Map<String, Value>;

/// Why a text is not a strict JSON object.
#[derive(Debug, thiserror::Error)]
#[error("expected one JSON object, but found {0}")]
pub struct JsonError(#[from] serde_json::Error);

/// Reads one strict object that fills `bytes`.
pub(crate) fn object(bytes: &[u8]) -> Result<Object, JsonError> {
    read(bytes, ObjectVisitor)
}

/// Reads one object that fills `bytes` with a visitor of the caller's, who takes care of repeated members.
pub(crate) fn read<'b, V: Visitor<'b>>(bytes: &'b [u8], visitor: V) -> Result<V::Value, JsonError> {
    read_str(std::str::from_utf8(bytes).map_err(JsonError::custom)?, visitor)
}

/// One look over the whole text is faster than the parser's at each string, and sees what is between them too.
pub(crate) fn utf8(bytes: Vec<u8>) -> Result<String, JsonError> {
    String::from_utf8(bytes).map_err(|error| JsonError::custom(error.utf8_error()))
}

/// [`read`] for a text.
pub(crate) fn read_str<'b, V: Visitor<'b>>(text: &'b str, visitor: V) -> Result<V::Value, JsonError> {
    let mut reader = serde_json::Deserializer::from_str(text);
    let value = reader.deserialize_map(visitor)?;
    reader.end()?;
    Ok(value)
}

impl JsonError {
    fn custom(error: impl fmt::Display) -> Self {
        Self(serde::de::Error::custom(error))
    }

    pub(crate) fn twice(name: &str) -> Self {
        Self(twice(name))
    }
}

/// The error for a member that stands there twice.
#[cold]
pub(crate) fn twice<E: serde::de::Error>(name: &str) -> E {
    E::custom(format_args!("member {name:?} twice"))
}

/// A visitor that is shown any value, so that a wrong type is named and not only its first character.
pub(crate) struct Typed<V>(pub(crate) V);

impl<'de, V: Visitor<'de>> DeserializeSeed<'de> for Typed<V> {
    type Value = V::Value;

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<V::Value, D::Error> {
        reader.deserialize_any(self.0)
    }
}

/// A string, borrowed from the input where it stands there without escapes. Holds what it is for.
pub(crate) struct Text(pub(crate) &'static str);

impl<'de> Visitor<'de> for Text {
    type Value = Cow<'de, str>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.0)
    }

    fn visit_borrowed_str<E>(self, text: &'de str) -> Result<Cow<'de, str>, E> {
        Ok(Cow::Borrowed(text))
    }

    fn visit_str<E>(self, text: &str) -> Result<Cow<'de, str>, E> {
        Ok(Cow::Owned(text.to_owned()))
    }
}

/// The JSON name of a value's type, for findings.
pub(crate) fn type_name(value: &Value) -> &'static str {
    match value {
        Value::Null => "null",
        Value::Bool(_) => "a boolean",
        Value::Number(_) => "a number",
        Value::String(_) => "a string",
        Value::Array(_) => "an array",
        Value::Object(_) => "an object",
    }
}

/// Bytes of memory that a value holds besides its own size, or a few more.
pub(crate) fn value_memory(value: &Value) -> usize {
    match value {
        Value::Null | Value::Bool(_) | Value::Number(_) => 0,
        Value::String(text) => text.capacity(),
        Value::Array(items) => items.capacity() * size_of::<Value>() + items.iter().map(value_memory).sum::<usize>(),
        Value::Object(object) => memory(object),
    }
}

/// [`value_memory`] of an object. A map keeps each member with its hash, and its place in a table of its own; it has room
/// for up to twice as many as there are, and for three at least.
pub(crate) fn memory(object: &Object) -> usize {
    const MEMBER: usize = size_of::<(String, Value)>() + size_of::<u64>();
    const PLACE: usize = 2 * (size_of::<usize>() + 1);
    if object.is_empty() {
        return 0;
    }
    let texts = object.iter().map(|(name, value)| name.capacity() + value_memory(value));
    (2 * object.len() + 3) * (MEMBER + PLACE) + texts.sum::<usize>()
}

/// Reads a strict object as a member's value.
pub(crate) struct ObjectVisitor;

impl<'de> Visitor<'de> for ObjectVisitor {
    type Value = Object;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an object")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut members: A) -> Result<Object, A::Error> {
        let mut object = Object::new();
        while let Some(name) = members.next_key::<String>()? {
            match object.entry(name) {
                Entry::Occupied(there) => return Err(twice(there.key())),
                Entry::Vacant(free) => {
                    free.insert(members.next_value_seed(Strict)?);
                }
            }
        }
        Ok(object)
    }
}

/// Reads any value with the same strictness.
pub(crate) struct Strict;

impl<'de> DeserializeSeed<'de> for Strict {
    type Value = Value;

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<Value, D::Error> {
        reader.deserialize_any(ValueVisitor)
    }
}

struct ValueVisitor;

impl<'de> Visitor<'de> for ValueVisitor {
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

    fn visit_str<E>(self, value: &str) -> Result<Value, E> {
        Ok(Value::String(value.to_owned()))
    }

    fn visit_string<E>(self, value: String) -> Result<Value, E> {
        Ok(Value::String(value))
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<Value, A::Error> {
        let mut array = Vec::new();
        while let Some(item) = items.next_element_seed(Strict)? {
            array.push(item);
        }
        Ok(Value::Array(array))
    }

    fn visit_map<A: MapAccess<'de>>(self, members: A) -> Result<Value, A::Error> {
        ObjectVisitor.visit_map(members).map(Value::Object)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_one_object_without_repeats_is_read() {
        for (text, fine) in [
            (r#"{}"#, true),
            (r#" {"a":1} "#, true),
            (r#"{"a":1,"a":1}"#, false),
            (r#"{"a":1,"\u0061":2}"#, false),
            (r#"{"a":{"b":1,"b":2}}"#, false),
            (r#"{"a":[{"b":1,"b":2}]}"#, false),
            (r#"{"a":{"b":1},"b":2}"#, true),
            (r#"{"a":1}{"#, false),
            (r#"{"a":1} x"#, false),
            (r#"{"a":1,}"#, false),
            (r#"{"a":1e999}"#, false),
            (r#"{"a":NaN}"#, false),
            (r#"{"a":01}"#, false),
            (r#"{"a":"\ud800"}"#, false),
            (r#"{'a':1}"#, false),
            (r#"{/**/}"#, false),
            ("\u{feff}{}", false),
            (r#"[]"#, false),
            (r#"null"#, false),
            (r#""#, false),
        ] {
            assert_eq!(object(text.as_bytes()).is_ok(), fine, "{text}");
        }
        assert!(object(b"{\"a\":\"\xff\"}").is_err(), "not UTF-8");
    }

    #[test]
    fn depth_is_bounded_and_twenty_levels_are_fine() {
        let nested = |depth: usize| format!("{{\"a\":{}{}}}", "[".repeat(depth), "]".repeat(depth));
        assert!(object(nested(20).as_bytes()).is_ok());
        assert!(object(nested(100).as_bytes()).is_ok());
        assert!(object(nested(100_000).as_bytes()).is_err());
    }
}
