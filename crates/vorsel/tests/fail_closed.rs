//! Each way to forget something: the app does not start, or the request is refused. Nothing is open by accident.

use std::fs;

use axum::Router;
use axum::body::Body;
use axum::routing::{any, get};
use http::{Request, Response, StatusCode};
use serde::{Deserialize, Serialize};
use tower::{Service, ServiceExt};
use vorsel::testing::TestIssuer;
use vorsel::{AccessPlan, Caller, GuardedApp, NoOwn, PlanBuilder, PlanFileError, Routes, RoutesError, load_plan};

#[derive(Debug, Clone, Serialize, Deserialize)]
struct Staff {
    training: u8,
}

async fn who(caller: Caller<Staff>) -> String {
    caller.subject().to_owned()
}

async fn maybe_who(caller: Option<Caller<Staff>>) -> String {
    caller.map_or("nobody".to_owned(), |caller| caller.subject().to_owned())
}

async fn unaware() -> &'static str {
    "a handler that asks for nobody"
}

fn plan() -> PlanBuilder {
    AccessPlan::builder().role("operator", &[]).need("GET", "/dome", "role operator")
}

fn operator(issuer: &TestIssuer, path: &str) -> Request<Body> {
    issuer.caller("ope-0002").role("operator").claim("training", 4).request("GET", path)
}

async fn send<S>(app: S, request: Request<Body>) -> StatusCode
where
    S: Service<Request<Body>, Response = Response<Body>>,
    S::Error: std::fmt::Debug,
{
    app.oneshot(request).await.expect("an answer").status()
}

#[tokio::test]
async fn without_a_guard_or_with_another_one_a_handler_that_asks_for_its_caller_is_not_run() {
    let issuer = TestIssuer::new();
    let guard = || issuer.guard::<Staff>(plan().build().expect("a plan")).build().expect("a guard");
    let other = issuer.guard::<NoOwn>(plan().build().expect("a plan")).build().expect("a guard");
    for (forgotten, app) in [
        ("the layer", Router::new().route("/dome", get(who))),
        ("the layer, and the caller is optional", Router::new().route("/dome", get(maybe_who))),
        ("the order", Router::new().layer(guard().partial()).route("/dome", get(who))),
        ("the type", Router::new().route("/dome", get(who)).layer(other.partial())),
    ] {
        let request = operator(&issuer, "/dome");
        assert_eq!(send(app, request).await, StatusCode::INTERNAL_SERVER_ERROR, "forgotten: {forgotten}");
    }
    let app = Router::new().route("/dome", get(who)).layer(guard().partial());
    assert_eq!(send(app, operator(&issuer, "/dome")).await, 200);
}

/// Inside a router the guard would not see the routes that are added after it, so it is no layer: that does not compile, see
/// the documentation of `Guard`. Around the whole router there is no after.
#[tokio::test]
async fn a_guard_around_a_router_closes_what_its_plan_does_not_name() {
    let issuer = TestIssuer::new();
    let guard = issuer.guard::<Staff>(plan().build().expect("a plan")).build().expect("a guard");
    let app = guard.around(Router::new().route("/dome", get(unaware)).route("/cellar", get(unaware)));
    for (path, status) in [("/dome", 200), ("/cellar", 403), ("/nowhere", 403)] {
        let answer = app.clone().oneshot(operator(&issuer, path)).await.expect("an answer");
        assert_eq!(answer.status(), status, "{path}");
    }
}

/// That no route can be added behind the guard's back does not compile: see the documentation of `Routes`.
#[tokio::test]
async fn a_route_without_a_rule_is_refused_by_a_layer_too() {
    let issuer = TestIssuer::new();
    let guard = issuer.guard::<Staff>(plan().build().expect("a plan")).build().expect("a guard").partial();
    let app = Router::new().route("/dome", get(unaware)).route("/cellar", get(unaware)).layer(guard.clone());
    assert_eq!(send(app.clone(), operator(&issuer, "/cellar")).await, StatusCode::FORBIDDEN);
    let anonymous = || Request::builder().uri("/cellar").body(Body::empty()).expect("a request");
    assert_eq!(send(app, anonymous()).await, StatusCode::UNAUTHORIZED);
    // Around a single route the guard does the same.
    let app =
        Router::new().route("/dome", get(unaware).layer(guard.clone())).route("/cellar", get(unaware).layer(guard));
    assert_eq!(send(app.clone(), operator(&issuer, "/dome")).await, 200);
    assert_eq!(send(app, operator(&issuer, "/cellar")).await, StatusCode::FORBIDDEN);
}

fn guarded(plan: PlanBuilder, routes: Routes) -> Result<GuardedApp, RoutesError> {
    let guard = TestIssuer::new().guard::<Staff>(plan.build().expect("a plan")).build().expect("a guard");
    routes.guard(guard)
}

