//! Where a pair of tokens is kept.

use std::error::Error;
use std::fmt;

use async_trait::async_trait;
use serde::{Deserialize, Serialize};
use vorsel_core::Timestamp;

/// What a client has.
///
/// ```
/// use vorsel::{KeptTokens, Timestamp};
///
/// let tokens = KeptTokens::new("an access token", 300, "a refresh token", Timestamp::from_secs(1_700_000_000));
/// assert_eq!(tokens.expires_at, 1_700_000_300);
/// ```
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
#[non_exhaustive]
pub struct KeptTokens {
    /// The access token.
    pub access_token: String,
    /// When it expires, in seconds since 1970 by this machine's clock.
    pub expires_at: i64,
    /// For how many seconds it was issued.
    pub lifetime: u64,
    /// The refresh token; a client that acts for itself has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refresh_token: Option<String>,
}

impl KeptTokens {
    /// A pair as a sign-in has answered it, `expires_in` seconds from now.
    #[must_use]
    pub fn new(
        access_token: impl Into<String>,
        expires_in: u64,
        refresh_token: impl Into<String>,
        now: Timestamp,
    ) -> Self {
        let tokens = Self::without_refresh(access_token, expires_in, now);
        Self { refresh_token: Some(refresh_token.into()), ..tokens }
    }

    pub(super) fn without_refresh(access_token: impl Into<String>, expires_in: u64, now: Timestamp) -> Self {
        // Nobody keeps a token for a century.
        let lifetime = expires_in.min(3_155_760_000);
        let expires_at = now.as_secs().saturating_add(i64::try_from(lifetime).unwrap_or_default());
        Self { access_token: access_token.into(), expires_at, lifetime, refresh_token: None }
    }
}

impl fmt::Debug for KeptTokens {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("KeptTokens").field("expires_at", &self.expires_at).finish_non_exhaustive()
    }
}

/// Where tokens outlive the process: a [`TokenFile`](super::TokenFile), or the app's own. Whoever can read it can act as its owner.
///
/// Each pair is kept before it is used. One process at a time may use a place: two would spend each other's refresh token.
///
/// ```
/// use std::error::Error;
/// use std::sync::Mutex;
/// use async_trait::async_trait;
/// use vorsel::{KeptTokens, TokenPlace};
///
/// #[derive(Default)]
/// struct InMemory(Mutex<Option<KeptTokens>>);
///
/// #[async_trait]
/// impl TokenPlace for InMemory {
///     async fn load(&self) -> Result<Option<KeptTokens>, Box<dyn Error + Send + Sync>> {
///         Ok(self.0.lock().map_err(|_| "a panic elsewhere")?.clone())
///     }
///     async fn keep(&self, tokens: Option<&KeptTokens>) -> Result<(), Box<dyn Error + Send + Sync>> {
///         *self.0.lock().map_err(|_| "a panic elsewhere")? = tokens.cloned();
///         Ok(())
///     }
/// }
/// ```
#[async_trait]
pub trait TokenPlace: Send + Sync {
    /// What is kept.
    ///
    /// # Errors
    /// If it can't be read.
    async fn load(&self) -> Result<Option<KeptTokens>, Box<dyn Error + Send + Sync>>;

    /// Keeps these in the place of what was there; none where the session is over.
    ///
    /// # Errors
    /// If they can't be kept. They are used all the same, and the log says that they will be lost.
    async fn keep(&self, tokens: Option<&KeptTokens>) -> Result<(), Box<dyn Error + Send + Sync>>;
}
