//! Checking tokens in a running service: with keys that may change, and quickly for a token that was seen before.

mod one;
mod seen;
mod several;
mod source;

pub use one::{Checker, IntoChecker};
pub(crate) use several::{Checkers, NotChecked};
#[cfg(feature = "remote")]
pub(crate) use source::KeySource;
pub(crate) use source::Looking;
