//! Sign-in, renewal and sign-out: the session state machine carried out on a store.

mod again;
mod builder;
mod clients;
mod ending;
mod error;
mod figures;
mod housekeeping;
mod kept;
mod purpose;
mod recent;
mod reply;

use std::fmt;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use serde::Serialize;
use vorsel_core::{
    Arrivals, CurrentToken, EndReason, IssueError, Prepared, Presented, PurposeTokens, RefreshTokens, Renewal,
    RenewalStep, Scopes, Session, SessionLimits, SignIn, Step, Swap, Timestamp, with_causes,
};

use crate::access::AccessTokens;
use crate::admission::{Admission, AdmissionError, Grant};
use crate::audit;
use crate::clients::Clients;
use crate::keys::IssuerKeys;
use crate::live::Live;
use crate::random::{random_id, session_seed};
use crate::store::{Advanced, Cap, Inserted, SessionStore};
pub use builder::SessionsBuilder;
pub use clients::{ClientReply, ClientTokenError};
pub use error::{EndError, RenewError, SignOutError, StartError};
use figures::Counters;
pub use figures::SessionFigures;
pub use housekeeping::Housekeeping;
pub use purpose::{PurposeError, RedeemError};
use recent::{Known, Recent};
use reply::PreparedReply;
pub use reply::TokenReply;

/// Begins, renews and ends sessions, and issues their tokens. `C` is the app's own claims.
///
/// Each renewal gives a new pair of tokens and spends the refresh token presented. A spent token that comes back within
/// the retry window gets the same successor again; later, it ends the session. Whatever ends a session puts it on the
/// store's feed in the same step, so that instances that [follow](crate::LiveRevocations) it refuse its access tokens as
/// well.
///
/// What was asked for is carried out, whoever goes away meanwhile: a renewal, a sign-out or an end whose future is dropped goes
/// on as a task of its own. Clones share everything.
///
/// ```
/// # async fn example(sessions: &vorsel::Sessions<vorsel::NoOwn>) -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::{RenewalRequest, SignIn};
///
/// let first = sessions.start(SignIn::new("obs-0017", "desk").device("dome terminal")).await?;
/// let second = sessions.renew(&first.refresh_token, RenewalRequest::default()).await?;
/// sessions.sign_out(&second.refresh_token, Some("desk")).await?;
/// # Ok(())
/// # }
/// ```
pub struct Sessions<C>(Arc<Inner<C>>);

struct Inner<C> {
    access: AccessTokens,
    keys: IssuerKeys,
    refresh_tokens: Live<RefreshTokens>,
    purpose_tokens: Live<PurposeTokens>,
    admission: Arc<dyn Admission<C>>,
    /// The registered clients, if there are any.
    clients: Option<Clients>,
    /// Every scope that the plan declares, if it declares any.
    declared: Option<Scopes>,
    limits: SessionLimits,
    recent: Recent,
    /// Of tokens that could not be answered.
    arrivals: Mutex<Arrivals>,
    counters: Counters,
}

/// Tokens that a store which stands still keeps waiting; less than a megabyte.
const MOST_WAITING: usize = 16_384;

/// What a client may add to a renewal.
///
/// ```
/// use vorsel::{RenewalRequest, Scopes};
///
/// let fewer = Scopes::parse("exposures:read")?;
/// let request = RenewalRequest { client_id: Some("desk"), scopes: Some(&fewer) };
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
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
    pub fn access_tokens(&self) -> &AccessTokens {
        &self.0.access
    }

    /// The keys that sign.
    #[must_use]
    pub fn keys(&self) -> &IssuerKeys {
        &self.0.keys
    }

    /// The registered clients, if there are any.
    #[must_use]
    pub fn clients(&self) -> Option<&Clients> {
        self.0.clients.as_ref()
    }

    /// How long sessions last, and the retry window.
    #[must_use]
    pub fn limits(&self) -> SessionLimits {
        self.0.limits
    }

    /// What came of sign-ins and renewals here so far.
    #[must_use]
    pub fn figures(&self) -> SessionFigures {
        self.0.counters.so_far()
    }

    /// Has polls of the feed that wait for news answered now, and those to come at once: to be called where a server is told to stop, so
    /// that it is not kept by them.
    pub fn stopping(&self) {
        self.0.access.under_way().stop();
    }

    /// Waits until everything is carried out that nobody waits for any more. To be called before the process ends.
    pub async fn settled(&self) {
        self.0.access.under_way().settled().await;
    }
}

