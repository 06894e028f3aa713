//! What can go wrong with key files and steps.

use std::io;
use std::path::{Path, PathBuf};

use vorsel_core::{KeyError, KeyringTextError, StepError};

use crate::random::RandomError;
use crate::store::StoreError;

/// Why a key file cannot be used.
///
/// ```
/// use vorsel::{IssuerKeys, KeyFileError};
///
/// let error = IssuerKeys::in_folder("Cargo.toml").unwrap_err();
/// assert!(matches!(error, KeyFileError::Io { .. }), "{error}");
/// ```
#[derive(thiserror::Error)]
#[non_exhaustive]
pub enum KeyFileError {
    /// A file could not be read or made.
    #[error("the key file {} cannot be {action}", .path.display())]
    Io {
        /// The file or folder.
        path: PathBuf,
        /// What was tried.
        action: &'static str,
        /// What the operating system said.
        source: io::Error,
    },
    /// The file holds no keyring.
    #[error("the key file {} holds no usable keyring", .path.display())]
    Text {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        source: KeyringTextError,
    },
    /// A key could not be made or written.
    #[error("the keys for {} cannot be made", .path.display())]
    Key {
        /// The file.
        path: PathBuf,
        /// Why.
        source: KeyError,
    },
    /// Others than the owner can read the file.
    #[error("expected the key file {} to be readable by its owner alone, but found mode {mode:03o}", .path.display())]
    Exposed {
        /// The file.
        path: PathBuf,
        /// Its permission bits.
        mode: u32,
    },
}

vorsel_core::readable_debug!(KeyFileError);

impl KeyFileError {
    pub(super) fn io(path: &Path, action: &'static str) -> impl FnOnce(io::Error) -> Self {
        let path = path.to_owned();
        move |source| Self::Io { path, action, source }
    }
}

/// Why keys in the store cannot be used.
///
/// ```
/// # async fn example(store: std::sync::Arc<dyn vorsel::store::SessionStore>) -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::{IssuerKeys, KeyStoreError, Secret};
///
/// let opened = IssuerKeys::in_store(store, &Secret::new(b"too short".to_vec())).await;
/// assert!(matches!(opened, Err(KeyStoreError::ShortSecret { found: 9 })));
/// # Ok(())
/// # }
/// ```
#[derive(thiserror::Error)]
#[non_exhaustive]
pub enum KeyStoreError {
    /// The store failed.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// Too little for a secret.
    #[error("expected a secret of 32 random bytes at least for keys in the store, but found {found}")]
    ShortSecret {
        /// How many bytes it has.
        found: usize,
    },
    /// It was sealed with another secret, or was changed.
    #[error("the keys {name:?} in the store do not open: they were sealed with another secret, or were changed")]
    Sealed {
        /// Which keys.
        name: String,
    },
    /// What was sealed is no keyring.
    #[error("the keys {name:?} in the store are no usable keyring")]
    Text {
        /// Which keys.
        name: String,
        /// What is wrong with them.
        source: KeyringTextError,
    },
    /// A key could not be made, written or sealed.
    #[error("the keys cannot be made")]
    Key(#[from] KeyError),
    /// The operating system gave no randomness.
    #[error(transparent)]
    Random(#[from] RandomError),
    /// They were kept, and are not there.
    #[error("the keys {name:?} were put into the store, but are not there")]
    Lost {
        /// Which keys.
        name: String,
    },
    /// Others took steps at the same time, again and again.
    #[error("the keys {name:?} in the store were changed by others at the same time; try again")]
    Raced {
        /// Which keys.
        name: String,
    },
}

vorsel_core::readable_debug!(KeyStoreError);

/// Why a keyring is as it was before.
///
/// ```
/// use vorsel::{IssuerKeys, KeyStepError};
///
/// let keys = IssuerKeys::generate()?;
/// let refused = keys.access.change(|ring| ring.destroy("unknown", vorsel::now()));
/// assert!(matches!(refused, Err(KeyStepError::Step(_))));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(thiserror::Error)]
#[non_exhaustive]
pub enum KeyStepError {
    /// The step is not safe, or not possible.
    #[error(transparent)]
    Step(#[from] StepError),
    /// The file could not be read or written.
    #[error(transparent)]
    File(#[from] KeyFileError),
    /// The store could not be read or written.
    #[error(transparent)]
    Kept(#[from] KeyStoreError),
    /// Keys in the store are changed by calls that are awaited.
    #[error(
        "expected LiveKeyring::step for keys in the store, or allow_lifetime before sessions or access tokens are built"
    )]
    InStore,
}

vorsel_core::readable_debug!(KeyStepError);
