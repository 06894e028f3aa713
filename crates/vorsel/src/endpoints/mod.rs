//! The standard endpoints around sessions, ready to mount: renewal, revocation, key set and metadata.
//!
//! | path | what |
//! |---|---|
//! | `POST {prefix}/token` | renewal, the `refresh_token` grant ([RFC 6749 section 6](https://www.rfc-editor.org/rfc/rfc6749#section-6)) |
//! | `POST {prefix}/revoke` | sign-out ([RFC 7009](https://www.rfc-editor.org/rfc/rfc7009)) |
//! | `GET {prefix}/keys` | the public keys, a JWK Set |
//! | `GET /.well-known/oauth-authorization-server` | where the others are ([RFC 8414](https://www.rfc-editor.org/rfc/rfc8414)) |
//!
//! Signing in stays with the app: it checks the password and calls [`Sessions::start`]. The routes must be `open` in the
//! access plan, since whoever calls them has no access token or an expired one.

mod form;
mod reply;
mod revoke;
mod token;

use std::fmt;
use std::sync::Arc;

use axum::extract::{DefaultBodyLimit, State};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use http::header::CACHE_CONTROL;
use serde::Serialize;
use serde_json::{Value, json};
use vorsel_core::KeySet;

use crate::sessions::Sessions;

pub use reply::token_reply;

/// The endpoints of one issuer.
pub struct Endpoints<C> {
    sessions: Arc<Sessions<C>>,
    base: String,
    prefix: String,
    keys: Value,
    clients: Vec<String>,
}

/// A refresh token has about 500 bytes; a form has room for that and a few parameters.
const LARGEST_FORM: usize = 32 * 1024;
/// How long clients may keep the key set and the metadata.
const CACHE: &str = "public, max-age=300";

impl<C: Serialize + Send + Sync + 'static> Endpoints<C> {
    /// Endpoints for `sessions`, reached from outside under `base` (`https://id.skarnhill.test`) and `prefix`
    /// (`/oauth`), for the public clients of these names.
    #[must_use]
    pub fn new(sessions: Arc<Sessions<C>>, base: &str, prefix: &str, clients: &[&str]) -> Self {
        let keys = KeySet::new([sessions.issuer().key().verifying_key()]).to_public_jwk_set();
        Self {
            sessions,
            base: base.trim_end_matches('/').to_owned(),
            prefix: format!("/{}", prefix.trim_matches('/')).trim_end_matches('/').to_owned(),
            keys: Value::Object(keys),
            clients: clients.iter().map(|client| (*client).to_owned()).collect(),
        }
    }

    /// The router to merge into the app's own.
    pub fn router<S: Clone + Send + Sync + 'static>(self) -> Router<S> {
        let path = |name: &str| format!("{}/{name}", self.prefix);
        Router::new()
            .route(&path("token"), post(token::renew::<C>))
            .route(&path("revoke"), post(revoke::revoke::<C>))
            .route(&path("keys"), get(keys::<C>))
            .route("/.well-known/oauth-authorization-server", get(metadata::<C>))
            .layer(DefaultBodyLimit::max(LARGEST_FORM))
            .with_state(Arc::new(self))
    }

    /// Whether a client of this name is known; a request may also leave its name out.
    fn knows(&self, client_id: Option<&str>) -> bool {
        client_id.is_none_or(|client_id| self.clients.iter().any(|known| known == client_id))
    }
}

async fn keys<C>(State(endpoints): State<Arc<Endpoints<C>>>) -> Response {
    ([(CACHE_CONTROL, CACHE)], Json(endpoints.keys.clone())).into_response()
}

/// [RFC 8414 section 2](https://www.rfc-editor.org/rfc/rfc8414#section-2). No response type is supported, since there is
/// no authorization endpoint.
async fn metadata<C: Serialize + Send + Sync + 'static>(State(endpoints): State<Arc<Endpoints<C>>>) -> Response {
    let at = |name: &str| format!("{}{}/{name}", endpoints.base, endpoints.prefix);
    let metadata = json!({
        "issuer": endpoints.sessions.issuer().name(),
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

impl<C> fmt::Debug for Endpoints<C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Endpoints").field("base", &self.base).field("prefix", &self.prefix).finish_non_exhaustive()
    }
}
