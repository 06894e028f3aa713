//! The app's own checks: what a rule has to ask the app for, such as whose row it is.

use std::collections::BTreeMap;
use std::error::Error;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;

use http::request::Parts;

use super::caller::Caller;

/// The request that a check is asked about.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct CheckRequest {
    /// Method, URI, headers and extensions.
    pub parts: Parts,
    parameters: Vec<(String, String)>,
}

impl CheckRequest {
    pub(super) const fn new(parts: Parts, parameters: Vec<(String, String)>) -> Self {
        Self { parts, parameters }
    }

    /// A parameter of the path as the access plan names it, percent-decoded.
    #[must_use]
    pub fn path(&self, name: &str) -> Option<&str> {
        self.parameters.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }
}

/// What a check answers: yes, no, or an error if it cannot be told now.
pub type CheckAnswer = Result<bool, Box<dyn Error + Send + Sync>>;

type Asked = Pin<Box<dyn Future<Output = CheckAnswer> + Send>>;
type Check<C> = Arc<dyn Fn(Caller<C>, CheckRequest) -> Asked + Send + Sync>;

/// The checks of one guard by name.
pub(super) struct Checks<C>(BTreeMap<String, Check<C>>);

impl<C> Checks<C> {
    pub(super) const fn none() -> Self {
        Self(BTreeMap::new())
    }

    pub(super) fn add<F, A>(&mut self, name: &str, check: F)
    where
        F: Fn(Caller<C>, CheckRequest) -> A + Send + Sync + 'static,
        A: Future<Output = CheckAnswer> + Send + 'static,
    {
        self.0.insert(name.to_owned(), Arc::new(move |caller, request| Box::pin(check(caller, request))));
    }

    pub(super) fn names(&self) -> impl Iterator<Item = &str> {
        self.0.keys().map(String::as_str)
    }

    /// Asks the check of that name; a guard is not built without one.
    pub(super) async fn ask(&self, name: &str, caller: Caller<C>, request: CheckRequest) -> CheckAnswer {
        match self.0.get(name) {
            Some(check) => check(caller, request).await,
            None => Err("no check of that name is registered".into()),
        }
    }
}
