//! Deciding one request.

use std::borrow::Cow;

use percent_encoding::percent_decode_str;
use smallvec::SmallVec;

use super::table::{Access, AccessPlan, Route};
use crate::claims::{Checked, Claims};
use crate::credential::{Credential, Credentials};
use crate::fulfilled::Fulfilled;
use crate::rule::{Evaluator, Facts, Rule, StepUp};
use crate::time::Timestamp;

/// What is known of the caller of one request.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub struct CallerFacts<'a> {
    claims: &'a Claims,
    /// What is known of these claims, if they are still the same at the next request.
    fulfilled: Option<&'a Fulfilled>,
    /// The kinds of credential that the request came with, all of them for this caller.
    pub credentials: Credentials,
    /// What the app's checks have answered so far, each by its name.
    pub answers: &'a [(String, bool)],
}

impl<'a> From<&'a Claims> for CallerFacts<'a> {
    /// A caller with a bearer token, before any check was asked.
    fn from(claims: &'a Claims) -> Self {
        Self { claims, fulfilled: None, credentials: Credential::Bearer.into(), answers: &[] }
    }
}

impl<'a, C> From<&'a Checked<C>> for CallerFacts<'a> {
    /// A caller with a bearer token, before any check was asked. Which rules the claims fulfil is remembered with them.
    fn from(checked: &'a Checked<C>) -> Self {
        Self { fulfilled: Some(checked.fulfilled()), ..Self::from(checked.claims()) }
    }
}

/// What a plan says to a request.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
#[must_use]
pub enum Verdict {
    /// The route is open.
    Open,
    /// The caller fulfils the route's rule.
    Allowed,
    /// The route has a rule, and the request has no caller.
    NeedsCaller,
    /// The rule hangs on the app's own check of this name: ask it, and decide once more with its answer.
    NeedsCheck(String),
    /// The caller does not fulfil the rule.
    Refused(Box<Unmet>),
    /// The request asks for the options of a path that says nothing of OPTIONS itself: this caller may use these methods.
    Methods(Vec<String>),
    /// The path is open, but only to other methods: these.
    NoMethod(Vec<String>),
    /// Nobody has said anything about this route.
    NoRule,
}

/// Why a rule does not hold.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Unmet {
    /// The whole rule.
    pub rule: String,
    /// The parts of it that are not met, and what the caller has instead.
    pub parts: Vec<String>,
    /// The scopes that are missing, if it is a scope that is wanted.
    pub scopes: Vec<String>,
    /// What the caller has to do to be let in after all, if authenticating anew is all that is missing.
    pub step_up: Option<StepUp>,
}

impl AccessPlan {
    /// Decides a request with this method and path (without its query, as it was sent) by this caller at the moment `now`.
    pub fn decide(&self, method: &str, path: &str, caller: Option<CallerFacts<'_>>, now: Timestamp) -> Verdict {
        let Ok(matched) = self.paths.at(path) else { return Verdict::NoRule };
        let Some(index) = self.entry(matched.value, method) else {
            return if method == "OPTIONS" {
                self.options(matched.value, path, caller, now)
            } else {
                self.without_entry(matched.value)
            };
        };
        let (rule, caller) = match (&self.routes[index].access, caller) {
            (Access::Open, _) => return Verdict::Open,
            (Access::Need(_), None) => return Verdict::NeedsCaller,
            (Access::Need(rule), Some(caller)) => (rule, caller),
        };
        let lasting = caller.fulfilled.zip(self.marks.get(index).copied().flatten());
        if lasting.is_some_and(|(fulfilled, mark)| fulfilled.has(mark)) {
            return Verdict::Allowed;
        }
        let verdict = self.apply(rule, &facts(&matched.params, caller, now));
        if let (Some((fulfilled, mark)), Verdict::Allowed) = (lasting, &verdict) {
            fulfilled.add(mark);
        }
        verdict
    }

    /// Looks at a rule as it is for this request.
    pub(super) fn with_evaluator<T>(
        &self,
        path: &str,
        caller: CallerFacts<'_>,
        now: Timestamp,
        look: impl FnOnce(&Evaluator<'_, '_, Self>) -> T,
    ) -> Option<T> {
        let matched = self.paths.at(path).ok()?;
        let facts = facts(&matched.params, caller, now);
        Some(look(&Evaluator { book: self, facts: &facts, signed_in_anew: false }))
    }

