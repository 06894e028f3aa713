//! Sign-in, renewal and sign-out: the session state machine carried out on a store.

mod error;
mod recent;
mod sign_in;

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use serde::Serialize;
use vorsel_core::{
    AccessDraft, EndReason, Ended, Expectations, Generation, IssueError, Issuer, Lifetime, Prepared, Presented,
    RefreshTokens, Revocation, Revoked, Scopes, Session, SessionLimits, Step, Timestamp, Verifier,
};

use crate::admission::{Admission, AdmissionError, Grant};
use crate::clock::{Clock, SystemClock};
use crate::keys::{IssuerKeys, Live};
use crate::random::{random_id, session_secret};
use crate::revocations::LiveRevocations;
use crate::store::{Inserted, Room, SessionStore, StoreError, Which};
pub use error::{RenewError, SetUpError, StartError};
use recent::Recent;
pub use sign_in::SignIn;

/// Begins, renews and ends sessions, and issues their tokens. `C` is the app's own claims.
///
/// Each renewal gives a new pair of tokens and spends the refresh token presented. A spent token that comes back within
/// the retry window gets the same successor again; later, it ends the session. Whatever ends a session puts it on the
/// store's feed in the same step, so that instances that [follow](LiveRevocations) it refuse its access tokens as well.
pub struct Sessions<C> {
    name: String,
    keys: IssuerKeys,
    issuer: Live<Issuer>,
    access_tokens: Live<Verifier>,
    refresh_tokens: Live<RefreshTokens>,
    audience: String,
    store: Arc<dyn SessionStore>,
    admission: Arc<dyn Admission<C>>,
    access_lifetime: Lifetime,
    limits: SessionLimits,
    clock: Arc<dyn Clock>,
    revocations: Option<LiveRevocations>,
    recent: Recent,
}

/// The answer to a sign-in or a renewal ([RFC 6749 section 5.1](https://www.rfc-editor.org/rfc/rfc6749#section-5.1)).
/// `Debug` does not show the tokens.
#[derive(Clone, PartialEq, Eq, Serialize)]
pub struct TokenReply {
    /// The access token.
    pub access_token: String,
    /// `Bearer`.
    pub token_type: &'static str,
    /// The access token's lifetime in seconds.
    pub expires_in: u64,
    /// The refresh token.
    pub refresh_token: String,
    /// The scopes granted, with a space between them.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub scope: String,
}

/// What a client may add to a renewal.
#[derive(Clone, Copy, Debug, Default)]
pub struct RenewalRequest<'a> {
    /// The client that presents the token, if it says so.
    pub client_id: Option<&'a str>,
    /// Fewer scopes than granted, for this access token alone.
    pub scopes: Option<&'a Scopes>,
}

/// A renewal that loses a race reads again and finds its token spent. Losing this often means that the store does not
/// keep its contract.
const MOST_RACES: u32 = 8;

