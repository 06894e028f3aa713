//! The plan itself: routes, roles, policies.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::exact::{Budget, Patterns};
use super::mistake::Mistake;
use crate::credential::Credentials;
use crate::rule::{Formula, NormalForm, RoleBook, Rule};

/// Who may reach which route. Checked when it is built, closed by default: what has no entry is refused.
///
/// ```
/// use vorsel_core::{AccessPlan, Timestamp, Verdict};
/// use vorsel_core::rule::role;
///
/// let plan = AccessPlan::builder()
///     .role("operator", &[])
///     .role("director", &["operator"])
///     .open("GET", "/health")
///     .need("POST", "/dome", role("operator"))
///     .build()?;
/// let now = Timestamp::from_secs(1_700_000_000);
/// assert!(matches!(plan.decide("GET", "/health", None, now), Verdict::Open));
/// assert!(matches!(plan.decide("POST", "/dome", None, now), Verdict::NeedsCaller));
/// assert!(matches!(plan.decide("DELETE", "/dome", None, now), Verdict::NoRule));
/// # Ok::<(), vorsel_core::PlanError>(())
/// ```
#[derive(Clone)]
pub struct AccessPlan {
    /// Tells it apart from every other plan of this process, but for its copies.
    pub(super) number: u64,
    pub(super) names: Names,
    pub(super) routes: Vec<Route>,
    /// The rules of the routes as they are decided by.
    pub(super) form: NormalForm,
    /// Whether `sub` counts in rules whoever issued the token, and whether or not it is a client's own.
    pub(super) all_subjects: bool,
    pub(super) paths: Paths,
    /// What questions about its paths go by.
    pub(super) patterns: Arc<Patterns>,
    /// How much work questions about it may take.
    pub(super) budget: Budget,
    pub(super) warnings: Vec<Mistake>,
}

/// From a path to the routes whose pattern it meets. What some route's pattern has no fallback gets, as in a router.
#[derive(Clone, Default)]
pub(super) struct Paths {
    pub(super) routed: matchit::Router<Vec<usize>>,
    pub(super) fallbacks: matchit::Router<Vec<usize>>,
}

impl Paths {
    #[inline]
    pub(super) fn at<'p>(&self, path: &'p str) -> Result<matchit::Match<'_, 'p, &Vec<usize>>, matchit::MatchError> {
        match self.routed.at(path) {
            Err(_) => self.fallback_at(path),
            found => found,
        }
    }

    #[inline(never)]
    fn fallback_at<'p>(&self, path: &'p str) -> Result<matchit::Match<'_, 'p, &Vec<usize>>, matchit::MatchError> {
        self.fallbacks.at(path)
    }
}

/// One route of a plan.
///
/// ```
/// use vorsel_core::{Access, AccessPlan};
///
/// let plan = AccessPlan::builder().open("GET", "/health").build()?;
/// let route = plan.route_of("GET", "/health").expect("an entry");
/// assert_eq!((route.method(), route.path(), route.access()), ("GET", "/health", &Access::Open));
/// # Ok::<(), vorsel_core::PlanError>(())
/// ```
#[derive(Clone, Debug)]
pub struct Route {
    pub(super) method: String,
    pub(super) path: String,
    pub(super) access: Access,
    /// What the rule comes to; nothing for an open route.
    pub(super) formula: Option<Formula>,
    /// Whether the claims alone settle the rule.
    pub(super) asks_claims_alone: bool,
    pub(super) is_fallback: bool,
}

impl PartialEq for Route {
    /// By what is written; a formula means something to its own plan only.
    fn eq(&self, other: &Self) -> bool {
        (&self.method, &self.path, self.is_fallback, &self.access)
            == (&other.method, &other.path, other.is_fallback, &other.access)
    }
}

/// What a route asks of its caller.
///
/// ```
/// use vorsel_core::{Access, AccessPlan};
///
/// let plan = AccessPlan::builder().need("GET", "/dome", "signed-in").build()?;
/// assert!(matches!(plan.routes()[0].access(), Access::Need(rule) if rule.to_string() == "signed-in"));
/// # Ok::<(), vorsel_core::PlanError>(())
/// ```
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Access {
    /// No caller is needed.
    Open,
    /// The rule must hold.
    Need(Rule),
}

