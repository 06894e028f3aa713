//! The guard as plain data and one function: credentials, caller, plan, checks.

use std::fmt;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};

use async_trait::async_trait;
use http::header::{ACCESS_CONTROL_REQUEST_METHOD, ORIGIN};
use http::request::Parts;
use http::{Extensions, HeaderMap, Method, Request, Uri};
use serde::de::DeserializeOwned;
use vorsel_core::{AccessPlan, Checked, Credential, NoOwn, Refusal, Timestamp, Verdict, VouchError};

use super::api_key::{ApiKeyHash, ApiKeyOwner, ApiKeys};
use super::caller::Caller;
use super::header::odd_token;
use super::known::Known;
use super::predicate::{PredicateRequest, Predicates};
use super::sources::{Presented, Sources};
use crate::checker::Checker;
use crate::clock::Clock;

/// Guards routes by an access plan. `C` is the app's own claims; a token whose claims do not fit `C` is refused.
///
/// In an axum app hand it to [`Routes::guard`](crate::Routes::guard), which checks the routes against the plan. It is a
/// [`tower_layer::Layer`] as well, for a whole service: tonic's, hyper's, an axum router as it is served. Inside a router,
/// with `Router::layer`, it would not see what is added after it, so it panics there at the start; for a part of a router
/// there is [`partial`](Self::partial). A handler that asks for a [`Caller`] is refused rather than run when the guard is
/// missing. A layer that rewrites the request's URI belongs around the whole router: the guard goes by the path that the
/// outermost axum router saw. A CORS layer belongs around the guard too, so that a page may read refusals; preflights that
/// do reach the guard are answered 204. Inside a router, axum adds an `Allow` header with the methods of a path to refusals
/// of other methods; `Routes::guard` keeps it from that.
///
/// A caller may come with a token in the `Authorization` header, with one in a cookie, with an API key, or with several
/// of them; then all must be accepted and be for the same subject, and the first of them is what the claims are taken
/// from. Every refusal is one `tracing` event under `vorsel::guard`, with what was expected and what was found, and never
/// with the token.
pub struct Guard<C = NoOwn> {
    pub(super) inner: Arc<Inner<C>>,
}

pub(super) struct Inner<C> {
    pub(super) checker: Checker<C>,
    pub(super) plan: AccessPlan,
    pub(super) sources: Sources,
    pub(super) keys: Option<Arc<dyn LookUp<C>>>,
    pub(super) predicates: Predicates<C>,
    pub(super) realm: Arc<str>,
    pub(super) clock: Arc<dyn Clock>,
    pub(super) revocations: Option<Known>,
    /// What a request without extensions gets in their place.
    pub(super) room: Extensions,
}

/// No extensions, but room for the caller and the three that axum adds; it would be made in two steps otherwise, with
/// every request.
pub(super) fn room_for_extensions() -> Extensions {
    #[derive(Clone)]
    struct Place<const N: usize>;
    let mut room = Extensions::new();
    room.insert(Place::<0>);
    room.insert(Place::<1>);
    room.insert(Place::<2>);
    room.insert(Place::<3>);
    room.clear();
    room
}

/// The look-up of API keys, with the owner's claims made up from what the app says.
#[async_trait]
pub(super) trait LookUp<C>: Send + Sync {
    async fn owner(&self, hash: &ApiKeyHash) -> Result<Option<Checked<C>>, Box<dyn std::error::Error + Send + Sync>>;
}

#[async_trait]
impl<C, K, V> LookUp<C> for (K, V)
where
    C: Send + Sync + 'static,
    K: ApiKeys<C>,
    V: Fn(ApiKeyOwner<C>) -> Result<Checked<C>, VouchError> + Send + Sync,
{
    async fn owner(&self, hash: &ApiKeyHash) -> Result<Option<Checked<C>>, Box<dyn std::error::Error + Send + Sync>> {
        let (keys, vouch) = self;
        Ok(keys.owner(hash).await?.map(vouch).transpose()?)
    }
}

/// What a guard decides: the caller, or nobody on an open route; or the refusal.
pub type Admitted<C> = Result<Option<Caller<C>>, Refusal>;

/// A decision under way: ready at once, unless an API key has to be looked up or a predicate to be asked.
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

    /// The moment now by the guard's clock.
    #[must_use]
    pub fn now(&self) -> Timestamp {
        self.inner.clock.now()
    }
}

