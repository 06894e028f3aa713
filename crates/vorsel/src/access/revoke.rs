//! Revoking access tokens that were issued up to some moment. Whoever may renew goes on: what is issued afterwards stands.

use std::time::Duration;

use tokio::time::{Instant, sleep};
use vorsel_core::{KeyState, Lifetime, Revocation, Revoked, Timestamp, at_issuer};

use super::AccessTokens;
use crate::audit;
use crate::store::StoreError;

/// Which access tokens to revoke, of those issued up to a moment.
///
/// ```
/// # async fn example(tokens: &vorsel::AccessTokens) -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::Issued;
///
/// tokens.revoke(Issued::To("obs-0017")).await?; // a role was withdrawn: what was issued up to now is refused
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Issued<'a> {
    /// Those of the session with this `sid`.
    InSession(&'a str),
    /// Those of this subject, `sub`, in whatever session or in none.
    To(&'a str),
    /// All of them.
    ToAnybody,
}

/// Why nothing was revoked.
///
/// ```
/// # async fn example(tokens: &vorsel::AccessTokens, moment: vorsel::Timestamp) -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::{Issued, RevokeError};
///
/// match tokens.revoke_up_to(Issued::ToAnybody, moment).await {
///     Err(RevokeError::Future { found, now }) => println!("{found} is after {now}"),
///     Err(RevokeError::Store(error)) if error.is_retryable() => println!("try again: {error}"),
///     other => other?,
/// }
/// # Ok(())
/// # }
/// ```
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RevokeError {
    /// What is issued after now can't be revoked.
    #[error("expected a moment up to now, {now}, but found {found}")]
    Future {
        /// The moment asked for.
        found: Timestamp,
        /// Now.
        now: Timestamp,
    },
    /// New tokens would be signed with the key and refused.
    #[error(
        "expected a key that signs no more, but found {kid:?}, which is {state}; withdraw it from the keyring first"
    )]
    StillSigns {
        /// The key's ID.
        kid: String,
        /// Its state.
        state: KeyState,
    },
    /// Another client holds the token.
    #[error("the access token was given to another client than {found:?}")]
    WrongClient {
        /// Who wants it revoked.
        found: String,
    },
    /// No token has room for such a name, and whoever follows what is revoked would have to carry it.
    #[error(
        "expected a name of at most {} bytes, as a token has room for, but found {found}",
        AccessTokens::LONGEST_NAME
    )]
    LongName {
        /// How many bytes it has.
        found: usize,
    },
    /// The store failed.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl Issued<'_> {
    fn up_to(self, up_to: Timestamp) -> Revoked {
        match self {
            Self::InSession(session) => Revoked::IssuedInSession { session: session.to_owned(), up_to },
            Self::To(subject) => Revoked::IssuedTo { subject: subject.to_owned(), up_to },
            Self::ToAnybody => Revoked::Issued { up_to },
        }
    }
}

/// Tokens count whole seconds, so what is revoked several times within one has tokens in between that are issued ahead of the
/// clock. Further than this they are not: then time is waited for. With a second for rounding, that leaves clocks 3 s to differ
/// within the skew that verifiers allow if nothing is set.
const FURTHEST_AHEAD: Duration = Duration::from_secs(1);
/// Where clocks are further apart than this, waiting does not help.
const LONGEST_WAIT: Duration = Duration::from_secs(5);
const PAUSE: Duration = Duration::from_millis(100);

/// More than clocks differ and any verifier allows for.
const MARGIN: Duration = Duration::from_secs(300);

impl AccessTokens {
    /// The longest name of a subject, a session, a token or a key that can be revoked, in bytes; with its issuer's, where it is another's.
    pub const LONGEST_NAME: usize = 16 * 1024;

    /// Revokes the tokens that were issued up to now, so that what a role or a scope was withdrawn from asks for a new one.
    /// Sessions go on, and what they are renewed to stands; [`Sessions::end`](crate::Sessions::end) ends them.
    ///
    /// Of one subject or session this is done at once up to twice a second, and more often about once a second.
    ///
    /// # Errors
    /// If the name is longer than [`LONGEST_NAME`](Self::LONGEST_NAME), or the store fails.
    pub async fn revoke(&self, which: Issued<'_>) -> Result<(), RevokeError> {
        // What others revoked in this second counts, too.
        self.heard().await;
        let give_up_at = Instant::now() + LONGEST_WAIT;
        loop {
            let now = self.now();
            let up_to = self.known().issued_up_to(&which.up_to(now), now);
            if up_to <= now.after(FURTHEST_AHEAD) || Instant::now() > give_up_at {
                return self.tell(which.up_to(up_to), self.remembered_until(up_to)).await;
            }
            sleep(PAUSE).await;
        }
    }

    /// [`revoke`](Self::revoke) of the tokens that were issued up to an earlier moment, the second it lies in included. Where this
    /// machine's clock and the store's differ, it is the later of what they show at that moment.
    ///
    /// # Errors
    /// If the moment is after now, or the store fails.
    pub async fn revoke_up_to(&self, which: Issued<'_>, up_to: Timestamp) -> Result<(), RevokeError> {
        let now = self.now();
        let up_to = self.past(up_to).ok_or(RevokeError::Future { found: up_to, now })?;
        self.tell(which.up_to(up_to), self.remembered_until(now)).await
    }

