//! Keys that sign.

use std::fmt;

use aws_lc_rs::hmac;
use aws_lc_rs::rand::{SystemRandom, fill};
use aws_lc_rs::rsa::KeySize;
use aws_lc_rs::signature::{EcdsaKeyPair, Ed25519KeyPair, KeyPair, RsaKeyPair};
use smallvec::SmallVec;

use super::algorithm::Algorithm;
use super::error::{KeyError, OrPrimitive};
use super::secret::Secret;
use super::suite::{Curve, curve_of, hmac_of, rsa_of};
use super::verifying::VerifyingKey;

/// Bytes of one ([RFC 8032 section 5.1.6](https://www.rfc-editor.org/rfc/rfc8032#section-5.1.6)).
const ED25519_SIGNATURE: usize = 64;

/// Room for the signatures of every algorithm but RSA, which takes long enough for the memory not to matter.
pub(crate) type Signature = SmallVec<[u8; 132]>;

/// A key that signs with one algorithm, chosen when the key is made.
///
/// `Debug` shows the algorithm and the key ID, never the key.
///
/// ```
/// use vorsel_core::{Algorithm, SigningKey};
///
/// let key = SigningKey::generate(Algorithm::EdDsa)?;
/// assert_eq!(SigningKey::from_jwk(&key.to_private_jwk()?)?.key_id(), key.key_id());
/// # Ok::<(), vorsel_core::KeyError>(())
/// ```
pub struct SigningKey {
    material: Material,
    verifying: VerifyingKey,
}

enum Material {
    Hmac { key: Box<hmac::Key>, secret: Secret },
    Ecdsa(EcdsaKeyPair),
    Rsa(Box<RsaKeyPair>),
    Ed25519(Ed25519KeyPair),
}

impl SigningKey {
    /// Makes a new key from the operating system's randomness; its ID is its thumbprint. A shared secret gets as many
    /// bytes as the hash has, an RSA key 2048 bits.
    ///
    /// # Errors
    /// [`KeyError::Primitive`] if the system gives no randomness.
    pub fn generate(algorithm: Algorithm) -> Result<Self, KeyError> {
        if let Some((_, length)) = hmac_of(algorithm) {
            let mut bytes = vec![0; length];
            fill(&mut bytes).or_primitive()?;
            Self::hmac(algorithm, Secret::new(bytes))
        } else if let Some(curve) = curve_of(algorithm) {
            Self::ecdsa(curve, EcdsaKeyPair::generate(curve.signing).or_primitive()?)
        } else if rsa_of(algorithm).is_some() {
            Self::rsa(algorithm, RsaKeyPair::generate(KeySize::Rsa2048).or_primitive()?)
        } else {
            Self::ed25519(Ed25519KeyPair::generate().or_primitive()?)
        }
    }

    /// Takes a shared secret for an HMAC algorithm.
    ///
    /// # Errors
    /// If the secret is shorter than the hash (32, 48 or 64 bytes); if it has fewer than eight different bytes; if the
    /// algorithm is not an HMAC.
    pub fn hmac(algorithm: Algorithm, secret: Secret) -> Result<Self, KeyError> {
        let (verifying, key) = VerifyingKey::hmac(algorithm, &secret)?;
        Ok(Self { material: Material::Hmac { key: Box::new(key), secret }, verifying })
    }

    pub(super) fn ecdsa(curve: &'static Curve, pair: EcdsaKeyPair) -> Result<Self, KeyError> {
        let verifying = VerifyingKey::ecdsa(curve, pair.public_key().as_ref())?;
        Ok(Self { material: Material::Ecdsa(pair), verifying })
    }

    pub(super) fn rsa(algorithm: Algorithm, pair: RsaKeyPair) -> Result<Self, KeyError> {
        let public = pair.public_key();
        let [n, e] =
            [public.modulus(), public.exponent()].map(|number| number.big_endian_without_leading_zero().to_vec());
        Ok(Self { verifying: VerifyingKey::rsa(algorithm, &n, &e)?, material: Material::Rsa(Box::new(pair)) })
    }

    pub(super) fn ed25519(pair: Ed25519KeyPair) -> Result<Self, KeyError> {
        let verifying = VerifyingKey::ed25519(pair.public_key().as_ref())?;
        Ok(Self { material: Material::Ed25519(pair), verifying })
    }

    /// The same key under another key ID.
    #[must_use]
    pub fn named(mut self, kid: impl Into<String>) -> Self {
        self.verifying = self.verifying.named(kid);
        self
    }

    pub(super) fn without_name(mut self) -> Self {
        self.verifying = self.verifying.without_name();
        self
    }

    /// The algorithm the key is bound to.
    #[must_use]
    pub fn algorithm(&self) -> Algorithm {
        self.verifying.algorithm()
    }

