//! Whether a rule holds for a caller and a request, and what is missing when it does not.

use std::cell::RefCell;
use std::collections::BTreeSet;
use std::time::Duration;

use serde_json::Value;
use smallvec::SmallVec;

use super::facts::{Facts, names_path};
use super::formula::{Formula, Node};
use super::normal::{Atom, NormalForm};
use super::tree::{Comparison, Operand, Rule};

/// What the caller has to do to be let in after all: authenticate again
/// ([RFC 9470](https://www.rfc-editor.org/rfc/rfc9470)).
///
/// ```
/// # use vorsel_core::{AccessPlan, CallerFacts, Timestamp, Verdict, Vouched};
/// # let plan = AccessPlan::builder().need("POST", "/dome", "signed-in within 10m").build()?;
/// # let caller = Vouched::subject("obs-0017").checked()?;
/// # let now = Timestamp::from_secs(1_700_000_000);
/// let Verdict::Refused(unmet) = plan.decide("POST", "/dome", Some(CallerFacts::from(&caller)), now) else { panic!() };
/// let step_up = unmet.step_up.expect("signing in again is all that is missing");
/// assert_eq!(step_up.max_age.map(|age| age.as_secs()), Some(600));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct StepUp {
    /// At most this long ago.
    pub max_age: Option<Duration>,
    /// In one of these ways; empty if any will do.
    pub acr_values: Vec<String>,
}

/// Evaluates rules of one plan for one request.
pub(crate) struct Evaluator<'a, 'f> {
    form: &'a NormalForm,
    facts: &'a Facts<'f>,
    /// What if the caller authenticated again, now and as asked: what that could bring about counts as held.
    signed_in_again: bool,
    /// Outcomes of the parts that stand in several places of a rule; without it, policies that name others twice would be
    /// gone through again and again.
    memory: RefCell<SmallVec<[Remembered; 64]>>,
}

#[derive(Clone, Copy, Default)]
enum Remembered {
    #[default]
    Nothing,
    Outcome(Option<bool>),
}

impl<'a, 'f> Evaluator<'a, 'f> {
    pub(crate) fn new(form: &'a NormalForm, facts: &'a Facts<'f>) -> Self {
        Self { form, facts, signed_in_again: false, memory: RefCell::default() }
    }

    /// The same for a caller who authenticated again.
    pub(crate) fn after_signing_in_again(&self) -> Self {
        Self { signed_in_again: true, ..Self::new(self.form, self.facts) }
    }

    fn holds(&self, formula: Formula) -> bool {
        self.outcome(formula) == Some(true)
    }

    /// Whether the formula is true; nothing as long as that hangs on a predicate that has not answered.
    pub(crate) fn outcome(&self, formula: Formula) -> Option<bool> {
        let (parts, is_all) = match self.form.formulas.node(formula) {
            Node::Always(value) => return Some(*value),
            Node::Is(atom, wanted) => return self.atom(&self.form.atoms[*atom], *wanted),
            Node::All(parts) => (parts, true),
            Node::Any(parts) => (parts, false),
        };
        let Some(place) = self.form.place_of(formula) else { return self.list(parts, is_all) };
        if let Remembered::Outcome(outcome) = self.memory.borrow().get(place).copied().unwrap_or_default() {
            return outcome;
        }
        let outcome = self.list(parts, is_all);
        let mut memory = self.memory.borrow_mut();
        memory.resize(self.form.places(), Remembered::Nothing);
        memory[place] = Remembered::Outcome(outcome);
        outcome
    }

    /// Each part has to be true, or one. One that decides is enough, so that a predicate is not asked where a claim settles
    /// the matter.
    fn list(&self, parts: &[Formula], is_all: bool) -> Option<bool> {
        let mut outcome = Some(is_all);
        for part in parts {
            match self.outcome(*part) {
                Some(held) if held == is_all => {}
                None => outcome = None,
                decisive => return decisive,
            }
        }
        outcome
    }

    fn atom(&self, atom: &Atom, wanted: bool) -> Option<bool> {
        if self.signed_in_again && wanted && asks_for_authentication(&atom.rule) {
            return Some(true);
        }
        let held = match &atom.holders {
            Some(holders) => self.facts.caller.roles().any(|role| holders.has(role)),
            None => self.facts.holds(&atom.rule)?,
        };
        Some(held == wanted)
    }

