//! The guard in an axum app: every request gets the right status, challenge and body, and nothing forgotten is open.

use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::body::{Body, to_bytes};
use axum::routing::get;
use http::{Request, Response, StatusCode};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use tower::ServiceExt;
use vorsel::rule::role;
use vorsel::testing::StillClock;
use vorsel::{
    AccessDraft, AccessPlan, Algorithm, Caller, Expectations, Guard, Issuer, KeySet, Lifetime, Scopes, Secret,
    SigningKey, Timestamp, Verifier,
};

const ISSUER: &str = "https://id.skarnhill.test";
const AUDIENCE: &str = "https://api.skarnhill.test";
const NOW: Timestamp = Timestamp::from_secs(1_700_000_000);

#[derive(Debug, Clone, Serialize, Deserialize)]
struct Staff {
    training: u8,
}

fn key() -> SigningKey {
    SigningKey::hmac(Algorithm::Hs256, Secret::new((0..32).collect())).expect("a secret")
}

fn guard<C>() -> Guard<C> {
    let plan = AccessPlan::builder()
        .role("observer", &[])
        .role("director", &["observer"])
        .open("GET", "/health")
        .open("POST", "/sign-in")
        .need("GET", "/log", role("observer"))
        .need("POST", "/dome", "role observer and scope dome:move and scope logs:read")
        .need("GET", "/observers/{observer}", "path.observer == sub")
        .need("GET", "/nested/log", role("director"))
        .need("GET", "/missing", role("observer"))
        .need("DELETE", "/log", "role director and signed-in within 10m and acr == \"phr\"")
        .build()
        .expect("a plan");
    let verifier = Verifier::new(KeySet::new([key().verifying_key()]), Expectations::access(ISSUER, AUDIENCE));
    Guard::builder(verifier, plan).clock(Arc::new(StillClock::at(NOW))).build().expect("a guard")
}

async fn who(caller: Caller<Staff>) -> String {
    format!("{} {}", caller.subject(), caller.own().training)
}

async fn maybe_who(caller: Option<Caller<Staff>>) -> String {
    caller.map_or("nobody".to_owned(), |caller| caller.subject().to_owned())
}

fn app() -> Router {
    Router::new()
        .route("/health", get(maybe_who))
        .route("/sign-in", axum::routing::post(who))
        .route("/log", get(who))
        .route("/dome", axum::routing::post(who).delete(who))
        .route("/observers/{observer}", get(who))
        .route("/forgotten", get(who))
        .nest("/nested", Router::new().route("/log", get(who)))
        .layer(guard::<Staff>().partial())
}

fn token(roles: &[&str], scope: &str, own: Value) -> String {
    let draft = AccessDraft::of("obs-0017")
        .audience(AUDIENCE)
        .client("desk")
        .lasting(Lifetime::minutes(5))
        .roles(roles.iter().copied())
        .scopes(Scopes::parse(scope).expect("scopes"))
        .session("s1", NOW.before(Duration::from_secs(3_600)))
        .acr("pwd")
        .own(own);
    Issuer::new(ISSUER, key()).access(&draft, "t1", NOW).expect("a token")
}

async fn send(app: Router, method: &str, path: &str, authorization: &[&str]) -> Response<Body> {
    let mut request = Request::builder().method(method).uri(path);
    for value in authorization {
        request = request.header("authorization", *value);
    }
    app.oneshot(request.body(Body::empty()).expect("a request")).await.expect("an answer")
}

async fn body(response: Response<Body>) -> String {
    let bytes = to_bytes(response.into_body(), 10_000).await.expect("a body");
    String::from_utf8(bytes.to_vec()).expect("text")
}

fn header<'r>(response: &'r Response<Body>, name: &str) -> &'r str {
    response.headers().get(name).map_or("", |value| value.to_str().expect("text"))
}

#[tokio::test]
async fn the_client_learns_nothing_beyond_the_standard() {
    let draft =
        AccessDraft::of("obs-0017").audience("https://lab.skarnhill.test").client("desk").lasting(Lifetime::minutes(5));
    let elsewhere = Issuer::new(ISSUER, key()).access(&draft, "t1", NOW).expect("a token");
    let response = send(app(), "GET", "/log", &[&format!("Bearer {elsewhere}")]).await;
    assert_eq!(
        body(response).await,
        r#"{"type":"about:blank","title":"Unauthorized","status":401,"detail":"The access token is not accepted."}"#
    );
    let response = send(app(), "POST", "/health", &[]).await;
    assert_eq!((header(&response, "allow"), response.status()), ("GET, HEAD, OPTIONS", StatusCode::METHOD_NOT_ALLOWED));
}

#[tokio::test]
async fn the_handler_gets_its_caller_as_its_own_type() {
    let observer = format!("Bearer {}", token(&["observer"], "", json!({ "training": 2 })));
    assert_eq!(body(send(app(), "GET", "/log", &[&observer]).await).await, "obs-0017 2");
    assert_eq!(body(send(app(), "GET", "/health", &[&observer]).await).await, "obs-0017");
    assert_eq!(body(send(app(), "GET", "/health", &[]).await).await, "nobody");
}

#[test]
fn the_guard_is_a_function_too() {
    let now = NOW.after(Duration::from_secs(1));
    let guard = guard::<Staff>();
    let mut request = Request::builder().uri("/log?from=dusk").body(()).expect("a request").into_parts().0;
    let refusal = guard.decide(&request, now).at_once().expect("no look-up").expect_err("no credential");
    assert_eq!((refusal.code(), refusal.answer(guard.realm()).status), ("no-credential", 401));
    let bearer = format!("Bearer {}", token(&["director"], "", json!({ "training": 5 })));
    request.headers.insert("authorization", bearer.parse().expect("a header"));
    let caller = guard.decide(&request, now).at_once().expect("no look-up").expect("let in").expect("a caller");
    assert_eq!((caller.subject(), caller.roles().collect(), caller.own().training), ("obs-0017", vec!["director"], 5));
    assert!(!caller.has_scope("dome:move"));
}

/// gRPC clients look at headers of their own; HTTP's status is 200 for them.
#[tokio::test]
async fn a_grpc_call_is_refused_as_grpc_does() {
    let observer = token(&["observer"], "", json!({ "training": 2 }));
    for (path, bearer, status) in
        [("/log", None, "16"), ("/log", Some("a.b.c"), "16"), ("/nested/log", Some(observer.as_str()), "7")]
    {
        let request = Request::post(path).version(http::Version::HTTP_2);
        let mut request = request.header("content-type", "application/grpc+proto");
        if let Some(bearer) = bearer {
            request = request.header("authorization", format!("Bearer {bearer}"));
        }
        let response = app().oneshot(request.body(Body::empty()).expect("a request")).await.expect("an answer");
        assert_eq!((response.status(), header(&response, "grpc-status")), (StatusCode::OK, status), "{path}");
        assert_eq!(header(&response, "content-type"), "application/grpc");
        assert!(header(&response, "www-authenticate").starts_with("Bearer realm="));
    }
}