    /// The key ID that goes into the header of every token.
    #[must_use]
    pub fn key_id(&self) -> &str {
        self.verifying.key_id()
    }

    /// The key that checks what this one signs. For an HMAC it holds the same secret.
    #[must_use]
    pub fn verifying_key(&self) -> VerifyingKey {
        self.verifying.clone()
    }

    /// [`verifying_key`](Self::verifying_key) where a look at it is enough.
    pub(crate) const fn verifying(&self) -> &VerifyingKey {
        &self.verifying
    }

    /// The private part: the secret, the scalar or the seed; for RSA the PKCS#8 document, which the numbers are in.
    pub(super) fn private_bytes(&self) -> Result<Secret, KeyError> {
        use aws_lc_rs::encoding::{AsBigEndian, AsDer, EcPrivateKeyBin};
        Ok(match &self.material {
            Material::Hmac { secret, .. } => secret.clone(),
            Material::Ecdsa(pair) => {
                let bytes: EcPrivateKeyBin<'_> = pair.private_key().as_be_bytes().or_primitive()?;
                Secret::new(bytes.as_ref().to_vec())
            }
            Material::Rsa(pair) => Secret::new(pair.as_der().or_primitive()?.as_ref().to_vec()),
            Material::Ed25519(pair) => {
                Secret::new(pair.seed().or_primitive()?.as_be_bytes().or_primitive()?.as_ref().to_vec())
            }
        })
    }

    /// How many bytes its signatures have.
    pub(crate) fn signature_length(&self) -> usize {
        match &self.material {
            Material::Hmac { .. } => hmac_of(self.algorithm()).map_or(0, |(_, bytes)| bytes),
            Material::Ecdsa(_) => curve_of(self.algorithm()).map_or(0, |curve| 2 * curve.bytes),
            Material::Rsa(pair) => pair.public_modulus_len(),
            Material::Ed25519(_) => ED25519_SIGNATURE,
        }
    }

    /// Signs `input`. HMAC, PKCS#1 and EdDSA signatures are deterministic, ECDSA and PSS ones are not.
    pub(crate) fn sign(&self, input: &[u8]) -> Result<Signature, KeyError> {
        // The primitives' signatures have room for the longest that there is, 4.6 KB: they are looked at and not moved.
        Ok(match &self.material {
            Material::Hmac { key, .. } => Signature::from_slice(hmac::sign(key, input).as_ref()),
            Material::Ecdsa(pair) => {
                Signature::from_slice(pair.sign(&SystemRandom::new(), input).as_ref().or_primitive()?.as_ref())
            }
            Material::Rsa(pair) => {
                let (_, encoding) = rsa_of(self.algorithm()).ok_or(KeyError::Primitive)?;
                let mut signature = Signature::from_elem(0, pair.public_modulus_len());
                pair.sign(encoding, &SystemRandom::new(), input, &mut signature).or_primitive()?;
                signature
            }
            Material::Ed25519(pair) => Signature::from_slice(pair.try_sign(input).as_ref().or_primitive()?.as_ref()),
        })
    }
}

impl fmt::Debug for SigningKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("SigningKey").field("algorithm", &self.algorithm()).field("key_id", &self.key_id()).finish()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::encoding::base64url;

    #[test]
    fn rfc_8037_appendix_a_4_signature_is_made() {
        let key = SigningKey::from_jwk(
            r#"{"kty":"OKP","crv":"Ed25519","d":"nWGxne_9WmC6hEr0kuwsxERJxWl7MmkZcDusAxyuf2A",
                "x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}"#,
        )
        .expect("the key of RFC 8037 appendix A.1");
        let signature = key.sign(b"eyJhbGciOiJFZERTQSJ9.RXhhbXBsZSBvZiBFZDI1NTE5IHNpZ25pbmc").expect("a signature");
        assert_eq!(
            base64url::encode(signature),
            "hgyY0il_MGCjP0JzlnLWG1PPOt7-09PGcvMg3AIbQR6dWbhijcNR4ki4iylGjg5BhVsPt9g7sVvpAr_MuM0KAg"
        );
    }

    #[test]
    fn debug_shows_no_key() {
        for algorithm in Algorithm::ALL {
            let key = SigningKey::generate(algorithm).expect("a key");
            let private = key.to_private_jwk().expect("a JWK");
            let jwk: serde_json::Value = serde_json::from_str(&private).expect("JSON");
            let secret =
                jwk.get("k").or_else(|| jwk.get("d")).and_then(|secret| secret.as_str()).expect("a secret member");
            let shown = format!("{key:?} {:?} {:?}", key.verifying_key(), Secret::new(vec![7; 32]));
            assert!(!shown.contains(secret) && !shown.contains("7, 7"), "{shown}");
        }
    }
}
