//! Checking a token: the one place where claims become believed.

mod audit;
mod expectations;
mod introspected;
mod verifier;
mod vouched;

pub use expectations::{Expectations, SkewError};
pub use introspected::IntrospectedError;
pub use verifier::{Findings, Proven, Verifier};
pub use vouched::{VouchError, Vouched};
