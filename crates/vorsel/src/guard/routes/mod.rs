//! The routes of an axum app, checked against the access plan before the first request.

mod gate;
mod map;

use std::convert::Infallible;
use std::fmt;
use std::future::Future;
use std::pin::pin;
use std::sync::Arc;
use std::task::{Context, Poll, Waker};

use axum::Router;
use axum::body::Body;
use axum::response::IntoResponse;
use axum::routing::{MethodRouter, Route};
use http::{Method, Request, StatusCode};
use serde::de::DeserializeOwned;
use tower_layer::{Layer, layer_fn};
use tower_service::Service;
use vorsel_core::{AccessPlan, METHODS, PathPattern, entries_for};

pub(super) use self::gate::Agreement;
use self::gate::Gate;
use self::map::{Mark, StandIn};
pub(super) use self::map::{Met, RouterMap};
use super::app::{GuardedApp, Routing};
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
    /// What cannot be listed.
    router: Option<Router<S>>,
    /// The paths whose requests are carried out, whoever hangs up.
    carried_out: Vec<(String, UnderWay)>,
    /// The paths that are named elsewhere, and so can't lie under another.
    staying: Vec<String>,
    problems: Vec<String>,
}

impl<C: DeserializeOwned + Send + Sync + 'static> Guard<C> {
    /// Puts the guard around a router as it is: nested routers and services, fallbacks, layers and all. What comes back is served
    /// as usual. [`Routes::guard`] tells how it is kept closed.
    ///
    /// ```
    /// use axum::{Router, routing::get};
    /// use vorsel::{AccessPlan, Guard, GuardedApp, NoOwn, Verifier};
    ///
    /// # fn app(verifier: Verifier) -> Result<GuardedApp, Box<dyn std::error::Error>> {
    /// let domes = Router::new().route("/{dome}", get(async || "shut"));
    /// let router = Router::new().nest("/domes", domes).fallback(async || "a page of the site");
    /// let plan = AccessPlan::builder().need("GET", "/domes/{dome}", "signed-in").open_fallback("GET", "/").build()?;
    /// let app = Guard::<NoOwn>::new(verifier, plan)?.router(router)?;
    /// # Ok(app)
    /// # } // axum::serve(listener, app), or app.into_make_service_with_connect_info::<SocketAddr>()
    /// ```
    ///
    /// # Errors
    /// If an entry of the plan has no handler in the router, or the router has another pattern at its paths.
    pub fn router(self, router: Router) -> Result<GuardedApp, RoutesError> {
        Routes::new().router(router).guard(self)
    }
}

/// What the routes of an app and the access plan do not agree on: every difference at once, a line for each.
///
/// ```
/// use axum::{Router, routing::get};
/// use vorsel::testing::TestIssuer;
/// use vorsel::{AccessPlan, Guard, NoOwn};
///
/// let plan = AccessPlan::builder().open("GET", "/health").build()?;
/// let guard: Guard<NoOwn> = Guard::new(TestIssuer::new().verifier(), plan)?;
/// let error = guard.router(Router::new().route("/helth", get("well"))).unwrap_err();
/// for problem in error.problems() {
///     println!("{problem}");
/// }
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, PartialEq, Eq)]
pub struct RoutesError {
    problems: Vec<String>,
}

vorsel_core::readable_debug!(RoutesError);

