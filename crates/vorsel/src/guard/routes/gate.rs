//! The inner half of a guard around an axum router: what was let in must be what axum has routed.

use std::collections::{BTreeMap, BTreeSet};
use std::convert::Infallible;
use std::future::{Future, Ready, ready};
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};

use axum::Router;
use axum::body::Body;
use axum::extract::MatchedPath;
use axum::routing::Route;
use http::{Request, Response, Uri};
use pin_project_lite::pin_project;
use tower_layer::Layer;
use tower_service::Service;
use vorsel_core::{AccessPlan, PathPattern};

use super::map::{Met, RouterMap, pattern_of};
use crate::guard::decide::Guard;
use crate::guard::request::RequestHead;

/// What is left to be asked at a request so that it is known to be led where the plan's entry says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Left {
    /// Nothing: the one path of an entry without parameters was looked up, or the router has the patterns of the plan and no others.
    Nothing,
    /// Whether the path meets the pattern of this entry in the [whole](Agreement::whole) router, which has more than the plan.
    Pattern(usize),
    /// axum itself, by a gate.
    Gate,
}

/// Which pattern of the router is which of the plan, found out before the first request.
pub(in crate::guard) struct Agreement {
    pub(super) map: RouterMap,
    /// What is left to be asked at a request that an entry has let in.
    left: Vec<Left>,
    /// The patterns of the router, if all are known and some are not the plan's: as axum has them, so that they are met as axum meets
    /// them. Each is known by the first entry that has it.
    whole: matchit::Router<Option<usize>>,
    /// Patterns of the plan, by those of the router that are the same under other names of parameters.
    renamed: BTreeMap<Arc<str>, String>,
    /// The numbers of the fallbacks that an entry is for, by the entry's pattern.
    fallbacks: BTreeMap<String, usize>,
}

impl Agreement {
    /// Looks every entry of the plan up in the router; says which of them have no handler.
    pub(super) fn of(plan: &AccessPlan, router: &Router, problems: &mut Vec<String>) -> Self {
        let left = vec![Left::Gate; plan.routes().len()];
        let (map, whole) = (RouterMap::of(router), matchit::Router::new());
        let mut agreement = Self { map, left, whole, renamed: BTreeMap::new(), fallbacks: BTreeMap::new() };
        for (number, entry) in plan.routes().iter().enumerate() {
            let (method, path) = (entry.method(), entry.path());
            let pattern = PathPattern::read(path);
            if entry.is_fallback() {
                match agreement.fallback(method, path) {
                    Some(fallback) => drop(agreement.fallbacks.insert(path.to_owned(), fallback)),
                    None if path.ends_with("/{*fallback}") => problems.push(format!(
                        "{method} {path} has an entry for a fallback in the access plan, but the router has none there that can be \
                         told from its routes"
                    )),
                    None => {}
                }
                continue;
            }
            match agreement.map.at(method, &pattern.example()) {
                Met::Routed { pattern: met, has_method } if pattern.same_form(&PathPattern::read(&met)) => {
                    if *met != *path {
                        agreement.renamed.insert(met, path.to_owned());
                    } else if pattern.parameters().count() == 0 {
                        agreement.left[number] = Left::Nothing;
                    }
                    // A layer inside the guard may answer OPTIONS for every path.
                    if !has_method && method != "OPTIONS" {
                        problems.push(format!("{method} {path} has an entry in the access plan, but no handler"));
                    }
                }
                Met::Routed { pattern: met, .. } => problems.push(format!(
                    "{method} {path} has an entry in the access plan, but the router has another pattern there: {met}"
                )),
                Met::Fallback(_) | Met::Nothing => {
                    let hint = if pattern.parameters().count() > 0 && path.ends_with('}') {
                        "; what a fallback gets takes fallback = true"
                    } else {
                        ""
                    };
                    problems.push(format!("{method} {path} has an entry in the access plan, but no handler{hint}"));
                }
            }
        }
        if problems.is_empty() {
            agreement.know_the_whole(plan, router);
        }
        agreement
    }

