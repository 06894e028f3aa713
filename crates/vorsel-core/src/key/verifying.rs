//! Keys that check.

use std::fmt;
use std::sync::Arc;

use aws_lc_rs::hmac;
use aws_lc_rs::signature::{
    ED25519, ParsedPublicKey, RsaPublicKeyComponents, UnparsedPublicKey, VerificationAlgorithm,
};

use super::algorithm::Algorithm;
use super::error::KeyError;
use super::secret::Secret;
use super::suite::{Curve, RSA_BITS, hmac_of, rsa_of};
use super::thumbprint::thumbprint;
use crate::encoding::base64url;

/// A key that checks signatures of one algorithm, parsed once when it is made. Clones share the parsed key.
///
/// ```
/// use vorsel_core::{Algorithm, KeySet, SigningKey};
///
/// let key = SigningKey::generate(Algorithm::Es256)?.verifying_key();
/// let jwk = key.to_public_jwk().expect("the key is no secret");
/// assert_eq!(jwk["crv"], "P-256");
/// let keys = KeySet::new([key]);
/// # Ok::<(), vorsel_core::KeyError>(())
/// ```
#[derive(Clone)]
pub struct VerifyingKey {
    algorithm: Algorithm,
    kid: Arc<str>,
    /// What the key is called by its numbers alone.
    thumbprint: Arc<str>,
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
    Ec { curve: &'static Curve, x: String, y: String },
    Rsa { n: String, e: String },
    Okp { x: String },
}

/// Fewer different bytes than this cannot come from a random secret of 32 bytes, but do come from a held-down key.
const MIN_DISTINCT: usize = 8;
const UNCOMPRESSED: u8 = 4;

impl VerifyingKey {
    /// The key and, since it is the same, what signs with it.
    pub(super) fn hmac(algorithm: Algorithm, secret: &Secret) -> Result<(Self, hmac::Key), KeyError> {
        let Some((hash, expected)) = hmac_of(algorithm) else {
            return Err(KeyError::Unsupported { expected: "an HMAC algorithm", found: algorithm.to_string() });
        };
        let (found, distinct) = (secret.reveal().len(), secret.distinct_bytes());
        if found < expected {
            return Err(KeyError::TooShort { algorithm, expected, found });
        }
        if distinct < MIN_DISTINCT {
            return Err(KeyError::Guessable { distinct });
        }
        let text = zeroize::Zeroizing::new(base64url::encode(secret.reveal()));
        let kid = thumbprint(&[("k", &text), ("kty", "oct")]);
        let key = hmac::Key::new(hash, secret.reveal());
        Ok((Self::new(algorithm, kid, Material::Hmac(Box::new(key.clone()))), key))
    }

    /// From the uncompressed point, `0x04 x y` (SEC 1 section 2.3.3).
    pub(super) fn ecdsa(curve: &'static Curve, point: &[u8]) -> Result<Self, KeyError> {
        let invalid = KeyError::Invalid { algorithm: curve.algorithm };
        let Some((&UNCOMPRESSED, coordinates)) = point.split_first() else { return Err(invalid) };
        if coordinates.len() != 2 * curve.bytes {
            return Err(invalid);
        }
        let (x, y) = coordinates.split_at(curve.bytes);
        let [x, y] = [x, y].map(base64url::encode);
        let kid = thumbprint(&[("crv", curve.name), ("kty", "EC"), ("x", &x), ("y", &y)]);
        let key = parsed(curve.verifying, point).ok_or(invalid)?;
        Ok(Self::new(curve.algorithm, kid, Material::Public { key, form: PublicForm::Ec { curve, x, y } }))
    }

    /// From modulus and exponent, big-endian without leading zeros.
    pub(super) fn rsa(algorithm: Algorithm, n: &[u8], e: &[u8]) -> Result<Self, KeyError> {
        let invalid = KeyError::Invalid { algorithm };
        let (Some((parameters, _)), Some(first)) = (rsa_of(algorithm), n.first()) else { return Err(invalid) };
        let found = (n.len() * 8).saturating_sub(first.leading_zeros() as usize);
        if !RSA_BITS.contains(&found) {
            return Err(KeyError::RsaSize { found });
        }
        // An exponent of 1 makes every signature its own message; an even one makes no signature at all.
        let odd = e.last().is_some_and(|last| last % 2 == 1);
        if *first == 0 || !odd || e == [1] || e[0] == 0 {
            return Err(invalid);
        }
        let components = RsaPublicKeyComponents { n, e };
        let key = components.to_parsed_public_key(parameters).map_err(|_| invalid)?;
        let [n, e] = [n, e].map(base64url::encode);
        let kid = thumbprint(&[("e", &e), ("kty", "RSA"), ("n", &n)]);
        Ok(Self::new(algorithm, kid, Material::Public { key, form: PublicForm::Rsa { n, e } }))
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
        let thumbprint: Arc<str> = kid.into();
        Self { algorithm, kid: thumbprint.clone(), thumbprint, nameless: false, material: Arc::new(material) }
    }

    /// The same key under another key ID.
    #[must_use]
    pub fn named(mut self, kid: impl Into<String>) -> Self {
        self.kid = kid.into().into();
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

    /// The key's thumbprint, whatever its ID. That of a shared secret is not for others to see
    /// ([RFC 7638 section 7](https://www.rfc-editor.org/rfc/rfc7638#section-7)).
    pub(crate) fn thumbprint(&self) -> &str {
        &self.thumbprint
    }

    /// The thumbprint of a public key ([RFC 7638](https://www.rfc-editor.org/rfc/rfc7638)), whatever its ID; none for a shared
    /// secret, whose thumbprint is not for others to see (section 7).
    #[must_use]
    pub fn public_thumbprint(&self) -> Option<&str> {
        (!self.algorithm().is_symmetric()).then_some(&self.thumbprint)
    }

    /// The key ID to keep beside a token that this key signed.
    pub(crate) fn shared_key_id(&self) -> Arc<str> {
        self.kid.clone()
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
    // The y of the points of order 8.
    const Y8: [&[u8; 32]; 2] = [
        b"\x26\xe8\x95\x8f\xc2\xb2\x27\xb0\x45\xc3\xf4\x89\xf2\xef\x98\xf0\
          \xd5\xdf\xac\x05\xd3\xc6\x33\x39\xb1\x38\x02\x88\x6d\x53\xfc\x05",
        b"\xc7\x17\x6a\x70\x3d\x4d\xd8\x4f\xba\x3c\x0b\x76\x0d\x10\x67\x0f\
          \x2a\x20\x53\xfa\x2c\x39\xcc\xc6\x4e\xc7\xfd\x77\x92\xac\x03\x7a",
    ];
    let Ok(mut y) = <[u8; 32]>::try_from(point) else { return false };
    y[31] &= 0x7f;
    // y = 0, 1 and p - 1, p, p + 1: the first byte decides once the rest is all zeros or all ones.
    let zeros = y[1..].iter().all(|byte| *byte == 0) && y[0] <= 1;
    let ones = y[31] == 0x7f && y[1..31].iter().all(|byte| *byte == 0xff) && y[0] >= 0xec;
    zeros || ones || Y8.contains(&&y)
}

impl fmt::Debug for VerifyingKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("VerifyingKey").field("algorithm", &self.algorithm).field("key_id", &self.kid).finish()
    }
}