/// The roles, the policies and the scopes of a plan.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Names {
    /// For each role all that it includes, itself among them.
    pub(super) roles: BTreeMap<String, BTreeSet<String>>,
    /// The roles in the order declared.
    pub(super) order: Vec<String>,
    pub(super) policies: BTreeMap<String, Rule>,
    /// In the order declared.
    pub(super) scopes: Vec<String>,
}

impl AccessPlan {
    /// The rule of a named policy.
    #[must_use]
    pub fn policy_of(&self, name: &str) -> Option<&Rule> {
        self.names.policies.get(name)
    }

    /// The named policies and their rules.
    pub fn policies(&self) -> impl Iterator<Item = (&str, &Rule)> {
        self.names.policies.iter().map(|(name, rule)| (name.as_str(), rule))
    }

    /// The scopes in the order declared; none if rules may name any.
    pub fn scopes(&self) -> impl Iterator<Item = &str> {
        self.names.scopes.iter().map(String::as_str)
    }

    /// The roles in the order declared, each with all others that it includes.
    pub fn roles(&self) -> impl Iterator<Item = (&str, Vec<&str>)> {
        self.names.order.iter().map(|role| {
            let good_as = self.names.roles.get(role).into_iter().flatten();
            (role.as_str(), good_as.filter(|other| *other != role).map(String::as_str).collect())
        })
    }

    /// What can hardly be meant, though the plan can be used: a rule that every signed-in caller fulfils though it asks
    /// for something, a part that nobody fulfils, a definition without a use, a claim taken for two types.
    #[must_use]
    pub fn warnings(&self) -> &[Mistake] {
        &self.warnings
    }

    /// The app's own predicates that some rule asks for.
    #[must_use]
    pub fn predicates(&self) -> BTreeSet<&str> {
        let mut predicates = BTreeSet::new();
        self.every_rule(&mut |rule| {
            if let Rule::Predicate(name) = rule {
                predicates.insert(name.as_str());
            }
        });
        predicates
    }

    /// The kinds of credential that some rule of a route asks for.
    #[must_use]
    pub fn credentials(&self) -> Credentials {
        let mut kinds = Credentials::NONE;
        self.every_rule(&mut |rule| {
            if let Rule::Credential(kind) = rule {
                kinds = kinds.with(*kind);
            }
        });
        kinds
    }

    pub(super) fn every_rule<'p>(&'p self, visit: &mut impl FnMut(&'p Rule)) {
        let rules = self.routes.iter().filter_map(|route| match &route.access {
            Access::Open => None,
            Access::Need(rule) => Some(rule),
        });
        rules.chain(self.names.policies.values()).for_each(|rule| rule.walk(visit));
    }

    /// The routes, in the order given.
    #[must_use]
    pub fn routes(&self) -> &[Route] {
        &self.routes
    }
}

impl Route {
    /// The method.
    #[must_use]
    pub fn method(&self) -> &str {
        &self.method
    }

    /// The path pattern.
    #[must_use]
    pub fn path(&self) -> &str {
        &self.path
    }

    /// Whether the entry is for what a router's fallback gets, and for nothing that is routed.
    #[must_use]
    pub const fn is_fallback(&self) -> bool {
        self.is_fallback
    }

    /// What the route asks of its caller.
    #[must_use]
    pub const fn access(&self) -> &Access {
        &self.access
    }
}

impl RoleBook for Names {
    fn roles(&self) -> impl Iterator<Item = (&str, &BTreeSet<String>)> {
        self.roles.iter().map(|(role, includes)| (role.as_str(), includes))
    }

    fn policy(&self, name: &str) -> Option<&Rule> {
        self.policies.get(name)
    }
}

impl std::fmt::Debug for AccessPlan {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("AccessPlan")
            .field("roles", &self.names.order)
            .field("policies", &self.names.policies.keys())
            .field("routes", &self.routes)
            .finish()
    }
}
