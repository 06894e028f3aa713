//! A request to an endpoint that takes a form: read, its client known, answered and logged in one place.

use std::sync::Arc;

use axum::body::to_bytes;
use axum::extract::Request;
use axum::response::Response;
use bytes::Bytes;
use http::HeaderMap;
use serde::Serialize;

use super::clients::{Authenticated, client_of};
use super::form::Parameters;
use super::reply::Refused;
use super::state::Shared;
use super::which::Endpoint;
use crate::throttle::{Attempt, Who};

/// A refresh token has about 500 bytes, a client's assertion a few thousand; a form has room for both and a few parameters.
const LARGEST_FORM: usize = 32 * 1024;

/// A form, and who has sent it.
pub(super) struct Call {
    pub(super) form: Parameters,
    pub(super) client: Authenticated,
}

impl<C: Serialize + Send + Sync + 'static> Shared<C> {
    /// Answers a request by what `decide` makes of it.
    pub(super) async fn answer<F>(
        self: Arc<Self>,
        endpoint: Endpoint,
        request: Request,
        decide: impl FnOnce(Arc<Self>, Call) -> F,
    ) -> Response
    where
        F: Future<Output = Result<Response, Refused>>,
    {
        let mut client = None;
        let address = self.caller_of(request.headers(), request.extensions());
        let attempt = Attempt { address, ..Attempt::default() };
        let answered = async {
            self.admits(&attempt)?;
            let (headers, form) = read(request).await?;
            // As it calls itself, for the log.
            client = form.get("client_id").map(str::to_owned);
            let authenticated = client_of(&self, endpoint, &headers, &form).await?;
            client = Some(authenticated.id.clone());
            decide(self.clone(), Call { form, client: authenticated }).await
        };
        let answered = answered.await;
        answered.unwrap_or_else(|refused| {
            refused.log(endpoint, client.as_deref());
            if refused.is_failure() {
                let who = client.as_deref().map(Who::Client).filter(|_| refused.is_of_client());
                self.failed(&Attempt { who, ..attempt });
            }
            refused.response(self.issuer())
        })
    }
}

async fn read(request: Request) -> Result<(HeaderMap, Parameters), Refused> {
    let (headers, body) = body_of(request).await?;
    let form = Parameters::read(&headers, &body)?;
    Ok((headers, form))
}

/// The headers of a request and its whole body.
pub(super) async fn body_of(request: Request) -> Result<(HeaderMap, Bytes), Refused> {
    let (parts, body) = request.into_parts();
    let body = to_bytes(body, LARGEST_FORM).await;
    let body = body.map_err(|_| Refused::request(format!("expected a whole body of at most {LARGEST_FORM} bytes")))?;
    Ok((parts.headers, body))
}
