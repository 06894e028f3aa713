//! A whole axum app behind the guard.

use std::convert::Infallible;
use std::fmt;
use std::future::{Future, Ready, ready};
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};

use axum::Router;
use axum::body::{Body, HttpBody};
use axum::extract::OriginalUri;
use axum::extract::connect_info::IntoMakeServiceWithConnectInfo;
use axum::response::IntoResponse;
use axum::routing::future::RouteFuture;
use axum::routing::{IntoMakeService, Route};
use axum::serve::{IncomingStream, Listener};
use bytes::Bytes;
use http::header::ALLOW;
use http::{Request, Response};
use http_body_util::Either;
use pin_project_lite::pin_project;
use serde::de::DeserializeOwned;
use tower_layer::Layer;
use tower_service::Service;

use super::decide::Guard;
use super::service::{Guarded, GuardedFuture, Misrouted};
use crate::under_way::{CarriedOut, UnderWay};

/// An axum app whose every route is behind the guard: a service for `axum::serve`, without a way to add a route.
///
/// ```no_run
/// # async fn example(guard: vorsel::Guard, router: axum::Router) -> Result<(), Box<dyn std::error::Error>> {
/// let app = guard.router(router)?; // refuses to be made where plan and routes do not agree
/// axum::serve(tokio::net::TcpListener::bind("127.0.0.1:7700").await?, app.into_make_service()).await?;
/// # Ok(())
/// # }
/// ```
#[derive(Clone)]
pub struct GuardedApp {
    app: App,
    /// The paths whose requests are carried out from the call on: a connection that is closed right after a request drops its
    /// answer before that was ever polled.
    carried_out: Arc<[(WhereCarriedOut, UnderWay)]>,
}

#[derive(Clone)]
enum App {
    Bare(Arc<dyn GuardedRouter>),
    /// With layers around it.
    Layered(Router),
}

/// A router behind a guard for own claims of any type.
///
/// The guard is around the router as a whole. A layer within it would leave axum to name, in the answers to refused
/// requests, every method that a path has a handler for.
trait GuardedRouter: Send + Sync {
    fn answer(&self, request: Request<Body>) -> GuardedFuture<Router, Body>;

    /// The same with a count of references of its own. It changes twice with every request, and if all connections
    /// shared it, the processors would wait for one another there.
    fn for_connection(&self) -> Arc<dyn GuardedRouter>;
}

impl<C: DeserializeOwned + Send + Sync + 'static> GuardedRouter for Guarded<Router, C> {
    fn answer(&self, request: Request<Body>) -> GuardedFuture<Router, Body> {
        Self::answer(self, request)
    }

    fn for_connection(&self) -> Arc<dyn GuardedRouter> {
        Arc::new(self.clone())
    }
}

pin_project! {
    /// The answer of a [`GuardedApp`].
    ///
    /// ```
    /// # async fn example(mut app: vorsel::GuardedApp) -> Result<(), Box<dyn std::error::Error>> {
    /// use tower::Service;
    ///
    /// let response = app.call(http::Request::new(axum::body::Body::empty())).await?;
    /// # Ok(())
    /// # }
    /// ```
    pub struct GuardedAppFuture {
        #[pin]
        answer: Answer,
    }
}

