//! The guard: finds the credential, checks it, asks the plan, and hands the handler its caller.

mod caller;
mod decide;
#[cfg(feature = "axum")]
mod extract;
mod header;
mod service;

pub use caller::Caller;
pub use decide::Guard;
#[cfg(feature = "axum")]
pub use extract::NoCaller;
pub use service::{Guarded, GuardedFuture};
