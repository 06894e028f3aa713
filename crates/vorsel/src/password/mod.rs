//! Hashes of passwords: making them, and checking many without running out of memory.

mod check;

use argon2::{Argon2, PasswordHasher};
use aws_lc_rs::rand::fill;

use crate::random::RandomError;
pub use check::{PasswordCheckError, PasswordLimits, PasswordVerdict, Passwords};

/// Why a password has no hash.
///
/// ```
/// let error = vorsel::hash_password("").unwrap_err();
/// assert_eq!(error.to_string(), "expected a password of 1 to 1024 bytes, but found 0");
/// ```
#[derive(thiserror::Error)]
#[non_exhaustive]
pub enum PasswordHashError {
    /// It is empty, or longer than anybody types.
    #[error("expected a password of 1 to {} bytes, but found {found}", LONGEST)]
    Length {
        /// How many bytes it has.
        found: usize,
    },
    /// The operating system gave no randomness.
    #[error(transparent)]
    Random(#[from] RandomError),
    /// There is no memory for it.
    #[error("the password cannot be hashed: {0}")]
    Hash(String),
}

vorsel_core::readable_debug!(PasswordHashError);

const LONGEST: usize = 1_024;

/// Hashes a password for keeping: Argon2id ([RFC 9106](https://www.rfc-editor.org/rfc/rfc9106)) with 19 MiB, two passes, one lane
/// and a salt of its own, as a PHC string. It takes some ten milliseconds of a processor, so not on an async runtime's threads.
///
/// ```
/// let hash = vorsel::hash_password("a dome in the rain")?;
/// assert!(hash.starts_with("$argon2id$v=19$m=19456,t=2,p=1$"));
/// # Ok::<(), vorsel::PasswordHashError>(())
/// ```
///
/// # Errors
/// If the password is empty or longer than 1,024 bytes, or the operating system gives no randomness.
pub fn hash_password(password: &str) -> Result<String, PasswordHashError> {
    if password.is_empty() || password.len() > LONGEST {
        return Err(PasswordHashError::Length { found: password.len() });
    }
    let mut salt = [0; 16];
    fill(&mut salt).map_err(|_| RandomError)?;
    let hash = Argon2::default().hash_password_with_salt(password.as_bytes(), &salt);
    hash.map(|hash| hash.to_string()).map_err(|error| PasswordHashError::Hash(error.to_string()))
}
