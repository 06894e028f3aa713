//! Deciding one request.

use std::borrow::Cow;

use percent_encoding::percent_decode_str;
use smallvec::SmallVec;

use super::method::entries_for;
use super::table::{Access, AccessPlan, Route};
use crate::credential::{Credential, Credentials};
use crate::rule::{Evaluator, Facts, Formula, StepUp};
use crate::time::Timestamp;
use crate::token::{Checked, Claims, Pass, Passed};

/// What is known of the caller of one request.
///
/// ```
/// use vorsel_core::{AccessPlan, CallerFacts, Timestamp, Verdict, Vouched};
///
/// let plan = AccessPlan::builder().role("observer", &[]).need("GET", "/dome", "role observer").build()?;
/// let caller = Vouched::subject("obs-0017").roles(["observer"]).checked()?;
/// let verdict = plan.decide("GET", "/dome", Some(CallerFacts::from(&caller)), Timestamp::from_secs(1_700_000_000));
/// assert_eq!(verdict, Verdict::Allowed);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub struct CallerFacts<'a> {
    claims: &'a Claims,
    /// What these claims were let through to before, if anybody remembers.
    passed: Option<&'a Passed>,
    /// Whether the token comes from the issuer that the guard expects, or the app itself vouches for the caller.
    pub own_issuer: bool,
    /// The client whose API key came along, if one did.
    pub key_client: Option<&'a str>,
    /// The kinds of credential that the request came with, all of them for this caller.
    pub credentials: Credentials,
    /// What the app's predicates have answered so far, each by its name.
    pub answers: &'a [(String, bool)],
}

impl<'a> From<&'a Claims> for CallerFacts<'a> {
    /// A caller with a bearer token of our own issuer, before any predicate was asked.
    fn from(claims: &'a Claims) -> Self {
        Self {
            claims,
            passed: None,
            own_issuer: true,
            key_client: None,
            credentials: Credential::Bearer.into(),
            answers: &[],
        }
    }
}

impl<'a, C> From<&'a Checked<C>> for CallerFacts<'a> {
    /// A caller with a bearer token of our own issuer, before any predicate was asked.
    fn from(checked: &'a Checked<C>) -> Self {
        Self { passed: Some(checked.passed()), ..checked.claims().into() }
    }
}

/// What a plan says to a request.
///
/// ```
/// use vorsel_core::{AccessPlan, Timestamp, Verdict};
///
/// let plan = AccessPlan::builder().need("GET", "/dome", "signed-in").build()?;
/// let now = Timestamp::from_secs(1_700_000_000);
/// assert_eq!(plan.decide("GET", "/dome", None, now), Verdict::NeedsCaller);
/// assert_eq!(plan.decide("GET", "/elsewhere", None, now), Verdict::NoRule);
/// # Ok::<(), vorsel_core::PlanError>(())
/// ```
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
    /// The rule hangs on the app's own predicate of this name: ask it, and decide again with its answer.
    NeedsPredicate(String),
    /// The caller does not fulfil the rule.
    Refused(Box<Unmet>),
    /// The request asks for the options of a path that says nothing of OPTIONS itself: this caller may use these methods.
    Methods(Vec<String>),
    /// The path is open, but only to other methods: these.
    NoMethod(Vec<String>),
    /// Nobody has said anything about this route.
    NoRule,
    /// The path parameter of this name cannot be decoded, so that no rule could tell what it is.
    BadParameter(String),
}

/// Why a rule does not hold.
///
/// ```
/// # use vorsel_core::{AccessPlan, CallerFacts, Timestamp, Verdict, Vouched};
/// # let plan = AccessPlan::builder().scopes(&["dome:move"]).need("POST", "/dome", "scope dome:move").build()?;
/// # let caller = Vouched::subject("obs-0017").checked()?;
/// # let now = Timestamp::from_secs(1_700_000_000);
/// let Verdict::Refused(unmet) = plan.decide("POST", "/dome", Some(CallerFacts::from(&caller)), now) else { panic!() };
/// assert_eq!((unmet.rule.as_str(), &unmet.scopes[..]), ("scope dome:move", &["dome:move".to_owned()][..]));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Unmet {
    /// The whole rule.
    pub rule: String,
    /// The parts of it that are not met, and what the caller has instead.
    pub parts: Vec<String>,
    /// The scopes that are missing, if it is a scope that is wanted.
    pub scopes: Vec<String>,
    /// What the caller has to do to be let in after all, if authenticating again is all that is missing.
    pub step_up: Option<StepUp>,
}

