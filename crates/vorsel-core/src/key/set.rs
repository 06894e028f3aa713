//! The keys a verifier trusts.

use std::str::FromStr;

use serde_json::Value;

use super::algorithm::Algorithm;
use super::error::KeyError;
use super::verifying::VerifyingKey;
use super::{jwk, pem};
use crate::encoding::json::{self, JsonError, Object};

/// The keys a verifier trusts, each bound to one algorithm.
///
/// ```
/// use vorsel_core::{Algorithm, KeySet, SigningKey};
///
/// let key = SigningKey::generate(Algorithm::Es256)?;
/// let public = serde_json::to_string(&KeySet::new([key.verifying_key()]).to_public_jwk_set())?;
/// assert_eq!(KeySet::read(&public)?.keys()[0].key_id(), key.key_id());
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, Default)]
pub struct KeySet {
    keys: Vec<VerifyingKey>,
    skipped: Vec<SkippedKey>,
    /// IDs of keys that were taken out, and what became of them.
    withdrawn: Vec<(String, String)>,
}

/// A member of a JWK Set that is no key for us, and why. A set may hold keys for other uses
/// ([RFC 7517 section 5](https://www.rfc-editor.org/rfc/rfc7517#section-5)), so it is left out rather than fatal.
///
/// ```
/// let set = vorsel_core::KeySet::read(r#"{"keys":[{"kty":"OKP","crv":"Ed448","x":"AA"}]}"#);
/// let Err(vorsel_core::KeySetError::NoUsableKey { skipped }) = set else { panic!("none can be used") };
/// assert_eq!(skipped[0].index, 0);
/// assert!(skipped[0].reason.ends_with("but found \"Ed448\""), "{}", skipped[0].reason);
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SkippedKey {
    /// Its place in the set, from 0.
    pub index: usize,
    /// What was expected and found.
    pub reason: String,
}

/// Why a text gives no key set.
///
/// ```
/// use vorsel_core::{KeySet, KeySetError};
///
/// assert!(matches!(KeySet::read(r#"{"keys":{}}"#), Err(KeySetError::NotAnArray { .. })));
/// assert!(matches!(KeySet::read(r#"{"keys":[]}"#), Err(KeySetError::NoUsableKey { .. })));
/// ```
#[derive(thiserror::Error)]
#[non_exhaustive]
pub enum KeySetError {
    /// Neither JSON nor PEM.
    #[error("expected a JWK Set, a JWK or PEM, but found other text")]
    Unknown,
    /// The JSON is not a strict object.
    #[error("the JWK Set cannot be read")]
    Json(#[from] JsonError),
    /// The one key in the text is refused.
    #[error("the key cannot be used")]
    Key(#[from] KeyError),
    /// `keys` is not an array.
    #[error("expected an array in the member \"keys\", but found {found}")]
    NotAnArray {
        /// The JSON type that was there.
        found: &'static str,
    },
    /// Not one key of the set can be used.
    #[error("expected at least one usable key, but {}", match .skipped.first() {
        None => "the set is empty".to_owned(),
        Some(first) => format!("key {} of {} was refused first: {}", first.index, .skipped.len(), first.reason),
    })]
    NoUsableKey {
        /// Every member and why it was refused.
        skipped: Vec<SkippedKey>,
    },
}

readable_debug!(KeySetError);

/// At most this many keys are tried for one token, so that a token cannot buy work.
const MAX_CANDIDATES: usize = 4;

impl KeySet {
    /// A set of these keys.
    #[must_use]
    pub fn new(keys: impl IntoIterator<Item = VerifyingKey>) -> Self {
        Self { keys: keys.into_iter().collect(), ..Self::default() }
    }

    /// Reads a JWK Set, one JWK, or PEM with one or more keys.
    ///
    /// # Errors
    /// If the text is none of these, or not one key in it can be used.
    pub fn read(text: &str) -> Result<Self, KeySetError> {
        if text.trim_start().starts_with('{') {
            Self::from_json(text)
        } else if text.contains("-----BEGIN") {
            Ok(Self::new(pem::verifying_keys(text)?))
        } else {
            Err(KeySetError::Unknown)
        }
    }

    /// Reads PEM with one or more keys, of which RSA keys are bound to this algorithm instead of RS256: PEM does not say.
    ///
    /// # Errors
    /// If the algorithm is not one of RSA, or a key in the text can't be used.
    pub fn from_rsa_pem(text: &str, algorithm: Algorithm) -> Result<Self, KeyError> {
        Ok(Self::new(pem::verifying_keys_for(text, algorithm)?))
    }

    fn from_json(text: &str) -> Result<Self, KeySetError> {
        let mut object = json::object(text.as_bytes())?;
        match object.get_mut("keys") {
            None => {
                let key = jwk::verifying_key_of(&object);
                jwk::wipe(&mut object);
                Ok(Self::new([key?]))
            }
            Some(Value::Array(members)) => Self::from_members(members),
            Some(other) => Err(KeySetError::NotAnArray { found: json::type_name(other) }),
        }
    }

    fn from_members(members: &mut [Value]) -> Result<Self, KeySetError> {
        let mut set = Self::default();
        for (index, member) in members.iter_mut().enumerate() {
            match read_member(member) {
                Ok(key) => set.keys.push(key),
                Err(reason) => set.skipped.push(SkippedKey { index, reason }),
            }
        }
        if set.keys.is_empty() {
            return Err(KeySetError::NoUsableKey { skipped: set.skipped });
        }
        Ok(set)
    }

