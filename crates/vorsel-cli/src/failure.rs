//! A call that was wrong, or a machine that did not do its part: exit status 2.

use std::error::Error;
use std::fmt;

use crate::paint;

/// What went wrong, with every cause.
pub(crate) struct Failure(Vec<String>);

impl Failure {
    /// What was wrong with the call, and what would be right.
    pub(crate) fn new(message: impl Into<String>) -> Self {
        Self(vec![message.into()])
    }

    /// Says what was being done when this happened.
    pub(crate) fn while_doing(mut self, what: impl Into<String>) -> Self {
        self.0.insert(0, what.into());
        self
    }
}

impl<E: Error + 'static> From<E> for Failure {
    fn from(error: E) -> Self {
        Self(vec![vorsel::with_causes(&error)])
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", paint::bad("error"), paint::printable(&self.0.join(": ")))
    }
}
