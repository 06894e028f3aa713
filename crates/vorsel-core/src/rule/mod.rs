//! Rules: one boolean condition over the caller and the request, as Rust values and as one line of text.

mod error;
mod eval;
mod parse;
mod print;
mod token;
mod tree;

pub use error::RuleError;
pub use tree::{
    Comparison, Operand, Rule, acr, check, claim, credential, path, policy, role, scope, signed_in, signed_in_within,
    subject,
};

pub(crate) use eval::{Evaluator, Facts, Held, RoleBook, compare};
pub use eval::{Reason, StepUp};
pub(crate) use token::is_name;
