//! Checking tokens in a running service: with keys that may change, and quickly for a token that was seen before.

mod former;
mod one;
mod seen;
mod several;
mod source;

pub use former::FormerTokens;
pub use one::{Checker, IntoChecker};
pub(crate) use several::{Checkers, Found, NotChecked};
pub(crate) use source::{Asked, Looking, NoAnswer};
#[cfg(feature = "remote")]
pub(crate) use source::{Asks, KeySource};
