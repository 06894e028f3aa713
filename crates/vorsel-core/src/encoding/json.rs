//! Strict JSON objects: one value, nothing behind it, no member twice at any level.
//!
//! Two readers of one token must not see two different claims, so the freedom that
//! [RFC 8259 section 4](https://www.rfc-editor.org/rfc/rfc8259#section-4) leaves with repeated names is closed, as
//! [RFC 7515 section 4](https://www.rfc-editor.org/rfc/rfc7515#section-4) allows. Nesting is bounded by the parser at
//! 128 levels, so no input can exhaust the stack.

use std::borrow::Cow;
use std::cell::Cell;
use std::collections::HashSet;
use std::fmt;

use serde::de::{DeserializeSeed, Deserializer, MapAccess, SeqAccess, Visitor};
use serde_json::map::Entry;
use serde_json::value::RawValue;
use serde_json::{Map, Number, Value};
use zeroize::Zeroize;

/// A JSON object, no member twice. The members are in the order written if the app has switched on `preserve_order` of
/// `serde_json`, otherwise in the order of their names.
pub type Object = Map<String, Value>;

/// Why a text is not a strict JSON object.
#[derive(Debug, thiserror::Error)]
#[error("expected one JSON object, but found {0}")]
pub struct JsonError(#[from] serde_json::Error);

/// Reads one strict object that fills `bytes`, its numbers by their text.
pub(crate) fn object(bytes: &[u8]) -> Result<Object, JsonError> {
    let text = std::str::from_utf8(bytes).map_err(JsonError::custom)?;
    let mut reader = serde_json::Deserializer::from_str(text);
    let object = Unfinished(reader.deserialize_map(ObjectVisitor)?);
    reader.end()?;
    if object.0.values().all(is_settled) { Ok(object.finish()) } else { read_str(text, ExactObject(DEEPEST)) }
}

/// An object whose text may still turn out to be none. It may be a key, so nothing of it is left in memory then.
struct Unfinished(Object);

impl Unfinished {
    fn finish(mut self) -> Object {
        std::mem::take(&mut self.0)
    }
}

impl Drop for Unfinished {
    fn drop(&mut self) {
        self.0.values_mut().for_each(wipe);
    }
}

fn wipe(value: &mut Value) {
    match value {
        Value::String(text) => text.zeroize(),
        Value::Array(items) => items.iter_mut().for_each(wipe),
        Value::Object(members) => members.values_mut().for_each(wipe),
        Value::Null | Value::Bool(_) | Value::Number(_) => {}
    }
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
    /// What was found instead, where the sentence around it says what was expected.
    pub(crate) fn found(&self) -> String {
        self.0.to_string()
    }

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
    let shown: String = name.chars().take(80).collect();
    E::custom(format_args!("member {shown:?} twice"))
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

/// Whether a value is the same whatever features of `serde_json` some other crate has switched on: a fraction may be off in
/// its last digit without `float_roundtrip`, and `arbitrary_precision` shows it as an object with one odd member.
pub(crate) fn is_settled(value: &Value) -> bool {
    match value {
        Value::Number(number) => number.is_i64() || number.is_u64(),
        Value::Array(items) => items.iter().all(is_settled),
        Value::Object(members) => members.iter().all(|(name, value)| name != NUMBER && is_settled(value)),
        Value::Null | Value::Bool(_) | Value::String(_) => true,
    }
}

/// The member under which `serde_json` shows a number that it did not read.
const NUMBER: &str = "$serde_json::private::Number";

/// How many levels may lie inside each other, as many as `serde_json` takes.
const DEEPEST: u8 = 127;

/// A value from its text. Each level is gone through once more for every level around it, so this is not for what strangers
/// send.
pub(crate) fn exact(text: &str) -> Result<Value, serde_json::Error> {
    exact_within(text, DEEPEST)
}

/// [`exact`] of a text in which at most `levels` lie inside each other.
fn exact_within(text: &str, levels: u8) -> Result<Value, serde_json::Error> {
    let inside = || levels.checked_sub(1).ok_or_else(|| serde::de::Error::custom("values nested too deep"));
    let mut reader = serde_json::Deserializer::from_str(text);
    match text.as_bytes().first() {
        Some(b'{') => reader.deserialize_map(ExactObject(inside()?)).map(Value::Object),
        Some(b'[') => reader.deserialize_seq(ExactArray(inside()?)).map(Value::Array),
        Some(b'-' | b'0'..=b'9') => {
            number(text).map(Value::Number).ok_or_else(|| serde::de::Error::custom("a number out of range"))
        }
        _ => serde_json::from_str(text),
    }
}

/// A number from its text, which is one in JSON: whole if it is written so and has no more than 64 bits, otherwise the
/// nearest double. Nothing comes back for one beyond all doubles.
pub(crate) fn number(text: &str) -> Option<Number> {
    let whole = text.parse::<i64>().map(Number::from).or_else(|_| text.parse::<u64>().map(Number::from));
    whole.ok().or_else(|| text.parse().ok().and_then(Number::from_f64))
}

/// Whether a text is a number as [RFC 8259 section 6](https://www.rfc-editor.org/rfc/rfc8259#section-6) writes it.
pub(crate) fn is_number(text: &str) -> bool {
    let is_raw = |value: &RawValue| value.get().len() == text.len();
    text.starts_with(|first: char| first == '-' || first.is_ascii_digit())
        && serde_json::from_str::<&RawValue>(text).is_ok_and(is_raw)
}

/// Reads an object by its text, within so many levels.
struct ExactObject(u8);

impl<'de> Visitor<'de> for ExactObject {
    type Value = Object;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        ObjectVisitor.expecting(f)
    }

    fn visit_map<A: MapAccess<'de>>(self, mut members: A) -> Result<Object, A::Error> {
        let mut object = Object::new();
        while let Some((name, value)) = members.next_entry::<String, &RawValue>()? {
            match object.entry(name) {
                Entry::Occupied(there) => return Err(twice(there.key())),
                Entry::Vacant(free) => {
                    free.insert(exact_within(value.get(), self.0).map_err(serde::de::Error::custom)?);
                }
            }
        }
        Ok(object)
    }
}

