//! Revocation: of a refresh token, which is a sign-out, and of one access token.

use std::sync::Arc;

use axum::extract::{Request, State};
use axum::response::Response;
use serde::Serialize;
use vorsel_core::{Kind, UncheckedToken, with_causes};

use super::call::{Brought, Call};
use super::reply::{Refused, unkept};
use super::state::Shared;
use super::which::Endpoint;
use crate::access::RevokeError;
use crate::sessions::SignOutError;

pub(super) async fn revoke<C: Serialize + Send + Sync + 'static>(
    State(shared): State<Arc<Shared<C>>>,
    request: Request,
) -> Response {
    shared.answer(Endpoint::Revocation, request, decide).await
}

/// Answers 200 whether or not there was anything to revoke
/// ([RFC 7009 section 2.2](https://www.rfc-editor.org/rfc/rfc7009#section-2.2)). A refresh token ends its session; an
/// access token is revoked alone. Another client's token is refused, and said so
/// ([section 2.1](https://www.rfc-editor.org/rfc/rfc7009#section-2.1)).
async fn decide<C: Serialize + Send + Sync + 'static>(shared: Arc<Shared<C>>, call: Call) -> Result<Response, Refused> {
    // What a page holds besides its cookie is an access token, which it may have revoked alone.
    let alone = call.form.get("token").filter(|token| says_access_token(token)).map(str::to_owned);
    let brought = match alone {
        Some(token) => Brought { token, is_page: false },
        None => call.refresh_token(&shared, "token")?,
    };
    let (token, client, sessions) = (brought.token.as_str(), Some(call.client.id.as_str()), &shared.sessions);
    if !says_access_token(token) {
        return match sessions.sign_out(token, client).await {
            Ok(()) => {
                let mut response = unkept(());
                if let Some(pages) = shared.pages.as_ref().filter(|_| brought.is_page) {
                    pages.clear(response.headers_mut());
                }
                Ok(response)
            }
            Err(SignOutError::Store(error)) => Err(Refused::unavailable(Some(with_causes(&error)))),
            Err(error) => Err(Refused::because("invalid_grant", error.to_string())),
        };
    }
    if sessions.access_tokens().revocations().is_none() {
        // RFC 7009 section 2.2.1: nobody would learn of it.
        let reason = "access tokens can't be revoked, since nothing follows what is revoked";
        return Err(Refused::because("unsupported_token_type", reason));
    }
    match sessions.access_tokens().revoke_token(token, client).await {
        Ok(()) => Ok(unkept(())),
        Err(error @ RevokeError::WrongClient { .. }) => Err(Refused::because("invalid_grant", error.to_string())),
        Err(error) => Err(Refused::unavailable(Some(with_causes(&error)))),
    }
}

/// What the token says of itself is enough to know where it is to be checked.
fn says_access_token(token: &str) -> bool {
    let typ = UncheckedToken::typ_named(token);
    typ.is_some() && Kind::Access.agrees_with(typ.as_deref())
}
