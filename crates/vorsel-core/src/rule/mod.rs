//! Rules: one boolean condition over the caller and the request, as Rust values and as one line of text.

mod compare;
mod error;
mod eval;
mod facts;
mod formula;
mod normal;
mod parse;
mod print;
mod reason;
mod token;
mod tree;

pub use error::RuleError;
pub use eval::StepUp;
pub use reason::Reason;
pub use tree::{
    Comparison, Operand, Rule, acr, claim, claim_at, client, credential, issuer, path, policy, predicate, role, scope,
    signed_in, signed_in_within, subject,
};

pub(crate) use compare::{Held, compare, is_huge};
pub(crate) use eval::Evaluator;
pub(crate) use facts::Facts;
pub(crate) use formula::{Formula, Formulas, Node};
pub(crate) use normal::{Atom, NormalForm, RoleBook, policies_in};
pub(crate) use reason::reason;
pub(crate) use token::is_name;
