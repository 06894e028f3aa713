//! The app's own sign-in handler: the password is its business, the tokens are the library's.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::extract::rejection::JsonRejection;
use axum::response::{IntoResponse, Response};
use http::StatusCode;
use http::header::CACHE_CONTROL;
use serde::Deserialize;
use serde_json::json;
use vorsel::endpoints::token_reply;
use vorsel::{AdmissionError, SignIn, StartError};

use super::CLIENT;
use super::state::Observatory;

#[derive(Deserialize)]
pub(super) struct Credentials {
    subject: String,
    password: String,
    device: Option<String>,
}

pub(super) async fn sign_in(
    State(observatory): State<Arc<Observatory>>,
    body: Result<Json<Credentials>, JsonRejection>,
) -> Response {
    let Ok(Json(Credentials { subject, password, device })) = body else {
        return refused(StatusCode::BAD_REQUEST, "invalid_request");
    };
    let (people, name) = (observatory.people.clone(), subject.clone());
    // A password check takes long on purpose; on the async threads it would hold up everybody else.
    let known = tokio::task::spawn_blocking(move || people.knows(&name, &password)).await.unwrap_or(false);
    if !known {
        return refused(StatusCode::BAD_REQUEST, "invalid_grant");
    }
    let mut sign_in = SignIn::new(subject, CLIENT);
    if let Some(device) = device {
        sign_in = sign_in.device(&device);
    }
    match observatory.sessions.start(sign_in).await {
        Ok(reply) => token_reply(reply),
        Err(StartError::Admission(AdmissionError::Denied { .. })) => refused(StatusCode::BAD_REQUEST, "invalid_grant"),
        Err(StartError::TooManySessions { .. }) => refused(StatusCode::FORBIDDEN, "too_many_sessions"),
        Err(error) => {
            tracing::error!(target: "observatory", "sign-in failed: {error}");
            refused(StatusCode::SERVICE_UNAVAILABLE, "temporarily_unavailable")
        }
    }
}

fn refused(status: StatusCode, error: &str) -> Response {
    (status, [(CACHE_CONTROL, "no-store")], Json(json!({ "error": error }))).into_response()
}
