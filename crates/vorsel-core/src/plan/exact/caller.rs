//! Whether a caller can be as some atoms say, and if so, one who is.
//!
//! Only a conjunction is looked at here: each atom is said to hold or not. So it is enough to go by what has to be there.
//! Whatever no atom needs is left out, which makes every comparison with it false; what is there and may be anything is
//! given a value of its own, which differs from all others. Texts are put together from variable parts of a path, so for
//! them equations are solved ([`words`](super::words)); numbers lie in some order, so for them one number of each gap
//! between those of the rules is tried ([`numbers`](super::numbers)).

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Value, json};

use super::atoms::{Atom, Piece, Term, Thing};
use super::budget::{Exhausted, Steps};
use super::numbers;
use super::words::{Demand, Sign, Word, Words};
use crate::rule::Comparison;

/// An atom by its number, and whether it holds.
pub(super) type Literal = (usize, bool);

/// A value for each variable that is spoken of; nothing for what is not there.
pub(super) type Values = BTreeMap<usize, Option<Value>>;

#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Kind {
    Text,
    Number,
    Boolean,
}

impl Kind {
    const fn of(value: &Value) -> Option<Self> {
        match value {
            Value::String(_) => Some(Self::Text),
            Value::Number(_) => Some(Self::Number),
            Value::Bool(_) => Some(Self::Boolean),
            _ => None,
        }
    }
}

/// The values of one variable that these atoms, which are about nothing else, can tell apart, the most telling first.
pub(super) fn worth_trying(thing: &Thing, atoms: &[&Atom]) -> Vec<Option<Value>> {
    let mut literals: Vec<&Value> = Vec::new();
    let mut ages: BTreeSet<u64> = BTreeSet::new();
    for atom in atoms {
        match atom {
            Atom::Within(_, seconds) => drop(ages.insert(*seconds)),
            Atom::Compare(left, _, right) => literals.extend([left, right].into_iter().filter_map(|term| match term {
                Term::Literal(value) => Some(value),
                _ => None,
            })),
            Atom::OneOf(_, values) => literals.extend(values),
            _ => {}
        }
    }
    if *thing == Thing::SignedInAgo {
        let beyond = ages.last().map(|longest| json!(longest.saturating_add(1)));
        return beyond.into_iter().chain(ages.iter().map(|seconds| json!(seconds))).map(Some).chain([None]).collect();
    }
    let may_be_empty = !matches!(thing, Thing::Segment { may_be_empty: false, .. } | Thing::Subject | Thing::Issuer);
    let texts: BTreeSet<&str> =
        literals.iter().filter_map(|value| value.as_str()).filter(|text| may_be_empty || !text.is_empty()).collect();
    let names = std::iter::once("somebody".to_owned()).chain((2..).map(|number| format!("somebody-{number}")));
    let new = names.take(texts.len() + 1).find(|name| !texts.contains(name.as_str()));
    let mut values: Vec<Option<Value>> =
        new.into_iter().map(Value::String).chain(texts.iter().map(|text| json!(text))).map(Some).collect();
    if matches!(thing, Thing::Claim(_)) {
        let numbers: Vec<serde_json::Number> = literals.iter().filter_map(|value| value.as_number().cloned()).collect();
        let plain = [json!(true), json!(false)].into_iter();
        values.extend(plain.chain(numbers::around(&numbers, 1).into_iter().map(Value::Number)).map(Some));
        values.insert(0, None);
    } else if !matches!(thing, Thing::Segment { .. }) {
        values.push(None);
    }
    values
}

/// Values with which each of these is as said; nothing if there are none.
pub(super) fn caller(
    things: &[Thing],
    atoms: &[Atom],
    said: &[Literal],
    steps: &Steps<'_>,
) -> Result<Option<Values>, Exhausted> {
    steps.take(1 + said.len())?;
    let said: Vec<(&Atom, bool)> = said.iter().map(|(atom, holds)| (&atoms[*atom], *holds)).collect();
    if let Some(Atom::Within(variable, _)) = said.first().map(|(atom, _)| *atom) {
        return Ok(age(&said).map(|age| Values::from([(*variable, Some(age))])));
    }
    let Some(present) = present(things, &said) else { return Ok(None) };
    let mut kinds = BTreeMap::new();
    for variable in &present {
        if !matches!(things[*variable], Thing::Claim(_)) {
            kinds.insert(*variable, Kind::Text);
        }
    }
    let conjunction = Conjunction { things, said: &said, present: &present, steps };
    let Some(mut values) = conjunction.with_kinds(kinds)? else { return Ok(None) };
    for variable in said.iter().flat_map(|(atom, _)| atom.variables()) {
        values.entry(variable).or_insert(None);
    }
    conjunction.name_the_subject(&mut values);
    for (atom, holds) in &said {
        if let Atom::Flag(variable) = atom {
            values.insert(*variable, Some(json!(holds)));
        }
    }
    Ok(Some(values))
}

