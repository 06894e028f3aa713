//! What can be wrong with the set-up.

use std::error::Error;

/// Why nobody can be asked.
///
/// ```
/// use vorsel::Introspection;
///
/// let builder = Introspection::builder("https://id.harbour.test", "http://id.harbour.test/introspect", "https://api.skarnhill.test");
/// let error = builder.secret("skarn-hill", "the client's secret").build().unwrap_err();
/// assert_eq!(
///     error.to_string(),
///     "expected an https address, or one on this machine, but found \"http://id.harbour.test/introspect\"",
/// );
/// ```
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
