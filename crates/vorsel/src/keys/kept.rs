//! A keyring in the store, sealed: for instances without a folder in common.

use std::fmt;
use std::sync::Arc;

use vorsel_core::{KeyError, Keyring, Secret};

use super::error::KeyStoreError;
use super::seal::Seal;
use crate::store::SessionStore;

/// Where in the store the keyring is, and what it is sealed with.
pub(super) struct KeptKeys {
    store: Arc<dyn SessionStore>,
    name: &'static str,
    seal: Seal,
}

impl KeptKeys {
    pub(super) fn new(
        store: Arc<dyn SessionStore>,
        name: &'static str,
        secret: &Secret,
    ) -> Result<Self, KeyStoreError> {
        Ok(Self { store, name, seal: Seal::new(secret)? })
    }

    pub(super) const fn name(&self) -> &'static str {
        self.name
    }

    /// The keyring and its version.
    pub(super) async fn read(&self) -> Result<Option<(u64, Keyring)>, KeyStoreError> {
        let Some(kept) = self.store.kept(self.name).await? else { return Ok(None) };
        Ok(Some((kept.version, self.seal.open(self.name, kept.version, &kept.bytes)?)))
    }

    /// The version that is there, if it is another one than `seen`, and its keyring; version 0 if there is none any more.
    pub(super) async fn read_after(&self, seen: u64) -> Result<Option<(u64, Option<Keyring>)>, KeyStoreError> {
        match self.store.kept(self.name).await? {
            Some(kept) if kept.version == seen => Ok(None),
            Some(kept) => Ok(Some((kept.version, Some(self.seal.open(self.name, kept.version, &kept.bytes)?)))),
            None => Ok(Some((0, None))),
        }
    }

    /// Keeps it as the next version. Whether it was.
    pub(super) async fn write(&self, after: u64, ring: &Keyring) -> Result<bool, KeyStoreError> {
        let sealed = self.seal.seal(self.name, after + 1, ring)?;
        Ok(self.store.keep(self.name, after, &sealed).await?)
    }

    /// Makes it if it is not there; whoever comes first makes it for all.
    pub(super) async fn read_or_make(
        &self,
        make: impl FnOnce() -> Result<Keyring, KeyError> + Send,
    ) -> Result<Keyring, KeyStoreError> {
        if let Some((_, ring)) = self.read().await? {
            return Ok(ring);
        }
        self.write(0, &make()?).await?;
        let made = self.read().await?.ok_or_else(|| KeyStoreError::Lost { name: self.name.to_owned() })?;
        Ok(made.1)
    }
}

impl fmt::Debug for KeptKeys {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("KeptKeys").field("store", &self.store).field("name", &self.name).finish_non_exhaustive()
    }
}
