//! Keys, store and what is revoked, as the settings have them.

use std::fmt;
use std::sync::Arc;

use serde::Serialize;
use vorsel_core::AccessPlan;

use super::{KeyPlace, Settings};
use crate::access::{AccessTokens, AccessTokensBuilder};
use crate::admission::Admission;
use crate::checker::Checker;
use crate::guard::{Guard, GuardBuilder};
use crate::keys::{IssuerKeys, KeyFileError, KeyStepError, KeyStoreError};
use crate::revocations::LiveRevocations;
use crate::sessions::{Sessions, SessionsBuilder};
use crate::store::{SessionStore, StoreError};

/// What an app works with, opened as its [`Settings`] say.
///
/// ```no_run
/// # async fn example(admission: std::sync::Arc<dyn vorsel::Admission<vorsel::NoOwn>>) -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::{NoOwn, Settings};
///
/// let opened = Settings::load("vorsel.toml")?.open().await?;
/// let sessions = opened.sessions(admission).build()?;
/// let guard = opened.guard::<NoOwn>()?.build()?;
/// # Ok(())
/// # }
/// ```
#[derive(Clone)]
#[non_exhaustive]
pub struct Opened {
    /// What it was opened with.
    pub settings: Settings,
    /// The keys that sign.
    pub keys: IssuerKeys,
    /// Where sessions are kept.
    pub store: Arc<dyn SessionStore>,
    /// What is revoked.
    pub revocations: LiveRevocations,
}

/// Why it could not be opened.
///
/// ```no_run
/// # async fn example() -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::{OpenError, Settings};
///
/// match Settings::load("vorsel.toml")?.open().await {
///     Err(OpenError::Store { address, source }) => println!("{address}: {source}"),
///     other => drop(other?),
/// }
/// # Ok(())
/// # }
/// ```
#[derive(thiserror::Error)]
#[non_exhaustive]
pub enum OpenError {
    /// The store could not be reached or set up.
    #[error("the store {address} cannot be opened")]
    Store {
        /// Its address without a password.
        address: String,
        /// Why.
        source: StoreError,
    },
    /// The keys in a folder cannot be used.
    #[error(transparent)]
    Folder(#[from] KeyFileError),
    /// The keys in the store cannot be used.
    #[error(transparent)]
    KeysInStore(#[from] KeyStoreError),
    /// The keys could not be told of the lifetimes.
    #[error("the keys cannot be told how long tokens last")]
    Lifetime(#[from] KeyStepError),
    /// No plan is named.
    #[error("expected plan in the settings, or VORSEL_PLAN, but found neither; guard_by takes one written in Rust")]
    NoPlan,
}

vorsel_core::readable_debug!(OpenError);

impl Settings {
    /// Opens the store, follows what is revoked, and reads the keys or makes them.
    ///
    /// # Errors
    /// If the store cannot be reached, or the keys cannot be used.
    ///
    /// # Panics
    /// Outside of a tokio runtime.
    pub async fn open(self) -> Result<Opened, OpenError> {
        let failed = |source| OpenError::Store { address: self.store.to_string(), source };
        let store = self.store.open(&self.store_options).await.map_err(failed)?;
        let revocations = LiveRevocations::follow_within(store.clone(), self.clock_difference);
        let revocations = revocations.await.map_err(failed)?;
        let keys = match &self.keys {
            KeyPlace::Folder(folder) => IssuerKeys::in_folder(folder)?,
            KeyPlace::Store(secret) => IssuerKeys::in_store(store.clone(), secret).await?,
        };
        keys.access.allow_lifetime(self.access_lifetime).await?;
        keys.refresh.allow_lifetime(self.limits.idle).await?;
        Ok(Opened { settings: self, keys, store, revocations })
    }
}

impl Opened {
    /// Sessions with these keys, store, lifetimes and limits; `admission` is the app's say at sign-in and at every renewal. Roles that
    /// the plan does not declare are refused, if there is a plan, and clients that are not registered, if there is a list.
    pub fn sessions<C: Serialize + Send + Sync + 'static>(
        &self,
        admission: Arc<dyn Admission<C>>,
    ) -> SessionsBuilder<C> {
        let Settings { issuer, audience, access_lifetime, limits, plan, clients, .. } = &self.settings;
        let sessions = Sessions::builder(issuer, audience)
            .keys(self.keys.clone())
            .store(self.store.clone())
            .revocations(self.revocations.clone())
            .access_lifetime(*access_lifetime)
            .limits(*limits)
            .admission(admission);
        let sessions = clients.iter().cloned().fold(sessions, SessionsBuilder::clients);
        plan.iter().fold(sessions, SessionsBuilder::roles_of)
    }

    /// Access tokens without sessions, for machine clients.
    pub fn access_tokens(&self) -> AccessTokensBuilder {
        let Settings { issuer, audience, access_lifetime, plan, .. } = &self.settings;
        let tokens = AccessTokens::builder(issuer, audience)
            .keys(self.keys.access.clone())
            .store(self.store.clone())
            .revocations(self.revocations.clone())
            .lifetime(*access_lifetime);
        plan.iter().fold(tokens, AccessTokensBuilder::roles_of)
    }

    /// A guard that does what the plan of the settings says, follows the keys, and refuses what is revoked.
    ///
    /// # Errors
    /// If the settings name no plan.
    pub fn guard<C: Send + Sync + 'static>(&self) -> Result<GuardBuilder<C>, OpenError> {
        Ok(self.guard_by(self.settings.plan.clone().ok_or(OpenError::NoPlan)?))
    }

    /// [`guard`](Self::guard) by another plan.
    pub fn guard_by<C: Send + Sync + 'static>(&self, plan: AccessPlan) -> GuardBuilder<C> {
        let Settings { cookie, cookie_origins, own_origin, longest_silence, when_silent, .. } = &self.settings;
        let checker = Checker::new(self.keys.access.clone(), self.settings.expectations());
        let mut guard = Guard::builder(checker, plan);
        guard = guard.revocations(self.revocations.clone(), *longest_silence, *when_silent);
        if let Some(cookie) = cookie {
            guard = guard.cookie(cookie);
        }
        if let Some(origin) = own_origin {
            guard = guard.own_origin(origin);
        }
        let origins: Vec<&str> = cookie_origins.iter().map(String::as_str).collect();
        guard.cookie_origins(&origins)
    }
}

impl fmt::Debug for Opened {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Opened").field("settings", &self.settings).finish_non_exhaustive()
    }
}
