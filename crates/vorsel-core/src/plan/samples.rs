//! A few callers to try rules on before anybody is searched for: most rules let in one who has everything, and keep out one
//! who has nothing. What is found so is as exact as what a search finds, and costs each part of a plan once.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::Value;

use crate::rule::{Atom, Comparison, Formula, Held, Node, NormalForm, Operand, Rule, compare};
use crate::token::registered_bit;

/// The callers, and what is known of the parts of a plan's rules for each.
pub(super) struct Samples {
    callers: [Sample; 3],
    truths: [Vec<Option<bool>>; 3],
    roles: Vec<String>,
}

/// Somebody with every role, scope and yes of a predicate, who signed in just now, or with none of that.
struct Sample {
    has_all: bool,
    claims: BTreeMap<Vec<String>, Value>,
}

impl Samples {
    /// Callers for these rules, of a plan that declares these roles.
    pub(super) fn of<'r>(rules: impl Iterator<Item = &'r Rule>, roles: Vec<String>) -> Self {
        let (highest, lowest) = claims(rules);
        let sample = |has_all, claims| Sample { has_all, claims };
        let callers = [sample(true, highest), sample(true, lowest), sample(false, BTreeMap::new())];
        Self { callers, truths: [const { Vec::new() }; 3], roles }
    }

    /// Whether one of them makes the formula true, or false.
    pub(super) fn any(&mut self, formula: Formula, wanted: bool, form: &NormalForm) -> bool {
        let Self { callers, truths, roles } = self;
        callers.iter().zip(truths).any(|(caller, truths)| {
            for number in truths.len()..=formula.number() {
                let of = |part: &Formula| truths[part.number()];
                truths.push(match form.formulas.node(Formula::numbered(number)) {
                    Node::Always(value) => Some(*value),
                    Node::Is(atom, wanted) => caller.fulfils(&form.atoms[*atom], roles).map(|is| is == *wanted),
                    Node::All(parts) => decided(parts.iter().map(of), false),
                    Node::Any(parts) => decided(parts.iter().map(of), true),
                });
            }
            truths[formula.number()] == Some(wanted)
        })
    }
}

/// What a list comes to in which one part that is `decisive` decides.
fn decided(parts: impl Iterator<Item = Option<bool>>, decisive: bool) -> Option<bool> {
    let mut all = Some(!decisive);
    for part in parts {
        match part {
            Some(part) if part == decisive => return Some(decisive),
            Some(_) => {}
            None => all = None,
        }
    }
    all
}

impl Sample {
    /// Nothing for an atom that is about more than this caller tells.
    fn fulfils(&self, atom: &Atom, roles: &[String]) -> Option<bool> {
        let claim = |names: &[String]| {
            // Claims without a name, and registered ones, are mistakes of their own.
            if names.first().is_none_or(|name| registered_bit(name) != 0) {
                return None;
            }
            // Who has nothing lacks the claim, and so does nobody else.
            if self.has_all { self.claims.get(names).map(Some) } else { Some(None) }
        };
        match &atom.rule {
            Rule::Role(_) => Some(
                self.has_all && atom.holders.as_ref().is_some_and(|holders| roles.iter().any(|role| holders.has(role))),
            ),
            Rule::Scope(_) | Rule::Predicate(_) | Rule::SignedInWithin(_) => Some(self.has_all),
            Rule::Compare(Operand::Claim(names), comparison, Operand::Literal(literal)) => {
                let held = claim(names)?;
                Some(held.is_some_and(|held| compare(Held::Json(held), *comparison, Held::Json(literal))))
            }
            Rule::In(Operand::Claim(names), values) => {
                let same = |held: &Value, value| compare(Held::Json(held), Comparison::Equal, Held::Json(value));
                let held = claim(names)?;
                Some(held.is_some_and(|held| values.iter().any(|value| same(held, value))))
            }
            Rule::Contains(Operand::Claim(names), _) => claim(names).and_then(|held| held.is_none().then_some(false)),
            _ => None,
        }
    }
}

type Claims = BTreeMap<Vec<String>, Value>;