struct ExactArray(u8);

impl<'de> Visitor<'de> for ExactArray {
    type Value = Vec<Value>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an array")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<Vec<Value>, A::Error> {
        let mut array = Vec::new();
        while let Some(item) = items.next_element::<&RawValue>()? {
            array.push(exact_within(item.get(), self.0).map_err(serde::de::Error::custom)?);
        }
        Ok(array)
    }
}

/// Names of which none may come twice. Up to a handful are held against each other, which is quicker than hashing; beyond
/// that the work must not grow with the square of what a stranger sends.
#[derive(Debug, Default)]
pub(crate) struct Names<'t> {
    few: Vec<Cow<'t, str>>,
    many: HashSet<Cow<'t, str>>,
}

impl<'t> Names<'t> {
    const FEW: usize = 16;

    /// Takes a name up; says whether it is a new one.
    pub(crate) fn add(&mut self, name: Cow<'t, str>) -> bool {
        if self.contains(&name) {
            return false;
        }
        if self.few.len() < Self::FEW {
            self.few.push(name);
        } else {
            self.many.insert(name);
        }
        true
    }

    pub(crate) fn contains(&self, name: &str) -> bool {
        self.few.iter().any(|known| known == name) || self.many.contains(name)
    }
}

impl<'t> FromIterator<Cow<'t, str>> for Names<'t> {
    fn from_iter<I: IntoIterator<Item = Cow<'t, str>>>(names: I) -> Self {
        let mut all = Self::default();
        names.into_iter().for_each(|name| {
            all.add(name);
        });
        all
    }
}

/// Looks at a value with the same strictness as [`Strict`] and keeps nothing of it. Each value costs one of those that there
/// may still be, so that a stranger cannot make a small text dear.
pub(crate) struct Skip<'c>(pub(crate) &'c Cell<u32>);

