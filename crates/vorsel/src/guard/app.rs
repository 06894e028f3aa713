//! A whole axum app behind the guard.

use std::convert::Infallible;
use std::fmt;
use std::future::{self, Future, Ready};
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll, ready};

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
use http::{Request, Response, Uri};
use pin_project_lite::pin_project;
use serde::de::DeserializeOwned;
use tower_layer::Layer;
use tower_service::Service;

use super::decide::Guard;
use super::request::RequestHead;
use super::routes::Agreement;
use super::service::{Meeting, Misrouted, Refused, keep_from_shared_caches};
use crate::under_way::UnderWay;

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
}

#[derive(Clone)]
enum App {
    Bare(Arc<Bare>),
    /// With layers around it, and where requests are carried out around these.
    Layered(Router, Arc<[(WhereCarriedOut, UnderWay)]>),
}

/// The guard is around the router as a whole. A layer within it would leave axum to name, in the answers to refused
/// requests, every method that a path has a handler for.
#[derive(Clone)]
struct Bare {
    door: Arc<dyn Door>,
    routing: Routing,
    /// The paths whose requests are carried out from the call on: a connection that is closed right after a request drops its
    /// answer before that was ever polled.
    carried_out: Arc<[(WhereCarriedOut, UnderWay)]>,
}

/// How what was let in is known to get where the plan's entry says.
#[derive(Clone)]
pub(super) enum Routing {
    /// All routes are listed, and were held against the plan.
    Listed(Router),
    /// A gate at each route asks.
    Gated {
        gated: Router,
        /// The same without the gates.
        bare: Router,
        agreement: Arc<Agreement>,
    },
}

/// A guard for own claims of any type.
trait Door: Send + Sync {
    fn meet(&self, request: &mut Request<Body>) -> Meeting;

    /// Refuses a request whose path was changed between an outer router and the guard into one of another entry.
    fn led(&self, request: &Request<Body>) -> Result<(), Refused>;
}

impl<C: DeserializeOwned + Send + Sync + 'static> Door for Guard<C> {
    fn meet(&self, request: &mut Request<Body>) -> Meeting {
        Self::meet(self, request)
    }

    fn led(&self, request: &Request<Body>) -> Result<(), Refused> {
        let entry = |path| self.plan().route_of(RequestHead::method(request), path);
        let (decided, led) = (entry(RequestHead::path(request)), entry(request.uri().path()));
        if decided == led {
            return Ok(());
        }
        let [decided, led] = [decided, led].map(|entry| entry.map_or("no route", vorsel_core::Route::path));
        let problem = format!("a path of {decided}, as the outermost router saw it, but found one of {led}");
        Err(Box::new(self.misrouted(request, &problem)))
    }
}

impl Bare {
    /// The router for a request to this path that was let in by this entry of the plan, where that is at hand.
    #[inline]
    fn router_for(&self, entry: Option<usize>, uri: &Uri) -> Router {
        match &self.routing {
            Routing::Listed(router) => router.clone(),
            Routing::Gated { gated, bare, agreement } => {
                if agreement.is_known(entry, uri) {
                    bare.clone()
                } else {
                    gated.clone()
                }
            }
        }
    }

