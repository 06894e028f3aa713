//! The app's own claims as JSON, before they become the app's type.

use compact_str::CompactString;
use serde::de::value::MapDeserializer;
use serde::de::{Deserialize, MapAccess};
use serde_json::Value;

use crate::json::{self, Strict};

/// Claims that are not registered, in the order written: a short list, which for a handful of members is quicker to
/// fill and to search than a map.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct OwnClaims(Vec<(CompactString, Value)>);

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

    /// Reads the value of the member `name`; whether names repeat is seen in [`finished`](Self::finished).
    pub(crate) fn read<'de, A: MapAccess<'de>>(&mut self, name: &str, members: &mut A) -> Result<(), A::Error> {
        let value = members.next_value_seed(Strict)?;
        self.0.push((CompactString::from(name), value));
        Ok(())
    }

    /// Refuses a name that stands there twice.
    pub(crate) fn finished<E: serde::de::Error>(&self) -> Result<(), E> {
        let repeated = if self.0.len() <= FEW {
            let earlier = |index: usize| self.0[..index].iter();
            self.0
                .iter()
                .enumerate()
                .find(|(index, (name, _))| earlier(*index).any(|(other, _)| other == name))
                .map(|(_, (name, _))| name)
        } else {
            let mut names: Vec<_> = self.0.iter().map(|(name, _)| name).collect();
            names.sort_unstable();
            names.windows(2).find(|pair| pair[0] == pair[1]).map(|pair| pair[0])
        };
        repeated.map_or(Ok(()), |name| Err(json::twice(name)))
    }

    pub(crate) fn get(&self, name: &str) -> Option<&Value> {
        self.0.iter().find(|(known, _)| known == name).map(|(_, value)| value)
    }

    #[cfg(test)]
    pub(crate) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The claims as `T`; the error names the member, the wanted and the found type.
    pub(crate) fn fit<T: for<'de> Deserialize<'de>>(&self) -> Result<T, Misfit> {
        T::deserialize(self.reader()).map_err(|_| self.misfit::<T>())
    }

    fn reader(&self) -> MapDeserializer<'_, impl Iterator<Item = (&str, &Value)>, serde_json::Error> {
        MapDeserializer::new(self.0.iter().map(|(name, value)| (name.as_str(), value)))
    }

    #[cold]
    fn misfit<T: for<'de> Deserialize<'de>>(&self) -> Misfit {
        match serde_path_to_error::deserialize::<_, T>(self.reader()) {
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
