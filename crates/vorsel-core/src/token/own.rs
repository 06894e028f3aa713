//! The app's own claims as JSON, before they become the app's type.

use serde::de::value::MapDeserializer;
use serde::de::{Deserialize, Error as _, MapAccess};
use serde_json::Value;
use serde_json::value::RawValue;

use super::page::{Excerpt, Page};
use crate::encoding::json::{self, JsonError, Strict};

/// Claims that are not registered, in the order written: a short list, which for a handful of members is quicker to
/// fill and to search than a map.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct OwnClaims(Vec<(Excerpt, Value)>);

/// What does not fit the app's type, and where.
#[derive(Debug)]
pub(crate) struct Misfit {
    /// The path of the member, empty for the object itself.
    pub(crate) member: String,
    /// Expected and found, in the reader's words.
    pub(crate) problem: String,
}

/// Beyond this many, looking each name up among all the others would take longer than sorting them.
const FEW: usize = 16;

impl OwnClaims {
    pub(crate) const fn new() -> Self {
        Self(Vec::new())
    }

    /// Reads the value of the member of that name, by its text if so wished; whether names repeat is seen in
    /// [`finished`](Self::finished).
    pub(crate) fn read<'de, A: MapAccess<'de>>(
        &mut self,
        name: Excerpt,
        members: &mut A,
        by_text: bool,
    ) -> Result<(), A::Error> {
        let value = if by_text {
            json::exact(members.next_value::<&RawValue>()?.get()).map_err(A::Error::custom)?
        } else {
            members.next_value_seed(Strict)?
        };
        self.0.push((name, value));
        Ok(())
    }

    /// Whether no value hangs on what features of `serde_json` other crates have switched on.
    pub(crate) fn is_settled(&self) -> bool {
        self.0.iter().all(|(_, value)| json::is_settled(value))
    }

    /// Refuses a name that stands there twice.
    pub(crate) fn finished(&self, page: &Page) -> Result<(), JsonError> {
        let name = |index: usize| page.text(self.0[index].0);
        let repeated = if self.0.len() <= FEW {
            let is_same = |one: usize, other: usize| {
                let length = |index: usize| self.0[index].0.length();
                length(one) == length(other) && name(one) == name(other)
            };
            (1..self.0.len()).find(|index| (0..*index).any(|earlier| is_same(earlier, *index))).map(name)
        } else {
            let mut names: Vec<_> = (0..self.0.len()).map(name).collect();
            names.sort_unstable();
            names.windows(2).find(|pair| pair[0] == pair[1]).map(|pair| pair[0])
        };
        repeated.map_or(Ok(()), |name| Err(JsonError::twice(name)))
    }

    pub(crate) fn get(&self, page: &Page, name: &str) -> Option<&Value> {
        self.0.iter().find(|(known, _)| page.text(*known) == name).map(|(_, value)| value)
    }

    pub(crate) fn iter<'a>(&'a self, page: &'a Page) -> impl Iterator<Item = (&'a str, &'a Value)> {
        self.0.iter().map(|(name, value)| (page.text(*name), value))
    }

    /// Bytes of memory held, or a few more.
    pub(crate) fn memory(&self) -> usize {
        let values: usize = self.0.iter().map(|(_, value)| json::value_memory(value)).sum();
        self.0.capacity() * size_of::<(Excerpt, Value)>() + values
    }

    #[cfg(test)]
    pub(crate) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The claims as `T`; the error names the member, the wanted and the found type.
    pub(crate) fn fit<T: for<'de> Deserialize<'de>>(&self, page: &Page) -> Result<T, Misfit> {
        T::deserialize(self.reader(page)).map_err(|_| self.misfit::<T>(page))
    }

    fn reader<'a>(
        &'a self,
        page: &'a Page,
    ) -> MapDeserializer<'a, impl Iterator<Item = (&'a str, &'a Value)>, serde_json::Error> {
        MapDeserializer::new(self.iter(page))
    }

    #[cold]
    fn misfit<T: for<'de> Deserialize<'de>>(&self, page: &Page) -> Misfit {
        match serde_path_to_error::deserialize::<_, T>(self.reader(page)) {
            Ok(_) => Misfit { member: String::new(), problem: "a value that reads differently each time".to_owned() },
            Err(error) => {
                let member = error.path().to_string();
                Misfit {
                    member: if member == "." { String::new() } else { member },
                    problem: error.into_inner().to_string(),
                }
            }
        }
    }
}
