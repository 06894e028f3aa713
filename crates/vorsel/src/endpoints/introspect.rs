//! Introspection: what a token is worth.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Request, State};
use axum::response::Response;
use serde::Serialize;
use serde_json::{Map, Value, json};
use vorsel_core::{Checked, Timestamp, with_causes};

use super::call::Call;
use super::reply::{Refused, unkept};
use super::revoke::says_access_token;
use super::state::Shared;
use super::which::Endpoint;
use crate::clients::Client;
use crate::store::StoreError;

pub(super) async fn introspect<C: Serialize + Send + Sync + 'static>(
    State(shared): State<Arc<Shared<C>>>,
    request: Request,
) -> Response {
    shared.answer(Endpoint::Introspection, request, decide).await
}

/// Whatever does not stand is not active, and nobody learns why
/// ([RFC 7662 section 2.2](https://www.rfc-editor.org/rfc/rfc7662#section-2.2)).
async fn decide<C: Serialize + Send + Sync + 'static>(shared: Arc<Shared<C>>, call: Call) -> Result<Response, Refused> {
    let Some(client) = call.client.registered.filter(|client| client.introspects()) else {
        return Err(Refused::because("unauthorized_client", "the client may not introspect"));
    };
    let token = call.form.required("token")?;
    let found = if says_access_token(token) {
        access_token(&shared, &client, token).await?
    } else {
        refresh_token(&shared, token).await.map_err(|error| failed(&error))?
    };
    let answer = found.unwrap_or_else(|| Map::from_iter([("active".to_owned(), false.into())]));
    Ok(unkept(Json(answer)))
}

fn failed(error: &StoreError) -> Refused {
    Refused::unavailable(Some(with_causes(error)))
}

/// An access token for an audience of the client's, that is not revoked and whose session has not ended.
async fn access_token<C: Serialize + Send + Sync + 'static>(
    shared: &Shared<C>,
    client: &Client,
    token: &str,
) -> Result<Option<Map<String, Value>>, Refused> {
    let (sessions, access) = (&shared.sessions, shared.sessions.access_tokens());
    let now = access.now();
    let Ok(checked) = shared.ours.check(token, now) else { return Ok(None) };
    let is_meant = |audience: &str| audience == access.audience() || client.has_audience(audience);
    if !checked.claims().audience().any(is_meant) || access.known().check(&*checked, now).is_err() {
        return Ok(None);
    }
    match (shared.view, access.revocations(), checked.claims().session_id()) {
        (Some(longest), Some(view), _) if view.silent_for() > longest => {
            let silent = view.silent_for().as_secs();
            Err(Refused::unavailable(Some(format!("nothing was heard of what is revoked for {silent} s"))))
        }
        (None, _, Some(session)) => {
            let session = sessions.session(session).await.map_err(|error| failed(&error))?;
            Ok(session.map(|_| claims_of(&checked)))
        }
        _ => Ok(Some(claims_of(&checked))),
    }
}

fn claims_of(checked: &Checked<Map<String, Value>>) -> Map<String, Value> {
    let claims = checked.claims();
    let mut members = checked.own().clone();
    let mut say = |name: &str, value: Value| drop(members.insert(name.to_owned(), value));
    say("active", true.into());
    say("token_type", "Bearer".into());
    for (name, text) in [
        ("iss", claims.issuer()),
        ("sub", claims.subject()),
        ("jti", claims.id()),
        ("client_id", claims.client_id()),
        ("sid", claims.session_id()),
        ("acr", claims.acr()),
    ] {
        if let Some(text) = text {
            say(name, text.into());
        }
    }
    for (name, moment) in [
        ("exp", claims.expires_at()),
        ("iat", claims.issued_at()),
        ("nbf", claims.not_before()),
        ("auth_time", claims.authenticated_at()),
        ("session_at", claims.session_at()),
    ] {
        if let Some(moment) = moment {
            say(name, seconds(moment));
        }
    }
    let audience: Vec<&str> = claims.audience().collect();
    say("aud", if let [one] = audience[..] { one.into() } else { json!(audience) });
    let mut scope = String::new();
    for value in claims.scopes() {
        if !scope.is_empty() {
            scope.push(' ');
        }
        scope.push_str(value);
    }
    if !scope.is_empty() {
        say("scope", scope.into());
    }
    let roles: Value = claims.roles().collect();
    if roles.as_array().is_some_and(|roles| !roles.is_empty()) {
        say("roles", roles);
    }
    members
}

fn seconds(moment: Timestamp) -> Value {
    moment.whole_secs().as_secs().into()
}

/// The refresh token of a session's current generation. To ask about a spent one is no replay.
async fn refresh_token<C: Serialize + Send + Sync + 'static>(
    shared: &Shared<C>,
    token: &str,
) -> Result<Option<Map<String, Value>>, StoreError> {
    let Some(session) = shared.sessions.of_refresh_token(token).await? else { return Ok(None) };
    let facts = &session.facts;
    let mut answer = json!({
        "active": true,
        "iss": shared.issuer(),
        "aud": shared.issuer(),
        "sub": facts.subject,
        "client_id": facts.client_id,
        "sid": session.id,
        "iat": seconds(session.current.began_at),
        "exp": seconds(session.current.idle_until),
    });
    if let Some(scopes) = &facts.scopes {
        answer["scope"] = scopes.to_string().into();
    }
    Ok(answer.as_object().cloned())
}
