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
        Comparison::Unequal => differ(left, right),
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

fn differ(left: Held<'_>, right: Held<'_>) -> bool {
    if let (Some(left), Some(right)) = (left.number(), right.number()) {
        return order(left, right).is_some_and(Ordering::is_ne);
    }
    let texts = left.text().zip(right.text()).is_some_and(|(left, right)| left != right);
    texts || left.boolean().zip(right.boolean()).is_some_and(|(left, right)| left != right)
}

/// By value, never by rounding. A number beyond 64 bits was rounded when it was read, so it is greater or less than others
/// and equal to none; two of them on the same side do not compare.
fn order(left: &Number, right: &Number) -> Option<Ordering> {
    match (Size::of(left)?, Size::of(right)?) {
        (Size::Whole(left), Size::Whole(right)) => Some(left.cmp(&right)),
        (Size::Float(left), Size::Float(right)) => left.partial_cmp(&right),
        (Size::Whole(left), Size::Float(right)) => Some(whole_and_float(left, right)),
        (Size::Float(left), Size::Whole(right)) => Some(whole_and_float(right, left).reverse()),
        (Size::Huge(left), Size::Huge(right)) if left == right => None,
        (Size::Huge(Ordering::Greater), _) | (_, Size::Huge(Ordering::Less)) => Some(Ordering::Greater),
        (Size::Huge(_), _) | (_, Size::Huge(_)) => Some(Ordering::Less),
    }
}

/// Whether a value is a number beyond 64 bits, which nothing is equal to.
pub(crate) fn is_huge(value: &Value) -> bool {
    matches!(value.as_number().and_then(Size::of), Some(Size::Huge(_)))
}

#[derive(Clone, Copy)]
enum Size {
    Whole(i128),
    /// Smaller than what 64 bits hold.
    Float(f64),
    /// Beyond what 64 bits hold, on this side.
    Huge(Ordering),
}

impl Size {
    fn of(number: &Number) -> Option<Self> {
        const LIMIT: f64 = 18_446_744_073_709_551_616.0;
        const LEAST: f64 = -9_223_372_036_854_775_808.0;
        let whole = number.as_i64().map(i128::from).or_else(|| number.as_u64().map(i128::from));
        if let Some(whole) = whole {
            return Some(Self::Whole(whole));
        }
        Some(match number.as_f64()? {
            huge if huge >= LIMIT => Self::Huge(Ordering::Greater),
            huge if huge <= LEAST => Self::Huge(Ordering::Less),
            float => Self::Float(float),
        })
    }
}

/// The whole part first, which fits into 65 bits and is exact; then whether there is a fraction.
fn whole_and_float(whole: i128, float: f64) -> Ordering {
    whole.cmp(&(float.trunc() as i128)).then_with(|| 0.0.partial_cmp(&float.fract()).unwrap_or(Ordering::Equal))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::encoding::json::number;

    #[test]
    fn numbers_compare_by_value_or_not_at_all() {
        for (left, right, order) in [
            ("1", "1.0", "="),
            ("1", "1.5", "<"),
            ("-1", "-1.5", ">"),
            ("0", "-0.0", "="),
            ("9007199254740993", "9007199254740992.0", ">"),
            ("9007199254740993", "9007199254740994.0", "<"),
            ("18446744073709551615", "18446744073709551616", "<"),
            ("18446744073709551615", "18446744073709549568.0", ">"),
            ("-9223372036854775808", "-9223372036854775809", ">"),
            ("100000000000000000999", "100000000000000000001", "?"),
            ("1e20", "1e20", "?"),
            ("1e20", "1e300", "?"),
            ("1e20", "-1e20", ">"),
            ("1e20", "5", ">"),
            ("-1e20", "0.5", "<"),
        ] {
            let read = |text: &str| number(text).unwrap_or_else(|| panic!("{text}"));
            let (left, right) = (Value::Number(read(left)), Value::Number(read(right)));
            let holds = |comparison| compare(Held::Json(&left), comparison, Held::Json(&right));
            let seen = [Comparison::Less, Comparison::Equal, Comparison::Greater].map(holds);
            let expected = ["<", "=", ">"].map(|sign| sign == order);
            assert_eq!(seen, expected, "{left} {order} {right}");
            assert_eq!(holds(Comparison::AtMost), seen[0] || seen[1], "{left} <= {right}");
            assert_eq!(holds(Comparison::Unequal), !seen[1] && order != "?", "{left} != {right}");
        }
    }
}
