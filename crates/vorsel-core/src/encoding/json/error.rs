//! Why a text is not read.

use std::fmt;

/// Why a text is not a strict JSON object.
///
/// ```
/// use vorsel_core::{KeySet, KeySetError};
///
/// let Err(KeySetError::Json(error)) = KeySet::read("{") else { panic!("no JSON") };
/// assert_eq!(error.to_string(), "expected one JSON object, but found EOF while parsing an object at line 1 column 1");
/// ```
#[derive(thiserror::Error)]
#[error("expected one JSON object, but found {0}")]
pub struct JsonError(#[from] serde_json::Error);

readable_debug!(JsonError);

impl JsonError {
    /// What was found instead, where the sentence around it says what was expected.
    pub(crate) fn found(&self) -> String {
        self.0.to_string()
    }

    pub(super) fn custom(error: impl fmt::Display) -> Self {
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
