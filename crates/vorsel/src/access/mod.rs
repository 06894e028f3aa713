//! Access tokens without a session: issued, checked and revoked, for machine clients, for introspection, and for the
//! sessions that are built on them.

mod revoke;

use std::fmt;
use std::sync::{Arc, Mutex};
use std::time::Instant;

use serde::Serialize;
use serde::de::DeserializeOwned;
#[cfg(feature = "axum")]
use vorsel_core::FeedEvent;
use vorsel_core::{
    AccessDraft, AccessPlan, Checked, Expectations, Finding, IssueError, Issuer, Kind, Lifetime, Prepared, Revocations,
    Silences, Timestamp, Verifier,
};

use crate::clock::{Clock, SystemClock};
use crate::keys::{KeyStepError, LiveKeyring};
use crate::live::Live;
use crate::meters::Wait;
use crate::random::{RandomError, random_id};
use crate::revocations::{LiveRevocations, lock, note};
use crate::store::{SessionStore, StoreError};
use crate::under_way::UnderWay;
pub use revoke::{Issued, RevokeError};

/// Issues, checks and revokes the access tokens of one issuer for one audience. Clones share everything.
///
/// ```
/// use std::sync::Arc;
/// use vorsel::store::MemoryStore;
/// use vorsel::{AccessTokens, Algorithm, SigningKey};
///
/// # #[tokio::main]
/// # async fn main() -> Result<(), Box<dyn std::error::Error>> {
/// let tokens = AccessTokens::builder("https://id.skarnhill.test", "https://api.skarnhill.test")
///     .keys(SigningKey::generate(Algorithm::EdDsa)?)
///     .store(Arc::new(MemoryStore::new()))
///     .build()?;
/// let token = tokens.issue(&tokens.draft("dome-controller", "dome-controller").roles(["instrument"]))?;
/// assert!(tokens.check(&token).is_ok());
/// # Ok(())
/// # }
/// ```
#[derive(Clone)]
pub struct AccessTokens(Arc<Shared>);

struct Shared {
    name: String,
    audience: String,
    keys: LiveKeyring,
    issuer: Live<Issuer>,
    verifier: Live<Verifier>,
    /// Of tokens that others are meant by, to which clients get them here.
    verifier_for_anyone: Live<Verifier>,
    lifetime: Lifetime,
    store: Arc<dyn SessionStore>,
    revocations: Option<LiveRevocations>,
    /// What was revoked here, where no feed is followed: tokens issued here from then on are not meant.
    revoked_here: Revocations,
    /// When the store answered nothing.
    silences: Arc<Mutex<Silences>>,
    under_way: UnderWay,
    clock: Arc<dyn Clock>,
    wait: Wait,
}

/// Sets [`AccessTokens`] up.
///
/// ```
/// use vorsel::{AccessTokens, Algorithm, Lifetime, SigningKey};
///
/// let builder = AccessTokens::builder("https://id.skarnhill.test", "https://api.skarnhill.test");
/// let tokens = builder.keys(SigningKey::generate(Algorithm::EdDsa)?).lifetime(Lifetime::minutes(5));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[must_use]
pub struct AccessTokensBuilder {
    name: String,
    audience: String,
    keys: Option<LiveKeyring>,
    store: Option<Arc<dyn SessionStore>>,
    lifetime: Lifetime,
    roles: Option<Vec<String>>,
    revocations: Option<LiveRevocations>,
    clock: Option<Arc<dyn Clock>>,
}

