//! The guard: finds the credentials, checks them, asks the plan, and hands the handler its caller.

#[cfg(feature = "axum")]
mod anonymous;
mod api_key;
#[cfg(feature = "axum")]
mod app;
mod builder;
mod caller;
mod credentials;
mod decide;
#[cfg(feature = "axum")]
mod extract;
mod identify;
mod inner;
mod known;
mod log;
#[cfg(feature = "axum")]
mod partial;
mod predicate;
mod request;
mod response;
mod revocation;
#[cfg(feature = "axum")]
mod routes;
mod service;

pub use api_key::{ApiKey, ApiKeyHash, ApiKeyHashError, ApiKeyOwner, ApiKeys};
#[cfg(feature = "axum")]
pub use app::{GuardedApp, GuardedAppFuture};
pub use builder::{GuardBuilder, GuardError};
pub use caller::Caller;
#[cfg(feature = "axum")]
pub(crate) use credentials::{Origin, SameSite};
pub use decide::{Admitted, Deciding, Guard};
#[cfg(feature = "axum")]
pub use extract::NoCaller;
#[cfg(feature = "axum")]
pub use partial::PartialGuard;
pub use predicate::{Answered, PredicateAnswer, PredicateRequest};
pub use request::RequestHead;
pub use response::StopCode;
pub use revocation::WhenSilent;
#[cfg(feature = "axum")]
pub use routes::{Routes, RoutesError};
pub use service::{Guarded, GuardedFuture};
