//! What reads like a rule and cannot be meant: rules that nobody fulfils or everybody does, and names without a use.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::Value;

use super::draft::{DraftRoute, DraftRule, PlanBuilder};
use super::exact::Purse;
use super::mistake::Span;
use super::pattern::PathPattern;
use super::samples::Samples;
use super::table::AccessPlan;
use crate::rule::{Comparison, Formula, Operand, Rule, is_huge};
use crate::token::registered_bit;

/// What a value is, as far as the rule alone says.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Type {
    Text,
    Number,
    Boolean,
}

impl Type {
    const fn words(self) -> &'static str {
        match self {
            Self::Text => "text",
            Self::Number => "a number",
            Self::Boolean => "true or false",
        }
    }

    const fn of(value: &Value) -> Option<Self> {
        match value {
            Value::String(_) => Some(Self::Text),
            Value::Number(_) => Some(Self::Number),
            Value::Bool(_) => Some(Self::Boolean),
            _ => None,
        }
    }

    const fn of_operand(operand: &Operand) -> Option<Self> {
        match operand {
            Operand::Subject | Operand::Acr | Operand::Path(_) => Some(Self::Text),
            Operand::Literal(value) => Self::of(value),
            Operand::Claim(_) => None,
        }
    }
}

/// The comparisons in a rule that cannot hold because of what is compared, each with the words that it is found by.
pub(super) fn misfits(rule: &Rule) -> Vec<(String, String)> {
    let mut wrong = Vec::new();
    rule.walk(&mut |rule| {
        let operands: &[&Operand] = match rule {
            Rule::Compare(left, _, right) => &[left, right],
            Rule::In(operand, _) | Rule::Contains(operand, _) => &[operand],
            _ => &[],
        };
        for operand in operands {
            let Operand::Claim(names) = operand else { continue };
            match names.first() {
                Some(first) if names.iter().all(|name| !name.is_empty()) => {
                    if registered_bit(first) != 0 {
                        wrong.push((operand.to_string(), registered(first)));
                    }
                }
                _ => wrong.push((operand.to_string(), "expected the name of a claim, but found none".to_owned())),
            }
        }
        let listed: &[Value] = match rule {
            Rule::In(_, values) => values,
            Rule::Contains(_, value) => std::slice::from_ref(value),
            _ => &[],
        };
        let compared = operands.iter().filter_map(|operand| match operand {
            Operand::Literal(value) => Some(value),
            _ => None,
        });
        for number in listed.iter().chain(compared).filter(|value| is_huge(value)) {
            wrong.push((number.to_string(), format!("expected a number of at most 64 bits, but found {number}")));
        }
        match rule {
            Rule::Compare(left, Comparison::Equal | Comparison::Unequal, right) => {
                if let (Some(one), Some(other)) = (Type::of_operand(left), Type::of_operand(right))
                    && one != other
                {
                    let (one, other) = (one.words(), other.words());
                    wrong.push((
                        left.to_string(),
                        format!("{left} is {one} and {right} is {other}, so {rule} never holds"),
                    ));
                }
            }
            Rule::Compare(left, comparison, right) => {
                let unordered = |operand: &&Operand| Type::of_operand(operand).is_some_and(|of| of != Type::Number);
                if let Some(operand) = [left, right].into_iter().find(unordered) {
                    let is = Type::of_operand(operand).map_or("", Type::words);
                    let message = format!("{comparison} compares numbers, but {operand} is {is}");
                    wrong.push((operand.to_string(), message));
                }
            }
            Rule::In(operand, values) => {
                let of = Type::of_operand(operand);
                let other = values.iter().find(|value| of.is_some() && Type::of(value) != of);
                if let (Some(of), Some(value)) = (of, other) {
                    wrong.push((value.to_string(), format!("{operand} is {}, so it is never {value}", of.words())));
                }
            }
            Rule::Contains(operand, _) if !matches!(operand, Operand::Claim(_)) => {
                let message = format!("\"contains\" looks into a list, but {operand} is not a list; write == or in");
                wrong.push((operand.to_string(), message));
            }
            _ => {}
        }
    });
    wrong
}

fn registered(name: &str) -> String {
    let instead = match name {
        "sub" | "acr" => format!("; write {name}"),
        "roles" => "; write role and the role".to_owned(),
        "scope" => "; write scope and the scope".to_owned(),
        "auth_time" => "; write signed-in within and a duration".to_owned(),
        "client_id" => "; write client and the client's ID".to_owned(),
        "iss" => "; write issuer and the issuer".to_owned(),
        _ => String::new(),
    };
    format!("claims.{name} is no claim of the app's own{instead}")
}

