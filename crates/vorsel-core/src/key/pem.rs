//! Keys in PEM: PKCS#8 ([RFC 5958](https://www.rfc-editor.org/rfc/rfc5958)), SEC 1
//! ([RFC 5915](https://www.rfc-editor.org/rfc/rfc5915)) and SubjectPublicKeyInfo
//! ([RFC 5280 section 4.1](https://www.rfc-editor.org/rfc/rfc5280#section-4.1)).

use ::pem::Pem;
use aws_lc_rs::rsa::PublicKey;
use aws_lc_rs::signature::{EcdsaKeyPair, Ed25519KeyPair, RsaKeyPair};

use super::error::KeyError;
use super::secret::Secret;
use super::signing::SigningKey;
use super::suite::CURVES;
use super::verifying::VerifyingKey;
use crate::algorithm::Algorithm;

const PRIVATE: &str = "\"PRIVATE KEY\", \"EC PRIVATE KEY\" or \"RSA PRIVATE KEY\"";
const PUBLIC: &str = "\"PUBLIC KEY\", \"RSA PUBLIC KEY\" or a private key";
/// PEM names no algorithm, and an RSA key would serve six: this is the one it is bound to.
const RSA: Algorithm = Algorithm::Rs256;

impl SigningKey {
    /// Reads the one private key in a PEM text: PKCS#8 (`PRIVATE KEY`), SEC 1 (`EC PRIVATE KEY`) or PKCS#1
    /// (`RSA PRIVATE KEY`). An RSA key is bound to RS256; a JWK can name another algorithm.
    ///
    /// # Errors
    /// If there is not exactly one such block, or the key in it is of a kind not supported here.
    pub fn from_pem(text: &str) -> Result<Self, KeyError> {
        let mut keys = Vec::new();
        for block in blocks(text, PRIVATE)? {
            keys.push(private_key(block, PRIVATE)?);
        }
        match keys.len() {
            1 => Ok(keys.remove(0).without_name()),
            count => Err(KeyError::Pem { expected: PRIVATE, found: format!("{count} keys where one is wanted") }),
        }
    }
}

/// Every key in the text, private ones for their public part.
pub(super) fn verifying_keys(text: &str) -> Result<Vec<VerifyingKey>, KeyError> {
    blocks(text, PUBLIC)?
        .into_iter()
        .map(|block| match block.tag() {
            "PUBLIC KEY" => public_key(block.contents()),
            "RSA PUBLIC KEY" => rsa_public_key(block.contents()),
            _ => private_key(block, PUBLIC).map(|key| key.verifying_key()),
        })
        .map(|key| key.map(VerifyingKey::without_name))
        .collect()
}

fn blocks(text: &str, expected: &'static str) -> Result<Vec<Pem>, KeyError> {
    let blocks = ::pem::parse_many(text).map_err(|error| KeyError::Pem { expected, found: error.to_string() })?;
    // `openssl ecparam -genkey` writes the curve's name before the key.
    let keys: Vec<Pem> = blocks.into_iter().filter(|block| block.tag() != "EC PARAMETERS").collect();
    if keys.is_empty() {
        return Err(KeyError::Pem { expected, found: "no block at all".to_owned() });
    }
    Ok(keys)
}

fn private_key(block: Pem, expected: &'static str) -> Result<SigningKey, KeyError> {
    let tag = block.tag().to_owned();
    let der = Secret::new(block.into_contents());
    let key = match tag.as_str() {
        "PRIVATE KEY" => {
            ed25519(&der).or_else(|| ecdsa(&der)).or_else(|| rsa(RsaKeyPair::from_pkcs8(der.expose()).ok()?))
        }
        "EC PRIVATE KEY" => ecdsa(&der),
        "RSA PRIVATE KEY" => RsaKeyPair::from_der(der.expose()).ok().and_then(rsa),
        other => return Err(KeyError::Pem { expected, found: format!("{other:?}") }),
    };
    key.unwrap_or_else(|| Err(unsupported()))
}

fn ed25519(der: &Secret) -> Option<Result<SigningKey, KeyError>> {
    Ed25519KeyPair::from_pkcs8_maybe_unchecked(der.expose()).ok().map(SigningKey::ed25519)
}

fn ecdsa(der: &Secret) -> Option<Result<SigningKey, KeyError>> {
    CURVES.iter().find_map(|curve| {
        let pair = EcdsaKeyPair::from_private_key_der(curve.signing, der.expose()).ok()?;
        Some(SigningKey::ecdsa(curve, pair))
    })
}

fn rsa(pair: RsaKeyPair) -> Option<Result<SigningKey, KeyError>> {
    Some(SigningKey::rsa(RSA, pair))
}

const ED25519_SPKI: &[u8] = b"\x30\x2a\x30\x05\x06\x03\x2b\x65\x70\x03\x21\x00";

fn public_key(der: &[u8]) -> Result<VerifyingKey, KeyError> {
    if let Some(point) = der.strip_prefix(ED25519_SPKI) {
        return VerifyingKey::ed25519(point);
    }
    let on_curve = CURVES.iter().find_map(|curve| Some((curve, der.strip_prefix(curve.spki)?)));
    match on_curve {
        Some((curve, point)) => VerifyingKey::ecdsa(curve, point),
        None => rsa_public_key(der),
    }
}

fn rsa_public_key(der: &[u8]) -> Result<VerifyingKey, KeyError> {
    let key = PublicKey::from_der(der).map_err(|_| unsupported())?;
    let (n, e) = (key.modulus(), key.exponent());
    VerifyingKey::rsa(RSA, n.big_endian_without_leading_zero(), e.big_endian_without_leading_zero())
}

fn unsupported() -> KeyError {
    KeyError::Unsupported {
        expected: "an RSA key of 2048 to 8192 bits, a key on P-256, P-384 or P-521 (uncompressed), or an Ed25519 key",
        found: "a key of another kind".to_owned(),
    }
}
