//! Why a step is not taken.

use super::record::KeyState;
use crate::encoding::json::JsonError;
use crate::key::KeyError;
use crate::time::Timestamp;

/// Why a keyring did not take a step. It is as it was before.
///
/// ```
/// use vorsel_core::{Algorithm, KeyTimes, Keyring, SigningKey, StepError, Timestamp};
///
/// let now = Timestamp::from_secs(1_700_000_000);
/// let mut keyring = Keyring::new(SigningKey::generate(Algorithm::EdDsa)?.named("first"), KeyTimes::default(), now);
/// let error = keyring.destroy("first", now).unwrap_err();
/// assert!(matches!(&error, StepError::NoSuccessor { kid } if kid == "first"), "{error}");
/// # Ok::<(), vorsel_core::KeyError>(())
/// ```
#[derive(Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum StepError {
    /// No key of the keyring has this ID.
    #[error("expected the ID of a key in the keyring, but found {kid:?}")]
    UnknownKey {
        /// The ID.
        kid: String,
    },
    /// A key of this ID is or was in the keyring.
    #[error("expected a key with an ID of its own, but {kid:?} is or was in the keyring")]
    KnownKey {
        /// The ID.
        kid: String,
    },
    /// The very key that was found to be known to others, under another ID.
    #[error("expected a new key, but key {kid:?} is the one that was compromised as {known:?}")]
    Compromised {
        /// The ID that it comes with.
        kid: String,
        /// The ID under which it was compromised.
        known: String,
    },
    /// The key is planned to sign so soon that some instance may take it for active already.
    #[error("key {kid:?} signs from {planned}, too soon for all instances to learn of another date")]
    SignsSoon {
        /// The key.
        kid: String,
        /// The date that stands.
        planned: Timestamp,
    },
    /// Another key takes over in the same second, so this one would never sign.
    #[error("key {kid:?} would never sign: {other:?} takes over at {from} as well; choose another second")]
    NeverSigns {
        /// The key.
        kid: String,
        /// The one that signs instead.
        other: String,
        /// The date.
        from: Timestamp,
    },
    /// A shared secret beside public keys, or the other way about.
    #[error("expected a key of the same family as the others, but found one for {found}")]
    OtherFamily {
        /// The algorithm of the key.
        found: &'static str,
    },
    /// Some verifiers may not know the key yet, so its tokens would be refused.
    #[error(
        "key {kid:?} cannot sign before {earliest}: until then, verifiers may go by a key set that does not have it, \
         and would refuse its tokens (it was published at {published_at})"
    )]
    SignsTooEarly {
        /// The key.
        kid: String,
        /// When it was published.
        published_at: Timestamp,
        /// The earliest safe date.
        earliest: Timestamp,
    },
    /// Tokens that the key has signed may still be good.
    #[error(
        "key {kid:?} cannot be destroyed before {earliest}: until then, there may be tokens that it has signed and that \
         have not expired (it signs or signed until {deactivated_at})"
    )]
    DestroyedTooEarly {
        /// The key.
        kid: String,
        /// When it stops or stopped signing.
        deactivated_at: Timestamp,
        /// The earliest safe date.
        earliest: Timestamp,
    },
    /// The key signs and no other is to follow it.
    #[error("key {kid:?} cannot be destroyed: it is active, and no other key is to follow it; roll the keys first")]
    NoSuccessor {
        /// The key.
        kid: String,
    },
    /// A key in this state does not take this step.
    #[error("key {kid:?} cannot {step}: it is {state}")]
    WrongState {
        /// The key.
        kid: String,
        /// What was asked for.
        step: &'static str,
        /// The state it is in.
        state: KeyState,
    },
}

readable_debug!(StepError);

/// Why a text is not a keyring.
///
/// ```
/// use vorsel_core::{Keyring, KeyringTextError};
///
/// let error = Keyring::from_private_text("{}").unwrap_err();
/// assert!(matches!(error, KeyringTextError::Member { .. }));
/// assert_eq!(error.to_string(), "expected a number of seconds in the member \"longest_lifetime\"");
/// ```
#[derive(thiserror::Error)]
#[non_exhaustive]
pub enum KeyringTextError {
    /// Not a strict JSON object.
    #[error("the keyring cannot be read")]
    Json(#[from] JsonError),
    /// A member is missing or malformed.
    #[error("expected {expected} in the member {member:?}{}", match .index {
        Some(index) => format!(" of key {index}"),
        None => String::new(),
    })]
    Member {
        /// The member.
        member: &'static str,
        /// The key it belongs to, from 0; nothing for a member of the keyring itself.
        index: Option<usize>,
        /// What would be right.
        expected: &'static str,
    },
    /// A key is refused.
    #[error("key {index} of the keyring cannot be used")]
    Key {
        /// Its place, from 0.
        index: usize,
        /// Why.
        source: KeyError,
    },
    /// A key does not go with those before it.
    #[error("key {index} of the keyring does not go with the others")]
    Step {
        /// Its place, from 0.
        index: usize,
        /// Why.
        source: StepError,
    },
}

readable_debug!(KeyringTextError);
