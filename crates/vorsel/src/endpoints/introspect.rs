//! Introspection: what a token is worth.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Request, State};
use axum::response::Response;
use serde::ser::SerializeMap;
use serde::{Serialize, Serializer};
use serde_json::{Map, Value, json};
use smallvec::SmallVec;
use vorsel_core::{Checked, Scopes, Timestamp, with_causes};

use super::call::Call;
use super::reply::{Refused, unkept};
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
    if let Some(found) = access_token(&shared, &client, token).await? {
        return Ok(unkept(Json(Active(&found))));
    }
    let found = refresh_token(&shared, token).await.map_err(|error| failed(&error))?;
    Ok(unkept(Json(found.unwrap_or_else(|| json!({ "active": false })))))
}

fn failed(error: &StoreError) -> Refused {
    Refused::unavailable(Some(with_causes(error)))
}

/// An access token for an audience of the client's, that is not revoked and whose session has not ended.
async fn access_token<C: Serialize + Send + Sync + 'static>(
    shared: &Shared<C>,
    client: &Client,
    token: &str,
) -> Result<Option<Arc<Token>>, Refused> {
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
            Ok(session.map(|_| checked))
        }
        _ => Ok(Some(checked)),
    }
}

/// An access token with whatever the app has put into it.
type Token = Checked<Map<String, Value>>;

/// What an access token that stands is worth: its claims.
struct Active<'t>(&'t Token);

impl Serialize for Active<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let claims = self.0.claims();
        let mut members = serializer.serialize_map(None)?;
        members.serialize_entry("active", &true)?;
        members.serialize_entry("token_type", "Bearer")?;
        for (name, text) in [
            ("iss", claims.issuer()),
            ("sub", claims.subject()),
            ("jti", claims.id()),
            ("client_id", claims.client_id()),
            ("sid", claims.session_id()),
            ("acr", claims.acr()),
        ] {
            if let Some(text) = text {
                members.serialize_entry(name, text)?;
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
                members.serialize_entry(name, &whole_seconds(moment))?;
            }
        }
        let audience: SmallVec<[&str; 2]> = claims.audience().collect();
        match audience[..] {
            [one] => members.serialize_entry("aud", one)?,
            _ => members.serialize_entry("aud", &audience[..])?,
        }
        let scopes = Scopes::of(claims.scopes()).unwrap_or_default();
        if !scopes.is_empty() {
            members.serialize_entry("scope", scopes.as_str())?;
        }
        let roles: SmallVec<[&str; 4]> = claims.roles().collect();
        if !roles.is_empty() {
            members.serialize_entry("roles", &roles[..])?;
        }
        // What the answer says itself, no claim says otherwise.
        for (name, value) in self.0.own().iter().filter(|(name, _)| !matches!(name.as_str(), "active" | "token_type")) {
            members.serialize_entry(name, value)?;
        }
        members.end()
    }
}

fn whole_seconds(moment: Timestamp) -> i64 {
    moment.as_micros().div_euclid(1_000_000)
}

/// The refresh token of a session's current generation. To ask about a spent one is no replay.
async fn refresh_token<C: Serialize + Send + Sync + 'static>(
    shared: &Shared<C>,
    token: &str,
) -> Result<Option<Value>, StoreError> {
    let Some(session) = shared.sessions.of_refresh_token(token).await? else { return Ok(None) };
    let facts = &session.facts;
    let mut answer = json!({
        "active": true,
        "iss": shared.issuer(),
        "aud": shared.issuer(),
        "sub": facts.subject,
        "client_id": facts.client_id,
        "sid": session.id,
        "iat": whole_seconds(session.current.began_at),
        "exp": whole_seconds(session.current.idle_until),
    });
    if let Some(scopes) = &facts.scopes {
        answer["scope"] = scopes.to_string().into();
    }
    Ok(Some(answer))
}
