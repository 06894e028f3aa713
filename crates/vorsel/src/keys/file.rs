//! A keyring in a file that only its owner can read.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use vorsel_core::{KeyError, Keyring};
use zeroize::Zeroizing;

use super::error::KeyFileError;
use crate::random::random_id;

/// The file of one keyring, and beside it one that is locked while the keyring is changed.
#[derive(Debug)]
pub(super) struct KeyFile {
    path: PathBuf,
}

/// What tells one version of a file from the next.
pub(super) type Version = (SystemTime, u64, u64);

impl KeyFile {
    pub(super) const fn new(path: PathBuf) -> Self {
        Self { path }
    }

    pub(super) fn path(&self) -> &Path {
        &self.path
    }

    /// Holds the lock until the file returned is dropped, or the process dies.
    pub(super) fn lock(&self) -> Result<File, KeyFileError> {
        let path = self.path.with_extension("lock");
        let wrong = KeyFileError::io(&path, "locked");
        let file = private().create(true).truncate(false).open(&path);
        file.and_then(|file| file.lock().map(|()| file)).map_err(wrong)
    }

    /// Reads the keyring; under the lock, makes it if it is not there.
    pub(super) fn read_or_make(
        &self,
        make: impl FnOnce() -> Result<Keyring, KeyError>,
    ) -> Result<Keyring, KeyFileError> {
        // A folder that is there may be one that nobody here may write to.
        if self.path.exists() {
            return self.read();
        }
        let _lock = self.lock()?;
        if !self.path.exists() {
            let made = make().map_err(|source| KeyFileError::Key { path: self.path.clone(), source })?;
            self.write(&made)?;
        }
        self.read()
    }

    pub(super) fn read(&self) -> Result<Keyring, KeyFileError> {
        refuse_exposed(&self.path)?;
        let text = fs::read_to_string(&self.path).map(Zeroizing::new).map_err(KeyFileError::io(&self.path, "read"))?;
        Keyring::from_private_text(&text).map_err(|source| KeyFileError::Text { path: self.path.clone(), source })
    }

    /// Writes the whole file under a name that nobody reads, then gives it its own: other processes see the old keyring
    /// or the new one, and a crash leaves one of them.
    pub(super) fn write(&self, ring: &Keyring) -> Result<(), KeyFileError> {
        let text = ring.to_private_text().map_err(|source| KeyFileError::Key { path: self.path.clone(), source })?;
        let wrong = KeyFileError::io(&self.path, "written");
        let replace = || {
            let unique = random_id().map_err(io::Error::other)?;
            let draft = self.path.with_extension(format!("{unique}.draft"));
            let written = private().create_new(true).open(&draft).and_then(|mut file| {
                file.write_all(text.as_bytes())?;
                file.sync_all()?;
                fs::rename(&draft, &self.path)
            });
            written.inspect_err(|_| drop(fs::remove_file(&draft)))?;
            sync_folder(&self.path)
        };
        replace().map_err(wrong)
    }

    /// Which version of the file there is.
    pub(super) fn version(&self) -> io::Result<Version> {
        let file = fs::metadata(&self.path)?;
        #[cfg(unix)]
        let number = std::os::unix::fs::MetadataExt::ino(&file);
        #[cfg(not(unix))]
        let number = 0;
        Ok((file.modified()?, file.len(), number))
    }
}

fn private() -> OpenOptions {
    let mut options = OpenOptions::new();
    options.write(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    options
}

/// A rename lasts through a power cut only once its folder is written too.
#[cfg(unix)]
fn sync_folder(path: &Path) -> io::Result<()> {
    path.parent().map_or(Ok(()), |folder| {
        let folder = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
        File::open(folder)?.sync_all()
    })
}

#[cfg(not(unix))]
fn sync_folder(_: &Path) -> io::Result<()> {
    Ok(())
}

#[cfg(unix)]
fn refuse_exposed(path: &Path) -> Result<(), KeyFileError> {
    use std::os::unix::fs::PermissionsExt;
    let mode = fs::metadata(path).map_err(KeyFileError::io(path, "read"))?.permissions().mode() & 0o777;
    if mode & 0o077 == 0 { Ok(()) } else { Err(KeyFileError::Exposed { path: path.to_owned(), mode }) }
}

#[cfg(not(unix))]
fn refuse_exposed(_: &Path) -> Result<(), KeyFileError> {
    Ok(())
}
