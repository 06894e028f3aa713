//! Whether an atom is true, as far as can be told from the variables that have a value.

use serde_json::Value;

use super::atoms::{Atom, Piece, Term, Thing};
use crate::rule::{Comparison, Held, compare};

/// The values chosen so far: nothing for a variable that has none yet, and `Some(None)` for what is not there.
pub(super) trait Values<'v>: Fn(usize) -> Option<Option<&'v Value>> {}

impl<'v, F: Fn(usize) -> Option<Option<&'v Value>>> Values<'v> for F {}

pub(super) fn truth<'v>(atom: &Atom, things: &[Thing], value: &impl Values<'v>) -> Option<bool> {
    match atom {
        Atom::Flag(variable) => Some(value(*variable)? == Some(&Value::Bool(true))),
        Atom::There(variable) => Some(value(*variable)?.is_some()),
        Atom::Credential(variable, kind) => Some(value(*variable)?.and_then(Value::as_u64)? & 1 << *kind as u8 != 0),
        Atom::Within(variable, seconds) => {
            Some(value(*variable)?.and_then(Value::as_f64).is_some_and(|ago| ago <= *seconds as f64))
        }
        Atom::Compare(left, comparison, right) => match (resolve(left, value), resolve(right, value)) {
            // One that is missing settles the matter.
            (Some(None), _) | (_, Some(None)) => Some(false),
            (Some(Some(left)), Some(Some(right))) => Some(compare(Held::Json(&left), *comparison, Held::Json(&right))),
            _ => None,
        },
        Atom::OneOf(term, values) => {
            let held = resolve(term, value)?;
            Some(held.is_some_and(|held| values.iter().any(|one| same(&held, one))))
        }
        Atom::Apart(one, other) => {
            let there = |variable: usize| {
                let is_flag = matches!(things[variable], Thing::ListHolds(..));
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

fn resolve<'v>(term: &Term, value: &impl Values<'v>) -> Option<Option<Value>> {
    match term {
        Term::Literal(literal) => Some(Some(literal.clone())),
        Term::Nothing => Some(None),
        Term::Variable(variable) => value(*variable).map(Option::<&Value>::cloned),
        Term::Joined(pieces) => {
            let mut text = String::new();
            for piece in pieces {
                match piece {
                    Piece::Text(part) => text.push_str(part),
                    Piece::Variable { number, .. } => match value(*number)?.and_then(Value::as_str) {
                        Some(part) => text.push_str(part),
                        None => return Some(None),
                    },
                }
            }
            Some(Some(Value::String(text)))
        }
    }
}

/// Whether two values are the same to a rule.
pub(super) fn same(one: &Value, other: &Value) -> bool {
    compare(Held::Json(one), Comparison::Equal, Held::Json(other))
}
