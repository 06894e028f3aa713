//! How an answer of an endpoint looks.

use std::time::Duration;

use axum::Json;
use axum::response::{IntoResponse, Response};
use http::header::{CACHE_CONTROL, PRAGMA, RETRY_AFTER, WWW_AUTHENTICATE};
use http::{HeaderValue, StatusCode};
use serde_json::json;

use super::which::Endpoint;
use crate::audit::cut;
use crate::sessions::TokenReply;

/// The reply to a sign-in or a renewal as a response that nobody keeps
/// ([RFC 6749 section 5.1](https://www.rfc-editor.org/rfc/rfc6749#section-5.1)); the app's own sign-in handler uses it.
pub fn token_reply(reply: TokenReply) -> Response {
    unkept(Json(reply))
}

/// An error reply ([RFC 6749 section 5.2](https://www.rfc-editor.org/rfc/rfc6749#section-5.2)), and what the log says of it.
#[derive(Debug)]
pub(super) struct Refused {
    status: StatusCode,
    code: &'static str,
    /// For the client.
    description: Option<String>,
    /// For the log; nothing if it was told where it was found.
    reason: Option<String>,
    /// More for the client, in a member of its own.
    why: Option<String>,
    /// Whether the session that a cookie stands for is over.
    is_over: bool,
    /// Whether the client has shown something in the header for it.
    challenges: bool,
    retry_after: Option<Duration>,
    /// Whether it is no failure of ours.
    is_busy: bool,
}

impl Refused {
    fn new(code: &'static str) -> Self {
        let status = StatusCode::BAD_REQUEST;
        Self {
            status,
            code,
            description: None,
            reason: None,
            why: None,
            is_over: false,
            challenges: false,
            retry_after: None,
            is_busy: false,
        }
    }

    /// The log says why, the client learns the code alone.
    pub(super) fn because(code: &'static str, reason: impl Into<String>) -> Self {
        Self { reason: Some(reason.into()), ..Self::new(code) }
    }

    /// Whoever found it has logged it.
    pub(super) fn told(code: &'static str) -> Self {
        Self::new(code)
    }

    /// A request that can't be read; the client learns why.
    pub(super) fn request(description: impl Into<String>) -> Self {
        let description = description.into();
        Self { description: Some(description.clone()), ..Self::because("invalid_request", description) }
    }

    /// A client that is not who it says. If it has tried by the header, it gets a challenge
    /// ([RFC 6749 section 5.2](https://www.rfc-editor.org/rfc/rfc6749#section-5.2)); without that a browser would ask its user for a
    /// password.
    pub(super) fn client(reason: impl Into<String>, by_header: bool) -> Self {
        let status = if by_header { StatusCode::UNAUTHORIZED } else { StatusCode::BAD_REQUEST };
        Self { status, challenges: by_header, ..Self::because("invalid_client", reason) }
    }

    /// Something of ours failed; the client keeps its token and may try again, in a second
    /// ([RFC 9110 section 10.2.3](https://www.rfc-editor.org/rfc/rfc9110#section-10.2.3)).
    pub(super) fn unavailable(reason: Option<String>) -> Self {
        let status = StatusCode::SERVICE_UNAVAILABLE;
        Self { status, reason, retry_after: Some(Duration::from_secs(1)), ..Self::new("temporarily_unavailable") }
    }

    /// A page of another site has sent it.
    pub(super) fn other_site(reason: String) -> Self {
        let description = Some("expected a request from a page of the site itself".to_owned());
        Self { status: StatusCode::FORBIDDEN, description, ..Self::because("invalid_request", reason) }
    }

    /// Too many failures. Whoever found it has logged it.
    pub(super) fn throttled(wait: Duration) -> Self {
        let status = StatusCode::TOO_MANY_REQUESTS;
        Self { status, retry_after: Some(wait), ..Self::new("temporarily_unavailable") }
    }

    /// Tells the client more, by a code beside the standard's.
    #[cfg(feature = "password")]
    pub(super) fn why(self, code: impl Into<String>) -> Self {
        Self { why: Some(code.into()), ..self }
    }

    /// The session is over, so that a page need not keep its cookies.
    pub(super) fn over(self) -> Self {
        Self { is_over: true, ..self }
    }

    pub(super) fn is_over(&self) -> bool {
        self.is_over
    }

    /// Whether the client's own credentials were refused.
    pub(super) fn is_of_client(&self) -> bool {
        self.code == "invalid_client"
    }

    /// Whether it was the client's fault that it was refused, as a guess is.
    pub(super) fn is_failure(&self) -> bool {
        matches!(self.code, "invalid_client" | "invalid_grant")
    }

    /// There is too much to do; the client may come again.
    #[cfg(feature = "password")]
    pub(super) fn busy(reason: impl Into<String>) -> Self {
        Self { is_busy: true, ..Self::unavailable(Some(reason.into())) }
    }

    /// One line in the log.
    pub(super) fn log(&self, endpoint: Endpoint, client: Option<&str>) {
        let Some(reason) = &self.reason else { return };
        // What a stranger has written ends no line.
        let reason: String = cut(reason).chars().map(|c| if c.is_control() { '?' } else { c }).collect();
        let (endpoint, code, client) = (endpoint.label(), self.code, client.map(cut));
        if self.is_busy {
            tracing::warn!(target: "vorsel::endpoints", endpoint, code, client, "too much to do: {reason}");
        } else if self.status.is_server_error() {
            tracing::error!(target: "vorsel::endpoints", endpoint, code, client, "failed: {reason}");
        } else {
            tracing::info!(target: "vorsel::endpoints", endpoint, code, client, "refused: {reason}");
        }
    }

    /// The response, in the name of `realm`.
    pub(super) fn response(self, realm: &str) -> Response {
        let mut body = match self.description.as_deref().map(printable) {
            None => json!({ "error": self.code }),
            Some(description) => json!({ "error": self.code, "error_description": description }),
        };
        if let Some(why) = self.why {
            body["reason"] = why.into();
        }
        let mut response = (self.status, unkept(Json(body))).into_response();
        if let Some(span) = self.retry_after {
            response.headers_mut().insert(RETRY_AFTER, HeaderValue::from(span.as_secs().max(1)));
        }
        if self.challenges {
            let realm: String = printable(realm);
            if let Ok(challenge) = format!("Basic realm=\"{realm}\", charset=\"UTF-8\"").parse() {
                response.headers_mut().insert(WWW_AUTHENTICATE, challenge);
            }
        }
        response
    }
}

/// A description has only the characters that RFC 6749 section 5.2 allows.
fn printable(text: &str) -> String {
    text.chars().map(|c| if matches!(c, ' '..='~') && c != '"' && c != '\\' { c } else { '?' }).collect()
}

pub(super) fn unkept(body: impl IntoResponse) -> Response {
    ([(CACHE_CONTROL, "no-store"), (PRAGMA, "no-cache")], body).into_response()
}