    /// The answer to a request that is refused or has to wait, or whose path was changed between an outer router and the guard.
    #[cold]
    fn not_at_once(self: &Arc<Self>, meeting: Meeting, mut request: Request<Body>) -> GuardedAppFuture {
        let (unseen, settling) = match meeting {
            Meeting::LetIn { unseen, .. } => (unseen, None),
            Meeting::Waits(settling) => (false, Some(settling)),
            Meeting::Stopped(refused) => {
                return GuardedAppFuture { answer: Answer::Stopped { response: Some(refused) } };
            }
        };
        let bare = self.clone();
        let future = Box::pin(async move {
            let let_in = match settling {
                Some(settling) => settling.await(&mut request),
                None => Ok(unseen),
            };
            // Gates see for themselves where a path leads.
            let is_gated = matches!(bare.routing, Routing::Gated { .. });
            match let_in.and_then(|unseen| if is_gated { Ok(unseen) } else { bare.door.led(&request).map(|()| unseen) })
            {
                Ok(unseen) => {
                    let Ok(mut response) = bare.router_for(None, request.uri()).call(request).await;
                    finish(&mut response, unseen);
                    response
                }
                Err(refused) => refused.map(Body::new),
            }
        });
        GuardedAppFuture { answer: Answer::Later { future } }
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
        LetIn { #[pin] future: RouteFuture<Infallible>, unseen: bool },
        Stopped { response: Option<Refused> },
        /// Once it is known who is calling, or carried out whoever waits.
        Later { future: Pin<Box<dyn Future<Output = Response<Body>> + Send>> },
    }
}

impl Future for GuardedAppFuture {
    type Output = Result<Response<Body>, Infallible>;

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Self::Output> {
        match self.project().answer.project() {
            AnswerProjection::LetIn { future, unseen } => {
                // An answer is large, and stays where it is.
                let mut answered = future.poll(context);
                if let Poll::Ready(Ok(response)) = &mut answered {
                    finish(response, *unseen);
                }
                answered
            }
            AnswerProjection::Stopped { response } => match response.take() {
                Some(response) => Poll::Ready(Ok(response.map(Body::new))),
                None => panic!("a future that is done is not polled again"),
            },
            AnswerProjection::Later { future } => Poll::Ready(Ok(ready!(future.as_mut().poll(context)))),
        }
    }
}

/// What is seen to in the answer of a handler.
#[inline]
fn finish(response: &mut Response<Body>, unseen: bool) {
    if unseen {
        keep_from_shared_caches(response.headers_mut());
    }
    if !response.extensions().is_empty() {
        keep_methods_back(response);
    }
}

/// axum may have added the methods of the path to an answer from inside it.
#[cold]
fn keep_methods_back(response: &mut Response<Body>) {
    if response.extensions().get::<Misrouted>().is_some() {
        response.headers_mut().remove(ALLOW);
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
        routing: Routing,
        carried_out: Vec<(String, UnderWay)>,
    ) -> Self {
        let carried_out = carried_out.into_iter().map(|(path, under_way)| (WhereCarriedOut::of(path), under_way));
        let bare = Bare { door: Arc::new(guard), routing, carried_out: carried_out.collect() };
        Self { app: App::Bare(Arc::new(bare)) }
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
        let (router, carried_out) = match self.app {
            App::Layered(router, carried_out) => (router, carried_out),
            App::Bare(ref bare) => {
                let carried_out = bare.carried_out.clone();
                (Router::new().fallback_service(Inside(self)), carried_out)
            }
        };
        Self { app: App::Layered(router.layer(layer).with_state(()), carried_out) }
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

    #[inline]
    fn call(&mut self, request: Request<B>) -> GuardedAppFuture {
        let request = request.map(Body::new);
        let Some(under_way) = self.app.carries_out(&request).cloned() else { return self.app.answer(request) };
        let answer = self.app.answer(request);
        let whole = async { answer.await.unwrap_or_else(|never| match never {}) };
        GuardedAppFuture { answer: Answer::Later { future: Box::pin(under_way.carried_out(whole)) } }
    }
}

impl App {
    #[inline]
    fn carries_out(&self, request: &Request<Body>) -> Option<&UnderWay> {
        let carried_out = match self {
            Self::Bare(bare) => &bare.carried_out,
            Self::Layered(_, carried_out) => carried_out,
        };
        if carried_out.is_empty() {
            return None;
        }
        let path = request.uri().path();
        carried_out.iter().find(|(at, _)| at.is_met_by(path)).map(|(_, under_way)| under_way)
    }

    #[inline]
    fn answer(&mut self, mut request: Request<Body>) -> GuardedAppFuture {
        let bare = match self {
            Self::Bare(bare) => bare,
            Self::Layered(router, _) => return Self::layered(router, request),
        };
        let is_changed = !request.extensions().is_empty() && is_changed(&request);
        match bare.door.meet(&mut request) {
            Meeting::LetIn { unseen, entry } if !is_changed => {
                let future = bare.router_for(entry, request.uri()).call(request);
                GuardedAppFuture { answer: Answer::LetIn { future, unseen } }
            }
            meeting => bare.not_at_once(meeting, request),
        }
    }

    #[inline(never)]
    fn layered(router: &mut Router, mut request: Request<Body>) -> GuardedAppFuture {
        if request.extensions().get::<OriginalUri>().is_none() {
            request.extensions_mut().insert(Outermost);
        }
        GuardedAppFuture { answer: Answer::LetIn { future: router.call(request), unseen: false } }
    }
}

/// Whether a path was changed since the outermost router saw it.
#[cold]
fn is_changed(request: &Request<Body>) -> bool {
    let outermost = request.extensions().get::<OriginalUri>();
    outermost.is_some_and(|outermost| outermost.path() != request.uri().path())
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
            // With a count of references of its own. It changes twice with every request, and if all connections shared
            // it, the processors would wait for one another there.
            App::Bare(bare) => App::Bare(Arc::new(Bare::clone(bare))),
            layered @ App::Layered(..) => layered.clone(),
        };
        future::ready(Ok(Self { app }))
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
