//! Keys from files and key folders.

use std::fs;
use std::io::Write;
use std::path::Path;

use vorsel::{IssuerKeys, KeySet, Keyring, SigningKey};
use zeroize::Zeroizing;

use crate::failure::Failure;

fn read(path: &Path) -> Result<Zeroizing<String>, Failure> {
    fs::read_to_string(path)
        .map(Zeroizing::new)
        .map_err(|error| Failure::from(error).while_doing(format!("cannot read {}", path.display())))
}

/// The keys to check with: a JWK Set, a JWK or PEM, or the keys of a folder that `vorsel serve` made.
pub(crate) fn key_set(path: &Path) -> Result<KeySet, Failure> {
    if !path.is_dir() {
        let text = read(path)?;
        return in_keyring(&text).map(|ring| ring.key_set()).map_or_else(
            || KeySet::read(&text).map_err(|error| Failure::from(error).while_doing(path.display().to_string())),
            Ok,
        );
    }
    let [access, refresh] = [IssuerKeys::ACCESS, IssuerKeys::REFRESH].map(|name| keyring(&path.join(name)));
    Ok(access?.key_set().and(refresh?.key_set()))
}

/// A keyring, if that is what the text is.
fn in_keyring(text: &str) -> Option<Keyring> {
    Keyring::from_private_text(text).ok()
}

/// The keys to sign access tokens with: a private JWK, PEM, or a folder that `vorsel serve` made.
pub(crate) fn signing_keys(path: &Path) -> Result<Keyring, Failure> {
    if path.is_dir() {
        return keyring(&path.join(IssuerKeys::ACCESS));
    }
    let text = read(path)?;
    if let Some(ring) = in_keyring(&text) {
        return Ok(ring);
    }
    let key = if text.contains("-----BEGIN") { SigningKey::from_pem(&text) } else { SigningKey::from_jwk(&text) };
    key.map(Keyring::from).map_err(|error| Failure::from(error).while_doing(path.display().to_string()))
}

/// A keyring in the file of a key folder.
pub(crate) fn keyring(path: &Path) -> Result<Keyring, Failure> {
    if !path.exists() {
        let found = "but it is not there; `vorsel serve --keys FOLDER` makes one";
        return Err(Failure::new(format!("expected the keyring {}, {found}", path.display())));
    }
    Keyring::from_private_text(&read(path)?)
        .map_err(|error| Failure::from(error).while_doing(path.display().to_string()))
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
