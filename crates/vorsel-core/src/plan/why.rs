//! Why does this caller get yes or no? The decision again, with each part of the rule marked.

use std::collections::BTreeSet;

use super::decide::{CallerFacts, Verdict};
use super::table::{Access, AccessPlan, Route};
use crate::credential::{Credential, Credentials};
use crate::encoding::json::Object;
use crate::finding::{Detail, quoted};
use crate::rule::{Reason, Rule, reason};
use crate::spelling::did_you_mean;
use crate::time::Timestamp;
use crate::token::{Checked, Claims, Reading, payload};

/// A caller as somebody supposes one to be, for questions about a plan. Nothing in it is checked, and nothing but
/// [`AccessPlan::why`] takes it: no request is decided by it.
///
/// ```
/// use vorsel_core::{AccessPlan, SupposedCaller, Timestamp, Verdict};
///
/// let plan = AccessPlan::builder().role("observer", &[]).need("GET", "/dome", "role observer").build()?;
/// let claims = serde_json::json!({ "sub": "obs-0017", "roles": ["observer"] });
/// let caller = SupposedCaller::with(claims.as_object().expect("an object"))?;
/// let why = plan.why("GET", "/dome", Some(&caller), Timestamp::from_secs(1_700_000_000));
/// assert_eq!(why.verdict, Verdict::Allowed);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug)]
pub struct SupposedCaller {
    claims: Claims,
    own_issuer: bool,
    key_client: Option<String>,
    credentials: Credentials,
    answers: Vec<(String, bool)>,
}

/// Claims that no token could have.
///
/// ```
/// # use vorsel_core::SupposedCaller;
/// let claims = serde_json::json!({ "roles": 7 });
/// let error = SupposedCaller::with(claims.as_object().expect("an object")).unwrap_err();
/// assert_eq!(
///     error.to_string(),
///     "expected claims that are one strict JSON object with members of their types, but found invalid type: \
///      integer `7`, expected an array of strings in \"roles\" at line 1 column 10",
/// );
/// ```
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("expected {expected}, but found {found}")]
pub struct SupposedCallerError {
    /// What would be right.
    pub expected: String,
    /// What was there.
    pub found: String,
}

/// The answer to a question about a plan.
///
/// ```
/// # use vorsel_core::{AccessPlan, SupposedCaller, Timestamp};
/// # let plan = AccessPlan::builder().role("observer", &[]).need("GET", "/dome", "role observer").build()?;
/// let claims = serde_json::json!({ "sub": "obs-0017", "roles": ["obsever"] });
/// let caller = SupposedCaller::with(claims.as_object().expect("an object"))?;
/// let why = plan.why("GET", "/dome", Some(&caller), Timestamp::from_secs(1_700_000_000));
/// assert_eq!(why.reason.expect("a rule").held, Some(false));
/// assert_eq!(why.doubts, ["the plan knows no role \"obsever\"; did you mean \"observer\"?"]);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Why {
    /// What the plan says to the request.
    pub verdict: Verdict,
    /// The entry that decides, if there is one.
    pub route: Option<Route>,
    /// The entry's rule with each part marked, if it has one and there is a caller.
    pub reason: Option<Reason>,
    /// Names in the question that the plan does not know, with the one that was probably meant: a role, a scope, a predicate,
    /// a path.
    pub doubts: Vec<String>,
}

impl SupposedCaller {
    /// A caller with these claims, as a token in the header would carry them.
    ///
    /// # Errors
    /// If a registered claim has another type than a token's would.
    pub fn with(claims: &Object) -> Result<Self, SupposedCallerError> {
        let text = serde_json::Value::Object(claims.clone()).to_string();
        let wrong = |Detail { expected, found }| SupposedCallerError { expected, found };
        payload::read(text.into_bytes(), &Reading::default()).map(|claims| Self::from_claims(*claims)).map_err(wrong)
    }

