//! Sign-in, renewal and sign-out: the session state machine carried out on a store.

mod builder;
mod error;
mod recent;
mod reply;

use std::fmt;
use std::sync::Arc;

use serde::Serialize;
use vorsel_core::{
    EndReason, Ended, Generation, IssueError, RefreshTokens, Renewal, RenewalStep, Scopes, Session, SessionLimits,
    SignIn, Swap, Timestamp,
};

use crate::access::AccessTokens;
use crate::admission::{Admission, AdmissionError, Grant};
use crate::keys::IssuerKeys;
use crate::live::Live;
use crate::random::{random_id, session_seed};
use crate::store::{Advanced, Cap, End, Inserted, SessionStore, StoreError, Which};
pub use builder::SessionsBuilder;
pub use error::{EndError, RenewError, StartError};
use recent::Recent;
use reply::PreparedReply;
pub use reply::TokenReply;

/// Begins, renews and ends sessions, and issues their tokens. `C` is the app's own claims.
///
/// Each renewal gives a new pair of tokens and spends the refresh token presented. A spent token that comes back within
/// the retry window gets the same successor again; later, it ends the session. Whatever ends a session puts it on the
/// store's feed in the same step, so that instances that [follow](crate::LiveRevocations) it refuse its access tokens as
/// well.
pub struct Sessions<C> {
    access: AccessTokens,
    keys: IssuerKeys,
    refresh_tokens: Live<RefreshTokens>,
    admission: Arc<dyn Admission<C>>,
    limits: SessionLimits,
    recent: Recent,
}

/// What a client may add to a renewal.
#[derive(Clone, Copy, Debug, Default)]
pub struct RenewalRequest<'a> {
    /// The client that presents the token, if it says so.
    pub client_id: Option<&'a str>,
    /// Fewer scopes than granted, for this access token alone.
    pub scopes: Option<&'a Scopes>,
}

impl<C> Sessions<C> {
    /// Sessions whose tokens come from the issuer of that name, an https URL as a rule, and are for `audience`.
    pub fn builder(issuer: impl Into<String>, audience: impl Into<String>) -> SessionsBuilder<C> {
        SessionsBuilder::new(issuer.into(), audience.into())
    }

    /// The access tokens of the sessions, which can be issued, checked and revoked by themselves as well.
    #[must_use]
    pub const fn access_tokens(&self) -> &AccessTokens {
        &self.access
    }

    /// The keys that sign.
    #[must_use]
    pub const fn keys(&self) -> &IssuerKeys {
        &self.keys
    }

    fn store(&self) -> &dyn SessionStore {
        self.access.store()
    }
}

