//! The guard as plain data and one function: credentials, caller, plan, predicates.

use std::fmt;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use http::Extensions;
use http::header::{ACCESS_CONTROL_REQUEST_METHOD, ORIGIN};
use http::request::Parts;
use serde::de::DeserializeOwned;
use vorsel_core::{AccessPlan, Answer, Credential, Finding, NoOwn, Outcome, Refusal, Stop, Timestamp, Verdict};

#[cfg(feature = "axum")]
use super::anonymous::Anonymous;
use super::caller::Caller;
use super::identify::{Identified, LookedUp, NotAccepted, unanswered};
use super::inner::Inner;
use super::known::KnownRoutes;
use super::log;
use super::predicate::PredicateRequest;
use super::request::{RequestHead, has};
#[cfg(feature = "axum")]
use super::routes::RouterMap;

/// Guards routes by an access plan. `C` is the app's own claims; a token whose claims do not fit `C` is refused.
///
/// In an axum app hand it to [`Routes::guard`](crate::Routes::guard), which checks the routes against the plan. For another
/// tower service as a whole (tonic's, hyper's, an axum router as it is served) there is [`around`](Self::around). It is no
/// layer itself: with `Router::layer` it would not see the routes that are added after it. For a part of a router there is
/// [`partial`](Self::partial). A handler that asks for a [`Caller`] is refused rather than run when the guard is missing. A layer that rewrites the request's URI belongs around the whole router: the guard goes by the path that the
/// outermost axum router saw, and a [`GuardedApp`](crate::GuardedApp) refuses a request whose path has become one of another entry. A CORS layer belongs around the guard too, so that a page may read refusals; preflights that
/// do reach the guard are answered 204. Inside a router, axum adds an `Allow` header with the methods of a path to refusals
/// of other methods; `Routes::guard` keeps it from that.
///
/// A caller may come with a token in the `Authorization` header, with one in a cookie, with an API key, or with several
/// of them; then all must be accepted and be for the same caller, and the first of them is what the claims are taken
/// from. The key of a client may come along with the token of a person. Every refusal is one `tracing` event under
/// `vorsel::guard`, with what was expected and what was found, and never with the token.
///
/// ```compile_fail
/// # fn app(router: axum::Router, guard: vorsel::Guard) {
/// let open_to_later_routes = router.layer(guard);
/// # }
/// ```
pub struct Guard<C = NoOwn> {
    pub(super) inner: Arc<Inner<C>>,
    pub(super) routes: KnownRoutes,
}

/// What a guard decides: the caller, or nobody on an open route; or what the client is answered without the handler.
pub type Admitted<C> = Result<Option<Caller<C>>, Stop>;

/// A decision under way: ready at once, unless an API key or a ticket has to be looked up, another issuer or a
/// predicate to be asked.
///
/// ```
/// use vorsel::testing::TestIssuer;
/// use vorsel::{AccessPlan, Guard, NoOwn};
///
/// let plan = AccessPlan::builder().open("GET", "/health").build()?;
/// let guard: Guard<NoOwn> = Guard::new(TestIssuer::new().verifier(), plan)?;
/// let request = http::Request::get("/health").body(())?;
/// let admitted = guard.decide(&request, guard.now()).at_once(); // or .await, where something has to be looked up
/// assert!(matches!(admitted, Ok(Ok(None))), "an open route, and nobody signed in");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[must_use = "nobody is refused as long as the decision is not looked at"]
pub struct Deciding<C> {
    state: State<C>,
}

enum State<C> {
    Ready(Option<Admitted<C>>),
    Pending(Pin<Box<dyn Future<Output = Admitted<C>> + Send>>),
}

impl<C> Deciding<C> {
    fn ready(admitted: Admitted<C>) -> Self {
        Self { state: State::Ready(Some(admitted)) }
    }

    /// The decision if it needs no look-up, or the same that waits for one.
    ///
    /// # Errors
    /// The decision itself if it is still under way.
    pub fn at_once(self) -> Result<Admitted<C>, Self> {
        match self.state {
            State::Ready(Some(admitted)) => Ok(admitted),
            state => Err(Self { state }),
        }
    }
}

impl<C> Future for Deciding<C> {
    type Output = Admitted<C>;

