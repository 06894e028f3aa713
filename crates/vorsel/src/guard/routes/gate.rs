//! The inner half of a guard around an axum router: what was let in must be what axum has routed.

use std::collections::BTreeMap;
use std::convert::Infallible;
use std::future::{Future, Ready, ready};
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};

use axum::body::Body;
use axum::extract::MatchedPath;
use axum::routing::Route;
use http::{Request, Response};
use pin_project_lite::pin_project;
use tower_layer::Layer;
use tower_service::Service;
use vorsel_core::{AccessPlan, PathPattern};

use super::map::{Met, RouterMap, pattern_of};
use crate::guard::decide::Guard;
use crate::guard::request::RequestHead;

/// Which pattern of the router is which of the plan, found out before the first request.
pub(in crate::guard) struct Agreement {
    pub(super) map: RouterMap,
    /// For each entry, whether it has no parameters: its one path was itself looked up, so nothing is left to be asked at a request.
    settled: Vec<bool>,
    /// Patterns of the plan, by those of the router that are the same under other names of parameters.
    renamed: BTreeMap<Arc<str>, String>,
    /// The numbers of the fallbacks that an entry is for, by the entry's pattern.
    fallbacks: BTreeMap<String, usize>,
}

impl Agreement {
    /// Looks every entry of the plan up in the router; says which of them have no handler.
    pub(super) fn of(plan: &AccessPlan, map: RouterMap, problems: &mut Vec<String>) -> Self {
        let settled = vec![false; plan.routes().len()];
        let mut agreement = Self { map, settled, renamed: BTreeMap::new(), fallbacks: BTreeMap::new() };
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
                    } else {
                        agreement.settled[number] = pattern.parameters().count() == 0;
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
        agreement
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

    /// Whether it was found out before the first request that axum routes whatever this entry of the plan decides as the plan has it.
    pub(in crate::guard) fn is_settled(&self, entry: usize) -> bool {
        self.settled[entry]
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
