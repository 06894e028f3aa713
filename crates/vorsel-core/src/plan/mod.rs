//! The access plan: every route with the rule that guards it, the roles and the named policies.

mod builder;
mod compile;
mod decide;
mod draft;
mod mistake;
mod table;
mod text;
mod why;

pub use decide::{Unmet, Verdict};
pub use draft::PlanBuilder;
pub use mistake::{Mistake, Place, PlanError};
pub use table::{Access, AccessPlan, Route};
pub use why::{SupposedCaller, SupposedCallerError, Why};
