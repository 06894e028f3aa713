//! Rules of one or several plans, translated into formulas over what can be known of a caller and a path.

use std::collections::{BTreeSet, HashMap};

use serde_json::{Value, json};

use super::atoms::{Atom, Binding, Piece, Term, Thing};
use super::truth::truth;
use crate::credential::Credential;
use crate::plan::AccessPlan;
use crate::rule::{Atom as RuleAtom, Comparison, Formula, Formulas, Node, Operand, Rule};
use crate::token::registered_bit;

/// Which roles the caller holds.
#[derive(Clone, Copy, Debug)]
pub(in crate::plan) enum Holding<'h> {
    /// Any.
    Any,
    /// Exactly these.
    Exactly(&'h [&'h str]),
}

/// The variables and atoms of the rules at hand.
#[derive(Debug)]
pub(in crate::plan) struct Model {
    /// Every role that a plan declares, and, unless they are left out, one that stands for those that none does.
    roles: BTreeSet<String>,
    pub(super) things: Vec<Thing>,
    pub(super) atoms: Vec<Atom>,
    pub(super) formulas: Formulas,
    /// The places of things and atoms.
    known_things: HashMap<Thing, usize>,
    known_atoms: HashMap<Atom, usize>,
    claims: Claims,
    /// How many pairs of claims exclude each other.
    pub(super) clashes: usize,
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
        let roles = plans.iter().flat_map(|plan| plan.names.roles.keys().cloned()).collect();
        Self {
            roles,
            things: Vec::new(),
            atoms: Vec::new(),
            formulas: Formulas::new(),
            known_things: HashMap::new(),
            known_atoms: HashMap::new(),
            claims: Claims::default(),
            clashes: 0,
        }
    }

    /// The formula for a rule of the plan that holds, or for one that does not.
    pub(in crate::plan) fn rule(
        &mut self,
        plan: &AccessPlan,
        rule: Formula,
        holds: bool,
        holding: Holding<'_>,
        binding: Option<&Binding>,
    ) -> Formula {
        let mut translated: HashMap<Formula, Formula> = HashMap::new();
        let given = &plan.form.formulas;
        for part in given.parts(rule) {
            let new = match given.node(part) {
                Node::Always(value) => Formulas::always(*value),
                Node::Is(atom, wanted) => {
                    let held = self.atom_of(&plan.form.atoms[*atom], plan.all_subjects, holding, binding);
                    if *wanted { held } else { self.formulas.not(held) }
                }
                Node::All(parts) => self.formulas.all(parts.iter().map(|part| translated[part])),
                Node::Any(parts) => self.formulas.any(parts.iter().map(|part| translated[part])),
            };
            translated.insert(part, new);
        }
        if holds { translated[&rule] } else { self.formulas.not(translated[&rule]) }
    }

    /// The formula that each of these is true.
    pub(in crate::plan) fn all(&mut self, formulas: impl IntoIterator<Item = Formula>) -> Formula {
        self.formulas.all(formulas)
    }

    /// The formula that an atom of a rule holds. `all_subjects` says that `sub` counts whoever's it is.
    fn atom_of(
        &mut self,
        atom: &RuleAtom,
        all_subjects: bool,
        holding: Holding<'_>,
        binding: Option<&Binding>,
    ) -> Formula {
        let operands: &[&Operand] = match &atom.rule {
            Rule::Compare(left, _, right) => &[left, right],
            Rule::In(operand, _) => &[operand],
            _ => &[],
        };
        let asks_for_own = !all_subjects && operands.iter().any(|operand| **operand == Operand::Subject);
        let atom = match &atom.rule {
            Rule::Role(_) => return self.role(atom, holding),
            Rule::Scope(name) => return self.flag(Thing::Scope(name.clone())),
            Rule::Predicate(name) => return self.flag(Thing::Predicate(name.clone())),
            Rule::Issuer(name) => return self.equals(Thing::Issuer, name),
            Rule::Client(name) => {
                let either = [self.equals(Thing::Client, name), self.equals(Thing::KeyClient, name)];
                return self.formulas.any(either);
            }
            Rule::Credential(kind) => {
                let variable = self.variable(Thing::Credentials);
                Atom::Credential(variable, *kind)
            }
            Rule::SignedInWithin(span) => {
                let variable = self.variable(Thing::SignedInAgo);
                Atom::Within(variable, span.as_secs())
            }
            Rule::Compare(left, comparison, right) => {
                Atom::Compare(self.term(left, binding), *comparison, self.term(right, binding))
            }
            Rule::In(operand, values) => Atom::OneOf(self.term(operand, binding), values.clone()),
            Rule::Contains(Operand::Claim(names), value) if registered_bit(&names[0]) == 0 => {
                // 3 and 3.0 are one member of a list, so they are one thing.
                let written = value.as_f64().map_or_else(|| value.to_string(), |_| canonical(value));
                return self.flag(Thing::ListHolds(names.clone(), written));
            }
            _ => return Formulas::always(false),
        };
        let held = self.is(atom);
        if !asks_for_own {
            return held;
        }
        let own = self.flag(Thing::IsOwnPerson);
        self.formulas.all([own, held])
    }

    /// A role is had by holding any of the roles that are as good.
    fn role(&mut self, atom: &RuleAtom, holding: Holding<'_>) -> Formula {
        let Some(holders) = &atom.holders else { return Formulas::always(false) };
        if let Holding::Exactly(held) = holding {
            return Formulas::always(held.iter().any(|held| holders.has(held)));
        }
        let good: Vec<_> = self.roles.iter().filter(|held| holders.has(held)).cloned().collect();
        let flags: Vec<_> = good.into_iter().map(|role| self.flag(Thing::Role(role))).collect();
        self.formulas.any(flags)
    }

    /// What keeps values from contradicting each other.
    pub(super) fn constraints(&mut self) -> Formula {
        let apart = self.atoms.iter().enumerate().filter(|(_, atom)| matches!(atom, Atom::Apart(..)));
        let apart: Vec<_> = apart.map(|(at, _)| at).collect();
        let mut constraints: Vec<_> = apart.into_iter().map(|at| self.formulas.is(at, true)).collect();
        let [own, subject, client, key_client] =
            [Thing::IsOwnPerson, Thing::Subject, Thing::Client, Thing::KeyClient].map(|thing| self.known(&thing));
        let person = own.map(|own| self.is(Atom::Flag(own)));
        let no_person = person.map(|person| self.formulas.not(person));
        // A token whose subject is its client is the client's own.
        if let (Some(no_person), Some(subject), Some(client)) = (no_person, subject, client) {
            let same = self.same(subject, client);
            let differ = self.formulas.not(same);
            constraints.push(self.formulas.any([no_person, differ]));
        }
        // A client's key comes as an API key, and if nothing else comes, the caller is that client.
        if let (Some(key_client), Some(client)) = (key_client, client) {
            let credentials = self.variable(Thing::Credentials);
            let came = self.is(Atom::There(key_client));
            let none_came = self.formulas.not(came);
            let [api_key, bearer, cookie, ticket] =
                [Credential::ApiKey, Credential::Bearer, Credential::Cookie, Credential::Ticket]
                    .map(|kind| self.is(Atom::Credential(credentials, kind)));
            constraints.push(self.formulas.any([none_came, api_key]));
            let mut alone = vec![self.same(client, key_client)];
            alone.extend(no_person);
            alone.extend(subject.map(|subject| self.same(subject, key_client)));
            let alone = self.formulas.all(alone);
            constraints.push(self.formulas.any([none_came, bearer, cookie, ticket, alone]));
        }
        // Whoever is known came with one credential at least.
        if let Some(credentials) = self.known(&Thing::Credentials) {
            let kinds = Credential::ALL.map(|kind| self.is(Atom::Credential(credentials, kind)));
            constraints.push(self.formulas.any(kinds));
        }
        self.formulas.all(constraints)
    }

    fn same(&mut self, one: usize, other: usize) -> Formula {
        self.is(Atom::Compare(Term::Variable(one), Comparison::Equal, Term::Variable(other)))
    }

    fn equals(&mut self, thing: Thing, text: &str) -> Formula {
        let variable = self.variable(thing);
        self.is(Atom::Compare(Term::Variable(variable), Comparison::Equal, Term::Literal(json!(text))))
    }

    fn known(&self, thing: &Thing) -> Option<usize> {
        self.known_things.get(thing).copied()
    }

    fn variable(&mut self, thing: Thing) -> usize {
        if let Some(known) = self.known(&thing) {
            return known;
        }
        let new = self.things.len();
        let clashing = self.claims.add(&thing, new);
        self.clashes += clashing.len();
        // With more the question is not settled.
        if self.clashes <= MOST_CLASHES {
            self.atoms.extend(clashing.into_iter().map(|other| Atom::Apart(other, new)));
        }
        self.known_things.insert(thing.clone(), new);
        self.things.push(thing);
        new
    }

    fn is(&mut self, atom: Atom) -> Formula {
        // One that hangs on nothing is settled here.
        if atom.variables().is_empty() {
            return Formulas::always(truth(&atom, &self.things, &|_| None) == Some(true));
        }
        let number = *self.known_atoms.entry(atom).or_insert_with_key(|atom| {
            self.atoms.push(atom.clone());
            self.atoms.len() - 1
        });
        self.formulas.is(number, true)
    }

    fn flag(&mut self, thing: Thing) -> Formula {
        let variable = self.variable(thing);
        self.is(Atom::Flag(variable))
    }

    fn term(&mut self, operand: &Operand, binding: Option<&Binding>) -> Term {
        let thing = match operand {
            Operand::Literal(value) => return Term::Literal(value.clone()),
            Operand::Subject => Thing::Subject,
            Operand::Acr => Thing::Acr,
            Operand::Claim(names) if registered_bit(&names[0]) != 0 => return Term::Nothing,
            Operand::Claim(names) => Thing::Claim(names.clone()),
            Operand::Path(name) => match binding {
                None => Thing::Parameter(name.clone()),
                Some(binding) => {
                    let pieces = binding.parameters.get(name);
                    return pieces.map_or(Term::Nothing, |pieces| self.joined(pieces));
                }
            },
        };
        Term::Variable(self.variable(thing))
    }

    fn joined(&mut self, pieces: &[Piece]) -> Term {
        let pieces: Vec<_> = pieces
            .iter()
            .map(|piece| match piece {
                Piece::Text(text) => Piece::Text(text.clone()),
                Piece::Variable { number, may_be_empty } => {
                    let thing = Thing::Segment { part: *number, may_be_empty: *may_be_empty };
                    Piece::Variable { number: self.variable(thing), may_be_empty: *may_be_empty }
                }
            })
            .collect();
        match pieces.as_slice() {
            [Piece::Variable { number, .. }] => Term::Variable(*number),
            _ => Term::Joined(pieces),
        }
    }
}

