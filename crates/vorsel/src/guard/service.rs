//! The guard around a service.

use std::fmt;
use std::future::Future;
use std::mem;
use std::pin::Pin;
use std::sync::LazyLock;
use std::task::{Context, Poll, ready};

use bytes::Bytes;
use http::header::CACHE_CONTROL;
use http::{Extensions, HeaderMap, HeaderValue, Request, Response};
use http_body_util::{Either, Full};
use pin_project_lite::pin_project;
use serde::de::DeserializeOwned;
use tower_service::Service;
use vorsel_core::{Credential, Refusal, Stop, Timestamp, Verdict};

#[cfg(feature = "axum")]
use super::anonymous::Anonymous;
use super::caller::Caller;
use super::decide::{Admitted, Deciding, Guard};
use super::identify::NotAccepted;
#[cfg(feature = "axum")]
use super::log;
use super::request::Passing;
use super::response::{StopCode, grpc_response, is_grpc, response};

/// A service behind a [`Guard`].
///
/// ```
/// # async fn example(guard: vorsel::Guard, router: axum::Router) -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::{Guarded, NoOwn};
///
/// let whole: Guarded<axum::Router, NoOwn> = guard.around(router);
/// # Ok(())
/// # }
/// ```
pub struct Guarded<S, C> {
    inner: S,
    guard: Guard<C>,
}

impl<C> Guard<C> {
    /// Puts the guard around a whole service: a router as it is served, tonic's routes, hyper's service.
    pub const fn around<S>(self, service: S) -> Guarded<S, C> {
        Guarded { inner: service, guard: self }
    }
}

impl<S, C, ReqBody, ResBody> Service<Request<ReqBody>> for Guarded<S, C>
where
    S: Service<Request<ReqBody>, Response = Response<ResBody>> + Clone,
    C: DeserializeOwned + Send + Sync + 'static,
{
    type Response = Response<Either<Full<Bytes>, ResBody>>;
    type Error = S::Error;
    type Future = GuardedFuture<S, ReqBody>;

    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<Result<(), S::Error>> {
        self.inner.poll_ready(context)
    }

    fn call(&mut self, mut request: Request<ReqBody>) -> GuardedFuture<S, ReqBody> {
        let outcome = match self.guard.meet(&mut request) {
            Meeting::LetIn { unseen, .. } => Outcome::LetIn { future: self.inner.call(request), unseen },
            Meeting::Stopped(response) => Outcome::Stopped { response: Some(response) },
            Meeting::Waits(settling) => {
                // The one that was found ready goes along; a clone stays.
                let clone = self.inner.clone();
                let service = mem::replace(&mut self.inner, clone);
                Outcome::Waits { settling, with: Some(Box::new((request, service))) }
            }
        };
        GuardedFuture { outcome }
    }
}

/// What comes of a request at the door.
pub(super) enum Meeting {
    /// Its caller is in it; a cache may not [see](is_unseen) that there is one.
    LetIn {
        unseen: bool,
        /// The entry of the plan that has decided, where it is at hand.
        #[cfg_attr(not(feature = "axum"), expect(dead_code, reason = "only an app chooses a router by it"))]
        entry: Option<usize>,
    },
    Stopped(Refused),
    /// Something has to be looked up first.
    Waits(Pin<Box<dyn Future<Output = Settling> + Send>>),
}

pub(super) type Refused = Box<Response<Full<Bytes>>>;
/// Puts the caller into the request that has waited.
pub(super) type Settling = Box<dyn FnOnce(&mut dyn Passing) -> Result<bool, Refused> + Send>;

