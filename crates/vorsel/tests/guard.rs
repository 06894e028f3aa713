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
    AccessDraft, AccessPlan, Algorithm, Caller, Expectations, Guard, Issuer, KeySet, Lifetime, NoOwn, Scopes, Secret,
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
        .layer(guard::<Staff>())
}

fn token(roles: &[&str], scope: &str, own: Value) -> String {
    let draft = AccessDraft::new("obs-0017", AUDIENCE, "desk", Lifetime::minutes(5))
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

const PLAIN: &str = "Bearer realm=\"https://api.skarnhill.test\"";
const INVALID: &str = "Bearer realm=\"https://api.skarnhill.test\", error=\"invalid_token\"";
const REQUEST: &str = "Bearer realm=\"https://api.skarnhill.test\", error=\"invalid_request\"";
const STEP_UP: &str = "Bearer realm=\"https://api.skarnhill.test\", error=\"insufficient_user_authentication\", \
                       acr_values=\"phr\", max_age=\"600\"";
const TOO_LITTLE: &str = "Bearer realm=\"https://api.skarnhill.test\", error=\"insufficient_scope\"";

#[tokio::test]
async fn every_request_gets_its_status_and_challenge() {
    let own = || json!({ "training": 2 });
    let observer = format!("Bearer {}", token(&["observer"], "logs:read", own()));
    let director = format!("bearer {}", token(&["director"], "logs:read dome:move", own()));
    let misfit = format!("Bearer {}", token(&["director"], "", json!({ "training": "two" })));
    let (observer, director, misfit) = (observer.as_str(), director.as_str(), misfit.as_str());
    let scopes = format!("{TOO_LITTLE}, scope=\"dome:move\"");
    let doubled = observer.replace("Bearer", "Bearer Bearer");
    for (method, path, authorization, status, challenge) in [
        ("GET", "/health", &[][..], 200, ""),
        ("HEAD", "/health", &[], 200, ""),
        ("GET", "/health?from=log", &[], 200, ""),
        ("GET", "/health", &["Bearer a.b.c"], 200, ""),
        ("GET", "/health", &["Bearer"], 200, ""),
        ("POST", "/health", &[], 405, ""),
        ("POST", "/sign-in", &[], 401, PLAIN),
        ("GET", "/log", &[], 401, PLAIN),
        ("GET", "/log", &["Basic dTpw"], 401, PLAIN),
        ("GET", "/log", &[observer], 200, ""),
        ("HEAD", "/log", &[observer], 200, ""),
        ("GET", "/log?q=1", &[director], 200, ""),
        ("GET", "/log", &["Bearer a.b.c"], 401, INVALID),
        ("GET", "/log", &[misfit], 401, INVALID),
        ("GET", "/log", &["Bearer"], 400, REQUEST),
        ("GET", "/log", &[&doubled], 400, REQUEST),
        ("GET", "/log", &[observer, observer], 400, REQUEST),
        ("POST", "/dome", &[observer], 403, &scopes),
        ("DELETE", "/log", &[], 401, PLAIN),
        ("DELETE", "/log", &[observer], 403, TOO_LITTLE),
        ("DELETE", "/log", &[director], 401, STEP_UP),
        ("POST", "/dome", &[director], 200, ""),
        ("DELETE", "/dome", &[director], 403, TOO_LITTLE),
        ("DELETE", "/dome", &[], 401, PLAIN),
        ("OPTIONS", "/dome", &[], 401, PLAIN),
        ("GET", "/observers/obs-0017", &[observer], 200, ""),
        ("GET", "/observers/obs%2d0017", &[observer], 200, ""),
        ("GET", "/observers/obs-0020", &[observer], 403, TOO_LITTLE),
        ("GET", "/nested/log", &[observer], 403, TOO_LITTLE),
        ("GET", "/nested/log", &[director], 200, ""),
        ("GET", "/missing", &[], 401, PLAIN),
        ("GET", "/missing", &[observer], 404, ""),
        ("GET", "/forgotten", &[], 401, PLAIN),
        ("GET", "/forgotten", &[director], 403, TOO_LITTLE),
        ("GET", "/nowhere", &[], 401, PLAIN),
        ("GET", "/nowhere", &[director], 403, TOO_LITTLE),
    ] {
        let response = send(app(), method, path, authorization).await;
        let seen = (response.status().as_u16(), header(&response, "www-authenticate"));
        assert_eq!(seen, (status, challenge), "{method} {path} {authorization:?}");
        if challenge.is_empty() {
            continue;
        }
        assert_eq!(header(&response, "content-type"), "application/problem+json");
        assert_eq!(header(&response, "cache-control"), "no-store");
        let problem: Value = serde_json::from_str(&body(response).await).expect("a problem");
        assert_eq!((problem["status"].as_u64(), &problem["type"]), (Some(u64::from(status)), &json!("about:blank")));
    }
}

#[tokio::test]
async fn the_client_learns_nothing_beyond_the_standard() {
    let draft = AccessDraft::new("obs-0017", "https://lab.skarnhill.test", "desk", Lifetime::minutes(5));
    let elsewhere = Issuer::new(ISSUER, key()).access(&draft, "t1", NOW).expect("a token");
    let response = send(app(), "GET", "/log", &[&format!("Bearer {elsewhere}")]).await;
    assert_eq!(
        body(response).await,
        r#"{"type":"about:blank","title":"Unauthorized","status":401,"detail":"The access token is not accepted."}"#
    );
    let response = send(app(), "POST", "/health", &[]).await;
    assert_eq!((header(&response, "allow"), response.status()), ("GET", StatusCode::METHOD_NOT_ALLOWED));
}

#[tokio::test]
async fn the_handler_gets_its_caller_as_its_own_type() {
    let observer = format!("Bearer {}", token(&["observer"], "", json!({ "training": 2 })));
    assert_eq!(body(send(app(), "GET", "/log", &[&observer]).await).await, "obs-0017 2");
    assert_eq!(body(send(app(), "GET", "/health", &[&observer]).await).await, "obs-0017");
    assert_eq!(body(send(app(), "GET", "/health", &[]).await).await, "nobody");
}

#[tokio::test]
async fn a_handler_without_a_guard_or_with_another_one_is_not_run() {
    let observer = format!("Bearer {}", token(&["observer"], "", json!({ "training": 2 })));
    let bare = Router::new().route("/log", get(who));
    let added_later = Router::new().layer(guard::<Staff>()).route("/log", get(who));
    let other = Router::new().route("/log", get(who)).layer(guard::<NoOwn>());
    let optional = Router::new().route("/log", get(maybe_who));
    for app in [bare, added_later, other, optional] {
        let response = send(app, "GET", "/log", &[&observer]).await;
        assert_eq!(response.status(), StatusCode::INTERNAL_SERVER_ERROR);
        let text = body(response).await;
        assert!(text.contains("set up wrongly") && !text.contains("Staff"), "{text}");
    }
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
