//! The guard: finds the credentials, checks them, asks the plan, and hands the handler its caller.

mod api_key;
mod builder;
mod caller;
mod decide;
#[cfg(feature = "axum")]
mod extract;
mod header;
mod known;
mod predicate;
mod response;
#[cfg(feature = "axum")]
mod routes;
mod service;
mod sources;

pub use api_key::{ApiKey, ApiKeyHash, ApiKeyHashError, ApiKeyOwner, ApiKeys};
pub use builder::{GuardBuilder, GuardError};
pub use caller::Caller;

pub use decide::{Admitted, Deciding, Guard};
#[cfg(feature = "axum")]
pub use extract::NoCaller;
pub use known::WhenSilent;
pub use predicate::{PredicateAnswer, PredicateRequest};
#[cfg(feature = "axum")]
pub use routes::{GuardedApp, GuardedAppFuture, Routes, RoutesError};
#[cfg(feature = "axum")]
pub use service::PartialGuard;
pub use service::{Guarded, GuardedFuture};
