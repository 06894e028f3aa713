//! Ids and secrets from the operating system's randomness.

use aws_lc_rs::rand::fill;
use vorsel_core::{SESSION_SECRET_BYTES, SessionSeed, base64url};
use zeroize::Zeroizing;

/// The operating system gave no randomness.
///
/// ```
/// fn session_id() -> Result<String, vorsel::RandomError> {
///     vorsel::random_id()
/// }
/// ```
#[derive(Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the operating system gave no randomness")]
pub struct RandomError;

vorsel_core::readable_debug!(RandomError);

/// A new id of 128 random bits, for a JWT ID or a session ID.
///
/// # Errors
/// If the operating system gives no randomness.
pub fn random_id() -> Result<String, RandomError> {
    let mut bytes = [0; 16];
    fill(&mut bytes).map_err(|_| RandomError)?;
    Ok(base64url::encode(bytes))
}

pub(crate) fn random_bytes(bytes: &mut [u8]) -> Result<(), RandomError> {
    fill(bytes).map_err(|_| RandomError)
}

/// What a session begins with.
pub(crate) fn session_seed() -> Result<SessionSeed, RandomError> {
    let mut secret = Zeroizing::new([0; SESSION_SECRET_BYTES]);
    fill(&mut *secret).map_err(|_| RandomError)?;
    Ok(SessionSeed::new(random_id()?, *secret))
}
