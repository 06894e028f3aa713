//! Reading by the text, for numbers that other crates' features of `serde_json` would change.

use std::fmt;

use serde::de::{Deserializer, MapAccess, SeqAccess, Visitor};
use serde_json::map::Entry;
use serde_json::value::RawValue;
use serde_json::{Number, Value};

use super::error::twice;
use super::strict::{Object, ObjectVisitor, Unfinished, wipe};

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
pub(super) const DEEPEST: u8 = 127;

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
pub(super) struct ExactObject(pub(super) u8);

impl<'de> Visitor<'de> for ExactObject {
    type Value = Object;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        ObjectVisitor.expecting(f)
    }

    fn visit_map<A: MapAccess<'de>>(self, mut members: A) -> Result<Object, A::Error> {
        let mut object = Unfinished(Object::new());
        while let Some((name, value)) = members.next_entry::<String, &RawValue>()? {
            match object.0.entry(name) {
                Entry::Occupied(there) => return Err(twice(there.key())),
                Entry::Vacant(free) => {
                    free.insert(exact_within(value.get(), self.0).map_err(serde::de::Error::custom)?);
                }
            }
        }
        Ok(object.finish())
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
        loop {
            let next = items.next_element::<&RawValue>();
            let next = next.and_then(|item| {
                item.map(|item| exact_within(item.get(), self.0)).transpose().map_err(serde::de::Error::custom)
            });
            match next {
                Ok(Some(item)) => array.push(item),
                Ok(None) => return Ok(array),
                Err(error) => {
                    array.iter_mut().for_each(wipe);
                    return Err(error);
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::object;
    use super::*;

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
}
