//! What an axum router would do with a request, found out without running any of its handlers.

use std::collections::BTreeSet;
use std::convert::Infallible;
use std::future::{Future, Ready, ready};
use std::pin::pin;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, LazyLock};
use std::task::{Context, Poll, Waker};

use axum::Router;
use axum::body::Body;
use axum::extract::MatchedPath;
use axum::routing::{Route, any};
use http::header::ALLOW;
use http::{Extensions, Method, Request, Response, Uri};
use tower_layer::{Layer, layer_fn};
use tower_service::Service;
use vorsel_core::METHODS;

/// A router with stand-ins in the place of its handlers, fallbacks and nested services.
#[derive(Clone)]
pub(in crate::guard) struct RouterMap {
    router: Router,
}

/// Where a request ends up.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in crate::guard) enum Met {
    /// At what is routed by this pattern; a nested service has one that takes the rest of the path.
    Routed {
        pattern: Arc<str>,
        /// Whether the method has a handler there.
        has_method: bool,
    },
    /// At a fallback, the one with this number.
    Fallback(usize),
    /// Nowhere: the method or the path is none.
    Nothing,
}

/// Put into its answer by a stand-in.
#[derive(Clone)]
pub(super) struct Mark {
    number: usize,
    pattern: Option<Arc<str>>,
}

/// Answers in the place of a handler.
#[derive(Clone)]
pub(super) struct StandIn {
    pub(super) number: usize,
}

impl Service<Request<Body>> for StandIn {
    type Response = Response<Body>;
    type Error = Infallible;
    type Future = Ready<Result<Response<Body>, Infallible>>;

    fn poll_ready(&mut self, _: &mut Context<'_>) -> Poll<Result<(), Infallible>> {
        Poll::Ready(Ok(()))
    }

    fn call(&mut self, request: Request<Body>) -> Self::Future {
        let mut response = Response::new(Body::empty());
        let pattern = pattern_of(request.extensions());
        response.extensions_mut().insert(Mark { number: self.number, pattern });
        ready(Ok(response))
    }
}

impl RouterMap {
    pub(super) fn of(router: &Router) -> Self {
        let (stand_in, _) = numbered();
        // With its state each stand-in is made once, and keeps its number.
        Self { router: router.clone().layer(stand_in).with_state(()) }
    }

    /// Whether the router routes nothing but what is met at these paths. axum does not list its routes, but puts a layer around
    /// each of their services once; so they are counted there, and each that is met is ticked off.
    pub(super) fn routes_only(router: &Router, paths: &BTreeSet<String>) -> bool {
        // A layer on routes alone panics without any.
        if !router.has_routes() {
            return true;
        }
        let (stand_in, count) = numbered();
        // Fallbacks, which this layer leaves out, are found where nothing is routed: they don't stand in a route's way.
        let router = router.clone().reset_fallback().route_layer(stand_in).with_state(());
        let map = Self { router };
        // Each path has one service more, for methods without a handler.
        let methods = || METHODS.into_iter().chain(["UNKNOWN"]);
        let answers = paths.iter().flat_map(|path| methods().filter_map(|method| map.answer(method, path)));
        let met: BTreeSet<_> = answers.filter_map(|answer| Some(answer.extensions().get::<Mark>()?.number)).collect();
        met.len() == count.load(Ordering::Relaxed)
    }

    fn answer(&self, method: &str, path: &str) -> Option<Response<Body>> {
        let mut request = Request::new(Body::empty());
        *request.method_mut() = Method::try_from(method).ok()?;
        *request.uri_mut() = Uri::try_from(path).ok()?;
        at_once(&mut self.router.clone(), request)
    }

    pub(in crate::guard) fn at(&self, method: &str, path: &str) -> Met {
        let Some(response) = self.answer(method, path) else { return Met::Nothing };
        match response.extensions().get::<Mark>() {
            None => Met::Nothing,
            Some(Mark { number, pattern: None }) => Met::Fallback(*number),
            // axum names the methods that have a handler where the one asked for has none.
            Some(Mark { pattern: Some(pattern), .. }) => {
                Met::Routed { pattern: pattern.clone(), has_method: !response.headers().contains_key(ALLOW) }
            }
        }
    }
}

/// A layer that puts a stand-in in the place of each service, and how many there are.
fn numbered() -> (impl Layer<Route, Service = StandIn> + Clone, Arc<AtomicUsize>) {
    let count = Arc::new(AtomicUsize::new(0));
    let counted = count.clone();
    (layer_fn(move |_: Route| StandIn { number: counted.fetch_add(1, Ordering::Relaxed) }), count)
}

fn at_once(router: &mut Router, request: Request<Body>) -> Option<Response<Body>> {
    match pin!(router.call(request)).poll(&mut Context::from_waker(Waker::noop())) {
        Poll::Ready(Ok(response)) => Some(response),
        Poll::Pending => None,
    }
}

/// The pattern by which axum has routed a request, nothing for one that a fallback gets.
pub(super) fn pattern_of(extensions: &Extensions) -> Option<Arc<str>> {
    match extensions.get::<MatchedPath>() {
        Some(matched) => Some(matched.as_str().into()),
        None => nested_service(extensions.clone()),
    }
}

/// axum does not tell the pattern of a nested service; but a router inside of one is told the beginning of its own.
fn nested_service(extensions: Extensions) -> Option<Arc<str>> {
    const INNER: &str = "/inner";
    static TELLING: LazyLock<Router> = LazyLock::new(|| {
        let tell = async |path: MatchedPath| {
            let mut response = Response::new(Body::empty());
            response.extensions_mut().insert(path);
            response
        };
        Router::new().route(INNER, any(tell)).with_state(())
    });
    let mut request = Request::new(Body::empty());
    (*request.uri_mut(), *request.extensions_mut()) = (Uri::from_static(INNER), extensions);
    let response = at_once(&mut TELLING.clone(), request)?;
    let whole = response.extensions().get::<MatchedPath>()?.as_str();
    let prefix = whole.strip_suffix(INNER)?;
    (!prefix.is_empty()).then(|| format!("{prefix}/{{*rest}}").into())
}
