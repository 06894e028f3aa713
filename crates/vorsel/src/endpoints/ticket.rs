//! A ticket for a web socket or an event source of the caller's.

use std::sync::Arc;

use axum::extract::{Request, State};
use axum::response::Response;
use http::HeaderMap;
use http::header::AUTHORIZATION;
use serde::Serialize;
use serde_json::json;
use vorsel_core::with_causes;

use super::call::whole;
use super::form::Parameters;
use super::reply::{Refused, unkept};
use super::state::Shared;
use super::which::Endpoint;
use crate::guard::Caller;
use crate::tickets::{TicketError, Tickets};

/// For the path that the form names, and the access token that the request itself came with.
pub(super) async fn ticket<C: Serialize + Send + Sync + 'static>(
    State(shared): State<Arc<Shared<C>>>,
    caller: Caller<C>,
    request: Request,
) -> Response {
    let made = async {
        let (parts, body) = whole(request).await?;
        let form = Parameters::read(&parts.headers, &body)?;
        let token = shared.access_token(&parts.headers)?;
        shared.ticket(&token, form.required("path")?).await
    };
    made.await.unwrap_or_else(|refused| {
        refused.log(Endpoint::Ticket, caller.token_claims().client_id());
        refused.response(shared.issuer())
    })
}

impl<C: Serialize + Send + Sync + 'static> Shared<C> {
    /// The access token that the guard has accepted: of the header, or else of the cookie.
    fn access_token(&self, headers: &HeaderMap) -> Result<String, Refused> {
        let header = headers.get(AUTHORIZATION).and_then(|value| value.to_str().ok()).and_then(bearer);
        if let Some(token) = header {
            return Ok(token.to_owned());
        }
        let cookie = self.pages.as_ref().map(|pages| pages.access_token(headers)).transpose()?.flatten();
        cookie.ok_or_else(|| Refused::request("expected an access token, which a ticket can stand for"))
    }

    async fn ticket(&self, token: &str, path: &str) -> Result<Response, Refused> {
        // It is mounted only where there are tickets.
        let tickets = self.tickets.as_ref().ok_or_else(|| Refused::unavailable(None))?;
        let made = tickets.ticket(token, path, self.sessions.access_tokens().now()).await;
        let ticket = made.map_err(|error| match error {
            TicketError::Path | TicketError::Token { .. } => Refused::request(error.to_string()),
            error => Refused::unavailable(Some(with_causes(&error))),
        })?;
        Ok(unkept(axum::Json(json!({ "ticket": ticket, "expires_in": Tickets::LIFETIME.as_secs() }))))
    }
}

/// The token of a header that the guard could read.
fn bearer(value: &str) -> Option<&str> {
    let (scheme, token) = value.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then_some(token.trim())
}
