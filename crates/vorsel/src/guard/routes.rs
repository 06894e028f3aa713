//! The routes of an axum app, checked against the access plan before the first request.

use std::convert::Infallible;
use std::fmt;
use std::future::{Future, Ready, ready};
use std::pin::{Pin, pin};
use std::sync::Arc;
use std::task::{Context, Poll, Waker};

use axum::Router;
use axum::body::{Body, HttpBody};
use axum::response::IntoResponse;
use axum::routing::future::RouteFuture;
use axum::routing::{MethodRouter, Route};
use axum::serve::{IncomingStream, Listener};
use bytes::Bytes;
use http::{Method, Request, Response, StatusCode};
use pin_project_lite::pin_project;
use serde::de::DeserializeOwned;
use tower_layer::{Layer, layer_fn};
use tower_service::Service;

use super::decide::{Guard, Head};
use super::service::Guarded;

/// The routes of an app as axum has them, before they are guarded.
///
/// ```
/// use axum::routing::get;
/// use vorsel::{AccessPlan, Guard, Routes, Verifier};
///
/// # fn app(verifier: Verifier) -> Result<vorsel::GuardedApp, Box<dyn std::error::Error>> {
/// let plan = AccessPlan::builder().open("GET", "/health").need("GET", "/dome", "signed-in").build()?;
/// let guard = Guard::<vorsel::NoOwn>::new(verifier, plan)?;
/// let routes = Routes::new().route("/health", get(async || "good")).route("/dome", get(async || "shut"));
/// Ok(routes.guard(guard)?) // axum::serve(listener, app)
/// # }
/// ```
///
/// What comes back has every route behind the guard, and no more routes can be added to it:
///
/// ```compile_fail
/// # fn app(routes: vorsel::Routes, guard: vorsel::Guard) -> Result<(), Box<dyn std::error::Error>> {
/// let app = routes.guard(guard)?.route("/cellar", axum::routing::get(async || "open to all"));
/// # Ok(())
/// # }
/// ```
#[must_use]
pub struct Routes<S = ()> {
    routes: Vec<(String, MethodRouter<S>)>,
}

/// An axum app whose every route is behind the guard: a service for `axum::serve`, without a way to add a route.
#[derive(Clone)]
pub struct GuardedApp {
    app: App,
}

#[derive(Clone)]
enum App {
    Bare(Arc<dyn Erased>),
    /// With layers around it.
    Layered(Router),
}

pin_project! {
    /// The answer of a [`GuardedApp`].
    pub struct GuardedAppFuture {
        #[pin]
        answer: Answering,
    }
}

pin_project! {
    #[project = AnsweringProjection]
    enum Answering {
        Routed { #[pin] future: RouteFuture<Infallible> },
        Refused { response: Option<Response<Body>> },
        /// After a look-up.
        Later { future: Pin<Box<dyn Future<Output = Result<Response<Body>, Infallible>> + Send>> },
    }
}

impl Future for GuardedAppFuture {
    type Output = Result<Response<Body>, Infallible>;

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Self::Output> {
        match self.project().answer.project() {
            AnsweringProjection::Routed { future } => future.poll(context),
            AnsweringProjection::Later { future } => future.as_mut().poll(context),
            AnsweringProjection::Refused { response } => match response.take() {
                Some(response) => Poll::Ready(Ok(response)),
                None => panic!("a future that is done is not polled again"),
            },
        }
    }
}

/// A guarded router whose own claims are of any type.
///
/// The guard is around the router as a whole. A layer within it would leave axum to name, in the answers to refused
/// requests, every method that a path has a handler for.
trait Erased: Send + Sync {
    fn answer(&self, request: Request<Body>) -> Answering;

    /// The same with a count of references of its own. It changes twice with every request, and if all connections
    /// shared it, the processors would wait for one another there.
    fn for_connection(&self) -> Arc<dyn Erased>;
}

impl<C: DeserializeOwned + Send + Sync + 'static> Erased for Guarded<Router, C> {
    fn answer(&self, mut request: Request<Body>) -> Answering {
        let (mut router, guard) = (self.inner.clone(), &self.guard);
        let deciding = guard.decide_head(Head::of_request(&request), guard.now());
        match deciding.at_once() {
            Ok(admitted) => match guard.settle(admitted, &mut request) {
                Ok(()) => Answering::Routed { future: router.call(request) },
                Err(response) => Answering::Refused { response: Some(response.map(Body::new)) },
            },
            Err(deciding) => {
                let guard = guard.clone();
                let later = async move {
                    match guard.settle(deciding.await, &mut request) {
                        Ok(()) => router.call(request).await,
                        Err(response) => Ok(response.map(Body::new)),
                    }
                };
                Answering::Later { future: Box::pin(later) }
            }
        }
    }

    fn for_connection(&self) -> Arc<dyn Erased> {
        Arc::new(self.clone())
    }
}

/// What the routes of an app and the access plan do not agree on: every difference at once, a line for each.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RoutesError {
    problems: Vec<String>,
}

