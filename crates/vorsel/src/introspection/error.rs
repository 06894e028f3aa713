//! What can be wrong with the set-up.

use std::error::Error;

/// Why nobody can be asked.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum IntrospectionError {
    /// It can't work like this.
    #[error("expected {expected}, but found {found}")]
    SetUp {
        /// What would be right.
        expected: &'static str,
        /// What was there.
        found: String,
    },
    /// No client could be set up.
    #[error("nothing can be asked here")]
    Client(#[from] Box<dyn Error + Send + Sync>),
}
