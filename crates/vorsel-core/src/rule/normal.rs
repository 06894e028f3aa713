//! The normal form of rules: policies resolved, roles as sets, `not` at the atoms. It is made once, when a plan is loaded;
//! whatever is asked of a rule, by a request or about all callers, is read off it.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::hash::{Hash, Hasher};
use std::sync::Arc;

use super::facts::asks_claims_alone;
use super::formula::{Formula, Formulas, Node};
use super::tree::Rule;

/// What one atom of a formula stands for.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Atom {
    /// The atom as it is written.
    pub(crate) rule: Rule,
    /// For a role, who holds it.
    pub(crate) holders: Option<Holders>,
}

/// The roles whose holders have a role.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Holders {
    /// The role itself, and those that include it.
    roles: Arc<[String]>,
    /// The roles that the plan declares, if one that it does not declare counts as this one. It does under a `not`: nobody
    /// knows what such a role includes, and taking a role's line out of the plan must not let its holders in.
    declared: Option<Arc<BTreeSet<String>>>,
}

/// They hang on the role and the side of the `not`, and that is enough of a hash: their lists may be long.
impl Hash for Holders {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.roles.first().hash(state);
        self.declared.is_some().hash(state);
    }
}

impl Holders {
    /// Whether holding `role` is as good.
    pub(crate) fn has(&self, role: &str) -> bool {
        self.roles.iter().any(|known| known == role)
            || self.declared.as_ref().is_some_and(|declared| !declared.contains(role))
    }
}

/// What a plan knows of roles and policies.
pub(crate) trait RoleBook {
    /// Every role that the plan declares, with all others that it includes.
    fn roles(&self) -> impl Iterator<Item = (&str, &BTreeSet<String>)>;
    /// The rule of a policy, unless it names itself.
    fn policy(&self, name: &str) -> Option<&Rule>;
}

/// Rules of one plan in their normal form.
#[derive(Clone, Debug)]
pub(crate) struct NormalForm {
    pub(crate) atoms: Vec<Atom>,
    /// The place of each atom.
    known: HashMap<Atom, usize>,
    pub(crate) formulas: Formulas,
    declared: Arc<BTreeSet<String>>,
    holders: BTreeMap<String, Arc<[String]>>,
    /// The formulas of policies, that they hold and that they do not.
    policies: BTreeMap<(String, bool), Formula>,
    /// For each formula that stands in more than one place of a rule, its place in an evaluator's memory, by its number.
    places: Vec<Option<u32>>,
    remembered: u32,
}

impl NormalForm {
    pub(crate) fn of(book: &impl RoleBook) -> Self {
        let mut holders: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for (role, includes) in book.roles() {
            // Most callers who have a role hold the role itself, so it comes first.
            holders.entry(role.to_owned()).or_default().insert(0, role.to_owned());
            for wanted in includes.iter().filter(|other| *other != role) {
                holders.entry(wanted.clone()).or_default().push(role.to_owned());
            }
        }
        Self {
            atoms: Vec::new(),
            known: HashMap::new(),
            formulas: Formulas::new(),
            declared: Arc::new(book.roles().map(|(role, _)| role.to_owned()).collect()),
            holders: holders.into_iter().map(|(role, holders)| (role, holders.into())).collect(),
            policies: BTreeMap::new(),
            places: Vec::new(),
            remembered: 0,
        }
    }

    /// The formula that a rule holds, or that it does not, where it stands under a `not`.
    pub(crate) fn rule(&mut self, rule: &Rule, holds: bool, book: &impl RoleBook) -> Formula {
        // Policies first and from the innermost on, so that nesting them costs no stack.
        let mut open = vec![(rule, false)];
        while let Some((next, is_done)) = open.pop() {
            let mut inside = Vec::new();
            for name in policies_in(next) {
                let known = self.policies.contains_key(&(name.to_owned(), true));
                let Some(inner) = book.policy(name).filter(|_| !known) else { continue };
                if is_done {
                    for holds in [true, false] {
                        let formula = self.resolved(inner, holds);
                        self.policies.insert((name.to_owned(), holds), formula);
                    }
                } else {
                    inside.push((inner, false));
                }
            }
            if !inside.is_empty() {
                open.push((next, true));
                open.append(&mut inside);
            }
        }
        self.resolved(rule, holds)
    }

