//! Renewal: the `refresh_token` grant.

use std::sync::Arc;

use axum::Form;
use axum::extract::State;
use axum::extract::rejection::FormRejection;
use axum::response::Response;
use serde::Serialize;
use vorsel_core::Scopes;

use super::form::Parameters;
use super::reply::{OAuthError, token_reply};
use super::state::Endpoints;
use crate::sessions::{RenewError, RenewalRequest};

pub(super) async fn renew<C: Serialize + Send + Sync + 'static>(
    State(endpoints): State<Arc<Endpoints<C>>>,
    form: Result<Form<Parameters>, FormRejection>,
) -> Result<Response, OAuthError> {
    let parameters = Parameters::read(form)?;
    if parameters.required("grant_type")? != "refresh_token" {
        return Err(OAuthError::new("unsupported_grant_type"));
    }
    let client_id = parameters.get("client_id");
    if !endpoints.knows(client_id) {
        return Err(OAuthError::new("invalid_client"));
    }
    let scopes =
        parameters.get("scope").map(Scopes::parse).transpose().map_err(|_| OAuthError::new("invalid_scope"))?;
    let request = RenewalRequest { client_id, scopes: scopes.as_ref() };
    match endpoints.sessions.renew(parameters.required("refresh_token")?, request).await {
        Ok(reply) => Ok(token_reply(reply)),
        Err(error) => Err(refused(&error)),
    }
}

/// The client learns that its grant is no good and no more; the sessions have logged why.
fn refused(error: &RenewError) -> OAuthError {
    match error {
        RenewError::ScopeNotGranted { .. } => OAuthError::new("invalid_scope"),
        error if error.may_pass() => OAuthError::unavailable(),
        _ => OAuthError::new("invalid_grant"),
    }
}
