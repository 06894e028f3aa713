//! Secrets of clients: random, given out once, kept as a hash only.

use std::fmt;
use std::str::FromStr;

use aws_lc_rs::constant_time;
use aws_lc_rs::digest::{SHA256, digest};
use vorsel_core::{Secret, base64url};

use crate::random::{RandomError, random_bytes};

/// A client's secret: 256 random bits. Show it to its owner once and keep its [`hash`](Self::hash).
///
/// ```
/// use vorsel::ClientSecret;
///
/// let secret = ClientSecret::generate()?; // shown once, to whoever runs the client
/// let kept = secret.hash();
/// assert!(!format!("{secret:?}").contains(secret.reveal()));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub struct ClientSecret {
    /// Its text, which is forgotten when it is dropped.
    text: Secret,
}

impl ClientSecret {
    /// A new secret.
    ///
    /// # Errors
    /// If the operating system gives no randomness.
    pub fn generate() -> Result<Self, RandomError> {
        let mut bytes = zeroize::Zeroizing::new([0; 32]);
        random_bytes(&mut *bytes)?;
        Ok(Self { text: Secret::new(base64url::encode(*bytes).into_bytes()) })
    }

    /// The secret itself, for its owner.
    #[must_use]
    pub fn reveal(&self) -> &str {
        std::str::from_utf8(self.text.reveal()).unwrap_or_default()
    }

    /// What is kept of it.
    #[must_use]
    pub fn hash(&self) -> ClientSecretHash {
        ClientSecretHash::of(self.reveal())
    }
}

impl fmt::Debug for ClientSecret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("ClientSecret(..)")
    }
}

/// The SHA-256 hash of a client's secret. A copy of it is no secret, and no slow hash is needed for what is random. It is written
/// `sha256:` and base64url.
///
/// ```
/// use vorsel::{Client, ClientSecret, ClientSecretHash};
///
/// let secret = ClientSecret::generate()?;
/// let hash: ClientSecretHash = secret.hash().to_string().parse()?; // as a file keeps it
/// let archive = Client::with_secret("archive", hash);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Copy)]
pub struct ClientSecretHash([u8; 32]);

/// A text that is not the hash of a client's secret.
///
/// ```
/// let error = "short".parse::<vorsel::ClientSecretHash>().unwrap_err();
/// assert_eq!(
///     error.to_string(),
///     "expected \"sha256:\" and 43 characters of base64url, as `vorsel keys client-secret` prints it, but \
///      found 5 bytes",
/// );
/// ```
#[derive(Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "expected \"sha256:\" and 43 characters of base64url, as `vorsel keys client-secret` prints it, but found {found} bytes"
)]
pub struct ClientSecretHashError {
    /// How long the text was.
    pub found: usize,
}

vorsel_core::readable_debug!(ClientSecretHashError);

const PREFIX: &str = "sha256:";

impl ClientSecretHash {
    /// The hash of a secret as a client has sent it.
    #[must_use]
    pub fn of(secret: &str) -> Self {
        let mut bytes = [0; 32];
        bytes.copy_from_slice(digest(&SHA256, secret.as_bytes()).as_ref());
        Self(bytes)
    }

    /// Whether it is the same, in a time that does not depend on where they differ.
    #[must_use]
    pub fn agrees_with(&self, other: &Self) -> bool {
        constant_time::verify_slices_are_equal(&self.0, &other.0).is_ok()
    }
}

impl fmt::Display for ClientSecretHash {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{PREFIX}{}", base64url::encode(self.0))
    }
}

impl fmt::Debug for ClientSecretHash {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("ClientSecretHash(..)")
    }
}

impl FromStr for ClientSecretHash {
    type Err = ClientSecretHashError;

    fn from_str(text: &str) -> Result<Self, ClientSecretHashError> {
        let bytes = text.strip_prefix(PREFIX).and_then(|rest| base64url::decode(rest).ok());
        let bytes = bytes.and_then(|bytes| <[u8; 32]>::try_from(bytes).ok());
        bytes.map(Self).ok_or(ClientSecretHashError { found: text.len() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_hash_survives_its_text_and_agrees_with_its_secret_alone() {
        let [one, other] = [(); 2].map(|()| ClientSecret::generate().expect("randomness"));
        let read: ClientSecretHash = one.hash().to_string().parse().expect("a hash");
        assert!(read.agrees_with(&ClientSecretHash::of(one.reveal())) && !read.agrees_with(&other.hash()));
        for text in ["", "sha256:", "sha256:AAAA", &one.hash().to_string()[1..], &format!("{}A", one.hash())] {
            assert_eq!(text.parse::<ClientSecretHash>().expect_err(text).found, text.len());
        }
        assert_eq!(one.reveal().len(), 43);
    }
}
