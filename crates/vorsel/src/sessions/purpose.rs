//! Tokens for one purpose, good once.

use std::time::Duration;

use serde::Serialize;
use vorsel_core::{Expectations, Finding, IssueError, Lifetime, Purpose, PurposeShown};

use super::Sessions;
use crate::audit;
use crate::random::{RandomError, random_id};
use crate::store::StoreError;

/// Why no one-purpose token was issued.
///
/// ```
/// # async fn example(sessions: &vorsel::Sessions<vorsel::NoOwn>) -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::{Lifetime, Purpose, PurposeError};
///
/// let purpose = Purpose { name: "reset-password", subject: "obs-0017", bound_to: "the present hash" };
/// match sessions.one_purpose(purpose, Lifetime::minutes(30)) {
///     Err(PurposeError::TooLong { found }) => println!("{found:?} is too long for a letter"),
///     other => println!("{}", other?),
/// }
/// # Ok(())
/// # }
/// ```
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PurposeError {
    /// Minutes are what such a token lasts.
    #[error("expected a one-purpose token to last an hour at most, but found {} s", .found.as_secs())]
    TooLong {
        /// What was asked for.
        found: Lifetime,
    },
    /// The token could not be issued.
    #[error("the token could not be issued")]
    Issue(#[from] IssueError),
    /// The operating system gave no randomness.
    #[error(transparent)]
    Random(#[from] RandomError),
}

/// Why a one-purpose token is good for nothing.
///
/// ```
/// # async fn example(sessions: &vorsel::Sessions<vorsel::NoOwn>, token: &str) -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::RedeemError;
///
/// let shown = sessions.purpose_shown(token, "reset-password")?;
/// match sessions.redeem(shown, "the present hash").await {
///     Err(RedeemError::Used { subject }) => println!("{subject} has used it before"),
///     other => println!("a new password for {}", other?),
/// }
/// # Ok(())
/// # }
/// ```
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RedeemError {
    /// The token was refused for this finding.
    #[error("the one-purpose token is refused: {0}")]
    BadToken(Box<Finding>),
    /// It is for another purpose.
    #[error("the one-purpose token is for another purpose")]
    OtherPurpose,
    /// What it is bound to has changed.
    #[error("the one-purpose token of {subject:?} is bound to something else")]
    Changed {
        /// Whom it is about.
        subject: String,
    },
    /// It was used before.
    #[error("the one-purpose token of {subject:?} was used before")]
    Used {
        /// Whom it is about.
        subject: String,
    },
    /// The store failed. The token may be spent; another one has to be asked for.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Long enough for a letter to arrive.
const LONGEST: Duration = Duration::from_secs(3_600);

impl<C: Serialize + Send + Sync + 'static> Sessions<C> {
    /// A token for one purpose, good once and for minutes: to be sent to somebody who is to confirm an address or to set a new password. It
    /// is no access token, and nothing takes it for one.
    ///
    /// ```
    /// # async fn reset(sessions: vorsel::Sessions<vorsel::NoOwn>) -> Result<(), Box<dyn std::error::Error>> {
    /// use vorsel::{Lifetime, Purpose};
    ///
    /// let current_hash = "$argon2id$…"; // once the password is another, the token is worthless
    /// let purpose = Purpose { name: "reset-password", subject: "obs-0017", bound_to: current_hash };
    /// let token = sessions.one_purpose(purpose, Lifetime::minutes(15))?; // sent by mail
    ///
    /// let shown = sessions.purpose_shown(&token, "reset-password")?;
    /// let subject = sessions.redeem(shown, current_hash).await?; // that of shown.subject(), looked up again
    /// assert_eq!(subject, "obs-0017");
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    /// If it is to last for more than an hour, or can't be issued.
    pub fn one_purpose(&self, purpose: Purpose<'_>, lasting: Lifetime) -> Result<String, PurposeError> {
        if lasting.as_duration() > LONGEST {
            return Err(PurposeError::TooLong { found: lasting });
        }
        let now = self.0.access.now();
        Ok(self.0.purpose_tokens.load().token(purpose, &random_id()?, lasting, now)?)
    }

    /// Checks a one-purpose token as far as it goes by itself. It is not used by this; [`redeem`](Self::redeem) it.
    ///
    /// # Errors
    /// If it is refused, or is for another purpose.
    pub fn purpose_shown(&self, token: &str, name: &str) -> Result<PurposeShown, RedeemError> {
        let shown = self.0.purpose_tokens.load().check(token, name, self.0.access.now());
        shown.map_err(|finding| finding.map_or(RedeemError::OtherPurpose, RedeemError::BadToken))
    }

    /// Uses a one-purpose token, if it is bound to this: once, at whatever instance. Whom it is about.
    ///
    /// # Errors
    /// If it is bound to something else, was used before, or the store fails.
    pub async fn redeem(&self, shown: PurposeShown, bound_to: &str) -> Result<String, RedeemError> {
        let subject = shown.subject().to_owned();
        if !shown.is_bound_to(bound_to) {
            return Err(RedeemError::Changed { subject });
        }
        let name = format!("purpose:{}", shown.id());
        let until = shown.expires_at().after(Expectations::LARGEST_SKEW);
        if !self.0.access.asked(self.0.store().take(&name, until)).await? {
            return Err(RedeemError::Used { subject });
        }
        audit::redeemed(&subject, shown.id());
        Ok(subject)
    }
}