/// How long ago the sign-in may be: in the middle of what is allowed, so that it still is a moment later.
fn age(said: &[(&Atom, bool)]) -> Option<Value> {
    let limits = |wanted: bool| {
        said.iter().filter(move |(_, holds)| *holds == wanted).filter_map(|(atom, _)| match atom {
            Atom::Within(_, seconds) => Some(*seconds),
            _ => None,
        })
    };
    match (limits(false).max(), limits(true).min()) {
        (Some(over), Some(within)) if over >= within => None,
        (over, Some(within)) => {
            let over = over.unwrap_or(0);
            let room = within - over;
            Some(if room >= 2 { json!(over + room / 2) } else { json!(over as f64 + 0.5) })
        }
        (Some(over), None) => Some(json!(over.saturating_add(1))),
        (None, None) => Some(json!(0)),
    }
}

/// The variables that have to be there for what is said to hold. Nothing if some are to be and not to be there.
fn present(things: &[Thing], said: &[(&Atom, bool)]) -> Option<BTreeSet<usize>> {
    let mut present: BTreeSet<usize> = BTreeSet::new();
    for (atom, holds) in said {
        let variables = atom.variables();
        let always = variables.iter().copied().filter(|variable| matches!(things[*variable], Thing::Segment { .. }));
        present.extend(always);
        match atom {
            Atom::Compare(left, _, right) if *holds => {
                if [left, right].into_iter().any(|term| *term == Term::Nothing) {
                    return None;
                }
                present.extend(variables);
            }
            Atom::OneOf(term, _) if *holds && *term == Term::Nothing => return None,
            Atom::OneOf(..) | Atom::There(_) | Atom::Flag(_) if *holds => present.extend(variables),
            _ => {}
        }
    }
    let is_there = |variable: &usize| present.contains(variable);
    let contradicts = |(atom, holds): &(&Atom, bool)| match atom {
        Atom::Apart(one, other) => (is_there(one) && is_there(other)) == *holds,
        Atom::There(variable) | Atom::Flag(variable) => !holds && is_there(variable),
        _ => false,
    };
    (!said.iter().any(contradicts)).then_some(present)
}

struct Conjunction<'a, 'p> {
    things: &'a [Thing],
    said: &'a [(&'a Atom, bool)],
    present: &'a BTreeSet<usize>,
    steps: &'a Steps<'p>,
}

impl Conjunction<'_, '_> {
    /// Finds out what kind of value each claim has, as far as it has to be one; where a list leaves several, each is tried.
    fn with_kinds(&self, mut kinds: BTreeMap<usize, Kind>) -> Result<Option<Values>, Exhausted> {
        let mut changed = true;
        while changed {
            changed = false;
            self.steps.take(self.said.len())?;
            for (atom, _) in self.said.iter().filter(|(_, holds)| *holds) {
                let Atom::Compare(left, comparison, right) = atom else { continue };
                let ordered = !matches!(comparison, Comparison::Equal | Comparison::Unequal);
                let known = [left, right].into_iter().find_map(|term| kind_of(term, &kinds));
                let known = if ordered { Some(Kind::Number) } else { known };
                let Some(kind) = known else { continue };
                for term in [left, right] {
                    match kind_of(term, &kinds) {
                        Some(other) if other != kind => return Ok(None),
                        Some(_) => {}
                        None => {
                            if let Term::Variable(variable) = term {
                                kinds.insert(*variable, kind);
                                changed = true;
                            }
                        }
                    }
                }
            }
        }
        let open = self.said.iter().find_map(|(atom, holds)| match atom {
            Atom::OneOf(Term::Variable(variable), values) if *holds && !kinds.contains_key(variable) => {
                Some((*variable, values.iter().filter_map(Kind::of).collect::<BTreeSet<_>>()))
            }
            _ => None,
        });
        if let Some((variable, choices)) = open {
            for kind in choices {
                let mut kinds = kinds.clone();
                kinds.insert(variable, kind);
                if let Some(values) = self.with_kinds(kinds)? {
                    return Ok(Some(values));
                }
            }
            return Ok(None);
        }
        // Claims that only have to differ from each other, or be alike: any kind with enough values will do.
        for variable in self.present.iter().filter(|variable| matches!(self.things[**variable], Thing::Claim(_))) {
            kinds.entry(*variable).or_insert(Kind::Text);
        }
        self.of_kinds(&kinds)
    }

