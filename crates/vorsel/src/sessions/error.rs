//! Why sessions are not set up, begun or renewed.

use vorsel_core::{EndReason, Finding, IssueError, KeyError};

use crate::admission::AdmissionError;
use crate::keys::KeyStepError;
use crate::random::RandomError;
use crate::store::StoreError;

/// Why sessions cannot be set up like this.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SetUpError {
    /// The keys for refresh tokens are not HMAC secrets.
    #[error("refresh tokens cannot be signed with these keys")]
    Keys(#[from] KeyError),
    /// The keyring could not be told of a longer lifetime.
    #[error("the keys do not reckon with tokens that last so long")]
    Lifetime(#[from] KeyStepError),
}

/// Why nobody was signed in.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StartError {
    /// The app did not admit the subject, or could not tell.
    #[error(transparent)]
    Admission(#[from] AdmissionError),
    /// The store failed.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The tokens could not be issued.
    #[error("the tokens could not be issued")]
    Issue(#[from] IssueError),
    /// The operating system gave no randomness.
    #[error(transparent)]
    Random(#[from] RandomError),
    /// The subject has as many sessions as it may.
    #[error("expected fewer than {most} sessions of the subject, but found that many")]
    TooManySessions {
        /// The limit.
        most: u32,
    },
}

/// Why a session was not renewed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RenewError {
    /// The refresh token was refused for this finding.
    #[error("the refresh token is refused: {0}")]
    BadToken(Box<Finding>),
    /// No record of this session, or the token did not come from it.
    #[error("the refresh token belongs to no session that is known")]
    UnknownSession,
    /// The token was given to another client.
    #[error("the refresh token was given to the client {expected:?}, but {found:?} presents it")]
    WrongClient {
        /// Whom it was given to.
        expected: String,
        /// Who presents it.
        found: String,
    },
    /// The session has lasted its time.
    #[error("the session has expired")]
    Expired,
    /// The session ended before.
    #[error("the session has ended: {0}")]
    Ended(EndReason),
    /// A spent token came back outside the retry window; the session has been ended.
    #[error("a spent refresh token of generation {presented} came back in generation {current}; the session is ended")]
    Replay {
        /// The generation of the token.
        presented: u64,
        /// The generation the session was in.
        current: u64,
    },
    /// So many renewals came after this token's, within the retry window, that its successor is not known any more. The
    /// session lives.
    #[error("the refresh token was spent too many renewals ago")]
    Outrun,
    /// More scopes were asked for than are granted.
    #[error("expected scopes within {granted:?}, but found {asked:?}")]
    ScopeNotGranted {
        /// What is granted.
        granted: String,
        /// What was asked for.
        asked: String,
    },
    /// The app did not admit the subject any more, or could not tell.
    #[error(transparent)]
    Admission(#[from] AdmissionError),
    /// The store failed. The client keeps its token and may try again.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The tokens could not be issued. The client keeps its token and may try again.
    #[error("the tokens could not be issued")]
    Issue(#[from] IssueError),
    /// The operating system gave no randomness.
    #[error(transparent)]
    Random(#[from] RandomError),
}
