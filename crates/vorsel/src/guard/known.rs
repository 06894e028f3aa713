//! What the guard knows of the app's own routes.

use super::request::RequestHead;
#[cfg(feature = "axum")]
use super::routes::{Met, RouterMap};

/// What is known of the app's own routes, so that what neither they nor the plan have is not there at all.
#[derive(Clone)]
pub(super) enum KnownRoutes {
    /// Nothing: what the plan does not have may be there all the same.
    Unknown,
    /// They were listed and held against the plan.
    #[cfg(feature = "axum")]
    Listed,
    /// The router can be asked.
    #[cfg(feature = "axum")]
    Asked(RouterMap),
}

impl KnownRoutes {
    /// Whether the app has what is asked for; nothing where that cannot be told.
    pub(super) fn have(&self, request: &dyn RequestHead) -> Option<bool> {
        let _ = request;
        match self {
            Self::Unknown => None,
            #[cfg(feature = "axum")]
            Self::Listed => Some(false),
            #[cfg(feature = "axum")]
            Self::Asked(map) => {
                Some(matches!(map.at(request.method(), request.path()), Met::Routed { has_method: true, .. }))
            }
        }
    }
}
