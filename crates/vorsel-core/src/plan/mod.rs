//! The access plan: every route with the rule that guards it, the roles and the named policies.

mod builder;
mod compare;
mod compile;
mod decide;
mod draft;
mod exact;
mod lint;
mod method;
mod mistake;
mod openapi;
mod pattern;
mod reached;
mod samples;
mod table;
mod table_text;
mod text;
mod who;
mod why;
mod witness;
mod written;

pub use compare::{Change, RouteChange};
pub use decide::{CallerFacts, Unmet, Verdict};
pub use draft::PlanBuilder;
pub use exact::Budget;
pub use method::{METHODS, entries_for};
pub use mistake::{Mistake, Place, PlanError};
pub use openapi::{OpenApiCredentials, OpenApiDifferences, OpenApiError};
pub use pattern::PathPattern;
pub use reached::{HangsOn, RouteReached};
pub use table::{Access, AccessPlan, Route};
pub use who::{AccessRow, AccessTable, Reach, Who};
pub use why::{SupposedCaller, SupposedCallerError, Why};
pub use witness::Witness;