    fn poll(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Admitted<C>> {
        match &mut self.state {
            State::Ready(admitted) => match admitted.take() {
                Some(admitted) => Poll::Ready(admitted),
                None => panic!("a future that is done is not polled again"),
            },
            State::Pending(future) => future.as_mut().poll(context),
        }
    }
}

impl<C> Guard<C> {
    pub(super) fn of(inner: Inner<C>) -> Self {
        Self { inner: Arc::new(inner), routes: KnownRoutes::Unknown }
    }

    /// The guard of an app whose routes were held against its plan.
    #[cfg(feature = "axum")]
    pub(super) fn of_listed_routes(self) -> Self {
        Self { routes: KnownRoutes::Listed, ..self }
    }

    /// The guard around a router.
    #[cfg(feature = "axum")]
    pub(super) fn of_router(self, map: RouterMap) -> Self {
        Self { routes: KnownRoutes::Asked(map), ..self }
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

    pub(super) fn answers_grpc(&self) -> bool {
        self.inner.answers_grpc
    }

    /// For the extractors.
    #[cfg(feature = "axum")]
    pub(super) fn anonymous(&self) -> Anonymous {
        let Inner { realm, resource_metadata, .. } = &*self.inner;
        Anonymous { realm: realm.clone(), resource_metadata: resource_metadata.clone() }
    }

    /// An answer that tells where the metadata of this API lies, if that is [set](crate::GuardBuilder::resource_metadata).
    #[must_use]
    pub fn pointing(&self, answer: Answer) -> Answer {
        match &self.inner.resource_metadata {
            Some(address) => answer.with_resource_metadata(address),
            None => answer,
        }
    }

    /// Returns when a caller's token does not stand any more, with what is wrong then: it has expired, or it or its session was revoked. For
    /// streams and sockets, which go on after the guard has let them in:
    /// `tokio::select! { why = guard.until_over(&caller) => close(why), … }`. A caller without a token that expires is never over, nor is
    /// one whose revocation this guard does not [follow](crate::GuardBuilder::revocations).
    pub async fn until_over(&self, caller: &Caller<C>) -> Box<Finding>
    where
        C: Send + Sync + 'static,
    {
        const LOOK_EVERY: Duration = Duration::from_millis(200);
        loop {
            let now = self.now();
            let expires = caller.token_claims().expires_at().is_some();
            let stands = if expires { self.inner.checkers.stands(caller.checked(), now) } else { Ok(()) };
            let stands = stands.and_then(|()| match expires {
                true => self.inner.gates.stands(self.inner.other_issuer(caller), caller.checked(), now),
                false => Ok(()),
            });
            if let Err(finding) = stands {
                return finding;
            }
            tokio::time::sleep(LOOK_EVERY).await;
        }
    }

    /// The moment now by the guard's clock.
    #[must_use]
    pub fn now(&self) -> Timestamp {
        self.inner.clock.now()
    }
}

impl<C: DeserializeOwned + Send + Sync + 'static> Guard<C> {
    /// Decides one request at the moment `now`: the whole guard as a function, for frameworks that are not tower. Await
    /// it, or take it [`at_once`](Deciding::at_once) where the guard has no API keys and no predicates. Nobody comes back for
    /// a caller who is not needed and not known; of what stops the request [`Stop::answer`] is what the client is told.
    ///
    /// On an open route a credential that is not accepted is left aside, so that a client with an expired token can
    /// still sign in. Whatever stops the request is one event in the log.
    pub fn decide<R: RequestHead>(&self, request: &R, now: Timestamp) -> Deciding<C> {
        self.inner.decide(request, &self.routes, now)
    }
}

/// What predicates have said so far.
#[derive(Default)]
struct Answers {
    holds: Vec<(String, bool)>,
    is_hidden: bool,
}

static NO_ANSWERS: Answers = Answers { holds: Vec::new(), is_hidden: false };

impl<C: DeserializeOwned + Send + Sync + 'static> Inner<C> {
    /// The whole way. It is kept apart from the short one, whose code is small enough to stay at hand.
    #[inline(never)]
    pub(super) fn decide(
        self: &Arc<Self>,
        request: &dyn RequestHead,
        routes: &KnownRoutes,
        now: Timestamp,
    ) -> Deciding<C> {
        if self.is_preflight(request) {
            return Deciding::ready(Err(self.stopped(request, routes, Stop::Preflight, None)));
        }
        let caller = match self.identify(request, now) {
            Ok(Identified { caller, lookups }) if !lookups.is_empty() => {
                let later = self.clone().with_look_ups(request.to_parts(), routes.clone(), caller, lookups, now);
                return Deciding { state: State::Pending(Box::pin(later)) };
            }
            Ok(Identified { caller, .. }) => Ok(caller.map(|(_, caller)| caller)),
            Err(refusal) => Err(refusal),
        };
        self.decide_knowing(caller, request, routes, now)
    }

