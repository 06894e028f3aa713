//! The guard around a service.

use std::fmt;
use std::future::Future;
use std::mem;
use std::pin::Pin;
#[cfg(feature = "axum")]
use std::sync::Arc;
use std::task::{Context, Poll, ready};

use bytes::Bytes;
use http::{Request, Response};
use http_body_util::{Either, Full};
use pin_project_lite::pin_project;
use serde::de::DeserializeOwned;
use tower_layer::Layer;
use tower_service::Service;

use super::caller::Caller;
use super::decide::{Admitted, Deciding, Guard, Head};
use super::response::{grpc_response, is_grpc, log, response};

/// A service behind a [`Guard`].
pub struct Guarded<S, C> {
    pub(super) inner: S,
    pub(super) guard: Guard<C>,
}

/// Left by the guard in a request without a caller, so that an extractor can tell it from an unguarded one.
#[cfg(feature = "axum")]
#[derive(Clone, Debug)]
pub(super) struct Anonymous {
    pub(super) realm: Arc<str>,
}

/// Guards the whole service.
///
/// # Panics
/// Around the routes of an axum router one by one, which is what `Router::layer` and `MethodRouter::layer` do: a route that
/// is added later would be open, and nothing could see it.
impl<S, C> Layer<S> for Guard<C> {
    type Service = Guarded<S, C>;

    fn layer(&self, inner: S) -> Guarded<S, C> {
        assert!(!is_route_of_a_router::<S>(), "{GUARD_INSIDE_A_ROUTER}");
        Guarded { inner, guard: self.clone() }
    }
}

const GUARD_INSIDE_A_ROUTER: &str = "expected the guard around a whole app, but found it inside an axum router, where \
    routes that are added after it are open: use Routes::guard, put the guard around the router with \
    Guard::layer(&guard, router), or guard some of its routes only, with guard.partial()";

/// Also behind other layers. The name of a type is all there is to go by: inside a router they have no other mark.
fn is_route_of_a_router<S>() -> bool {
    let mut mentions = std::any::type_name::<S>().split("axum::routing::route::Route").skip(1);
    mentions.any(|rest| !rest.starts_with(char::is_alphanumeric))
}

/// A guard for some of the routes of an axum router: a layer that guards what it is put around and nothing else. Routes
/// that are added to the router later, or that it is not put around, are open, unless their handlers ask for a
/// [`Caller`]; it is for apps that want that. All others take [`Routes::guard`](crate::Routes::guard).
#[cfg(feature = "axum")]
pub struct PartialGuard<C> {
    guard: Guard<C>,
}

#[cfg(feature = "axum")]
impl<C> Guard<C> {
    /// The same guard for a part of an axum router.
    #[must_use]
    pub fn partial(self) -> PartialGuard<C> {
        PartialGuard { guard: self }
    }
}

#[cfg(feature = "axum")]
impl<S, C> Layer<S> for PartialGuard<C> {
    type Service = Guarded<S, C>;

    fn layer(&self, inner: S) -> Guarded<S, C> {
        Guarded { inner, guard: self.guard.clone() }
    }
}

#[cfg(feature = "axum")]
impl<C> Clone for PartialGuard<C> {
    fn clone(&self) -> Self {
        Self { guard: self.guard.clone() }
    }
}

#[cfg(feature = "axum")]
impl<C> fmt::Debug for PartialGuard<C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("PartialGuard").field("guard", &self.guard).finish()
    }
}

