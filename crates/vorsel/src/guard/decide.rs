//! The guard as plain data and one function: credential, token, plan, caller.

use std::fmt;
use std::sync::Arc;

use http::{HeaderMap, Method};
use serde::de::DeserializeOwned;
use vorsel_core::{AccessPlan, NoOwn, Refusal, Timestamp, Verdict};

use super::caller::Caller;
use super::header;
use crate::checker::Checker;
use crate::clock::{Clock, SystemClock};

/// Guards routes by an access plan. `C` is the app's own claims; a token whose claims do not fit `C` is refused.
///
/// It is a [`tower_layer::Layer`]. Put it on last, so that it is around every route: in axum, what is added to a
/// router after `.layer(guard)` is not behind it. A handler that asks for a [`Caller`] is refused rather than run when
/// the guard is missing. A layer that rewrites the request's URI belongs around the whole router: the guard goes by the
/// path that the outermost axum router saw.
///
/// Every refusal is one `tracing` event under `vorsel::guard`, with what was expected and what was found, and never
/// with the token.
pub struct Guard<C = NoOwn> {
    pub(super) inner: Arc<Inner<C>>,
}

pub(super) struct Inner<C> {
    checker: Checker<C>,
    plan: AccessPlan,
    pub(super) realm: Arc<str>,
    pub(super) clock: Arc<dyn Clock>,
}

impl<C> Guard<C> {
    /// A guard that believes `checker`, or a verifier whose keys stay as they are, and does what `plan` says. Its realm
    /// is the audience expected.
    #[must_use]
    pub fn new(checker: impl Into<Checker<C>>, plan: AccessPlan) -> Self {
        let checker = checker.into();
        let inner = Inner { realm: checker.realm(), checker, plan, clock: Arc::new(SystemClock) };
        Self { inner: Arc::new(inner) }
    }

    /// Another clock than the machine's, for tests.
    #[must_use]
    pub fn clock(self, clock: Arc<dyn Clock>) -> Self {
        let Inner { checker, plan, realm, .. } = &*self.inner;
        let (checker, plan, realm) = (checker.clone(), plan.clone(), realm.clone());
        Self { inner: Arc::new(Inner { checker, plan, realm, clock }) }
    }

    /// The plan.
    #[must_use]
    pub fn plan(&self) -> &AccessPlan {
        &self.inner.plan
    }

    /// The realm that challenges name.
    #[must_use]
    pub fn realm(&self) -> &str {
        &self.inner.realm
    }
}

impl<C: DeserializeOwned> Guard<C> {
    /// Decides one request: the whole guard as a function, for frameworks that are not tower. `path` is the path as it
    /// was sent, without the query. Nothing comes back for a caller who is not needed and not known.
    ///
    /// On an open route a credential that is not accepted is left aside, so that a client with an expired token can
    /// still sign in.
    ///
    /// # Errors
    /// The refusal; [`Refusal::answer`] is what the client is told.
    pub fn decide(
        &self,
        method: &Method,
        path: &str,
        headers: &HeaderMap,
        now: Timestamp,
    ) -> Result<Option<Caller<C>>, Refusal> {
        let Inner { checker, plan, .. } = &*self.inner;
        let caller = header::bearer_token(headers).and_then(|token| match token {
            None => Ok(None),
            Some(token) => {
                checker.check(token, now).map(|checked| Some(Caller::new(checked))).map_err(Refusal::BadToken)
            }
        });
        let known = caller.as_ref().ok().and_then(Option::as_ref);
        match plan.decide(method.as_str(), path, known.map(Caller::token_claims), now) {
            Verdict::Open => Ok(caller.ok().flatten()),
            Verdict::Allowed => caller,
            Verdict::NeedsCaller => Err(caller.err().unwrap_or(Refusal::NoCredential)),
            Verdict::Refused(unmet) => Err(Refusal::Unmet(unmet)),
            Verdict::NoMethod(open_to) => Err(Refusal::NoMethod { open_to }),
            _ => {
                let signed_in = known.is_some();
                Err(caller.err().unwrap_or(Refusal::NoRule { signed_in }))
            }
        }
    }
}

impl<C> Clone for Guard<C> {
    fn clone(&self) -> Self {
        Self { inner: self.inner.clone() }
    }
}

impl<C> fmt::Debug for Guard<C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Guard")
            .field("checker", &self.inner.checker)
            .field("plan", &self.inner.plan)
            .finish_non_exhaustive()
    }
}
