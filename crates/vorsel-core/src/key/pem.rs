//! Keys in PEM: PKCS#8 ([RFC 5958](https://www.rfc-editor.org/rfc/rfc5958)), SEC 1
//! ([RFC 5915](https://www.rfc-editor.org/rfc/rfc5915)) and SubjectPublicKeyInfo
//! ([RFC 5280 section 4.1](https://www.rfc-editor.org/rfc/rfc5280#section-4.1)).

use ::pem::Pem;
use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, Ed25519KeyPair};

use super::error::KeyError;
use super::secret::Secret;
use super::signing::SigningKey;
use super::verifying::VerifyingKey;

const PRIVATE: &str = "\"PRIVATE KEY\" or \"EC PRIVATE KEY\"";
const PUBLIC: &str = "\"PUBLIC KEY\", \"PRIVATE KEY\" or \"EC PRIVATE KEY\"";

impl SigningKey {
    /// Reads the one private key in a PEM text: PKCS#8 (`PRIVATE KEY`) or SEC 1 (`EC PRIVATE KEY`).
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
    let ecdsa = || EcdsaKeyPair::from_private_key_der(&ECDSA_P256_SHA256_FIXED_SIGNING, der.expose());
    match tag.as_str() {
        "PRIVATE KEY" => match Ed25519KeyPair::from_pkcs8_maybe_unchecked(der.expose()) {
            Ok(pair) => SigningKey::ed25519(pair),
            Err(_) => ecdsa().map_err(|_| unsupported()).and_then(SigningKey::ecdsa),
        },
        "EC PRIVATE KEY" => ecdsa().map_err(|_| unsupported()).and_then(SigningKey::ecdsa),
        other => Err(KeyError::Pem { expected, found: format!("{other:?}") }),
    }
}

/// The DER before the key bits of the two kinds of public key read here; both have a fixed length, so what follows
/// is the whole key and nothing can hide behind it.
const P256_SPKI: &[u8] = b"\x30\x59\x30\x13\x06\x07\x2a\x86\x48\xce\x3d\x02\x01\x06\x08\x2a\x86\x48\xce\x3d\x03\x01\
                           \x07\x03\x42\x00";
const ED25519_SPKI: &[u8] = b"\x30\x2a\x30\x05\x06\x03\x2b\x65\x70\x03\x21\x00";

fn public_key(der: &[u8]) -> Result<VerifyingKey, KeyError> {
    match (der.strip_prefix(P256_SPKI), der.strip_prefix(ED25519_SPKI)) {
        (Some(point), _) => VerifyingKey::es256(point),
        (_, Some(point)) => VerifyingKey::ed25519(point),
        _ => Err(unsupported()),
    }
}

fn unsupported() -> KeyError {
    KeyError::Unsupported {
        expected: "a P-256 key (uncompressed) or an Ed25519 key",
        found: "a key of another kind".to_owned(),
    }
}
