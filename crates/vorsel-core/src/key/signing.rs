//! Keys that sign.

use std::fmt;

use aws_lc_rs::hmac;
use aws_lc_rs::rand::{SystemRandom, fill};
use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, Ed25519KeyPair, KeyPair};

use super::error::KeyError;
use super::secret::Secret;
use super::verifying::{MIN_SECRET, VerifyingKey};
use crate::algorithm::Algorithm;

/// A key that signs with one algorithm, chosen when the key is made.
///
/// `Debug` shows the algorithm and the key ID, never the key.
pub struct SigningKey {
    material: Material,
    verifying: VerifyingKey,
}

enum Material {
    Hmac { key: Box<hmac::Key>, secret: Secret },
    Ecdsa(EcdsaKeyPair),
    Ed25519(Ed25519KeyPair),
}

impl SigningKey {
    /// Makes a new key from the operating system's randomness; its ID is its thumbprint.
    ///
    /// # Errors
    /// [`KeyError::Primitive`] if the system gives no randomness.
    pub fn generate(algorithm: Algorithm) -> Result<Self, KeyError> {
        match algorithm {
            Algorithm::Hs256 => {
                let mut bytes = vec![0; MIN_SECRET];
                fill(&mut bytes)?;
                Self::hmac(algorithm, Secret::new(bytes))
            }
            Algorithm::Es256 => Self::ecdsa(EcdsaKeyPair::generate(&ECDSA_P256_SHA256_FIXED_SIGNING)?),
            Algorithm::EdDsa => Self::ed25519(Ed25519KeyPair::generate()?),
        }
    }

    /// Takes a shared secret for an HMAC algorithm.
    ///
    /// # Errors
    /// If the secret is shorter than the hash, 32 bytes for HS256; if it has fewer than eight different bytes; if
    /// the algorithm is not an HMAC.
    pub fn hmac(algorithm: Algorithm, secret: Secret) -> Result<Self, KeyError> {
        let verifying = VerifyingKey::hmac(algorithm, &secret)?;
        let key = Box::new(hmac::Key::new(hmac::HMAC_SHA256, secret.expose()));
        Ok(Self { material: Material::Hmac { key, secret }, verifying })
    }

    pub(super) fn ecdsa(pair: EcdsaKeyPair) -> Result<Self, KeyError> {
        let verifying = VerifyingKey::es256(pair.public_key().as_ref())?;
        Ok(Self { material: Material::Ecdsa(pair), verifying })
    }

    pub(super) fn ed25519(pair: Ed25519KeyPair) -> Result<Self, KeyError> {
        let verifying = VerifyingKey::ed25519(pair.public_key().as_ref())?;
        Ok(Self { material: Material::Ed25519(pair), verifying })
    }

    /// The same key under another key ID.
    #[must_use]
    pub fn with_key_id(mut self, kid: impl Into<String>) -> Self {
        self.verifying = self.verifying.with_key_id(kid);
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

    /// The private part: the secret, the scalar or the seed.
    pub(super) fn private_bytes(&self) -> Result<Secret, KeyError> {
        use aws_lc_rs::encoding::{AsBigEndian, EcPrivateKeyBin};
        Ok(match &self.material {
            Material::Hmac { secret, .. } => secret.clone(),
            Material::Ecdsa(pair) => {
                let bytes: EcPrivateKeyBin<'_> = pair.private_key().as_be_bytes()?;
                Secret::new(bytes.as_ref().to_vec())
            }
            Material::Ed25519(pair) => Secret::new(pair.seed()?.as_be_bytes()?.as_ref().to_vec()),
        })
    }

    /// Signs `input`. HMAC and EdDSA signatures are deterministic, ECDSA ones are not.
    pub(crate) fn sign(&self, input: &[u8]) -> Result<Vec<u8>, KeyError> {
        Ok(match &self.material {
            Material::Hmac { key, .. } => hmac::sign(key, input).as_ref().to_vec(),
            Material::Ecdsa(pair) => pair.sign(&SystemRandom::new(), input)?.as_ref().to_vec(),
            Material::Ed25519(pair) => pair.try_sign(input)?.as_ref().to_vec(),
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
    use crate::base64url;

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
            let secret = jwk.get("k").or(jwk.get("d")).and_then(|secret| secret.as_str()).expect("a secret member");
            let shown = format!("{key:?} {:?} {:?}", key.verifying_key(), Secret::new(vec![7; 32]));
            assert!(!shown.contains(secret) && !shown.contains("7, 7"), "{shown}");
        }
    }
}