    fn from_claims(claims: Claims) -> Self {
        let credentials = Credential::Bearer.into();
        Self { claims, own_issuer: true, key_client: None, credentials, answers: Vec::new() }
    }

    /// The kinds of credential that the caller comes with instead.
    #[must_use]
    pub fn by(self, credentials: impl Into<Credentials>) -> Self {
        Self { credentials: credentials.into(), ..self }
    }

    /// With a token of another issuer than the one that the guard expects.
    #[must_use]
    pub fn of_another_issuer(self) -> Self {
        Self { own_issuer: false, ..self }
    }

    /// With the API key of this client besides.
    #[must_use]
    pub fn with_key_of(self, client: impl Into<String>) -> Self {
        Self { key_client: Some(client.into()), ..self }
    }

    /// What one of the app's predicates says to this caller.
    #[must_use]
    pub fn answered(mut self, predicate: &str, answer: bool) -> Self {
        self.answers.push((predicate.to_owned(), answer));
        self
    }

    /// The facts that a plan decides by.
    pub(super) fn facts(&self) -> CallerFacts<'_> {
        let mut facts = CallerFacts::from(&self.claims);
        facts.own_issuer = self.own_issuer;
        facts.key_client = self.key_client.as_deref();
        facts.credentials = self.credentials;
        facts.answers = &self.answers;
        facts
    }
}

impl<C> From<&Checked<C>> for SupposedCaller {
    fn from(checked: &Checked<C>) -> Self {
        Self::from_claims(checked.claims().clone())
    }
}

impl AccessPlan {
    /// What [`decide`](Self::decide) says to this request, and why.
    #[must_use]
    pub fn why(&self, method: &str, path: &str, caller: Option<&SupposedCaller>, now: Timestamp) -> Why {
        let doubts = self.doubts(path, caller);
        let caller = caller.map(SupposedCaller::facts);
        let route = self.route_of(method, path).cloned();
        let reason = route.as_ref().zip(caller).and_then(|(route, caller)| match &route.access {
            Access::Open => None,
            Access::Need(rule) => {
                let facts = self.facts_at(path, caller, now)?;
                Some(reason(rule, &self.form, &self.names, &facts))
            }
        });
        Why { verdict: self.decide(method, path, caller, now), route, reason, doubts }
    }

    fn doubts(&self, path: &str, caller: Option<&SupposedCaller>) -> Vec<String> {
        let mut doubts = Vec::new();
        let mut doubt = |what: &str, name: &str, known: &BTreeSet<&str>| {
            if !known.contains(name) {
                let advice = did_you_mean(name, known.iter().copied());
                doubts.push(format!("the plan knows no {what} {}{advice}", quoted(name)));
            }
        };
        if let Some(caller) = caller {
            let roles = self.names.roles.keys().map(String::as_str).collect();
            caller.claims.roles().for_each(|role| doubt("role", role, &roles));
            let mut scopes = BTreeSet::new();
            self.every_rule(&mut |rule| {
                if let Rule::Scope(name) = rule {
                    scopes.insert(name.as_str());
                }
            });
            caller.claims.scopes().for_each(|scope| doubt("scope", scope, &scopes));
            caller.answers.iter().for_each(|(name, _)| doubt("predicate", name, &self.predicates()));
        }
        if !self.has_path(path) {
            let alike: Vec<_> = self.routes.iter().map(|route| with_parts_of(path, route.path())).collect();
            doubt("path", path, &alike.iter().map(String::as_str).collect());
        }
        doubts
    }
}

/// The pattern with the parts of this path for its parameters, as far as it has them.
fn with_parts_of(path: &str, pattern: &str) -> String {
    let parts = path.split('/').map(Some).chain(std::iter::repeat(None));
    let part = |(known, part): (&str, Option<&str>)| match part {
        Some(part) if known.starts_with('{') && !known.starts_with("{{") => part.to_owned(),
        _ => known.to_owned(),
    };
    pattern.split('/').zip(parts).map(part).collect::<Vec<_>>().join("/")
}
