//! Whether a rule holds for a caller and a request, and what is missing when it does not.

use std::borrow::Cow;
use std::cmp::Ordering;
use std::time::Duration;

use serde_json::{Number, Value};
use smallvec::SmallVec;

use super::tree::{Comparison, Operand, Rule};
use crate::claims::Claims;
use crate::credential::{Credential, Credentials};
use crate::finding::{quoted, quoted_list};
use crate::time::{Timestamp, spoken};

/// What the caller has to do to be let in after all: authenticate anew
/// ([RFC 9470](https://www.rfc-editor.org/rfc/rfc9470)).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct StepUp {
    /// At most this long ago.
    pub max_age: Option<Duration>,
    /// In one of these ways; empty if any will do.
    pub acr_values: Vec<String>,
}

/// A rule, or a part of one, for one caller and request: held or not, and by what.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Reason {
    /// The atom or policy as it is written, or `all of`, `one of`, `not` for what is put together from its parts.
    pub rule: String,
    /// Whether it holds; nothing as long as that hangs on a check that has not answered. Under a `not`, this is what the
    /// `not` turns round.
    pub held: Option<bool>,
    /// What the caller has of that which is asked for.
    pub seen: Option<String>,
    /// The parts, in the order written.
    pub parts: Vec<Reason>,
}

/// What a rule is decided by.
#[derive(Clone, Debug)]
pub(crate) struct Facts<'a> {
    /// The caller's checked claims.
    pub(crate) caller: &'a Claims,
    /// The kinds of credential that the request came with.
    pub(crate) credentials: Credentials,
    /// What the app's checks have answered so far.
    pub(crate) answers: &'a [(String, bool)],
    /// The path parameters, percent-decoded.
    pub(crate) path: SmallVec<[(&'a str, Cow<'a, str>); 4]>,
    /// When it is asked.
    pub(crate) now: Timestamp,
}

/// What a plan knows of roles and policies.
pub(crate) trait RoleBook {
    /// Whether the plan declares this role.
    fn is_declared(&self, role: &str) -> bool;
    /// Whether holding `held` is as good as holding `wanted`.
    fn includes(&self, held: &str, wanted: &str) -> bool;
    /// The rule of a policy.
    fn policy(&self, name: &str) -> Option<&Rule>;
}

/// Evaluates rules of one plan for one request.
pub(crate) struct Evaluator<'a, 'f, B> {
    pub(crate) book: &'a B,
    pub(crate) facts: &'a Facts<'f>,
    /// What if the caller authenticated anew, now and as asked: what that could bring about counts as held.
    pub(crate) signed_in_anew: bool,
}

impl<B: RoleBook> Evaluator<'_, '_, B> {
    /// Whether the rule holds, as far as can be told before a check has answered.
    fn holds(&self, rule: &Rule) -> bool {
        self.outcome(rule) == Some(true)
    }

    /// Whether the rule holds; nothing as long as that hangs on a check that has not answered.
    pub(crate) fn outcome(&self, rule: &Rule) -> Option<bool> {
        self.holds_under(rule, false)
    }

    /// The first check that has to answer before the rule's outcome can be told.
    pub(crate) fn open_check<'r>(&'r self, rule: &'r Rule) -> Option<&'r str> {
        self.open_check_under(rule, false)
    }

    fn open_check_under<'r>(&'r self, rule: &'r Rule, negated: bool) -> Option<&'r str> {
        // What is decided already asks nobody.
        if self.holds_under(rule, negated).is_some() {
            return None;
        }
        match rule {
            Rule::Check(name) => Some(name),
            Rule::Policy(name) => self.book.policy(name).and_then(|rule| self.open_check_under(rule, negated)),
            Rule::Not(inner) => self.open_check_under(inner, !negated),
            other => other.inner().iter().find_map(|part| self.open_check_under(part, negated)),
        }
    }

    fn answer(&self, check: &str) -> Option<bool> {
        self.facts.answers.iter().find(|(name, _)| name == check).map(|(_, answer)| *answer)
    }

