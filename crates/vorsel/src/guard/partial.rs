//! The guard for some of the routes of an axum router.

use std::fmt;

use tower_layer::Layer;

use super::decide::Guard;
use super::service::Guarded;

/// A guard for some of the routes of an axum router: a layer that guards what it is put around and nothing else. Routes
/// that are added to the router later, or that it is not put around, are open, unless their handlers ask for a
/// [`Caller`](crate::Caller); it is for apps that want that. All others take [`Routes::guard`](crate::Routes::guard).
///
/// ```
/// # async fn example(guard: vorsel::Guard) -> Result<(), Box<dyn std::error::Error>> {
/// use axum::{Router, routing::get};
///
/// let guarded = Router::<()>::new().route("/dome", get("closed")).layer(guard.partial());
/// let app = guarded.route("/health", get("well")); // open: the layer is not around it
/// # Ok(())
/// # }
/// ```
pub struct PartialGuard<C> {
    guard: Guard<C>,
}

impl<C> Guard<C> {
    /// The same guard for a part of an axum router.
    #[must_use]
    pub const fn partial(self) -> PartialGuard<C> {
        PartialGuard { guard: self }
    }
}

impl<S, C> Layer<S> for PartialGuard<C> {
    type Service = Guarded<S, C>;

    fn layer(&self, inner: S) -> Guarded<S, C> {
        self.guard.clone().around(inner)
    }
}

impl<C> Clone for PartialGuard<C> {
    fn clone(&self) -> Self {
        Self { guard: self.guard.clone() }
    }
}

impl<C> fmt::Debug for PartialGuard<C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("PartialGuard").field("guard", &self.guard).finish()
    }
}