impl<S, C, ReqBody, ResBody> Service<Request<ReqBody>> for Guarded<S, C>
where
    S: Service<Request<ReqBody>, Response = Response<ResBody>> + Clone,
    C: DeserializeOwned + Send + Sync + 'static,
{
    type Response = Response<Either<Full<Bytes>, ResBody>>;
    type Error = S::Error;
    type Future = GuardedFuture<S, C, ReqBody>;

    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<Result<(), S::Error>> {
        self.inner.poll_ready(context)
    }

    fn call(&mut self, mut request: Request<ReqBody>) -> GuardedFuture<S, C, ReqBody> {
        let deciding = self.guard.decide_head(Head::of_request(&request), self.guard.now());
        let outcome = match deciding.at_once() {
            Ok(admitted) => match self.guard.settle(admitted, &mut request) {
                Ok(()) => Outcome::Passed { future: self.inner.call(request) },
                Err(response) => Outcome::Refused { response: Some(*response) },
            },
            Err(deciding) => {
                // The one that was found ready goes along; a clone stays.
                let clone = self.inner.clone();
                let service = mem::replace(&mut self.inner, clone);
                Outcome::Deciding { deciding, waiting: Some((service, request, self.guard.clone())) }
            }
        };
        GuardedFuture { outcome }
    }
}

impl<C: Send + Sync + 'static> Guard<C> {
    /// Leaves the caller in the request for the service inside, or answers with the refusal.
    pub(super) fn settle<B>(
        &self,
        admitted: Admitted<C>,
        request: &mut Request<B>,
    ) -> Result<(), Box<Response<Full<Bytes>>>> {
        match admitted {
            Ok(caller) => {
                let extensions = request.extensions_mut();
                if extensions.is_empty() {
                    *extensions = self.inner.room.clone();
                } else {
                    // What an outer guard has left is not this one's.
                    extensions.remove::<Caller<C>>();
                    #[cfg(feature = "axum")]
                    extensions.remove::<Anonymous>();
                }
                match caller {
                    Some(caller) => drop(extensions.insert(caller)),
                    #[cfg(feature = "axum")]
                    None => drop(extensions.insert(Anonymous { realm: self.inner.realm.clone() })),
                    #[cfg(not(feature = "axum"))]
                    None => {}
                }
                Ok(())
            }
            Err(refusal) => {
                let answer = refusal.answer(self.realm());
                log(&refusal, answer.status, request.method().as_str(), Head::of_request(request).path());
                Err(Box::new(if is_grpc(request.headers()) { grpc_response(answer) } else { response(answer) }))
            }
        }
    }
}

pin_project! {
    /// The future of [`Guarded`]: the inner service's, or a refusal.
    pub struct GuardedFuture<S, C, B>
    where
        S: Service<Request<B>>,
    {
        #[pin]
        outcome: Outcome<S, C, B>,
    }
}

pin_project! {
    #[project = OutcomeProjection]
    enum Outcome<S, C, B>
    where
        S: Service<Request<B>>,
    {
        Deciding { deciding: Deciding<C>, waiting: Option<(S, Request<B>, Guard<C>)> },
        Passed { #[pin] future: S::Future },
        Refused { response: Option<Response<Full<Bytes>>> },
    }
}

impl<S, C, B, ResBody> Future for GuardedFuture<S, C, B>
where
    S: Service<Request<B>, Response = Response<ResBody>>,
    C: Send + Sync + 'static,
{
    type Output = Result<Response<Either<Full<Bytes>, ResBody>>, S::Error>;

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Self::Output> {
        let mut outcome = self.project().outcome;
        loop {
            let next = match outcome.as_mut().project() {
                OutcomeProjection::Deciding { deciding, waiting } => {
                    let admitted = ready!(Pin::new(deciding).poll(context));
                    let Some((mut service, mut request, guard)) = waiting.take() else { done() };
                    match guard.settle(admitted, &mut request) {
                        Ok(()) => Outcome::Passed { future: service.call(request) },
                        Err(response) => Outcome::Refused { response: Some(*response) },
                    }
                }
                OutcomeProjection::Passed { future } => {
                    return Poll::Ready(ready!(future.poll(context)).map(|response| response.map(Either::Right)));
                }
                OutcomeProjection::Refused { response } => match response.take() {
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

impl<S: Service<Request<B>>, C, B> fmt::Debug for GuardedFuture<S, C, B> {
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