    /// `negated` says that an odd number of `not` stands around the rule. It matters for roles alone: see
    /// [`has_role`](Self::has_role).
    fn holds_under(&self, rule: &Rule, negated: bool) -> Option<bool> {
        if self.signed_in_anew && !negated && asks_for_authentication(rule) {
            return Some(true);
        }
        Some(match rule {
            Rule::SignedIn => true,
            Rule::SignedInWithin(span) => self.authenticated_since(self.facts.now.before(*span)),
            Rule::Role(name) => self.has_role(name, negated),
            Rule::Scope(name) => self.facts.caller.has_scope(name),
            // A plan with an unknown policy is not built; if one were, the rule would fail on either side of a `not`.
            Rule::Policy(name) => match self.book.policy(name) {
                Some(rule) => return self.holds_under(rule, negated),
                None => negated,
            },
            Rule::Credential(kind) => self.facts.credentials.contains(*kind),
            Rule::Check(name) => return self.answer(name),
            Rule::Compare(left, comparison, right) => match (self.value(left), self.value(right)) {
                (Some(left), Some(right)) => compare(left, *comparison, right),
                _ => false,
            },
            Rule::In(operand, values) => {
                self.value(operand).is_some_and(|held| values.iter().any(|value| equal(held, Held::Json(value))))
            }
            Rule::Has(operand, value) => match self.value(operand) {
                Some(Held::Json(Value::Array(held))) => {
                    held.iter().any(|held| equal(Held::Json(held), Held::Json(value)))
                }
                _ => false,
            },
            Rule::Not(inner) => return self.holds_under(inner, !negated).map(|held| !held),
            Rule::All(rules) => return self.together(rules, negated, true),
            Rule::Any(rules) => return self.together(rules, negated, false),
        })
    }

    /// The outcome of several rules, of which each has to be `wanted`, or one has to be otherwise. One that decides is
    /// enough, so that a check is not asked where a claim settles the matter.
    fn together(&self, rules: &[Rule], negated: bool, wanted: bool) -> Option<bool> {
        let mut outcome = Some(wanted);
        for rule in rules {
            match self.holds_under(rule, negated) {
                Some(held) if held == wanted => {}
                None => outcome = None,
                decisive => return decisive,
            }
        }
        outcome
    }

    /// Under a `not`, a role that the plan does not declare counts as every role: nobody knows what it includes, and
    /// taking a role's line out of the plan must not let its holders in.
    fn has_role(&self, wanted: &str, negated: bool) -> bool {
        let caller = self.facts.caller;
        // No plan is built with a rule for a role that it does not declare, so the very role needs no look-up.
        caller.roles().any(|held| held == wanted)
            || caller.roles().any(|held| self.book.includes(held, wanted) || (negated && !self.book.is_declared(held)))
    }

    fn authenticated_since(&self, earliest: Timestamp) -> bool {
        self.facts.caller.authenticated_at().is_some_and(|at| at >= earliest)
    }

    fn value<'v>(&'v self, operand: &'v Operand) -> Option<Held<'v>> {
        match operand {
            Operand::Literal(value) => Some(Held::Json(value)),
            Operand::Subject => self.facts.caller.subject().map(Held::Text),
            Operand::Acr => self.facts.caller.acr().map(Held::Text),
            Operand::Path(name) => {
                let (_, value) = self.facts.path.iter().find(|(parameter, _)| parameter == name)?;
                Some(Held::Text(value))
            }
            Operand::Claim(names) => {
                let (first, rest) = names.split_first()?;
                let claim = self.facts.caller.own(first)?;
                rest.iter().try_fold(claim, |value, name| value.get(name)).map(Held::Json)
            }
        }
    }

    /// The parts of a rule that keep it from holding, in the words of the rule, and what the caller has instead.
    pub(crate) fn unmet(&self, rule: &Rule) -> Vec<String> {
        match rule {
            Rule::All(rules) => {
                rules.iter().filter(|rule| !self.holds(rule)).flat_map(|rule| self.unmet(rule)).collect()
            }
            Rule::Any(rules) => rules.iter().flat_map(|rule| self.unmet(rule)).collect(),
            Rule::Policy(name) => match self.book.policy(name) {
                Some(inner) => self.unmet(inner),
                None => vec![format!("policy {name}, which nobody defined")],
            },
            other => vec![match self.evidence(other) {
                Some(evidence) => format!("{other} (has {evidence})"),
                None => other.to_string(),
            }],
        }
    }