    /// Revokes what another issuer has issued up to now: to one of its people, in one of its sessions, or to anybody. Its tokens live for
    /// `lifetime` at most. [`revoke`](Self::revoke) and the ends of sessions say nothing of them, but for `ToAnybody`.
    ///
    /// # Errors
    /// If the name is longer than [`LONGEST_NAME`](Self::LONGEST_NAME), or the store fails.
    pub async fn revoke_of(&self, issuer: &str, which: Issued<'_>, lifetime: Lifetime) -> Result<(), RevokeError> {
        let now = self.now();
        let what = match which {
            Issued::To(subject) => Revoked::IssuedTo { subject: at_issuer(issuer, subject), up_to: now },
            Issued::InSession(session) => Revoked::IssuedInSession { session: at_issuer(issuer, session), up_to: now },
            Issued::ToAnybody => Revoked::IssuedTo { subject: at_issuer(issuer, ""), up_to: now },
        };
        self.tell(what, now.after(lifetime.as_duration()).after(MARGIN)).await
    }

    /// Revokes the token with this `jti`.
    ///
    /// # Errors
    /// If the name is longer than [`LONGEST_NAME`](Self::LONGEST_NAME), or the store fails.
    pub async fn revoke_id(&self, id: &str) -> Result<(), RevokeError> {
        self.tell(Revoked::Token(id.to_owned()), self.remembered_until(self.now())).await
    }

    /// Revokes every token that a key signed, also where its key set is still in use. It is remembered for ever, since whoever
    /// has the key can go on signing; so it has to be one that signs no more: a key of this keyring is withdrawn first, by
    /// [`Keyring::compromise`](crate::Keyring::compromise).
    ///
    /// # Errors
    /// If the key still signs or will, or the store fails.
    pub async fn revoke_key(&self, kid: &str) -> Result<(), RevokeError> {
        match self.0.keys.current().state(kid, self.now()) {
            Some(state @ (KeyState::PreActive | KeyState::Active)) => {
                Err(RevokeError::StillSigns { kid: kid.to_owned(), state })
            }
            _ => self.tell(Revoked::Key(kid.to_owned()), Timestamp::MAX).await,
        }
    }

    /// Revokes one token of this issuer, for whatever audience; its session, if it has one, goes on. A token that is not accepted is not
    /// revoked: for the client that is the same.
    ///
    /// # Errors
    /// If another client than this one holds the token, or the store fails.
    pub async fn revoke_token(&self, token: &str, client_id: Option<&str>) -> Result<(), RevokeError> {
        let now = self.now();
        let Ok(checked) = self.0.verifier_for_anyone.load().check(token, now) else { return Ok(()) };
        let claims = checked.claims();
        if let Some(found) = client_id.filter(|client_id| claims.client_id() != Some(client_id)) {
            return Err(RevokeError::WrongClient { found: found.to_owned() });
        }
        match claims.id() {
            Some(id) => {
                // The same however often it is said.
                let until = claims.expires_at().map_or_else(|| self.remembered_until(now), |at| at.after(MARGIN));
                self.tell(Revoked::Token(id.to_owned()), until).await
            }
            None => Ok(()),
        }
    }

    /// Puts it on the feed, whoever goes away meanwhile.
    async fn tell(&self, what: Revoked, until: Timestamp) -> Result<(), RevokeError> {
        let found = what.name().map_or(0, str::len);
        if found > Self::LONGEST_NAME {
            return Err(RevokeError::LongName { found });
        }
        let revocation = Revocation { what, until };
        // What is known from the feed is on it, or is put there again should it be lost: it would say nothing twice.
        if let Some(revocations) = &self.0.revocations
            && revocations.known().has(&revocation)
        {
            return Ok(());
        }
        let tokens = self.clone();
        let told = async move {
            tokens.asked(tokens.0.store.revoke(&revocation)).await?;
            audit::revoked(&revocation);
            if tokens.0.revocations.is_none() {
                tokens.0.revoked_here.forget(tokens.now());
                tokens.0.revoked_here.add(&revocation);
            }
            tokens.heard().await;
            Ok::<_, StoreError>(())
        };
        Ok(self.0.under_way.carried_out(told).await?)
    }

    /// Until when every access token issued by `now` has expired, by the clock of whoever checks it.
    pub(crate) fn remembered_until(&self, now: Timestamp) -> Timestamp {
        // The keyring allows for `lifetime` as well.
        now.after(self.0.keys.current().times().longest_lifetime.as_duration()).after(MARGIN)
    }

    /// Lets this instance know at once what it has put on the feed. If that fails, it learns it like the others.
    pub(crate) async fn heard(&self) {
        if let Some(revocations) = &self.0.revocations
            && let Err(error) = revocations.catch_up().await
        {
            let source: &dyn std::error::Error = &error;
            tracing::warn!(target: "vorsel::sessions", error = source, "the feed cannot be read now");
        }
    }
}
