//! Scopes ([RFC 6749 section 3.3](https://www.rfc-editor.org/rfc/rfc6749#section-3.3)).

use std::borrow::Cow;
use std::fmt;
use std::str::FromStr;

use serde::de::Error;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::encoding::json::Names;
use crate::finding::quoted;

/// A set of scope values, in the order given, none twice: kept as the one text that tokens carry.
///
/// ```
/// use vorsel_core::Scopes;
///
/// let scopes = Scopes::parse("exposures:read dome:move")?;
/// assert!(Scopes::parse("dome:move")?.is_subset(&scopes));
/// # Ok::<(), vorsel_core::ScopeError>(())
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Scopes(String);

/// A text that is not a scope list.
///
/// ```
/// let error = vorsel_core::Scopes::parse("dome:move \"").unwrap_err();
/// assert_eq!(
///     error.to_string(),
///     "expected scopes of visible ASCII (no quote, no backslash) with one space between them, but found \
///      \"dome:move \\\"\"",
/// );
/// ```
#[derive(Clone, PartialEq, Eq, thiserror::Error)]
#[error("expected scopes of visible ASCII (no quote, no backslash) with one space between them, but found {found}")]
pub struct ScopeError {
    /// The text, escaped and shortened.
    pub found: String,
}

readable_debug!(ScopeError);

impl ScopeError {
    pub(crate) fn of(text: &str) -> Self {
        Self { found: quoted(text) }
    }
}

impl Scopes {
    /// How many scopes a list may have that somebody asks for.
    pub const MOST: usize = 256;

    /// Reads the space-separated list; the empty text is the empty set.
    ///
    /// # Errors
    /// If a value is empty or holds a character that RFC 6749 does not allow, or if there are more than [`MOST`](Self::MOST).
    pub fn parse(text: &str) -> Result<Self, ScopeError> {
        if text.is_empty() {
            return Ok(Self::default());
        }
        if !is_scope_list(text) {
            return Err(ScopeError::of(text));
        }
        let count = 1 + text.bytes().filter(|byte| *byte == b' ').count();
        if count > Self::MOST {
            return Err(ScopeError { found: format!("{count} of them, more than {}", Self::MOST) });
        }
        let (mut scopes, mut seen) = (String::with_capacity(text.len()), Names::default());
        for value in text.split(' ').filter(|value| seen.add(Cow::Borrowed(*value))) {
            if !scopes.is_empty() {
                scopes.push(' ');
            }
            scopes.push_str(value);
        }
        Ok(Self(scopes))
    }

    /// The set of these values.
    ///
    /// # Errors
    /// As [`parse`](Self::parse); a value with a space in it is two.
    pub fn of(values: impl IntoIterator<Item = impl AsRef<str>>) -> Result<Self, ScopeError> {
        let values: Vec<_> = values.into_iter().collect();
        Self::parse(&values.iter().map(AsRef::as_ref).collect::<Vec<_>>().join(" "))
    }

    /// Whether the set holds `scope`.
    #[must_use]
    pub fn contains(&self, scope: &str) -> bool {
        self.iter().any(|held| held == scope)
    }

    /// Whether every scope of this set is in `other` too.
    #[must_use]
    pub fn is_subset(&self, other: &Self) -> bool {
        let other = other.names();
        self.iter().all(|scope| other.contains(scope))
    }

    /// Those of this set that are in `ceiling` too, in the order of this set.
    #[must_use]
    pub fn within(&self, ceiling: &Self) -> Self {
        let ceiling = ceiling.names();
        Self(self.iter().filter(|scope| ceiling.contains(scope)).collect::<Vec<_>>().join(" "))
    }

    fn names(&self) -> Names<'_> {
        self.iter().map(Cow::Borrowed).collect()
    }

    /// Whether there are no scopes.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Each scope in turn.
    pub fn iter(&self) -> impl Iterator<Item = &str> {
        self.0.split(' ').filter(|scope| !scope.is_empty())
    }

    /// The list as tokens carry it.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

/// Whether `text` is a scope list; the empty text is one.
pub(crate) fn is_scope_list(text: &str) -> bool {
    // To look at every byte without deciding anything is quicker than to stop at the first wrong one.
    let (mut wrong, mut after) = (0, SPACE);
    for byte in text.bytes() {
        let kind = KINDS[usize::from(byte)];
        wrong |= kind & (NEITHER | after);
        after = kind;
    }
    wrong == 0 && (after != SPACE || text.is_empty())
}

/// What a byte is in a list of scopes: part of a scope is 0.
static KINDS: [u8; 256] = {
    let (mut kinds, mut byte) = ([0; 256], 0);
    while byte < kinds.len() {
        kinds[byte] = match byte as u8 {
            b' ' => SPACE,
            part if is_scope_byte(part) => 0,
            _ => NEITHER,
        };
        byte += 1;
    }
    kinds
};
const SPACE: u8 = 1;
const NEITHER: u8 = 2;

/// Whether `value` is one scope value.
pub(crate) fn is_scope(value: &str) -> bool {
    !value.is_empty() && value.bytes().all(is_scope_byte)
}

const fn is_scope_byte(byte: u8) -> bool {
    matches!(byte, 0x21 | 0x23..=0x5b | 0x5d..=0x7e)
}

impl fmt::Display for Scopes {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl FromStr for Scopes {
    type Err = ScopeError;

    fn from_str(text: &str) -> Result<Self, ScopeError> {
        Self::parse(text)
    }
}

impl Serialize for Scopes {
    /// As tokens carry them: one text with a space between them.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.0)
    }
}

impl<'de> Deserialize<'de> for Scopes {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Self::parse(&String::deserialize(deserializer)?).map_err(D::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_are_read_as_rfc_6749_writes_them() {
        for (text, read) in [
            ("", Some(vec![])),
            ("dome:move", Some(vec!["dome:move"])),
            ("a b a", Some(vec!["a", "b"])),
            ("a  b", None),
            (" a", None),
            ("a ", None),
            ("a\tb", None),
            ("a\"b", None),
            ("a\\b", None),
            ("é", None),
        ] {
            let scopes = Scopes::parse(text).ok();
            assert_eq!(scopes.as_ref().map(|scopes| scopes.iter().collect()), read, "{text:?}");
        }
    }

    /// Each character up to U+00FF alone, doubled, and on either side of others.
    #[test]
    fn every_character_is_what_rfc_6749_section_3_3_says() {
        let is_value = |value: &str| {
            !value.is_empty() && value.bytes().all(|byte| matches!(byte, 0x21 | 0x23..=0x5b | 0x5d..=0x7e))
        };
        for character in '\0'..='\u{ff}' {
            for around in ["", "a", " ", "a ", " a", "a b"] {
                for text in [
                    format!("{character}{around}"),
                    format!("{around}{character}"),
                    format!("a{around}{character}b"),
                    format!("{character}{around}{character}"),
                ] {
                    assert_eq!(is_scope_list(&text), text.split(' ').all(is_value), "{text:?}");
                }
            }
        }
    }
}
