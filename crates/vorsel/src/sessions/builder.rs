//! What sessions are set up with.

use std::fmt;
use std::sync::{Arc, Mutex};

use vorsel_core::{AccessPlan, Arrivals, Lifetime, PurposeTokens, RefreshTokens, Scopes, SessionLimits};

use super::figures::Counters;
use super::recent::Recent;
use super::{Inner, MOST_WAITING, Sessions};
use crate::access::{AccessTokensBuilder, SetUpError};
use crate::admission::Admission;
use crate::clients::Clients;
use crate::clock::Clock;
use crate::keys::{IssuerKeys, LiveKeyring};
use crate::revocations::LiveRevocations;
use crate::store::SessionStore;

/// Sets [`Sessions`] up. The keys, the store and the admission have to be set.
///
/// ```
/// # async fn example(admission: std::sync::Arc<dyn vorsel::Admission<vorsel::NoOwn>>) -> Result<(), Box<dyn std::error::Error>> {
/// use std::sync::Arc;
/// use vorsel::store::MemoryStore;
/// use vorsel::{IssuerKeys, Lifetime, Sessions};
///
/// let sessions = Sessions::builder("https://id.skarnhill.test", "https://api.skarnhill.test")
///     .keys(IssuerKeys::generate()?)
///     .store(Arc::new(MemoryStore::new()))
///     .admission(admission)
///     .access_lifetime(Lifetime::minutes(5))
///     .build()?;
/// # Ok(())
/// # }
/// ```
#[must_use]
pub struct SessionsBuilder<C> {
    access: AccessTokensBuilder,
    refresh: Option<LiveKeyring>,
    admission: Option<Arc<dyn Admission<C>>>,
    clients: Option<Clients>,
    declared: Option<Scopes>,
    limits: SessionLimits,
}

impl<C> SessionsBuilder<C> {
    pub(super) fn new(issuer: String, audience: String) -> Self {
        let access = AccessTokensBuilder::new(issuer, audience);
        Self { access, refresh: None, admission: None, clients: None, declared: None, limits: SessionLimits::default() }
    }

    /// The keys that sign access tokens and refresh tokens.
    pub fn keys(mut self, keys: IssuerKeys) -> Self {
        self.access = self.access.keys(keys.access);
        self.refresh = Some(keys.refresh);
        self
    }

    /// Where the sessions are kept.
    pub fn store(mut self, store: Arc<dyn SessionStore>) -> Self {
        self.access = self.access.store(store);
        self
    }

    /// The app's say at sign-in and at every renewal.
    pub fn admission(mut self, admission: Arc<dyn Admission<C>>) -> Self {
        self.admission = Some(admission);
        self
    }

    /// The registered clients: people sign in through these alone, with no more scopes than each may have. Without this any name
    /// is a client's.
    pub fn clients(mut self, clients: Clients) -> Self {
        self.clients = Some(clients);
        self
    }

    /// How long access tokens last; 5 minutes if nothing is set. The keyring is told, so that no key goes before its
    /// tokens.
    pub fn access_lifetime(mut self, lifetime: Lifetime) -> Self {
        self.access = self.access.lifetime(lifetime);
        self
    }

    /// How long sessions last, and the retry window. The keyring for refresh tokens is told.
    pub const fn limits(mut self, limits: SessionLimits) -> Self {
        self.limits = limits;
        self
    }

    /// Refuses to issue a token with a role that this plan does not declare: the sign-in fails, and says so. Without registered
    /// clients, the scopes that it declares are the most that a session has which asks for none.
    pub fn roles_of(mut self, plan: &AccessPlan) -> Self {
        self.access = self.access.roles_of(plan);
        self.declared = Scopes::of(plan.scopes()).ok().filter(|scopes| !scopes.is_empty());
        self
    }

    /// This instance's view of what is revoked: what is ended or revoked here is known in it when the call is over. Other
    /// instances learn it from the feed.
    pub fn revocations(mut self, revocations: LiveRevocations) -> Self {
        self.access = self.access.revocations(revocations);
        self
    }

    /// Another clock than the machine's, for tests.
    pub fn clock(mut self, clock: Arc<dyn Clock>) -> Self {
        self.access = self.access.clock(clock);
        self
    }

    /// The sessions.
    ///
    /// # Errors
    /// If a part is missing, the keys for refresh tokens are not HMAC secrets, or a keyring in a file cannot be told of the
    /// lifetimes.
    pub fn build(self) -> Result<Sessions<C>, SetUpError> {
        let Self { access, refresh, admission, clients, declared, limits } = self;
        let access = access.build()?;
        let refresh = refresh.ok_or(SetUpError::Missing("the keys"))?;
        let admission = admission.ok_or(SetUpError::Missing("the admission"))?;
        refresh.allow(limits.idle)?;
        let name = access.issuer().to_owned();
        let refresh_tokens =
            refresh.try_derive("refresh tokens", move |ring| RefreshTokens::new(&name, ring.clone()))?;
        let name = access.issuer().to_owned();
        let purpose_tokens = refresh.derive(move |ring| PurposeTokens::new(&name, ring.clone()));
        let keys = IssuerKeys { access: access.keys().clone(), refresh };
        let (recent, arrivals) = (Recent::new(), Mutex::new(Arrivals::with_places(MOST_WAITING)));
        Ok(Sessions(Arc::new(Inner {
            access,
            keys,
            refresh_tokens,
            purpose_tokens,
            admission,
            clients,
            declared,
            limits,
            recent,
            arrivals,
            counters: Counters::new(),
        })))
    }
}

impl<C> fmt::Debug for SessionsBuilder<C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("SessionsBuilder")
            .field("access", &self.access)
            .field("limits", &self.limits)
            .finish_non_exhaustive()
    }
}
