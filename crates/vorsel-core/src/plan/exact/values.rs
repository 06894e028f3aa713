//! The values worth trying: one of each sort that the atoms can tell apart.
//!
//! Why these are enough. An atom compares a variable with a literal or with other variables; it tells two values apart only
//! if one of them is such a literal, lies on another side of one, or is another variable's. Take any caller who fulfils a
//! formula. Variables that are never compared, not even by way of others, fall into families that have nothing to do with
//! each other, so each family can be looked at alone. Within a family of n members
//! - a text that is none of the literals can be exchanged for one of n new texts, equal ones for the same and different ones
//!   for different ones, and no atom notices: equality is all that texts are asked for;
//! - a number that is none of the literals lies below, between or above some of them; there are n numbers in each of these
//!   gaps, so the members that lie there can be given some of them in the same order;
//! - a text put together from parts of a path meets a literal only if the parts are pieces of that literal, so all of those
//!   are there, and it meets another variable only if that one has the joined text, so that is there too;
//! - `true`, `false` and "not there" are themselves.
//!
//! So somebody with values from here fulfils the formula as well, and the search may leave all others out.

use serde_json::{Number, Value, json};

use super::atoms::{Atom, Piece, Term, Thing};
use crate::credential::Credential;
use crate::rule::{Comparison, Held, compare};

/// For each thing its values, the most telling example first; `None` is "not there".
pub(super) fn domains(things: &[Thing], atoms: &[Atom]) -> Vec<Vec<Option<Value>>> {
    let families = families(things.len(), atoms);
    (0..things.len())
        .map(|variable| match &things[variable] {
            Thing::Role(_) | Thing::Scope(_) | Thing::Predicate(_) | Thing::ListHolds(..) => {
                vec![Some(json!(false)), Some(json!(true))]
            }
            Thing::IsOwnPerson => vec![Some(json!(true)), Some(json!(false))],
            // Whoever is known came with one credential at least.
            Thing::Credentials => (1..1_u8 << Credential::ALL.len()).map(|bits| Some(json!(bits))).collect(),
            Thing::SignedInAgo => ages(atoms),
            thing => {
                let family = families.iter().find(|family| family.members.contains(&variable));
                family.map_or_else(|| vec![None], |family| family.values(thing))
            }
        })
        .collect()
}

/// Seconds since the sign-in: each limit that a rule names, longer than the longest, and not known.
fn ages(atoms: &[Atom]) -> Vec<Option<Value>> {
    let mut limits: Vec<u64> = atoms
        .iter()
        .filter_map(|atom| if let Atom::Within(_, seconds) = atom { Some(*seconds) } else { None })
        .collect();
    limits.sort_unstable();
    limits.dedup();
    let beyond = limits.last().map(|longest| longest + 1);
    beyond.into_iter().chain(limits).map(|seconds| Some(json!(seconds))).chain([None]).collect()
}

/// Variables that are compared with each other, and the literals that they are compared with.
#[derive(Debug, Default)]
struct Family {
    members: Vec<usize>,
    texts: Vec<String>,
    numbers: Vec<Number>,
    /// Texts that are put together from members.
    joined: Vec<Vec<Piece>>,
}

fn families(variables: usize, atoms: &[Atom]) -> Vec<Family> {
    let mut families: Vec<Family> =
        (0..variables).map(|member| Family { members: vec![member], ..Family::default() }).collect();
    for atom in atoms {
        let terms = match atom {
            Atom::Compare(left, _, right) => vec![left, right],
            Atom::OneOf(term, _) => vec![term],
            _ => continue,
        };
        let mut joint = Family::default();
        for term in terms {
            match term {
                Term::Literal(value) => joint.literal(value),
                Term::Variable(variable) => joint.members.push(*variable),
                Term::Joined(pieces) => {
                    joint.members.extend(pieces.iter().filter_map(Piece::variable));
                    joint.joined.push(pieces.clone());
                }
                Term::Nothing => {}
            }
        }
        if let Atom::OneOf(_, values) = atom {
            values.iter().for_each(|value| joint.literal(value));
        }
        let (touched, apart): (Vec<_>, Vec<_>) =
            families.into_iter().partition(|family| family.members.iter().any(|member| joint.members.contains(member)));
        families = apart;
        for family in touched {
            joint.members.extend(family.members);
            joint.texts.extend(family.texts);
            joint.numbers.extend(family.numbers);
            joint.joined.extend(family.joined);
        }
        joint.members.sort_unstable();
        joint.members.dedup();
        families.push(joint);
    }
    families
}