impl<C: DeserializeOwned + Send + Sync + 'static> Guard<C> {
    /// The short way is one piece of code, and all else is kept apart from it: what is not at hand costs more here than what is done.
    #[inline]
    pub(super) fn meet<R: Passing>(&self, request: &mut R) -> Meeting {
        let now = self.now();
        let Some(caller) = self.inner.seen_before(request, now) else { return self.meet_anew(request, now) };
        if let Some(refusal) = self.inner.over(&caller, now) {
            return self.meet_over(refusal, caller, request, now);
        }
        let facts = Some(caller.facts(&[]));
        let (entry, verdict) = self.inner.plan.decide_by_entry(request.method(), request.path(), facts, now);
        if !matches!(verdict, Verdict::Open | Verdict::Allowed) {
            return self.meet_otherwise((entry, verdict), caller, request, now);
        }
        self.inner.decisions.passed(entry);
        Meeting::LetIn { unseen: self.put_in(Some(caller), request.extensions()), entry }
    }

    /// The whole way: who it is, too.
    #[cold]
    fn meet_anew(&self, request: &mut dyn Passing, now: Timestamp) -> Meeting {
        self.met(self.inner.decide(request, &self.routes, now), request)
    }

    /// The caller was seen before, and does not stand any more.
    #[cold]
    fn meet_over(&self, refusal: Refusal, caller: Caller<C>, request: &mut dyn Passing, now: Timestamp) -> Meeting {
        let caller = Err(NotAccepted { refusal, who: Some(caller) });
        self.met(self.inner.decide_knowing(caller, request, &self.routes, now), request)
    }

    /// The caller stands, and the plan does not just let them in.
    #[cold]
    fn meet_otherwise(
        &self,
        verdict: (Option<usize>, Verdict),
        caller: Caller<C>,
        request: &mut dyn Passing,
        now: Timestamp,
    ) -> Meeting {
        self.met(self.inner.otherwise(verdict, request, &self.routes, Ok(Some(caller)), now), request)
    }

    /// What comes of a request that has not taken the short way.
    #[inline(never)]
    fn met(&self, deciding: Deciding<C>, request: &mut dyn Passing) -> Meeting {
        match deciding.at_once() {
            Ok(admitted) => match self.settle(admitted, request) {
                Ok(unseen) => Meeting::LetIn { unseen, entry: None },
                Err(response) => Meeting::Stopped(response),
            },
            Err(deciding) => {
                let guard = self.clone();
                Meeting::Waits(Box::pin(async move {
                    let admitted = deciding.await;
                    let settling: Settling = Box::new(move |request| guard.settle(admitted, request));
                    settling
                }))
            }
        }
    }
}

/// Nothing, with room for what guard and axum put in: these are four, and a table that grows has room for three first.
static ROOMY: LazyLock<Extensions> = LazyLock::new(|| {
    let mut extensions = Extensions::new();
    extensions.insert(0_u8);
    extensions.insert(0_u16);
    extensions.insert(0_u32);
    extensions.insert(0_u64);
    extensions.clear();
    extensions
});

/// What an outer guard has left is not this one's.
#[cold]
fn without_callers<C: Send + Sync + 'static>(extensions: &mut Extensions) {
    extensions.remove::<Caller<C>>();
    #[cfg(feature = "axum")]
    extensions.remove::<Anonymous>();
}

/// A shared cache keeps no answer to a request with an `Authorization` header unless the app says that it may
/// ([RFC 9111 section 3.5](https://www.rfc-editor.org/rfc/rfc9111#section-3.5)); of cookies and API keys it knows nothing.
fn is_unseen<C>(caller: &Caller<C>) -> bool {
    !caller.credentials().contains(Credential::Bearer)
}

/// Unless the app says what caches may do.
pub(super) fn keep_from_shared_caches(headers: &mut HeaderMap) {
    headers.entry(CACHE_CONTROL).or_insert(HeaderValue::from_static("private"));
}

