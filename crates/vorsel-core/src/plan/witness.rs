//! An example caller and request, as the proof of an answer about a plan.

use std::fmt;
use std::time::Duration;

use serde_json::{Value, json};

use super::exact::{Found, Shape, Spelling, Thing};
use super::table::AccessPlan;
use super::why::SupposedCaller;
use crate::credential::{Credential, Credentials};
use crate::encoding::json::Object;
use crate::time::{Timestamp, spoken};

/// A request, and a caller for whom an answer about a plan holds. [`AccessPlan::why`] takes both.
///
/// ```
/// # use vorsel_core::AccessPlan;
/// # let before = AccessPlan::builder().role("observer", &[]).need("GET", "/dome", "role observer").build()?;
/// # let after = AccessPlan::builder().role("observer", &[]).open("GET", "/dome").build()?;
/// let changes = before.compare(&after);
/// let witness = &changes[0].gains[0].witness;
/// assert_eq!((witness.method(), witness.path()), ("GET", "/dome"));
/// # Ok::<(), vorsel_core::PlanError>(())
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct Witness {
    method: String,
    path: String,
    caller: Option<WitnessCaller>,
}

#[derive(Clone, Debug, PartialEq)]
struct WitnessCaller {
    claims: Object,
    /// Whether the token is of another issuer than the guard's own.
    is_foreign: bool,
    key_client: Option<String>,
    signed_in_ago: Option<Duration>,
    credentials: Credentials,
    answers: Vec<(String, bool)>,
}

impl Witness {
    /// A request without a caller.
    pub(super) fn anonymous(method: &str, path: String) -> Self {
        Self { method: method.to_owned(), path, caller: None }
    }

    /// The request and the caller that a search has found, who holds `roles` besides. `fits` says whether the path is
    /// met by the patterns that were looked at; nothing comes back if it is not, however it is spelled.
    pub(super) fn of(
        method: &str,
        shape: &Shape,
        found: &Found,
        roles: &[&str],
        fits: impl Fn(&str) -> bool,
    ) -> Option<Self> {
        let mut caller = WitnessCaller {
            claims: Object::new(),
            is_foreign: false,
            key_client: None,
            signed_in_ago: None,
            credentials: Credential::Bearer.into(),
            answers: Vec::new(),
        };
        let (mut held, mut scopes, mut segments) = (roles.to_vec(), Vec::new(), Vec::new());
        let (mut subject, mut own) = (Some(json!("somebody")), Object::new());
        for (thing, value) in found.values() {
            let is_true = value == Some(&Value::Bool(true));
            match thing {
                Thing::Role(role) if is_true => held.push(role),
                Thing::Scope(scope) if is_true => scopes.push(scope.as_str()),
                Thing::Role(_) | Thing::Scope(_) | Thing::Parameter(_) => {}
                Thing::IsOwnPerson => caller.is_foreign = !is_true,
                Thing::KeyClient => caller.key_client = value.and_then(Value::as_str).map(str::to_owned),
                Thing::Client => set(&mut own, &["client_id".to_owned()], value),
                Thing::Issuer => set(&mut own, &["iss".to_owned()], value),
                Thing::Predicate(name) => caller.answers.push((name.clone(), is_true)),
                Thing::Credentials => {
                    let bits = value.and_then(Value::as_u64).unwrap_or_default();
                    let kinds = Credential::ALL.into_iter().filter(|kind| bits & 1 << *kind as u8 != 0);
                    caller.credentials = kinds.fold(Credentials::NONE, Credentials::with);
                }
                Thing::SignedInAgo => {
                    caller.signed_in_ago = value.and_then(Value::as_f64).map(Duration::from_secs_f64);
                }
                Thing::Subject => subject = value.cloned(),
                Thing::Acr => set(&mut own, &["acr".to_owned()], value),
                Thing::Claim(names) => set(&mut own, names, value),
                Thing::ListHolds(names, item) if is_true => add(&mut own, names, item),
                Thing::ListHolds(..) => {}
                Thing::Segment { part, .. } => segments.push((*part, value.and_then(Value::as_str).map(str::to_owned))),
            }
        }
        let roles = (!held.is_empty()).then(|| json!(held));
        let scope = (!scopes.is_empty()).then(|| json!(scopes.join(" ")));
        let registered = [("sub", subject), ("roles", roles), ("scope", scope)];
        caller.claims.extend(registered.into_iter().filter_map(|(name, value)| Some((name.to_owned(), value?))));
        caller.claims.extend(own);
        let segment =
            |part: usize| segments.iter().find(|(known, _)| *known == part).and_then(|(_, value)| value.clone());
        let path = Spelling::ALL.into_iter().map(|spelling| shape.path(segment, spelling)).find(|path| fits(path))?;
        Some(Self { method: method.to_owned(), path, caller: Some(caller) })
    }

