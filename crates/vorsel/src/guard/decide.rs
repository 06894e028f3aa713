//! The guard as plain data and one function: credentials, caller, plan, predicates.

use std::fmt;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use async_trait::async_trait;
use http::Extensions;
use http::header::{ACCESS_CONTROL_REQUEST_METHOD, ORIGIN};
use http::request::Parts;
use serde::Serialize;
use serde::de::DeserializeOwned;
use vorsel_core::{
    AccessPlan, Answer, Checked, Credential, Finding, NoOwn, Outcome, Proven, Refusal, Stop, Timestamp, Verdict,
    with_causes,
};

#[cfg(feature = "axum")]
use super::anonymous::Anonymous;
use super::api_key::{ApiKeyHash, ApiKeys};
use super::caller::Caller;
use super::credentials::{Shown, Source, Sources};
use super::known::KnownRoutes;
use super::log;
use super::predicate::{PredicateRequest, Predicates};
use super::request::{RequestHead, has};
use super::revocation::RevocationGate;
#[cfg(feature = "axum")]
use super::routes::RouterMap;
use crate::checker::{Asked, Checkers, Found, Looking, NoAnswer, NotChecked};
use crate::clock::Clock;
use crate::meters::Decisions;
use crate::tickets::{NotTaken, Tickets};

/// Guards routes by an access plan. `C` is the app's own claims; a token whose claims do not fit `C` is refused.
///
/// In an axum app hand it to [`Routes::guard`](crate::Routes::guard), which checks the routes against the plan. For another
/// tower service as a whole (tonic's, hyper's, an axum router as it is served) there is [`around`](Self::around). It is no
/// layer itself: with `Router::layer` it would not see the routes that are added after it. For a part of a router there is
/// [`partial`](Self::partial). A handler that asks for a [`Caller`] is refused rather than run when the guard is missing. A layer that rewrites the request's URI belongs around the whole router: the guard goes by the path that the
/// outermost axum router saw. A CORS layer belongs around the guard too, so that a page may read refusals; preflights that
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
    inner: Arc<Inner<C>>,
    routes: KnownRoutes,
}

pub(super) struct Inner<C> {
    pub(super) checkers: Checkers<C>,
    /// The issuer whose subjects are our own people.
    pub(super) issuer: Option<Arc<str>>,
    pub(super) plan: AccessPlan,
    pub(super) sources: Sources,
    pub(super) keys: Option<Arc<dyn LookUp<C>>>,
    pub(super) tickets: Option<Tickets>,
    pub(super) predicates: Predicates<C>,
    pub(super) realm: Arc<str>,
    /// Where it is said who issues tokens for this API.
    pub(super) resource_metadata: Option<Arc<str>>,
    pub(super) clock: Arc<dyn Clock>,
    pub(super) revocations: Option<RevocationGate>,
    /// Whether every refusal is one of gRPC.
    pub(super) answers_grpc: bool,
    pub(super) decisions: Decisions,
}

/// The look-up of API keys, with the owner's claims made up from what the app says.
#[async_trait]
pub(super) trait LookUp<C>: Send + Sync {
    async fn owner(&self, hash: &ApiKeyHash) -> Result<Option<Checked<C>>, Box<dyn std::error::Error + Send + Sync>>;
}

#[async_trait]
impl<C: Serialize + Send + Sync + 'static, K: ApiKeys<C>> LookUp<C> for K {
    async fn owner(&self, hash: &ApiKeyHash) -> Result<Option<Checked<C>>, Box<dyn std::error::Error + Send + Sync>> {
        let owner = ApiKeys::owner(self, hash).await?;
        Ok(owner.map(super::api_key::ApiKeyOwner::vouched).transpose()?)
    }
}

/// What a guard decides: the caller, or nobody on an open route; or what the client is answered without the handler.
pub type Admitted<C> = Result<Option<Caller<C>>, Stop>;

