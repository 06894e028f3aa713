//! The routes of an axum app, checked against the access plan before the first request.

use std::convert::Infallible;
use std::fmt;
use std::future::{Future, Ready, ready};
use std::pin::pin;
use std::task::{Context, Poll, Waker};

use axum::Router;
use axum::body::Body;
use axum::response::IntoResponse;
use axum::routing::{MethodRouter, Route};
use http::{Method, Request, Response, StatusCode};
use serde::de::DeserializeOwned;
use tower_layer::{Layer, layer_fn};
use tower_service::Service;
use vorsel_core::{METHODS, PathPattern, entries_for};

use super::app::GuardedApp;
use super::decide::Guard;
use crate::under_way::UnderWay;

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
    /// The paths whose requests are carried out, whoever hangs up.
    carried_out: Vec<(String, UnderWay)>,
}

/// What the routes of an app and the access plan do not agree on: every difference at once, a line for each.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RoutesError {
    problems: Vec<String>,
}

impl<S: Clone + Send + Sync + 'static> Routes<S> {
    /// No routes yet.
    pub const fn new() -> Self {
        Self { routes: Vec::new(), carried_out: Vec::new() }
    }

    /// Adds the handlers of a path, as in axum.
    pub fn route(mut self, path: &str, handlers: MethodRouter<S>) -> Self {
        self.routes.push((path.to_owned(), handlers));
        self
    }

    /// Adds other routes.
    pub fn merge(mut self, other: Self) -> Self {
        self.routes.extend(other.routes);
        self.carried_out.extend(other.carried_out);
        self
    }

    /// Adds other routes under a path. Their handlers see the whole path of the request.
    pub fn nest(mut self, prefix: &str, other: Self) -> Self {
        let prefix = prefix.trim_end_matches('/');
        let whole = |path: String| if path == "/" { prefix.to_owned() } else { format!("{prefix}{path}") };
        self.routes.extend(other.routes.into_iter().map(|(path, handlers)| (whole(path), handlers)));
        self.carried_out.extend(other.carried_out.into_iter().map(|(path, under_way)| (whole(path), under_way)));
        self
    }

    /// What comes to this path is carried out from the call on.
    pub(crate) fn carry_out(mut self, path: &str, under_way: &UnderWay) -> Self {
        self.carried_out.push((path.to_owned(), under_way.clone()));
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
        Self { routes: self.routes.into_iter().map(wrap).collect(), ..self }
    }

    /// Gives the handlers their state.
    pub fn with_state<S2>(self, state: S) -> Routes<S2> {
        let with_state = |(path, handlers): (String, MethodRouter<S>)| (path, handlers.with_state(state.clone()));
        Routes { routes: self.routes.into_iter().map(with_state).collect(), carried_out: self.carried_out }
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
        for Served { path, example, methods, .. } in &served {
            let has_entry = |method: &&str| plan.route_of(method, example).is_some();
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
            let pattern = PathPattern::read(entry.path());
            let serves = |served: &Served| {
                let meets = served.pattern.same_form(&pattern)
                    || plan.route_of(entry.method(), &served.example).is_some_and(|route| route == entry);
                // A layer inside the guard may answer OPTIONS for every path.
                let answers_any = served.methods.is_empty() || entry.method() == "OPTIONS";
                meets && (answers_any || entries_for(entry.method()).any(|method| served.methods.contains(&method)))
            };
            if !served.iter().any(serves) {
                let (method, path) = (entry.method(), entry.path());
                problems.push(format!("{method} {path} has an entry in the access plan, but no handler"));
            }
        }
        if problems.is_empty() {
            // Without a state, axum would make each handler into a route again for every request.
            let carried_out = self.carried_out.clone();
            let router = self.into_unguarded_router().with_state(());
            return Ok(GuardedApp::new(guard.of_known_routes(), router, carried_out));
        }
        Err(RoutesError { problems })
    }

    /// Which methods each path has handlers for.
    fn served(&self, problems: &mut Vec<String>) -> Vec<Served> {
        let mut paths = matchit::Router::new();
        let mut served: Vec<Served> = Vec::new();
        for (path, handlers) in &self.routes {
            let methods = methods_of(handlers);
            if let Some(known) = served.iter_mut().find(|known| known.path == *path) {
                let twice = methods.iter().filter(|method| known.methods.contains(method));
                problems.extend(twice.map(|method| format!("{method} {path} has two handlers")));
                known.methods.extend(methods);
                continue;
            }
            if !path.starts_with('/') {
                problems.push(format!("expected a path that begins with \"/\", but found {path:?}"));
            } else if let Err(error) = paths.insert(path.clone(), ()) {
                problems.push(format!("the path {path:?} cannot be used: {error}"));
            }
            let pattern = PathPattern::read(path);
            served.push(Served { path: path.clone(), example: pattern.example(), pattern, methods });
        }
        served
    }
}

/// A path of the app and the methods that it has handlers for, none if it has one for any method.
struct Served {
    path: String,
    pattern: PathPattern,
    /// A path that meets the pattern.
    example: String,
    methods: Vec<&'static str>,
}

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
fn methods_of(handlers: &MethodRouter) -> Vec<&'static str> {
    let mut tried = handlers.clone().layer(layer_fn(|_: Route| StandIn)).fallback(async || StatusCode::NOT_FOUND);
    let mut has_handler = |method: &str| {
        let mut request = Request::new(Body::empty());
        let Ok(method) = Method::try_from(method) else { return false };
        *request.method_mut() = method;
        let answer = pin!(tried.call(request)).poll(&mut Context::from_waker(Waker::noop()));
        matches!(answer, Poll::Ready(Ok(response)) if response.extensions().get::<StandIn>().is_some())
    };
    let mut methods: Vec<_> = METHODS.into_iter().filter(|method| has_handler(method)).collect();
    if methods.contains(&"GET") {
        methods.retain(|method| *method != "HEAD");
    }
    methods
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
