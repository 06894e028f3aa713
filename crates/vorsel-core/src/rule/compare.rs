//! How two values compare.

use std::cmp::Ordering;

use serde_json::{Number, Value};

use super::tree::Comparison;

/// A value that an operand stands for, where it is kept.
#[derive(Clone, Copy)]
pub(crate) enum Held<'v> {
    Json(&'v Value),
    Text(&'v str),
}

impl<'v> Held<'v> {
    fn text(self) -> Option<&'v str> {
        match self {
            Self::Text(text) => Some(text),
            Self::Json(value) => value.as_str(),
        }
    }

    const fn number(self) -> Option<&'v Number> {
        match self {
            Self::Json(Value::Number(number)) => Some(number),
            _ => None,
        }
    }

    fn boolean(self) -> Option<bool> {
        match self {
            Self::Json(value) => value.as_bool(),
            Self::Text(_) => None,
        }
    }
}

/// Whether two values compare so. Values of different types never do.
pub(crate) fn compare(left: Held<'_>, comparison: Comparison, right: Held<'_>) -> bool {
    match comparison {
        Comparison::Equal => equal(left, right),
        Comparison::Unequal => same_type(left, right) && !equal(left, right),
        _ => {
            let (Some(left), Some(right)) = (left.number(), right.number()) else { return false };
            match (comparison, order(left, right)) {
                (_, None) => false,
                (Comparison::Less, Some(order)) => order.is_lt(),
                (Comparison::AtMost, Some(order)) => order.is_le(),
                (Comparison::Greater, Some(order)) => order.is_gt(),
                (_, Some(order)) => order.is_ge(),
            }
        }
    }
}

pub(crate) fn equal(left: Held<'_>, right: Held<'_>) -> bool {
    if let (Some(left), Some(right)) = (left.number(), right.number()) {
        return order(left, right) == Some(Ordering::Equal);
    }
    let texts = left.text().zip(right.text()).is_some_and(|(left, right)| left == right);
    texts || left.boolean().zip(right.boolean()).is_some_and(|(left, right)| left == right)
}

fn same_type(left: Held<'_>, right: Held<'_>) -> bool {
    left.number().is_some() && right.number().is_some()
        || left.text().is_some() && right.text().is_some()
        || left.boolean().is_some() && right.boolean().is_some()
}

/// Whole numbers are compared exactly, which a double cannot do beyond 2^53.
fn order(left: &Number, right: &Number) -> Option<Ordering> {
    let whole = |number: &Number| number.as_i64().map(i128::from).or(number.as_u64().map(i128::from));
    match (whole(left), whole(right)) {
        (Some(left), Some(right)) => Some(left.cmp(&right)),
        _ => left.as_f64()?.partial_cmp(&right.as_f64()?),
    }
}
