//! The app's own predicates: what a rule has to ask the app for, such as whose row it is.

use std::collections::BTreeMap;
use std::error::Error;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;

use http::request::Parts;

use super::caller::Caller;

/// The request that a predicate is asked about.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct PredicateRequest {
    /// Method, URI, headers and extensions.
    pub parts: Parts,
    parameters: Vec<(String, String)>,
}

impl PredicateRequest {
    pub(super) const fn new(parts: Parts, parameters: Vec<(String, String)>) -> Self {
        Self { parts, parameters }
    }

    /// A parameter of the path as the access plan names it, percent-decoded.
    #[must_use]
    pub fn path(&self, name: &str) -> Option<&str> {
        self.parameters.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }
}

/// What a predicate answers: yes, no, or an error if it cannot be told now.
pub type PredicateAnswer = Result<bool, Box<dyn Error + Send + Sync>>;

type Asked = Pin<Box<dyn Future<Output = PredicateAnswer> + Send>>;
type Predicate<C> = Arc<dyn Fn(Caller<C>, PredicateRequest) -> Asked + Send + Sync>;

/// The predicates of one guard by name.
pub(super) struct Predicates<C>(BTreeMap<String, Predicate<C>>);

impl<C> Predicates<C> {
    pub(super) const fn none() -> Self {
        Self(BTreeMap::new())
    }

    pub(super) fn add<F, A>(&mut self, name: &str, predicate: F)
    where
        F: Fn(Caller<C>, PredicateRequest) -> A + Send + Sync + 'static,
        A: Future<Output = PredicateAnswer> + Send + 'static,
    {
        self.0.insert(name.to_owned(), Arc::new(move |caller, request| Box::pin(predicate(caller, request))));
    }

    pub(super) fn names(&self) -> impl Iterator<Item = &str> {
        self.0.keys().map(String::as_str)
    }

    /// Asks the predicate of that name; a guard is not built without one.
    pub(super) async fn ask(&self, name: &str, caller: Caller<C>, request: PredicateRequest) -> PredicateAnswer {
        match self.0.get(name) {
            Some(predicate) => predicate(caller, request).await,
            None => Err("no predicate of that name is registered".into()),
        }
    }
}