impl<S: Clone + Send + Sync + 'static> Routes<S> {
    /// No routes yet.
    pub const fn new() -> Self {
        Self { routes: Vec::new() }
    }

    /// Adds the handlers of a path, as in axum.
    pub fn route(mut self, path: &str, handlers: MethodRouter<S>) -> Self {
        self.routes.push((path.to_owned(), handlers));
        self
    }

    /// Adds other routes.
    pub fn merge(mut self, other: Self) -> Self {
        self.routes.extend(other.routes);
        self
    }

    /// Adds other routes under a path. Their handlers see the whole path of the request.
    pub fn nest(mut self, prefix: &str, other: Self) -> Self {
        let prefix = prefix.trim_end_matches('/');
        let whole = |path: String| if path == "/" { prefix.to_owned() } else { format!("{prefix}{path}") };
        self.routes.extend(other.routes.into_iter().map(|(path, handlers)| (whole(path), handlers)));
        self
    }

    /// Puts a layer around each route that is there: inside the guard, so that it sees the requests that are let in.
    pub fn layer<L>(self, layer: L) -> Self
    where
        L: Layer<Route> + Clone + Send + Sync + 'static,
        L::Service: Service<Request<Body>> + Clone + Send + Sync + 'static,
        <L::Service as Service<Request<Body>>>::Response: IntoResponse + 'static,
        <L::Service as Service<Request<Body>>>::Error: Into<Infallible> + 'static,
        <L::Service as Service<Request<Body>>>::Future: Send + 'static,
    {
        let wrap = |(path, handlers): (String, MethodRouter<S>)| (path, handlers.layer(layer.clone()));
        Self { routes: self.routes.into_iter().map(wrap).collect() }
    }

    /// Gives the handlers their state.
    pub fn with_state<S2>(self, state: S) -> Routes<S2> {
        let with_state = |(path, handlers): (String, MethodRouter<S>)| (path, handlers.with_state(state.clone()));
        Routes { routes: self.routes.into_iter().map(with_state).collect() }
    }

    /// The routes as a router that nothing guards, for an app that puts the guard around it itself.
    ///
    /// # Panics
    /// As axum's router does, if two paths clash or one cannot be read.
    pub fn into_unguarded_router(self) -> Router<S> {
        self.routes.into_iter().fold(Router::new(), |router, (path, handlers)| router.route(&path, handlers))
    }
}

impl Routes {
    /// Puts the guard around all routes, if they are those of its plan.
    ///
    /// # Errors
    /// If a handler has no entry in the plan, or an entry has no handler; and if a path is wrong or there twice.
    pub fn guard<C>(self, guard: Guard<C>) -> Result<GuardedApp, RoutesError>
    where
        C: DeserializeOwned + Send + Sync + 'static,
    {
        let mut problems = Vec::new();
        let served = self.served(&mut problems);
        let plan = guard.plan();
        for (path, methods) in &served {
            let example = example(path);
            let has_entry = |method: &Method| plan.route_of(method.as_str(), &example).is_some();
            if methods.is_empty() {
                // A handler for any method is for those that the plan names.
                if !METHODS.iter().any(has_entry) {
                    problems
                        .push(format!("{path} has a handler for any method, but the access plan has no entry for it"));
                }
                continue;
            }
            for method in methods.iter().filter(|method| !has_entry(method)) {
                problems.push(format!("{method} {path} has a handler, but no entry in the access plan"));
            }
        }
        for entry in plan.routes() {
            let method = Method::try_from(entry.method()).ok();
            let serves = |(path, methods): &(String, Vec<Method>)| {
                let meets = same_form(path, entry.path())
                    || plan.route_of(entry.method(), &example(path)).is_some_and(|route| route == entry);
                let is_head = |method: &Method| entry.method() == "HEAD" && method == Method::GET;
                // A layer inside the guard may answer OPTIONS for every path.
                let answers_any = methods.is_empty() || entry.method() == "OPTIONS";
                meets && (answers_any || methods.iter().any(|known| Some(known) == method.as_ref() || is_head(known)))
            };
            if !served.iter().any(serves) {
                let (method, path) = (entry.method(), entry.path());
                problems.push(format!("{method} {path} has an entry in the access plan, but no handler"));
            }
        }
        if problems.is_empty() {
            // Without a state, axum would make each handler into a route anew for every request.
            let router = self.into_unguarded_router().with_state(());
            return Ok(GuardedApp { app: App::Bare(Arc::new(Guarded { inner: router, guard })) });
        }
        Err(RoutesError { problems })
    }

