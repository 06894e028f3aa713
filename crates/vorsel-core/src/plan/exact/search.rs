//! The search for a caller who makes a formula true: atoms are said to hold or not one after the other, and as soon as some
//! of them contradict each other, no caller is like that.

use std::collections::{BTreeMap, HashSet};

use serde_json::{Value, json};

use super::atoms::{Atom, Term, Thing};
use super::budget::{Exhausted, Purse, Steps};
use super::caller::{Literal, caller, worth_trying};
use super::model::{MOST_CLASHES, Model};
use super::truth::truth;
use crate::rule::{Formula, Formulas, Node};

/// What came of a search.
#[derive(Clone, Debug)]
pub(in crate::plan) enum Answer {
    /// There is a caller like that.
    Found(Found),
    /// There is none.
    Nobody,
    /// The budget was used up before one was found.
    Unsettled,
}

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

impl Answer {
    /// Whether somebody was found; nothing if that is not settled.
    pub(in crate::plan) const fn is_somebody(&self) -> Option<bool> {
        match self {
            Self::Found(_) => Some(true),
            Self::Nobody => Some(false),
            Self::Unsettled => None,
        }
    }
}

impl Model {
    /// A caller and a request that make the formula true, if there are any.
    pub(in crate::plan) fn find(&mut self, formula: Formula, purse: &Purse) -> Answer {
        let constraints = self.constraints();
        let formula = self.formulas.all([formula, constraints]);
        if self.clashes > MOST_CLASHES {
            return Answer::Unsettled;
        }
        let Self { things, atoms, formulas, .. } = self;
        let families = families(things.len(), atoms);
        let (lone, decided) = (lone(&families, things, atoms), vec![None; atoms.len()]);
        let (dead, steps) = (HashSet::new(), purse.question());
        let mut search = Search { things, atoms, formulas, families, lone, decided, dead, depth: 0, steps };
        match search.runs(formula, None) {
            Ok(true) => {}
            Ok(false) => return Answer::Nobody,
            Err(Exhausted) => return Answer::Unsettled,
        }
        search.leave_out(formula);
        search.values().map_or(Answer::Unsettled, |values| Answer::Found(Found { values }))
    }
}

/// For each atom the number of its family: atoms whose truths hang together, since they are about the same variables.
/// Nothing for an atom that hangs on nothing else.
fn families(variables: usize, atoms: &[Atom]) -> Vec<Option<usize>> {
    let mut parent: Vec<usize> = (0..variables).collect();
    fn root(parent: &mut [usize], mut of: usize) -> usize {
        while parent[of] != of {
            parent[of] = parent[parent[of]];
            of = parent[of];
        }
        of
    }
    let is_alone = |atom: &Atom| matches!(atom, Atom::Flag(_) | Atom::Credential(..));
    for atom in atoms.iter().filter(|atom| !is_alone(atom)) {
        let variables = atom.variables();
        for pair in variables.windows(2) {
            let (one, other) = (root(&mut parent, pair[0]), root(&mut parent, pair[1]));
            parent[one] = other;
        }
    }
    let apart: HashSet<usize> =
        atoms.iter().filter(|atom| matches!(atom, Atom::Apart(..))).flat_map(Atom::variables).collect();
    let mut family = |atom: &Atom| match atom {
        Atom::Credential(..) => None,
        Atom::Flag(variable) if !apart.contains(variable) => None,
        other => other.variables().first().map(|variable| root(&mut parent, *variable)),
    };
    atoms.iter().map(&mut family).collect()
}

fn lone(families: &[Option<usize>], things: &[Thing], atoms: &[Atom]) -> Vec<Option<usize>> {
    let mut lone: Vec<Option<usize>> = (0..things.len()).map(Some).collect();
    for (atom, family) in atoms.iter().zip(families) {
        let Some(family) = family else { continue };
        let is_alone = |term: &Term| matches!(term, Term::Literal(_) | Term::Variable(_));
        let is_lone = match atom {
            Atom::Within(..) => true,
            Atom::Compare(left, _, right) => is_alone(left) && is_alone(right) && atom.variables().len() == 1,
            Atom::OneOf(term, _) => is_alone(term),
            _ => false,
        };
        // A family is called by one of its variables, which is the only one here.
        if !is_lone {
            lone[*family] = None;
        }
    }
    lone
}

struct Search<'m, 'p> {
    things: &'m [Thing],
    atoms: &'m [Atom],
    formulas: &'m mut Formulas,
    families: Vec<Option<usize>>,
    /// For each family the one variable that it is about, if it is one that can be looked at by its values.
    lone: Vec<Option<usize>>,
    decided: Vec<Option<bool>>,
    /// What was left of the formula, and what is said of the families of its atoms, where nothing helped.
    dead: HashSet<(Formula, Vec<Literal>)>,
    /// How many decisions lie inside each other.
    depth: u32,
    steps: Steps<'p>,
}

/// Alternatives of which there are more than this are tried one by one.
const LONG: usize = 100;

/// How many decisions may lie inside each other: each takes a piece of the stack.
const DEEPEST: u32 = 500;

