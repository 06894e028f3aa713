//! Keys from files and key folders.

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};

use vorsel::{KeyFolder, KeySet, SigningKey};

use crate::failure::Failure;

fn read(path: &Path) -> Result<String, Failure> {
    fs::read_to_string(path)
        .map_err(|error| Failure::from(error).while_doing(format!("cannot read {}", path.display())))
}

/// The keys to check with: a JWK Set, a JWK or PEM, or the keys of a folder that `vorsel serve` made.
pub(crate) fn key_set(path: &Path) -> Result<KeySet, Failure> {
    let in_file = |path: &Path| {
        KeySet::read(&read(path)?).map_err(|error| Failure::from(error).while_doing(path.display().to_string()))
    };
    if !path.is_dir() {
        return in_file(path);
    }
    let mut keys = Vec::new();
    for name in [KeyFolder::ACCESS, KeyFolder::REFRESH] {
        keys.extend_from_slice(in_file(&path.join(name))?.keys());
    }
    Ok(KeySet::new(keys))
}

/// The key to sign access tokens with: a private JWK, PEM, or a folder that `vorsel serve` made.
pub(crate) fn signing_key(path: &Path) -> Result<SigningKey, Failure> {
    let file: PathBuf = if path.is_dir() { path.join(KeyFolder::ACCESS) } else { path.to_owned() };
    let text = read(&file)?;
    let key = if text.contains("-----BEGIN") { SigningKey::from_pem(&text) } else { SigningKey::from_jwk(&text) };
    key.map_err(|error| Failure::from(error).while_doing(file.display().to_string()))
}

/// Writes a new file that only its owner can read.
pub(crate) fn write_private(path: &Path, text: &str) -> Result<(), Failure> {
    let mut options = fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    options
        .open(path)
        .and_then(|mut file| writeln!(file, "{text}"))
        .map_err(|error| Failure::from(error).while_doing(format!("cannot make {}", path.display())))
}
