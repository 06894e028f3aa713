//! Mistakes in a plan: all of them at once, each with its place and with what would be right.

use std::fmt;
use std::ops::Range;
use std::sync::Arc;

/// Everything that is wrong with a plan.
///
/// ```
/// use vorsel_core::AccessPlan;
///
/// let error = AccessPlan::builder().role("observer", &[]).need("GET", "/dome", "role obsever").build().unwrap_err();
/// assert_eq!(error.mistakes().len(), 1);
/// assert!(error.to_string().contains("did you mean \"observer\"?"), "{error}");
/// ```
#[derive(Clone, PartialEq, Eq)]
pub struct PlanError {
    pub(super) mistakes: Vec<Mistake>,
}

readable_debug!(PlanError);

/// One mistake.
///
/// ```
/// # use vorsel_core::AccessPlan;
/// let error = AccessPlan::read("[[route]]\nmethod = \"GET\"\n", "access.toml").unwrap_err();
/// let mistake = &error.mistakes()[0];
/// assert_eq!(mistake.file.as_deref(), Some("access.toml"));
/// assert_eq!(
///     mistake.message,
///     "unknown member \"route\"; did you mean \"routes\"?; a plan has scopes, predicates, subjects, \
///      [roles], [policies] and [[routes]]",
/// );
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Mistake {
    /// The file, for a plan read from text: the name that it was read under.
    pub file: Option<Arc<str>>,
    /// Where it is, for a plan read from text.
    pub place: Option<Place>,
    /// What is wrong and what would be right.
    pub message: String,
}

/// A place in a text, both counted from 1, the column in characters.
///
/// ```
/// # use vorsel_core::{AccessPlan, Place};
/// let error = AccessPlan::read("\nroutes = 7\n", "access.toml").unwrap_err();
/// assert_eq!(error.mistakes()[0].place, Some(Place { line: 2, column: 1 }));
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Place {
    /// The line.
    pub line: usize,
    /// The column.
    pub column: usize,
}

impl PlanError {
    /// Each mistake, in the order of the text.
    #[must_use]
    pub fn mistakes(&self) -> &[Mistake] {
        &self.mistakes
    }
}

impl Place {
    const START: Self = Self { line: 1, column: 1 };

    const fn after(self, character: char) -> Self {
        if character == '\n' {
            Self { line: self.line + 1, column: 1 }
        } else {
            Self { line: self.line, column: self.column + 1 }
        }
    }
}

/// The places of a text, some of them known beforehand, so that a thousand mistakes are not each counted from its beginning.
#[derive(Clone, Debug)]
pub(super) struct Places(Vec<(usize, Place)>);

impl Places {
    pub(super) fn of(text: &str) -> Self {
        const APART: usize = 256;
        let (mut known, mut place) = (vec![(0, Place::START)], Place::START);
        for (at, character) in text.char_indices() {
            if at >= known.len() * APART {
                known.push((at, place));
            }
            place = place.after(character);
        }
        Self(known)
    }

    pub(super) fn place(&self, text: &str, at: usize) -> Place {
        let at = if text.is_char_boundary(at) { at } else { text.len() };
        let known = self.0.partition_point(|(known, _)| *known <= at);
        let (start, place) = self.0[known.saturating_sub(1)];
        text[start..at].chars().fold(place, Place::after)
    }
}

/// The bytes of the plan's text that something was read from; nothing for what was written in Rust.
pub(super) type Span = Option<Range<usize>>;

impl fmt::Display for Mistake {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(place) = self.place {
            write!(f, "{}:{}: ", place.line, place.column)?;
        }
        f.write_str(&self.message)
    }
}

impl fmt::Display for PlanError {
    /// One line for each mistake: `file:line:column: message`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, mistake) in self.mistakes.iter().enumerate() {
            f.write_str(if index == 0 { "" } else { "\n" })?;
            if let Some(file) = &mistake.file {
                write!(f, "{file}:")?;
            }
            write!(f, "{mistake}")?;
        }
        Ok(())
    }
}

impl std::error::Error for PlanError {}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_count_from_one_in_characters() {
        let text = "ab\né[x";
        for (at, line, column) in [(0, 1, 1), (2, 1, 3), (3, 2, 1), (5, 2, 2), (99, 2, 4)] {
            assert_eq!(Places::of(text).place(text, at), Place { line, column }, "{at}");
        }
        let long = "é\n12345678".repeat(200);
        let places = Places::of(&long);
        for (at, _) in long.char_indices() {
            let before = long[..at].rsplit('\n').next().expect("a line");
            let counted = Place { line: long[..at].matches('\n').count() + 1, column: before.chars().count() + 1 };
            assert_eq!(places.place(&long, at), counted, "{at}");
        }
    }
}