impl<'de> DeserializeSeed<'de> for Skip<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<(), D::Error> {
        let left = self.0.get().checked_sub(1);
        self.0.set(left.ok_or_else(|| serde::de::Error::custom("more values than a header has"))?);
        reader.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Skip<'_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a JSON value")
    }

    fn visit_unit<E>(self) -> Result<(), E> {
        Ok(())
    }

    fn visit_bool<E>(self, _: bool) -> Result<(), E> {
        Ok(())
    }

    fn visit_i64<E>(self, _: i64) -> Result<(), E> {
        Ok(())
    }

    fn visit_u64<E>(self, _: u64) -> Result<(), E> {
        Ok(())
    }

    fn visit_f64<E>(self, _: f64) -> Result<(), E> {
        Ok(())
    }

    fn visit_str<E>(self, _: &str) -> Result<(), E> {
        Ok(())
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<(), A::Error> {
        while items.next_element_seed(Skip(self.0))?.is_some() {}
        Ok(())
    }

    fn visit_map<A: MapAccess<'de>>(self, mut members: A) -> Result<(), A::Error> {
        let mut names = Names::default();
        while let Some(name) = members.next_key_seed(Typed(Text("a name")))? {
            if names.contains(&name) {
                return Err(twice(&name));
            }
            members.next_value_seed(Skip(self.0))?;
            names.add(name);
        }
        Ok(())
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
        let mut object = Unfinished(Object::new());
        while let Some(name) = members.next_key::<String>()? {
            match object.0.entry(name) {
                Entry::Occupied(there) => return Err(twice(there.key())),
                Entry::Vacant(free) => {
                    free.insert(members.next_value_seed(Strict)?);
                }
            }
        }
        Ok(object.finish())
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
        loop {
            match items.next_element_seed(Strict) {
                Ok(Some(item)) => array.push(item),
                Ok(None) => return Ok(Value::Array(array)),
                Err(error) => {
                    array.iter_mut().for_each(wipe);
                    return Err(error);
                }
            }
        }
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

    /// With any features of `serde_json`; CI switches them on one by one.
    #[test]
    fn numbers_are_read_by_their_text() {
        for (text, expected) in [
            ("1.5", Some(Number::from_f64(1.5))),
            ("-0", Some(Some(Number::from(0)))),
            ("1e2", Some(Number::from_f64(100.0))),
            ("18446744073709551615", Some(Some(Number::from(u64::MAX)))),
            ("-9223372036854775808", Some(Some(Number::from(i64::MIN)))),
            ("18446744073709551616", Some(Number::from_f64(18_446_744_073_709_551_616.0))),
            // One of those that a hasty reader gets wrong in the last digit.
            ("1.4411900990461195", Some(Number::from_f64(1.441_190_099_046_119_5))),
            ("8.098080850108013e-10", Some(Number::from_f64(8.098_080_850_108_013e-10))),
            ("1e999", None),
        ] {
            for (text, way) in
                [(format!("{{\"a\":{text}}}"), vec!["a"]), (format!("{{\"a\":[{{\"b\":{text}}}]}}"), vec!["a", "b"])]
            {
                let read = object(text.as_bytes()).ok().map(|object| {
                    let value = object["a"].as_array().map_or(&object["a"], |items| &items[0][way[1]]);
                    assert!(value.is_number(), "{text}: {value}");
                    value.as_number().cloned()
                });
                assert_eq!(read, expected, "{text}");
            }
        }
        let odd = object(br#"{"a":{"$serde_json::private::Number":"1.5"},"b":0.5}"#).expect("an object");
        assert!(odd["a"].is_object() && odd["b"].as_f64() == Some(0.5), "{odd:?}");
        assert!(["1", "-1.5e3", "0"].into_iter().all(is_number));
        assert!(!["", "-", "1 ", "01", "1.", "\"1\"", "one", "1,2"].into_iter().any(is_number));
    }

    #[test]
    fn depth_is_bounded_and_twenty_levels_are_fine() {
        let nested = |depth: usize| format!("{{\"a\":{}{}}}", "[".repeat(depth), "]".repeat(depth));
        assert!(object(nested(20).as_bytes()).is_ok());
        assert!(object(nested(100).as_bytes()).is_ok());
        assert!(object(nested(100_000).as_bytes()).is_err());
    }
}
