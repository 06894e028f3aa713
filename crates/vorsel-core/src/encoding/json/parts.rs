//! What readers of one kind of object put together: names, texts, and values that are looked at and left.

use std::borrow::Cow;
use std::cell::Cell;
use std::collections::HashSet;
use std::fmt;

use serde::de::{DeserializeSeed, Deserializer, MapAccess, SeqAccess, Visitor};

use super::error::twice;

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

impl<'de> DeserializeSeed<'de> for Text {
    type Value = Cow<'de, str>;

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<Cow<'de, str>, D::Error> {
        reader.deserialize_str(self)
    }
}

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
        while let Some(name) = members.next_key_seed(Text("a name"))? {
            if names.contains(&name) {
                return Err(twice(&name));
            }
            members.next_value_seed(Skip(self.0))?;
            names.add(name);
        }
        Ok(())
    }
}
