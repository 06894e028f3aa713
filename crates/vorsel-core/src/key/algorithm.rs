//! The signature algorithms, by their registered names.

use std::fmt;
use std::str::FromStr;

use serde::de::Error;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::finding::quoted;

/// A JWS signature algorithm. There is no variant for an unsigned token: it cannot be expressed.
///
/// ```
/// use vorsel_core::Algorithm;
///
/// assert_eq!(Algorithm::from_name("ES256"), Some(Algorithm::Es256));
/// assert_eq!(Algorithm::from_name("none"), None);
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[non_exhaustive]
pub enum Algorithm {
    /// HMAC with SHA-256 ([RFC 7518 section 3.2](https://www.rfc-editor.org/rfc/rfc7518#section-3.2)).
    Hs256,
    /// HMAC with SHA-384.
    Hs384,
    /// HMAC with SHA-512.
    Hs512,
    /// RSASSA-PKCS1-v1_5 with SHA-256 ([RFC 7518 section 3.3](https://www.rfc-editor.org/rfc/rfc7518#section-3.3)).
    Rs256,
    /// RSASSA-PKCS1-v1_5 with SHA-384.
    Rs384,
    /// RSASSA-PKCS1-v1_5 with SHA-512.
    Rs512,
    /// RSASSA-PSS with SHA-256, the salt as long as the hash
    /// ([RFC 7518 section 3.5](https://www.rfc-editor.org/rfc/rfc7518#section-3.5)).
    Ps256,
    /// RSASSA-PSS with SHA-384.
    Ps384,
    /// RSASSA-PSS with SHA-512.
    Ps512,
    /// ECDSA on P-256 with SHA-256 ([RFC 7518 section 3.4](https://www.rfc-editor.org/rfc/rfc7518#section-3.4)).
    Es256,
    /// ECDSA on P-384 with SHA-384.
    Es384,
    /// ECDSA on P-521 with SHA-512.
    Es512,
    /// EdDSA on Ed25519 ([RFC 8037 section 3.1](https://www.rfc-editor.org/rfc/rfc8037#section-3.1)), read under its
    /// fully specified name too ([RFC 9864 section 2.2](https://www.rfc-editor.org/rfc/rfc9864#section-2.2)).
    EdDsa,
}

impl Algorithm {
    /// Every algorithm, in the order of the enum.
    pub const ALL: [Self; 13] = [
        Self::Hs256,
        Self::Hs384,
        Self::Hs512,
        Self::Rs256,
        Self::Rs384,
        Self::Rs512,
        Self::Ps256,
        Self::Ps384,
        Self::Ps512,
        Self::Es256,
        Self::Es384,
        Self::Es512,
        Self::EdDsa,
    ];

    /// The registered name, as written into tokens.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Hs256 => "HS256",
            Self::Hs384 => "HS384",
            Self::Hs512 => "HS512",
            Self::Rs256 => "RS256",
            Self::Rs384 => "RS384",
            Self::Rs512 => "RS512",
            Self::Ps256 => "PS256",
            Self::Ps384 => "PS384",
            Self::Ps512 => "PS512",
            Self::Es256 => "ES256",
            Self::Es384 => "ES384",
            Self::Es512 => "ES512",
            Self::EdDsa => "EdDSA",
        }
    }

    /// The algorithm registered under `name`; names are case-sensitive
    /// ([RFC 7515 section 4.1.1](https://www.rfc-editor.org/rfc/rfc7515#section-4.1.1)).
    #[must_use]
    pub fn from_name(name: &str) -> Option<Self> {
        match name {
            "Ed25519" => Some(Self::EdDsa),
            _ => Self::ALL.into_iter().find(|algorithm| algorithm.name() == name),
        }
    }

    /// Whether signer and checker share one secret.
    #[must_use]
    pub const fn is_symmetric(self) -> bool {
        matches!(self, Self::Hs256 | Self::Hs384 | Self::Hs512)
    }
}

impl fmt::Display for Algorithm {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

/// A text that names no algorithm.
///
/// ```
/// let error = "none".parse::<vorsel_core::Algorithm>().unwrap_err();
/// assert_eq!(error.found, "\"none\"");
/// ```
#[derive(Clone, PartialEq, Eq, thiserror::Error)]
#[error("expected the registered name of a signature algorithm, such as EdDSA or ES256, but found {found}")]
pub struct AlgorithmError {
    /// The text, escaped and shortened.
    pub found: String,
}

readable_debug!(AlgorithmError);

impl FromStr for Algorithm {
    type Err = AlgorithmError;

    fn from_str(name: &str) -> Result<Self, AlgorithmError> {
        Self::from_name(name).ok_or_else(|| AlgorithmError { found: quoted(name) })
    }
}

impl Serialize for Algorithm {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.name())
    }
}

impl<'de> Deserialize<'de> for Algorithm {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(D::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_read_exactly() {
        for algorithm in Algorithm::ALL {
            assert_eq!(Algorithm::from_name(algorithm.name()), Some(algorithm));
            assert_eq!(Algorithm::from_name(&algorithm.name().to_lowercase()), None);
        }
        assert_eq!(Algorithm::from_name("Ed25519"), Some(Algorithm::EdDsa));
        for unsigned in ["none", "None", "NONE", "nOnE", "", " "] {
            assert_eq!(Algorithm::from_name(unsigned), None);
        }
    }
}