impl<C: Send + Sync + 'static> Guard<C> {
    /// What comes of a decision: [`put_in`](Self::put_in), or the answer to a request that is stopped.
    fn settle(&self, admitted: Admitted<C>, request: &mut dyn Passing) -> Result<bool, Refused> {
        match admitted {
            Ok(caller) => Ok(self.put_in(caller, request.extensions())),
            Err(stop) => Err(Box::new(self.answer(&stop, request))),
        }
    }

    /// Puts the caller into the request, and says whether a cache can't see that there is one.
    #[inline]
    fn put_in(&self, caller: Option<Caller<C>>, extensions: &mut Extensions) -> bool {
        if extensions.is_empty() {
            extensions.clone_from(&ROOMY);
        } else {
            without_callers::<C>(extensions);
        }
        match caller {
            Some(caller) => {
                let unseen = is_unseen(&caller);
                extensions.insert(caller);
                unseen
            }
            None => {
                #[cfg(feature = "axum")]
                self.put_nobody_in(extensions);
                false
            }
        }
    }

    #[cfg(feature = "axum")]
    #[cold]
    fn put_nobody_in(&self, extensions: &mut Extensions) {
        extensions.insert(self.anonymous());
    }

    #[cold]
    fn answer(&self, stop: &Stop, request: &dyn Passing) -> Response<Full<Bytes>> {
        let answer = self.pointing(stop.answer(self.realm()));
        let mut response =
            if self.answers_grpc() || is_grpc(request) { grpc_response(stop, answer) } else { response(answer) };
        response.extensions_mut().insert(StopCode(stop.code()));
        response
    }

    /// The answer to a request that was let in and then went elsewhere than the plan's entry says.
    #[cfg(feature = "axum")]
    pub(super) fn misrouted<B>(&self, request: &Request<B>, problem: &str) -> Response<Full<Bytes>> {
        let caller = request.extensions().get::<Caller<C>>();
        let stop = Stop::from(Refusal::NoRule { signed_in: caller.is_some() });
        let status = stop.answer(self.realm()).status;
        log::misrouted(request, self.plan(), status, caller.map(Caller::token_claims), problem);
        let mut answer = self.answer(&stop, request);
        answer.extensions_mut().insert(Misrouted);
        answer
    }
}

/// In an answer from inside a router, which axum may have added the methods of the path to.
#[cfg(feature = "axum")]
#[derive(Clone, Copy)]
pub(super) struct Misrouted;

pin_project! {
    /// The future of [`Guarded`]: the inner service's, or the guard's own answer.
    ///
    /// ```
    /// # async fn example(guard: vorsel::Guard, router: axum::Router) -> Result<(), Box<dyn std::error::Error>> {
    /// use tower::Service;
    ///
    /// let answer = guard.around(router).call(http::Request::new(axum::body::Body::empty())).await?;
    /// # Ok(())
    /// # }
    /// ```
    pub struct GuardedFuture<S, B>
    where
        S: Service<Request<B>>,
    {
        #[pin]
        outcome: Outcome<S, B>,
    }
}

pin_project! {
    #[project = OutcomeProjection]
    enum Outcome<S, B>
    where
        S: Service<Request<B>>,
    {
        LetIn { #[pin] future: S::Future, unseen: bool },
        Stopped { response: Option<Refused> },
        Waits { settling: Pin<Box<dyn Future<Output = Settling> + Send>>, with: Option<Box<(Request<B>, S)>> },
    }
}

impl<S, B, ResBody> Future for GuardedFuture<S, B>
where
    S: Service<Request<B>, Response = Response<ResBody>>,
{
    type Output = Result<Response<Either<Full<Bytes>, ResBody>>, S::Error>;

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Self::Output> {
        let mut outcome = self.project().outcome;
        loop {
            let next = match outcome.as_mut().project() {
                OutcomeProjection::Waits { settling, with } => {
                    let settling = ready!(settling.as_mut().poll(context));
                    let Some((mut request, mut service)) = with.take().map(|with| *with) else { done() };
                    match settling(&mut request) {
                        Ok(unseen) => Outcome::LetIn { future: service.call(request), unseen },
                        Err(response) => Outcome::Stopped { response: Some(response) },
                    }
                }
                OutcomeProjection::LetIn { future, unseen } => {
                    let mut answered = ready!(future.poll(context));
                    if *unseen && let Ok(response) = &mut answered {
                        keep_from_shared_caches(response.headers_mut());
                    }
                    return Poll::Ready(answered.map(|response| response.map(Either::Right)));
                }
                OutcomeProjection::Stopped { response } => match response.take() {
                    Some(response) => return Poll::Ready(Ok(response.map(Either::Left))),
                    None => done(),
                },
            };
            outcome.set(next);
        }
    }
}

fn done() -> ! {
    panic!("a future that is done is not polled again")
}

impl<S: Service<Request<B>>, B> fmt::Debug for GuardedFuture<S, B> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("GuardedFuture").finish_non_exhaustive()
    }
}

impl<S: Clone, C> Clone for Guarded<S, C> {
    fn clone(&self) -> Self {
        Self { inner: self.inner.clone(), guard: self.guard.clone() }
    }
}

impl<S: fmt::Debug, C> fmt::Debug for Guarded<S, C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Guarded").field("inner", &self.inner).field("guard", &self.guard).finish()
    }
}
