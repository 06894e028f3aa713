//! The keys of a running issuer: shared by everything that signs and checks, changed for all of them at once, and kept in
//! files if they are to last.

mod error;
mod file;
mod kept;
mod live;
mod seal;
mod set;

use std::fs;
use std::path::Path;
use std::sync::Arc;

use vorsel_core::{Algorithm, KeyError, KeyTimes, Keyring, Lifetime, Secret, SigningKey};

pub use error::{KeyFileError, KeyStepError, KeyStoreError};
pub use live::LiveKeyring;
pub use set::LiveKeySet;

use crate::clock::now;
use crate::store::SessionStore;

/// The two keyrings of an issuer that keeps sessions.
///
/// ```
/// let keys = vorsel::IssuerKeys::generate()?; // or in_folder("keys"), or in_store(store, &secret)
/// assert!(keys.access.current().signing_key(vorsel::now()).is_some());
/// # Ok::<(), vorsel::KeyError>(())
/// ```
#[derive(Clone, Debug)]
pub struct IssuerKeys {
    /// Signs access tokens.
    pub access: LiveKeyring,
    /// Signs refresh tokens, which only the issuer checks: shared secrets.
    pub refresh: LiveKeyring,
}

impl IssuerKeys {
    /// The file of the keyring for access tokens.
    pub const ACCESS: &'static str = "access-keys.json";
    /// The file of the keyring for refresh tokens.
    pub const REFRESH: &'static str = "refresh-keys.json";

    /// The name of the keyring for access tokens in a store.
    pub const ACCESS_IN_STORE: &'static str = "access-keys";
    /// The name of the keyring for refresh tokens in a store.
    pub const REFRESH_IN_STORE: &'static str = "refresh-keys";

    /// New keys, EdDSA and HS256, that last as long as the process.
    ///
    /// # Errors
    /// If the operating system gives no randomness.
    pub fn generate() -> Result<Self, KeyError> {
        Ok(Self { access: new_ring(Algorithm::EdDsa)?.into(), refresh: new_ring(Algorithm::Hs256)?.into() })
    }

    /// The keys in the files of a folder; the folder and the keys that are not there are made. Several processes may
    /// share the folder: whoever comes first makes the keys, and a step that one takes is taken up by the others within a
    /// second.
    ///
    /// # Errors
    /// If a file cannot be read or made, holds no usable keyring, or can be read by others than its owner.
    pub fn in_folder(folder: impl AsRef<Path>) -> Result<Self, KeyFileError> {
        let folder = folder.as_ref();
        make_folder(folder)?;
        let ring = |name, algorithm| LiveKeyring::in_file(folder.join(name), || new_ring(algorithm));
        Ok(Self { access: ring(Self::ACCESS, Algorithm::EdDsa)?, refresh: ring(Self::REFRESH, Algorithm::Hs256)? })
    }

    /// The keys in the store, sealed with a secret of the app's, at least 32 random bytes, so that who has a copy of the store has
    /// no key. Keys that are not there are made. Instances that have the secret act as those that share a folder: whoever comes
    /// first makes the keys, and a step that one takes is taken up by the others within a second.
    ///
    /// # Errors
    /// If the secret is too short or another one than the keys were sealed with, or the store fails.
    ///
    /// # Panics
    /// Outside of a tokio runtime.
    pub async fn in_store(store: Arc<dyn SessionStore>, secret: &Secret) -> Result<Self, KeyStoreError> {
        let ring =
            async |name, algorithm| LiveKeyring::in_store(store.clone(), name, secret, || new_ring(algorithm)).await;
        Ok(Self {
            access: ring(Self::ACCESS_IN_STORE, Algorithm::EdDsa).await?,
            refresh: ring(Self::REFRESH_IN_STORE, Algorithm::Hs256).await?,
        })
    }
}

fn new_ring(algorithm: Algorithm) -> Result<Keyring, KeyError> {
    let mut times = KeyTimes::default();
    if algorithm.is_symmetric() {
        times.longest_lifetime = Lifetime::days(30);
    }
    Ok(Keyring::new(SigningKey::generate(algorithm)?, times, now()))
}

fn make_folder(folder: &Path) -> Result<(), KeyFileError> {
    let mut builder = fs::DirBuilder::new();
    builder.recursive(true);
    #[cfg(unix)]
    std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
    builder.create(folder).map_err(KeyFileError::io(folder, "made"))
}
