//! Putting a guard together, and refusing one that could not do what its plan says.

use std::collections::BTreeSet;
use std::fmt;
use std::future::Future;
use std::sync::Arc;
use std::time::Duration;

use http::HeaderName;
use serde::Serialize;
use vorsel_core::{AccessPlan, Credentials};

use super::api_key::ApiKeys;
use super::caller::Caller;
use super::credentials::{ApiKeyHeader, CookieSource, Origin, Sources, TicketSource};
use super::decide::Guard;
use super::inner::{Inner, LookUp};
use super::predicate::{Answered, PredicateAnswer, PredicateRequest, Predicates};
use super::revocation::{Gate, Gates, REVOCATIONS_CURRENT, WhenSilent};
use crate::checker::{Checkers, FormerTokens, IntoChecker};
use crate::clock::{Clock, SystemClock};
use crate::meters::Decisions;
use crate::revocations::LiveRevocations;
use crate::tickets::Tickets;

/// Collects what a guard needs besides tokens and a plan.
///
/// ```
/// use vorsel::{AccessPlan, Caller, PredicateAnswer, PredicateRequest, Guard, GuardError, NoOwn, Verifier};
///
/// /// Whose exposure is it? The plan says: need = "predicate owns-exposure or role director".
/// async fn owns_exposure(caller: Caller, request: PredicateRequest) -> PredicateAnswer {
///     let id = request.path("id").unwrap_or_default();
///     let owner = find_owner(id).await?; // an error is answered 503, and nobody is let in
///     Ok(owner.as_deref() == Some(caller.subject()))
/// }
/// # async fn find_owner(id: &str) -> Result<Option<String>, std::io::Error> { Ok(None) }
///
/// fn guard(verifier: Verifier, plan: AccessPlan) -> Result<Guard, GuardError> {
///     Guard::<NoOwn>::builder(verifier, plan).cookie("hill-token").predicate("owns-exposure", owns_exposure).build()
/// }
/// ```
#[must_use]
pub struct GuardBuilder<C> {
    checkers: Checkers<C>,
    plan: AccessPlan,
    sources: Sources,
    keys: Option<Arc<dyn LookUp<C>>>,
    tickets: Option<Tickets>,
    predicates: Predicates<C>,
    clock: Arc<dyn Clock>,
    gates: Gates,
    answers_grpc: bool,
    resource_metadata: Option<Arc<str>>,
    problems: Vec<String>,
}

/// Why a guard cannot do what its plan says: every reason at once, a line for each.
///
/// ```
/// use vorsel::testing::TestIssuer;
/// use vorsel::{AccessPlan, Guard, NoOwn};
///
/// let plan = AccessPlan::builder().predicates(&["own-log"]).need("GET", "/logs/{log}", "predicate own-log").build()?;
/// let error = Guard::<NoOwn>::new(TestIssuer::new().verifier(), plan).unwrap_err();
/// assert_eq!(error.problems().len(), 1, "{error}");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, PartialEq, Eq)]
pub struct GuardError {
    problems: Vec<String>,
}

vorsel_core::readable_debug!(GuardError);

impl GuardError {
    /// Each reason.
    #[must_use]
    pub fn problems(&self) -> &[String] {
        &self.problems
    }
}

impl fmt::Display for GuardError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.problems.join("\n"))
    }
}

impl std::error::Error for GuardError {}

impl<C> Guard<C> {
    /// A guard that believes `checker`, or a verifier whose keys stay as they are, and does what `plan` says. Callers
    /// come with a token in the `Authorization` header. Its realm is the audience expected.
    ///
    /// # Errors
    /// If the plan asks for a predicate, or for another kind of credential: a [`builder`](Self::builder) has room for those.
    pub fn new(checker: impl IntoChecker<C>, plan: AccessPlan) -> Result<Self, GuardError> {
        Self::builder(checker, plan).build()
    }

    /// A guard that knows other credentials too, or predicates of the app's own.
    pub fn builder(checker: impl IntoChecker<C>, plan: AccessPlan) -> GuardBuilder<C> {
        GuardBuilder {
            checkers: Checkers::of(checker.into_checker()),
            plan,
            sources: Sources::new(),
            keys: None,
            tickets: None,
            predicates: Predicates::none(),
            clock: Arc::new(SystemClock),
            gates: Gates::default(),
            answers_grpc: false,
            resource_metadata: None,
            problems: Vec::new(),
        }
    }
}

