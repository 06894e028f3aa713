//! Strict JSON objects: one value, nothing behind it, no member twice at any level.
//!
//! Two readers of one token must not see two different claims, so the freedom that
//! [RFC 8259 section 4](https://www.rfc-editor.org/rfc/rfc8259#section-4) leaves with repeated names is closed, as
//! [RFC 7515 section 4](https://www.rfc-editor.org/rfc/rfc7515#section-4) allows. Nesting is bounded by the parser at
//! 128 levels, so no input can exhaust the stack.

mod error;
mod exact;
mod members;
mod parts;
mod strict;

use serde::de::{Deserializer, Visitor};
use serde_json::Value;

pub use error::JsonError;
pub(crate) use error::twice;
use exact::{DEEPEST, ExactObject};
pub(crate) use exact::{exact, is_number, is_settled, number};
pub(crate) use members::Members;
pub(crate) use parts::{Names, Skip, Text, Typed};
pub use strict::Object;
use strict::Unfinished;
pub(crate) use strict::{ObjectVisitor, Strict};

/// Reads one strict object that fills `bytes`, its numbers by their text.
pub(crate) fn object(bytes: &[u8]) -> Result<Object, JsonError> {
    let text = std::str::from_utf8(bytes).map_err(JsonError::custom)?;
    let mut reader = serde_json::Deserializer::from_str(text);
    let object = Unfinished(reader.deserialize_map(ObjectVisitor)?);
    reader.end()?;
    if object.0.values().all(is_settled) { Ok(object.finish()) } else { read_str(text, ExactObject(DEEPEST)) }
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