impl<C: Serialize + Send + Sync + 'static> Sessions<C> {
    /// Begins a session.
    ///
    /// Where clients are registered, the client has to be one through which people sign in, and the subject none of theirs
    /// ([RFC 9068 section 5](https://www.rfc-editor.org/rfc/rfc9068#section-5)).
    ///
    /// # Errors
    /// If the app does not admit the subject, the subject has as many sessions as it may, the client is not one of those, more
    /// scopes are asked for than it may have, or the store fails.
    pub async fn start(&self, sign_in: SignIn) -> Result<TokenReply, StartError> {
        let (subject, client) = (sign_in.subject().to_owned(), sign_in.client_id().to_owned());
        let answer = self.0.start(sign_in).await;
        self.0.counters.start(&answer);
        if let Err(error) = &answer {
            let (subject, client) = (audit::cut(&subject), audit::cut(&client));
            tracing::info!(
                target: "vorsel::sessions", code = error.code(), subject, client,
                "sign-in refused: {}", with_causes(error),
            );
        }
        answer
    }

    /// Swaps a refresh token for a new pair.
    ///
    /// # Errors
    /// If the token is refused, its session is over, or the store fails. A replay ends the session.
    pub async fn renew(&self, refresh_token: &str, request: RenewalRequest<'_>) -> Result<TokenReply, RenewError> {
        let (sessions, now) = (self.0.clone(), self.0.access.now());
        let remembered = sessions.recent.take(refresh_token, sessions.refresh_tokens.version(), now);
        let presented = match &remembered {
            Some(current) => current.presented().clone(),
            None => match sessions.refresh_tokens.load().check(refresh_token, now) {
                Ok(presented) => Arc::new(presented),
                Err(finding) => {
                    let error = RenewError::BadToken(finding);
                    self.0.counters.renewal(Err(&error));
                    tracing::info!(target: "vorsel::sessions", code = error.code(), "renewal refused: {error}");
                    return Err(error);
                }
            },
        };
        let (scopes, client) = (request.scopes.cloned(), request.client_id.map(str::to_owned));
        self.0.access.under_way().carried_out(sessions.answer(presented, remembered, client, scopes, now)).await
    }
}

