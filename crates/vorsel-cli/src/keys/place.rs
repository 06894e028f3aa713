//! Where keyrings are: in a folder, or sealed in a store.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use clap::Args;
use vorsel::store::{SessionStore, StoreAddress};
use vorsel::{IssuerKeys, KeyError, Keyring, LiveKeyring, Secret, base64url};
use zeroize::Zeroizing;

use super::Ring;
use crate::failure::Failure;
use crate::key_file;
use crate::store_address;

/// A folder, or a store and the secret that its keys are sealed with.
#[derive(Debug, Args)]
pub(super) struct Place {
    /// The key folder, as `vorsel serve --keys` makes it.
    #[arg(long = "keys", value_name = "FOLDER", env = "VORSEL_KEYS_FOLDER")]
    folder: Option<PathBuf>,
    /// The store that the keys are in, instead of a folder.
    #[arg(long, value_name = "STORE", env = "VORSEL_STORE_ADDRESS", hide_env_values = true)]
    store: Option<StoreAddress>,
    /// The file with the secret that the keys in the store are sealed with, as `vorsel keys secret` makes it. With it, no folder is
    /// looked at.
    #[arg(long = "keys-secret", value_name = "FILE")]
    secret: Option<PathBuf>,
}

/// A place that was found.
pub(super) enum Found {
    Folder(PathBuf),
    Store(Arc<dyn SessionStore>, Secret, String),
}

impl Place {
    pub(super) async fn find(&self) -> Result<Found, Failure> {
        match (&self.folder, &self.store, &self.secret) {
            (_, Some(address), Some(secret)) => Ok(Found::Store(
                store_address::open_existing(address).await?,
                read_secret(secret)?,
                address.to_string(),
            )),
            (Some(folder), _, None) => Ok(Found::Folder(folder.clone())),
            _ => Err(Failure::new("which keys? expected --keys FOLDER, or --store STORE with --keys-secret FILE")),
        }
    }
}

impl Found {
    /// One of the keyrings as it is now.
    pub(super) async fn keyring(&self, ring: Ring) -> Result<Arc<Keyring>, Failure> {
        match self {
            Self::Folder(folder) => key_file::keyring(&ring.file(folder)).map(Arc::new),
            Self::Store(..) => Ok(self.open(ring).await?.current()),
        }
    }

    /// One of the keyrings, which has to be there.
    pub(super) async fn open(&self, ring: Ring) -> Result<LiveKeyring, Failure> {
        match self {
            Self::Folder(folder) => {
                let file = ring.file(folder);
                let there = key_file::keyring(&file)?;
                Ok(LiveKeyring::in_file(file, || Ok(there))?)
            }
            Self::Store(store, secret, address) => {
                let name = ring.name_in_store();
                if store.kept(name).await?.is_none() {
                    let found = "but they are not there; `vorsel serve --keys-secret FILE` makes them";
                    return Err(Failure::new(format!("expected the keys {name:?} in {address}, {found}")));
                }
                Ok(LiveKeyring::in_store(store.clone(), name, secret, || Err(KeyError::Primitive)).await?)
            }
        }
    }
}

impl std::fmt::Display for Found {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Folder(folder) => folder.display().fmt(f),
            Self::Store(_, _, address) => f.write_str(address),
        }
    }
}

impl Ring {
    const fn name_in_store(self) -> &'static str {
        match self {
            Self::Access => IssuerKeys::ACCESS_IN_STORE,
            Self::Refresh => IssuerKeys::REFRESH_IN_STORE,
        }
    }
}

/// Makes a secret in a file of its own.
pub(super) fn make_secret(out: &Path) -> Result<(), Failure> {
    let mut bytes = Zeroizing::new(Vec::with_capacity(32));
    for _ in 0..2 {
        bytes.extend_from_slice(&base64url::decode(vorsel::random_id()?.as_bytes())?);
    }
    key_file::write_private(out, &Zeroizing::new(base64url::encode(&bytes)))
}

/// A secret from its file: 32 random bytes or more in base64url.
pub(crate) fn read_secret(path: &Path) -> Result<Secret, Failure> {
    let text = fs::read_to_string(path).map(Zeroizing::new);
    let text = text.map_err(|error| Failure::from(error).while_doing(format!("cannot read {}", path.display())))?;
    let bytes = base64url::decode(text.trim().as_bytes()).ok().filter(|bytes| bytes.len() >= 32);
    bytes.map(Secret::new).ok_or_else(|| {
        Failure::new(format!(
            "expected 32 random bytes or more in base64url in {}, but found other text",
            path.display()
        ))
    })
}
