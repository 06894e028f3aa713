//! Keys that check.

use std::fmt;
use std::sync::Arc;

use aws_lc_rs::hmac;
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_FIXED, ED25519, ParsedPublicKey, UnparsedPublicKey, VerificationAlgorithm,
};

use super::error::KeyError;
use super::secret::Secret;
use super::thumbprint::thumbprint;
use crate::algorithm::Algorithm;
use crate::base64url;

/// A key that checks signatures of one algorithm, parsed once when it is made. Clones share the parsed key.
#[derive(Clone)]
pub struct VerifyingKey {
    algorithm: Algorithm,
    kid: String,
    /// Whether the key came without an ID, from a PEM file for instance. Its issuer may know it by any ID, so it is a
    /// candidate for a token that names a key nobody here knows.
    nameless: bool,
    material: Arc<Material>,
}

enum Material {
    Hmac(Box<hmac::Key>),
    Public { key: ParsedPublicKey, form: PublicForm },
}

/// The public numbers in the form a JWK writes them.
pub(super) enum PublicForm {
    Ec { x: String, y: String },
    Okp { x: String },
}

/// The fewest bytes of an HS256 secret: as many as its hash has.
pub(super) const MIN_SECRET: usize = 32;
/// Fewer different bytes than this cannot come from a random secret of 32 bytes, but do come from a held-down key.
const MIN_DISTINCT: usize = 8;
const UNCOMPRESSED: u8 = 4;

impl VerifyingKey {
    pub(super) fn hmac(algorithm: Algorithm, secret: &Secret) -> Result<Self, KeyError> {
        if !algorithm.is_symmetric() {
            return Err(KeyError::Unsupported { expected: "an HMAC algorithm", found: algorithm.to_string() });
        }
        let (found, distinct) = (secret.expose().len(), secret.distinct_bytes());
        if found < MIN_SECRET {
            return Err(KeyError::TooShort { algorithm, expected: MIN_SECRET, found });
        }
        if distinct < MIN_DISTINCT {
            return Err(KeyError::Guessable { distinct });
        }
        let text = zeroize::Zeroizing::new(base64url::encode(secret.expose()));
        let kid = thumbprint(&[("k", &text), ("kty", "oct")]);
        let key = Box::new(hmac::Key::new(hmac::HMAC_SHA256, secret.expose()));
        Ok(Self::new(algorithm, kid, Material::Hmac(key)))
    }

    /// From the uncompressed point, `0x04 x y` (SEC 1 section 2.3.3).
    pub(super) fn es256(point: &[u8]) -> Result<Self, KeyError> {
        let invalid = KeyError::Invalid { algorithm: Algorithm::Es256 };
        let Some((&UNCOMPRESSED, coordinates)) = point.split_first() else { return Err(invalid) };
        if coordinates.len() != 64 {
            return Err(invalid);
        }
        let [x, y] = [&coordinates[..32], &coordinates[32..]].map(base64url::encode);
        let kid = thumbprint(&[("crv", "P-256"), ("kty", "EC"), ("x", &x), ("y", &y)]);
        let key = parsed(&ECDSA_P256_SHA256_FIXED, point).ok_or(invalid)?;
        Ok(Self::new(Algorithm::Es256, kid, Material::Public { key, form: PublicForm::Ec { x, y } }))
    }

    /// From the 32 bytes of [RFC 8032 section 5.1.5](https://www.rfc-editor.org/rfc/rfc8032#section-5.1.5).
    pub(super) fn ed25519(point: &[u8]) -> Result<Self, KeyError> {
        let invalid = KeyError::Invalid { algorithm: Algorithm::EdDsa };
        if point.len() != 32 || is_small_order(point) {
            return Err(invalid);
        }
        let x = base64url::encode(point);
        let kid = thumbprint(&[("crv", "Ed25519"), ("kty", "OKP"), ("x", &x)]);
        let key = parsed(&ED25519, point).ok_or(invalid)?;
        Ok(Self::new(Algorithm::EdDsa, kid, Material::Public { key, form: PublicForm::Okp { x } }))
    }

    fn new(algorithm: Algorithm, kid: String, material: Material) -> Self {
        Self { algorithm, kid, nameless: false, material: Arc::new(material) }
    }

    /// The same key under another key ID.
    #[must_use]
    pub fn with_key_id(mut self, kid: impl Into<String>) -> Self {
        self.kid = kid.into();
        self.nameless = false;
        self
    }

    /// The algorithm the key is bound to.
    #[must_use]
    pub const fn algorithm(&self) -> Algorithm {
        self.algorithm
    }

    /// The key's ID: the one it was given, or else its thumbprint.
    #[must_use]
    pub fn key_id(&self) -> &str {
        &self.kid
    }

    /// The same key, read from a form that gave it no ID.
    pub(super) fn without_name(mut self) -> Self {
        self.nameless = true;
        self
    }

    pub(crate) const fn is_nameless(&self) -> bool {
        self.nameless
    }

    pub(super) fn public_form(&self) -> Option<&PublicForm> {
        match &*self.material {
            Material::Hmac(_) => None,
            Material::Public { form, .. } => Some(form),
        }
    }

    /// Whether `signature` is this key's over `input`.
    pub(crate) fn verifies(&self, input: &[u8], signature: &[u8]) -> bool {
        match &*self.material {
            Material::Hmac(key) => hmac::verify(key, input, signature).is_ok(),
            Material::Public { key, .. } => key.verify_sig(input, signature).is_ok(),
        }
    }
}

fn parsed(algorithm: &'static dyn VerificationAlgorithm, point: &[u8]) -> Option<ParsedPublicKey> {
    UnparsedPublicKey::new(algorithm, point).parse().ok()
}

/// The points of small order, for which one signature holds over many messages
/// ([RFC 8032 section 8.9](https://www.rfc-editor.org/rfc/rfc8032#section-8.9) leaves their refusal to us). The sign
/// bit is left out of the comparison.
fn is_small_order(point: &[u8]) -> bool {
    const Y8: [&str; 2] = [
        "26e8958fc2b227b045c3f489f2ef98f0d5dfac05d3c63339b13802886d53fc05",
        "c7176a703d4dd84fba3c0b760d10670f2a2053fa2c39ccc64ec7fd7792ac037a",
    ];
    let mut y = point.to_vec();
    y[31] &= 0x7f;
    let hex = y.iter().fold(String::new(), |hex, byte| format!("{hex}{byte:02x}"));
    // y = 0, 1 and p - 1, p, p + 1: the first byte decides once the rest is all zeros or all ones.
    let zeros = y[1..].iter().all(|byte| *byte == 0) && y[0] <= 1;
    let ones = y[31] == 0x7f && y[1..31].iter().all(|byte| *byte == 0xff) && y[0] >= 0xec;
    zeros || ones || Y8.contains(&hex.as_str())
}

impl fmt::Debug for VerifyingKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("VerifyingKey").field("algorithm", &self.algorithm).field("key_id", &self.kid).finish()
    }
}