impl AccessPlan {
    /// Decides a request with this method and path (without its query, as it was sent) by this caller at the moment `now`.
    pub fn decide(&self, method: &str, path: &str, caller: Option<CallerFacts<'_>>, now: Timestamp) -> Verdict {
        self.decide_by_entry(method, path, caller, now).1
    }

    /// [`decide`](Self::decide), and which entry of [`routes`](Self::routes) has decided, if one has.
    #[inline]
    pub fn decide_by_entry(
        &self,
        method: &str,
        path: &str,
        caller: Option<CallerFacts<'_>>,
        now: Timestamp,
    ) -> (Option<usize>, Verdict) {
        // What a path leads to is large, and stays where it is.
        let Ok(matched) = &self.paths.at(path) else { return (None, Verdict::NoRule) };
        let Some(index) = self.entry(matched.value, method) else {
            return (None, self.elsewhere(matched.value, method, path, caller, now));
        };
        let pass = caller.as_ref().and_then(|caller| self.pass(index, caller));
        let verdict = match pass {
            Some((passed, pass)) if passed.has(pass) && are_decodable(&matched.params) => Verdict::Allowed,
            _ => self.decide_anew(index, &matched.params, caller, pass, now),
        };
        (Some(index), verdict)
    }

    /// Kept apart, so that what was passed before takes little code.
    #[inline(never)]
    fn decide_anew<'a>(
        &'a self,
        index: usize,
        parameters: &matchit::Params<'a, 'a>,
        caller: Option<CallerFacts<'a>>,
        pass: Option<(&Passed, Pass)>,
        now: Timestamp,
    ) -> Verdict {
        let route = &self.routes[index];
        let Some(formula) = route.formula else {
            return undecodable(parameters).map_or(Verdict::Open, bad_parameter);
        };
        let Some(caller) = caller else { return Verdict::NeedsCaller };
        let mut facts = self.facts_anywhere(caller, now);
        let verdict = match at_path(&mut facts, parameters) {
            Ok(()) => self.apply(route, formula, &facts),
            Err(name) => bad_parameter(name),
        };
        if let (Some((passed, pass)), Verdict::Allowed) = (pass, &verdict) {
            passed.note(pass);
        }
        verdict
    }

    /// Where it is remembered that these claims alone pass the entry, unless its rule asks for more than claims.
    #[inline]
    fn pass<'a>(&self, index: usize, caller: &CallerFacts<'a>) -> Option<(&'a Passed, Pass)> {
        let passed = caller.passed.filter(|_| self.routes[index].asks_claims_alone && caller.key_client.is_none())?;
        Some((passed, Pass::of(self.number, index, caller.own_issuer)?))
    }

    /// The facts of a request to a path that the plan knows.
    pub(super) fn facts_at<'a>(&'a self, path: &'a str, caller: CallerFacts<'a>, now: Timestamp) -> Option<Facts<'a>> {
        let matched = self.paths.at(path).ok()?;
        let mut facts = self.facts_anywhere(caller, now);
        at_path(&mut facts, &matched.params).ok()?;
        Some(facts)
    }

    /// The entry that decides a request with this method and path.
    #[must_use]
    pub fn route_of(&self, method: &str, path: &str) -> Option<&Route> {
        self.entry(self.paths.at(path).ok()?.value, method).map(|index| &self.routes[index])
    }

    /// Whether some entry has a pattern that this path meets, whatever its method.
    #[must_use]
    pub fn has_path(&self, path: &str) -> bool {
        self.paths.at(path).is_ok()
    }

    /// The path's parameters under the names of the plan, percent-decoded; none for a path that the plan does not know.
    #[must_use]
    pub fn parameters_of(&self, path: &str) -> Vec<(String, String)> {
        let matched = self.paths.at(path).ok();
        let parameters = matched.iter().flat_map(|matched| matched.params.iter());
        parameters.filter_map(|(name, value)| Some((name.to_owned(), decoded(value)?.into_owned()))).collect()
    }

    /// For a method without an entry.
    #[cold]
    fn elsewhere(
        &self,
        indices: &[usize],
        method: &str,
        path: &str,
        caller: Option<CallerFacts<'_>>,
        now: Timestamp,
    ) -> Verdict {
        if method == "OPTIONS" { self.options(indices, path, caller, now) } else { self.without_entry(indices) }
    }

    /// Open methods are no secret, so a wrong method on an open path is told the right ones; guarded ones are not named.
    fn without_entry(&self, indices: &[usize]) -> Verdict {
        let open = indices.iter().map(|index| &self.routes[*index]).filter(|route| route.access == Access::Open);
        let mut methods: Vec<_> = open.map(|route| route.method.clone()).collect();
        if let Some(get) = methods.iter().position(|method| method == "GET")
            && !methods.iter().any(|method| method == "HEAD")
        {
            methods.insert(get + 1, "HEAD".to_owned());
        }
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

    #[inline]
    fn entry(&self, indices: &[usize], method: &str) -> Option<usize> {
        match self.entry_among(indices, method) {
            // Nearly always there is one of the method itself.
            Some(index) => Some(index),
            None => self.entry_beside(indices, method),
        }
    }

    #[inline]
    fn entry_among(&self, indices: &[usize], method: &str) -> Option<usize> {
        indices.iter().copied().find(|index| self.routes[*index].method == method)
    }

    #[inline(never)]
    fn entry_beside(&self, indices: &[usize], method: &str) -> Option<usize> {
        entries_for(method).skip(1).find_map(|method| self.entry_among(indices, method))
    }

    fn apply(&self, route: &Route, formula: Formula, facts: &Facts<'_>) -> Verdict {
        let evaluator = Evaluator::new(&self.form, facts);
        let outcome = evaluator.outcome(formula);
        if outcome == Some(true) {
            return Verdict::Allowed;
        }
        // A refusal says whether signing in again would help, which may hang on a predicate as well.
        let again = evaluator.after_signing_in_again();
        let outcome_again = again.outcome(formula);
        let open = [(&evaluator, outcome), (&again, outcome_again)].into_iter().find(|(_, outcome)| outcome.is_none());
        if let Some(predicate) = open.and_then(|(evaluator, _)| evaluator.open_predicate(formula)) {
            return Verdict::NeedsPredicate(predicate.to_owned());
        }
        let rule = if let Access::Need(rule) = &route.access { rule.to_string() } else { String::new() };
        Verdict::Refused(Box::new(Unmet {
            rule,
            parts: evaluator.unmet(formula),
            scopes: evaluator.missing_scopes(formula),
            step_up: (outcome_again == Some(true)).then(|| evaluator.step_up(formula)),
        }))
    }

    /// The facts of a caller at no path in particular.
    pub(super) fn facts_anywhere<'a>(&self, caller: CallerFacts<'a>, now: Timestamp) -> Facts<'a> {
        Facts {
            caller: caller.claims,
            own_issuer: caller.own_issuer,
            all_subjects: self.all_subjects,
            key_client: caller.key_client,
            credentials: caller.credentials,
            answers: caller.answers,
            path: SmallVec::new(),
            knows_path: false,
            now,
        }
    }
}

