//! Why a key is refused.

use std::borrow::Borrow;

use super::algorithm::Algorithm;
use crate::encoding::json::JsonError;

/// Why a key is refused when it is made or read. No variant holds key material.
///
/// ```
/// use vorsel_core::{Algorithm, KeyError, Secret, SigningKey};
///
/// let short = SigningKey::hmac(Algorithm::Hs256, Secret::new(b"too short".to_vec()));
/// assert!(matches!(short, Err(KeyError::TooShort { expected: 32, found: 9, .. })));
/// ```
#[derive(thiserror::Error)]
#[non_exhaustive]
pub enum KeyError {
    /// A secret shorter than the hash ([RFC 7518 section 3.2](https://www.rfc-editor.org/rfc/rfc7518#section-3.2)).
    #[error("expected a secret of at least {expected} bytes for {algorithm}, but found {found}")]
    TooShort {
        /// The algorithm the secret was meant for.
        algorithm: Algorithm,
        /// The fewest bytes it needs.
        expected: usize,
        /// The bytes it had.
        found: usize,
    },
    /// An RSA modulus that is too small to be safe, or too large to be worth the work.
    #[error("expected an RSA key of 2048 to 8192 bits, but found {found}")]
    RsaSize {
        /// The bits its modulus had.
        found: usize,
    },
    /// A secret that repeats a few bytes and can be guessed whatever its length.
    #[error("expected a random secret, but found one with only {distinct} different bytes")]
    Guessable {
        /// How many different byte values it had.
        distinct: usize,
    },
    /// The key is of a type, curve, use or algorithm that is not supported here.
    #[error("expected {expected}, but found {found}")]
    Unsupported {
        /// What would be right.
        expected: &'static str,
        /// What was there, shortened.
        found: String,
    },
    /// A member of the JWK is missing or malformed.
    #[error("expected {expected} in the JWK member {member:?}, but found {found}")]
    Member {
        /// The member.
        member: &'static str,
        /// What would be right.
        expected: String,
        /// What was there; never the value of a secret member.
        found: String,
    },
    /// The text is not a strict JSON object.
    #[error("the JWK cannot be read")]
    Json(#[from] JsonError),
    /// The text is not PEM with a key this build reads.
    #[error("expected a PEM block {expected}, but found {found}")]
    Pem {
        /// The labels that would be right.
        expected: &'static str,
        /// The labels found, or what is wrong with the text.
        found: String,
    },
    /// The primitive refused the key: a point off its curve, parts that do not belong together.
    #[error("expected a valid {algorithm} key, but the numbers in it do not form one")]
    Invalid {
        /// The algorithm the key was read for.
        algorithm: Algorithm,
    },
    /// The operating system gave no randomness, or the primitive failed inside.
    #[error("the cryptographic primitive failed")]
    Primitive,
}

readable_debug!(KeyError);

/// What the primitive says when it fails inside, without its type among ours.
pub(super) trait OrPrimitive<T> {
    fn or_primitive(self) -> Result<T, KeyError>;
}

impl<T, E: Borrow<aws_lc_rs::error::Unspecified>> OrPrimitive<T> for Result<T, E> {
    fn or_primitive(self) -> Result<T, KeyError> {
        self.map_err(|_| KeyError::Primitive)
    }
}
