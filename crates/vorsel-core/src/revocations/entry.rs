//! What is revoked or has ended, as the feed tells it.

use crate::time::Timestamp;

/// What does not stand any more: because a session ended, or because access tokens were revoked.
///
/// Moments count in whole seconds, as tokens do: of what happened within one second nobody can tell what came first, so it is
/// all meant.
///
/// ```
/// use vorsel_core::{Revoked, Timestamp};
///
/// let up_to = Timestamp::from_secs(1_700_000_000);
/// assert_eq!(Revoked::IssuedTo { subject: "obs-0017".to_owned(), up_to }.name(), Some("obs-0017"));
/// assert_eq!(Revoked::Issued { up_to }.name(), None);
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Revoked {
    /// The session with this `sid` has ended: every token of it.
    Session(String),
    /// Every session that began no later than `up_to` has ended: every token of those. Where a token does not say when that
    /// was, it goes by when the caller authenticated.
    SignIns {
        /// Up to when.
        up_to: Timestamp,
    },
    /// The token with this `jti`.
    Token(String),
    /// The tokens of one session that were issued no later than `up_to`. Its renewal goes on.
    IssuedInSession {
        /// The session, `sid`.
        session: String,
        /// Up to when.
        up_to: Timestamp,
    },
    /// The tokens of one subject that were issued no later than `up_to`.
    IssuedTo {
        /// The subject, `sub`.
        subject: String,
        /// Up to when.
        up_to: Timestamp,
    },
    /// Every token that was issued no later than `up_to`.
    Issued {
        /// Up to when.
        up_to: Timestamp,
    },
    /// Every token that the key with this ID signed.
    Key(String),
}

impl Revoked {
    /// The name of the session, the subject, the token or the key; none where everything of a time is meant.
    #[must_use]
    pub fn name(&self) -> Option<&str> {
        match self {
            Self::Token(name) | Self::Session(name) | Self::Key(name) => Some(name),
            Self::IssuedInSession { session: name, .. } | Self::IssuedTo { subject: name, .. } => Some(name),
            Self::SignIns { .. } | Self::Issued { .. } => None,
        }
    }
}

/// What a subject, a session, a token or a key of another issuer is called where it is revoked; an empty name is everybody there.
#[must_use]
pub fn at_issuer(issuer: &str, name: &str) -> String {
    format!("{issuer}\n{name}")
}

/// One entry of the feed.
///
/// ```
/// use vorsel_core::{Revocation, Revoked, Timestamp};
///
/// let until = Timestamp::from_secs(1_700_000_900);
/// let entry = Revocation { what: Revoked::Session("s1".to_owned()), until };
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Revocation {
    /// What is revoked.
    pub what: Revoked,
    /// Until when it has to be remembered.
    pub until: Timestamp,
}