/// Adds the path's parameters to the facts, where they are, since moving them about takes longer. The name of one that is not
/// UTF-8 comes back: left out, it would fulfil whatever stands under a `not`.
fn at_path<'a>(facts: &mut Facts<'a>, parameters: &matchit::Params<'a, 'a>) -> Result<(), &'a str> {
    facts.knows_path = true;
    for (name, value) in parameters.iter() {
        facts.path.push((name, decoded(value).ok_or(name)?));
    }
    Ok(())
}

#[inline]
fn are_decodable(parameters: &matchit::Params<'_, '_>) -> bool {
    parameters.is_empty() || undecodable(parameters).is_none()
}

/// The first parameter whose value is not UTF-8.
fn undecodable<'p>(parameters: &matchit::Params<'p, 'p>) -> Option<&'p str> {
    parameters.iter().find(|(_, value)| decoded(value).is_none()).map(|(name, _)| name)
}

#[cold]
fn bad_parameter(name: &str) -> Verdict {
    Verdict::BadParameter(name.to_owned())
}

/// A path parameter as the handler sees it; nothing for one that is not UTF-8.
fn decoded(value: &str) -> Option<Cow<'_, str>> {
    if !value.as_bytes().contains(&b'%') {
        return Some(Cow::Borrowed(value));
    }
    percent_decode_str(value).decode_utf8().ok()
}