impl<C: Serialize + Send + Sync + 'static> Sessions<C> {
    /// Begins a session.
    ///
    /// # Errors
    /// If the app does not admit the subject, the subject has as many sessions as it may, or the store fails.
    pub async fn start(&self, sign_in: SignIn) -> Result<TokenReply, StartError> {
        let grant = self.admission.admit(sign_in.subject(), sign_in.client_id()).await?;
        let (seed, now) = (session_seed()?, self.access.now());
        // After all sign-ins that are known to have ended, whatever the clock says.
        let began_at = self.access.known().sign_in_from(now);
        let session = Session::begin(seed, sign_in, &self.limits, began_at);
        let granted = granted(&session, &grant);
        let reply = self.reply(&session, session.current, grant, granted, &random_id()?, now)?.sign()?;
        let cap = self.limits.per_subject.map(|limit| Cap { limit, now, until: self.access.remembered_until(now) });
        match (self.store().insert(&session, cap).await?, cap) {
            (Inserted::Full, Some(cap)) => return Err(StartError::TooManySessions { most: cap.limit.most.get() }),
            (Inserted::Kept { displaced: 1.. }, _) => self.access.heard().await,
            _ => {}
        }
        self.recent.remember(session);
        Ok(reply)
    }

    /// Swaps a refresh token for a new pair.
    ///
    /// # Errors
    /// If the token is refused, its session is over, or the store fails. A replay ends the session.
    pub async fn renew(&self, refresh_token: &str, request: RenewalRequest<'_>) -> Result<TokenReply, RenewError> {
        let now = self.access.now();
        let presented = self.refresh_tokens.load().check(refresh_token, now).map_err(RenewError::BadToken)?;
        if let Some(found) = request.client_id.filter(|client_id| *client_id != presented.client_id) {
            return Err(RenewError::WrongClient { expected: presented.client_id, found: found.to_owned() });
        }
        let generation = presented.generation;
        let remembered = self.recent.take(&presented.session_id);
        let mut step = Renewal::new(presented, self.limits, now).begin(remembered);
        loop {
            step = match step {
                RenewalStep::Load(load) => {
                    let session = self.store().load(load.session_id()).await?;
                    load.found(session)
                }
                RenewalStep::Swap(swap) => match self.try_swap(&swap, request, now).await? {
                    (Advanced::Made, reply) => {
                        self.recent.remember(swap.made());
                        return Ok(reply?);
                    }
                    (Advanced::Lost, _) => swap.lost(),
                },
                RenewalStep::Repeat(session, successor) => {
                    return Ok(self.admitted_reply(&session, successor, request, now).await?.sign()?);
                }
                RenewalStep::End(session, why) => {
                    self.end_for(Which::One(&session.id), why, now).await?;
                    return Err(replayed(&session, generation));
                }
                RenewalStep::Refuse(refusal) => return Err(refusal.into()),
            };
        }
    }

    /// Makes the swap and the reply for it. All that can be wrong with its tokens is found first; they are signed while the
    /// store is at work.
    async fn try_swap(
        &self,
        swap: &Swap,
        request: RenewalRequest<'_>,
        now: Timestamp,
    ) -> Result<(Advanced, Result<TokenReply, IssueError>), RenewError> {
        let next = swap.next();
        let reply = self.admitted_reply(next, next.current, request, now).await?;
        let sign = async {
            // The store's request goes out before the processor is busy.
            tokio::task::yield_now().await;
            reply.sign()
        };
        let (advanced, reply) = tokio::join!(self.store().advance(&next.id, next.advance()), sign);
        Ok((advanced?, reply))
    }

    /// Ends the session of a refresh token; a spent token of the session does as well. A token that is not accepted
    /// ends nothing, and neither does one of a session that has ended: for the client all of this is the same.
    ///
    /// # Errors
    /// If the store fails.
    pub async fn sign_out(&self, refresh_token: &str, client_id: Option<&str>) -> Result<(), StoreError> {
        let now = self.access.now();
        let Ok(presented) = self.refresh_tokens.load().check(refresh_token, now) else { return Ok(()) };
        let other_client = client_id.is_some_and(|client_id| client_id != presented.client_id);
        let Some(session) = self.store().load(&presented.session_id).await? else { return Ok(()) };
        if other_client || !session.made(&presented) {
            return Ok(());
        }
        self.end_for(Which::One(&session.id), EndReason::SignedOut, now).await?;
        Ok(())
    }

    /// Ends sessions by the app's decision: one, all of a subject, or all that started before a moment. They can't be renewed,
    /// and their tokens stop standing. Says how many.
    ///
    /// # Errors
    /// If the moment is after now, or the store fails.
    pub async fn end(&self, which: Which<'_>) -> Result<u64, EndError> {
        let now = self.access.now();
        if let Which::StartedBefore(found) = which
            && found > now
        {
            return Err(EndError::Future { found, now });
        }
        Ok(self.end_for(which, EndReason::Withdrawn, now).await?)
    }

    /// Forgets sessions and revocations whose time is over, in small steps; says how many sessions. To be called now and
    /// then, by any instance.
    ///
    /// # Errors
    /// If the store fails.
    pub async fn purge(&self) -> Result<u64, StoreError> {
        const STEP: u32 = 500;
        let (now, mut count) = (self.access.now(), 0);
        loop {
            let step = self.store().purge(now, STEP).await?;
            count += step;
            if step < u64::from(STEP) {
                return Ok(count);
            }
        }
    }

    /// The sessions of a subject that can still be renewed, the oldest first.
    ///
    /// # Errors
    /// If the store fails.
    pub async fn of_subject(&self, subject: &str) -> Result<Vec<Session>, StoreError> {
        let now = self.access.now();
        let mut sessions = self.store().of_subject(subject).await?;
        sessions.retain(|session| session.is_live(now));
        Ok(sessions)
    }

    async fn end_for(&self, which: Which<'_>, why: EndReason, now: Timestamp) -> Result<u64, StoreError> {
        let until = self.access.remembered_until(now);
        let count = self.store().end(End { which, ended: Ended { at: now, why }, until }).await?;
        self.access.heard().await;
        Ok(count)
    }

    /// The pair of tokens for a generation of the session, with the subject looked up afresh.
    async fn admitted_reply(
        &self,
        session: &Session,
        generation: Generation,
        request: RenewalRequest<'_>,
        now: Timestamp,
    ) -> Result<PreparedReply, RenewError> {
        // It was begun while all others of its time were ended, and is not ended in the store.
        if self.access.known().ended_with_others(session.facts.started_at, now) {
            self.end_for(Which::One(&session.id), EndReason::Withdrawn, now).await?;
            return Err(RenewError::Ended(EndReason::Withdrawn));
        }
        let grant = match self.admission.admit(&session.facts.subject, &session.facts.client_id).await {
            Ok(grant) => grant,
            Err(error) => {
                if matches!(error, AdmissionError::Denied { .. }) {
                    self.end_for(Which::One(&session.id), EndReason::NotAdmitted, now).await?;
                }
                return Err(error.into());
            }
        };
        let mut granted = granted(session, &grant);
        if let Some(asked) = request.scopes {
            if !asked.is_subset(&granted) {
                let (granted, asked) = (granted.to_string(), asked.to_string());
                return Err(RenewError::ScopeNotGranted { granted, asked });
            }
            granted = asked.clone();
        }
        Ok(self.reply(session, generation, grant, granted, &random_id()?, now)?)
    }

    fn reply(
        &self,
        session: &Session,
        generation: Generation,
        grant: Grant<C>,
        granted: Scopes,
        token_id: &str,
        now: Timestamp,
    ) -> Result<PreparedReply, IssueError> {
        let (facts, scope) = (&session.facts, granted.to_string());
        let mut draft = self
            .access
            .draft(&facts.subject, &facts.client_id)
            .roles(grant.roles)
            .scopes(granted)
            .session(&session.id, facts.authenticated_at)
            .own(grant.own);
        if let Some(acr) = &facts.acr {
            draft = draft.acr(acr);
        }
        if let Some(thumbprint) = &facts.bound_to {
            draft = draft.bound_to(thumbprint);
        }
        Ok(PreparedReply {
            access_token: self.access.prepare(&draft, token_id, now)?,
            expires_in: self.access.lifetime().as_secs(),
            refresh_token: self.refresh_tokens.load().prepare(session, generation)?,
            scope,
        })
    }
}

/// What the app grants now, of that what the session may have.
fn granted<C>(session: &Session, grant: &Grant<C>) -> Scopes {
    session.facts.scopes.as_ref().map_or_else(|| grant.scopes.clone(), |ceiling| grant.scopes.within(ceiling))
}

fn replayed(session: &Session, presented: u64) -> RenewError {
    let current = session.current.number;
    tracing::warn!(
        target: "vorsel::sessions",
        code = "replay",
        session = session.id,
        subject = session.facts.subject,
        "a spent refresh token of generation {presented} came back in generation {current}; the session is ended",
    );
    RenewError::Replay { presented, current }
}

impl<C> fmt::Debug for Sessions<C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Sessions").field("access", &self.access).field("limits", &self.limits).finish_non_exhaustive()
    }
}
