//! Rules of one or several plans, translated into one formula over what can be known of a caller and a path.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Value, json};

use super::formula::Formula;
use super::values;
use crate::claims::registered_bit;
use crate::credential::Credential;
use crate::plan::AccessPlan;
use crate::rule::{Comparison, Held, Operand, RoleBook, Rule, compare};

/// Something about a caller or a path that rules ask for.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(in crate::plan) enum Thing {
    /// Whether the caller has a role.
    Role(String),
    /// Whether the token grants a scope.
    Scope(String),
    /// What an app's check answers.
    Check(String),
    /// Which credentials the request came with: the bits of their places in [`Credential::ALL`].
    Credentials,
    /// How many seconds ago the caller authenticated.
    SignedInAgo,
    /// `sub`.
    Subject,
    /// `acr`.
    Acr,
    /// A claim that is no list and no object.
    Claim(Vec<String>),
    /// Whether a claim is a list that holds a value, written as JSON.
    ListHolds(Vec<String>, String),
    /// A variable part of the path, counted from the front.
    Segment(usize),
    /// A path parameter of a rule that is not looked at together with a route.
    Parameter(String),
}

/// A value as an atom sees it.
#[derive(Clone, Debug, PartialEq)]
pub(in crate::plan) enum Term {
    Literal(Value),
    Variable(usize),
    /// A text put together; missing if a part of it is.
    Joined(Vec<Piece>),
    /// What no caller has.
    Nothing,
}

#[derive(Clone, Debug, PartialEq)]
pub(in crate::plan) enum Piece {
    Text(String),
    /// In the shape of a path the number of the variable part; in an atom the number of the variable.
    Variable(usize),
}

#[derive(Clone, Debug, PartialEq)]
pub(super) enum Atom {
    /// The variable is true.
    Flag(usize),
    /// The credentials have this one.
    Credential(usize, Credential),
    /// So many seconds ago at most.
    Within(usize, u64),
    Compare(Term, Comparison, Term),
    OneOf(Term, Vec<Value>),
    /// Not both of them are there: a claim that is a list is not a number as well.
    Apart(usize, usize),
}

/// Which roles the caller holds.
#[derive(Clone, Copy, Debug)]
pub(in crate::plan) enum Holding<'h> {
    /// Any.
    Any,
    /// Exactly these.
    Exactly(&'h [&'h str]),
}

/// Where the path parameters of a route come from.
pub(in crate::plan) type Binding = BTreeMap<String, Vec<Piece>>;

/// The variables and atoms of the rules at hand.
#[derive(Debug)]
pub(in crate::plan) struct Model {
    /// Every role that a plan declares, and, unless they are left out, one that stands for those that none does.
    roles: BTreeSet<String>,
    things: Vec<Thing>,
    atoms: Vec<Atom>,
}

impl Model {
    pub(in crate::plan) fn new(plans: &[&AccessPlan]) -> Self {
        let mut model = Self::with_declared_roles(plans);
        let mut stranger = "stranger".to_owned();
        while model.roles.contains(&stranger) {
            stranger.push_str("-2");
        }
        model.roles.insert(stranger);
        model
    }

    /// A model that leaves callers out who hold a role that no plan declares.
    pub(in crate::plan) fn with_declared_roles(plans: &[&AccessPlan]) -> Self {
        let roles = plans.iter().flat_map(|plan| plan.roles.0.keys().cloned()).collect();
        Self { roles, things: Vec::new(), atoms: Vec::new() }
    }

    /// The formula for a rule that holds, or for one that does not.
    pub(in crate::plan) fn rule(
        &mut self,
        plan: &AccessPlan,
        rule: &Rule,
        holds: bool,
        holding: Holding<'_>,
        binding: Option<&Binding>,
    ) -> Formula {
        Translation { model: self, plan, holding, binding }.rule(rule, false, holds)
    }

    pub(super) fn things(&self) -> &[Thing] {
        &self.things
    }

    pub(super) fn variables_of(&self, atom: usize) -> Vec<usize> {
        fn of(term: &Term) -> Vec<usize> {
            match term {
                Term::Variable(variable) => vec![*variable],
                Term::Joined(pieces) => pieces.iter().filter_map(Piece::variable).collect(),
                Term::Literal(_) | Term::Nothing => Vec::new(),
            }
        }
        match &self.atoms[atom] {
            Atom::Flag(variable) | Atom::Credential(variable, _) | Atom::Within(variable, _) => vec![*variable],
            Atom::Compare(left, _, right) => [of(left), of(right)].concat(),
            Atom::OneOf(term, _) => of(term),
            Atom::Apart(one, other) => vec![*one, *other],
        }
    }