/// What is left once everything is decided that can be no other way.
enum Rest {
    /// Whether it can be true.
    Settled(bool),
    Open {
        left: Formula,
        /// The atoms in it.
        open: Vec<usize>,
        /// The family that was looked at last.
        last: Option<usize>,
    },
}

impl Search<'_, '_> {
    /// Whether the rest of the formula can be made true; `last` is the family that was looked at last.
    fn runs(&mut self, formula: Formula, last: Option<usize>) -> Result<bool, Exhausted> {
        self.depth += 1;
        let found = if self.depth > DEEPEST { Err(Exhausted) } else { self.goes_on(formula, last) };
        self.depth -= 1;
        found
    }

    fn goes_on(&mut self, formula: Formula, last: Option<usize>) -> Result<bool, Exhausted> {
        let (left, open, last) = match self.as_far_as_forced(formula, last)? {
            Rest::Settled(value) => return Ok(value),
            Rest::Open { left, open, last } => (left, open, last),
        };
        if let Node::Any(parts) = self.formulas.node(left)
            && parts.len() > LONG
        {
            return self.one_of(&parts.clone(), last);
        }
        let families: HashSet<usize> = open.iter().filter_map(|atom| self.families[*atom]).collect();
        let said = self.said(|family| families.contains(&family));
        self.steps.take(open.len() + said.len() + self.decided.len() / 64)?;
        // Two ways here that leave the same formula, and agree on what its atoms hang together with, end alike.
        let here = (left, said);
        if self.dead.contains(&here) {
            return Ok(false);
        }
        // Roles first: they are few, and much hangs on each. Then what hangs together is settled together, so that the rest
        // hangs on it no more.
        let role = open.iter().copied().find(|atom| match &self.atoms[*atom] {
            Atom::Flag(variable) => matches!(self.things[*variable], Thing::Role(_)),
            _ => false,
        });
        let related = || open.iter().copied().find(|atom| last.is_some() && self.families[*atom] == last);
        let atom = role.or_else(related).unwrap_or(open[0]);
        if let Some(family) = self.families[atom].filter(|family| self.lone[*family].is_some()) {
            return self.by_values(left, family, &open, here);
        }
        for holds in [true, false] {
            let trail = self.decided.clone();
            self.decided[atom] = Some(holds);
            if self.are_consistent(self.families[atom])? && self.runs(left, self.families[atom].or(last))? {
                return Ok(true);
            }
            self.decided = trail;
        }
        self.dead.insert(here);
        Ok(false)
    }

    /// Tries one alternative after the other, so that a long list of them costs no more depth than a short one.
    fn one_of(&mut self, parts: &[Formula], last: Option<usize>) -> Result<bool, Exhausted> {
        for part in parts {
            let trail = self.decided.clone();
            self.steps.take(1 + trail.len() / 64)?;
            if self.runs(*part, last)? {
                return Ok(true);
            }
            self.decided = trail;
        }
        Ok(false)
    }

    /// Decides everything that can be no other way.
    fn as_far_as_forced(&mut self, formula: Formula, mut last: Option<usize>) -> Result<Rest, Exhausted> {
        let mut left = formula;
        loop {
            let open;
            (left, open) = self.left_of(left)?;
            if let Some(value) = self.formulas.constant(left) {
                return Ok(Rest::Settled(value));
            }
            let forced = self.forced(left);
            if forced.is_empty() {
                return Ok(Rest::Open { left, open, last });
            }
            forced.iter().for_each(|(atom, wanted)| self.decided[*atom] = Some(*wanted));
            last = forced.iter().rev().find_map(|(atom, _)| self.families[*atom]).or(last);
            if !self.are_consistent(forced.iter().filter_map(|(atom, _)| self.families[*atom]))? {
                return Ok(Rest::Settled(false));
            }
        }
    }

    /// What is left of the formula, and the atoms in it. An atom that hangs on nothing else, and that is wanted one way
    /// only, may as well be that way.
    fn left_of(&mut self, formula: Formula) -> Result<(Formula, Vec<usize>), Exhausted> {
        let mut left = formula;
        loop {
            let Self { formulas, decided, .. } = self;
            let (next, work) = formulas.given_again(left, |atom| decided[atom]);
            left = next;
            let wanted = formulas.wanted(left);
            self.steps.take(work + wanted.len())?;
            let mut is_done = true;
            for (atom, ways) in &wanted {
                if let ([false, true] | [true, false], None) = (ways, self.families[*atom]) {
                    self.decided[*atom] = Some(ways[1]);
                    is_done = false;
                }
            }
            if is_done {
                return Ok((left, wanted.into_iter().map(|(atom, _)| atom).collect()));
            }
        }
    }