impl<C: DeserializeOwned + Send + Sync + 'static> Guard<C> {
    /// Decides one request at the moment `now`: the whole guard as a function, for frameworks that are not tower. Await
    /// it, or take it [`at_once`](Deciding::at_once) where the guard has no API keys and no predicates. Nobody comes back for
    /// a caller who is not needed and not known; of a refusal [`Refusal::answer`] is what the client is told.
    ///
    /// On an open route a credential that is not accepted is left aside, so that a client with an expired token can
    /// still sign in.
    pub fn decide(&self, parts: &Parts, now: Timestamp) -> Deciding<C> {
        self.decide_head(Head::of(parts), now)
    }

    pub(super) fn decide_head(&self, head: Head<'_>, now: Timestamp) -> Deciding<C> {
        let inner = &self.inner;
        if inner.is_preflight(head) {
            return Deciding::ready(Err(Refusal::Preflight));
        }
        let presented = match inner.sources.present(head.method, head.headers) {
            Ok(Presented { api_key: Some(key), .. }) => {
                let (inner, hash) = (inner.clone(), ApiKeyHash::of(key));
                return Deciding { state: State::Pending(Box::pin(inner.with_api_key(head.to_parts(), hash, now))) };
            }
            presented => presented,
        };
        let caller = presented.and_then(|presented| inner.identify(presented, None, now));
        match inner.apply(head, caller, &[], now) {
            Applied::Done(admitted) => Deciding::ready(admitted),
            Applied::Ask(predicate, caller) => {
                let inner = inner.clone();
                Deciding {
                    state: State::Pending(Box::pin(inner.with_predicates(head.to_parts(), predicate, caller, now))),
                }
            }
        }
    }
}

/// What a guard looks at of a request, where it is: taking a request apart and putting it together again costs more.
#[derive(Clone, Copy)]
pub(super) struct Head<'r> {
    method: &'r Method,
    uri: &'r Uri,
    headers: &'r HeaderMap,
    extensions: &'r Extensions,
}

impl<'r> Head<'r> {
    pub(super) fn of(parts: &'r Parts) -> Self {
        Self { method: &parts.method, uri: &parts.uri, headers: &parts.headers, extensions: &parts.extensions }
    }

    pub(super) fn of_request<B>(request: &'r Request<B>) -> Self {
        let (method, uri, headers) = (request.method(), request.uri(), request.headers());
        Self { method, uri, headers, extensions: request.extensions() }
    }

    /// The path as the client sent it. Inside a nested axum router the request's own URI has lost its beginning.
    pub(super) fn path(self) -> &'r str {
        #[cfg(feature = "axum")]
        if let Some(original) = self.extensions.get::<axum::extract::OriginalUri>() {
            return original.path();
        }
        self.uri.path()
    }

    fn to_parts(self) -> Parts {
        let (mut parts, ()) = Request::new(()).into_parts();
        parts.method = self.method.clone();
        parts.uri = self.uri.clone();
        parts.headers = self.headers.clone();
        parts.extensions = self.extensions.clone();
        parts
    }
}

/// What the plan has made of a request.
enum Applied<C> {
    Done(Admitted<C>),
    /// A predicate has to answer first.
    Ask(String, Caller<C>),
}

