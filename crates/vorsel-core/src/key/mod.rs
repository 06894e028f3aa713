//! Keys: each bound to one algorithm when it is made, weak ones refused, secrets never shown.

mod algorithm;
mod error;
mod jwk;
mod pem;
mod secret;
mod set;
mod signing;
mod suite;
mod thumbprint;
mod verifying;

pub use algorithm::{Algorithm, AlgorithmError};
pub use error::KeyError;
pub use secret::Secret;
pub use set::{KeySet, KeySetError, SkippedKey};
pub use signing::SigningKey;
pub use verifying::VerifyingKey;

pub(crate) use set::CandidateError;
pub(crate) use signing::Signature;