    /// The formula of a rule whose policies are known. An unknown one holds for nobody, on either side of a `not`; no plan
    /// is built with one.
    fn resolved(&mut self, rule: &Rule, holds: bool) -> Formula {
        match rule {
            Rule::SignedIn => Formulas::always(holds),
            Rule::Policy(name) => self.policies.get(&(name.clone(), holds)).copied().unwrap_or(Formulas::always(false)),
            Rule::Not(inner) => self.resolved(inner, !holds),
            Rule::All(rules) | Rule::Any(rules) => {
                let parts: Vec<_> = rules.iter().map(|rule| self.resolved(rule, holds)).collect();
                let is_all = matches!(rule, Rule::All(_));
                if is_all == holds { self.formulas.all(parts) } else { self.formulas.any(parts) }
            }
            atom => {
                let holders = if let Rule::Role(name) = atom { Some(self.holders_of(name, !holds)) } else { None };
                let atom = Atom { rule: atom.clone(), holders };
                let number = *self.known.entry(atom).or_insert_with_key(|atom| {
                    self.atoms.push(atom.clone());
                    self.atoms.len() - 1
                });
                self.formulas.is(number, holds)
            }
        }
    }

    fn holders_of(&self, role: &str, under_a_not: bool) -> Holders {
        let roles = self.holders.get(role).cloned().unwrap_or_default();
        Holders { roles, declared: under_a_not.then(|| self.declared.clone()) }
    }

    /// Gives each part that stands in several places of this rule a place in an evaluator's memory.
    pub(crate) fn prepare(&mut self, formula: Formula) {
        for part in self.formulas.repeated(formula) {
            let number = part.number();
            if self.places.len() <= number {
                self.places.resize(number + 1, None);
            }
            if self.places[number].is_none() {
                self.places[number] = Some(self.remembered);
                self.remembered += 1;
            }
        }
    }

    /// Whether the formula comes to the same for the same claims at any time, whatever the request is.
    pub(crate) fn asks_claims_alone(&self, formula: Formula) -> bool {
        self.formulas.parts(formula).into_iter().all(|part| match self.formulas.node(part) {
            Node::Is(atom, _) => asks_claims_alone(&self.atoms[*atom].rule),
            Node::Always(_) | Node::All(_) | Node::Any(_) => true,
        })
    }

    pub(super) fn place_of(&self, formula: Formula) -> Option<usize> {
        self.places.get(formula.number()).copied().flatten().map(|place| place as usize)
    }

    pub(super) const fn places(&self) -> usize {
        self.remembered as usize
    }

    /// What is left of a formula for a caller with exactly these roles.
    pub(crate) fn for_roles(&mut self, formula: Formula, roles: &[&str]) -> Formula {
        let atoms = &self.atoms;
        self.formulas.given(formula, |atom| {
            let holders = atoms[atom].holders.as_ref()?;
            Some(roles.iter().any(|role| holders.has(role)))
        })
    }

    /// The formula as a rule, policies written out; nothing if that would be longer than anybody reads.
    pub(crate) fn written(&self, formula: Formula) -> Option<Rule> {
        const LONGEST: usize = 100;
        (self.formulas.written_size(formula) <= LONGEST).then(|| self.written_out(formula))
    }

    fn written_out(&self, formula: Formula) -> Rule {
        let inner = |parts: &[Formula]| parts.iter().map(|part| self.written_out(*part)).collect();
        match self.formulas.node(formula) {
            Node::Always(true) => Rule::SignedIn,
            Node::Always(false) => !Rule::SignedIn,
            Node::Is(atom, true) => self.atoms[*atom].rule.clone(),
            Node::Is(atom, false) => !self.atoms[*atom].rule.clone(),
            Node::All(parts) => Rule::All(inner(parts)),
            Node::Any(parts) => Rule::Any(inner(parts)),
        }
    }
}

/// The policies that a rule names itself.
pub(crate) fn policies_in(rule: &Rule) -> Vec<&str> {
    let mut names = Vec::new();
    rule.walk(&mut |rule| {
        if let Rule::Policy(name) = rule {
            names.push(name.as_str());
        }
    });
    names
}