/// A high and a low value for each claim that is compared with literals, and that is no list and has no members.
fn claims<'r>(rules: impl Iterator<Item = &'r Rule>) -> (Claims, Claims) {
    let mut literals: BTreeMap<&[String], Vec<&Value>> = BTreeMap::new();
    let mut other: BTreeSet<&[String]> = BTreeSet::new();
    for rule in rules {
        rule.walk(&mut |rule| match rule {
            Rule::Compare(Operand::Claim(names), _, Operand::Literal(literal)) => {
                literals.entry(names).or_default().push(literal);
            }
            Rule::In(Operand::Claim(names), values) => literals.entry(names).or_default().extend(values),
            Rule::Compare(left, _, right) => {
                for operand in [left, right] {
                    if let Operand::Claim(names) = operand {
                        other.insert(names);
                    }
                }
            }
            Rule::Contains(Operand::Claim(names), _) => drop(other.insert(names)),
            _ => {}
        });
    }
    let all: BTreeSet<&[String]> = literals.keys().copied().chain(other.iter().copied()).collect();
    // What lies in another name follows it in this order.
    let mut nested: BTreeSet<&[String]> = BTreeSet::new();
    let mut outer: Option<&[String]> = None;
    for names in all {
        match outer.filter(|outer| names.starts_with(outer)) {
            Some(outer) => nested.extend([outer, names]),
            None => outer = Some(names),
        }
    }
    let (mut highest, mut lowest) = (BTreeMap::new(), BTreeMap::new());
    for (names, literals) in literals {
        let ([first, ..], false) = (literals.as_slice(), nested.contains(names) || other.contains(names)) else {
            continue;
        };
        let numbers = || literals.iter().filter_map(|literal| literal.as_i64());
        let (high, low) = match (numbers().max(), numbers().min()) {
            (Some(high), Some(low)) => (high.saturating_add(1).into(), low.saturating_sub(1).into()),
            _ => ((*first).clone(), literals[literals.len() - 1].clone()),
        };
        highest.insert(names.to_vec(), high);
        lowest.insert(names.to_vec(), low);
    }
    (highest, lowest)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plan::AccessPlan;

    /// What a sample says the search says too; what it leaves open is for the search.
    #[test]
    fn samples_say_nothing_that_a_search_would_not() {
        for (rule, holds, fails) in [
            ("scope a and role observer", true, true),
            ("not scope a", true, true),
            ("scope a or not scope a", true, false),
            ("scope a and not scope a", false, true),
            ("not role observer and role director", false, true),
            ("role observer and not scope a", false, true),
            ("claims.training >= 3 and claims.training > 7", true, true),
            ("claims.training >= 3 and claims.training < 7", false, true),
            ("claims.training < 3", true, true),
            ("not claims.training < 3", true, true),
            ("claims.shift == \"dusk\" and claims.shift in [\"dawn\", \"dusk\"]", true, true),
            ("claims.a contains 1 and scope a", false, true),
            ("claims.a == 1 and claims.a.b == 2", false, true),
            ("sub == \"obs-0017\" or scope a", true, false),
            ("signed-in within 10m", true, true),
            ("claims.level == 9007199254740993", false, true),
        ] {
            let rule = Rule::parse(rule).expect("a rule");
            let plan = AccessPlan::builder().role("observer", &[]).role("director", &["observer"]);
            let plan = plan.open("GET", "/").build();
            let mut plan = plan.expect("a plan");
            let formula = plan.form.rule(&rule, true, &plan.names);
            let roles = plan.names.roles.keys().cloned().collect();
            let mut samples = Samples::of([&rule].into_iter(), roles);
            let found = [true, false].map(|wanted| samples.any(formula, wanted, &plan.form));
            assert_eq!(found, [holds, fails], "{rule}");
            let purse = plan.budget.begin();
            assert!(!holds || plan.can_hold(formula, None, &purse) == Some(true), "{rule}");
            assert!(!fails || plan.can_fail(formula, None, &purse) == Some(true), "{rule}");
        }
    }
}
