//! Reading that takes no member twice, at any level, and leaves nothing of a broken text in memory.

use std::fmt;

use serde::de::{DeserializeSeed, Deserializer, MapAccess, SeqAccess, Visitor};
use serde_json::map::Entry;
use serde_json::{Map, Number, Value};
use zeroize::Zeroize;

use super::error::twice;

/// A JSON object, no member twice. The members are in the order written if the app has switched on `preserve_order` of
/// `serde_json`, otherwise in the order of their names.
pub type Object = Map<String, Value>;

/// An object whose text may still turn out to be none. It may be a key, so nothing of it is left in memory then.
pub(super) struct Unfinished(pub(super) Object);

impl Unfinished {
    pub(super) fn finish(mut self) -> Object {
        std::mem::take(&mut self.0)
    }
}

impl Drop for Unfinished {
    fn drop(&mut self) {
        self.0.values_mut().for_each(wipe);
    }
}

pub(super) fn wipe(value: &mut Value) {
    match value {
        Value::String(text) => text.zeroize(),
        Value::Array(items) => items.iter_mut().for_each(wipe),
        Value::Object(members) => members.values_mut().for_each(wipe),
        Value::Null | Value::Bool(_) | Value::Number(_) => {}
    }
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