    /// What the caller has of that which an atom asks for; nothing for a rule that is no atom.
    fn evidence(&self, rule: &Rule) -> Option<String> {
        let operands: &[&Operand] = match rule {
            Rule::Role(_) => return Some(quoted_list(self.facts.caller.roles())),
            Rule::Scope(_) => return Some(quoted_list(self.facts.caller.scopes())),
            Rule::Credential(_) => {
                return Some(quoted_list(self.facts.credentials.iter().map(Credential::name)));
            }
            Rule::Check(name) => {
                return Some(self.answer(name).map_or("no answer", |yes| if yes { "yes" } else { "no" }).to_owned());
            }
            Rule::SignedInWithin(_) => {
                return Some(self.facts.caller.authenticated_at().map_or("no auth_time".to_owned(), |at| {
                    format!("auth_time {at}, {} ago", spoken(at.distance(self.facts.now)))
                }));
            }
            Rule::Compare(left, _, right) => &[left, right],
            Rule::In(operand, _) | Rule::Has(operand, _) => &[operand],
            _ => return None,
        };
        let seen: Vec<_> = operands.iter().filter_map(|operand| self.seen(operand)).collect();
        Some(seen.join(", "))
    }

    /// The rule with each part marked: held or not, and by what.
    pub(crate) fn reason(&self, rule: &Rule, negated: bool) -> Reason {
        let (words, parts, negated_inside) = match rule {
            Rule::All(rules) => ("all of".to_owned(), rules.as_slice(), negated),
            Rule::Any(rules) => ("one of".to_owned(), rules.as_slice(), negated),
            Rule::Not(inner) => ("not".to_owned(), std::slice::from_ref(&**inner), !negated),
            Rule::Policy(name) => {
                (rule.to_string(), self.book.policy(name).map_or(&[][..], std::slice::from_ref), negated)
            }
            atom => (atom.to_string(), &[][..], negated),
        };
        Reason {
            rule: words,
            held: self.holds_under(rule, negated),
            seen: self.evidence(rule),
            parts: parts.iter().map(|part| self.reason(part, negated_inside)).collect(),
        }
    }

    /// The value behind an operand as a log may show it; nothing for a literal, which the rule shows already.
    fn seen(&self, operand: &Operand) -> Option<String> {
        if matches!(operand, Operand::Literal(_)) {
            return None;
        }
        Some(match self.value(operand) {
            None => format!("no {operand}"),
            Some(Held::Json(Value::String(text))) => format!("{operand} {}", quoted(text)),
            Some(Held::Json(Value::Array(items))) => format!("{operand} with {} items", items.len()),
            Some(Held::Json(Value::Object(_))) => format!("{operand} as an object"),
            Some(Held::Json(plain)) => format!("{operand} {plain}"),
            Some(Held::Text(text)) => format!("{operand} {}", quoted(text)),
        })
    }

    /// How the caller would have to authenticate for the unmet parts of a rule to hold: how long ago at most, and in one
    /// of which ways.
    pub(crate) fn authentication<'r>(&'r self, rule: &'r Rule, step_up: &mut StepUp) {
        match rule {
            _ if self.holds(rule) => {}
            Rule::SignedInWithin(span) => {
                step_up.max_age = Some(step_up.max_age.map_or(*span, |other| other.min(*span)));
            }
            Rule::All(rules) | Rule::Any(rules) => {
                rules.iter().for_each(|rule| self.authentication(rule, step_up));
            }
            Rule::Policy(name) => {
                if let Some(rule) = self.book.policy(name) {
                    self.authentication(rule, step_up);
                }
            }
            other => {
                for value in acr_values(other) {
                    if !step_up.acr_values.iter().any(|known| known == value) {
                        step_up.acr_values.push(value.to_owned());
                    }
                }
            }
        }
    }

    /// The scopes that are missing where a scope is what the rule asks for, for the challenge of RFC 6750.
    pub(crate) fn missing_scopes<'r>(&'r self, rule: &'r Rule, missing: &mut Vec<&'r str>) {
        match rule {
            Rule::Scope(name) if !self.holds(rule) && !missing.contains(&name.as_str()) => missing.push(name),
            Rule::All(rules) => rules.iter().for_each(|rule| self.missing_scopes(rule, missing)),
            Rule::Policy(name) => {
                if let Some(rule) = self.book.policy(name) {
                    self.missing_scopes(rule, missing);
                }
            }
            _ => {}
        }
    }
}