/// Why access tokens or sessions cannot be set up like this.
///
/// ```
/// use vorsel::AccessTokens;
///
/// let error = AccessTokens::builder("https://id.skarnhill.test", "https://api.skarnhill.test").build().unwrap_err();
/// assert_eq!(error.to_string(), "expected the keys to be set before build()");
/// ```
#[derive(thiserror::Error)]
#[non_exhaustive]
pub enum SetUpError {
    /// A part without which there is nothing to do.
    #[error("expected {0} to be set before build()")]
    Missing(&'static str),
    /// The keys for refresh tokens are not HMAC secrets.
    #[error("refresh tokens cannot be signed with these keys")]
    Keys(#[from] vorsel_core::KeyError),
    /// The keyring could not be told of a longer lifetime.
    #[error("the keyring cannot be told of tokens that last so long")]
    Lifetime(#[from] KeyStepError),
}

vorsel_core::readable_debug!(SetUpError);

/// Why no access token was issued.
///
/// ```
/// use vorsel::{IssueError, IssueTokenError};
///
/// let error = IssueTokenError::from(IssueError::NoActiveKey);
/// assert_eq!(error.to_string(), "expected a key that signs, but the keyring has no active one");
/// ```
#[derive(thiserror::Error)]
#[non_exhaustive]
pub enum IssueTokenError {
    /// The token could not be issued.
    #[error(transparent)]
    Issue(#[from] IssueError),
    /// The operating system gave no randomness.
    #[error(transparent)]
    Random(#[from] RandomError),
}

vorsel_core::readable_debug!(IssueTokenError);

impl AccessTokensBuilder {
    pub(crate) fn new(name: String, audience: String) -> Self {
        let lifetime = Lifetime::minutes(5);
        Self { name, audience, keys: None, store: None, lifetime, roles: None, revocations: None, clock: None }
    }

    /// The keys that sign. They have to be set.
    pub fn keys(mut self, keys: impl Into<LiveKeyring>) -> Self {
        self.keys = Some(keys.into());
        self
    }

    /// The store on whose feed a revoked token is put. It has to be set.
    pub fn store(mut self, store: Arc<dyn SessionStore>) -> Self {
        self.store = Some(store);
        self
    }

    /// How long access tokens last; 5 minutes if nothing is set. The keyring is told, so that no key goes before its
    /// tokens.
    pub const fn lifetime(mut self, lifetime: Lifetime) -> Self {
        self.lifetime = lifetime;
        self
    }

    /// Refuses to issue a token with a role that this plan does not declare; without this nobody hears of a misspelt one.
    pub fn roles_of(mut self, plan: &AccessPlan) -> Self {
        self.roles = Some(plan.roles().map(|(role, _)| role.to_owned()).collect());
        self
    }

    /// This instance's view of what is revoked, to be set wherever tokens are issued: what is issued after the news is issued
    /// after the moment it is about, so that it stands. What is revoked here is known in the view when the call is over;
    /// other instances learn it from the feed.
    pub fn revocations(mut self, revocations: LiveRevocations) -> Self {
        self.revocations = Some(revocations);
        self
    }

    /// Another clock than the machine's, for tests. Without one, time is the store's where
    /// [revocations](Self::revocations) are followed, and the machine's otherwise.
    pub fn clock(mut self, clock: Arc<dyn Clock>) -> Self {
        self.clock = Some(clock);
        self
    }

    /// The access tokens.
    ///
    /// # Errors
    /// If the keys or the store are not set, or a keyring in a file cannot be told of the lifetime.
    pub fn build(self) -> Result<AccessTokens, SetUpError> {
        let Self { name, audience, keys, store, lifetime, roles, revocations, clock } = self;
        let keys = keys.ok_or(SetUpError::Missing("the keys"))?;
        let store = store.ok_or(SetUpError::Missing("the store"))?;
        keys.allow(lifetime)?;
        let clock = clock.or_else(|| revocations.as_ref().map(LiveRevocations::clock));
        let clock = clock.unwrap_or_else(|| Arc::new(SystemClock));
        let (issuer, expected) = (name.clone(), Expectations::access(&name, &audience));
        let ours = Expectations::danger_from_anyone_for_anyone(Kind::Access).issuer(&name);
        Ok(AccessTokens(Arc::new(Shared {
            issuer: keys.derive(move |ring| {
                let issuer = Issuer::new(&issuer, ring.clone());
                roles.iter().fold(issuer, |issuer, roles| issuer.roles(roles))
            }),
            verifier: keys.derive(move |ring| Verifier::new(ring.key_set(), expected.clone())),
            verifier_for_anyone: keys.derive(move |ring| Verifier::new(ring.key_set(), ours.clone())),
            name,
            audience,
            keys,
            lifetime,
            store,
            silences: revocations.as_ref().map_or_else(Arc::default, LiveRevocations::silences),
            revocations,
            revoked_here: Revocations::new(),
            under_way: UnderWay::default(),
            clock,
            wait: Wait::new(),
        })))
    }
}

impl AccessTokens {
    /// Access tokens that come from the issuer of that name, an https URL as a rule, and are for `audience`.
    pub fn builder(issuer: impl Into<String>, audience: impl Into<String>) -> AccessTokensBuilder {
        AccessTokensBuilder::new(issuer.into(), audience.into())
    }

    /// The issuer's name, `iss`.
    #[must_use]
    pub fn issuer(&self) -> &str {
        &self.0.name
    }

    /// Whom the tokens are for, `aud`.
    #[must_use]
    pub fn audience(&self) -> &str {
        &self.0.audience
    }

    /// What is known to be revoked, if this instance follows it.
    #[must_use]
    pub fn revocations(&self) -> Option<&LiveRevocations> {
        self.0.revocations.as_ref()
    }

    /// The keys that sign.
    #[must_use]
    pub fn keys(&self) -> &LiveKeyring {
        &self.0.keys
    }

    /// How long the tokens last.
    #[must_use]
    pub fn lifetime(&self) -> Lifetime {
        self.0.lifetime
    }

    /// A draft with this audience and lifetime. A machine client that acts for itself is its own subject
    /// ([RFC 9068 section 2.2](https://www.rfc-editor.org/rfc/rfc9068#section-2.2)).
    #[must_use]
    pub fn draft(&self, subject: &str, client_id: &str) -> AccessDraft {
        AccessDraft::of(subject).audience(&self.0.audience).client(client_id).lasting(self.0.lifetime)
    }

    /// Issues a token.
    ///
    /// # Errors
    /// Those of [`Issuer::access`], and if the operating system gives no randomness.
    pub fn issue<C: Serialize>(&self, draft: &AccessDraft<C>) -> Result<String, IssueTokenError> {
        Ok(self.prepare(draft, &random_id()?, self.now())?.sign()?)
    }

    /// A token but for its signature.
    pub(crate) fn prepare<C: Serialize>(
        &self,
        draft: &AccessDraft<C>,
        id: &str,
        now: Timestamp,
    ) -> Result<Prepared, IssueError> {
        self.0.issuer.load().prepare(draft, id, self.known().issued_from(draft, now))
    }

    /// Signs what is told to one who follows this issuer.
    #[cfg(feature = "axum")]
    pub(crate) fn security_event(&self, audience: &str, id: &str, event: &FeedEvent) -> Result<String, IssueError> {
        self.0.issuer.load().security_event(audience, id, event, self.now())
    }

    /// Checks a token, and whether it is revoked if this instance follows what is. Of the app's own claims nothing is read;
    /// see [`check_as`](Self::check_as).
    ///
    /// # Errors
    /// The first finding that does not hold.
    pub fn check(&self, token: &str) -> Result<Checked, Box<Finding>> {
        self.check_as(token)
    }

    /// [`check`](Self::check) of a token with the app's own claims.
    ///
    /// # Errors
    /// The first finding that does not hold.
    pub fn check_as<C: DeserializeOwned>(&self, token: &str) -> Result<Checked<C>, Box<Finding>> {
        let now = self.now();
        let checked = self.0.verifier.load().check_as(token, now)?;
        if let Some(revocations) = &self.0.revocations {
            revocations.check(&checked, now)?;
        }
        Ok(checked)
    }

    /// What is known to be revoked or ended.
    pub(crate) fn known(&self) -> &Revocations {
        self.0.revocations.as_ref().map_or(&self.0.revoked_here, LiveRevocations::known)
    }

    pub(crate) fn store(&self) -> &dyn SessionStore {
        &*self.0.store
    }

    pub(crate) fn now(&self) -> Timestamp {
        self.0.clock.now()
    }

    /// A moment that the app names, which may be by this machine's clock or by the store's: the later of both, so that nothing is
    /// missed, but not after now. Nothing if it is after now by either.
    pub(crate) fn past(&self, found: Timestamp) -> Option<Timestamp> {
        let (now, offset) = (self.now(), self.0.revocations.as_ref().map(LiveRevocations::clock_offset));
        let there = offset.unwrap_or_default().there(found);
        (found.min(there) <= now).then(|| found.max(there).min(now))
    }

    /// What is to be carried out whoever goes away.
    pub(crate) fn under_way(&self) -> &UnderWay {
        &self.0.under_way
    }

    /// When the store answered nothing, as it is known now.
    pub(crate) fn silences(&self) -> Silences {
        lock(&self.0.silences).clone()
    }

    /// Asks the store, and notes whether it answers.
    pub(crate) async fn asked<T>(&self, answer: impl Future<Output = Result<T, StoreError>>) -> Result<T, StoreError> {
        let (asked_at, since) = (self.now(), Instant::now());
        let answer = answer.await;
        self.0.wait.answered(since.elapsed(), answer.is_ok());
        note(&self.0.silences, &answer, asked_at, self.now());
        answer
    }
}

impl fmt::Debug for AccessTokens {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Shared { name, audience, lifetime, store, .. } = &*self.0;
        f.debug_struct("AccessTokens")
            .field("issuer", name)
            .field("audience", audience)
            .field("lifetime", lifetime)
            .field("store", store)
            .finish_non_exhaustive()
    }
}

impl fmt::Debug for AccessTokensBuilder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("AccessTokensBuilder").field("issuer", &self.name).finish_non_exhaustive()
    }
}