    fn of_kinds(&self, kinds: &BTreeMap<usize, Kind>) -> Result<Option<Values>, Exhausted> {
        let (mut words, mut numbers, mut flags) = (Words::new(self.things), Vec::new(), Vec::new());
        for (atom, holds) in self.said {
            let (terms, kind): (Vec<&Term>, _) = match atom {
                Atom::Compare(left, comparison, right) => {
                    let kind = kind_of(left, kinds).filter(|kind| kind_of(right, kinds) == Some(*kind));
                    let ordered = !matches!(comparison, Comparison::Equal | Comparison::Unequal);
                    (vec![left, right], kind.filter(|kind| !ordered || *kind == Kind::Number))
                }
                Atom::OneOf(term, values) => {
                    let kind = kind_of(term, kinds);
                    (vec![term], kind.filter(|kind| values.iter().any(|value| Kind::of(value) == Some(*kind))))
                }
                _ => continue,
            };
            let is_there = |term: &&Term| term.variables().iter().all(|variable| self.present.contains(variable));
            let Some(kind) = kind.filter(|_| terms.iter().all(is_there)) else {
                // One that is missing, or of another type, makes it false.
                if *holds {
                    return Ok(None);
                }
                continue;
            };
            match kind {
                Kind::Text => words.demand(demand(atom, *holds)),
                Kind::Number => numbers.push((*atom, *holds)),
                Kind::Boolean => flags.push((*atom, *holds)),
            }
        }
        let of_kind = |wanted: Kind| -> Vec<usize> {
            kinds.iter().filter(|(_, kind)| **kind == wanted).map(|(variable, _)| *variable).collect()
        };
        let booleans = vec![json!(true), json!(false)];
        let Some(mut values) = try_out(&of_kind(Kind::Boolean), &booleans, &flags, self.things, self.steps)? else {
            return Ok(None);
        };
        let variables = of_kind(Kind::Number);
        let domain = numbers::worth_trying(&variables, &numbers);
        let Some(found) = try_out(&variables, &domain, &numbers, self.things, self.steps)? else { return Ok(None) };
        values.extend(found);
        let Some(texts) = words.solve(&of_kind(Kind::Text), self.steps)? else { return Ok(None) };
        values.extend(texts.into_iter().map(|(variable, text)| (variable, Value::String(text))));
        Ok(Some(values.into_iter().map(|(variable, value)| (variable, Some(value))).collect()))
    }

    /// A caller has a name as a rule: it is given back if nothing that was said speaks against it.
    fn name_the_subject(&self, values: &mut Values) {
        let subject =
            values.iter().find(|(variable, value)| self.things[**variable] == Thing::Subject && value.is_none());
        let Some((variable, _)) = subject.map(|(variable, value)| (*variable, value.clone())) else { return };
        values.insert(variable, Some(json!("somebody")));
        let value = |variable: usize| values.get(&variable).map(Option::as_ref);
        let is_as_said = |(atom, holds): &(&Atom, bool)| super::truth::truth(atom, self.things, &value) == Some(*holds);
        if !self.said.iter().all(is_as_said) {
            values.insert(variable, None);
        }
    }
}

fn kind_of(term: &Term, kinds: &BTreeMap<usize, Kind>) -> Option<Kind> {
    match term {
        Term::Literal(value) => Kind::of(value),
        Term::Variable(variable) => kinds.get(variable).copied(),
        Term::Joined(_) => Some(Kind::Text),
        Term::Nothing => None,
    }
}

/// What an atom over texts asks of them.
fn demand(atom: &Atom, holds: bool) -> Demand {
    match atom {
        Atom::Compare(left, comparison, right) => {
            let (left, right) = (word(left), word(right));
            if (*comparison == Comparison::Equal) == holds {
                Demand::Same(left, right)
            } else {
                Demand::Differ(left, right)
            }
        }
        Atom::OneOf(term, values) => {
            let texts: Vec<String> = values.iter().filter_map(|value| value.as_str().map(str::to_owned)).collect();
            if holds { Demand::OneOf(word(term), texts) } else { Demand::NoneOf(word(term), texts) }
        }
        _ => Demand::NoneOf(Word::new(), Vec::new()),
    }
}

fn word(term: &Term) -> Word {
    let text = |text: &str| text.chars().map(Sign::Character).collect::<Word>();
    match term {
        Term::Literal(value) => text(value.as_str().unwrap_or_default()),
        Term::Variable(variable) => vec![Sign::Variable(*variable)],
        Term::Joined(pieces) => pieces
            .iter()
            .flat_map(|piece| match piece {
                Piece::Text(part) => text(part),
                Piece::Variable { number, .. } => vec![Sign::Variable(*number)],
            })
            .collect(),
        Term::Nothing => Word::new(),
    }
}

/// Tries all values of a domain for each of the variables.
fn try_out(
    variables: &[usize],
    domain: &[Value],
    said: &[(&Atom, bool)],
    things: &[Thing],
    steps: &Steps<'_>,
) -> Result<Option<BTreeMap<usize, Value>>, Exhausted> {
    let (mut values, mut choices, mut at) = (BTreeMap::new(), vec![0; variables.len()], 0);
    loop {
        let Some(variable) = variables.get(at) else { return Ok(Some(values)) };
        let next = choices[at];
        let Some(value) = domain.get(next) else {
            values.remove(variable);
            choices[at] = 0;
            let Some(before) = at.checked_sub(1) else { return Ok(None) };
            at = before;
            continue;
        };
        choices[at] += 1;
        values.insert(*variable, value.clone());
        let known = |variable: usize| values.get(&variable).map(Some);
        let fits =
            |(atom, holds): &(&Atom, bool)| super::truth::truth(atom, things, &known).is_none_or(|held| held == *holds);
        let misfit = said.iter().position(|said| !fits(said));
        steps.take(1 + misfit.unwrap_or(said.len()) / 2)?;
        if misfit.is_none() {
            at += 1;
        }
    }
}
