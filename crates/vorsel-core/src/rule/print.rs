//! Rules as text; what is printed reads back as the same rule.

use std::fmt::{self, Display, Formatter};

use serde_json::Value;

use super::token::is_plain_member;
use super::tree::{Comparison, Operand, Rule};
use crate::time::UNITS;

impl Display for Rule {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Self::SignedIn => f.write_str("signed-in"),
            Self::SignedInWithin(span) => {
                let seconds = span.as_secs();
                let whole = UNITS.iter().find(|(size, _)| seconds % size == 0);
                let (size, unit) = whole.copied().unwrap_or((1, "s"));
                write!(f, "signed-in within {}{unit}", seconds / size)
            }
            Self::Role(name) => named(f, "role", name),
            Self::Scope(name) => named(f, "scope", name),
            Self::Policy(name) => named(f, "policy", name),
            Self::Credential(kind) => write!(f, "credential {kind}"),
            Self::Predicate(name) => named(f, "predicate", name),
            Self::Client(id) => named(f, "client", id),
            Self::Issuer(name) => named(f, "issuer", name),
            Self::Compare(left, comparison, right) => write!(f, "{left} {comparison} {right}"),
            Self::In(operand, values) => {
                write!(f, "{operand} in [")?;
                for (index, value) in values.iter().enumerate() {
                    write!(f, "{}{value}", if index == 0 { "" } else { ", " })?;
                }
                f.write_str("]")
            }
            Self::Contains(operand, value) => write!(f, "{operand} contains {value}"),
            Self::Not(inner) => match **inner {
                Self::All(_) | Self::Any(_) => write!(f, "not ({inner})"),
                _ => write!(f, "not {inner}"),
            },
            Self::All(rules) => joined(f, rules, " and "),
            Self::Any(rules) => joined(f, rules, " or "),
        }
    }
}

/// A list of rules; a list within it is put in parentheses, so that the reader need not know which word binds tighter.
fn joined(f: &mut Formatter<'_>, rules: &[Rule], word: &str) -> fmt::Result {
    for (index, rule) in rules.iter().enumerate() {
        f.write_str(if index == 0 { "" } else { word })?;
        match rule {
            Rule::All(_) | Rule::Any(_) => write!(f, "({rule})")?,
            _ => write!(f, "{rule}")?,
        }
    }
    Ok(())
}

/// A name in quotes where it would not be read as one without.
fn named(f: &mut Formatter<'_>, word: &str, name: &str) -> fmt::Result {
    let is_plain = match Rule::parse(&format!("{word} {name}")) {
        Ok(
            Rule::Role(read)
            | Rule::Scope(read)
            | Rule::Policy(read)
            | Rule::Predicate(read)
            | Rule::Client(read)
            | Rule::Issuer(read),
        ) => read == name,
        _ => false,
    };
    if is_plain { write!(f, "{word} {name}") } else { write!(f, "{word} {}", Value::from(name)) }
}

impl Display for Operand {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Self::Subject => f.write_str("sub"),
            Self::Acr => f.write_str("acr"),
            Self::Claim(names) => {
                f.write_str("claims")?;
                for name in names {
                    match is_plain_member(name) {
                        true => write!(f, ".{name}")?,
                        false => write!(f, ".{}", Value::from(name.as_str()))?,
                    }
                }
                Ok(())
            }
            Self::Path(name) => write!(f, "path.{name}"),
            Self::Literal(value) => write!(f, "{value}"),
        }
    }
}

impl Display for Comparison {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Equal => "==",
            Self::Unequal => "!=",
            Self::Less => "<",
            Self::AtMost => "<=",
            Self::Greater => ">",
            Self::AtLeast => ">=",
        })
    }
}
