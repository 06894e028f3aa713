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
use super::decide::{Admitted, Deciding, Guard, whole_path};
use super::response::{grpc_response, is_grpc, log, response};

/// A service behind a [`Guard`].
pub struct Guarded<S, C> {
    inner: S,
    guard: Guard<C>,
}

/// Left in the request by the guard, so that an extractor can tell an anonymous request from an unguarded one.
#[cfg(feature = "axum")]
#[derive(Clone, Debug)]
pub(super) struct Passed {
    pub(super) realm: Arc<str>,
    pub(super) signed_in: bool,
}

impl<S, C> Layer<S> for Guard<C> {
    type Service = Guarded<S, C>;

    fn layer(&self, inner: S) -> Guarded<S, C> {
        Guarded { inner, guard: self.clone() }
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

    fn call(&mut self, request: Request<ReqBody>) -> GuardedFuture<S, C, ReqBody> {
        let (parts, body) = request.into_parts();
        let deciding = self.guard.decide(&parts, self.guard.now());
        let request = Request::from_parts(parts, body);
        let outcome = match deciding.at_once() {
            Ok(admitted) => match self.guard.settle(admitted, request) {
                Ok(request) => Outcome::Passed { future: self.inner.call(request) },
                Err(response) => Outcome::Refused { response: Some(response) },
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
    /// The request for the service inside, with its caller; or the refusal.
    fn settle<B>(
        &self,
        admitted: Admitted<C>,
        mut request: Request<B>,
    ) -> Result<Request<B>, Box<Response<Full<Bytes>>>> {
        match admitted {
            Ok(caller) => {
                #[cfg(feature = "axum")]
                request
                    .extensions_mut()
                    .insert(Passed { realm: self.inner.realm.clone(), signed_in: caller.is_some() });
                match caller {
                    Some(caller) => drop(request.extensions_mut().insert(caller)),
                    // An outer guard's caller is not this one's.
                    None => drop(request.extensions_mut().remove::<Caller<C>>()),
                }
                Ok(request)
            }
            Err(refusal) => {
                let answer = refusal.answer(self.realm());
                let (parts, _) = request.into_parts();
                log(&refusal, answer.status, parts.method.as_str(), whole_path(&parts));
                Err(Box::new(if is_grpc(&parts.headers) { grpc_response(answer) } else { response(answer) }))
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
        Refused { response: Option<Box<Response<Full<Bytes>>>> },
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
                    let Some((mut service, request, guard)) = waiting.take() else { done() };
                    match guard.settle(admitted, request) {
                        Ok(request) => Outcome::Passed { future: service.call(request) },
                        Err(response) => Outcome::Refused { response: Some(response) },
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
