//! One's own sessions: listed, ended one by one, or all others at once.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::response::{IntoResponse, Response};
use http::header::CACHE_CONTROL;
use http::{HeaderValue, StatusCode};
use serde::Serialize;
use serde_json::{Value, json};
use vorsel_core::{Session, with_causes};

use super::reply::Refused;
use super::state::Shared;
use super::which::Endpoint;
use crate::guard::Caller;
use crate::sessions::EndError;
use crate::store::{StoreError, Which};

/// The sessions of the caller, the oldest first, and which of them this is.
pub(super) async fn list<C: Serialize + Send + Sync + 'static>(
    State(shared): State<Arc<Shared<C>>>,
    caller: Caller<C>,
) -> Response {
    shared.of_caller(&caller).await.map_or_else(
        |refused| shared.refused(refused),
        |sessions| {
            let current = caller.token_claims().session_id();
            let sessions: Vec<Value> = sessions.iter().map(|session| shown(session, current)).collect();
            no_store(Json(json!({ "sessions": sessions })))
        },
    )
}

fn shown(session: &Session, current: Option<&str>) -> Value {
    let facts = &session.facts;
    let mut shown = json!({
        "session": session.id,
        "client_id": facts.client_id,
        "started_at": facts.started_at.to_string(),
        "renewed_at": session.current.began_at.to_string(),
        "ends_at": session.current.idle_until.to_string(),
        "is_this": current == Some(session.id.as_str()),
    });
    if let Some(device) = &facts.device {
        shown["device"] = device.as_str().into();
    }
    shown
}

/// Ends one session of the caller's; another's is not there.
pub(super) async fn end<C: Serialize + Send + Sync + 'static>(
    State(shared): State<Arc<Shared<C>>>,
    Path(session): Path<String>,
    caller: Caller<C>,
) -> Response {
    let asked = shared.clone();
    let ended = async move {
        if !asked.of_caller(&caller).await?.iter().any(|known| known.id == session) {
            return Ok(StatusCode::NOT_FOUND);
        }
        asked.end(&session).await.map(|()| StatusCode::NO_CONTENT)
    };
    shared.carried_out(ended).await
}

/// Ends all sessions of the caller's but this one.
pub(super) async fn end_others<C: Serialize + Send + Sync + 'static>(
    State(shared): State<Arc<Shared<C>>>,
    caller: Caller<C>,
) -> Response {
    let asked = shared.clone();
    let ended = async move {
        let this = caller.token_claims().session_id();
        for session in asked.of_caller(&caller).await?.iter().filter(|session| Some(session.id.as_str()) != this) {
            asked.end(&session.id).await?;
        }
        Ok(StatusCode::NO_CONTENT)
    };
    shared.carried_out(ended).await
}

fn no_store(answer: impl IntoResponse) -> Response {
    ([(CACHE_CONTROL, HeaderValue::from_static("no-store"))], answer).into_response()
}

fn failed(error: &StoreError) -> Refused {
    Refused::unavailable(Some(with_causes(error)))
}

impl<C: Serialize + Send + Sync + 'static> Shared<C> {
    /// The sessions of a caller that can still be renewed. Of another issuer's people, or of a client, there are none here.
    async fn of_caller(&self, caller: &Caller<C>) -> Result<Vec<Session>, Refused> {
        let claims = caller.token_claims();
        let is_ours = claims.issuer() == Some(self.issuer()) && claims.subject() != claims.client_id();
        if !is_ours {
            return Ok(Vec::new());
        }
        self.sessions.of_subject(caller.subject()).await.map_err(|error| failed(&error))
    }

    async fn end(&self, session: &str) -> Result<(), Refused> {
        match self.sessions.end(Which::One(session)).await {
            Ok(_) => Ok(()),
            Err(EndError::Store(error)) => Err(failed(&error)),
            Err(error) => Err(Refused::unavailable(Some(error.to_string()))),
        }
    }

    /// What ends something, to its end, whoever hangs up; the list that it begins with takes its time, too.
    async fn carried_out(&self, ended: impl Future<Output = Result<StatusCode, Refused>> + Send + 'static) -> Response {
        let ended = self.sessions.access_tokens().under_way().carried_out(ended).await;
        ended.map_or_else(|refused| self.refused(refused), no_store)
    }

    fn refused(&self, refused: Refused) -> Response {
        refused.log(Endpoint::OwnSessions, None);
        refused.response(self.issuer())
    }
}
