//! The names that a token may be revoked by, hashed.

use std::fmt;
use std::hash::{BuildHasher, Hasher};
use std::num::NonZeroU64;
use std::sync::{LazyLock, OnceLock};

use foldhash::fast::RandomState;

/// The same for all names of this process, and nobody outside knows it.
static HASHER: LazyLock<RandomState> = LazyLock::new(RandomState::default);

/// The hash of a name.
#[derive(Clone, Copy)]
pub(crate) struct NameHash(NonZeroU64);

impl NameHash {
    pub(crate) fn of(name: &str) -> Self {
        let mut hasher = HASHER.build_hasher();
        hasher.write(name.as_bytes());
        Self(NonZeroU64::MIN | hasher.finish())
    }

    /// The lowest bit is always set.
    pub(crate) const fn get(self) -> u64 {
        self.0.get()
    }
}

/// The hashes of a token's session, of its ID, of its subject and of its key. They don't change, so they are reckoned once, when they are
/// first asked for.
#[derive(Clone, Default)]
pub(crate) struct NameHashes(OnceLock<[Option<NameHash>; 4]>);

impl NameHashes {
    pub(crate) fn of<'n>(&self, names: impl FnOnce() -> [Option<&'n str>; 4]) -> [Option<NameHash>; 4] {
        *self.0.get_or_init(|| names().map(|name| name.map(NameHash::of)))
    }
}

/// They follow from the claims and the key.
impl PartialEq for NameHashes {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

/// A log is no place for what follows from a hasher's key.
impl fmt::Debug for NameHashes {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("NameHashes").finish_non_exhaustive()
    }
}