/// Looks at the rules of a plan that have no other mistake in them.
pub(super) struct Linter<'a> {
    pub(super) draft: &'a PlanBuilder,
    /// Rules are looked at in its normal form, to which their parts are added.
    pub(super) plan: AccessPlan,
    /// Policies that cannot be looked into: unknown ones, and those that have mistakes.
    pub(super) unsound: &'a BTreeSet<String>,
    /// Callers that are tried before any is searched for.
    pub(super) samples: Samples,
    /// How much work there may still be.
    pub(super) purse: Purse,
    pub(super) mistakes: Vec<(Span, String)>,
    pub(super) warnings: Vec<(Span, String)>,
}

impl Linter<'_> {
    /// A rule that is true for nobody is a mistake; one that asks for something and is true for everybody who is signed
    /// in is worth a warning, and so is a part of an `or` that is true for nobody.
    pub(super) fn rule(&mut self, rule: &DraftRule, path: Option<&str>) {
        let (tree, span) = (&rule.rule, &rule.span);
        if self.reaches_unsound(tree) {
            return;
        }
        let formula = self.formula(tree);
        match self.can_hold(formula, path) {
            Some(true) => {}
            Some(false) => {
                self.mistakes.push((span.clone(), format!("nobody can ever fulfil {tree}")));
                return;
            }
            None => {
                let message =
                    format!("not settled whether anybody can fulfil {tree}: that takes more than the plan's budget");
                self.warnings.push((span.clone(), message));
                return;
            }
        }
        let is_kept_from_some =
            self.samples.any(formula, false, &self.plan.form) && path.is_none_or(|path| self.plan.takes_any(path));
        if !is_kept_from_some
            && self.asks_for_something(tree)
            && self.plan.can_fail(formula, path, &self.purse) == Some(false)
        {
            let message = format!("every signed-in caller fulfils {tree}; write signed-in if that is meant");
            self.warnings.push((span.clone(), message));
        }
        let mut parts = Vec::new();
        tree.walk(&mut |part| {
            if let Rule::Any(inner) = part {
                parts.extend(inner);
            }
        });
        for part in parts {
            let formula = self.formula(part);
            if self.can_hold(formula, path) == Some(false) {
                self.warnings.push((span.clone(), format!("nobody can ever fulfil the part {part}")));
            }
        }
    }

    fn can_hold(&mut self, formula: Formula, path: Option<&str>) -> Option<bool> {
        if self.samples.any(formula, true, &self.plan.form) && path.is_none_or(|path| self.plan.takes_any(path)) {
            return Some(true);
        }
        self.plan.can_hold(formula, path, &self.purse)
    }

    /// How deep lists of rules lie inside each other in it.
    pub(super) fn depth(&mut self, rule: &DraftRule) -> u32 {
        let formula = self.formula(&rule.rule);
        self.plan.form.formulas.depth(formula)
    }

    fn formula(&mut self, rule: &Rule) -> Formula {
        self.plan.form.rule(rule, true, &self.plan.names)
    }

    fn asks_for_something(&self, rule: &Rule) -> bool {
        let (mut asks, mut open, mut seen) = (false, vec![rule], BTreeSet::new());
        while let Some(next) = open.pop() {
            next.walk(&mut |rule| match rule {
                Rule::SignedIn | Rule::All(_) | Rule::Any(_) | Rule::Not(_) => {}
                Rule::Policy(name) => {
                    open.extend(self.plan.policy_of(name).filter(|_| seen.insert(name.as_str())));
                }
                _ => asks = true,
            });
        }
        asks
    }

    fn reaches_unsound(&self, rule: &Rule) -> bool {
        let mut reached = false;
        rule.walk(&mut |rule| {
            if let Rule::Policy(name) = rule {
                reached |= self.unsound.contains(name) || self.plan.policy_of(name).is_none();
            }
        });
        reached
    }

    /// Open routes that take what lies behind guarded ones: a slash too many, and a request goes by the open one.
    pub(super) fn open_over_guarded(&mut self) {
        const MOST: usize = 3;
        for open in self.draft.routes.iter().filter(|route| route.need.is_none() && !route.is_fallback) {
            let behind = |guarded: &&DraftRoute| {
                let path = format!("{}/", PathPattern::read(&guarded.path.name).example());
                let entry = self.plan.route_of(&guarded.method.name, &path);
                entry.is_some_and(|entry| (entry.method(), entry.path()) == (&*open.method.name, &*open.path.name))
            };
            let guarded: Vec<_> =
                self.draft.routes.iter().filter(|route| route.need.is_some()).filter(behind).collect();
            if let Some(first) = guarded.first() {
                let paths: Vec<_> = guarded.iter().take(MOST).map(|route| route.path.name.as_str()).collect();
                let more =
                    if guarded.len() > MOST { format!(" and {} more", guarded.len() - MOST) } else { String::new() };
                let message = format!(
                    "{} {} is open and lies over guarded paths: {}/ goes by it ({}{more}); give what is open a path of its own",
                    open.method.name,
                    open.path.name,
                    first.path.name,
                    paths.join(", "),
                );
                self.warnings.push((open.path.span.clone(), message));
            }
        }
    }

    /// Parameters as other routers write them, which are taken as they stand here.
    pub(super) fn foreign_parameters(&mut self) {
        for route in &self.draft.routes {
            let path = &route.path;
            if let Some(part) =
                path.name.split('/').find(|part| part.len() > 1 && part.starts_with([':', '<', '$', '*']))
            {
                let name = part.trim_matches([':', '<', '>', '$', '*']);
                let message = format!("{part} in {} is a fixed text; a parameter is written {{{name}}}", path.name);
                self.warnings.push((path.span.clone(), message));
            }
        }
    }

    /// Definitions that make no difference to any route.
    pub(super) fn unused(&mut self) {
        let draft = self.draft;
        let mut used = Names::default();
        let rules = || draft.routes.iter().filter_map(|route| route.need.as_ref());
        rules().for_each(|need| used.take(&self.plan, &need.rule));
        for (role, _) in &draft.roles {
            let good_as = self.plan.names.roles.get(&role.name);
            if good_as.is_some_and(|good_as| good_as.is_disjoint(&used.roles)) {
                self.warnings.push((role.span.clone(), format!("no route asks for the role {:?}", role.name)));
            }
        }
        let others = [
            ("policy", draft.policies.iter().map(|(policy, _)| policy).collect::<Vec<_>>(), &used.policies),
            ("scope", draft.scopes.iter().collect(), &used.scopes),
            ("predicate", draft.predicates.iter().collect(), &used.predicates),
        ];
        for (what, declared, used) in others {
            for name in declared.into_iter().filter(|name| !used.contains(&name.name)) {
                self.warnings.push((name.span.clone(), format!("no route asks for the {what} {:?}", name.name)));
            }
        }
    }

    /// Claims that one rule takes for a number and another for text.
    pub(super) fn claim_types(&mut self) {
        let mut seen: BTreeMap<String, Type> = BTreeMap::new();
        let draft = self.draft;
        let policies = draft.policies.iter().map(|(_, rule)| rule);
        for rule in policies.chain(draft.routes.iter().filter_map(|route| route.need.as_ref())) {
            let mut clashes = Vec::new();
            rule.rule.walk(&mut |atom| {
                let Some((claim, is)) = claim_type(atom) else { return };
                let was = *seen.entry(claim.clone()).or_insert(is);
                if was != is {
                    clashes.push((claim, was, is));
                }
            });
            for (claim, was, is) in clashes {
                let (was, is) = (was.words(), is.words());
                let message = format!("{claim} is compared with {is} here and with {was} in an earlier rule");
                self.warnings.push((draft.place_of(&claim, &rule.span), message));
            }
        }
    }
}

