//! The search for an assignment that makes a formula true.

use std::collections::HashSet;

use serde_json::Value;

use super::atoms::{Atom, Thing};
use super::model::Model;
use super::truth::truth;
use super::values;
use crate::rule::{Formula, Formulas};

/// Values for which a formula is true, for the things that mattered.
#[derive(Clone, Debug)]
pub(in crate::plan) struct Found {
    values: Vec<(Thing, Option<Value>)>,
}

impl Found {
    /// Everything that was settled, in the order in which the rules ask for it.
    pub(in crate::plan) fn values(&self) -> impl Iterator<Item = (&Thing, Option<&Value>)> {
        self.values.iter().map(|(thing, value)| (thing, value.as_ref()))
    }
}

impl Model {
    /// Values that make the formula true, if there are any.
    pub(in crate::plan) fn find(&mut self, formula: Formula) -> Option<Found> {
        let constraints = self.constraints();
        let formula = self.formulas.all([formula, constraints]);
        let Self { things, atoms, formulas, .. } = self;
        let domains = values::domains(things, atoms);
        let chosen = vec![None; domains.len()];
        let mut search = Search { things, atoms, formulas, domains: &domains, chosen, dead: HashSet::new() };
        search.runs(formula).then(|| {
            let value = |variable: usize| domains[variable][search.chosen[variable].unwrap_or(0)].clone();
            Found { values: things.iter().cloned().enumerate().map(|(at, thing)| (thing, value(at))).collect() }
        })
    }
}

struct Search<'m> {
    things: &'m [Thing],
    atoms: &'m [Atom],
    formulas: &'m mut Formulas,
    domains: &'m [Vec<Option<Value>>],
    /// Which value of its domain each variable has.
    chosen: Vec<Option<usize>>,
    /// What was left of the formula, and the choices that its atoms hang on, where no choice of the others helped.
    dead: HashSet<(Formula, Vec<(usize, usize)>)>,
}

impl Search<'_> {
    fn runs(&mut self, formula: Formula) -> bool {
        let left = self.left_of(formula);
        if let Some(value) = self.formulas.constant(left) {
            return value;
        }
        let (mut free, mut settled) = (None, Vec::new());
        for atom in self.formulas.atoms(left) {
            for variable in self.atoms[atom].variables() {
                match self.chosen[variable] {
                    Some(choice) => settled.push((variable, choice)),
                    None => free = free.or(Some(variable)),
                }
            }
        }
        settled.sort_unstable();
        settled.dedup();
        let Some(variable) = free else { return false };
        // Two ways here that leave the same formula, and agree on what its atoms still look at, end alike.
        let here = (left, settled);
        if self.dead.contains(&here) {
            return false;
        }
        for choice in 0..self.domains[variable].len() {
            self.chosen[variable] = Some(choice);
            if self.runs(left) {
                return true;
            }
        }
        self.chosen[variable] = None;
        self.dead.insert(here);
        false
    }

    fn left_of(&mut self, formula: Formula) -> Formula {
        let Self { things, atoms, formulas, domains, chosen, .. } = self;
        let value = |variable: usize| chosen[variable].map(|choice: usize| domains[variable][choice].as_ref());
        formulas.given(formula, |atom| truth(&atoms[atom], things, &value))
    }
}
