//! Keyrings that leave the process sealed: who has a copy of the store has no key.

use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};
use aws_lc_rs::hkdf::{HKDF_SHA256, Salt};
use vorsel_core::{KeyError, Keyring, Secret};
use zeroize::Zeroizing;

use super::error::KeyStoreError;
use crate::random::random_bytes;

/// Seals with AES-256-GCM, under a key that HKDF-SHA256 ([RFC 5869](https://www.rfc-editor.org/rfc/rfc5869)) makes of the app's
/// secret. The name and the version are sealed in, so that one keyring is not taken for another, nor an old one for a new one.
pub(super) struct Seal(LessSafeKey);

/// The first byte of what is sealed.
const FORM: u8 = 1;
const LEAST_SECRET: usize = 32;

impl Seal {
    pub(super) fn new(secret: &Secret) -> Result<Self, KeyStoreError> {
        let found = secret.reveal().len();
        if found < LEAST_SECRET {
            return Err(KeyStoreError::ShortSecret { found });
        }
        let extracted = Salt::new(HKDF_SHA256, b"vorsel keyring").extract(secret.reveal());
        let expanded = extracted.expand(&[b"AES-256-GCM"], &AES_256_GCM).map_err(|_| KeyError::Primitive)?;
        Ok(Self(LessSafeKey::new(UnboundKey::from(expanded))))
    }

    pub(super) fn seal(&self, name: &str, version: u64, ring: &Keyring) -> Result<Vec<u8>, KeyStoreError> {
        let text = ring.to_private_text()?;
        let mut nonce = [0; NONCE_LEN];
        random_bytes(&mut nonce)?;
        // Room for the tag, since text that grew would leave a copy behind.
        let mut inside = Zeroizing::new(Vec::with_capacity(text.len() + AES_256_GCM.tag_len()));
        inside.extend_from_slice(text.as_bytes());
        let bound = Aad::from(bound(name, version));
        let sealed = self.0.seal_in_place_append_tag(Nonce::assume_unique_for_key(nonce), bound, &mut *inside);
        sealed.map_err(|_| KeyError::Primitive)?;
        Ok([&[FORM], &nonce[..], &inside].concat())
    }

    pub(super) fn open(&self, name: &str, version: u64, sealed: &[u8]) -> Result<Keyring, KeyStoreError> {
        let wrong = || KeyStoreError::Sealed { name: name.to_owned() };
        let (form, rest) = sealed.split_first().ok_or_else(wrong)?;
        let (nonce, inside) = rest.split_at_checked(NONCE_LEN).ok_or_else(wrong)?;
        if *form != FORM {
            return Err(wrong());
        }
        let nonce = Nonce::try_assume_unique_for_key(nonce).map_err(|_| wrong())?;
        let mut inside = Zeroizing::new(inside.to_vec());
        let text = self.0.open_in_place(nonce, Aad::from(bound(name, version)), &mut inside).map_err(|_| wrong())?;
        let text = std::str::from_utf8(text).map_err(|_| wrong())?;
        Keyring::from_private_text(text).map_err(|source| KeyStoreError::Text { name: name.to_owned(), source })
    }
}

fn bound(name: &str, version: u64) -> Vec<u8> {
    [&version.to_be_bytes(), name.as_bytes()].concat()
}

#[cfg(test)]
mod tests {
    use vorsel_core::{Algorithm, KeyTimes, SigningKey, Timestamp};

    use super::*;

    #[test]
    fn what_is_sealed_opens_with_its_secret_its_name_and_its_version_alone() {
        let key = SigningKey::generate(Algorithm::EdDsa).expect("a key");
        let ring = Keyring::new(key, KeyTimes::default(), Timestamp::from_secs(1_700_000_000));
        let seal = |byte| Seal::new(&Secret::new(vec![byte; 32])).expect("a seal");
        let sealed = seal(7).seal("access", 3, &ring).expect("sealed");
        let text = ring.to_private_text().expect("text");
        assert_eq!(seal(7).open("access", 3, &sealed).expect("open").to_private_text().expect("text"), text);
        for (byte, name, version) in [(8, "access", 3), (7, "refresh", 3), (7, "access", 2), (7, "access", 4)] {
            assert!(matches!(seal(byte).open(name, version, &sealed), Err(KeyStoreError::Sealed { .. })));
        }
        for place in 0..sealed.len() {
            let mut changed = sealed.clone();
            changed[place] ^= 1;
            assert!(matches!(seal(7).open("access", 3, &changed), Err(KeyStoreError::Sealed { .. })), "byte {place}");
            assert!(seal(7).open("access", 3, &sealed[..place]).is_err(), "{place} bytes");
        }
        assert!(!sealed.windows(8).any(|part| text.as_bytes().windows(8).any(|open| open == part)));
        assert_ne!(seal(7).seal("access", 3, &ring).expect("sealed"), sealed, "no nonce is used twice");
        assert!(matches!(Seal::new(&Secret::new(vec![7; 31])), Err(KeyStoreError::ShortSecret { found: 31 })));
    }
}