impl<S: Clone + Send + Sync + 'static> Routes<S> {
    /// No routes yet.
    pub const fn new() -> Self {
        Self { routes: Vec::new(), router: None, carried_out: Vec::new(), staying: Vec::new(), problems: Vec::new() }
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
        self.staying.extend(other.staying);
        self.problems.extend(other.problems);
        match other.router {
            Some(router) => self.router(router),
            None => self,
        }
    }

    /// Adds a router as it is, with all that lies in it: nested routers and services, fallbacks, layers. What it has cannot
    /// be listed; [`guard`](Self::guard) tells how it is kept closed all the same.
    ///
    /// # Panics
    /// As [`Router::merge`] does, if it and another router clash.
    pub fn router(mut self, router: Router<S>) -> Self {
        self.router = Some(match self.router {
            Some(known) => known.merge(router),
            None => router,
        });
        self
    }

    /// Adds other routes under a path. Their handlers see the whole path of the request.
    pub fn nest(mut self, prefix: &str, other: Self) -> Self {
        let prefix = prefix.trim_end_matches('/');
        let whole = |path: String| if path == "/" { prefix.to_owned() } else { format!("{prefix}{path}") };
        self.routes.extend(other.routes.into_iter().map(|(path, handlers)| (whole(path), handlers)));
        self.carried_out.extend(other.carried_out.into_iter().map(|(path, under_way)| (whole(path), under_way)));
        self.problems.extend(other.problems);
        if let Some(path) = other.staying.first() {
            self.problems.push(format!(
                "{path} is told to clients at that path, so it can't be nested under {prefix:?}; set the prefix by Endpoints::prefix, \
                 and merge the routes"
            ));
        }
        match other.router {
            Some(router) => self.router(Router::new().nest(prefix, router)),
            None => self,
        }
    }

    /// What comes to this path is carried out from the call on.
    pub(crate) fn carry_out(mut self, path: &str, under_way: &UnderWay) -> Self {
        self.carried_out.push((path.to_owned(), under_way.clone()));
        self
    }

    /// Keeps this path from being nested.
    pub(crate) fn stays_at(mut self, path: &str) -> Self {
        self.staying.push(path.to_owned());
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
        let router = self.router.map(|router| router.layer(layer.clone()));
        Self { routes: self.routes.into_iter().map(wrap).collect(), router, ..self }
    }

    /// Gives the handlers their state.
    pub fn with_state<S2>(self, state: S) -> Routes<S2> {
        let with_state = |(path, handlers): (String, MethodRouter<S>)| (path, handlers.with_state(state.clone()));
        let router = self.router.map(|router| router.with_state(state.clone()));
        let Self { carried_out, staying, problems, .. } = self;
        Routes { routes: self.routes.into_iter().map(with_state).collect(), router, carried_out, staying, problems }
    }

    /// The routes as a router that nothing guards, for an app that puts the guard around it itself.
    ///
    /// # Panics
    /// As axum's router does, if two paths clash or one cannot be read.
    pub fn into_unguarded_router(self) -> Router<S> {
        let router = self.router.unwrap_or_default();
        self.routes.into_iter().fold(router, |router, (path, handlers)| router.route(&path, handlers))
    }
}

