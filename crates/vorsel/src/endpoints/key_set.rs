//! The public keys.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::response::{IntoResponse, Response};
use http::header::CACHE_CONTROL;
use serde::Serialize;

use super::state::Shared;

/// Clients may keep the key set for as long as the keyring waits before it has a new key sign.
pub(super) async fn key_set<C: Serialize + Send + Sync + 'static>(State(shared): State<Arc<Shared<C>>>) -> Response {
    let ring = shared.sessions.keys().access.current();
    let cache = format!("public, max-age={}", ring.times().cache_time.as_secs());
    ([(CACHE_CONTROL, cache)], Json(ring.key_set().to_public_jwk_set())).into_response()
}