    /// The request's method.
    #[must_use]
    pub fn method(&self) -> &str {
        &self.method
    }

    /// The request's path.
    #[must_use]
    pub fn path(&self) -> &str {
        &self.path
    }

    /// The caller who sends it at the moment `now`; nothing for a request without a credential.
    #[must_use]
    pub fn caller(&self, now: Timestamp) -> Option<SupposedCaller> {
        let caller = self.caller.as_ref()?;
        let mut claims = caller.claims.clone();
        if let Some(ago) = caller.signed_in_ago {
            let at = now.before(ago);
            // Rounded, it might be a moment too early.
            let exact = if at == at.whole_secs() { json!(at.as_secs()) } else { json!(at.as_micros() as f64 / 1e6) };
            claims.insert("auth_time".to_owned(), exact);
        }
        // The claims were made above, each of its type, so they are a token's.
        let mut supposed = SupposedCaller::with(&claims).ok()?.by(caller.credentials);
        if caller.is_foreign {
            supposed = supposed.of_another_issuer();
        }
        if let Some(client) = &caller.key_client {
            supposed = supposed.with_key_of(client);
        }
        Some(caller.answers.iter().fold(supposed, |supposed, (name, answer)| supposed.answered(name, *answer)))
    }

    /// The caller's claims but `auth_time`; empty for a request without a caller.
    #[must_use]
    pub fn claims(&self) -> Object {
        self.caller.as_ref().map(|caller| caller.claims.clone()).unwrap_or_default()
    }

    /// How long ago the caller authenticated, if the answer hangs on it and it is known.
    #[must_use]
    pub fn signed_in_ago(&self) -> Option<Duration> {
        self.caller.as_ref()?.signed_in_ago
    }

    /// The credentials that the request comes with.
    #[must_use]
    pub fn credentials(&self) -> Credentials {
        self.caller.as_ref().map_or(Credentials::NONE, |caller| caller.credentials)
    }

    /// Who sends the request, in words.
    #[must_use]
    pub fn described(&self) -> String {
        self.caller.as_ref().map_or_else(|| "anyone".to_owned(), WitnessCaller::described)
    }

    /// What the app's predicates say, those that the answer hangs on.
    pub fn answers(&self) -> impl Iterator<Item = (&str, bool)> {
        let answers = self.caller.iter().flat_map(|caller| &caller.answers);
        answers.map(|(predicate, answer)| (predicate.as_str(), *answer))
    }
}

fn set(claims: &mut Object, names: &[String], value: Option<&Value>) {
    let Some((first, rest)) = names.split_first() else { return };
    match (value, rest) {
        (None, _) => {}
        (Some(value), []) => {
            claims.insert(first.clone(), value.clone());
        }
        (Some(_), rest) => {
            if let Value::Object(inner) = claims.entry(first.clone()).or_insert_with(|| json!({})) {
                set(inner, rest, value);
            }
        }
    }
}

/// Puts an item, written as JSON, into the list behind a claim.
fn add(claims: &mut Object, names: &[String], item: &str) {
    let item: Value = serde_json::from_str(item).unwrap_or_default();
    let mut list = vec![item];
    let (first, rest) = (&names[0], &names[1..]);
    let known = rest.iter().try_fold(claims.get(first), |value, name| value.map(|value| value.get(name)));
    if let Some(Some(Value::Array(known))) = known {
        list.splice(0..0, known.clone());
    }
    set(claims, names, Some(&Value::Array(list)));
}

impl WitnessCaller {
    /// In words: the claims, and what else the answer hangs on.
    fn described(&self) -> String {
        let mut parts: Vec<String> = self.claims.iter().map(|(name, value)| format!("{name} {value}")).collect();
        if parts.is_empty() {
            parts.push("a caller without a claim".to_owned());
        }
        parts.extend(self.signed_in_ago.map(|ago| format!("signed in {} ago", spoken(ago))));
        if self.credentials != Credentials::from(Credential::Bearer) {
            let kinds: Vec<_> = self.credentials.iter().map(Credential::name).collect();
            parts.push(format!("with {}", kinds.join(" and ")));
        }
        if self.is_foreign {
            parts.push("none of our own people".to_owned());
        }
        parts.extend(self.key_client.iter().map(|client| format!("the API key of client {client}")));
        let answer =
            |(name, yes): &(String, bool)| format!("predicate {name} says {}", if *yes { "yes" } else { "no" });
        parts.extend(self.answers.iter().map(answer));
        parts.join(", ")
    }
}

impl fmt::Display for Witness {
    /// One line: the request and who sends it.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {} by {}", self.method, self.path, self.described())
    }
}

impl AccessPlan {
    /// The pattern that a path meets.
    pub(super) fn pattern_of(&self, path: &str) -> Option<&str> {
        let indices = self.paths.at(path).ok()?.value;
        indices.first().map(|index| self.routes[*index].path.as_str())
    }
}
