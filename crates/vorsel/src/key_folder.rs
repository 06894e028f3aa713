//! The keys of one issuer in a folder that only its owner can read.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use vorsel_core::{Algorithm, KeyError, SigningKey};

use crate::random::random_id;

/// The keys of one issuer: `access.jwk` signs access tokens, `refresh.jwk` refresh tokens. Several processes may share
/// the folder; whoever comes first makes the keys, and the others read them.
#[derive(Debug)]
pub struct KeyFolder {
    /// Signs access tokens.
    pub access: SigningKey,
    /// Signs refresh tokens.
    pub refresh: SigningKey,
}

/// Why a key folder cannot be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum KeyFolderError {
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
    /// A key file holds no usable key.
    #[error("the key file {} holds no usable key", .path.display())]
    Key {
        /// The file.
        path: PathBuf,
        /// What is wrong with it.
        source: KeyError,
    },
    /// Others than the owner can read a key file.
    #[error("expected the key file {} to be readable by its owner alone, but found mode {mode:03o}", .path.display())]
    Exposed {
        /// The file.
        path: PathBuf,
        /// Its permission bits.
        mode: u32,
    },
}

impl KeyFolder {
    /// The file name of the key that signs access tokens.
    pub const ACCESS: &'static str = "access.jwk";
    /// The file name of the secret that signs refresh tokens.
    pub const REFRESH: &'static str = "refresh.jwk";

    /// Reads the keys of the folder; makes the folder and the keys that are not there.
    ///
    /// # Errors
    /// If a file cannot be read or made, holds no usable key, or can be read by others than its owner.
    pub fn open(folder: impl AsRef<Path>) -> Result<Self, KeyFolderError> {
        let folder = folder.as_ref();
        make_folder(folder)?;
        Ok(Self {
            access: key(&folder.join(Self::ACCESS), Algorithm::EdDsa)?,
            refresh: key(&folder.join(Self::REFRESH), Algorithm::Hs256)?,
        })
    }
}

fn io_error(path: &Path, action: &'static str) -> impl FnOnce(io::Error) -> KeyFolderError {
    let path = path.to_owned();
    move |source| KeyFolderError::Io { path, action, source }
}

fn make_folder(folder: &Path) -> Result<(), KeyFolderError> {
    let mut builder = fs::DirBuilder::new();
    builder.recursive(true);
    #[cfg(unix)]
    std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
    builder.create(folder).map_err(io_error(folder, "made"))
}

fn key(path: &Path, algorithm: Algorithm) -> Result<SigningKey, KeyFolderError> {
    let wrong = |source| KeyFolderError::Key { path: path.to_owned(), source };
    if !path.exists() {
        let text = SigningKey::generate(algorithm).and_then(|key| key.to_private_jwk()).map_err(wrong)?;
        write_once(path, text.as_bytes()).map_err(io_error(path, "made"))?;
    }
    check_mode(path)?;
    let text = fs::read_to_string(path).map(zeroize::Zeroizing::new).map_err(io_error(path, "read"))?;
    SigningKey::from_jwk(&text).map_err(wrong)
}

/// Writes a whole file under a name that nobody reads, then gives it its own: another process sees all of it or nothing,
/// and of two that write at once the first one stands.
fn write_once(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let unique = random_id().map_err(io::Error::other)?;
    let draft = path.with_extension(format!("{unique}.draft"));
    let mut options = OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    let written = options.open(&draft).and_then(|mut file: File| file.write_all(bytes).and_then(|()| file.sync_all()));
    let linked = written.and_then(|()| match fs::hard_link(&draft, path) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Ok(()),
        other => other,
    });
    fs::remove_file(&draft).or_else(|error| if linked.is_err() { Ok(()) } else { Err(error) })?;
    linked
}

#[cfg(unix)]
fn check_mode(path: &Path) -> Result<(), KeyFolderError> {
    use std::os::unix::fs::PermissionsExt;
    let mode = fs::metadata(path).map_err(io_error(path, "read"))?.permissions().mode() & 0o777;
    if mode & 0o077 == 0 { Ok(()) } else { Err(KeyFolderError::Exposed { path: path.to_owned(), mode }) }
}

#[cfg(not(unix))]
fn check_mode(_: &Path) -> Result<(), KeyFolderError> {
    Ok(())
}