/// A decision under way: ready at once, unless an API key or a ticket has to be looked up, another issuer or a
/// predicate to be asked.
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
    pub fn at_once(mut self) -> Result<Admitted<C>, Self> {
        match &mut self.state {
            State::Ready(admitted) => admitted.take().ok_or(self),
            State::Pending(_) => Err(self),
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
            let gate = self.inner.revocations.as_ref().filter(|_| expires);
            let stands = stands.and_then(|()| {
                let of = self.inner.other_issuer(caller);
                gate.map_or(Ok(()), |gate| gate.stands(of, caller.checked(), now))
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

/// Who the tokens of a request are of, and what is still to be looked up.
struct Identified<C> {
    caller: Option<(Credential, Caller<C>)>,
    lookups: Vec<LookedUp<C>>,
}

/// What a store of the app's, or ours, has to be asked for.
enum LookedUp<C> {
    ApiKey(ApiKeyHash),
    Ticket(String),
    /// The key of a token that is looked for.
    Key(Credential, Vec<u8>, Looking),
    /// What its issuer says of a token.
    Asked(Credential, Asked<C>),
}

/// Why the caller of a request is not accepted, and who it would be where a token was accepted before.
struct NotAccepted<C> {
    refusal: Refusal,
    who: Option<Caller<C>>,
}

/// Why it is not known who a token is of.
enum NotKnown<C> {
    Refused(NotAccepted<C>),
    /// Its key is being looked for.
    Yet(Looking),
    /// Its issuer is asked.
    Asked(Asked<C>),
}

impl<C> From<Refusal> for NotAccepted<C> {
    fn from(refusal: Refusal) -> Self {
        Self { refusal, who: None }
    }
}

/// What predicates have said so far.
#[derive(Default)]
struct Answers {
    holds: Vec<(String, bool)>,
    is_hidden: bool,
}

impl<C> Inner<C> {
    /// The issuer whose names a token has, if it is not ours; where any issuer will do, nobody can tell.
    fn other_issuer<'c>(&self, caller: &'c Caller<C>) -> Option<&'c str> {
        self.issuer.as_ref().and_then(|_| caller.other_issuer())
    }
}

impl<C: DeserializeOwned + Send + Sync + 'static> Inner<C> {
    fn decide(self: &Arc<Self>, request: &dyn RequestHead, routes: &KnownRoutes, now: Timestamp) -> Deciding<C> {
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
        match self.outcome(request, routes, caller, &Answers::default(), now) {
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

    /// Finds the credentials and checks the tokens among them: all must be for the same caller.
    fn identify(&self, request: &dyn RequestHead, now: Timestamp) -> Result<Identified<C>, NotAccepted<C>> {
        let (mut caller, mut lookups) = (None, Vec::new());
        for (source, shown) in self.sources.find(request)? {
            match shown {
                Shown::Token(token, proven) => match self.caller(source, token, proven, now) {
                    Ok(found) => caller = Some(joined(caller, source.kind(), found)?),
                    Err(NotKnown::Yet(looking)) => {
                        lookups.push(LookedUp::Key(source.kind(), token.to_owned(), looking));
                    }
                    Err(NotKnown::Asked(asked)) => lookups.push(LookedUp::Asked(source.kind(), asked)),
                    Err(NotKnown::Refused(not)) => return Err(not),
                },
                Shown::ApiKey(key) => lookups.push(LookedUp::ApiKey(ApiKeyHash::of(key))),
                Shown::Ticket(ticket) => lookups.push(LookedUp::Ticket(ticket.to_owned())),
            }
        }
        Ok(Identified { caller, lookups })
    }

    fn caller(
        &self,
        source: &dyn Source,
        token: &[u8],
        proven: Proven<'_>,
        now: Timestamp,
    ) -> Result<Caller<C>, NotKnown<C>> {
        match self.checkers.check(token, proven, now) {
            Ok(found) => self.admitted(found, source.kind(), now).map_err(NotKnown::Refused),
            // A proof is not kept for later: a token that is bound to a key is refused then.
            Err(NotChecked::Looking(looking)) => Err(NotKnown::Yet(looking)),
            Err(NotChecked::Asked(asked)) => Err(NotKnown::Asked(asked)),
            Err(NotChecked::Refused { finding, unanswered }) => {
                let refusal = not_checked(unanswered, || source.explain(token, finding));
                Err(NotKnown::Refused(refusal.into()))
            }
        }
    }

    /// A token whose key was looked for meanwhile, or one that waits for what it takes.
    async fn caller_again(&self, kind: Credential, token: &[u8], now: Timestamp) -> Result<Caller<C>, NotAccepted<C>> {
        let mut checked = self.checkers.check(token, Proven::Nothing, now);
        if let Err(NotChecked::Looking(looking)) = checked {
            looking.await;
            checked = self.checkers.check(token, Proven::Nothing, now);
        }
        match checked {
            Ok(found) => self.admitted(found, kind, now),
            Err(NotChecked::Asked(asked)) => self.answered(kind, asked.await, now),
            Err(NotChecked::Refused { finding, unanswered }) => {
                Err(not_checked(unanswered, || Refusal::BadToken(finding)).into())
            }
            Err(NotChecked::Looking(_)) => {
                let reason = "its keys are being looked for again".to_owned();
                Err(Refusal::Unanswered { what: THE_KEYS.to_owned(), reason }.into())
            }
        }
    }

    /// What an issuer that was asked has said.
    fn answered(
        &self,
        kind: Credential,
        answer: Result<Arc<Checked<C>>, NoAnswer>,
        now: Timestamp,
    ) -> Result<Caller<C>, NotAccepted<C>> {
        match answer {
            Ok(checked) => self.admitted(Found { checked, is_former: false }, kind, now),
            Err(NoAnswer::Refused(finding)) => Err(Refusal::BadToken(finding).into()),
            Err(NoAnswer::Unanswered(reason)) => {
                Err(Refusal::Unanswered { what: "what its issuer says of a token".to_owned(), reason }.into())
            }
        }
    }

    /// The caller of a token that was accepted, if it was not revoked.
    fn admitted(
        &self,
        Found { checked, is_former }: Found<C>,
        kind: Credential,
        now: Timestamp,
    ) -> Result<Caller<C>, NotAccepted<C>> {
        let issuer = checked.claims().issuer();
        let is_own = is_former || issuer.is_some() && issuer == self.issuer.as_deref();
        let caller = Caller::new(checked, is_own, kind);
        let admitted = self.revocations.as_ref();
        let admitted = admitted.map_or(Ok(()), |gate| gate.admits(self.other_issuer(&caller), caller.checked(), now));
        match admitted {
            Ok(()) => Ok(caller),
            Err(refusal) => Err(NotAccepted { refusal, who: Some(caller) }),
        }
    }

    fn outcome(
        &self,
        request: &dyn RequestHead,
        routes: &KnownRoutes,
        caller: Result<Option<Caller<C>>, NotAccepted<C>>,
        answers: &Answers,
        now: Timestamp,
    ) -> Outcome<Caller<C>> {
        let facts = caller.as_ref().ok().and_then(Option::as_ref).map(|caller| caller.facts(&answers.holds));
        let path = request.path();
        let (entry, verdict) = self.plan.decide_by_entry(request.method(), path, facts, now);
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
        match self.outcome(&parts, &routes, caller, &Answers::default(), now) {
            Outcome::Passed(caller) => Ok(caller),
            Outcome::Stopped(stop) => Err(stop),
            Outcome::Asks(predicate, caller) => self.with_predicates(parts, routes, predicate, caller, now).await,
        }
    }

    /// The caller, known by an API key or a ticket as well.
    async fn looked_up(
        &self,
        mut caller: Option<(Credential, Caller<C>)>,
        lookups: Vec<LookedUp<C>>,
        path: &str,
        now: Timestamp,
    ) -> Result<Option<(Credential, Caller<C>)>, NotAccepted<C>> {
        for shown in lookups {
            let (kind, found) = match shown {
                LookedUp::ApiKey(hash) => (Credential::ApiKey, self.owner(&hash).await?),
                LookedUp::Ticket(ticket) => (Credential::Ticket, self.holder(&ticket, path, now).await?),
                LookedUp::Key(kind, token, looking) => {
                    looking.await;
                    (kind, self.caller_again(kind, &token, now).await?)
                }
                LookedUp::Asked(kind, asked) => (kind, self.answered(kind, asked.await, now)?),
            };
            caller = Some(joined(caller, kind, found)?);
        }
        Ok(caller)
    }

    async fn owner(&self, hash: &ApiKeyHash) -> Result<Caller<C>, Refusal> {
        let book = self.keys.as_ref().ok_or(Refusal::BadApiKey)?;
        let owner = book.owner(hash).await.map_err(|error| unanswered("the owner of an API key", &*error))?;
        Ok(Caller::new(Arc::new(owner.ok_or(Refusal::BadApiKey)?), true, Credential::ApiKey))
    }

    /// Whoever a ticket stands for. It is used up only once its token was accepted, so that strangers write nothing into the store.
    async fn holder(&self, ticket: &str, path: &str, now: Timestamp) -> Result<Caller<C>, NotAccepted<C>> {
        let not_taken = |not| match not {
            NotTaken::Bad(found) => Refusal::BadTicket { found },
            NotTaken::Unanswered(error) => unanswered("whether a ticket is good", &error),
        };
        let bad = || Refusal::BadTicket { found: "one where none are taken".to_owned() };
        let tickets = self.tickets.as_ref().ok_or_else(bad)?;
        let offset = self.revocations.as_ref().map(|gate| gate.view.clock_offset()).unwrap_or_default();
        let opened = tickets.opened(ticket, path, offset.there(now)).await.map_err(not_taken)?;
        let caller = self.caller_again(Credential::Ticket, opened.token().as_bytes(), now).await?;
        match tickets.used(&opened).await {
            Ok(()) => Ok(caller),
            Err(not) => Err(NotAccepted { refusal: not_taken(not), who: Some(caller) }),
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

/// The caller as known so far, and now by one more credential.
fn joined<C>(
    known: Option<(Credential, Caller<C>)>,
    kind: Credential,
    caller: Caller<C>,
) -> Result<(Credential, Caller<C>), Refusal> {
    match known {
        None => Ok((kind, caller)),
        Some((first, known)) => match known.joined_by(&caller) {
            Some(known) => Ok((first, known)),
            None => Err(Refusal::Disagreement(first, kind)),
        },
    }
}

const THE_KEYS: &str = "the keys of the token's issuer";

fn not_checked(unanswered: Option<String>, explain: impl FnOnce() -> Refusal) -> Refusal {
    match unanswered {
        Some(reason) => Refusal::Unanswered { what: THE_KEYS.to_owned(), reason },
        None => explain(),
    }
}

fn unanswered(what: &str, error: &(dyn std::error::Error + Send + Sync + 'static)) -> Refusal {
    Refusal::Unanswered { what: what.to_owned(), reason: with_causes(error) }
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