    /// The entry that decides a request with this method and path.
    #[must_use]
    pub fn route_of(&self, method: &str, path: &str) -> Option<&Route> {
        self.entry(self.paths.at(path).ok()?.value, method).map(|index| &self.routes[index])
    }

    /// The path's parameters under the names of the plan, percent-decoded; none for a path that the plan does not know.
    #[must_use]
    pub fn parameters_of(&self, path: &str) -> Vec<(String, String)> {
        let matched = self.paths.at(path).ok();
        let parameters = matched.iter().flat_map(|matched| matched.params.iter());
        parameters.filter_map(|(name, value)| Some((name.to_owned(), decoded(value)?.into_owned()))).collect()
    }

    /// Open methods are no secret, so a wrong method on an open path is told the right ones; guarded ones are not named.
    fn without_entry(&self, indices: &[usize]) -> Verdict {
        let open = indices.iter().map(|index| &self.routes[*index]).filter(|route| route.access == Access::Open);
        let methods: Vec<_> = open.map(|route| route.method.clone()).collect();
        if methods.is_empty() { Verdict::NoRule } else { Verdict::NoMethod(methods) }
    }

    /// The methods of the path that this caller may use now
    /// ([RFC 9110 section 9.3.7](https://www.rfc-editor.org/rfc/rfc9110#section-9.3.7)). Who may use none is told as
    /// little as for any other method.
    fn options(&self, indices: &[usize], path: &str, caller: Option<CallerFacts<'_>>, now: Timestamp) -> Verdict {
        let usable = |method: &str| matches!(self.decide(method, path, caller, now), Verdict::Open | Verdict::Allowed);
        let mut methods: Vec<String> = Vec::new();
        for method in indices.iter().map(|index| &self.routes[*index].method).filter(|method| usable(method)) {
            methods.push(method.clone());
            if method == "GET" && usable("HEAD") {
                methods.push("HEAD".to_owned());
            }
        }
        methods.dedup();
        if methods.is_empty() { Verdict::NoRule } else { Verdict::Methods(methods) }
    }

    /// Without an entry of its own, HEAD goes by that of GET: whoever may GET may ask for the head of it
    /// ([RFC 9110 section 9.3.2](https://www.rfc-editor.org/rfc/rfc9110#section-9.3.2)).
    fn entry(&self, indices: &[usize], method: &str) -> Option<usize> {
        let of = |method: &str| indices.iter().copied().find(|index| self.routes[*index].method == method);
        of(method).or_else(|| if method == "HEAD" { of("GET") } else { None })
    }

    fn apply(&self, rule: &Rule, facts: &Facts<'_>) -> Verdict {
        let evaluator = Evaluator { book: self, facts, signed_in_anew: false };
        let anew = Evaluator { book: self, facts, signed_in_anew: true };
        // A refusal says whether signing in anew would help, which may hang on a check as well.
        let (outcome, outcome_anew) = match evaluator.outcome(rule) {
            Some(true) => return Verdict::Allowed,
            outcome => (outcome, anew.outcome(rule)),
        };
        let open = [(&evaluator, outcome), (&anew, outcome_anew)].into_iter().find(|(_, outcome)| outcome.is_none());
        if let Some(check) = open.and_then(|(evaluator, _)| evaluator.open_check(rule)) {
            return Verdict::NeedsCheck(check.to_owned());
        }
        let step_up = (outcome_anew == Some(true)).then(|| {
            let mut step_up = StepUp::default();
            evaluator.authentication(rule, &mut step_up);
            step_up
        });
        let mut scopes = Vec::new();
        evaluator.missing_scopes(rule, &mut scopes);
        Verdict::Refused(Box::new(Unmet {
            rule: rule.to_string(),
            parts: evaluator.unmet(rule),
            scopes: scopes.into_iter().map(str::to_owned).collect(),
            step_up,
        }))
    }
}

fn facts<'a>(parameters: &matchit::Params<'a, 'a>, caller: CallerFacts<'a>, now: Timestamp) -> Facts<'a> {
    let mut path = SmallVec::new();
    if !parameters.is_empty() {
        path.extend(parameters.iter().filter_map(|(name, value)| Some((name, decoded(value)?))));
    }
    Facts { caller: caller.claims, credentials: caller.credentials, answers: caller.answers, path, now }
}

/// A path parameter as the handler sees it. One that is not UTF-8 is left out: comparisons with it are false.
fn decoded(value: &str) -> Option<Cow<'_, str>> {
    percent_decode_str(value).decode_utf8().ok()
}
