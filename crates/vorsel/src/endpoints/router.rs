//! The endpoints as routes.

use std::sync::Arc;

use axum::Json;
use axum::extract::{DefaultBodyLimit, State};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use http::header::CACHE_CONTROL;
use serde::Serialize;
use serde_json::json;

use super::state::Endpoints;
use super::{revoke, token};
use crate::guard::Routes;

/// A refresh token has about 500 bytes; a form has room for that and a few parameters.
const LARGEST_FORM: usize = 32 * 1024;
/// How long clients may keep the metadata.
const CACHE: &str = "public, max-age=300";

impl<C: Serialize + Send + Sync + 'static> Endpoints<C> {
    /// The routes to merge into the app's own. Each has to be open in the access plan.
    pub fn routes<S: Clone + Send + Sync + 'static>(self) -> Routes<S> {
        let path = |name: &str| format!("{}/{name}", self.prefix);
        // Whoever hangs up after the last byte of a request has asked for it.
        let under_way = self.sessions.access_tokens().under_way().clone();
        Routes::new()
            .route(&path("token"), post(token::renew::<C>))
            .route(&path("revoke"), post(revoke::revoke::<C>))
            .route(&path("keys"), get(keys::<C>))
            .route("/.well-known/oauth-authorization-server", get(metadata::<C>))
            .layer(DefaultBodyLimit::max(LARGEST_FORM))
            .carry_out(&path("token"), &under_way)
            .carry_out(&path("revoke"), &under_way)
            .with_state(Arc::new(self))
    }
}

/// Clients may keep the key set for as long as the keyring waits before it has a new key sign.
async fn keys<C: Serialize + Send + Sync + 'static>(State(endpoints): State<Arc<Endpoints<C>>>) -> Response {
    let ring = endpoints.sessions.keys().access.current();
    let cache = format!("public, max-age={}", ring.times().cache_time.as_secs());
    ([(CACHE_CONTROL, cache)], Json(ring.key_set().to_public_jwk_set())).into_response()
}

/// [RFC 8414 section 2](https://www.rfc-editor.org/rfc/rfc8414#section-2). No response type is supported, since there is
/// no authorization endpoint.
async fn metadata<C: Serialize + Send + Sync + 'static>(State(endpoints): State<Arc<Endpoints<C>>>) -> Response {
    let at = |name: &str| format!("{}{}/{name}", endpoints.base, endpoints.prefix);
    let metadata = json!({
        "issuer": endpoints.sessions.access_tokens().issuer(),
        "token_endpoint": at("token"),
        "revocation_endpoint": at("revoke"),
        "jwks_uri": at("keys"),
        "response_types_supported": [],
        "grant_types_supported": ["refresh_token"],
        "token_endpoint_auth_methods_supported": ["none"],
        "revocation_endpoint_auth_methods_supported": ["none"],
    });
    ([(CACHE_CONTROL, CACHE)], Json(metadata)).into_response()
}
