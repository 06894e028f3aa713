//! What comes of a request, and what the client is told of it.

mod outcome;
mod refusal;
mod reply;

pub use outcome::{Outcome, Stop};
pub use refusal::Refusal;
pub use reply::{Answer, Challenge, problem};
