//! Setting up an issuer that is followed.

use std::error::Error;
use std::time::Duration;

use vorsel_core::{Algorithm, Expectations, KeySet, Reading, SkewError};

use super::fetch::{FetchError, address, client};
use super::follow::Followed;
use super::issuer::RemoteIssuer;
use super::limits::RemoteLimits;
use crate::keys::LiveKeySet;

/// Why an issuer can't be followed.
///
/// ```
/// use vorsel::RemoteIssuer;
///
/// let error = RemoteIssuer::builder("http://id.harbour.test", "https://api.skarnhill.test").follow().unwrap_err();
/// assert_eq!(
///     error.to_string(),
///     "expected an https address, or one on this machine, but found \"http://id.harbour.test\"",
/// );
/// ```
#[derive(thiserror::Error)]
#[non_exhaustive]
pub enum RemoteIssuerError {
    /// An address can't be used.
    #[error(transparent)]
    Address(#[from] FetchError),
    /// No client could be set up.
    #[error("nothing can be fetched here")]
    Client(#[source] Box<dyn Error + Send + Sync>),
    /// Nobody is named who may follow.
    #[error("expected a client that may follow, with a secret or a key, but found none")]
    NoClient,
    /// The skew is too large.
    #[error(transparent)]
    Skew(#[from] SkewError),
    /// A time or a size is none.
    #[error("expected limits above nothing, the least time no longer than the longest, but found {found:?}")]
    Limits {
        /// What was there.
        found: RemoteLimits,
    },
}

vorsel_core::readable_debug!(RemoteIssuerError);

/// Sets up a [`RemoteIssuer`].
///
/// ```
/// # async fn example() -> Result<(), Box<dyn std::error::Error>> {
/// use std::time::Duration;
/// use vorsel::{Reading, RemoteIssuer};
///
/// let harbour = RemoteIssuer::builder("https://id.harbour.test", "https://api.skarnhill.test")
///     .reading(Reading::default().roles_in(&["groups"])?.role("astronomers", "observer"))
///     .skew(Duration::from_secs(30))
///     .follow()?;
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Debug)]
#[must_use]
pub struct RemoteIssuerBuilder {
    issuer: String,
    expectations: Expectations,
    reading: Option<Reading>,
    algorithms: Option<Vec<Algorithm>>,
    skew: Option<Duration>,
    limits: RemoteLimits,
    keys_at: Option<String>,
}

impl RemoteIssuer {
    /// An issuer by its URL, exactly as its tokens and its metadata write it, whose access tokens are taken for `audience`.
    pub fn builder(issuer: impl Into<String>, audience: impl Into<String>) -> RemoteIssuerBuilder {
        let issuer = issuer.into();
        let expectations = Expectations::access(&issuer, audience);
        RemoteIssuerBuilder {
            issuer,
            expectations,
            reading: None,
            algorithms: None,
            skew: None,
            limits: RemoteLimits::default(),
            keys_at: None,
        }
    }
}

impl RemoteIssuerBuilder {
    /// Other expectations than access tokens of RFC 9068 for the audience: [`Expectations::access_in_any_jwt`] for an issuer that can do
    /// no better. The issuer is this one, whatever they say; so are the reading, the algorithms and the skew, where they are set here.
    pub fn expectations(mut self, expectations: Expectations) -> Self {
        self.expectations = expectations.issuer(&self.issuer);
        self
    }

    /// Where its tokens keep subject, client, roles and scopes, and how its names become ours.
    pub fn reading(mut self, reading: Reading) -> Self {
        self.reading = Some(reading);
        self
    }

    /// Allows only these algorithms, where its keys would allow more.
    pub fn algorithms(mut self, algorithms: impl IntoIterator<Item = Algorithm>) -> Self {
        self.algorithms = Some(algorithms.into_iter().collect());
        self
    }

    /// How far its clock may be from ours: [`Expectations::LARGEST_SKEW`] at most.
    pub const fn skew(mut self, skew: Duration) -> Self {
        self.skew = Some(skew);
        self
    }

    /// Its keys are there, for an issuer without metadata.
    pub fn keys_at(mut self, address: impl Into<String>) -> Self {
        self.keys_at = Some(address.into());
        self
    }

    /// Other limits.
    pub const fn limits(mut self, limits: RemoteLimits) -> Self {
        self.limits = limits;
        self
    }

    /// Follows it on the current tokio runtime, for as long as somebody has what this returns. This does not wait for the issuer;
    /// [`RemoteIssuer::ready_within`] does.
    ///
    /// # Errors
    /// If the issuer or the address of its keys is not https (or on this machine), the skew is too large, or the limits make no sense.
    ///
    /// # Panics
    /// Outside of a tokio runtime.
    pub fn follow(self) -> Result<RemoteIssuer, RemoteIssuerError> {
        let Self { issuer, mut expectations, reading, algorithms, skew, limits, keys_at } = self;
        if let Some(reading) = reading {
            expectations = expectations.reading(reading);
        }
        if let Some(algorithms) = algorithms {
            expectations = expectations.algorithms(algorithms);
        }
        if let Some(skew) = skew {
            expectations = expectations.skew(skew)?;
        }
        let spans = [limits.within, limits.least_kept, limits.through_outage, limits.between_unknown];
        let is_right = spans.iter().all(|span| !span.is_zero()) && limits.largest > 0;
        if !is_right || limits.longest_kept < limits.least_kept {
            return Err(RemoteIssuerError::Limits { found: limits });
        }
        address(&issuer)?;
        let keys_at = keys_at.as_deref().map(address).transpose()?;
        let client = client(limits.within).map_err(|error| RemoteIssuerError::Client(error.into()))?;
        let keys = LiveKeySet::new(KeySet::default());
        Ok(RemoteIssuer::following(Followed::new(issuer, keys_at, client, limits, keys), expectations))
    }
}