impl<C: Serialize + Send + Sync + 'static> Inner<C> {
    async fn start(&self, sign_in: SignIn) -> Result<TokenReply, StartError> {
        let sign_in = self.under_its_ceiling(sign_in).await?;
        let grant = self.admission.admit(sign_in.subject(), sign_in.client_id()).await?;
        let (seed, now) = (session_seed()?, self.access.now());
        // After all sign-ins that are known to have ended, whatever the clock says.
        let began_at = self.access.known().sign_in_from(now);
        let session = Session::begin(seed, sign_in, &self.limits, began_at);
        let (refresh_token, known) = self.prepare_current(session)?;
        let session = known.current.session();
        let reply = self.reply(session, refresh_token, granted(session, grant), &random_id()?, now)?.sign()?;
        let cap = self.limits.per_subject.map(|limit| Cap { limit, now, until: self.access.remembered_until(now) });
        let displaced = match (self.access.asked(self.store().insert(session, cap)).await?, cap) {
            (Inserted::Full, Some(cap)) => return Err(StartError::TooManySessions { most: cap.limit.most.get() }),
            (Inserted::Kept { displaced }, _) => displaced,
            _ => 0,
        };
        if displaced > 0 {
            self.access.heard().await;
        }
        audit::signed_in(session, displaced);
        self.recent.remember(known, &reply.refresh_token);
        Ok(reply)
    }

    /// The answer to a renewal. One that is owed is owed from when its token first came, however often it has to come.
    async fn answer(
        self: Arc<Self>,
        presented: Arc<Presented>,
        remembered: Option<CurrentToken>,
        client: Option<String>,
        scopes: Option<Scopes>,
        now: Timestamp,
    ) -> Result<TokenReply, RenewError> {
        let reply = match self.of_another_client(&presented, client.as_deref(), now).await {
            Some(error) => Err(error),
            None => self.renew(&presented, remembered, scopes.as_ref(), now).await,
        };
        self.counters.renewal(reply.as_ref().map(|(_, made)| *made));
        let silences = self.access.silences();
        let first = self.arrivals().first(&presented, &silences, now);
        let (window, now) = (self.limits.retry_window, self.access.now());
        match &reply {
            Ok((_, made)) => self.arrivals().answered(&presented, first, *made, window, now),
            Err(error) if error.may_pass() => self.arrivals().unanswered(&presented, first, now),
            Err(_) => {}
        }
        let (session, client) = (audit::cut(&presented.session_id), audit::cut(&presented.client_id));
        match &reply {
            Ok((_, true)) => tracing::debug!(
                target: "vorsel::audit", event = "renewed", session, client, generation = presented.generation + 1,
                "a session is renewed",
            ),
            Ok((_, false)) => tracing::debug!(
                target: "vorsel::sessions", code = "repeated", session, client, "a successor is given out again",
            ),
            // Told where it was found.
            Err(RenewError::Replay { .. }) => {}
            Err(error) if error.may_pass() => tracing::error!(
                target: "vorsel::sessions", code = error.code(), session, client,
                "renewal failed: {}", with_causes(error),
            ),
            Err(error) => tracing::info!(
                target: "vorsel::sessions", code = error.code(), session, client,
                "renewal refused: {}", with_causes(error),
            ),
        }
        reply.map(|(reply, _)| reply)
    }

    /// What is wrong if another client presents the token than the one that it was given to. Whoever has it, a replay tells that the
    /// token was stolen, and ends its session.
    async fn of_another_client(
        &self,
        presented: &Presented,
        client: Option<&str>,
        now: Timestamp,
    ) -> Option<RenewError> {
        let found = client.filter(|client| *client != presented.client_id)?;
        // In a box, as whatever is rare: each renewal would have room for it.
        let ended = Box::pin(async {
            let Some(session) = self.access.asked(self.store().load(&presented.session_id)).await? else {
                return Ok(None);
            };
            let silences = self.access.silences();
            let came_at = self.arrivals().first(presented, &silences, now);
            if !matches!(session.present_after(presented, &self.limits, came_at, &silences), Step::Replay) {
                return Ok(None);
            }
            self.end_one(&session, EndReason::Replay).await?;
            Ok(Some(replayed(&session, presented.generation)))
        });
        let wrong = RenewError::WrongClient { expected: presented.client_id.clone(), found: found.to_owned() };
        Some(ended.await.map_or_else(RenewError::Store, |replayed| replayed.unwrap_or(wrong)))
    }

    /// The reply, and whether its refresh token was made for it.
    async fn renew(
        &self,
        presented: &Arc<Presented>,
        remembered: Option<CurrentToken>,
        scopes: Option<&Scopes>,
        now: Timestamp,
    ) -> Result<(TokenReply, bool), RenewError> {
        // What is known to have ended is looked up, for why it did.
        let has_ended = self.access.known().has_ended(&presented.session_id, now);
        let remembered = remembered.filter(|_| !has_ended);
        let mut step = Renewal::new(presented.clone(), self.limits, now).begin(remembered);
        loop {
            step = match step {
                RenewalStep::Load(load) => {
                    let session = self.access.asked(self.store().load(load.session_id())).await?;
                    let silences = self.access.silences();
                    let came_at = self.arrivals().first(presented, &silences, now);
                    load.found(session, came_at, &silences)
                }
                RenewalStep::Swap(swap) => match self.try_swap(&swap, scopes).await? {
                    (Some(made), reply) => {
                        let reply = reply?;
                        self.recent.remember(made, &reply.refresh_token);
                        return Ok((reply, true));
                    }
                    (None, _) => swap.lost(),
                },
                RenewalStep::Repeat(session, successor) => {
                    let granted = self.admitted(&session, scopes).await?;
                    let again = self.refresh_tokens.load().prepare(&session, successor)?;
                    let reply = self.reply(&session, again, granted, &random_id()?, self.access.now())?;
                    return Ok((reply.sign()?, false));
                }
                RenewalStep::End(session, why) => {
                    Box::pin(self.end_one(&session, why)).await?;
                    return Err(replayed(&session, presented.generation));
                }
                RenewalStep::Refuse(refusal) => return Err(refusal.into()),
            };
        }
    }

    /// Makes the swap and the reply for it. All that can be wrong with its tokens is found first; they are signed while the
    /// store is at work. The new generation begins when it is written, however long the app's look-up took.
    async fn try_swap(
        &self,
        swap: &Swap,
        scopes: Option<&Scopes>,
    ) -> Result<(Option<Known>, Result<TokenReply, IssueError>), RenewError> {
        let granted = self.admitted(swap.session(), scopes).await?;
        let token_id = random_id()?;
        let now = self.access.now();
        let (refresh_token, known) = self.prepare_current(swap.next(now))?;
        let next = known.current.session();
        let reply = self.reply(next, refresh_token, granted, &token_id, now)?;
        let sign = async {
            // The store's request goes out before the processor is busy.
            tokio::task::yield_now().await;
            reply.sign()
        };
        let advance = self.access.asked(self.store().advance(&next.id, next.advance()));
        let (advanced, reply) = tokio::join!(advance, sign);
        Ok((matches!(advanced?, Advanced::Made).then_some(known), reply))
    }

    /// What the session may have now, with the subject looked up afresh.
    async fn admitted(&self, session: &Session, scopes: Option<&Scopes>) -> Result<Grant<C>, RenewError> {
        // It was begun while all others of its time were ended, or the store has lost its end.
        let (known, now) = (self.access.known(), self.access.now());
        if known.ended_with_others(session.facts.started_at, now) || known.has_ended(&session.id, now) {
            Box::pin(self.end_one(session, EndReason::Withdrawn)).await?;
            return Err(RenewError::Ended(EndReason::Withdrawn));
        }
        let grant = match self.admission.admit(&session.facts.subject, &session.facts.client_id).await {
            Ok(grant) => grant,
            Err(error) => {
                if matches!(error, AdmissionError::Denied { .. }) {
                    Box::pin(self.end_one(session, EndReason::NotAdmitted)).await?;
                }
                return Err(error.into());
            }
        };
        let mut granted = granted(session, grant);
        if let Some(asked) = scopes {
            if !asked.is_subset(&granted.scopes) {
                let (granted, asked) = (granted.scopes.to_string(), asked.to_string());
                return Err(RenewError::ScopeNotGranted { granted, asked });
            }
            granted.scopes = asked.clone();
        }
        Ok(granted)
    }

    /// The refresh token of the session's current generation but for its signature, and what is known of it.
    fn prepare_current(&self, session: Session) -> Result<(Prepared, Known), IssueError> {
        let keys = self.refresh_tokens.version();
        let current = CurrentToken::of(session);
        Ok((self.refresh_tokens.load().prepare_current(&current)?, Known { current, keys }))
    }

    fn reply(
        &self,
        session: &Session,
        refresh_token: Prepared,
        granted: Grant<C>,
        token_id: &str,
        now: Timestamp,
    ) -> Result<PreparedReply, IssueError> {
        let Grant { roles, scopes, own } = granted;
        let (facts, scope) = (&session.facts, scopes.to_string());
        let mut draft = self
            .access
            .draft(&facts.subject, &facts.client_id)
            .roles(roles)
            .scopes(scopes)
            .session(&session.id, facts.authenticated_at)
            .own(own);
        if facts.started_at.whole_secs() != facts.authenticated_at.whole_secs() {
            draft = draft.session_at(facts.started_at);
        }
        if let Some(acr) = &facts.acr {
            draft = draft.acr(acr);
        }
        if let Some(thumbprint) = &facts.bound_to {
            draft = draft.bound_to(thumbprint);
        }
        Ok(PreparedReply {
            access_token: self.access.prepare(&draft, token_id, now)?,
            expires_in: self.access.lifetime().as_secs(),
            refresh_token,
            scope,
        })
    }
}

impl<C> Inner<C> {
    fn store(&self) -> &dyn SessionStore {
        self.access.store()
    }

    fn arrivals(&self) -> MutexGuard<'_, Arrivals> {
        self.arrivals.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// What the app grants now, of that what the session may have.
fn granted<C>(session: &Session, grant: Grant<C>) -> Grant<C> {
    let scopes = match &session.facts.scopes {
        Some(ceiling) => grant.scopes.within(ceiling),
        None => grant.scopes,
    };
    Grant { scopes, ..grant }
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

impl<C> Clone for Sessions<C> {
    fn clone(&self) -> Self {
        Self(self.0.clone())
    }
}

impl<C> fmt::Debug for Sessions<C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Inner { access, limits, .. } = &*self.0;
        f.debug_struct("Sessions").field("access", access).field("limits", limits).finish_non_exhaustive()
    }
}

#[cfg(test)]
mod tests;