    /// Which methods each path has handlers for. HEAD is left out where GET has one.
    fn served(&self, problems: &mut Vec<String>) -> Vec<(String, Vec<Method>)> {
        let mut paths = matchit::Router::new();
        let mut served: Vec<(String, Vec<Method>)> = Vec::new();
        for (path, handlers) in &self.routes {
            let methods = methods_of(handlers);
            if let Some((_, known)) = served.iter_mut().find(|(known, _)| known == path) {
                let twice: Vec<_> = methods.iter().filter(|method| known.contains(method)).cloned().collect();
                problems.extend(twice.iter().map(|method| format!("{method} {path} has two handlers")));
                known.extend(methods);
                continue;
            }
            if !path.starts_with('/') {
                problems.push(format!("expected a path that begins with \"/\", but found {path:?}"));
            } else if let Err(error) = paths.insert(path.clone(), ()) {
                problems.push(format!("the path {path:?} cannot be used: {error}"));
            }
            served.push((path.clone(), methods));
        }
        served
    }
}

const METHODS: [Method; 9] = [
    Method::GET,
    Method::HEAD,
    Method::POST,
    Method::PUT,
    Method::PATCH,
    Method::DELETE,
    Method::OPTIONS,
    Method::TRACE,
    Method::CONNECT,
];

/// Answers in the place of a handler.
#[derive(Clone)]
struct StandIn;

impl Service<Request<Body>> for StandIn {
    type Response = Response<Body>;
    type Error = Infallible;
    type Future = Ready<Result<Response<Body>, Infallible>>;

    fn poll_ready(&mut self, _: &mut Context<'_>) -> Poll<Result<(), Infallible>> {
        Poll::Ready(Ok(()))
    }

    fn call(&mut self, _: Request<Body>) -> Self::Future {
        let mut response = Response::new(Body::empty());
        response.extensions_mut().insert(Self);
        ready(Ok(response))
    }
}

/// The methods that have a handler of their own, none for a handler of any method. axum does not tell, so each method is
/// tried with a stand-in for the handler: no handler runs. HEAD is left out where GET has a handler.
fn methods_of(handlers: &MethodRouter) -> Vec<Method> {
    let mut tried = handlers.clone().layer(layer_fn(|_: Route| StandIn)).fallback(async || StatusCode::NOT_FOUND);
    let mut has_handler = |method: &Method| {
        let mut request = Request::new(Body::empty());
        *request.method_mut() = method.clone();
        let answer = pin!(tried.call(request)).poll(&mut Context::from_waker(Waker::noop()));
        matches!(answer, Poll::Ready(Ok(response)) if response.extensions().get::<StandIn>().is_some())
    };
    let mut methods: Vec<Method> = METHODS.into_iter().filter(|method| has_handler(method)).collect();
    if methods.contains(&Method::GET) {
        methods.retain(|method| *method != Method::HEAD);
    }
    methods
}

/// A path that meets the pattern, with a text in each parameter that no pattern is likely to fix.
fn example(pattern: &str) -> String {
    pieces(pattern).map(|piece| if piece.starts_with('{') { "%7Fany".to_owned() } else { piece }).collect()
}

/// Whether two patterns differ in the names of their parameters only.
fn same_form(one: &str, other: &str) -> bool {
    let form = |pattern: &str| -> Vec<String> {
        let nameless = |piece: String| match piece.strip_prefix('{') {
            Some(name) if name.starts_with('*') => "{*}".to_owned(),
            Some(_) => "{}".to_owned(),
            None => piece,
        };
        pieces(pattern).map(nameless).collect()
    };
    form(one) == form(other)
}

/// Fixed texts and parameters of a pattern in turn; `{{` and `}}` stand for braces in a fixed text.
fn pieces(pattern: &str) -> impl Iterator<Item = String> {
    let marked = pattern.replace("{{", "\u{1}").replace("}}", "\u{2}");
    let mut pieces = Vec::new();
    let mut rest = marked.as_str();
    while let Some((fixed, after)) = rest.split_once('{') {
        let (name, after) = after.split_once('}').unwrap_or((after, ""));
        pieces.extend([fixed.to_owned(), format!("{{{name}}}")]);
        rest = after;
    }
    pieces.push(rest.to_owned());
    pieces.into_iter().map(|piece| piece.replace('\u{1}', "{").replace('\u{2}', "}"))
}

impl<S: Clone + Send + Sync + 'static> Default for Routes<S> {
    fn default() -> Self {
        Self::new()
    }
}

impl<S> fmt::Debug for Routes<S> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(self.routes.iter().map(|(path, _)| path)).finish()
    }
}

impl GuardedApp {
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
        let router = match self.app {
            App::Layered(router) => router,
            app @ App::Bare(_) => Router::new().fallback_service(Self { app }),
        };
        Self { app: App::Layered(router.layer(layer).with_state(())) }
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
        let answer = match &mut self.app {
            App::Bare(app) => app.answer(request.map(Body::new)),
            App::Layered(router) => Answering::Routed { future: router.call(request) },
        };
        GuardedAppFuture { answer }
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
        ready(Ok(Self { app }))
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

impl RoutesError {
    /// Each difference.
    #[must_use]
    pub fn problems(&self) -> &[String] {
        &self.problems
    }
}

impl fmt::Display for RoutesError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.problems.join("\n"))
    }
}

impl std::error::Error for RoutesError {}
