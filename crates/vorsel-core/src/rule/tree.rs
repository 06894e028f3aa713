//! The rule as a tree, and the functions that put one together.

use std::time::Duration;

use serde_json::Value;

use crate::credential::Credential;

/// One boolean condition over the caller and the request.
///
/// Written in one line ([`Rule::parse`]) or put together from the functions beside this type:
///
/// ```
/// use vorsel_core::rule::{Rule, claim, role, scope};
///
/// let built = role("operator").and(scope("dome:move")).and(claim("training").at_least(2));
/// let read = Rule::parse("role operator and scope dome:move and claims.training >= 2")?;
/// assert_eq!(built, read);
/// # Ok::<(), vorsel_core::rule::RuleError>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Rule {
    /// Any caller whose token was accepted.
    SignedIn,
    /// The caller authenticated at most this long ago (`auth_time`). False if the token does not say when.
    SignedInWithin(Duration),
    /// The caller has this role, or one that includes it.
    Role(String),
    /// The token grants this scope.
    Scope(String),
    /// The rule of that name in the plan.
    Policy(String),
    /// The request came with a credential of this kind.
    Credential(Credential),
    /// The token was given to this client, or the client's API key came along.
    Client(String),
    /// The token comes from this issuer, `iss`.
    Issuer(String),
    /// The predicate of that name says yes: a function of the app's own, asked when the rule hangs on it.
    Predicate(String),
    /// A comparison of two values. It is false when either is missing or their types differ.
    Compare(Operand, Comparison, Operand),
    /// The value is one of these.
    In(Operand, Vec<Value>),
    /// The value is a list that holds this.
    Contains(Operand, Value),
    /// The inner rule does not hold.
    Not(Box<Rule>),
    /// Every inner rule holds.
    All(Vec<Rule>),
    /// At least one inner rule holds.
    Any(Vec<Rule>),
}

/// A value in a comparison.
///
/// ```
/// use vorsel_core::rule::{claim, path, subject};
///
/// assert_eq!(path("observer").equals(subject()).to_string(), "path.observer == sub");
/// assert_eq!(claim("risk").at_most(3).to_string(), "claims.risk <= 3");
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Operand {
    /// The caller's subject, `sub`: of our own people, unless the plan says otherwise. It is missing where the token is a
    /// client's own or another issuer's, since the same text may be somebody else's name there.
    Subject,
    /// How the caller authenticated, `acr`
    /// ([OpenID Connect Core section 2](https://openid.net/specs/openid-connect-core-1_0.html#IDToken)).
    Acr,
    /// A claim of the app's own, by the names on the way to it.
    Claim(Vec<String>),
    /// A parameter of the route's path, percent-decoded.
    Path(String),
    /// A string, a number or a boolean.
    Literal(Value),
}

/// How two values are compared. Order is for numbers only.
///
/// ```
/// use vorsel_core::rule::{Comparison, Operand, Rule};
///
/// let rule = Rule::parse("acr != \"low\"")?;
/// assert!(matches!(rule, Rule::Compare(Operand::Acr, Comparison::Unequal, _)));
/// # Ok::<(), vorsel_core::rule::RuleError>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Comparison {
    /// `==`
    Equal,
    /// `!=`
    Unequal,
    /// `<`
    Less,
    /// `<=`
    AtMost,
    /// `>`
    Greater,
    /// `>=`
    AtLeast,
}

/// Any caller whose token was accepted: `signed-in`.
#[must_use]
pub const fn signed_in() -> Rule {
    Rule::SignedIn
}

/// The caller authenticated at most this long ago: `signed-in within 10m`. Fractions of a second do not count.
#[must_use]
pub const fn signed_in_within(span: Duration) -> Rule {
    Rule::SignedInWithin(Duration::from_secs(span.as_secs()))
}

/// The caller has this role, or one that includes it: `role operator`.
#[must_use]
pub fn role(name: impl Into<String>) -> Rule {
    Rule::Role(name.into())
}

/// The token grants this scope: `scope dome:move`.
#[must_use]
pub fn scope(name: impl Into<String>) -> Rule {
    Rule::Scope(name.into())
}

/// The rule of that name in the plan: `policy night-crew`.
#[must_use]
pub fn policy(name: impl Into<String>) -> Rule {
    Rule::Policy(name.into())
}

/// The request came with a credential of this kind: `credential api-key`.
#[must_use]
pub const fn credential(kind: Credential) -> Rule {
    Rule::Credential(kind)
}

