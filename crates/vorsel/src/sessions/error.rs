//! Why sessions are not begun or renewed.

use vorsel_core::{EndReason, Finding, IssueError, RenewalRefusal, Timestamp};

use crate::admission::AdmissionError;
use crate::random::RandomError;
use crate::store::StoreError;

/// Why nobody was signed in.
///
/// ```
/// # async fn example(sessions: &vorsel::Sessions<vorsel::NoOwn>) -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::{SignIn, StartError};
///
/// match sessions.start(SignIn::new("obs-0017", "desk")).await {
///     Err(StartError::TooManySessions { most }) => println!("sign out somewhere: {most} devices are all"),
///     other => drop(other?),
/// }
/// # Ok(())
/// # }
/// ```
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
    /// The subject is called like a registered client, whose tokens would pass for the subject's
    /// ([RFC 9068 section 5](https://www.rfc-editor.org/rfc/rfc9068#section-5)).
    #[error("expected a subject that no client is called by, but found {subject:?}")]
    SubjectIsClient {
        /// The subject.
        subject: String,
    },
    /// Nobody signs in through this client.
    #[error("expected a registered client through which people sign in, but found {found:?}")]
    UnknownClient {
        /// Its name.
        found: String,
    },
    /// More scopes were asked for than the client may have.
    #[error("expected scopes within {most:?}, but found {asked:?}")]
    Scopes {
        /// What the client may have.
        most: String,
        /// What was asked for.
        asked: String,
    },
}

/// Why a session was not renewed.
///
/// ```
/// # async fn example(sessions: &vorsel::Sessions<vorsel::NoOwn>, token: &str) -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::{RenewError, RenewalRequest};
///
/// match sessions.renew(token, RenewalRequest::default()).await {
///     Err(RenewError::Replay { .. }) => println!("a stolen token; the session has ended"),
///     Err(error) if error.may_pass() => println!("the client keeps its token: {error}"),
///     other => drop(other?),
/// }
/// # Ok(())
/// # }
/// ```
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

impl StartError {
    /// Each code, by its [place](Self::place).
    pub(super) const CODES: [&str; 9] = [
        "not-admitted",
        "unavailable",
        "store",
        "issue",
        "randomness",
        "too-many-sessions",
        "subject-is-client",
        "unknown-client",
        "scope-not-granted",
    ];

    /// What was wrong, as figures name it.
    #[must_use]
    pub fn code(&self) -> &'static str {
        Self::CODES[self.place()]
    }

    pub(super) const fn place(&self) -> usize {
        match self {
            Self::Admission(AdmissionError::Denied { .. }) => 0,
            Self::Admission(_) => 1,
            Self::Store(_) => 2,
            Self::Issue(_) => 3,
            Self::Random(_) => 4,
            Self::TooManySessions { .. } => 5,
            Self::SubjectIsClient { .. } => 6,
            Self::UnknownClient { .. } => 7,
            Self::Scopes { .. } => 8,
        }
    }
}

impl RenewError {
    /// Each code, by its [place](Self::place).
    pub(super) const CODES: [&str; 12] = [
        "bad-token",
        "unknown-session",
        "wrong-client",
        "expired",
        "ended",
        "replay",
        "outrun",
        "scope-not-granted",
        "not-admitted",
        "unavailable",
        "store",
        "issue",
    ];

    /// What was wrong, as figures name it.
    #[must_use]
    pub fn code(&self) -> &'static str {
        Self::CODES[self.place()]
    }

    pub(super) const fn place(&self) -> usize {
        match self {
            Self::BadToken(_) => 0,
            Self::UnknownSession => 1,
            Self::WrongClient { .. } => 2,
            Self::Expired => 3,
            Self::Ended(_) => 4,
            Self::Replay { .. } => 5,
            Self::Outrun => 6,
            Self::ScopeNotGranted { .. } => 7,
            Self::Admission(AdmissionError::Denied { .. }) => 8,
            Self::Admission(_) => 9,
            Self::Store(_) => 10,
            Self::Issue(_) | Self::Random(_) => 11,
        }
    }

    /// Whether the client keeps its token and may try again: it was not the token that was refused.
    #[must_use]
    pub const fn may_pass(&self) -> bool {
        matches!(
            self,
            Self::Store(_) | Self::Issue(_) | Self::Random(_) | Self::Admission(AdmissionError::Unavailable(_))
        )
    }
}

/// Why nobody was signed out.
///
/// ```
/// # async fn example(sessions: &vorsel::Sessions<vorsel::NoOwn>, token: &str) -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::SignOutError;
///
/// match sessions.sign_out(token, Some("desk")).await {
///     Err(SignOutError::WrongClient { found }) => println!("it was not given to {found}"),
///     other => other?,
/// }
/// # Ok(())
/// # }
/// ```
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SignOutError {
    /// The token was given to another client.
    #[error("the refresh token was given to another client than {found:?}")]
    WrongClient {
        /// Who presents it.
        found: String,
    },
    /// The store failed.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Why no session was ended.
///
/// ```
/// # async fn example(sessions: &vorsel::Sessions<vorsel::NoOwn>, moment: vorsel::Timestamp) -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::EndError;
/// use vorsel::store::Which;
///
/// match sessions.end(Which::StartedBefore(moment)).await {
///     Err(EndError::Future { found, now }) => println!("{found} is after {now}"),
///     other => drop(other?),
/// }
/// # Ok(())
/// # }
/// ```
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum EndError {
    /// A session that is yet to begin can't be ended.
    #[error("expected a moment up to now, {now}, but found {found}")]
    Future {
        /// The moment asked for.
        found: Timestamp,
        /// Now.
        now: Timestamp,
    },
    /// The store failed.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl From<RenewalRefusal> for RenewError {
    fn from(refusal: RenewalRefusal) -> Self {
        match refusal {
            RenewalRefusal::Expired => Self::Expired,
            RenewalRefusal::Ended(why) => Self::Ended(why),
            RenewalRefusal::Outrun => Self::Outrun,
            RenewalRefusal::StoreBroken => {
                let cause = "every attempt lost a race, yet the session did not change";
                StoreError::new("advance a session", cause).into()
            }
            _ => Self::UnknownSession,
        }
    }
}
