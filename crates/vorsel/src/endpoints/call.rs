//! A request to an endpoint that takes a form: read, its client known, answered and logged in one place.

use std::sync::Arc;
use std::time::Duration;

use axum::body::to_bytes;
use axum::extract::Request;
use axum::response::Response;
use bytes::Bytes;
use http::HeaderMap;
use http::request::Parts;
use serde::Serialize;
use tokio::time::timeout;

use super::clients::{Authenticated, client_of};
use super::form::Parameters;
use super::reply::Refused;
use super::state::Shared;
use super::which::Endpoint;
use crate::throttle::{Attempt, Who};

/// A refresh token has about 500 bytes, a client's assertion a few thousand; a form has room for both and a few parameters.
const LARGEST_FORM: usize = 32 * 1024;
/// Whatever server the app has: a client of a byte a second is not waited for.
const LONGEST_BODY: Duration = Duration::from_secs(30);

/// A form, and who has sent it.
pub(super) struct Call {
    pub(super) form: Parameters,
    pub(super) client: Authenticated,
    parts: Parts,
}

/// A refresh token, and whether a browser has sent it along.
pub(super) struct Brought {
    pub(super) token: String,
    /// Whether the client is one of pages, whose tokens are kept in cookies.
    pub(super) is_page: bool,
}

impl<C: Serialize + Send + Sync + 'static> Shared<C> {
    /// Answers a form by what `decide` makes of it.
    pub(super) async fn answer<F>(
        self: Arc<Self>,
        endpoint: Endpoint,
        request: Request,
        decide: impl FnOnce(Arc<Self>, Call) -> F,
    ) -> Response
    where
        F: Future<Output = Result<Response, Refused>>,
    {
        let form = |headers: &HeaderMap, body: &[u8]| Ok((Parameters::read(headers, body)?, ()));
        self.answer_read(endpoint, request, form, |shared, call, ()| decide(shared, call)).await
    }

    /// [`answer`](Self::answer) of a body that is read otherwise: what shows the client, and the rest.
    pub(super) async fn answer_read<T, F>(
        self: Arc<Self>,
        endpoint: Endpoint,
        request: Request,
        read: impl FnOnce(&HeaderMap, &[u8]) -> Result<(Parameters, T), Refused>,
        decide: impl FnOnce(Arc<Self>, Call, T) -> F,
    ) -> Response
    where
        F: Future<Output = Result<Response, Refused>>,
    {
        let mut client = None;
        let address = self.caller_of(request.headers(), request.extensions());
        let attempt = Attempt { address, ..Attempt::default() };
        let answered = async {
            self.admits(&attempt)?;
            let (parts, body) = whole(request).await?;
            let (form, rest) = read(&parts.headers, &body)?;
            let authenticated = client_of(&self, endpoint, (&parts.headers, address), &form, &mut client).await?;
            decide(self.clone(), Call { form, client: authenticated, parts }, rest).await
        };
        let answered = answered.await;
        answered.unwrap_or_else(|refused| {
            refused.log(endpoint, client.as_deref());
            if refused.is_failure() {
                let who = client.as_deref().map(Who::Client).filter(|_| refused.is_of_client());
                self.failed(&Attempt { who, ..attempt });
            }
            let is_over = refused.is_over();
            let mut response = refused.response(self.issuer());
            if let Some(pages) = self.pages.as_ref().filter(|_| is_over) {
                pages.clear(response.headers_mut());
            }
            response
        })
    }
}

/// A request's head and its whole body.
pub(super) async fn whole(request: Request) -> Result<(Parts, Bytes), Refused> {
    let (parts, body) = request.into_parts();
    let body = timeout(LONGEST_BODY, to_bytes(body, LARGEST_FORM)).await;
    let Ok(Ok(body)) = body else {
        let seconds = LONGEST_BODY.as_secs();
        let expected = format!("expected a whole body of at most {LARGEST_FORM} bytes within {seconds} s");
        return Err(Refused::request(expected));
    };
    Ok((parts, body))
}

impl Call {
    /// The refresh token of the form, or, where the client runs in a browser, of the cookie. Both at once have to be the same.
    pub(super) fn refresh_token<C>(&self, shared: &Shared<C>, name: &str) -> Result<Brought, Refused> {
        let form = self.form.get(name);
        let Some(pages) = shared.pages.as_ref().filter(|pages| pages.has(&self.client.id)) else {
            return Ok(Brought { token: self.form.required(name)?.to_owned(), is_page: false });
        };
        // What is answered is kept in a cookie, whatever was brought.
        pages.allows(&self.parts)?;
        match (form, pages.refresh_token(&self.parts.headers)?) {
            (Some(form), Some(cookie)) if form != cookie => {
                Err(Refused::request("expected one refresh token, but found one in the cookie and another in the form"))
            }
            (Some(token), _) => Ok(Brought { token: token.to_owned(), is_page: true }),
            (None, Some(token)) => Ok(Brought { token, is_page: true }),
            (None, None) => Err(Refused::request(format!("expected the parameter {name}, or the cookie"))),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use axum::body::Body;

    #[tokio::test(start_paused = true)]
    async fn a_body_that_does_not_come_is_not_waited_for_for_ever() {
        let never = Body::from_stream(futures_util::stream::pending::<Result<Bytes, std::io::Error>>());
        assert!(whole(Request::new(never)).await.is_err());
        let here = whole(Request::new(Body::from("a=b"))).await;
        assert_eq!(here.expect("a body").1, "a=b");
        assert!(whole(Request::new(Body::from("x".repeat(LARGEST_FORM + 1)))).await.is_err());
    }
}