/// The token was given to this client, or the client's API key came along: `client desk`.
#[must_use]
pub fn client(id: impl Into<String>) -> Rule {
    Rule::Client(id.into())
}

/// The token comes from this issuer: `issuer https://id.skarnhill.test`.
#[must_use]
pub fn issuer(name: impl Into<String>) -> Rule {
    Rule::Issuer(name.into())
}

/// The app's own predicate of that name says yes: `predicate owns-exposure`.
#[must_use]
pub fn predicate(name: impl Into<String>) -> Rule {
    Rule::Predicate(name.into())
}

/// A claim of the app's own, nested names with a dot between them: `claims.training`.
#[must_use]
pub fn claim(path: &str) -> Operand {
    Operand::Claim(path.split('.').map(str::to_owned).collect())
}

/// A claim of the app's own by the names on the way to it, whatever stands in them: `claims."https://lab.skarnhill.test/roles"`.
#[must_use]
pub fn claim_at(names: impl IntoIterator<Item = impl Into<String>>) -> Operand {
    let mut names: Vec<String> = names.into_iter().map(Into::into).collect();
    // A claim without a name is one that nobody has.
    if names.is_empty() {
        names.push(String::new());
    }
    Operand::Claim(names)
}

/// A parameter of the route's path: `path.observer`.
#[must_use]
pub fn path(name: impl Into<String>) -> Operand {
    Operand::Path(name.into())
}

/// The caller's subject: `sub`.
#[must_use]
pub const fn subject() -> Operand {
    Operand::Subject
}

/// How the caller authenticated: `acr`.
#[must_use]
pub const fn acr() -> Operand {
    Operand::Acr
}

impl Rule {
    /// Both rules hold.
    #[must_use]
    pub fn and(self, other: Self) -> Self {
        let mut rules = match self {
            Self::All(rules) => rules,
            one => vec![one],
        };
        match other {
            Self::All(more) => rules.extend(more),
            one => rules.push(one),
        }
        Self::All(rules)
    }

    /// At least one of the rules holds.
    #[must_use]
    pub fn or(self, other: Self) -> Self {
        let mut rules = match self {
            Self::Any(rules) => rules,
            one => vec![one],
        };
        match other {
            Self::Any(more) => rules.extend(more),
            one => rules.push(one),
        }
        Self::Any(rules)
    }

    /// The rules directly inside this one.
    pub(crate) fn inner(&self) -> &[Self] {
        match self {
            Self::Not(inner) => std::slice::from_ref(inner),
            Self::All(rules) | Self::Any(rules) => rules,
            _ => &[],
        }
    }

    /// Visits this rule and every rule inside it.
    pub(crate) fn walk<'r>(&'r self, visit: &mut impl FnMut(&'r Self)) {
        visit(self);
        self.inner().iter().for_each(|rule| rule.walk(visit));
    }
}

impl std::ops::Not for Rule {
    type Output = Self;

    fn not(self) -> Self {
        Self::Not(Box::new(self))
    }
}

impl Operand {
    /// `==`
    #[must_use]
    pub fn equals(self, other: impl Into<Self>) -> Rule {
        Rule::Compare(self, Comparison::Equal, other.into())
    }

    /// `!=`
    #[must_use]
    pub fn differs_from(self, other: impl Into<Self>) -> Rule {
        Rule::Compare(self, Comparison::Unequal, other.into())
    }

    /// `<`
    #[must_use]
    pub fn less_than(self, other: impl Into<Self>) -> Rule {
        Rule::Compare(self, Comparison::Less, other.into())
    }

    /// `>`
    #[must_use]
    pub fn more_than(self, other: impl Into<Self>) -> Rule {
        Rule::Compare(self, Comparison::Greater, other.into())
    }

    /// `>=`
    #[must_use]
    pub fn at_least(self, other: impl Into<Self>) -> Rule {
        Rule::Compare(self, Comparison::AtLeast, other.into())
    }

    /// `<=`
    #[must_use]
    pub fn at_most(self, other: impl Into<Self>) -> Rule {
        Rule::Compare(self, Comparison::AtMost, other.into())
    }

    /// `in [..]`
    #[must_use]
    pub fn is_one_of(self, values: impl IntoIterator<Item = impl Into<Value>>) -> Rule {
        Rule::In(self, values.into_iter().map(Into::into).collect())
    }

    /// `contains ..`
    #[must_use]
    pub fn contains(self, value: impl Into<Value>) -> Rule {
        Rule::Contains(self, value.into())
    }
}

impl<V: Into<Value>> From<V> for Operand {
    fn from(value: V) -> Self {
        Self::Literal(value.into())
    }
}
