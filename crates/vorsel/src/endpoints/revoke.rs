//! Revocation: of a refresh token, which is a sign-out, and of one access token.

use std::sync::Arc;

use axum::Form;
use axum::extract::State;
use axum::extract::rejection::FormRejection;
use axum::response::Response;
use serde::Serialize;
use vorsel_core::{Kind, UncheckedToken};

use super::form::Parameters;
use super::reply::{OAuthError, unkept};
use super::state::Endpoints;

/// Answers 200 whether or not there was anything to revoke
/// ([RFC 7009 section 2.2](https://www.rfc-editor.org/rfc/rfc7009#section-2.2)). A refresh token ends its session; an
/// access token is revoked alone.
pub(super) async fn revoke<C: Serialize + Send + Sync + 'static>(
    State(endpoints): State<Arc<Endpoints<C>>>,
    form: Result<Form<Parameters>, FormRejection>,
) -> Result<Response, OAuthError> {
    let parameters = Parameters::read(form)?;
    let (token, client_id) = (parameters.required("token")?, parameters.get("client_id"));
    if !endpoints.knows(client_id) {
        return Err(OAuthError::new("invalid_client"));
    }
    let revoked = if says_access_token(token) {
        endpoints.sessions.access_tokens().revoke_token(token, client_id).await
    } else {
        endpoints.sessions.sign_out(token, client_id).await
    };
    match revoked {
        Ok(()) => Ok(unkept(())),
        Err(error) => {
            let source: &dyn std::error::Error = &error;
            tracing::error!(target: "vorsel::endpoints", error = source, "sign-out failed");
            Err(OAuthError::unavailable())
        }
    }
}

/// What the token says of itself is enough to know where it is to be checked.
fn says_access_token(token: &str) -> bool {
    let unchecked = UncheckedToken::read(token);
    let typ = unchecked.as_ref().ok().and_then(|token| token.header().get("typ")?.as_str());
    typ.is_some() && Kind::Access.agrees_with(typ)
}
