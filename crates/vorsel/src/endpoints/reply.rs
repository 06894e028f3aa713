//! Replies of the endpoints.

use axum::Json;
use axum::response::{IntoResponse, Response};
use http::header::{CACHE_CONTROL, PRAGMA, RETRY_AFTER};
use http::{HeaderValue, StatusCode};
use serde_json::json;

use crate::sessions::TokenReply;

/// The reply to a sign-in or a renewal as a response that nobody keeps
/// ([RFC 6749 section 5.1](https://www.rfc-editor.org/rfc/rfc6749#section-5.1)); the app's own sign-in handler uses it.
pub fn token_reply(reply: TokenReply) -> Response {
    unkept(Json(reply))
}

/// An error reply ([RFC 6749 section 5.2](https://www.rfc-editor.org/rfc/rfc6749#section-5.2)).
#[derive(Debug)]
pub(super) struct OAuthError {
    status: StatusCode,
    code: &'static str,
    description: Option<String>,
}

impl OAuthError {
    pub(super) fn new(code: &'static str) -> Self {
        Self { status: StatusCode::BAD_REQUEST, code, description: None }
    }

    pub(super) fn invalid_request(description: String) -> Self {
        Self { description: Some(description), ..Self::new("invalid_request") }
    }

    /// Something of ours failed; the client keeps its token and may try again, in a second
    /// ([RFC 9110 section 10.2.3](https://www.rfc-editor.org/rfc/rfc9110#section-10.2.3)).
    pub(super) fn unavailable() -> Self {
        Self { status: StatusCode::SERVICE_UNAVAILABLE, ..Self::new("temporarily_unavailable") }
    }
}

impl IntoResponse for OAuthError {
    fn into_response(self) -> Response {
        let body = match self.description.as_deref().map(printable) {
            None => json!({ "error": self.code }),
            Some(description) => json!({ "error": self.code, "error_description": description }),
        };
        let mut response = (self.status, unkept(Json(body))).into_response();
        if self.status == StatusCode::SERVICE_UNAVAILABLE {
            response.headers_mut().insert(RETRY_AFTER, HeaderValue::from_static("1"));
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