impl Family {
    fn literal(&mut self, value: &Value) {
        match value {
            Value::String(text) => self.texts.push(text.clone()),
            Value::Number(number) => self.numbers.push(number.clone()),
            _ => {}
        }
    }

    fn values(&self, thing: &Thing) -> Vec<Option<Value>> {
        let texts = self.texts().into_iter().map(Value::String);
        let missing = std::iter::once(None);
        match thing {
            // An empty part of a path matches no parameter.
            Thing::Segment(_) | Thing::Parameter(_) => {
                texts.filter(|text| text.as_str() != Some("")).map(Some).chain(missing).collect()
            }
            Thing::Subject | Thing::Acr | Thing::Client | Thing::Issuer => texts.map(Some).chain(missing).collect(),
            Thing::KeyClient => missing.chain(texts.map(Some)).collect(),
            _ => {
                let plain =
                    texts.chain([json!(true), json!(false)]).chain(self.numbers().into_iter().map(Value::Number));
                missing.chain(plain.map(Some)).collect()
            }
        }
    }

    /// New texts, one for each member so that all can differ; then the texts of the rules, whole and in parts.
    fn texts(&self) -> Vec<String> {
        let mut texts: Vec<String> = Vec::new();
        let mut number = 1;
        while texts.len() < self.members.len() {
            let new = if number == 1 { "somebody".to_owned() } else { format!("somebody-{number}") };
            if !self.texts.contains(&new) {
                texts.push(new);
            }
            number += 1;
        }
        let mut wanted = self.texts.clone();
        for pieces in &self.joined {
            // What these may be put together to, and what the texts of the rules may be taken apart to.
            let whole = |fresh: &dyn Fn(usize) -> usize| -> String {
                let part = |(at, piece): (usize, &Piece)| match piece {
                    Piece::Text(text) => text.clone(),
                    Piece::Variable(_) => texts[fresh(at).min(texts.len() - 1)].clone(),
                };
                pieces.iter().enumerate().map(part).collect()
            };
            wanted.extend([whole(&|_| 0), whole(&|at| at)]);
            for text in &self.texts {
                let parts = std::iter::once(text.as_str()).chain(text.split('/'));
                wanted.extend(parts.flat_map(|part| part.char_indices().map(|(at, _)| part[at..].to_owned())));
            }
        }
        for text in wanted {
            if !texts.contains(&text) {
                texts.push(text);
            }
        }
        texts
    }

    /// The numbers of the rules, their neighbours, and enough between, below and above them that all members can differ
    /// in any order.
    fn numbers(&self) -> Vec<Number> {
        let count = self.members.len();
        let mut numbers: Vec<Number> = self.numbers.clone();
        for number in &self.numbers {
            if let Some(whole) = number.as_i128() {
                numbers.extend([whole - 1, whole + 1].into_iter().filter_map(Number::from_i128));
            }
            // A double beside a whole number beyond 2^53 may be equal to more than one of them.
            let float = number.as_f64().unwrap_or_default();
            numbers.extend([float, float.next_down(), float.next_up()].into_iter().filter_map(Number::from_f64));
        }
        let mut points: Vec<f64> = numbers.iter().filter_map(Number::as_f64).collect();
        points.sort_by(f64::total_cmp);
        points.dedup();
        let step = |times: usize| times as f64;
        match (points.first(), points.last()) {
            (Some(least), Some(greatest)) => {
                let outside = (1..=count).flat_map(|times| [least - step(times), greatest + step(times)]);
                let between = points.windows(2).flat_map(|pair| {
                    (1..=count).map(|times| pair[0] + (pair[1] - pair[0]) * step(times) / step(count + 1))
                });
                let more: Vec<_> = outside.chain(between).collect();
                numbers.extend(more.into_iter().filter_map(Number::from_f64));
            }
            _ => numbers.extend((1..=count).map(Number::from)),
        }
        let mut kept: Vec<Number> = Vec::new();
        for number in numbers {
            let same = |known: &Number| {
                let (known, number) = (Value::Number(known.clone()), Value::Number(number.clone()));
                compare(Held::Json(&known), Comparison::Equal, Held::Json(&number)) && known.is_f64() == number.is_f64()
            };
            let is_small = number.as_f64().is_some_and(|float| float.abs() < 9e15 && float.fract() == 0.0);
            let whole = if is_small { number.as_f64().map(|float| Number::from(float as i64)) } else { None };
            let number_or_whole = whole.unwrap_or_else(|| number.clone());
            if !kept.iter().any(|known| *known == number_or_whole || same(known)) {
                kept.push(number_or_whole);
            }
        }
        kept
    }
}
