//! API keys: random, given out once, kept as a hash only.

use std::error::Error;
use std::fmt;
use std::str::FromStr;

use async_trait::async_trait;
use aws_lc_rs::digest::{SHA256, digest};
use aws_lc_rs::rand::fill;
use serde::Serialize;
use vorsel_core::{Checked, Secret, VouchError, Vouched, base64url};

use crate::admission::Grant;
use crate::random::RandomError;

/// An API key: 256 random bits. Show it to its owner once and keep its [`hash`](Self::hash).
///
/// ```
/// use vorsel::{ApiKey, ApiKeyHash};
///
/// let key = ApiKey::generate()?;
/// assert_eq!(ApiKeyHash::of(key.reveal()), key.hash());
/// # Ok::<(), vorsel::RandomError>(())
/// ```
pub struct ApiKey {
    /// Its text, which is forgotten when it is dropped.
    text: Secret,
}

impl ApiKey {
    /// A new key.
    ///
    /// # Errors
    /// If the operating system gives no randomness.
    pub fn generate() -> Result<Self, RandomError> {
        let mut bytes = zeroize::Zeroizing::new([0; 32]);
        fill(&mut *bytes).map_err(|_| RandomError)?;
        Ok(Self { text: Secret::new(base64url::encode(*bytes).into_bytes()) })
    }

    /// The key itself, for its owner.
    #[must_use]
    pub fn reveal(&self) -> &str {
        std::str::from_utf8(self.text.reveal()).unwrap_or_default()
    }

    /// What the app keeps of it.
    #[must_use]
    pub fn hash(&self) -> ApiKeyHash {
        ApiKeyHash::of(self.reveal())
    }
}

impl fmt::Debug for ApiKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("ApiKey(..)")
    }
}

/// The SHA-256 hash of an API key. A copy of it is no key. No salt and no slow hash is needed for what is random: there
/// is nothing to guess. Do not keep keys that people thought up this way.
///
/// ```
/// use vorsel::{ApiKey, ApiKeyHash};
///
/// let key = ApiKey::generate()?;
/// assert_eq!(ApiKeyHash::of(key.reveal()), key.hash());
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ApiKeyHash([u8; 32]);

/// A text that is not the hash of an API key.
///
/// ```
/// let error = "short".parse::<vorsel::ApiKeyHash>().unwrap_err();
/// assert_eq!(error.to_string(), "expected 64 hexadecimal digits, but found 5 bytes of another kind");
/// ```
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("expected 64 hexadecimal digits, but found {found} bytes of another kind")]
pub struct ApiKeyHashError {
    /// How long the text was.
    pub found: usize,
}

impl ApiKeyHash {
    /// The hash of a key as a client has sent it.
    #[must_use]
    pub fn of(key: &str) -> Self {
        let mut bytes = [0; 32];
        bytes.copy_from_slice(digest(&SHA256, key.as_bytes()).as_ref());
        Self(bytes)
    }
}

impl fmt::Display for ApiKeyHash {
    /// 64 hexadecimal digits.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

impl FromStr for ApiKeyHash {
    type Err = ApiKeyHashError;

    fn from_str(text: &str) -> Result<Self, ApiKeyHashError> {
        let wrong = || ApiKeyHashError { found: text.len() };
        if text.len() != 64 || !text.bytes().all(|byte| byte.is_ascii_hexdigit()) {
            return Err(wrong());
        }
        let mut bytes = [0; 32];
        for (byte, at) in bytes.iter_mut().zip((0..64).step_by(2)) {
            *byte = u8::from_str_radix(&text[at..at + 2], 16).map_err(|_| wrong())?;
        }
        Ok(Self(bytes))
    }
}

/// Who owns an API key, and what it is good for.
///
/// ```
/// use vorsel::{ApiKeyOwner, Grant, NoOwn, Scopes};
///
/// let grant = Grant { roles: vec!["instrument".to_owned()], scopes: Scopes::default(), own: NoOwn {} };
/// let owner = ApiKeyOwner::client("dome-controller", grant);
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct ApiKeyOwner<C> {
    who: Who,
    grant: Grant<C>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Who {
    Subject(String),
    Client(String),
}

impl<C> ApiKeyOwner<C> {
    /// A subject: one of the app's own people, `sub` in rules. Beside a token, the key has to be of the token's own subject.
    pub fn subject(subject: impl Into<String>, grant: Grant<C>) -> Self {
        Self { who: Who::Subject(subject.into()), grant }
    }

    /// A client: a program that calls for itself, or for the person whose token comes along; `client` in rules. What the key is
    /// granted counts where it comes alone.
    pub fn client(client_id: impl Into<String>, grant: Grant<C>) -> Self {
        Self { who: Who::Client(client_id.into()), grant }
    }
}

impl<C: Serialize> ApiKeyOwner<C> {
    pub(super) fn vouched(self) -> Result<Checked<C>, VouchError> {
        let Grant { roles, scopes, own } = self.grant;
        let vouched = match self.who {
            Who::Subject(subject) => Vouched::subject(subject),
            Who::Client(client_id) => Vouched::client(client_id),
        };
        vouched.roles(roles).scopes(scopes).own(own).checked()
    }
}

/// The app's look-up of API keys by their hash. Every request with a key asks it, so a key that is taken out of it is
/// refused from then on.
///
/// ```
/// use std::collections::HashMap;
/// use std::error::Error;
///
/// use async_trait::async_trait;
/// use vorsel::{ApiKeyHash, ApiKeyOwner, ApiKeys, Grant, NoOwn, Scopes};
///
/// /// Which instrument has the key of which hash; in an app a table of its database.
/// struct Instruments(HashMap<ApiKeyHash, String>);
///
/// #[async_trait]
/// impl ApiKeys<NoOwn> for Instruments {
///     async fn owner(&self, hash: &ApiKeyHash) -> Result<Option<ApiKeyOwner<NoOwn>>, Box<dyn Error + Send + Sync>> {
///         let Some(subject) = self.0.get(hash) else { return Ok(None) };
///         let grant = Grant { roles: vec!["instrument".to_owned()], scopes: Scopes::default(), own: NoOwn {} };
///         Ok(Some(ApiKeyOwner::subject(subject, grant)))
///     }
/// }
/// ```
#[diagnostic::on_unimplemented(
    message = "`{Self}` looks no API keys up for own claims of type `{C}`",
    note = "implement ApiKeys for it: given the hash of a key it says who owns it"
)]
#[async_trait]
pub trait ApiKeys<C>: Send + Sync {
    /// Who owns the key of this hash; nothing if nobody does.
    ///
    /// # Errors
    /// If it cannot be told now; the client is answered 503.
    async fn owner(&self, hash: &ApiKeyHash) -> Result<Option<ApiKeyOwner<C>>, Box<dyn Error + Send + Sync>>;
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_differ_are_not_shown_and_are_kept_as_a_hash() {
        let (one, other) = (ApiKey::generate().expect("a key"), ApiKey::generate().expect("a key"));
        assert!(one.reveal() != other.reveal() && one.reveal().len() == 43);
        assert_eq!(format!("{one:?}"), "ApiKey(..)");
        let text = one.hash().to_string();
        assert_eq!(text.parse(), Ok(one.hash()));
        assert!(!text.contains(one.reveal()));
        // FIPS 180-2, appendix B.1
        let known = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad";
        assert_eq!(ApiKeyHash::of("abc").to_string(), known);
        for wrong in ["", "ba78", &"g".repeat(64), &"é".repeat(32)] {
            assert!(wrong.parse::<ApiKeyHash>().is_err(), "{wrong}");
        }
    }
}
