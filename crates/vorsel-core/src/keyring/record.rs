//! One key of a keyring and its dates.

use std::fmt;
use std::sync::Arc;

use crate::key::{Algorithm, SigningKey};
use crate::time::Timestamp;

/// The states of a key
/// ([NIST SP 800-57 part 1, section 7](https://csrc.nist.gov/pubs/sp/800/57/pt1/r5/final)), without "suspended", which
/// a token's short life has no use for.
///
/// ```
/// use std::time::Duration;
/// use vorsel_core::{Algorithm, KeyState, KeyTimes, Keyring, SigningKey, Timestamp};
///
/// let now = Timestamp::from_secs(1_700_000_000);
/// let mut keyring = Keyring::new(SigningKey::generate(Algorithm::EdDsa)?.named("first"), KeyTimes::default(), now);
/// let from = keyring.roll(SigningKey::generate(Algorithm::EdDsa)?.named("second"), now)?;
/// assert_eq!(keyring.state("second", now), Some(KeyState::PreActive));
/// assert_eq!(keyring.state("second", from.after(Duration::from_secs(1))), Some(KeyState::Active));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[non_exhaustive]
pub enum KeyState {
    /// Published and checking, not signing yet. It checks already because another instance's clock may be ahead.
    PreActive,
    /// Signing and checking.
    Active,
    /// Checking what it signed, no longer signing.
    Deactivated,
    /// Refused: somebody else may have it.
    Compromised,
    /// Gone. Its ID is kept so that it is not given to another key.
    Destroyed,
}

impl fmt::Display for KeyState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::PreActive => "pre-active",
            Self::Active => "active",
            Self::Deactivated => "deactivated",
            Self::Compromised => "compromised",
            Self::Destroyed => "destroyed",
        })
    }
}

/// One key of a [`Keyring`](super::Keyring): its ID, its algorithm and its dates. All dates are in whole seconds.
///
/// ```
/// # use vorsel_core::{Algorithm, KeyTimes, Keyring, SigningKey, Timestamp};
/// # let now = Timestamp::from_secs(1_700_000_000);
/// let keyring = Keyring::new(SigningKey::generate(Algorithm::EdDsa)?.named("first"), KeyTimes::default(), now);
/// let record = &keyring.keys()[0];
/// assert_eq!((record.key_id(), record.active_from()), ("first", Some(now)));
/// assert_eq!(record.compromised_at(), None);
/// # Ok::<(), vorsel_core::KeyError>(())
/// ```
#[derive(Clone, Debug)]
pub struct KeyRecord {
    pub(super) kid: String,
    pub(super) algorithm: Algorithm,
    /// What the key is called by its numbers alone; kept when the key is gone, so that it does not come back.
    pub(super) thumbprint: Option<String>,
    /// Gone once the key is compromised or destroyed.
    pub(super) key: Option<Arc<SigningKey>>,
    pub(super) published_at: Timestamp,
    pub(super) active_from: Option<Timestamp>,
    pub(super) compromised_at: Option<Timestamp>,
    pub(super) destroyed_at: Option<Timestamp>,
}

impl KeyRecord {
    pub(super) fn published(key: Arc<SigningKey>, at: Timestamp) -> Self {
        Self {
            kid: key.key_id().to_owned(),
            algorithm: key.algorithm(),
            thumbprint: Some(key.verifying().thumbprint().to_owned()),
            key: Some(key),
            published_at: at,
            active_from: None,
            compromised_at: None,
            destroyed_at: None,
        }
    }

    /// The key's ID.
    #[must_use]
    pub fn key_id(&self) -> &str {
        &self.kid
    }

    /// The algorithm the key is bound to.
    #[must_use]
    pub const fn algorithm(&self) -> Algorithm {
        self.algorithm
    }

    /// When the key came into the key set.
    #[must_use]
    pub const fn published_at(&self) -> Timestamp {
        self.published_at
    }

    /// When the key begins to sign, if that is planned or past.
    #[must_use]
    pub const fn active_from(&self) -> Option<Timestamp> {
        self.active_from
    }

    /// When the key was found to be known to others.
    #[must_use]
    pub const fn compromised_at(&self) -> Option<Timestamp> {
        self.compromised_at
    }

    /// When the key was destroyed.
    #[must_use]
    pub const fn destroyed_at(&self) -> Option<Timestamp> {
        self.destroyed_at
    }

    /// Compromised or destroyed.
    pub(super) fn withdrawn(&self) -> Option<KeyState> {
        let destroyed = self.destroyed_at.map(|_| KeyState::Destroyed);
        destroyed.or(self.compromised_at.map(|_| KeyState::Compromised))
    }

    /// When the key began or will begin to sign; nothing for one that was withdrawn before it could. Dates
    /// have whole seconds, so one withdrawn in the very second may have signed.
    pub(super) fn takes_over_at(&self) -> Option<Timestamp> {
        self.active_from.filter(|from| self.withdrawn_at().is_none_or(|at| at >= *from))
    }

    fn withdrawn_at(&self) -> Option<Timestamp> {
        self.compromised_at.into_iter().chain(self.destroyed_at).min()
    }
}