pin_project! {
    #[project = AnswerProjection]
    enum Answer {
        Bare { #[pin] future: GuardedFuture<Router, Body> },
        Layered { #[pin] future: RouteFuture<Infallible> },
        CarriedOut { #[pin] future: CarriedOut<Result<Response<Body>, Infallible>> },
    }
}

impl Future for GuardedAppFuture {
    type Output = Result<Response<Body>, Infallible>;

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Self::Output> {
        match self.project().answer.project() {
            AnswerProjection::Layered { future } => future.poll(context),
            AnswerProjection::CarriedOut { future } => future.poll(context),
            AnswerProjection::Bare { future } => {
                let Ok(mut response) = std::task::ready!(future.poll(context));
                if response.extensions().get::<Misrouted>().is_some() {
                    response.headers_mut().remove(ALLOW);
                }
                Poll::Ready(Ok(response.map(|body| match body {
                    Either::Left(refusal) => Body::new(refusal),
                    Either::Right(body) => body,
                })))
            }
        }
    }
}

/// Where requests are carried out.
#[derive(Clone, Debug)]
enum WhereCarriedOut {
    /// At this path.
    At(String),
    /// At any path of one part more.
    Below(String),
}

impl WhereCarriedOut {
    fn of(pattern: String) -> Self {
        match pattern.split_once('{') {
            Some((prefix, _)) => Self::Below(prefix.to_owned()),
            None => Self::At(pattern),
        }
    }

    fn is_met_by(&self, path: &str) -> bool {
        match self {
            Self::At(whole) => whole == path,
            Self::Below(prefix) => path.strip_prefix(prefix.as_str()).is_some_and(|rest| !rest.contains('/')),
        }
    }
}

/// In a request that came to the app first, before any other router.
#[derive(Clone, Copy)]
struct Outermost;

impl GuardedApp {
    pub(super) fn new<C: DeserializeOwned + Send + Sync + 'static>(
        guard: Guard<C>,
        router: Router,
        carried_out: Vec<(String, UnderWay)>,
    ) -> Self {
        let carried_out = carried_out.into_iter().map(|(path, under_way)| (WhereCarriedOut::of(path), under_way));
        Self { app: App::Bare(Arc::new(guard.around(router))), carried_out: carried_out.collect() }
    }

    /// Puts a layer around the guard: it sees every request, and the refusals as well. CORS and tracing belong here.
    #[must_use]
    pub fn layer<L>(self, layer: L) -> Self
    where
        L: Layer<Route> + Clone + Send + Sync + 'static,
        L::Service: Service<Request<Body>> + Clone + Send + Sync + 'static,
        <L::Service as Service<Request<Body>>>::Response: IntoResponse + 'static,
        <L::Service as Service<Request<Body>>>::Error: Into<Infallible> + 'static,
        <L::Service as Service<Request<Body>>>::Future: Send + 'static,
    {
        let carried_out = self.carried_out.clone();
        let router = match self.app {
            App::Layered(router) => router,
            App::Bare(_) => Router::new().fallback_service(Inside(self)),
        };
        Self { app: App::Layered(router.layer(layer).with_state(())), carried_out }
    }

    /// The app for `axum::serve`, which takes it as it is just as well.
    pub fn into_make_service(self) -> IntoMakeService<Self> {
        axum::ServiceExt::<Request<Body>>::into_make_service(self)
    }

    /// The app for `axum::serve`, with the address of each client for handlers that ask for `ConnectInfo<A>`.
    pub fn into_make_service_with_connect_info<A>(self) -> IntoMakeServiceWithConnectInfo<Self, A> {
        axum::ServiceExt::<Request<Body>>::into_make_service_with_connect_info(self)
    }
}

impl<B> Service<Request<B>> for GuardedApp
where
    B: HttpBody<Data = Bytes> + Send + 'static,
    B::Error: Into<axum::BoxError>,
{
    type Response = Response<Body>;
    type Error = Infallible;
    type Future = GuardedAppFuture;

    fn poll_ready(&mut self, _: &mut Context<'_>) -> Poll<Result<(), Infallible>> {
        // An axum router is always ready.
        Poll::Ready(Ok(()))
    }

    fn call(&mut self, request: Request<B>) -> GuardedAppFuture {
        let path = request.uri().path();
        let under_way = self.carried_out.iter().find(|(at, _)| at.is_met_by(path)).map(|(_, under_way)| under_way);
        let answer = match under_way {
            None => self.app.answer(request),
            Some(under_way) => {
                let answer = self.app.answer(request);
                Answer::CarriedOut { future: under_way.carried_out(GuardedAppFuture { answer }) }
            }
        };
        GuardedAppFuture { answer }
    }
}

impl App {
    fn answer<B>(&mut self, mut request: Request<B>) -> Answer
    where
        B: HttpBody<Data = Bytes> + Send + 'static,
        B::Error: Into<axum::BoxError>,
    {
        match self {
            Self::Bare(app) => Answer::Bare { future: app.answer(request.map(Body::new)) },
            Self::Layered(router) => {
                if request.extensions().get::<OriginalUri>().is_none() {
                    request.extensions_mut().insert(Outermost);
                }
                Answer::Layered { future: router.call(request) }
            }
        }
    }
}

/// The app inside its layers. One of them may have rewritten the path, by which both guard and handlers go then; axum's router
/// around the layers has kept the one before.
#[derive(Clone)]
struct Inside(GuardedApp);

impl Service<Request<Body>> for Inside {
    type Response = Response<Body>;
    type Error = Infallible;
    type Future = GuardedAppFuture;

    fn poll_ready(&mut self, _: &mut Context<'_>) -> Poll<Result<(), Infallible>> {
        Poll::Ready(Ok(()))
    }

    fn call(&mut self, mut request: Request<Body>) -> GuardedAppFuture {
        if request.extensions_mut().remove::<Outermost>().is_some() {
            request.extensions_mut().remove::<OriginalUri>();
        }
        self.0.call(request)
    }
}

impl<L: Listener> Service<IncomingStream<'_, L>> for GuardedApp {
    type Response = Self;
    type Error = Infallible;
    type Future = Ready<Result<Self, Infallible>>;

    fn poll_ready(&mut self, _: &mut Context<'_>) -> Poll<Result<(), Infallible>> {
        Poll::Ready(Ok(()))
    }

    fn call(&mut self, _: IncomingStream<'_, L>) -> Self::Future {
        let app = match &self.app {
            App::Bare(app) => App::Bare(app.for_connection()),
            layered @ App::Layered(_) => layered.clone(),
        };
        ready(Ok(Self { app, carried_out: self.carried_out.clone() }))
    }
}

impl fmt::Debug for GuardedAppFuture {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("GuardedAppFuture").finish_non_exhaustive()
    }
}

impl fmt::Debug for GuardedApp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("GuardedApp").finish_non_exhaustive()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_carried_out_is_met_by_its_path_with_its_parameter() {
        for (pattern, path, met) in [
            ("/oauth/revoke", "/oauth/revoke", true),
            ("/oauth/revoke", "/oauth/revoke/", false),
            ("/oauth/sessions", "/oauth/sessions/s-1", false),
            ("/oauth/sessions/{session}", "/oauth/sessions/s-1", true),
            ("/oauth/sessions/{session}", "/oauth/sessions", false),
            ("/oauth/sessions/{session}", "/oauth/sessions/s-1/x", false),
        ] {
            assert_eq!(WhereCarriedOut::of(pattern.to_owned()).is_met_by(path), met, "{pattern} {path}");
        }
    }
}