#[test]
fn an_app_whose_routes_are_not_those_of_its_plan_does_not_start() {
    let routes = || Routes::new().route("/dome", get(unaware));
    assert!(guarded(plan(), routes()).is_ok());
    for (plan, routes, problem) in [
        (plan(), routes().route("/cellar", get(unaware)), "GET /cellar has a handler, but no entry in the access plan"),
        (
            plan(),
            Routes::new().route("/dome", get(unaware).post(unaware)),
            "POST /dome has a handler, but no entry in the access plan",
        ),
        (
            plan(),
            Routes::new().route("/dome", any(unaware)).route("/cellar", any(unaware)),
            "/cellar has a handler for any method, but the access plan has no entry for it",
        ),
        (plan().open("GET", "/health"), routes(), "GET /health has an entry in the access plan, but no handler"),
        (plan().open("POST", "/dome"), routes(), "POST /dome has an entry in the access plan, but no handler"),
        (plan(), routes().merge(routes()), "GET /dome has two handlers"),
        (
            plan().open("GET", "/a/{x}"),
            routes().route("/a/{x}", get(unaware)).route("/a/{y}", axum::routing::post(unaware)),
            "the path \"/a/{y}\" cannot be used: Insertion failed due to conflict with previously registered route: /a/{x}",
        ),
        (
            plan().open("GET", "/a/x"),
            routes().nest("/a", Routes::new().route("/x", get(unaware)).route("/", get(unaware))),
            "GET /a has a handler, but no entry in the access plan",
        ),
    ] {
        let error = guarded(plan, routes).expect_err(problem);
        assert!(error.problems().contains(&problem.to_owned()), "{error}");
    }
    // Other names for parameters, one entry for many paths, HEAD by GET: all are the same routes.
    let wide = plan().open("GET", "/files/{*path}").open("HEAD", "/dome").open("GET", "/people/{person}");
    let routes = routes().route("/files/{name}", get(unaware)).route("/people/{id}", get(unaware));
    assert!(guarded(wide, routes).is_ok());
}

/// Trying out which methods have a handler must not run one.
#[test]
fn no_handler_runs_while_the_routes_are_checked() {
    let routes = Routes::new().route("/dome", get(async || -> &str { panic!("run at start-up") }));
    assert!(guarded(plan(), routes).is_ok());
}

#[test]
fn a_plan_with_a_mistake_does_not_load() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("access.toml");
    assert!(matches!(load_plan(&file), Err(PlanFileError::Read { .. })), "there is no file");
    for (text, message) in [
        ("", "a plan without a route refuses every request"),
        (
            "[[routes]]\nmethod = \"GET\"\npath = \"/dome\"\nneed = \"policy crwe\"\n[policies]\ncrew = \"signed-in\"",
            "4:16: unknown policy \"crwe\"; did you mean \"crew\"?",
        ),
        (
            "[[routes]]\nmethod = \"GET\"\npath = \"/dome\"\n",
            "1:1: expected need = \"…\" with a rule, or the word open = true",
        ),
        ("[[routes]]\nmethod = \"GET\"\npath = \"/dome\"\nneed = \"\"", "4:8: expected signed-in, role"),
        (
            "[[route]]\nmethod = \"GET\"\npath = \"/dome\"\nopen = true",
            "1:3: unknown member \"route\"; did you mean \"routes\"?",
        ),
    ] {
        fs::write(&file, text).expect("a file");
        let error = load_plan(&file).expect_err(message).to_string();
        assert!(error.contains(message), "{error}");
    }
}

#[test]
fn a_guard_that_cannot_do_what_its_plan_says_is_not_built() {
    let issuer = TestIssuer::new();
    let plan = |rule: &str| AccessPlan::builder().need("GET", "/dome", rule).build().expect("a plan");
    for (rule, problem) in [
        ("predicate owns-dome", "the access plan asks for predicate owns-dome, which is not registered with the guard"),
        ("credential cookie", "the access plan asks for credential cookie, which the guard does not look for"),
        ("credential api-key", "the access plan asks for credential api-key, which the guard does not look for"),
    ] {
        let error = issuer.guard::<NoOwn>(plan(rule)).build().expect_err(problem);
        assert_eq!(error.problems(), [problem]);
    }
    let both = plan("predicate owns-dome and credential cookie");
    assert_eq!(issuer.guard::<NoOwn>(both).build().expect_err("two reasons").problems().len(), 2);
    for guard in [
        issuer.guard::<NoOwn>(plan("signed-in")).cookie("no name"),
        issuer.guard::<NoOwn>(plan("signed-in")).cookie("night").cookie_origins(&["desk.skarnhill.test"]),
        issuer.guard::<NoOwn>(plan("signed-in")).cookie("night").cookie_origins(&["https://desk.skarnhill.test/"]),
    ] {
        assert!(guard.build().is_err());
    }
}
