//! Questions about rules, answered exactly: is there any caller, with any path, for whom this holds?
//!
//! A rule has finitely many atoms. The search says of one after the other whether it holds, and asks after each whether
//! there can still be a caller like that; so it finds one if there is any, and what it finds is one whom the plan itself
//! can be asked about. A question can be hard, as hard as any puzzle, so each has a budget, and an answer is exact or "not
//! settled".

mod atoms;
mod budget;
mod caller;
mod model;
mod numbers;
mod paths;
mod search;
mod truth;
mod words;

pub(super) use atoms::Thing;
pub use budget::Budget;
pub(super) use budget::Purse;
pub(super) use model::{Holding, Model};
pub(super) use paths::{Patterns, Shape, Spelling};
pub(super) use search::{Answer, Found};
