//! Replies of the endpoints.

use axum::Json;
use axum::response::{IntoResponse, Response};
use http::StatusCode;
use http::header::{CACHE_CONTROL, PRAGMA};
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

    /// Something of ours failed; the client keeps its token and may try again.
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
        (self.status, unkept(Json(body))).into_response()
    }
}

/// A description has only the characters that RFC 6749 section 5.2 allows.
fn printable(text: &str) -> String {
    text.chars().map(|c| if matches!(c, ' '..='~') && c != '"' && c != '\\' { c } else { '?' }).collect()
}

pub(super) fn unkept(body: impl IntoResponse) -> Response {
    ([(CACHE_CONTROL, "no-store"), (PRAGMA, "no-cache")], body).into_response()
}
