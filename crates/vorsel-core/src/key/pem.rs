//! Keys in PEM: PKCS#8 ([RFC 5958](https://www.rfc-editor.org/rfc/rfc5958)), SEC 1
//! ([RFC 5915](https://www.rfc-editor.org/rfc/rfc5915)) and SubjectPublicKeyInfo
//! ([RFC 5280 section 4.1](https://www.rfc-editor.org/rfc/rfc5280#section-4.1)).

use aws_lc_rs::rsa::PublicKey;
use aws_lc_rs::signature::{EcdsaKeyPair, Ed25519KeyPair, RsaKeyPair};
use base64_simd::STANDARD;
use zeroize::Zeroizing;

use super::algorithm::Algorithm;
use super::error::KeyError;
use super::secret::Secret;
use super::signing::SigningKey;
use super::suite::{CURVES, rsa_of};
use super::verifying::VerifyingKey;

const PRIVATE: &str = "\"PRIVATE KEY\", \"EC PRIVATE KEY\" or \"RSA PRIVATE KEY\"";
const PUBLIC: &str = "\"PUBLIC KEY\", \"RSA PUBLIC KEY\" or a private key";
/// PEM names no algorithm, and an RSA key would serve six: this is the one it is bound to unless another is asked for.
const RSA: Algorithm = Algorithm::Rs256;

impl SigningKey {
    /// Reads the one private key in a PEM text: PKCS#8 (`PRIVATE KEY`), SEC 1 (`EC PRIVATE KEY`) or PKCS#1
    /// (`RSA PRIVATE KEY`). An RSA key is bound to RS256;
    /// [`from_rsa_pem`](Self::from_rsa_pem) and a JWK can name another algorithm.
    ///
    /// # Errors
    /// If there is not exactly one such block, or the key in it is of a kind not supported here.
    pub fn from_pem(text: &str) -> Result<Self, KeyError> {
        Self::from_pem_for(text, RSA)
    }

    /// [`from_pem`](Self::from_pem) of an RSA key that is bound to this algorithm: PEM does not say.
    ///
    /// # Errors
    /// As [`from_pem`](Self::from_pem), and if the algorithm is not one of RSA.
    pub fn from_rsa_pem(text: &str, algorithm: Algorithm) -> Result<Self, KeyError> {
        let key = Self::from_pem_for(text, of_rsa(algorithm)?)?;
        if key.algorithm() == algorithm { Ok(key) } else { Err(not_rsa(key.algorithm())) }
    }

    fn from_pem_for(text: &str, algorithm: Algorithm) -> Result<Self, KeyError> {
        let mut keys = Vec::new();
        for block in blocks(text, PRIVATE)? {
            keys.push(private_key(block, PRIVATE, algorithm)?);
        }
        match keys.len() {
            1 => Ok(keys.remove(0).without_name()),
            count => Err(KeyError::Pem { expected: PRIVATE, found: format!("{count} keys where one is wanted") }),
        }
    }
}

/// Every key in the text, private ones for their public part.
pub(super) fn verifying_keys(text: &str) -> Result<Vec<VerifyingKey>, KeyError> {
    read_public(text, RSA)
}

/// The same of RSA keys alone, bound to this algorithm.
pub(super) fn verifying_keys_for(text: &str, algorithm: Algorithm) -> Result<Vec<VerifyingKey>, KeyError> {
    let keys = read_public(text, of_rsa(algorithm)?)?;
    match keys.iter().find(|key| key.algorithm() != algorithm) {
        Some(other) => Err(not_rsa(other.algorithm())),
        None => Ok(keys),
    }
}

fn of_rsa(algorithm: Algorithm) -> Result<Algorithm, KeyError> {
    rsa_of(algorithm).map(|_| algorithm).ok_or_else(|| KeyError::Unsupported {
        expected: "an algorithm of RSA: RS256, RS384, RS512, PS256, PS384 or PS512",
        found: algorithm.to_string(),
    })
}

fn not_rsa(found: Algorithm) -> KeyError {
    KeyError::Unsupported { expected: "RSA keys alone", found: format!("a key for {found}") }
}

fn read_public(text: &str, algorithm: Algorithm) -> Result<Vec<VerifyingKey>, KeyError> {
    blocks(text, PUBLIC)?
        .into_iter()
        .map(|block| match block.tag.as_str() {
            "PUBLIC KEY" => public_key(block.der.reveal(), algorithm),
            "RSA PUBLIC KEY" => rsa_public_key(block.der.reveal(), algorithm),
            _ => private_key(block, PUBLIC, algorithm).map(|key| key.verifying_key()),
        })
        .map(|key| key.map(VerifyingKey::without_name))
        .collect()
}

/// What stands between two lines of PEM, decoded.
struct Block {
    tag: String,
    der: Secret,
}

/// The blocks of a text ([RFC 7468 section 2](https://www.rfc-editor.org/rfc/rfc7468#section-2)). Read here, so that no copy
/// of a private key's text is left behind in freed memory.
fn blocks(text: &str, expected: &'static str) -> Result<Vec<Block>, KeyError> {
    let wrong = |found: String| KeyError::Pem { expected, found };
    let (mut blocks, mut rest) = (Vec::new(), text);
    while let Some((_, after)) = rest.split_once("-----BEGIN ") {
        // What stands in the place of a label may be a part of a key, so it is not repeated.
        let Some((tag, after)) = after.split_once("-----").filter(|(tag, _)| is_label(tag)) else {
            return Err(wrong("a first line that is not \"-----BEGIN\", a label and \"-----\"".to_owned()));
        };
        let end = after.split_once("-----END ").and_then(|(body, after)| Some((body, after.split_once("-----")?)));
        let Some((body, (end, after))) = end else {
            return Err(wrong(format!("a block {tag:?} without its last line")));
        };
        if end != tag {
            return Err(wrong(format!("a block {tag:?} whose last line says otherwise")));
        }
        let der = decoded(body).ok_or_else(|| wrong(format!("a block {tag:?} that is not base64 alone")))?;
        // `openssl ecparam -genkey` writes the curve's name before the key.
        if tag != "EC PARAMETERS" {
            blocks.push(Block { tag: tag.to_owned(), der });
        }
        rest = after;
    }
    if blocks.is_empty() { Err(wrong("no block at all".to_owned())) } else { Ok(blocks) }
}