    /// The keys, in the order given.
    #[must_use]
    pub fn keys(&self) -> &[VerifyingKey] {
        &self.keys
    }

    /// The members of the JWK Set that were left out.
    #[must_use]
    pub fn skipped(&self) -> &[SkippedKey] {
        &self.skipped
    }

    /// This set and another as one.
    #[must_use]
    pub fn and(mut self, other: Self) -> Self {
        self.keys.extend(other.keys);
        self.skipped.extend(other.skipped);
        self.withdrawn.extend(other.withdrawn);
        self
    }

    pub(crate) fn with_withdrawn(mut self, names: impl IntoIterator<Item = (String, String)>) -> Self {
        self.withdrawn.extend(names);
        self
    }

    /// What became of a key that was taken out.
    pub(crate) fn withdrawn(&self, kid: &str) -> Option<&str> {
        self.withdrawn.iter().find(|(known, _)| known == kid).map(|(_, state)| state.as_str())
    }

    /// The public keys as a JWK Set object; shared secrets are left out.
    #[must_use]
    pub fn to_public_jwk_set(&self) -> Object {
        let keys = self.keys.iter().filter_map(VerifyingKey::to_public_jwk).map(Value::Object).collect();
        [("keys".to_owned(), Value::Array(keys))].into_iter().collect()
    }

    /// The keys that may have signed a token with this header.
    pub(crate) fn candidates<'k>(
        &'k self,
        kid: Option<&str>,
        algorithm: Algorithm,
    ) -> Result<Candidates<'k>, CandidateError> {
        let by_name = |key: &&VerifyingKey| kid.is_none_or(|kid| key.key_id() == kid);
        let fitting = |key: &&VerifyingKey| key.algorithm() == algorithm;
        let few = |keys: &mut dyn Iterator<Item = &'k VerifyingKey>| Candidates(std::array::from_fn(|_| keys.next()));
        let named = few(&mut self.keys.iter().filter(by_name).filter(fitting));
        if !named.is_empty() {
            return Ok(named);
        }
        // A key ID that belongs to a key of another algorithm is not a reason to look further.
        if let Some(other) = self.keys.iter().find(|key| kid == Some(key.key_id())) {
            return Err(CandidateError::OtherAlgorithm(other.algorithm()));
        }
        // Nor is one whose key was taken out.
        if kid.is_some_and(|kid| self.withdrawn(kid).is_some()) {
            return Err(CandidateError::Unknown);
        }
        let nameless = few(&mut self.keys.iter().filter(|key| key.is_nameless()).filter(fitting));
        if nameless.is_empty() { Err(CandidateError::Unknown) } else { Ok(nameless) }
    }

    /// How many of the keys that may have signed a token with this header are not tried.
    pub(crate) fn untried(&self, kid: Option<&str>, algorithm: Algorithm) -> usize {
        let fitting = |key: &&VerifyingKey| key.algorithm() == algorithm;
        let named = self.keys.iter().filter(fitting).filter(|key| kid.is_none_or(|kid| key.key_id() == kid)).count();
        let count =
            if named > 0 { named } else { self.keys.iter().filter(fitting).filter(|key| key.is_nameless()).count() };
        count.saturating_sub(MAX_CANDIDATES)
    }

    /// The algorithms the keys are bound to, each once.
    pub(crate) fn algorithms(&self) -> Vec<Algorithm> {
        let mut algorithms: Vec<_> = self.keys.iter().map(VerifyingKey::algorithm).collect();
        algorithms.sort_unstable();
        algorithms.dedup();
        algorithms
    }
}

impl FromIterator<VerifyingKey> for KeySet {
    fn from_iter<I: IntoIterator<Item = VerifyingKey>>(keys: I) -> Self {
        Self::new(keys)
    }
}

impl Extend<VerifyingKey> for KeySet {
    fn extend<I: IntoIterator<Item = VerifyingKey>>(&mut self, keys: I) {
        self.keys.extend(keys);
    }
}

impl FromStr for KeySet {
    type Err = KeySetError;

    fn from_str(text: &str) -> Result<Self, KeySetError> {
        Self::read(text)
    }
}

fn read_member(member: &mut Value) -> Result<VerifyingKey, String> {
    let Value::Object(jwk) = member else {
        return Err(format!("expected an object, but found {}", json::type_name(member)));
    };
    let key = jwk::verifying_key_of(jwk).map_err(|error| error.to_string());
    jwk::wipe(jwk);
    key
}

/// A few keys of one algorithm.
pub(crate) struct Candidates<'a>([Option<&'a VerifyingKey>; MAX_CANDIDATES]);

impl Candidates<'_> {
    const fn is_empty(&self) -> bool {
        self.0[0].is_none()
    }

    /// The one that made `signature` over `input`.
    pub(crate) fn verify(&self, input: &[u8], signature: &[u8]) -> Option<&VerifyingKey> {
        self.0.iter().flatten().find(|key| key.verifies(input, signature)).copied()
    }
}

/// Why no key is a candidate.
pub(crate) enum CandidateError {
    /// No key has the ID, or the algorithm where no ID is given.
    Unknown,
    /// The key with that ID is bound to another algorithm.
    OtherAlgorithm(Algorithm),
}