    pub(super) fn decide_knowing(
        self: &Arc<Self>,
        caller: Result<Option<Caller<C>>, NotAccepted<C>>,
        request: &dyn RequestHead,
        routes: &KnownRoutes,
        now: Timestamp,
    ) -> Deciding<C> {
        let verdict = self.verdict(request, &caller, &NO_ANSWERS, now);
        self.otherwise(verdict, request, routes, caller, now)
    }

    /// What comes of a verdict, whatever it is.
    #[inline(never)]
    pub(super) fn otherwise(
        self: &Arc<Self>,
        verdict: (Option<usize>, Verdict),
        request: &dyn RequestHead,
        routes: &KnownRoutes,
        caller: Result<Option<Caller<C>>, NotAccepted<C>>,
        now: Timestamp,
    ) -> Deciding<C> {
        match self.outcome_of(verdict, request, routes, caller, &NO_ANSWERS, now) {
            Outcome::Passed(caller) => Deciding::ready(Ok(caller)),
            Outcome::Stopped(stop) => Deciding::ready(Err(stop)),
            Outcome::Asks(predicate, caller) => {
                let later = self.clone().with_predicates(request.to_parts(), routes.clone(), predicate, caller, now);
                Deciding { state: State::Pending(Box::pin(later)) }
            }
        }
    }

    /// What stops the request, once it was logged.
    fn stopped(&self, request: &dyn RequestHead, routes: &KnownRoutes, stop: Stop, who: Option<&Caller<C>>) -> Stop {
        let status = stop.answer(&self.realm).status;
        let in_app = match &stop {
            Stop::Refused(Refusal::NoRule { .. } | Refusal::NoMethod { .. }) => routes.have(request),
            _ => None,
        };
        log::stopped(request, &self.plan, &stop, status, who.map(Caller::token_claims), in_app);
        stop
    }

    /// A preflight comes without credentials ([Fetch section 4.8](https://fetch.spec.whatwg.org/#cors-preflight-fetch)).
    /// Only a path that says so itself gets it: a handler for any method would take it for a request.
    fn is_preflight(&self, request: &dyn RequestHead) -> bool {
        request.method() == "OPTIONS"
            && has(request, &ORIGIN)
            && has(request, &ACCESS_CONTROL_REQUEST_METHOD)
            && self.plan.route_of("OPTIONS", request.path()).is_none()
    }

    fn verdict(
        &self,
        request: &dyn RequestHead,
        caller: &Result<Option<Caller<C>>, NotAccepted<C>>,
        answers: &Answers,
        now: Timestamp,
    ) -> (Option<usize>, Verdict) {
        let facts = caller.as_ref().ok().and_then(Option::as_ref).map(|caller| caller.facts(&answers.holds));
        self.plan.decide_by_entry(request.method(), request.path(), facts, now)
    }

    fn outcome(
        &self,
        request: &dyn RequestHead,
        routes: &KnownRoutes,
        caller: Result<Option<Caller<C>>, NotAccepted<C>>,
        answers: &Answers,
        now: Timestamp,
    ) -> Outcome<Caller<C>> {
        let verdict = self.verdict(request, &caller, answers, now);
        self.outcome_of(verdict, request, routes, caller, answers, now)
    }

