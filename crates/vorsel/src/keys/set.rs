//! Public keys in use.

use std::fmt;
use std::sync::Arc;

use vorsel_core::{KeySet, Keyring, SigningKey};

use super::live::LiveKeyring;
use crate::live::Live;

/// The keys that tokens are checked with, and that may change: those of a [`LiveKeyring`] at each moment, or public keys
/// alone, which the app replaces when it learns of others. Clones share them.
///
/// ```
/// use vorsel::{Algorithm, Checker, Expectations, KeySet, LiveKeySet, NoOwn, SigningKey};
///
/// let (old, new) = (SigningKey::generate(Algorithm::EdDsa)?, SigningKey::generate(Algorithm::EdDsa)?);
/// let keys = LiveKeySet::new(KeySet::new([old.verifying_key()]));
/// let checker = Checker::<NoOwn>::new(keys.clone(), Expectations::access("https://id.skarnhill.test", "https://api.skarnhill.test"));
/// keys.set(KeySet::new([old.verifying_key(), new.verifying_key()])); // the checker takes tokens of both from now on
/// # Ok::<(), vorsel::KeyError>(())
/// ```
#[derive(Clone)]
pub struct LiveKeySet(Live<KeySet>);

impl LiveKeySet {
    /// These keys, until others are [set](Self::set).
    #[must_use]
    pub fn new(keys: KeySet) -> Self {
        Self(Live::new(keys))
    }

    /// Replaces the keys. Everything that checks with them goes by the new ones when this returns, and has forgotten the
    /// tokens that it had seen. The keys of a keyring come back with its next step.
    pub fn set(&self, keys: KeySet) {
        self.0.set(keys);
    }

    /// The keys as they are now.
    #[must_use]
    pub fn current(&self) -> Arc<KeySet> {
        self.0.load_full()
    }

    /// Something made from the keys now and at each change.
    pub(crate) fn derive<T: Send + Sync + 'static>(&self, make: impl Fn(&KeySet) -> T + Send + 'static) -> Live<T> {
        self.0.derive(self.clone(), make)
    }
}

impl From<KeySet> for LiveKeySet {
    fn from(keys: KeySet) -> Self {
        Self::new(keys)
    }
}

impl From<LiveKeyring> for LiveKeySet {
    /// The keys that check, as they are at each moment.
    fn from(ring: LiveKeyring) -> Self {
        Self(ring.derive(Keyring::key_set))
    }
}

impl From<Keyring> for LiveKeySet {
    fn from(ring: Keyring) -> Self {
        LiveKeyring::from(ring).into()
    }
}

impl From<SigningKey> for LiveKeySet {
    fn from(key: SigningKey) -> Self {
        LiveKeyring::from(key).into()
    }
}

impl fmt::Debug for LiveKeySet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("LiveKeySet").field(&self.0).finish()
    }
}