fn is_label(text: &str) -> bool {
    const LONGEST: usize = 30;
    text.len() <= LONGEST && text.bytes().all(|byte| byte.is_ascii_uppercase() || byte.is_ascii_digit() || byte == b' ')
}

/// The bytes of a body, which lines may divide. One that is encrypted has headers, which are not base64.
fn decoded(body: &str) -> Option<Secret> {
    let mut text = Zeroizing::new(Vec::with_capacity(body.len()));
    text.extend(body.bytes().filter(|byte| !byte.is_ascii_whitespace()));
    STANDARD.decode_to_vec(&*text).ok().map(Secret::new)
}

fn private_key(block: Block, expected: &'static str, algorithm: Algorithm) -> Result<SigningKey, KeyError> {
    let Block { tag, der } = block;
    let key = match tag.as_str() {
        "PRIVATE KEY" => {
            let rsa = || Some(SigningKey::rsa(algorithm, RsaKeyPair::from_pkcs8(der.reveal()).ok()?));
            ed25519(&der).or_else(|| ecdsa(&der)).or_else(rsa)
        }
        "EC PRIVATE KEY" => ecdsa(&der),
        "RSA PRIVATE KEY" => RsaKeyPair::from_der(der.reveal()).ok().map(|pair| SigningKey::rsa(algorithm, pair)),
        other => return Err(KeyError::Pem { expected, found: format!("{other:?}") }),
    };
    key.unwrap_or_else(|| Err(unsupported()))
}

fn ed25519(der: &Secret) -> Option<Result<SigningKey, KeyError>> {
    Ed25519KeyPair::from_pkcs8_maybe_unchecked(der.reveal()).ok().map(SigningKey::ed25519)
}

fn ecdsa(der: &Secret) -> Option<Result<SigningKey, KeyError>> {
    CURVES.iter().find_map(|curve| {
        let pair = EcdsaKeyPair::from_private_key_der(curve.signing, der.reveal()).ok()?;
        Some(SigningKey::ecdsa(curve, pair))
    })
}

const ED25519_SPKI: &[u8] = b"\x30\x2a\x30\x05\x06\x03\x2b\x65\x70\x03\x21\x00";

fn public_key(der: &[u8], algorithm: Algorithm) -> Result<VerifyingKey, KeyError> {
    if let Some(point) = der.strip_prefix(ED25519_SPKI) {
        return VerifyingKey::ed25519(point);
    }
    let on_curve = CURVES.iter().find_map(|curve| Some((curve, der.strip_prefix(curve.spki)?)));
    match on_curve {
        Some((curve, point)) => VerifyingKey::ecdsa(curve, point),
        None => rsa_public_key(der, algorithm),
    }
}

fn rsa_public_key(der: &[u8], algorithm: Algorithm) -> Result<VerifyingKey, KeyError> {
    let key = PublicKey::from_der(der).map_err(|_| unsupported())?;
    let (n, e) = (key.modulus(), key.exponent());
    VerifyingKey::rsa(algorithm, n.big_endian_without_leading_zero(), e.big_endian_without_leading_zero())
}

fn unsupported() -> KeyError {
    KeyError::Unsupported {
        expected: "an RSA key of 2048 to 8192 bits, a key on P-256, P-384 or P-521 (uncompressed), or an Ed25519 key",
        found: "a key of another kind".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn blocks_are_read_whole_or_not_at_all() {
        let read = |text: &str| match blocks(text, PRIVATE) {
            Ok(blocks) => blocks.iter().map(|block| format!("{} {:?} ", block.tag, block.der.reveal())).collect(),
            Err(KeyError::Pem { found, .. }) => found,
            Err(other) => other.to_string(),
        };
        for (text, found) in [
            ("before\r\n-----BEGIN A-----\r\nAQ\r\n ID\r\n-----END A-----\r\nafter", "A [1, 2, 3] "),
            ("-----BEGIN A-----AQ==-----END A----------BEGIN B-----Ag==-----END B-----", "A [1] B [2] "),
            ("-----BEGIN EC PARAMETERS-----AQ==-----END EC PARAMETERS-----", "no block at all"),
            ("-----BEGIN A", "a first line that is not \"-----BEGIN\", a label and \"-----\""),
            ("-----BEGIN A\nAQ==\n-----END A-----", "a first line that is not \"-----BEGIN\", a label and \"-----\""),
            ("-----BEGIN A-----AQ==", "a block \"A\" without its last line"),
            ("-----BEGIN A-----AQ==-----END B-----", "a block \"A\" whose last line says otherwise"),
            ("-----BEGIN A-----AQ-----END A-----", "a block \"A\" that is not base64 alone"),
            ("-----BEGIN A-----\nProc-Type: 4\n\nAQ==\n-----END A-----", "a block \"A\" that is not base64 alone"),
        ] {
            assert_eq!(read(text), found, "{text:?}");
        }
    }
}