/// The claim that an atom compares with a literal, and what it takes the claim for.
fn claim_type(atom: &Rule) -> Option<(String, Type)> {
    let (claim, is) = match atom {
        Rule::Compare(claim @ Operand::Claim(_), _, other) | Rule::Compare(other, _, claim @ Operand::Claim(_)) => {
            (claim, Type::of_operand(other)?)
        }
        Rule::In(claim @ Operand::Claim(_), values) => (claim, Type::of(values.first()?)?),
        _ => return None,
    };
    Some((claim.to_string(), is))
}

/// The names that rules use, those in their policies included.
#[derive(Default)]
struct Names {
    roles: BTreeSet<String>,
    scopes: BTreeSet<String>,
    policies: BTreeSet<String>,
    predicates: BTreeSet<String>,
}

impl Names {
    fn take(&mut self, plan: &AccessPlan, rule: &Rule) {
        rule.walk(&mut |rule| match rule {
            Rule::Role(name) => drop(self.roles.insert(name.clone())),
            Rule::Scope(name) => drop(self.scopes.insert(name.clone())),
            Rule::Predicate(name) => drop(self.predicates.insert(name.clone())),
            Rule::Policy(name) => {
                if self.policies.insert(name.clone())
                    && let Some(rule) = plan.policy_of(name)
                {
                    self.take(plan, rule);
                }
            }
            _ => {}
        });
    }
}
