//! Questions about rules, answered exactly: is there any caller, with any path, for whom this holds?
//!
//! A rule asks a caller finitely many things. Each thing takes infinitely many values, but those between which no atom of
//! the rules at hand tells a difference are as good as one. So a search through one value of each sort finds a caller if
//! there is any, and what it finds is one whom the plan itself can be asked about.

mod atoms;
mod model;
mod paths;
mod search;
mod truth;
mod values;

pub(super) use atoms::Thing;
pub(super) use model::{Holding, Model};
pub(super) use paths::{Shape, depth, meetings, shapes};
pub(super) use search::Found;