/// How many pairs of claims may exclude each other in one question.
pub(super) const MOST_CLASHES: usize = 100_000;

/// The claims that rules ask for, to find those that can't be there together: a value has no members of its own, and a list
/// is no plain value.
#[derive(Debug, Default)]
struct Claims {
    /// The place of each name inside another; what is at the top lies in place 0.
    places: HashMap<(usize, String), usize>,
    /// What is asked for at each place.
    asked: Vec<Asked>,
}

#[derive(Debug, Default)]
struct Asked {
    plain: Vec<usize>,
    lists: Vec<usize>,
    further_in: Vec<usize>,
}

impl Claims {
    /// Adds one, if it is a claim, and says which it excludes.
    fn add(&mut self, thing: &Thing, number: usize) -> Vec<usize> {
        let (names, is_list) = match thing {
            Thing::Claim(names) => (names, false),
            Thing::ListHolds(names, _) => (names, true),
            _ => return Vec::new(),
        };
        let (mut place, mut clashing) = (0, Vec::new());
        for (at, name) in names.iter().enumerate() {
            let new = self.places.len() + 1;
            place = *self.places.entry((place, name.clone())).or_insert(new);
            self.asked.resize_with(self.places.len() + 1, Asked::default);
            let asked = &mut self.asked[place];
            if at + 1 < names.len() {
                clashing.extend(asked.plain.iter().chain(&asked.lists));
                asked.further_in.push(number);
                continue;
            }
            let (same, other) =
                if is_list { (&mut asked.lists, &asked.plain) } else { (&mut asked.plain, &asked.lists) };
            clashing.extend(other.iter().chain(&asked.further_in));
            same.push(number);
        }
        clashing
    }
}

/// One spelling for numbers that are equal.
fn canonical(number: &Value) -> String {
    match number.as_f64() {
        Some(float) if number.is_f64() && float.fract() == 0.0 && float.abs() < 1e18 => json!(float as i64).to_string(),
        _ => number.to_string(),
    }
}