    /// Where the router routes nothing that is not known here, no gate has to be asked.
    fn know_the_whole(&mut self, plan: &AccessPlan, router: &Router) {
        let routed = || plan.routes().iter().enumerate().filter(|(_, entry)| !entry.is_fallback());
        let mut first = BTreeMap::new();
        for (number, entry) in routed() {
            first.entry(entry.path()).or_insert(number);
        }
        let mut beside: BTreeSet<_> = routed().flat_map(|(_, entry)| self.above(entry)).collect();
        beside.retain(|path| !first.contains_key(path.as_str()));
        let patterns = || first.keys().copied().chain(beside.iter().map(String::as_str));
        if !RouterMap::routes_only(router, &patterns().map(|path| PathPattern::read(path).example()).collect()) {
            return;
        }
        let mut whole = matchit::Router::new();
        if !beside.is_empty() && patterns().any(|path| whole.insert(path, first.get(path).copied()).is_err()) {
            return;
        }
        self.whole = whole;
        for (number, entry) in routed() {
            if self.left[number] == Left::Gate {
                self.left[number] = if beside.is_empty() { Left::Nothing } else { Left::Pattern(first[entry.path()]) };
            }
        }
    }

    /// The patterns of the router right above an entry that takes the rest of a path. A nested service has both, and a plan none of them.
    fn above(&self, entry: &vorsel_core::Route) -> Vec<String> {
        let Some((prefix, _)) = entry.path().split_once("/{*") else { return Vec::new() };
        let is_there = |path: &String| {
            let pattern = PathPattern::read(path);
            match self.map.at(entry.method(), &pattern.example()) {
                Met::Routed { pattern: met, .. } => PathPattern::read(&met).same_form(&pattern),
                Met::Fallback(_) | Met::Nothing => false,
            }
        };
        let paths = [prefix.to_owned(), format!("{prefix}/")];
        paths.into_iter().filter(|path| !path.is_empty() && is_there(path)).collect()
    }

    /// The number of the fallback that an entry is for: that of the router which lies right there, not of one further out or
    /// further in. axum does not tell which fallback is whose, so paths beside the one meant are tried.
    fn fallback(&self, method: &str, path: &str) -> Option<usize> {
        const ANY: &str = "/%7Fany";
        let (prefix, is_bare) = path.strip_suffix("/{*fallback}").map_or((path, true), |prefix| (prefix, false));
        let segments: Vec<&str> = prefix.split('/').skip(1).filter(|segment| !segment.is_empty()).collect();
        let number = |segments: &[&str], rest: &str| {
            let path: String = segments.iter().map(|segment| format!("/{segment}")).collect();
            let example = PathPattern::read(&path).example();
            match self.map.at(method, &format!("{}{rest}", if segments.is_empty() { "" } else { &example })) {
                Met::Fallback(number) => Some(number),
                _ => None,
            }
        };
        let bare = number(&segments, if segments.is_empty() { "/" } else { "" });
        // What takes the rest of the path right here takes this, and no parameter does, since none is empty at the end of a path.
        // Where a route takes it, paths of two lengths are tried: a parameter further in would tell them apart.
        let (empty, one) = (number(&segments, "//"), number(&segments, ANY));
        let (below, rest) = match (empty, one) {
            (Some(below), _) => (Some(below), "//"),
            // The outermost takes whatever no route and no other fallback does.
            (None, _) if segments.is_empty() => ((1..6).find_map(|times| number(&segments, &ANY.repeat(times))), ANY),
            (None, one) => (one.filter(|_| one == number(&segments, &ANY.repeat(2))), ANY),
        };
        let (own, beside, rest) = if is_bare { (bare?, below, "") } else { (below?, bare, rest) };
        let elsewhere = |at: usize| {
            let mut others = segments.clone();
            others[at] = "%7Fother";
            number(&others, rest) == Some(own)
        };
        let is_fixed = |at: &usize| !segments[*at].contains('{');
        // Before a parameter no path beside the one meant can be tried: one further out must be known to be another.
        let further_out = |at: usize| {
            let outer = number(&segments[..at], "//");
            outer == Some(own) || outer.is_none() && !is_fixed(&at)
        };
        let is_own = beside != Some(own)
            && !(0..segments.len()).filter(is_fixed).any(elsewhere)
            && !(0..segments.len()).any(further_out);
        is_own.then_some(own)
    }

