//! The endpoints over requests: renewal, sign-out, key set and metadata, and what they answer to a wrong call.

use std::sync::Arc;

use axum::Router;
use axum::body::{Body, to_bytes};
use http::{Request, Response};
use serde_json::{Value, json};
use tower::ServiceExt;
use vorsel::endpoints::Endpoints;
use vorsel::store::{MemoryStore, SessionStore};
use vorsel::{KeySet, SignIn};

mod common;
use common::{House, WINDOW, house};

const FORM: &str = "application/x-www-form-urlencoded";

fn app(house: &House) -> Router {
    Endpoints::new(house.sessions.clone(), "https://id.skarnhill.test/").client("desk").routes().into_unguarded_router()
}

fn set_up() -> (House, Router) {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let house = house(&store);
    let app = app(&house);
    (house, app)
}

async fn send(app: &Router, method: &str, path: &str, content_type: &str, body: &str) -> Response<Body> {
    let request = Request::builder().method(method).uri(path).header("content-type", content_type);
    app.clone().oneshot(request.body(Body::from(body.to_owned())).expect("a request")).await.expect("an answer")
}

async fn json_of(response: Response<Body>) -> Value {
    let bytes = to_bytes(response.into_body(), 10_000).await.expect("a body");
    serde_json::from_slice(&bytes).unwrap_or(Value::Null)
}

#[tokio::test]
async fn a_renewal_answers_as_rfc_6749_says_and_is_not_kept() {
    let (house, app) = set_up();
    let token = house.sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session").refresh_token;
    let form = format!("grant_type=refresh_token&client_id=desk&refresh_token={token}");
    let response = send(&app, "POST", "/oauth/token", FORM, &form).await;
    assert_eq!(
        (response.status().as_u16(), &response.headers()["cache-control"]),
        (200, &"no-store".parse().expect("text"))
    );
    let reply = json_of(response).await;
    assert_eq!((&reply["token_type"], &reply["expires_in"]), (&json!("Bearer"), &json!(300)));
    assert_eq!(reply["scope"], "exposures:read logs:read");
    let access = reply["access_token"].as_str().expect("an access token");
    house.verifier().check(access, house.now()).expect("an accepted token");
}

#[tokio::test]
async fn wrong_calls_get_clear_answers() {
    let (house, app) = set_up();
    let token = house.sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session").refresh_token;
    let grant = "grant_type=refresh_token";
    for (method, content_type, form, status, error) in [
        ("GET", FORM, String::new(), 405, Value::Null),
        ("POST", "application/json", "{}".to_owned(), 400, json!("invalid_request")),
        ("POST", "text/plain", format!("{grant}&refresh_token={token}"), 400, json!("invalid_request")),
        ("POST", FORM, String::new(), 400, json!("invalid_request")),
        ("POST", FORM, "%ff%fe".to_owned(), 400, json!("invalid_request")),
        ("POST", FORM, "x".repeat(40_000), 400, json!("invalid_request")),
        ("POST", FORM, grant.to_owned(), 400, json!("invalid_request")),
        ("POST", FORM, format!("{grant}&refresh_token="), 400, json!("invalid_request")),
        ("POST", FORM, format!("{grant}&{grant}&refresh_token={token}"), 400, json!("invalid_request")),
        ("POST", FORM, format!("{grant}&refresh_token={token}{}", "&x=".repeat(63)), 400, json!("invalid_request")),
        ("POST", FORM, format!("grant_type=password&refresh_token={token}"), 400, json!("unsupported_grant_type")),
        ("POST", FORM, format!("{grant}&client_id=phone&refresh_token={token}"), 400, json!("invalid_client")),
        ("POST", FORM, format!("{grant}&refresh_token={token}&scope=dome:move"), 400, json!("invalid_scope")),
        ("POST", FORM, format!("{grant}&refresh_token={token}&scope=a%20%20b"), 400, json!("invalid_scope")),
        ("POST", FORM, format!("{grant}&refresh_token=nonsense"), 400, json!("invalid_grant")),
        ("POST", FORM, format!("{grant}&refresh_token={}", &token[1..]), 400, json!("invalid_grant")),
        ("POST", FORM, format!("{grant}&refresh_token={token}&scope=logs:read"), 200, Value::Null),
    ] {
        let response = send(&app, method, "/oauth/token", content_type, &form).await;
        assert_eq!(response.status().as_u16(), status, "{method} {content_type} {form:.80}");
        assert_eq!(json_of(response).await["error"], error, "{method} {content_type} {form:.80}");
    }
}

#[tokio::test]
async fn a_replay_and_an_ended_session_look_the_same_to_the_client() {
    let (house, app) = set_up();
    let token = house.sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session").refresh_token;
    let form = format!("grant_type=refresh_token&refresh_token={token}");
    assert_eq!(send(&app, "POST", "/oauth/token", FORM, &form).await.status(), 200);
    house.clock.advance(WINDOW);
    for _ in 0..2 {
        let response = send(&app, "POST", "/oauth/token", FORM, &form).await;
        assert_eq!(json_of(response).await, json!({ "error": "invalid_grant" }));
    }
}

#[tokio::test]
async fn revocation_ends_the_session_and_says_nothing_about_strange_tokens() {
    let (house, app) = set_up();
    let reply = house.sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session");
    let (access, refresh) = (reply.access_token, reply.refresh_token);
    for (form, status, error) in [
        ("token=nonsense".to_owned(), 200, Value::Null),
        ("client_id=desk".to_owned(), 400, json!("invalid_request")),
        (format!("token={refresh}&client_id=phone"), 400, json!("invalid_client")),
        (format!("token={access}"), 200, Value::Null),
        (format!("token={refresh}&token_type_hint=refresh_token&client_id=desk"), 200, Value::Null),
        (format!("token={refresh}"), 200, Value::Null),
    ] {
        let response = send(&app, "POST", "/oauth/revoke", FORM, &form).await;
        assert_eq!(response.status().as_u16(), status, "{form:.40}");
        assert_eq!(json_of(response).await["error"], error, "{form:.40}");
    }
    let form = format!("grant_type=refresh_token&refresh_token={refresh}");
    assert_eq!(send(&app, "POST", "/oauth/token", FORM, &form).await.status(), 400);
}

#[tokio::test]
async fn metadata_lead_to_the_other_endpoints_and_the_keys_check_the_tokens() {
    let (house, app) = set_up();
    let metadata = json_of(send(&app, "GET", "/.well-known/oauth-authorization-server", FORM, "").await).await;
    assert_eq!(
        metadata,
        json!({
            "issuer": "https://id.skarnhill.test",
            "token_endpoint": "https://id.skarnhill.test/oauth/token",
            "revocation_endpoint": "https://id.skarnhill.test/oauth/revoke",
            "jwks_uri": "https://id.skarnhill.test/oauth/keys",
            "response_types_supported": [],
            "grant_types_supported": ["refresh_token"],
            "token_endpoint_auth_methods_supported": ["none"],
            "revocation_endpoint_auth_methods_supported": ["none"],
        })
    );
    let keys = json_of(send(&app, "GET", "/oauth/keys", FORM, "").await).await.to_string();
    assert!(!keys.contains("\"d\""), "only the public half");
    let keys = KeySet::read(&keys).expect("a key set");
    let token = house.sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session").access_token;
    let expectations = vorsel::Expectations::access(common::ISSUER, common::AUDIENCE);
    vorsel::Verifier::new(keys, expectations).check(&token, house.now()).expect("an accepted token");
}
