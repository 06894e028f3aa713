//! The app's own predicates: what a rule has to ask the app for, such as whose row it is.

use std::collections::BTreeMap;
use std::error::Error;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;

use http::Extensions;
use http::request::Parts;

use super::caller::Caller;

/// The request that a predicate is asked about.
///
/// ```
/// use vorsel::{Caller, NoOwn, PredicateAnswer, PredicateRequest};
///
/// async fn own_log(caller: Caller<NoOwn>, request: PredicateRequest) -> PredicateAnswer {
///     Ok(request.path("observer") == Some(caller.subject()))
/// }
/// ```
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

/// What a predicate answers: yes or no, or [`Answered`] with more to say; an error if it cannot be told now.
pub type PredicateAnswer<T = bool> = Result<T, Box<dyn Error + Send + Sync>>;

/// The answer of a predicate that has looked something up.
///
/// ```
/// use vorsel::{Answered, Caller, PredicateAnswer, PredicateRequest};
///
/// #[derive(Clone)]
/// struct Exposure {
///     queued_by: String,
/// }
///
/// /// The plan says: need = "predicate owns-exposure". The handler asks `caller.loaded::<Exposure>()`.
/// async fn owns_exposure(caller: Caller, request: PredicateRequest) -> PredicateAnswer<Answered> {
///     Ok(match find(request.path("id").unwrap_or_default()).await? {
///         Some(exposure) if exposure.queued_by == caller.subject() => Answered::yes().with(exposure),
///         // For the caller, what is not theirs is not there.
///         _ => Answered::hidden(),
///     })
/// }
/// # async fn find(id: &str) -> Result<Option<Exposure>, std::io::Error> { Ok(None) }
/// ```
#[derive(Clone, Debug)]
#[must_use]
pub struct Answered {
    pub(super) holds: bool,
    pub(super) hides: bool,
    pub(super) loaded: Extensions,
}

impl Answered {
    /// It holds.
    pub fn yes() -> Self {
        true.into()
    }

    /// It does not hold. If that is why the caller is refused, they are told so: 403.
    pub fn no() -> Self {
        false.into()
    }

    /// It does not hold, and the caller is not to learn whether there is something at all: 404, as for a path that is not there.
    /// A predicate that answers so answers the same for what is not there.
    pub fn hidden() -> Self {
        Self { hides: true, ..Self::no() }
    }

    /// Hands on to the handler what was looked up, one of each type: [`Caller::loaded`] has it there.
    pub fn with<T: Clone + Send + Sync + 'static>(mut self, loaded: T) -> Self {
        self.loaded.insert(loaded);
        self
    }
}

impl From<bool> for Answered {
    fn from(holds: bool) -> Self {
        Self { holds, hides: false, loaded: Extensions::new() }
    }
}

type Asked = Pin<Box<dyn Future<Output = PredicateAnswer<Answered>> + Send>>;
type Predicate<C> = Arc<dyn Fn(Caller<C>, PredicateRequest) -> Asked + Send + Sync>;

/// The predicates of one guard by name.
pub(super) struct Predicates<C>(BTreeMap<String, Predicate<C>>);

impl<C> Predicates<C> {
    pub(super) const fn none() -> Self {
        Self(BTreeMap::new())
    }

    pub(super) fn add<F, A, T>(&mut self, name: &str, predicate: F)
    where
        F: Fn(Caller<C>, PredicateRequest) -> A + Send + Sync + 'static,
        A: Future<Output = PredicateAnswer<T>> + Send + 'static,
        T: Into<Answered>,
    {
        let ask = move |caller, request| {
            let answer = predicate(caller, request);
            Box::pin(async { answer.await.map(Into::into) }) as Asked
        };
        self.0.insert(name.to_owned(), Arc::new(ask));
    }

    pub(super) fn names(&self) -> impl Iterator<Item = &str> {
        self.0.keys().map(String::as_str)
    }

    /// Asks the predicate of that name; a guard is not built without one.
    pub(super) async fn ask(
        &self,
        name: &str,
        caller: Caller<C>,
        request: PredicateRequest,
    ) -> PredicateAnswer<Answered> {
        match self.0.get(name) {
            Some(predicate) => predicate(caller, request).await,
            None => Err("no predicate of that name is registered".into()),
        }
    }
}
