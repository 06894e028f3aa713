//! A text that is not a rule.

use std::convert::Infallible;
use std::ops::Range;

/// A text that is not a rule, with the bytes that are wrong.
///
/// ```
/// let error = vorsel_core::rule::Rule::parse("role observer andd scope dome:move").unwrap_err();
/// assert_eq!(error.span, 14..18);
/// assert_eq!(error.to_string(), "expected \"and\", \"or\" or the end of the rule, but found \"andd\"");
/// ```
#[derive(Clone, PartialEq, Eq, thiserror::Error)]
#[error("expected {expected}, but found {found}")]
pub struct RuleError {
    /// The bytes of the text that are wrong.
    pub span: Range<usize>,
    /// What would be right there.
    pub expected: String,
    /// What is there.
    pub found: String,
}

readable_debug!(RuleError);

impl RuleError {
    pub(super) fn new(span: Range<usize>, expected: impl Into<String>, found: impl Into<String>) -> Self {
        Self { span, expected: expected.into(), found: found.into() }
    }
}

impl From<Infallible> for RuleError {
    fn from(never: Infallible) -> Self {
        match never {}
    }
}