    fn outcome_of(
        &self,
        (entry, verdict): (Option<usize>, Verdict),
        request: &dyn RequestHead,
        routes: &KnownRoutes,
        caller: Result<Option<Caller<C>>, NotAccepted<C>>,
        answers: &Answers,
        now: Timestamp,
    ) -> Outcome<Caller<C>> {
        let facts = caller.as_ref().ok().and_then(Option::as_ref).map(|caller| caller.facts(&answers.holds));
        let path = request.path();
        let stop: Stop = match verdict {
            Verdict::NoRule if facts.is_some() && routes.have(request) == Some(false) => {
                match self.plan.decide("OPTIONS", path, facts, now) {
                    Verdict::Methods(methods) => Refusal::NoMethod { methods },
                    _ if self.plan.has_path(path) => Refusal::NoRule { signed_in: true },
                    _ => Refusal::NoPath,
                }
                .into()
            }
            Verdict::Open | Verdict::Allowed | Verdict::NeedsPredicate(_) if caller.is_ok() => {
                let outcome = Outcome::of(verdict, caller.map_err(|not| not.refusal));
                if let Outcome::Passed(_) = outcome {
                    self.decisions.passed(entry);
                }
                return outcome;
            }
            verdict => {
                let refused = match &caller {
                    Ok(caller) => Ok(caller.clone()),
                    Err(not) => Err(not.refusal.clone()),
                };
                match Outcome::of(verdict, refused) {
                    Outcome::Stopped(Stop::Refused(refusal)) if answers.is_hidden => refusal.hidden().into(),
                    Outcome::Stopped(stop) => stop,
                    other => {
                        // An open route, where a credential that is not accepted is left aside.
                        self.decisions.passed(entry);
                        return other;
                    }
                }
            }
        };
        let who = caller.as_ref().map_or_else(|not| not.who.as_ref(), Option::as_ref);
        self.decisions.stopped(entry, stop.code());
        Outcome::Stopped(self.stopped(request, routes, stop, who))
    }

    async fn with_look_ups(
        self: Arc<Self>,
        parts: Parts,
        routes: KnownRoutes,
        caller: Option<(Credential, Caller<C>)>,
        lookups: Vec<LookedUp<C>>,
        now: Timestamp,
    ) -> Admitted<C> {
        let who = caller.as_ref().map(|(_, caller)| caller.clone());
        let caller = match self.looked_up(caller, lookups, RequestHead::path(&parts), now).await {
            Ok(caller) => Ok(caller.map(|(_, caller)| caller)),
            Err(not) => Err(NotAccepted { who: not.who.or(who), ..not }),
        };
        match self.outcome(&parts, &routes, caller, &NO_ANSWERS, now) {
            Outcome::Passed(caller) => Ok(caller),
            Outcome::Stopped(stop) => Err(stop),
            Outcome::Asks(predicate, caller) => self.with_predicates(parts, routes, predicate, caller, now).await,
        }
    }

    /// Asks one predicate after the other, each only if the outcome still hangs on it.
    async fn with_predicates(
        self: Arc<Self>,
        parts: Parts,
        routes: KnownRoutes,
        mut predicate: String,
        mut caller: Caller<C>,
        now: Timestamp,
    ) -> Admitted<C> {
        let mut answers = Answers::default();
        let mut loaded = Extensions::new();
        loop {
            let request = PredicateRequest::new(parts.clone(), self.plan.parameters_of(parts.path()));
            let answer = match self.predicates.ask(&predicate, caller.clone(), request).await {
                Ok(answer) => answer,
                Err(error) => {
                    let stop: Stop = unanswered(&format!("predicate {predicate}"), &*error).into();
                    self.decisions.stopped(None, stop.code());
                    return Err(self.stopped(&parts, &routes, stop, Some(&caller)));
                }
            };
            answers.is_hidden |= answer.hides;
            loaded.extend(answer.loaded);
            answers.holds.push((predicate, answer.holds));
            match self.outcome(&parts, &routes, Ok(Some(caller)), &answers, now) {
                Outcome::Passed(caller) => return Ok(caller.map(|caller| caller.with_loaded(loaded))),
                Outcome::Stopped(stop) => return Err(stop),
                Outcome::Asks(next, same) => (predicate, caller) = (next, same),
            }
        }
    }
}

impl<C> Clone for Guard<C> {
    fn clone(&self) -> Self {
        Self { inner: self.inner.clone(), routes: self.routes.clone() }
    }
}

impl<C> fmt::Debug for Guard<C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Inner { checkers, plan, sources, .. } = &*self.inner;
        f.debug_struct("Guard")
            .field("checkers", checkers)
            .field("plan", plan)
            .field("sources", sources)
            .finish_non_exhaustive()
    }
}

impl<C> fmt::Debug for Deciding<C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Deciding").field("is_ready", &matches!(self.state, State::Ready(_))).finish()
    }
}
