//! The numbers worth trying: one of each sort that the atoms can tell apart.
//!
//! A number that is none of the literals lies below, between or above some of them. There are as many numbers in each of
//! these gaps as there are variables, so that all can differ, in any order.

use std::collections::HashSet;

use serde_json::{Number, Value};

use super::atoms::{Atom, Term};
use crate::rule::{Comparison, Held, compare};

/// Numbers for so many variables that are compared with each other and with literals.
pub(super) fn worth_trying(variables: &[usize], said: &[(&Atom, bool)]) -> Vec<Value> {
    let mut literals: Vec<&Value> = Vec::new();
    for (atom, _) in said {
        match atom {
            Atom::Compare(left, _, right) => literals.extend([left, right].into_iter().filter_map(|term| match term {
                Term::Literal(value) => Some(value),
                _ => None,
            })),
            Atom::OneOf(_, values) => literals.extend(values),
            _ => {}
        }
    }
    if variables.len() == 1 {
        let bounds = bounds(said);
        literals.retain(|value| bounds.iter().all(|(over, bound)| is_within(value, *over, bound)));
        literals.extend(bounds.iter().map(|(_, bound)| *bound));
    }
    let numbers: Vec<Number> = literals.into_iter().filter_map(|value| value.as_number().cloned()).collect();
    around(&numbers, variables.len()).into_iter().map(Value::Number).collect()
}

/// The largest literal that the variable has to be over, and the least one that it has to be under, each with whether it is
/// the former. Whether the literal itself will do makes no difference here.
fn bounds<'a>(said: &[(&'a Atom, bool)]) -> Vec<(bool, &'a Value)> {
    let mut bounds: [Option<&Value>; 2] = [None, None];
    for (atom, holds) in said {
        let (comparison, literal, swapped) = match atom {
            Atom::Compare(Term::Variable(_), comparison, Term::Literal(literal)) => (*comparison, literal, false),
            Atom::Compare(Term::Literal(literal), comparison, Term::Variable(_)) => (*comparison, literal, true),
            _ => continue,
        };
        let is_over = match comparison {
            Comparison::Greater | Comparison::AtLeast => !swapped,
            Comparison::Less | Comparison::AtMost => swapped,
            _ => continue,
        };
        let over = is_over == *holds;
        let bound = &mut bounds[usize::from(over)];
        if bound.is_none_or(|known| is_within(literal, over, known)) {
            *bound = Some(literal);
        }
    }
    let [under, over] = bounds;
    under.map(|bound| (false, bound)).into_iter().chain(over.map(|bound| (true, bound))).collect()
}

fn is_within(value: &Value, over: bool, bound: &Value) -> bool {
    let comparison = if over { Comparison::AtLeast } else { Comparison::AtMost };
    compare(Held::Json(value), comparison, Held::Json(bound))
}

/// These numbers, their neighbours, and enough between, below and above them that so many can differ in any order.
pub(super) fn around(literals: &[Number], count: usize) -> Vec<Number> {
    let mut numbers: Vec<Number> = literals.to_vec();
    for number in literals {
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
    let whole_if_small = |number: Number| match number.as_f64() {
        Some(float) if float.abs() < 9e15 && float.fract() == 0.0 => Number::from(float as i64),
        _ => number,
    };
    let mut known = HashSet::new();
    numbers.into_iter().map(whole_if_small).filter(|number| known.insert(number.clone())).collect()
}