impl<C: DeserializeOwned + Send + Sync + 'static> Inner<C> {
    /// A preflight comes without credentials ([Fetch section 4.8](https://fetch.spec.whatwg.org/#cors-preflight-fetch)).
    /// Only a path that says so itself gets it: a handler for any method would take it for a request.
    fn is_preflight(&self, head: Head<'_>) -> bool {
        head.method == Method::OPTIONS
            && head.headers.contains_key(ORIGIN)
            && head.headers.contains_key(ACCESS_CONTROL_REQUEST_METHOD)
            && self.plan.route_of("OPTIONS", head.path()).is_none()
    }

    /// Who the credentials are of: each is checked, and all must be for the same subject.
    fn identify(
        &self,
        presented: Presented<'_>,
        owner: Option<Result<Checked<C>, Refusal>>,
        now: Timestamp,
    ) -> Result<Option<Caller<C>>, Refusal> {
        let standing = |checked: Arc<Checked<C>>| {
            self.revocations.as_ref().map_or(Ok(()), |known| known.check(&checked, now)).map(|()| checked)
        };
        let bearer = |token: &[u8]| {
            let checked = self.checker.check(token, now);
            checked.map_err(|finding| odd_token(token).unwrap_or(Refusal::BadToken(finding))).and_then(standing)
        };
        let cookie = |token: &str| self.checker.check(token, now).map_err(Refusal::BadToken).and_then(standing);
        // Most requests come with one token and nothing else.
        if let Presented { bearer: Some(token), cookie: None, api_key: None } = presented {
            return Ok(Some(Caller::new(bearer(token)?, Credential::Bearer)));
        }
        let sources = [
            (Credential::Bearer, presented.bearer.map(bearer)),
            (Credential::Cookie, presented.cookie.map(cookie)),
            (Credential::ApiKey, owner.map(|owner| owner.map(Arc::new))),
        ];
        let mut known: Option<(Credential, Caller<C>)> = None;
        for (kind, checked) in sources.into_iter().filter_map(|(kind, checked)| Some((kind, checked?))) {
            let caller = Caller::new(checked?, kind);
            known = Some(match known {
                None => (kind, caller),
                Some((first, known)) if is_same(&known, &caller) => (first, known.and_by(kind)),
                Some((first, _)) => return Err(Refusal::Disagreement(first, kind)),
            });
        }
        Ok(known.map(|(_, caller)| caller))
    }

    fn apply(
        &self,
        head: Head<'_>,
        caller: Result<Option<Caller<C>>, Refusal>,
        answers: &[(String, bool)],
        now: Timestamp,
    ) -> Applied<C> {
        let known = caller.as_ref().ok().and_then(Option::as_ref);
        let facts = known.map(|caller| caller.facts(answers));
        Applied::Done(match self.plan.decide(head.method.as_str(), head.path(), facts, now) {
            Verdict::Open => Ok(caller.ok().flatten()),
            Verdict::Allowed => caller,
            Verdict::NeedsPredicate(predicate) => match caller {
                Ok(Some(caller)) => return Applied::Ask(predicate, caller),
                other => other.and(Err(Refusal::NoCredential)),
            },
            Verdict::NeedsCaller => Err(caller.err().unwrap_or(Refusal::NoCredential)),
            Verdict::Refused(unmet) => Err(Refusal::Unmet(unmet)),
            Verdict::Methods(methods) => Err(Refusal::Options { methods }),
            Verdict::NoMethod(open_to) => Err(Refusal::NoMethod { open_to }),
            _ => {
                let signed_in = known.is_some();
                Err(caller.err().unwrap_or(Refusal::NoRule { signed_in }))
            }
        })
    }

    async fn with_api_key(self: Arc<Self>, parts: Parts, hash: ApiKeyHash, now: Timestamp) -> Admitted<C> {
        let owner = match &self.keys {
            None => Err(Refusal::BadApiKey),
            Some(keys) => match keys.owner(&hash).await {
                Ok(Some(owner)) => Ok(owner),
                Ok(None) => Err(Refusal::BadApiKey),
                Err(error) => Err(unanswered("the owner of an API key", &*error)),
            },
        };
        let presented = self.sources.present(&parts.method, &parts.headers);
        let caller = presented.and_then(|presented| self.identify(presented, Some(owner), now));
        match self.apply(Head::of(&parts), caller, &[], now) {
            Applied::Done(admitted) => admitted,
            Applied::Ask(predicate, caller) => self.with_predicates(parts, predicate, caller, now).await,
        }
    }

    /// Asks one predicate after the other, each only if the outcome still hangs on it.
    async fn with_predicates(
        self: Arc<Self>,
        parts: Parts,
        mut predicate: String,
        mut caller: Caller<C>,
        now: Timestamp,
    ) -> Admitted<C> {
        let mut answers: Vec<(String, bool)> = Vec::new();
        loop {
            let request = PredicateRequest::new(parts.clone(), self.plan.parameters_of(Head::of(&parts).path()));
            let answer = self.predicates.ask(&predicate, caller.clone(), request).await;
            let answer = answer.map_err(|error| unanswered(&format!("predicate {predicate}"), &*error))?;
            answers.push((predicate, answer));
            match self.apply(Head::of(&parts), Ok(Some(caller)), &answers, now) {
                Applied::Done(admitted) => return admitted,
                Applied::Ask(next, known) => (predicate, caller) = (next, known),
            }
        }
    }
}

/// Whether two credentials are for the same subject; one without a subject is like no other.
fn is_same<C>(one: &Caller<C>, other: &Caller<C>) -> bool {
    let subjects = one.token_claims().subject().zip(other.token_claims().subject());
    subjects.is_some_and(|(one, other)| one == other)
}

fn unanswered(what: &str, error: &(dyn std::error::Error + Send + Sync)) -> Refusal {
    let mut reason = error.to_string();
    let mut source = error.source();
    while let Some(error) = source {
        reason.push_str(&format!(": {error}"));
        source = error.source();
    }
    Refusal::Unanswered { what: what.to_owned(), reason }
}

impl<C> Clone for Guard<C> {
    fn clone(&self) -> Self {
        Self { inner: self.inner.clone() }
    }
}

impl<C> fmt::Debug for Guard<C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Inner { checker, plan, sources, .. } = &*self.inner;
        f.debug_struct("Guard")
            .field("checker", checker)
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