impl<C: Serialize + Send + Sync + 'static> Sessions<C> {
    /// Sessions whose tokens come from the issuer of that name, an https URL as a rule, are signed with `keys`, and are
    /// for `audience`.
    ///
    /// # Errors
    /// If the keys for refresh tokens are not HMAC secrets, or do not reckon with tokens of this lifetime and cannot be
    /// changed.
    pub fn new(
        name: impl Into<String>,
        keys: IssuerKeys,
        audience: impl Into<String>,
        store: Arc<dyn SessionStore>,
        admission: Arc<dyn Admission<C>>,
    ) -> Result<Self, SetUpError> {
        let name = name.into();
        let (issuer, refresher, audience) = (name.clone(), name.clone(), audience.into());
        let expected = Expectations::access(&name, &audience);
        let sessions = Self {
            issuer: keys.access.derive(move |ring| Issuer::new(&issuer, ring.clone())),
            access_tokens: keys.access.derive(move |ring| Verifier::new(ring.key_set(), expected.clone())),
            refresh_tokens: keys.refresh.try_derive(move |ring| RefreshTokens::new(&refresher, ring.clone()))?,
            name,
            keys,
            audience,
            store,
            admission,
            access_lifetime: Lifetime::minutes(5),
            limits: SessionLimits::default(),
            clock: Arc::new(SystemClock),
            revocations: None,
            recent: Recent::new(),
        };
        sessions.access_lifetime(Lifetime::minutes(5))?.limits(SessionLimits::default())
    }

    /// How long access tokens last; 5 minutes if nothing is set. The keyring is told, so that no key goes before its
    /// tokens.
    ///
    /// # Errors
    /// If the keyring reckoned with shorter ones and its file cannot be changed.
    pub fn access_lifetime(mut self, lifetime: Lifetime) -> Result<Self, SetUpError> {
        self.keys.access.allow_lifetime(lifetime)?;
        self.access_lifetime = lifetime;
        Ok(self)
    }

    /// How long sessions last, and the retry window. The keyring for refresh tokens is told.
    ///
    /// # Errors
    /// If the keyring reckoned with shorter ones and its file cannot be changed.
    pub fn limits(mut self, limits: SessionLimits) -> Result<Self, SetUpError> {
        self.keys.refresh.allow_lifetime(limits.idle)?;
        self.limits = limits;
        Ok(self)
    }

    /// Another clock than the machine's, for tests.
    #[must_use]
    pub fn clock(mut self, clock: Arc<dyn Clock>) -> Self {
        self.clock = clock;
        self
    }

    /// This instance's view of what is revoked: what is ended or revoked here is known in it when the call is over. Other
    /// instances learn it from the feed.
    #[must_use]
    pub fn revocations(mut self, revocations: LiveRevocations) -> Self {
        self.revocations = Some(revocations);
        self
    }

    /// The issuer's name, `iss`.
    #[must_use]
    pub fn issuer(&self) -> &str {
        &self.name
    }

    /// The keys that sign.
    #[must_use]
    pub const fn keys(&self) -> &IssuerKeys {
        &self.keys
    }

    /// Begins a session.
    ///
    /// # Errors
    /// If the app does not admit the subject, the subject has as many sessions as it may, or the store fails.
    pub async fn start(&self, sign_in: SignIn) -> Result<TokenReply, StartError> {
        let SignIn { subject, client_id, device, acr } = sign_in;
        let grant = self.admission.admit(&subject, &client_id).await?;
        let (id, secret, now) = (random_id()?, session_secret()?, self.clock.now());
        let session = Session { device, acr, ..Session::begin(id, secret, subject, client_id, &self.limits, now) };
        let token_id = random_id()?;
        let reply = self.reply(&session, session.current(), grant, &token_id, now)?.sign()?;
        let room = self.limits.per_subject.map(|limit| Room { limit, now, until: self.remembered_until(now) });
        match (self.store.insert(&session, room).await?, room) {
            (Inserted::Full, Some(room)) => return Err(StartError::TooManySessions { most: room.limit.most.get() }),
            (Inserted::Kept { displaced: 1.. }, _) => self.heard().await,
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
        let now = self.clock.now();
        let presented = self.refresh_tokens.load().check(refresh_token, now).map_err(RenewError::BadToken)?;
        if let Some(found) = request.client_id.filter(|client_id| *client_id != presented.client_id) {
            return Err(RenewError::WrongClient { expected: presented.client_id, found: found.to_owned() });
        }
        if let Some(session) = self.recent.take(&presented.session_id)
            && let Step::Advance(next) = session.present(&presented, &self.limits, now)
            && let Some(reply) = self.advanced(*next, request, now).await?
        {
            return Ok(reply);
        }
        for _ in 0..MOST_RACES {
            let session = self.store.load(&presented.session_id).await?.ok_or(RenewError::UnknownSession)?;
            match session.present(&presented, &self.limits, now) {
                Step::Advance(next) => {
                    if let Some(reply) = self.advanced(*next, request, now).await? {
                        return Ok(reply);
                    }
                }
                Step::Repeat(successor) => {
                    return Ok(self.admitted_reply(&session, successor, request, now).await?.sign()?);
                }
                Step::Replay => return Err(self.replay(&presented, &session, now).await?),
                Step::Outrun => return Err(RenewError::Outrun),
                Step::Expired => return Err(RenewError::Expired),
                Step::Ended(why) => return Err(RenewError::Ended(why)),
                Step::Foreign => return Err(RenewError::UnknownSession),
            }
        }
        Err(StoreError::new("advance a session", "every attempt lost a race, yet the session did not change").into())
    }

    /// The reply for the next generation, if the store has taken it. All that can be wrong with its tokens is found
    /// first; they are signed while the store is at work.
    async fn advanced(
        &self,
        next: Session,
        request: RenewalRequest<'_>,
        now: Timestamp,
    ) -> Result<Option<TokenReply>, RenewError> {
        let reply = self.admitted_reply(&next, next.current(), request, now).await?;
        let sign = async {
            // The store's request goes out before the processor is busy.
            tokio::task::yield_now().await;
            reply.sign()
        };
        let (advanced, reply) = tokio::join!(self.store.advance(&next), sign);
        if !advanced? {
            return Ok(None);
        }
        self.recent.remember(next);
        Ok(Some(reply?))
    }

    /// Ends the session of a refresh token; a spent token of the session does as well. A token that is not accepted
    /// ends nothing, and neither does one of a session that has ended: for the client all of this is the same.
    ///
    /// # Errors
    /// If the store fails.
    pub async fn sign_out(&self, refresh_token: &str, client_id: Option<&str>) -> Result<(), StoreError> {
        let now = self.clock.now();
        let Ok(presented) = self.refresh_tokens.load().check(refresh_token, now) else { return Ok(()) };
        let other_client = client_id.is_some_and(|client_id| client_id != presented.client_id);
        let Some(session) = self.store.load(&presented.session_id).await? else { return Ok(()) };
        if other_client || !session.made(&presented) {
            return Ok(());
        }
        self.end_for(Which::One(&session.id), EndReason::SignedOut, now).await?;
        Ok(())
    }

    /// Revokes one access token of this issuer; its session goes on. A token that is not accepted is not revoked: for the
    /// client that is the same.
    ///
    /// # Errors
    /// If the store fails.
    pub async fn revoke_access_token(&self, token: &str, client_id: Option<&str>) -> Result<(), StoreError> {
        let checked = self.access_tokens.load().check(token, self.clock.now());
        let Ok(checked) = checked else { return Ok(()) };
        let claims = checked.claims();
        match claims.id() {
            Some(id) if client_id.is_none_or(|client_id| claims.client_id() == Some(client_id)) => {
                self.revoke(Revoked::Token(id.to_owned())).await
            }
            _ => Ok(()),
        }
    }

    /// Ends sessions by the app's decision: one, all of a subject, or all that started before a moment. Says how many.
    ///
    /// # Errors
    /// If the store fails.
    pub async fn end(&self, which: Which<'_>) -> Result<u64, StoreError> {
        self.end_for(which, EndReason::Withdrawn, self.clock.now()).await
    }

    /// Revokes access tokens by the app's decision: one, those of a session, of a subject, of everybody, of a key. It has
    /// to be remembered for as long as the longest-lived token that the keyring reckons with; a key for ever, since
    /// whoever has it can go on signing.
    ///
    /// # Errors
    /// If the store fails.
    pub async fn revoke(&self, what: Revoked) -> Result<(), StoreError> {
        let until = match what {
            Revoked::Key(_) => Timestamp::MAX,
            _ => self.remembered_until(self.clock.now()),
        };
        self.store.revoke(&Revocation { what, until }).await?;
        self.heard().await;
        Ok(())
    }

    /// Forgets sessions and revocations whose time is over, in small steps; says how many sessions. To be called now and
    /// then, by any instance.
    ///
    /// # Errors
    /// If the store fails.
    pub async fn purge(&self) -> Result<u64, StoreError> {
        const STEP: u32 = 500;
        let (now, mut count) = (self.clock.now(), 0);
        loop {
            let step = self.store.purge(now, STEP).await?;
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
        let now = self.clock.now();
        let mut sessions = self.store.of_subject(subject).await?;
        sessions.retain(|session| session.is_live(now));
        Ok(sessions)
    }

    async fn end_for(&self, which: Which<'_>, why: EndReason, now: Timestamp) -> Result<u64, StoreError> {
        let count = self.store.end(which, Ended { at: now, why }, self.remembered_until(now)).await?;
        self.heard().await;
        Ok(count)
    }

    /// Until when every access token issued by `now` has expired, by the clock of whoever checks it.
    fn remembered_until(&self, now: Timestamp) -> Timestamp {
        /// More than clocks differ and any verifier makes allowance for.
        const MARGIN: Duration = Duration::from_secs(300);
        // The keyring reckons with `access_lifetime` as well.
        now.after(self.keys.access.current().times().longest_lifetime.as_duration()).after(MARGIN)
    }

    /// Lets this instance know at once what it has put on the feed. If that fails, it learns it like the others.
    async fn heard(&self) {
        if let Some(revocations) = &self.revocations
            && let Err(error) = revocations.catch_up().await
        {
            let source: &dyn std::error::Error = &error;
            tracing::warn!(target: "vorsel::sessions", error = source, "the feed cannot be read now");
        }
    }

    async fn replay(&self, presented: &Presented, session: &Session, now: Timestamp) -> Result<RenewError, StoreError> {
        self.end_for(Which::One(&session.id), EndReason::Replay, now).await?;
        let (presented, current) = (presented.generation, session.generation);
        tracing::warn!(
            target: "vorsel::sessions",
            code = "replay",
            session = session.id,
            subject = session.subject,
            "a spent refresh token of generation {presented} came back in generation {current}; the session is ended",
        );
        Ok(RenewError::Replay { presented, current })
    }

    /// The pair of tokens for a generation of the session, with the subject looked up afresh.
    async fn admitted_reply(
        &self,
        session: &Session,
        generation: Generation,
        request: RenewalRequest<'_>,
        now: Timestamp,
    ) -> Result<PreparedReply, RenewError> {
        let mut grant = match self.admission.admit(&session.subject, &session.client_id).await {
            Ok(grant) => grant,
            Err(error) => {
                if matches!(error, AdmissionError::Denied { .. }) {
                    self.end_for(Which::One(&session.id), EndReason::NotAdmitted, now).await?;
                }
                return Err(error.into());
            }
        };
        if let Some(asked) = request.scopes {
            if !asked.is_subset(&grant.scopes) {
                let (granted, asked) = (grant.scopes.to_string(), asked.to_string());
                return Err(RenewError::ScopeNotGranted { granted, asked });
            }
            grant.scopes = asked.clone();
        }
        let token_id = random_id()?;
        Ok(self.reply(session, generation, grant, &token_id, now)?)
    }

    fn reply(
        &self,
        session: &Session,
        generation: Generation,
        grant: Grant<C>,
        token_id: &str,
        now: Timestamp,
    ) -> Result<PreparedReply, IssueError> {
        let scope = grant.scopes.to_string();
        let mut draft = AccessDraft::new(&session.subject, &self.audience, &session.client_id, self.access_lifetime)
            .roles(grant.roles)
            .scopes(grant.scopes)
            .session(&session.id, session.started_at)
            .own(grant.own);
        if let Some(acr) = &session.acr {
            draft = draft.acr(acr);
        }
        Ok(PreparedReply {
            access_token: self.issuer.load().prepare(&draft, token_id, now)?,
            expires_in: self.access_lifetime.as_secs(),
            refresh_token: self.refresh_tokens.load().prepare(session, generation)?,
            scope,
        })
    }
}

/// A reply whose tokens are not signed yet.
struct PreparedReply {
    access_token: Prepared,
    expires_in: u64,
    refresh_token: Prepared,
    scope: String,
}

impl PreparedReply {
    fn sign(self) -> Result<TokenReply, IssueError> {
        Ok(TokenReply {
            access_token: self.access_token.sign()?,
            token_type: "Bearer",
            expires_in: self.expires_in,
            refresh_token: self.refresh_token.sign()?,
            scope: self.scope,
        })
    }
}

impl<C> fmt::Debug for Sessions<C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Sessions")
            .field("issuer", &self.name)
            .field("audience", &self.audience)
            .field("store", &self.store)
            .field("access_lifetime", &self.access_lifetime)
            .field("limits", &self.limits)
            .finish_non_exhaustive()
    }
}

impl fmt::Debug for TokenReply {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("TokenReply")
            .field("expires_in", &self.expires_in)
            .field("scope", &self.scope)
            .finish_non_exhaustive()
    }
}
