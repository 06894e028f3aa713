//! Requests with a token that was seen before take a shorter way through the guard. Whatever a request is, it is answered as
//! by a guard that sees the token for the first time.

use std::time::Duration;

use axum::Router;
use axum::body::Body;
use axum::routing::any;
use http::Request;
use tower::ServiceExt;
use vorsel::testing::TestIssuer;
use vorsel::{AccessPlan, Caller, Guard, GuardBuilder, Guarded, NoOwn};

const OBSERVER: &str = "role observer";

fn plan() -> AccessPlan {
    let plan = AccessPlan::builder().role("observer", &[]).role("director", &["observer"]);
    let plan = plan.open("GET", "/health").need("GET", "/dome", OBSERVER).need("POST", "/dome", "role director");
    let plan = plan.need("GET", "/observers/{observer}", "path.observer == sub").need("OPTIONS", "/asked", OBSERVER);
    let plan = plan.need("PUT", "/dome", "role observer and signed-in within 10m");
    plan.need("GET", "/notes/{note}", "role observer and scope logs:read").build().expect("a plan")
}

fn app(
    issuer: &TestIssuer,
    plan: &AccessPlan,
    with: impl Fn(GuardBuilder<NoOwn>) -> GuardBuilder<NoOwn>,
) -> Guarded<Router, NoOwn> {
    let guard: Guard<NoOwn> = with(issuer.guard(plan.clone())).build().expect("a guard");
    let who = async |caller: Option<Caller>| caller.map_or("nobody".to_owned(), |caller| caller.subject().to_owned());
    guard.around(Router::new().fallback(any(who)))
}

async fn answer(app: &Guarded<Router, NoOwn>, request: Request<Body>) -> String {
    let response = app.clone().oneshot(request).await.expect("an answer");
    let (head, body) = response.into_parts();
    let mut headers: Vec<_> = head.headers.iter().map(|(name, value)| format!("{name}: {value:?}")).collect();
    headers.sort();
    let body = axum::body::to_bytes(Body::new(body), 65_536).await.expect("a body");
    format!("{} {headers:?} {}", head.status.as_u16(), String::from_utf8_lossy(&body))
}

/// Lines of a request; `@1` stands for the token and `@2` for another that is good as well.
const LINES: [&[(&str, &str)]; 14] = [
    &[],
    &[("authorization", "Bearer @1")],
    &[("authorization", "bearer @1")],
    &[("authorization", "Bearer  @1")],
    &[("authorization", "Bearer @1 ")],
    &[("authorization", "Bearer Bearer @1")],
    &[("authorization", "Bearer @1@1")],
    &[("authorization", "Basic @1")],
    &[("authorization", "Bearer @1"), ("authorization", "Bearer @1")],
    &[("authorization", "Bearer @1"), ("authorization", "Bearer @2")],
    &[("authorization", "Bearer @1"), ("accept", "a"), ("accept", "b")],
    &[("authorization", "Bearer @1"), ("cookie", "night=@1"), ("origin", "https://elsewhere.test")],
    &[("authorization", "Bearer @1"), ("cookie", "night=@2")],
    &[("authorization", "Bearer @1"), ("origin", "https://desk.test"), ("access-control-request-method", "PUT")],
];

const METHODS: [&str; 6] = ["GET", "HEAD", "POST", "PUT", "OPTIONS", "DELETE"];

const PATHS: [&str; 9] = [
    "/health",
    "/dome",
    "/asked",
    "/observers/obs-0017",
    "/observers/obs-0020",
    "/notes/1",
    "/notes/%ff",
    "/basement",
    "/dome/",
];

fn requests(token: &str, other: &str) -> Vec<(String, Request<Body>)> {
    let mut requests = Vec::new();
    for (method, path, lines) in METHODS
        .iter()
        .flat_map(|method| PATHS.iter().flat_map(move |path| LINES.iter().map(move |lines| (method, path, lines))))
    {
        let mut request = Request::builder().method(*method).uri(*path);
        for (name, value) in *lines {
            request = request.header(*name, value.replace("@1", token).replace("@2", other));
        }
        let said = format!("{method} {path} {lines:?}");
        requests.push((said, request.body(Body::empty()).expect("a request")));
    }
    requests
}

/// What an app that has seen nothing says, and one that has seen the same requests twice already.
async fn compare(
    issuer: &TestIssuer,
    token: &str,
    other: &str,
    with: fn(GuardBuilder<NoOwn>) -> GuardBuilder<NoOwn>,
) -> Vec<String> {
    let plan = plan();
    let seasoned = app(issuer, &plan, with);
    for _ in 0..2 {
        for (_, request) in requests(token, other) {
            answer(&seasoned, request).await;
        }
    }
    let mut answers = Vec::new();
    for ((said, request), (_, again)) in requests(token, other).into_iter().zip(requests(token, other)) {
        let first = answer(&app(issuer, &plan, with), request).await;
        assert_eq!(answer(&seasoned, again).await, first, "{said}");
        answers.push(format!("{said}: {}", &first[..3]));
    }
    answers
}

#[tokio::test]
async fn what_was_seen_before_is_answered_as_if_it_had_not_been() {
    let issuer = TestIssuer::new();
    let token = issuer.caller("obs-0017").role("observer").scope("logs:read").token();
    let other = issuer.caller("obs-0020").role("director").token();
    for with in [|guard: GuardBuilder<NoOwn>| guard, |guard: GuardBuilder<NoOwn>| guard.cookie("night")] {
        let answers = compare(&issuer, &token, &other, with).await;
        // Both ways are gone: requests pass, and requests are refused in each manner.
        for status in ["200", "204", "400", "401", "403"] {
            assert!(answers.iter().any(|answer| answer.ends_with(status)), "{status}: {answers:#?}");
        }
    }
}

#[tokio::test]
async fn a_token_that_was_seen_before_still_runs_out() {
    let issuer = TestIssuer::new();
    let app = app(&issuer, &plan(), |guard| guard);
    let caller = issuer.caller("obs-0017").role("observer").signed_in_ago(Duration::from_secs(540));
    let token = caller.token();
    let ask = async |method: &str| answer(&app, issuer.request(&token, method, "/dome")).await[..3].to_owned();
    for (after, get, put) in [(0, "200", "200"), (0, "200", "200"), (90, "200", "401"), (10_000, "401", "401")] {
        issuer.clock().advance(Duration::from_secs(after));
        assert_eq!((ask("GET").await.as_str(), ask("PUT").await.as_str()), (get, put), "after {after} s");
    }
}
