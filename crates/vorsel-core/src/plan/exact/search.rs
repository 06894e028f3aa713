//! The search for an assignment that makes a formula true.

use std::collections::HashSet;

use serde_json::Value;

use super::formula::Formula;
use super::model::{Model, Thing};

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
    pub(in crate::plan) fn find(&self, formula: &Formula) -> Option<Found> {
        let formula = Formula::all([formula.clone(), self.constraints()]);
        let domains = self.domains();
        let mut search =
            Search { model: self, domains: &domains, chosen: vec![None; domains.len()], dead: HashSet::new() };
        search.runs(&formula).then(|| {
            let value = |variable: usize| domains[variable][search.chosen[variable].unwrap_or(0)].clone();
            Found { values: self.things().iter().cloned().enumerate().map(|(at, thing)| (thing, value(at))).collect() }
        })
    }
}

struct Search<'m> {
    model: &'m Model,
    domains: &'m [Vec<Option<Value>>],
    /// Which value of its domain each variable has.
    chosen: Vec<Option<usize>>,
    /// What was left of the formula, and the choices that its atoms hang on, where no choice of the others helped.
    dead: HashSet<(Formula, Vec<(usize, usize)>)>,
}

impl Search<'_> {
    fn runs(&mut self, formula: &Formula) -> bool {
        let left = formula.given(&|atom| self.truth(atom));
        if let Formula::Always(value) = left {
            return value;
        }
        let (mut free, mut settled) = (None, Vec::new());
        left.atoms(&mut |atom| {
            for variable in self.model.variables_of(atom) {
                match self.chosen[variable] {
                    Some(choice) => settled.push((variable, choice)),
                    None => free = free.or(Some(variable)),
                }
            }
        });
        settled.sort_unstable();
        settled.dedup();
        let Some(variable) = free else { return false };
        let here = (left, settled);
        if self.dead.contains(&here) {
            return false;
        }
        for choice in 0..self.domains[variable].len() {
            self.chosen[variable] = Some(choice);
            if self.runs(&here.0) {
                return true;
            }
        }
        self.chosen[variable] = None;
        self.dead.insert(here);
        false
    }

    fn truth(&self, atom: usize) -> Option<bool> {
        self.model.truth(atom, |variable| self.chosen[variable].map(|choice| self.domains[variable][choice].as_ref()))
    }
}