impl<C> GuardBuilder<C> {
    /// Takes an access token from the cookie of this name as well. Set it `HttpOnly`, `Secure` and `SameSite`.
    ///
    /// A browser sends a cookie wherever a page of another site posts to. So where a caller is known by the cookie alone,
    /// any method but GET, HEAD, OPTIONS and TRACE is let in only if the browser says that the request comes from the
    /// site itself ([Fetch Metadata](https://www.w3.org/TR/fetch-metadata/)), or from one of
    /// [`cookie_origins`](Self::cookie_origins). A browser that sends no fetch metadata is known by its `Origin` header, if
    /// [`own_origin`](Self::own_origin) says what the site itself is called.
    pub fn cookie(mut self, name: &str) -> Self {
        let is_token = |byte: u8| byte.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(&byte);
        if name.is_empty() || !name.bytes().all(is_token) {
            self.problems.push(format!("expected the name of a cookie, but found {name:?}"));
        }
        self.sources.add(CookieSource(name.to_owned()));
        self
    }

    /// The app's own origin as browsers see it, such as `https://api.skarnhill.test`; for older ones, and for the web sockets of newer ones,
    /// which say where a request comes from in its `Origin` header only.
    pub fn own_origin(mut self, origin: &str) -> Self {
        match Origin::read(origin) {
            Some(origin) => self.sources.same_site().own = Some(origin),
            None => self.no_origin(origin),
        }
        self
    }

    /// Other origins, such as `https://desk.skarnhill.test`, whose pages may use the cookie.
    pub fn cookie_origins(mut self, origins: &[&str]) -> Self {
        for origin in origins {
            match Origin::read(origin) {
                Some(origin) => self.sources.same_site().trusted.push(origin),
                None => self.no_origin(origin),
            }
        }
        self
    }

    fn no_origin(&mut self, found: &str) {
        self.problems.push(format!("expected an origin such as \"https://desk.skarnhill.test\", but found {found:?}"));
    }

