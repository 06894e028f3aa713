//! A ready sign-in by password.

mod answer;
mod attempt;
mod hooks;

pub(super) use answer::sign_in;
pub use hooks::{Known, NotYet, PasswordSignIn, SignInSoFar};
