//! Checking tokens in a running service: with keys that may change, and quickly for a token that was seen before.

mod seen;

use std::fmt;
use std::sync::Arc;

use arc_swap::ArcSwap;
use serde::de::DeserializeOwned;
use vorsel_core::{Checked, Expectations, Finding, Keyring, Timestamp, Verifier};

use crate::keys::{Live, LiveKeyring};
use seen::SeenTokens;

/// Checks tokens, and remembers those that it accepted so that they need not be checked in full again. `C` is the app's
/// own claims.
///
/// A token that is remembered is the same byte for byte, and its times are checked at each use. Whenever the keyring
/// takes a step, above all when a key is found to be compromised, everything is forgotten.
///
/// The memory is bounded: at most as many tokens as it has room for, each with at most
/// [`LARGEST_REMEMBERED`](Self::LARGEST_REMEMBERED) bytes of token and claims and what a value of `C` takes. A larger
/// token is checked in full each time. When there is no room, the token that was used longest ago makes way.
pub struct Checker<C> {
    current: Live<Snapshot<C>>,
}

/// A verifier with what it has seen: both are replaced together.
struct Snapshot<C> {
    verifier: Verifier,
    seen: SeenTokens<C>,
}

impl<C> Checker<C> {
    /// How many tokens are remembered if nothing else is said: with tokens of usual size, some 10 MB.
    pub const DEFAULT_ROOM: usize = 4_096;
    /// The most bytes that one remembered token takes, with its claims and without the app's own type.
    pub const LARGEST_REMEMBERED: usize = seen::LARGEST;

    /// A checker that trusts the keys of `keyring` as they are at each moment, and requires `expectations`.
    #[must_use]
    pub fn new(keyring: impl Into<LiveKeyring>, expectations: Expectations) -> Self
    where
        C: Send + Sync + 'static,
    {
        Self::with_room(keyring, expectations, Self::DEFAULT_ROOM)
    }

    /// [`new`](Self::new) with room for another number of tokens; with room for none, each is checked in full each time.
    #[must_use]
    pub fn with_room(keyring: impl Into<LiveKeyring>, expectations: Expectations, tokens: usize) -> Self
    where
        C: Send + Sync + 'static,
    {
        let make = move |ring: &Keyring| Snapshot {
            verifier: Verifier::new(ring.key_set(), expectations.clone()),
            seen: SeenTokens::with_room(tokens),
        };
        Self { current: keyring.into().derive(make) }
    }

    /// Checks a token at the moment `now`.
    ///
    /// # Errors
    /// The first finding that does not hold; see [`Verifier::check_as`].
    pub fn check(&self, token: impl AsRef<[u8]>, now: Timestamp) -> Result<Arc<Checked<C>>, Box<Finding>>
    where
        C: DeserializeOwned,
    {
        let (token, current) = (token.as_ref(), self.current.load());
        let Snapshot { verifier, seen } = &**current;
        if let Some(checked) = seen.find(token) {
            verifier.check_again(&checked, now).inspect_err(|_| seen.forget(token))?;
            return Ok(checked);
        }
        let checked = Arc::new(verifier.check_as(token, now)?);
        seen.remember(token, &checked);
        Ok(checked)
    }

    /// The audience a challenge names as its realm.
    pub(crate) fn realm(&self) -> Arc<str> {
        self.current.load().verifier.expectations().first_audience().unwrap_or("api").into()
    }
}

impl<C> From<Verifier> for Checker<C> {
    /// A checker whose keys stay as they are.
    fn from(verifier: Verifier) -> Self {
        let snapshot = Snapshot { verifier, seen: SeenTokens::with_room(Self::DEFAULT_ROOM) };
        Self { current: Live::new(ArcSwap::from_pointee(snapshot)) }
    }
}

impl<C> Clone for Checker<C> {
    fn clone(&self) -> Self {
        Self { current: self.current.clone() }
    }
}

impl<C> fmt::Debug for Checker<C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Checker").field("verifier", &self.current.load().verifier).finish_non_exhaustive()
    }
}
