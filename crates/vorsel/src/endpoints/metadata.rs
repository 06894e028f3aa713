//! What clients and APIs are told of each other.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::response::{IntoResponse, Response};
use http::header::CACHE_CONTROL;
use serde::Serialize;
use serde_json::{Value, json};
use vorsel_core::Algorithm;

use super::state::Shared;
use super::which::Endpoint;

/// How long clients may keep the metadata.
const CACHE: &str = "public, max-age=300";

/// [RFC 8414 section 2](https://www.rfc-editor.org/rfc/rfc8414#section-2). No response type is supported, since there is
/// no authorization endpoint.
pub(super) async fn metadata<C: Serialize + Send + Sync + 'static>(State(shared): State<Arc<Shared<C>>>) -> Response {
    let mut document = json!({ "issuer": shared.issuer(), "response_types_supported": [] });
    let are_registered = shared.sessions.clients().is_some();
    let grants: &[&str] = if are_registered { &["refresh_token", "client_credentials"] } else { &["refresh_token"] };
    document["grant_types_supported"] = json!(grants);
    if let Some(scopes) = shared.sessions.declared_scopes() {
        document["scopes_supported"] = scopes.iter().collect();
    }
    let proofs = ["client_secret_basic", "client_secret_post", "private_key_jwt"];
    let algorithms: Vec<_> = Algorithm::ALL.iter().filter(|algorithm| !algorithm.is_symmetric()).collect();
    for (endpoint, name) in [
        (Endpoint::Token, "token_endpoint"),
        (Endpoint::Revocation, "revocation_endpoint"),
        (Endpoint::Introspection, "introspection_endpoint"),
        // Not a standard's name: RFC 8936 has none.
        (Endpoint::Feed, "revocation_feed_endpoint"),
        (Endpoint::KeySet, "jwks_uri"),
    ] {
        if !shared.has(endpoint) {
            continue;
        }
        document[name] = shared.address_of(endpoint).into();
        let nobody = !matches!(endpoint, Endpoint::Introspection | Endpoint::Feed);
        let methods = nobody.then_some("none").into_iter().chain(proofs.into_iter().filter(|_| are_registered));
        if endpoint != Endpoint::KeySet {
            document[format!("{name}_auth_methods_supported")] = methods.collect();
            if are_registered {
                let names = algorithms.iter().map(|algorithm| Value::from(algorithm.to_string()));
                document[format!("{name}_auth_signing_alg_values_supported")] = names.collect();
            }
        }
    }
    ([(CACHE_CONTROL, CACHE)], Json(document)).into_response()
}

/// [RFC 9728 section 2](https://www.rfc-editor.org/rfc/rfc9728#section-2).
pub(super) async fn resource_metadata<C: Serialize + Send + Sync + 'static>(
    State(shared): State<Arc<Shared<C>>>,
) -> Response {
    let mut document = json!({
        "resource": shared.sessions.access_tokens().audience(),
        "authorization_servers": [shared.issuer()],
        "bearer_methods_supported": ["header"],
    });
    if let Some(scopes) = shared.sessions.declared_scopes() {
        document["scopes_supported"] = scopes.iter().collect();
    }
    ([(CACHE_CONTROL, CACHE)], Json(document)).into_response()
}