impl Routes {
    /// Puts the guard around all routes, if they are those of its plan.
    ///
    /// What lies in a [`router`](Self::router) cannot be listed. So every entry of the plan is tried on it before the first
    /// request, without running a handler; and whatever axum routes later is let in only by the entry that has the very pattern
    /// that axum met. An entry with a wider pattern does not cover it, and an entry for a fallback covers that fallback alone.
    /// A route that has no entry is refused, with an error in the log at its first request.
    ///
    /// # Errors
    /// If a handler has no entry in the plan, or an entry has no handler; and if a path is wrong or there twice.
    pub fn guard<C>(mut self, guard: Guard<C>) -> Result<GuardedApp, RoutesError>
    where
        C: DeserializeOwned + Send + Sync + 'static,
    {
        let mut problems = std::mem::take(&mut self.problems);
        let served = self.served(&mut problems);
        let carried_out = std::mem::take(&mut self.carried_out);
        let Some(router) = self.router.take() else {
            compare(guard.plan(), &served, &mut problems);
            return done(problems, || {
                // Without a state, axum would make each handler into a route again for every request.
                let router = self.into_unguarded_router().with_state(());
                GuardedApp::new(guard.of_listed_routes(), Routing::Listed(router), carried_out)
            });
        };
        clashes(&served, &RouterMap::of(&router), &mut problems);
        if !problems.is_empty() {
            return Err(RoutesError { problems });
        }
        self.router = Some(router);
        let router = self.into_unguarded_router().with_state(());
        let agreement = Agreement::of(guard.plan(), &router, &mut problems);
        for Served { path, methods, .. } in &served {
            let has_entry = |method: &&str| agreement.has_entry(guard.plan(), method, path);
            problems.extend(without_entry(path, methods, has_entry));
        }
        done(problems, || {
            let guard = guard.of_router(agreement.map.clone());
            let agreement = Arc::new(agreement);
            let gate = Gate::new(guard.clone(), agreement.clone());
            let gated = router.clone().layer(gate).with_state(());
            GuardedApp::new(guard, Routing::Gated { gated, bare: router, agreement }, carried_out)
        })
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

fn done(problems: Vec<String>, app: impl FnOnce() -> GuardedApp) -> Result<GuardedApp, RoutesError> {
    if problems.is_empty() { Ok(app()) } else { Err(RoutesError { problems }) }
}

/// The handlers of a path that have no entry.
fn without_entry(path: &str, methods: &[&'static str], has_entry: impl Fn(&&str) -> bool) -> Vec<String> {
    if methods.is_empty() {
        // A handler for any method is for those that the plan names.
        let is_closed = !METHODS.iter().any(has_entry);
        let problem = format!("{path} has a handler for any method, but the access plan has no entry for it");
        return is_closed.then_some(problem).into_iter().collect();
    }
    let without = methods.iter().filter(|method| !has_entry(method));
    without.map(|method| format!("{method} {path} has a handler, but no entry in the access plan")).collect()
}

/// What listed routes and the plan do not agree on.
fn compare(plan: &AccessPlan, served: &[Served], problems: &mut Vec<String>) {
    for Served { path, example, methods, .. } in served {
        let has_entry = |method: &&str| plan.route_of(method, example).is_some_and(|entry| !entry.is_fallback());
        problems.extend(without_entry(path, methods, has_entry));
    }
    for entry in plan.routes() {
        let (method, path) = (entry.method(), entry.path());
        if entry.is_fallback() {
            if path.ends_with("/{*fallback}") {
                let problem = "has an entry for a fallback in the access plan, but listed routes have none";
                problems.push(format!("{method} {path} {problem}; see Routes::router"));
            }
            continue;
        }
        let pattern = PathPattern::read(path);
        let serves = |served: &Served| {
            let meets = served.pattern.same_form(&pattern)
                || plan.route_of(method, &served.example).is_some_and(|route| route == entry);
            // A layer inside the guard may answer OPTIONS for every path.
            let answers_any = served.methods.is_empty() || method == "OPTIONS";
            meets && (answers_any || entries_for(method).any(|method| served.methods.contains(&method)))
        };
        if !served.iter().any(serves) {
            problems.push(format!("{method} {path} has an entry in the access plan, but no handler"));
        }
    }
}

/// Listed routes that a router beside them has, too.
fn clashes(served: &[Served], map: &RouterMap, problems: &mut Vec<String>) {
    for Served { path, example, pattern, methods } in served {
        let tried = if methods.is_empty() { &METHODS[..] } else { methods };
        for method in tried {
            match map.at(method, example) {
                Met::Routed { pattern: met, has_method: true } if *met == **path => {
                    problems.push(format!("{method} {path} has two handlers"));
                }
                Met::Routed { pattern: met, .. } if *met == **path => {}
                Met::Routed { pattern: met, .. } if pattern.same_form(&PathPattern::read(&met)) => {
                    problems.push(format!("the path {path:?} cannot be used: the router has {met:?} there"));
                    break;
                }
                _ => {}
            }
        }
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

/// The methods that have a handler of their own, none for a handler of any method. axum does not tell, so each method is
/// tried with a stand-in for the handler: no handler runs. HEAD is left out where GET has a handler.
fn methods_of(handlers: &MethodRouter) -> Vec<&'static str> {
    let mut tried =
        handlers.clone().layer(layer_fn(|_: Route| StandIn { number: 0 })).fallback(async || StatusCode::NOT_FOUND);
    let mut has_handler = |method: &str| {
        let mut request = Request::new(Body::empty());
        let Ok(method) = Method::try_from(method) else { return false };
        *request.method_mut() = method;
        let answer = pin!(tried.call(request)).poll(&mut Context::from_waker(Waker::noop()));
        matches!(answer, Poll::Ready(Ok(response)) if response.extensions().get::<Mark>().is_some())
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
        let mut list = f.debug_list();
        list.entries(self.routes.iter().map(|(path, _)| path));
        if self.router.is_some() { list.finish_non_exhaustive() } else { list.finish() }
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
