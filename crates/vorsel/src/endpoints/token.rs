//! The token endpoint: renewal, and tokens for clients themselves.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Request, State};
use axum::response::Response;
use serde::Serialize;
use serde_json::Map;
use vorsel_core::{Scopes, with_causes};

use super::call::Call;
use super::reply::{Refused, token_reply, unkept};
use super::state::Shared;
use super::which::Endpoint;
use crate::clients::ClientGrant;
use crate::sessions::{ClientTokenError, RenewError, RenewalRequest};

pub(super) async fn token<C: Serialize + Send + Sync + 'static>(
    State(shared): State<Arc<Shared<C>>>,
    request: Request,
) -> Response {
    shared.answer(Endpoint::Token, request, decide).await
}

async fn decide<C: Serialize + Send + Sync + 'static>(shared: Arc<Shared<C>>, call: Call) -> Result<Response, Refused> {
    let grant = match call.form.required("grant_type")? {
        "refresh_token" => ClientGrant::RefreshToken,
        "client_credentials" if shared.sessions.clients().is_some() => ClientGrant::ClientCredentials,
        _ => return Err(Refused::because("unsupported_grant_type", "expected a grant type that is supported")),
    };
    if call.client.registered.as_ref().is_some_and(|client| !client.has_grant(grant)) {
        let reason = format!("the client may not have tokens for {}", grant.as_str());
        return Err(Refused::because("unauthorized_client", reason));
    }
    let scopes = call.form.get("scope").map(Scopes::parse).transpose();
    let scopes = scopes.map_err(|error| Refused::because("invalid_scope", error.to_string()))?;
    match grant {
        ClientGrant::RefreshToken => renew(&shared, &call, scopes.as_ref()).await,
        ClientGrant::ClientCredentials => for_client(&shared, &call, scopes.as_ref()).await,
    }
}

/// The client learns that its grant is no good and no more; the sessions have logged why.
async fn renew<C: Serialize + Send + Sync + 'static>(
    shared: &Shared<C>,
    call: &Call,
    scopes: Option<&Scopes>,
) -> Result<Response, Refused> {
    let audience = shared.sessions.access_tokens().audience();
    if let Some(found) = call.form.get("resource").filter(|found| *found != audience) {
        return Err(Refused::because("invalid_target", format!("expected {audience:?}, but found {found:?}")));
    }
    let request = RenewalRequest { client_id: Some(&call.client.id), scopes };
    let brought = call.refresh_token(shared, "refresh_token")?;
    match (shared.sessions.renew(&brought.token, request).await, &shared.pages) {
        (Ok(reply), Some(pages)) if brought.is_page => Ok(pages.reply(&reply, Map::new())),
        (Ok(reply), _) => Ok(token_reply(reply)),
        (Err(RenewError::ScopeNotGranted { .. }), _) => Err(Refused::told("invalid_scope")),
        (Err(error), _) if error.may_pass() => Err(Refused::unavailable(None)),
        // The session lives, and so does a later token of it.
        (Err(RenewError::Outrun | RenewError::WrongClient { .. }), _) => Err(Refused::told("invalid_grant")),
        (Err(_), _) if brought.is_page => Err(Refused::told("invalid_grant").over()),
        (Err(_), _) => Err(Refused::told("invalid_grant")),
    }
}

async fn for_client<C: Serialize + Send + Sync + 'static>(
    shared: &Shared<C>,
    call: &Call,
    scopes: Option<&Scopes>,
) -> Result<Response, Refused> {
    let Some(client) = &call.client.registered else {
        return Err(Refused::because("unauthorized_client", "no clients are registered"));
    };
    let error = match shared.sessions.for_client(client, scopes, call.form.get("resource")).await {
        Ok(reply) => return Ok(unkept(Json(reply))),
        Err(error) if error.may_pass() => return Err(Refused::unavailable(Some(with_causes(&error)))),
        Err(error) => error,
    };
    let code = match error {
        ClientTokenError::Scopes { .. } => "invalid_scope",
        // RFC 8707 section 2
        ClientTokenError::Audience { .. } => "invalid_target",
        _ => "unauthorized_client",
    };
    Err(Refused::because(code, with_causes(&error)))
}
