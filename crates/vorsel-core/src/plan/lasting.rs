//! Which rules hang on the caller's claims alone: once such a rule holds for a token, it holds for as long as the token
//! is accepted.

use super::table::{Access, AccessPlan};
use crate::fulfilled::{Mark, Marks};
use crate::rule::{Operand, Rule};

/// The mark of each route's rule, the same one for the same rule. Not for a plan with mistakes: policies that ask for
/// themselves would be followed without end.
pub(super) fn marks(plan: &AccessPlan) -> Vec<Option<Mark>> {
    let mut marks = Marks::new();
    let mut given: Vec<(&Rule, Option<Mark>)> = Vec::new();
    let mut of_routes = Vec::with_capacity(plan.routes.len());
    for route in &plan.routes {
        let rule = match &route.access {
            Access::Need(rule) if is_lasting(rule, plan) => rule,
            _ => {
                of_routes.push(None);
                continue;
            }
        };
        let known = given.iter().find(|(other, _)| *other == rule).map(|(_, mark)| *mark);
        let mark = known.unwrap_or_else(|| {
            let mark = marks.next();
            given.push((rule, mark));
            mark
        });
        of_routes.push(mark);
    }
    of_routes
}

/// Says nothing of a new kind of rule by itself: whoever adds one has to decide.
fn is_lasting(rule: &Rule, plan: &AccessPlan) -> bool {
    match rule {
        Rule::SignedIn | Rule::Role(_) | Rule::Scope(_) => true,
        Rule::SignedInWithin(_) | Rule::Credential(_) | Rule::Check(_) => false,
        Rule::Policy(name) => plan.policy_of(name).is_some_and(|rule| is_lasting(rule, plan)),
        Rule::Compare(left, _, right) => is_of_claims(left) && is_of_claims(right),
        Rule::In(operand, _) | Rule::Has(operand, _) => is_of_claims(operand),
        Rule::Not(inner) => is_lasting(inner, plan),
        Rule::All(rules) | Rule::Any(rules) => rules.iter().all(|rule| is_lasting(rule, plan)),
    }
}

const fn is_of_claims(operand: &Operand) -> bool {
    match operand {
        Operand::Subject | Operand::Acr | Operand::Claim(_) | Operand::Literal(_) => true,
        Operand::Path(_) => false,
    }
}