    /// What the outcome hangs on where it can't be told: the path, and predicates.
    pub(crate) fn hangs_on(&self, formula: Formula) -> (bool, bool) {
        let (mut path, mut predicate) = (false, false);
        let (mut open, mut seen) = (vec![formula], BTreeSet::new());
        while let Some(next) = open.pop() {
            if self.outcome(next).is_some() || !seen.insert(next) {
                continue;
            }
            match self.form.formulas.node(next) {
                Node::Is(atom, _) if names_path(&self.form.atoms[*atom].rule) => path = true,
                Node::Is(..) => predicate = true,
                Node::All(parts) | Node::Any(parts) => open.extend(parts.iter()),
                Node::Always(_) => {}
            }
        }
        (path, predicate)
    }

    /// The first predicate that has to answer before the outcome can be told.
    pub(crate) fn open_predicate(&self, formula: Formula) -> Option<&'a str> {
        // What is decided already asks nobody.
        if self.outcome(formula).is_some() {
            return None;
        }
        match self.form.formulas.node(formula) {
            Node::Is(atom, _) => match &self.form.atoms[*atom].rule {
                Rule::Predicate(name) => Some(name),
                _ => None,
            },
            Node::All(parts) | Node::Any(parts) => parts.iter().find_map(|part| self.open_predicate(*part)),
            Node::Always(_) => None,
        }
    }

    /// The atoms that keep the formula from being true, in the words of the rule, and what the caller has instead.
    pub(crate) fn unmet(&self, formula: Formula) -> Vec<String> {
        self.failing(formula)
            .into_iter()
            .map(|(atom, wanted)| {
                let evidence = self.facts.evidence(&atom.rule).map(|evidence| format!(" (has {evidence})"));
                format!("{}{}{}", if wanted { "" } else { "not " }, atom.rule, evidence.unwrap_or_default())
            })
            .collect()
    }

    /// Each atom that is not as it should be, once, but for those in parts that hold nevertheless.
    fn failing(&self, formula: Formula) -> Vec<(&'a Atom, bool)> {
        let (mut failing, mut open, mut seen) = (Vec::new(), vec![formula], BTreeSet::new());
        while let Some(next) = open.pop() {
            if self.holds(next) || !seen.insert(next) {
                continue;
            }
            match self.form.formulas.node(next) {
                Node::Always(_) => {}
                Node::Is(atom, wanted) => failing.push((&self.form.atoms[*atom], *wanted)),
                Node::All(parts) | Node::Any(parts) => open.extend(parts.iter().rev()),
            }
        }
        failing
    }

    /// How the caller would have to authenticate for the failing atoms to hold: how long ago at most, and in one of which
    /// ways.
    pub(crate) fn step_up(&self, formula: Formula) -> StepUp {
        let mut step_up = StepUp::default();
        for (atom, _) in self.failing(formula).into_iter().filter(|(_, wanted)| *wanted) {
            if let Rule::SignedInWithin(span) = &atom.rule {
                step_up.max_age = Some(step_up.max_age.map_or(*span, |other| other.min(*span)));
            }
            for value in acr_values(&atom.rule) {
                if !step_up.acr_values.iter().any(|known| known == value) {
                    step_up.acr_values.push(value.to_owned());
                }
            }
        }
        step_up
    }

    /// The scopes that are missing where a scope is what the rule asks for, for the challenge of RFC 6750.
    pub(crate) fn missing_scopes(&self, formula: Formula) -> Vec<String> {
        let (mut missing, mut open) = (Vec::new(), vec![formula]);
        while let Some(next) = open.pop() {
            match self.form.formulas.node(next) {
                Node::Is(atom, true) if !self.holds(next) => {
                    if let Rule::Scope(name) = &self.form.atoms[*atom].rule {
                        missing.push(name.clone());
                    }
                }
                // A list in a list is of the other kind, of which any part may do.
                Node::All(parts) => open.extend(parts.iter().rev()),
                _ => {}
            }
        }
        missing
    }
}

/// Whether authenticating again could bring the atom about.
fn asks_for_authentication(atom: &Rule) -> bool {
    matches!(atom, Rule::SignedInWithin(_)) || !acr_values(atom).is_empty()
}

/// The values of `acr` of which the atom asks for one.
fn acr_values(atom: &Rule) -> Vec<&str> {
    match atom {
        Rule::Compare(Operand::Acr, Comparison::Equal, Operand::Literal(value))
        | Rule::Compare(Operand::Literal(value), Comparison::Equal, Operand::Acr) => {
            value.as_str().into_iter().collect()
        }
        Rule::In(Operand::Acr, values) => values.iter().filter_map(Value::as_str).collect(),
        _ => Vec::new(),
    }
}