    /// Whether axum is known to route a request to this path as the entry of the plan has it that has let it in.
    #[inline]
    pub(in crate::guard) fn is_known(&self, entry: Option<usize>, uri: &Uri) -> bool {
        match entry.map(|entry| self.left[entry]) {
            Some(Left::Nothing) => true,
            Some(Left::Pattern(pattern)) => self.is_at(pattern, uri),
            Some(Left::Gate) | None => false,
        }
    }

    #[inline(never)]
    fn is_at(&self, pattern: usize, uri: &Uri) -> bool {
        self.whole.at(uri.path()).is_ok_and(|met| *met.value == Some(pattern))
    }

    /// Whether what is routed by this pattern has the entry with the very same one.
    pub(super) fn has_entry(&self, plan: &AccessPlan, method: &str, pattern: &str) -> bool {
        plan.route_of(method, &PathPattern::read(pattern).example()).is_some_and(|entry| self.is_same(pattern, entry))
    }

    /// Whether the plan's entry for this request is the one of what axum has routed it to; else what is wrong.
    fn holds(&self, plan: &AccessPlan, request: &Request<Body>) -> Result<(), String> {
        let (method, path) = (RequestHead::method(request), RequestHead::path(request));
        let Some(entry) = plan.route_of(method, path) else {
            return Err("no entry for it in the access plan".to_owned());
        };
        let other = |met: &str| {
            let kind = if entry.is_fallback() { " for a fallback" } else { "" };
            Err(format!("an entry for {met} in the access plan, but found that of {}{kind}", entry.path()))
        };
        if let Some(matched) = request.extensions().get::<MatchedPath>() {
            return if self.is_same(matched.as_str(), entry) { Ok(()) } else { other(matched.as_str()) };
        }
        match pattern_of(request.extensions()) {
            Some(matched) if self.is_same(&matched, entry) => Ok(()),
            Some(matched) => other(&matched),
            None => match (self.map.at(method, path), self.fallbacks.get(entry.path())) {
                (Met::Fallback(met), Some(number)) if met == *number && entry.is_fallback() => Ok(()),
                _ => other("this fallback"),
            },
        }
    }

    fn is_same(&self, matched: &str, entry: &vorsel_core::Route) -> bool {
        let known = || self.renamed.get(matched).is_some_and(|renamed| renamed == entry.path());
        !entry.is_fallback() && (matched == entry.path() || known())
    }
}

/// A layer on everything in the router. axum clones what it has made twice for each request.
pub(super) struct Gate<C> {
    held: Arc<Held<C>>,
}

struct Held<C> {
    guard: Guard<C>,
    agreement: Arc<Agreement>,
}

impl<C> Gate<C> {
    pub(super) fn new(guard: Guard<C>, agreement: Arc<Agreement>) -> Self {
        Self { held: Arc::new(Held { guard, agreement }) }
    }
}

/// One of the router's services behind the gate.
pub(super) struct Gated<C> {
    gate: Gate<C>,
    inner: Route,
}

