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

/// Whether the app has a route that the plan has no entry for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum InApp {
    Perhaps,
    #[cfg(feature = "axum")]
    No,
    #[cfg(feature = "axum")]
    Yes,
}

impl KnownRoutes {
    pub(super) fn have(&self, request: &dyn RequestHead) -> InApp {
        let _ = request;
        match self {
            Self::Unknown => InApp::Perhaps,
            #[cfg(feature = "axum")]
            Self::Listed => InApp::No,
            #[cfg(feature = "axum")]
            Self::Asked(map) => match map.at(request.method(), request.path()) {
                Met::Routed { has_method: true, .. } => InApp::Yes,
                _ => InApp::No,
            },
        }
    }

    pub(super) fn lack(&self, request: &dyn RequestHead) -> bool {
        #[cfg(feature = "axum")]
        return self.have(request) == InApp::No;
        #[cfg(not(feature = "axum"))]
        return !matches!(self.have(request), InApp::Perhaps);
    }
}