    /// Whether an atom is true, as far as can be told from the variables that have a value.
    pub(super) fn truth<'v>(&'v self, atom: usize, value: impl Fn(usize) -> Option<Option<&'v Value>>) -> Option<bool> {
        match &self.atoms[atom] {
            Atom::Flag(variable) => Some(value(*variable)? == Some(&Value::Bool(true))),
            Atom::Credential(variable, kind) => {
                Some(value(*variable)?.and_then(Value::as_u64)? & 1 << *kind as u8 != 0)
            }
            Atom::Within(variable, seconds) => {
                Some(value(*variable)?.and_then(Value::as_u64).is_some_and(|ago| ago <= *seconds))
            }
            Atom::Compare(left, comparison, right) => {
                match (resolve(left, &value), resolve(right, &value)) {
                    // One that is missing settles the matter.
                    (Some(None), _) | (_, Some(None)) => Some(false),
                    (Some(Some(left)), Some(Some(right))) => {
                        Some(compare(Held::Json(&left), *comparison, Held::Json(&right)))
                    }
                    _ => None,
                }
            }
            Atom::OneOf(term, values) => {
                let held = resolve(term, &value)?;
                let same = |held: &Value, one: &Value| compare(Held::Json(held), Comparison::Equal, Held::Json(one));
                Some(held.is_some_and(|held| values.iter().any(|one| same(&held, one))))
            }
            Atom::Apart(one, other) => {
                let there = |variable: usize| {
                    let is_flag = matches!(self.things[variable], Thing::ListHolds(..));
                    value(variable).map(|value| value.is_some() && !(is_flag && value == Some(&Value::Bool(false))))
                };
                match (there(*one), there(*other)) {
                    (Some(false), _) | (_, Some(false)) => Some(true),
                    (Some(true), Some(true)) => Some(false),
                    _ => None,
                }
            }
        }
    }

    /// What keeps values from contradicting each other.
    pub(super) fn constraints(&self) -> Formula {
        Formula::all(
            self.atoms
                .iter()
                .enumerate()
                .filter(|(_, atom)| matches!(atom, Atom::Apart(..)))
                .map(|(at, _)| Formula::Is(at, true)),
        )
    }

    /// The values worth trying for each variable.
    pub(super) fn domains(&self) -> Vec<Vec<Option<Value>>> {
        values::domains(&self.things, &self.atoms)
    }

    fn variable(&mut self, thing: Thing) -> usize {
        if let Some(known) = self.things.iter().position(|known| *known == thing) {
            return known;
        }
        let new = self.things.len();
        let clashing: Vec<_> = (0..new).filter(|other| clash(&self.things[*other], &thing)).collect();
        self.things.push(thing);
        for other in clashing {
            self.atoms.push(Atom::Apart(other, new));
        }
        new
    }

    fn atom(&mut self, atom: Atom) -> usize {
        self.atoms.iter().position(|known| *known == atom).unwrap_or_else(|| {
            self.atoms.push(atom);
            self.atoms.len() - 1
        })
    }

    fn flag(&mut self, thing: Thing) -> usize {
        let variable = self.variable(thing);
        self.atom(Atom::Flag(variable))
    }
}

/// Whether no claim can be both: a value with members of its own, or a list that is a plain value.
fn clash(one: &Thing, other: &Thing) -> bool {
    let parts = |thing: &Thing| match thing {
        Thing::Claim(names) => Some((names.clone(), false)),
        Thing::ListHolds(names, _) => Some((names.clone(), true)),
        _ => None,
    };
    let (Some((one, one_is_list)), Some((other, other_is_list))) = (parts(one), parts(other)) else { return false };
    if one == other {
        return one_is_list != other_is_list;
    }
    one.starts_with(&other) || other.starts_with(&one)
}

fn resolve<'v>(term: &Term, value: &impl Fn(usize) -> Option<Option<&'v Value>>) -> Option<Option<Value>> {
    match term {
        Term::Literal(literal) => Some(Some(literal.clone())),
        Term::Nothing => Some(None),
        Term::Variable(variable) => value(*variable).map(Option::<&Value>::cloned),
        Term::Joined(pieces) => {
            let mut text = String::new();
            for piece in pieces {
                match piece {
                    Piece::Text(part) => text.push_str(part),
                    Piece::Variable(variable) => match value(*variable)?.and_then(Value::as_str) {
                        Some(part) => text.push_str(part),
                        None => return Some(None),
                    },
                }
            }
            Some(Some(Value::String(text)))
        }
    }
}

impl Piece {
    pub(super) fn variable(&self) -> Option<usize> {
        match self {
            Self::Variable(variable) => Some(*variable),
            Self::Text(_) => None,
        }
    }
}

