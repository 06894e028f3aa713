//! What can go wrong with key files and steps.

use std::io;
use std::path::{Path, PathBuf};

use vorsel_core::{KeyError, KeyringTextError, StepError};

/// Why a key file cannot be used.
#[derive(Debug, thiserror::Error)]
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

impl KeyFileError {
    pub(super) fn io(path: &Path, action: &'static str) -> impl FnOnce(io::Error) -> Self {
        let path = path.to_owned();
        move |source| Self::Io { path, action, source }
    }
}

/// Why a keyring is as it was before.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum KeyStepError {
    /// The step is not safe, or not possible.
    #[error(transparent)]
    Step(#[from] StepError),
    /// The file could not be read or written.
    #[error(transparent)]
    File(#[from] KeyFileError),
}