    /// Goes through the values of the one variable that a family is about, as far as its atoms tell them apart.
    fn by_values(
        &mut self,
        left: Formula,
        family: usize,
        open: &[usize],
        here: (Formula, Vec<Literal>),
    ) -> Result<bool, Exhausted> {
        let Some(variable) = self.lone[family] else { return Ok(false) };
        let asked: Vec<usize> = open.iter().copied().filter(|atom| self.families[*atom] == Some(family)).collect();
        let said = self.said(|other| other == family);
        let atoms: Vec<&Atom> =
            asked.iter().chain(said.iter().map(|(atom, _)| atom)).map(|atom| &self.atoms[*atom]).collect();
        let mut seen = HashSet::new();
        for value in worth_trying(&self.things[variable], &atoms) {
            self.steps.take(1 + atoms.len() / 2)?;
            let of = |other: usize| (other == variable).then_some(value.as_ref());
            let holds = |atom: usize| truth(&self.atoms[atom], self.things, &of) == Some(true);
            if said.iter().any(|(atom, held)| holds(*atom) != *held) {
                continue;
            }
            let outcome: Vec<bool> = asked.iter().map(|atom| holds(*atom)).collect();
            if !seen.insert(outcome.clone()) {
                continue;
            }
            asked.iter().zip(outcome).for_each(|(atom, holds)| self.decided[*atom] = Some(holds));
            let trail = self.decided.clone();
            if self.runs(left, None)? {
                return Ok(true);
            }
            self.decided = trail;
        }
        asked.iter().for_each(|atom| self.decided[*atom] = None);
        self.dead.insert(here);
        Ok(false)
    }

    /// The atoms that have to be so, since the formula is a list of which every part must hold.
    fn forced(&self, formula: Formula) -> Vec<Literal> {
        let atom = |part: &Formula| match self.formulas.node(*part) {
            Node::Is(atom, wanted) => Some((*atom, *wanted)),
            _ => None,
        };
        match self.formulas.node(formula) {
            Node::All(parts) => parts.iter().filter_map(atom).collect(),
            _ => atom(&formula).into_iter().collect(),
        }
    }

    /// Takes roles, scopes and what else a caller has from the one who was found, as far as the formula holds without them:
    /// the shorter the example, the better it tells why. In a formula so large that nobody reads the example, the rest stays.
    fn leave_out(&mut self, formula: Formula) {
        let mut room = 20_000_usize;
        for atom in 0..self.atoms.len() {
            let Atom::Flag(variable) = self.atoms[atom] else { continue };
            if self.things[variable] == Thing::IsOwnPerson || self.decided[atom] != Some(true) {
                continue;
            }
            self.decided[atom] = Some(false);
            let Self { formulas, decided, .. } = self;
            let (left, work) = formulas.given_again(formula, |atom| decided[atom]);
            if formulas.constant(left) != Some(true) {
                self.decided[atom] = Some(true);
            }
            room = room.saturating_sub(work);
            if room == 0 || self.steps.take(work).is_err() {
                return;
            }
        }
    }

    /// What has been said of the atoms of some families.
    fn said(&self, of: impl Fn(usize) -> bool) -> Vec<Literal> {
        let decided = self.decided.iter().enumerate().filter(|(atom, _)| self.families[*atom].is_some_and(&of));
        decided.filter_map(|(atom, holds)| Some((atom, (*holds)?))).collect()
    }

    /// Whether there can be a caller of whom all this is said, as far as these families go.
    fn are_consistent(&self, families: impl IntoIterator<Item = usize>) -> Result<bool, Exhausted> {
        let families: HashSet<usize> = families.into_iter().collect();
        for said in self.said_by_family(|family| families.contains(&family))?.into_values() {
            if caller(self.things, self.atoms, &said, &self.steps)?.is_none() {
                return Ok(false);
            }
        }
        Ok(true)
    }

    fn said_by_family(&self, of: impl Fn(usize) -> bool) -> Result<BTreeMap<usize, Vec<Literal>>, Exhausted> {
        self.steps.take(self.decided.len() / 64)?;
        let mut said: BTreeMap<usize, Vec<Literal>> = BTreeMap::new();
        for (atom, holds) in self.said(of) {
            let family = self.families[atom].expect("what is said of a family has one");
            said.entry(family).or_default().push((atom, holds));
        }
        Ok(said)
    }

    /// A value for each thing that something was said of.
    fn values(&self) -> Result<Vec<(Thing, Option<Value>)>, Exhausted> {
        let mut values: Vec<Option<Option<Value>>> = vec![None; self.things.len()];
        for said in self.said_by_family(|_| true)?.into_values() {
            let settled = caller(self.things, self.atoms, &said, &self.steps)?.unwrap_or_default();
            settled.into_iter().for_each(|(variable, value)| values[variable] = Some(value));
        }
        let mut credentials = None;
        for (atom, holds) in self.atoms.iter().zip(&self.decided) {
            match (atom, holds) {
                (Atom::Flag(variable), Some(holds)) => values[*variable] = Some(Some(json!(holds))),
                (Atom::Credential(variable, kind), Some(true)) => {
                    let (_, bits) = credentials.get_or_insert((*variable, 0));
                    *bits |= 1 << *kind as u8;
                }
                _ => {}
            }
        }
        if let Some((variable, bits)) = credentials {
            values[variable] = Some(Some(json!(bits)));
        }
        Ok(self.things.iter().cloned().zip(values).filter_map(|(thing, value)| Some((thing, value?))).collect())
    }
}