pin_project! {
    #[project = GatedProjection]
    pub(super) enum GatedFuture {
        Passed { #[pin] future: <Route as Service<Request<Body>>>::Future },
        Stopped { #[pin] answer: Ready<Result<Response<Body>, Infallible>> },
    }
}

impl<C> Layer<Route> for Gate<C> {
    type Service = Gated<C>;

    fn layer(&self, inner: Route) -> Gated<C> {
        Gated { gate: self.clone(), inner }
    }
}

impl<C: Send + Sync + 'static> Service<Request<Body>> for Gated<C> {
    type Response = Response<Body>;
    type Error = Infallible;
    type Future = GatedFuture;

    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<Result<(), Infallible>> {
        Service::<Request<Body>>::poll_ready(&mut self.inner, context)
    }

    fn call(&mut self, request: Request<Body>) -> GatedFuture {
        let Held { guard, agreement } = &*self.gate.held;
        match agreement.holds(guard.plan(), &request) {
            Ok(()) => GatedFuture::Passed { future: self.inner.call(request) },
            Err(problem) => {
                let answer = guard.misrouted(&request, &problem).map(Body::new);
                GatedFuture::Stopped { answer: ready(Ok(answer)) }
            }
        }
    }
}

impl Future for GatedFuture {
    type Output = Result<Response<Body>, Infallible>;

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Self::Output> {
        match self.project() {
            GatedProjection::Passed { future } => future.poll(context),
            GatedProjection::Stopped { answer } => answer.poll(context),
        }
    }
}

impl<C> Clone for Gate<C> {
    fn clone(&self) -> Self {
        Self { held: self.held.clone() }
    }
}

impl<C> Clone for Gated<C> {
    fn clone(&self) -> Self {
        Self { gate: self.gate.clone(), inner: self.inner.clone() }
    }
}

#[cfg(test)]
mod tests {
    use axum::routing::{MethodRouter, get, post};

    use super::*;

    fn handler() -> MethodRouter {
        get(async || "")
    }

    #[test]
    fn a_gate_is_asked_where_the_router_may_lead_elsewhere_than_the_plan() {
        let domes = || Router::new().route("/domes/{dome}", handler());
        let inner = || Router::new().route("/{x}", handler()).fallback(async || "");
        let (none, gates) = (&[Left::Nothing][..], &[Left::Gate][..]);
        let parts = &[Left::Pattern(0), Left::Pattern(1)][..];
        for (router, entries, left) in [
            (domes(), &["/domes/{dome}"][..], none),
            (domes(), &["/domes/{name}"], none),
            (Router::new().route("/a{x}/b/{*y}", handler()), &["/a{x}/b/{*z}"], none),
            (Router::new().route("/{{x}}/{y}", handler()), &["/{{x}}/{y}"], none),
            (Router::new().route_service("/domes/{dome}", handler()), &["/domes/{dome}"], none),
            (Router::new().nest("/domes", inner()), &["/domes/{dome}"], none),
            (domes().fallback(async || ""), &["/domes/{dome}"], none),
            // Its path is known; the plan has no entry by which its method is let in.
            (domes().route("/domes/{dome}", post(async || "")), &["/domes/{dome}"], none),
            (domes().route("/domes/north", handler()), &["/domes/{dome}"], gates),
            (domes().route("/domes/{dome}/slit", handler()), &["/domes/{dome}"], gates),
            (domes().route("/cellar", handler()), &["/domes/{dome}"], gates),
            (domes().route("/cellar", handler()), &["/cellar"], none),
            (domes().nest_service("/files", handler()), &["/domes/{dome}"], gates),
            (domes().nest_service("/files", handler()), &["/domes/{dome}", "/files/{*file}"], parts),
            (
                domes().nest_service("/files", handler()),
                &["/domes/{dome}", "/files/{*file}", "/files", "/files/"],
                &[Left::Nothing; 4],
            ),
            (
                domes().merge(Router::new().route("/{*x}", handler()).route("/", handler())),
                &["/domes/{dome}", "/{*y}"],
                parts,
            ),
            (domes().nest_service("/f/{x}", handler()), &["/domes/{dome}", "/f/{year}/{*file}"], parts),
            (domes().nest_service("/f/{x}/y", handler()), &["/domes/{dome}", "/f/{year}/y/{*file}"], parts),
        ] {
            let plan = entries.iter().fold(AccessPlan::builder(), |plan, path| plan.open("GET", path));
            let mut problems = Vec::new();
            let agreement = Agreement::of(&plan.build().expect("a plan"), &router, &mut problems);
            assert_eq!((&problems[..], &agreement.left[..]), (&[][..], left), "{entries:?} {router:?}");
            let is_known = |entry: usize, path: &str| {
                let uri = PathPattern::read(path).example().parse().expect("a URI");
                agreement.is_known(Some(entry), &uri)
            };
            let mut own = entries.iter().enumerate();
            assert!(own.all(|(entry, path)| is_known(entry, path) == (left != gates)), "{entries:?}");
        }
    }
}
