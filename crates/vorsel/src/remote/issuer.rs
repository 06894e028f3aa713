//! An issuer that is followed.

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use tokio::task::AbortHandle;
use vorsel_core::{Expectations, KeySet};

use super::fetch::FetchError;
use super::follow::{Followed, RemoteFigures, once};
use super::limits::RemoteLimits;
use crate::checker::{Checker, IntoChecker, KeySource, Looking};
use crate::keys::LiveKeySet;

/// Another issuer whose tokens are accepted. Its keys are fetched from where its metadata says, on a task of their own, and followed: fresh
/// ones are there before the old ones go stale, what its set no longer has stops working, and an outage is lived through for a while.
/// A key that is not known has the set fetched again at once, but never more than once in a while, whatever tokens come.
///
/// ```
/// use vorsel::{AccessPlan, Guard, GuardError, NoOwn, Reading, RemoteIssuer, Verifier};
///
/// # fn set_up(verifier: Verifier, plan: AccessPlan) -> Result<(), Box<dyn std::error::Error>> {
/// let reading = Reading::default().roles_in(&["https://lab.skarnhill.test/roles"])?.role("crew", "observer");
/// let lab = RemoteIssuer::builder("https://id.lab.skarnhill.test", "https://api.skarnhill.test").reading(reading).follow()?;
/// let guard: Guard<NoOwn> = Guard::builder(verifier, plan).also(lab.clone()).build()?; // beside tokens of our own
/// let is_ready = lab.is_ready(); // for a readiness probe: the guard does not wait for an issuer that is down
/// # drop((guard, is_ready));
/// # Ok(())
/// # }
/// ```
#[derive(Clone)]
pub struct RemoteIssuer {
    followed: Arc<Followed>,
    expectations: Expectations,
    _following: Arc<Following>,
}

/// Follows for as long as somebody has the issuer.
struct Following(AbortHandle);

impl Drop for Following {
    fn drop(&mut self) {
        self.0.abort();
    }
}

impl RemoteIssuer {
    /// The keys that an issuer publishes now, fetched once, for a tool that looks at a token of it.
    ///
    /// # Errors
    /// If the issuer is not https (or on this machine), or its metadata or its keys can't be had.
    pub async fn keys_of(issuer: &str) -> Result<KeySet, FetchError> {
        once(issuer, &RemoteLimits::default()).await
    }

    pub(super) fn following(followed: Followed, expectations: Expectations) -> Self {
        let followed = Arc::new(followed);
        let task = tokio::spawn(followed.clone().follow());
        Self { followed, expectations, _following: Arc::new(Following(task.abort_handle())) }
    }

    /// Whether its keys are there.
    #[must_use]
    pub fn is_ready(&self) -> bool {
        self.followed.is_ready()
    }

    /// Waits until its keys are there, for so long at most. Whether they are.
    pub async fn ready_within(&self, longest: Duration) -> bool {
        self.followed.ready_within(longest).await
    }

    /// The keys as they are now.
    #[must_use]
    pub fn keys(&self) -> Arc<KeySet> {
        self.followed.keys().current()
    }

    /// For metrics and for a look.
    #[must_use]
    pub fn figures(&self) -> RemoteFigures {
        self.followed.figures()
    }

    /// Its name.
    pub(super) fn issuer(&self) -> &str {
        self.followed.issuer()
    }

    pub(super) fn live_keys(&self) -> LiveKeySet {
        self.followed.keys().clone()
    }

    /// A checker of its tokens.
    #[must_use]
    pub fn checker<C: Send + Sync + 'static>(&self) -> Checker<C> {
        Checker::new(self.live_keys(), self.expectations.clone()).looking_in(Arc::new(self.clone()))
    }
}

impl<C: Send + Sync + 'static> IntoChecker<C> for RemoteIssuer {
    fn into_checker(self) -> Checker<C> {
        self.checker()
    }
}

impl KeySource for RemoteIssuer {
    fn look_again(&self) -> Option<Looking> {
        self.followed.look_again()
    }

    fn missing(&self) -> Option<String> {
        self.followed.missing()
    }
}

impl fmt::Debug for RemoteIssuer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("RemoteIssuer").field("expectations", &self.expectations).finish_non_exhaustive()
    }
}