struct Translation<'t> {
    model: &'t mut Model,
    plan: &'t AccessPlan,
    holding: Holding<'t>,
    binding: Option<&'t Binding>,
}

impl Translation<'_> {
    /// `negated` says that an odd number of `not` stands around the rule, which matters for roles; `holds` what the
    /// formula is to say of it.
    fn rule(&mut self, rule: &Rule, negated: bool, holds: bool) -> Formula {
        let atom = match rule {
            Rule::SignedIn => return Formula::Always(holds),
            Rule::Role(name) => return self.role(name, negated, holds),
            Rule::Policy(name) => {
                return match self.plan.policy(name) {
                    Some(rule) => self.rule(rule, negated, holds),
                    None => Formula::Always(negated == holds),
                };
            }
            Rule::Not(inner) => return self.rule(inner, !negated, !holds),
            Rule::All(rules) | Rule::Any(rules) => {
                let parts: Vec<_> = rules.iter().map(|rule| self.rule(rule, negated, holds)).collect();
                let is_all = matches!(rule, Rule::All(_));
                return if is_all == holds { Formula::all(parts) } else { Formula::any(parts) };
            }
            Rule::Scope(name) => self.model.flag(Thing::Scope(name.clone())),
            Rule::Check(name) => self.model.flag(Thing::Check(name.clone())),
            Rule::Credential(kind) => {
                let variable = self.model.variable(Thing::Credentials);
                self.model.atom(Atom::Credential(variable, *kind))
            }
            Rule::SignedInWithin(span) => {
                let variable = self.model.variable(Thing::SignedInAgo);
                self.model.atom(Atom::Within(variable, span.as_secs()))
            }
            Rule::Compare(left, comparison, right) => {
                let atom = Atom::Compare(self.term(left), *comparison, self.term(right));
                self.model.atom(atom)
            }
            Rule::In(operand, values) => {
                let atom = Atom::OneOf(self.term(operand), values.clone());
                self.model.atom(atom)
            }
            Rule::Has(Operand::Claim(names), value) if registered_bit(&names[0]) == 0 => {
                // 3 and 3.0 are one member of a list, so they are one thing.
                let written = value.as_f64().map_or_else(|| value.to_string(), |_| canonical(value));
                self.model.flag(Thing::ListHolds(names.clone(), written))
            }
            Rule::Has(..) => return Formula::Always(!holds),
        };
        Formula::Is(atom, holds)
    }

    /// A role is had by holding any of the roles that are as good; under a `not` one that nobody declared is as good as
    /// every other.
    fn role(&mut self, wanted: &str, negated: bool, holds: bool) -> Formula {
        let plan = self.plan;
        let serves = |held: &str| plan.includes(held, wanted) || (negated && !plan.is_declared(held));
        if let Holding::Exactly(held) = self.holding {
            return Formula::Always(held.iter().any(|held| serves(held)) == holds);
        }
        let good: Vec<_> = self.model.roles.iter().filter(|held| serves(held)).cloned().collect();
        let flags: Vec<_> =
            good.into_iter().map(|role| Formula::Is(self.model.flag(Thing::Role(role)), holds)).collect();
        if holds { Formula::any(flags) } else { Formula::all(flags) }
    }

    fn term(&mut self, operand: &Operand) -> Term {
        let thing = match operand {
            Operand::Literal(value) => return Term::Literal(value.clone()),
            Operand::Subject => Thing::Subject,
            Operand::Acr => Thing::Acr,
            Operand::Claim(names) if registered_bit(&names[0]) != 0 => return Term::Nothing,
            Operand::Claim(names) => Thing::Claim(names.clone()),
            Operand::Path(name) => match self.binding {
                None => Thing::Parameter(name.clone()),
                Some(binding) => return binding.get(name).map_or(Term::Nothing, |pieces| self.joined(pieces)),
            },
        };
        Term::Variable(self.model.variable(thing))
    }

    fn joined(&mut self, pieces: &[Piece]) -> Term {
        let pieces: Vec<_> = pieces
            .iter()
            .map(|piece| match piece {
                Piece::Text(text) => Piece::Text(text.clone()),
                Piece::Variable(part) => Piece::Variable(self.model.variable(Thing::Segment(*part))),
            })
            .collect();
        match pieces.as_slice() {
            [Piece::Variable(variable)] => Term::Variable(*variable),
            _ => Term::Joined(pieces),
        }
    }
}

/// One spelling for numbers that are equal.
fn canonical(number: &Value) -> String {
    match number.as_f64() {
        Some(float) if number.is_f64() && float.fract() == 0.0 && float.abs() < 1e18 => json!(float as i64).to_string(),
        _ => number.to_string(),
    }
}