/// Whether authenticating anew could bring the rule about.
fn asks_for_authentication(rule: &Rule) -> bool {
    match rule {
        Rule::SignedInWithin(_) => true,
        _ => !acr_values(rule).is_empty(),
    }
}

/// The values of `acr` of which the rule asks for one.
fn acr_values(rule: &Rule) -> Vec<&str> {
    match rule {
        Rule::Compare(Operand::Acr, Comparison::Equal, Operand::Literal(value))
        | Rule::Compare(Operand::Literal(value), Comparison::Equal, Operand::Acr) => {
            value.as_str().into_iter().collect()
        }
        Rule::In(Operand::Acr, values) => values.iter().filter_map(Value::as_str).collect(),
        _ => Vec::new(),
    }
}

/// A value that an operand stands for, where it is kept.
#[derive(Clone, Copy)]
pub(crate) enum Held<'v> {
    Json(&'v Value),
    Text(&'v str),
}

impl<'v> Held<'v> {
    fn text(self) -> Option<&'v str> {
        match self {
            Self::Text(text) => Some(text),
            Self::Json(value) => value.as_str(),
        }
    }

    const fn number(self) -> Option<&'v Number> {
        match self {
            Self::Json(Value::Number(number)) => Some(number),
            _ => None,
        }
    }

    fn boolean(self) -> Option<bool> {
        match self {
            Self::Json(value) => value.as_bool(),
            Self::Text(_) => None,
        }
    }
}

/// Whether two values compare so. Values of different types never do.
pub(crate) fn compare(left: Held<'_>, comparison: Comparison, right: Held<'_>) -> bool {
    match comparison {
        Comparison::Equal => equal(left, right),
        Comparison::Unequal => same_type(left, right) && !equal(left, right),
        _ => {
            let (Some(left), Some(right)) = (left.number(), right.number()) else { return false };
            match (comparison, order(left, right)) {
                (_, None) => false,
                (Comparison::Less, Some(order)) => order.is_lt(),
                (Comparison::AtMost, Some(order)) => order.is_le(),
                (Comparison::Greater, Some(order)) => order.is_gt(),
                (_, Some(order)) => order.is_ge(),
            }
        }
    }
}

fn equal(left: Held<'_>, right: Held<'_>) -> bool {
    if let (Some(left), Some(right)) = (left.number(), right.number()) {
        return order(left, right) == Some(Ordering::Equal);
    }
    let texts = left.text().zip(right.text()).is_some_and(|(left, right)| left == right);
    texts || left.boolean().zip(right.boolean()).is_some_and(|(left, right)| left == right)
}

fn same_type(left: Held<'_>, right: Held<'_>) -> bool {
    left.number().is_some() && right.number().is_some()
        || left.text().is_some() && right.text().is_some()
        || left.boolean().is_some() && right.boolean().is_some()
}

/// Whole numbers are compared exactly, which a double cannot do beyond 2^53.
fn order(left: &Number, right: &Number) -> Option<Ordering> {
    let whole = |number: &Number| number.as_i64().map(i128::from).or(number.as_u64().map(i128::from));
    match (whole(left), whole(right)) {
        (Some(left), Some(right)) => Some(left.cmp(&right)),
        _ => left.as_f64()?.partial_cmp(&right.as_f64()?),
    }
}