    /// Takes API keys from the header of this name, and looks their owners up in `keys` by hash.
    pub fn api_keys(mut self, header: &str, keys: impl ApiKeys<C> + 'static) -> Self
    where
        C: Serialize + Send + Sync + 'static,
    {
        match HeaderName::try_from(header) {
            Ok(name) if name == http::header::AUTHORIZATION || name == http::header::COOKIE => {
                self.problems.push(format!("{name} is for tokens; give API keys a header of their own"));
            }
            Ok(name) => self.sources.add(ApiKeyHeader(name)),
            Err(_) => self.problems.push(format!("expected the name of a header, but found {header:?}")),
        }
        self.keys = Some(Arc::new(keys));
        self
    }

    /// Takes a ticket from the query parameter of this name, in requests that open a web socket or an event source: GET, and CONNECT.
    /// Rules know it as `credential ticket`.
    pub fn tickets(mut self, parameter: &str, tickets: Tickets) -> Self {
        let is_plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-._~".contains(&byte);
        if parameter.is_empty() || !parameter.bytes().all(is_plain) {
            self.problems.push(format!("expected the name of a query parameter, but found {parameter:?}"));
        }
        self.sources.add(TicketSource(parameter.to_owned()));
        self.tickets = Some(tickets);
        self
    }

    /// Takes the tokens of another issuer as well, by a checker with its keys and expectations of its own: a `RemoteIssuer`, or one
    /// with keys that the app knows. A token goes to the issuer that it names and to no other.
    ///
    /// The people of another issuer are its own: `sub` means nobody in rules and `issuer …` tells them apart, roles and scopes are what
    /// its [reading](vorsel_core::Reading) makes of its own, and what is revoked of our people says nothing of them.
    pub fn also(mut self, checker: impl IntoChecker<C>) -> Self {
        if let Err(problem) = self.checkers.add(checker.into_checker()) {
            self.problems.push(problem);
        }
        self
    }

    /// Takes tokens of before a move as well, for a while: those of our own people that something else has made.
    pub fn former(mut self, former: FormerTokens<C>) -> Self {
        tracing::info!(target: "vorsel::guard", "tokens of before are taken until {}", former.until());
        self.checkers.former(former);
        self
    }

    /// Asks an issuer about tokens that can't be checked here: those that are no JWTs, and those that name it if
    /// [it is to be asked](crate::IntrospectionBuilder::jwts_too) about them, too.
    #[cfg(feature = "remote")]
    pub fn introspect(mut self, issuer: crate::introspection::Introspection) -> Self
    where
        C: serde::de::DeserializeOwned + Send + Sync + 'static,
    {
        let asking = crate::introspection::Asking::of(issuer);
        if let Err(problem) = self.checkers.ask(Arc::new(asking)) {
            self.problems.push(problem);
        }
        self
    }

    /// Registers a predicate of the app's own, for rules that say `predicate` and its name. It is asked only where a rule hangs
    /// on it. Whoever it answers no is refused, or finds nothing there if it answers [`Answered::hidden`]; if it cannot answer,
    /// the client is told to try again (503).
    pub fn predicate<F, A, T>(mut self, name: &str, predicate: F) -> Self
    where
        F: Fn(Caller<C>, PredicateRequest) -> A + Send + Sync + 'static,
        A: Future<Output = PredicateAnswer<T>> + Send + 'static,
        T: Into<Answered>,
    {
        self.predicates.add(name, predicate);
        self
    }

    /// Refuses tokens that are revoked, those that were seen before as well. API keys are looked up afresh each time and
    /// are not concerned.
    ///
    /// Where the store's feed has been silent for longer than `longest_silence` (10 seconds suit most), nobody can tell
    /// whether a token was revoked since. What then happens is the app's choice: `when_silent` says it for every route. A
    /// route whose rule says `predicate revocations-current` refuses in any case (503): registering the view brings that predicate
    /// with it.
    pub fn revocations(mut self, view: LiveRevocations, longest_silence: Duration, when_silent: WhenSilent) -> Self
    where
        C: 'static,
    {
        self.gates.set(Gate { view, longest_silence, when_silent });
        self.with_predicate_of_gates()
    }

    /// Refuses what another issuer has revoked that tells so itself (`RemoteIssuer::feed`): one whose tokens are [also](Self::also) taken,
    /// with a view of what it tells. For its tokens, `predicate revocations-current` asks this view too.
    pub fn revocations_of(
        mut self,
        issuer: &str,
        view: LiveRevocations,
        longest_silence: Duration,
        when_silent: WhenSilent,
    ) -> Self
    where
        C: 'static,
    {
        self.gates.set_of(issuer, Gate { view, longest_silence, when_silent });
        self.with_predicate_of_gates()
    }

    /// In the place of the one of the gates before.
    fn with_predicate_of_gates(mut self) -> Self
    where
        C: 'static,
    {
        let gates = self.gates.clone();
        let are_current = move |caller: Caller<C>, _| std::future::ready(gates.are_current(caller.other_issuer()));
        self.predicates.add(REVOCATIONS_CURRENT, are_current);
        self
    }

    /// Has every refusal be one of gRPC, whatever the request looks like: for a service that speaks nothing else. Without
    /// this only a POST over HTTP/2 with gRPC's content type is answered so.
    pub const fn answers_grpc(mut self) -> Self {
        self.answers_grpc = true;
        self
    }

    /// Has challenges say where it lies who issues tokens for this API
    /// ([RFC 9728 section 5.1](https://www.rfc-editor.org/rfc/rfc9728#section-5.1)); `endpoints::resource_metadata_address` tells the
    /// address by the audience.
    pub fn resource_metadata(mut self, address: &str) -> Self {
        let is_address = address.starts_with("https://") || address.starts_with("http://");
        if !is_address || !address.bytes().all(|byte| byte.is_ascii_graphic() && byte != b'"') {
            self.problems.push(format!("expected the address of the API's metadata, but found {address:?}"));
        }
        self.resource_metadata = Some(address.into());
        self
    }

    /// Another clock than the machine's, for tests.
    pub fn clock(mut self, clock: Arc<dyn Clock>) -> Self {
        self.clock = clock;
        self
    }

    /// The guard, if it can do what the plan says. What the plan is warned of goes to the log.
    ///
    /// # Errors
    /// If the plan asks for a predicate that is not registered or for a credential that the guard does not look for, and if the
    /// name of a cookie or a header, or an origin, is invalid.
    pub fn build(mut self) -> Result<Guard<C>, GuardError> {
        for issuer in self.gates.issuers().filter(|issuer| !self.checkers.has_other(issuer)) {
            self.problems.push(format!(
                "expected the revocations of an issuer whose tokens are also taken, but found {issuer:?}"
            ));
        }
        let registered: BTreeSet<&str> = self.predicates.names().collect();
        for name in self.plan.predicates().into_iter().filter(|name| !registered.contains(name)) {
            self.problems
                .push(format!("the access plan asks for predicate {name}, which is not registered with the guard"));
        }
        let sources = self.sources.kinds().fold(Credentials::NONE, Credentials::with);
        for kind in self.plan.credentials().iter().filter(|kind| !sources.contains(*kind)) {
            self.problems
                .push(format!("the access plan asks for credential {kind}, which the guard does not look for"));
        }
        if !self.problems.is_empty() {
            return Err(GuardError { problems: self.problems });
        }
        for warning in self.plan.warnings() {
            let file = warning.file.as_deref().map(|file| format!("{file}:")).unwrap_or_default();
            tracing::warn!(target: "vorsel::guard", "access plan: {file}{warning}");
        }
        let Self {
            checkers,
            plan,
            sources,
            keys,
            tickets,
            predicates,
            clock,
            gates,
            answers_grpc,
            resource_metadata,
            ..
        } = self;
        let (realm, issuer) = (checkers.own().realm(), checkers.own().issuer());
        Ok(Guard::of(Inner {
            checkers,
            issuer,
            decisions: Decisions::of(&plan),
            plan,
            sources,
            keys,
            tickets,
            predicates,
            realm,
            clock,
            gates,
            answers_grpc,
            resource_metadata,
        }))
    }
}

impl<C> fmt::Debug for GuardBuilder<C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("GuardBuilder").field("plan", &self.plan).field("sources", &self.sources).finish_non_exhaustive()
    }
}
