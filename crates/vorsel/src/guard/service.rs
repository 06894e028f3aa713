//! The guard around a service.

use std::fmt;
use std::future::Future;
use std::pin::Pin;
#[cfg(feature = "axum")]
use std::sync::Arc;
use std::task::{Context, Poll, ready};

use bytes::Bytes;
use http::header::{ALLOW, CACHE_CONTROL, CONTENT_TYPE, WWW_AUTHENTICATE};
use http::{HeaderValue, Request, Response, StatusCode};
use http_body_util::{Either, Full};
use pin_project_lite::pin_project;
use serde::de::DeserializeOwned;
use tower_layer::Layer;
use tower_service::Service;
use vorsel_core::{Answer, Refusal};

use super::decide::Guard;

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
    S: Service<Request<ReqBody>, Response = Response<ResBody>>,
    C: DeserializeOwned + Send + Sync + 'static,
{
    type Response = Response<Either<Full<Bytes>, ResBody>>;
    type Error = S::Error;
    type Future = GuardedFuture<S::Future>;

    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<Result<(), S::Error>> {
        self.inner.poll_ready(context)
    }

    fn call(&mut self, mut request: Request<ReqBody>) -> GuardedFuture<S::Future> {
        let now = self.guard.inner.clock.now();
        let path = whole_path(&request);
        match self.guard.decide(request.method(), path, request.headers(), now) {
            Ok(caller) => {
                #[cfg(feature = "axum")]
                request
                    .extensions_mut()
                    .insert(Passed { realm: self.guard.inner.realm.clone(), signed_in: caller.is_some() });
                if let Some(caller) = caller {
                    request.extensions_mut().insert(caller);
                }
                GuardedFuture { outcome: Outcome::Passed { future: self.inner.call(request) } }
            }
            Err(refusal) => {
                let answer = refusal.answer(self.guard.realm());
                log(&refusal, &answer, request.method().as_str(), path);
                GuardedFuture { outcome: Outcome::Refused { response: Some(response(answer)) } }
            }
        }
    }
}

/// The path as the client sent it. Inside a nested axum router the request's own URI has lost its beginning.
fn whole_path<B>(request: &Request<B>) -> &str {
    #[cfg(feature = "axum")]
    if let Some(original) = request.extensions().get::<axum::extract::OriginalUri>() {
        return original.path();
    }
    request.uri().path()
}

fn log(refusal: &Refusal, answer: &Answer, method: &str, path: &str) {
    let (code, status) = (refusal.code(), answer.status);
    if matches!(refusal, Refusal::NoRule { .. }) {
        // Either the plan lacks a route or somebody tries paths; the first is a mistake worth an error.
        tracing::error!(target: "vorsel::guard", code, status, method, path, "{refusal}");
    } else {
        tracing::info!(target: "vorsel::guard", code, status, method, path, "{refusal}");
    }
}

/// The answer as a response. The values are ASCII by the answer's making; one that were not is left out.
pub(super) fn response(answer: Answer) -> Response<Full<Bytes>> {
    let mut response = Response::new(Full::from(answer.problem));
    *response.status_mut() = StatusCode::from_u16(answer.status).unwrap_or(StatusCode::FORBIDDEN);
    let headers = response.headers_mut();
    headers.insert(CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
    headers.insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    for (name, value) in [(WWW_AUTHENTICATE, answer.challenge), (ALLOW, answer.allow)] {
        if let Some(value) = value.and_then(|value| HeaderValue::try_from(value).ok()) {
            headers.insert(name, value);
        }
    }
    response
}

pin_project! {
    /// The future of [`Guarded`]: the inner service's, or a refusal that is ready at once.
    #[derive(Debug)]
    pub struct GuardedFuture<F> {
        #[pin]
        outcome: Outcome<F>,
    }
}

pin_project! {
    #[project = OutcomeProjection]
    #[derive(Debug)]
    enum Outcome<F> {
        Passed { #[pin] future: F },
        Refused { response: Option<Response<Full<Bytes>>> },
    }
}

impl<F, B, E> Future for GuardedFuture<F>
where
    F: Future<Output = Result<Response<B>, E>>,
{
    type Output = Result<Response<Either<Full<Bytes>, B>>, E>;

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Self::Output> {
        match self.project().outcome.project() {
            OutcomeProjection::Passed { future } => {
                Poll::Ready(ready!(future.poll(context)).map(|response| response.map(Either::Right)))
            }
            OutcomeProjection::Refused { response } => match response.take() {
                Some(response) => Poll::Ready(Ok(response.map(Either::Left))),
                None => panic!("a future that is done is not polled again"),
            },
        }
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
