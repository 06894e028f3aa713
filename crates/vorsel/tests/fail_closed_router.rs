//! Whole routers behind the guard: each way to forget or misplace something, and an open fallback among hundreds of routes.

use std::collections::BTreeSet;

use axum::Router;
use axum::body::Body;
use axum::routing::{MethodRouter, any, any_service, get, post};
use http::{Request, StatusCode};
use http_body_util::BodyExt;
use proptest::prelude::*;
use proptest::test_runner::Config;
use tower::ServiceExt;
use tower_http::services::ServeDir;
use vorsel::testing::TestIssuer;
use vorsel::{AccessPlan, GuardedApp, NoOwn, PlanBuilder, Routes};

const LET_IN: &str = "a handler ran";

fn handler() -> MethodRouter {
    get(async || LET_IN)
}

fn plan() -> PlanBuilder {
    AccessPlan::builder().role("operator", &[]).need("GET", "/dome", "role operator")
}

fn router() -> Router {
    Router::new().route("/dome", handler())
}

fn guarded(issuer: &TestIssuer, plan: PlanBuilder, routes: Routes) -> Result<GuardedApp, String> {
    let plan = plan.build().map_err(|error| error.to_string())?;
    let guard = issuer.guard::<NoOwn>(plan).build().map_err(|error| error.to_string())?;
    routes.guard(guard).map_err(|error| error.to_string())
}

async fn send<S>(app: S, request: Request<Body>) -> (StatusCode, String)
where
    S: tower::Service<Request<Body>, Response = http::Response<Body>>,
    S::Error: std::fmt::Debug,
{
    let response = app.oneshot(request).await.expect("an answer");
    let status = response.status();
    let body = response.into_body().collect().await.expect("a body").to_bytes();
    (status, String::from_utf8_lossy(&body).into_owned())
}

fn request(method: &str, path: &str) -> Request<Body> {
    Request::builder().method(method).uri(path).body(Body::empty()).expect("a request")
}

/// What was forgotten or misplaced; the plan, the app, and the request that must not get through. The caller of each is signed in,
/// with a role that the plan does not ask for.
fn ways() -> Vec<(&'static str, PlanBuilder, Routes, &'static str, &'static str)> {
    let only = |router: Router| Routes::new().router(router);
    let inner = || Router::new().route("/wine", handler());
    let with_fallback = || inner().fallback(async || LET_IN);
    let open = || plan().open_fallback("GET", "/");
    vec![
        ("an entry", plan(), only(router().route("/cellar", handler())), "GET", "/cellar"),
        ("an entry for a method", plan(), only(router().route("/dome", post(async || LET_IN))), "POST", "/dome"),
        ("an entry for any method", plan(), only(router().route("/cellar", any(async || LET_IN))), "POST", "/cellar"),
        ("an entry for a service", plan(), only(router().route_service("/cellar", handler())), "GET", "/cellar"),
        ("an entry for a nested route", plan(), only(router().nest("/cellar", inner())), "GET", "/cellar/wine"),
        (
            "an entry for a nested service",
            plan(),
            only(router().nest_service("/cellar", handler())),
            "GET",
            "/cellar/x",
        ),
        ("an entry at a nest's own path", plan(), only(router().nest_service("/cellar", handler())), "GET", "/cellar"),
        (
            "an entry at its path and a slash",
            plan(),
            only(router().nest_service("/cellar", handler())),
            "GET",
            "/cellar/",
        ),
        ("an entry for a merged router", plan(), only(router().merge(inner())), "GET", "/wine"),
        ("an entry for the fallback", plan(), only(router().fallback(async || LET_IN)), "GET", "/cellar"),
        ("an entry for a method of the fallback", open(), only(router().fallback(async || LET_IN)), "POST", "/cellar"),
        ("an entry for a nested fallback", plan(), only(router().nest("/cellar", with_fallback())), "GET", "/cellar/x"),
        (
            "that an open fallback is not a route's",
            open(),
            only(router().fallback(async || LET_IN).route("/cellar", handler())),
            "GET",
            "/cellar",
        ),
        (
            "nor a nested route's",
            open(),
            only(router().fallback(async || LET_IN).nest("/cellar", inner())),
            "GET",
            "/cellar/wine",
        ),
        (
            "nor a nested service's",
            open(),
            only(router().fallback(async || LET_IN).nest_service("/cellar", handler())),
            "GET",
            "/cellar/x",
        ),
        (
            "nor a nested fallback's",
            open(),
            only(router().fallback(async || LET_IN).nest("/cellar", with_fallback())),
            "GET",
            "/cellar/x",
        ),
        (
            "nor that of a path with parameters",
            open(),
            only(router().fallback(async || LET_IN).route("/{any}/{id}", handler())),
            "GET",
            "/cellar/7",
        ),
        (
            "nor that of the bare path",
            open(),
            only(router().fallback(async || LET_IN).route("/", handler())),
            "GET",
            "/",
        ),
        (
            "a slash in the plan",
            plan().open("GET", "/cellar/"),
            only(router().route("/cellar", handler())),
            "GET",
            "/cellar",
        ),
        (
            "a slash in the router",
            plan().open("GET", "/cellar"),
            only(router().route("/cellar/", handler())),
            "GET",
            "/cellar/",
        ),
        (
            "the prefix in the plan",
            plan().open("GET", "/wine"),
            only(router().nest("/cellar", inner())),
            "GET",
            "/cellar/wine",
        ),
        ("the prefix in the router", plan().open("GET", "/cellar/wine"), only(router().merge(inner())), "GET", "/wine"),
        (
            "a capital letter",
            plan().open("GET", "/Cellar"),
            only(router().route("/cellar", handler())),
            "GET",
            "/cellar",
        ),
        (
            "that a wide entry covers no narrow route",
            plan().open("GET", "/a/{*x}"),
            only(router().route("/a/{*x}", handler()).route("/a/b", handler())),
            "GET",
            "/a/b",
        ),
        (
            "nor a nested service",
            plan().open("GET", "/a/{*x}"),
            only(router().route("/a/{*x}", handler()).nest_service("/a/b", handler())),
            "GET",
            "/a/b/c",
        ),
        (
            "nor a parameter",
            plan().open("GET", "/{*x}"),
            only(router().route("/{*x}", handler()).route("/a/{two}", handler())),
            "GET",
            "/a/b",
        ),
        (
            "that an entry is for a fallback",
            plan().open("GET", "/{*x}"),
            only(router().fallback(async || LET_IN)),
            "GET",
            "/cellar",
        ),
        (
            "that the files are not the fallback",
            open(),
            only(router().nest_service("/files", ServeDir::new("."))),
            "GET",
            "/files/Cargo.toml",
        ),
        ("a listed route beside a router", plan(), only(router()).route("/cellar", handler()), "GET", "/cellar"),
        ("a listed route that the router has", plan(), only(router()).route("/dome", handler()), "GET", "/dome"),
        ("the plan's role", plan(), only(router()), "GET", "/dome"),
        (
            "a method that HTTP does not know",
            plan(),
            only(router().route("/cellar", any(async || LET_IN))),
            "BREW",
            "/cellar",
        ),
    ]
}

#[tokio::test]
async fn whatever_is_forgotten_the_app_does_not_start_or_refuses() {
    let issuer = TestIssuer::new();
    let ways = ways();
    assert!(ways.len() >= 30, "{}", ways.len());
    let mut started = 0;
    for (forgotten, plan, routes, method, path) in ways {
        let Ok(app) = guarded(&issuer, plan, routes) else { continue };
        started += 1;
        for caller in [false, true] {
            let request = if caller {
                issuer.caller("obs-0017").role("observer").request(method, path)
            } else {
                request(method, path)
            };
            let (status, body) = send(app.clone(), request).await;
            assert!(!body.contains(LET_IN) && body.len() < 200, "forgotten: {forgotten}: {body}");
            let expected = if caller { [403, 404, 405] } else { [401, 405, 401] };
            assert!(expected.contains(&status.as_u16()), "forgotten: {forgotten}: {status}");
        }
    }
    // The test is one of requests, too, and not of starting alone.
    assert!(started >= 15, "{started}");
}

/// The router has the paths of the service besides the patterns of the plan, and no route that is not in it.
#[tokio::test]
async fn a_seen_token_gets_to_a_nested_service_by_the_services_entry_alone() {
    let issuer = TestIssuer::new();
    let router = Router::new()
        .route("/{x}", saying("/{x}"))
        .route("/{x}/", saying("/{x}/"))
        .route("/{x}/{y}", saying("/{x}/{y}"))
        .nest_service("/cellar", any_service(saying("the cellar")));
    let entries = ["/{x}", "/{x}/", "/{x}/{y}", "/cellar/{*wine}"];
    let plan = entries.iter().fold(AccessPlan::builder(), |plan, path| plan.need("GET", path, "signed-in"));
    let app = guarded(&issuer, plan, Routes::new().router(router)).expect("an app");
    let token = issuer.caller("obs-0017").token();
    for (path, answer) in [
        ("/dome", Some("/{x}")),
        ("/dome/", Some("/{x}/")),
        ("/dome/slit", Some("/{x}/{y}")),
        ("/cellar/red", Some("the cellar")),
        ("/cellar", None),
        ("/cellar/", None),
    ] {
        for _ in 0..3 {
            let (status, body) = send(app.clone(), issuer.request(&token, "GET", path)).await;
            assert_eq!((status == 200).then_some(body.as_str()), answer, "{path}: {status}");
        }
    }
}

#[derive(Clone, Debug)]
enum Part {
    Route(String),
    Service(String),
    /// With a nested fallback.
    Router(String, Vec<String>),
}

fn segment() -> impl Strategy<Value = String> {
    prop_oneof![
        6 => "[a-d]{1,2}",
        1 => Just("{x}".to_owned()),
        1 => "[a-b]\\{x\\}",
        1 => Just("%61".to_owned()),
        1 => Just(String::new()),
    ]
}

fn pattern() -> impl Strategy<Value = String> {
    (proptest::collection::vec(segment(), 1..5), prop_oneof![4 => Just(""), 1 => Just("/{*rest}"), 1 => Just("/")])
        .prop_map(|(segments, end)| {
            // A parameter has each name once.
            let numbered = segments
                .iter()
                .enumerate()
                .map(|(at, segment)| format!("/{}", segment.replace("{x}", &format!("{{x{at}}}"))));
            format!("{}{end}", numbered.collect::<String>())
        })
}

fn part() -> impl Strategy<Value = Part> {
    let prefix =
        || pattern().prop_map(|path| path.split("/{*").next().unwrap_or_default().trim_end_matches('/').to_owned());
    prop_oneof![
        6 => pattern().prop_map(Part::Route),
        1 => prefix().prop_map(Part::Service),
        1 => (prefix(), proptest::collection::vec(pattern(), 0..4)).prop_map(|(prefix, inner)| Part::Router(prefix, inner)),
    ]
}

/// Says by which pattern it was found.
fn saying(pattern: &str) -> MethodRouter {
    let pattern = pattern.to_owned();
    any(async move || pattern)
}

/// A router of all parts that axum takes, and every path pattern in it.
fn assembled(parts: &[Part]) -> (Router, Vec<String>) {
    let (mut routes, mut fallbacks) = (matchit::Router::new(), matchit::Router::new());
    // As axum keeps the outermost fallback.
    for path in ["/", "/{*rest}"] {
        fallbacks.insert(path, ()).expect("the first ones");
    }
    let mut router = Router::new().fallback(async || "the outermost fallback");
    let mut patterns = Vec::new();
    for part in parts {
        match part {
            Part::Route(path) => {
                if routes.insert(path, ()).is_ok() {
                    router = router.route(path, saying(path));
                    patterns.push(path.clone());
                }
            }
            Part::Service(prefix) => {
                let paths = [prefix.clone(), format!("{prefix}/"), format!("{prefix}/{{*rest}}")];
                let mut tried = routes.clone();
                if prefix.len() > 1 && paths.iter().all(|path| tried.insert(path, ()).is_ok()) {
                    routes = tried;
                    router = router.nest_service(prefix, any_service(saying(&paths[2])));
                    patterns.extend(paths);
                }
            }
            Part::Router(prefix, inner) => {
                let (mut tried, mut tried_fallbacks) = (routes.clone(), fallbacks.clone());
                let whole = |path: &String| if path == "/" { prefix.clone() } else { format!("{prefix}{path}") };
                let whole: Vec<_> = inner.iter().map(whole).collect();
                let nested_fallback = [prefix.clone(), format!("{prefix}/{{*rest}}")];
                let fits = prefix.len() > 1
                    && whole.iter().all(|path| tried.insert(path, ()).is_ok())
                    && nested_fallback.iter().all(|path| tried_fallbacks.insert(path, ()).is_ok());
                if fits {
                    (routes, fallbacks) = (tried, tried_fallbacks);
                    let said = format!("the fallback of {prefix}");
                    let nested = Router::new().fallback(async move || said);
                    let nested = inner
                        .iter()
                        .zip(&whole)
                        .fold(nested, |nested, (path, whole)| nested.route(path, saying(whole)));
                    router = router.nest(prefix, nested);
                    patterns.extend(whole.into_iter().chain(nested_fallback));
                }
            }
        }
    }
    (router, patterns)
}

/// Paths at, beside and below a pattern.
fn paths(pattern: &str) -> Vec<String> {
    let filled = |with: &str| -> String {
        let segments = pattern.split('/').skip(1).map(|segment| match segment.split_once('{') {
            Some((fixed, _)) => format!("/{fixed}{with}"),
            None => format!("/{segment}"),
        });
        segments.collect()
    };
    let mut paths: Vec<String> = vec![filled("a"), filled("zz"), filled("a/b"), filled("")];
    let beside = |path: &String| {
        let trimmed = path.trim_end_matches('/').to_owned();
        [
            format!("{path}/"),
            format!("{path}/x"),
            format!("/{path}"),
            format!("{path}?q=1"),
            trimmed,
            path.replacen('/', "/%2e/", 1),
        ]
    };
    paths.extend(paths.iter().flat_map(beside).collect::<Vec<_>>());
    paths.into_iter().filter(|path| path.starts_with('/')).collect()
}

proptest! {
    #![proptest_config(Config { cases: 10, failure_persistence: None, ..Config::default() })]

    /// Left out: routers that axum itself refuses (clashing patterns), and layers, which change no routing.
    #[test]
    fn an_open_fallback_among_two_hundred_routes_opens_none_of_them_nor_another_fallback(parts in proptest::collection::vec(part(), 200..230)) {
        let (router, patterns) = assembled(&parts);
        let outermost = Some(("/".to_owned(), "the outermost fallback".to_owned()));
        let nested = parts.iter().filter_map(|part| match part {
            Part::Router(prefix, _) if prefix.len() > 1 => Some((prefix.clone(), format!("the fallback of {prefix}"))),
            _ => None,
        });
        let all: BTreeSet<String> = patterns.iter().flat_map(|pattern| paths(pattern)).chain(["/".to_owned()]).collect();
        let runtime = tokio::runtime::Builder::new_current_thread().build().expect("a runtime");
        let bare: Vec<_> = all.iter().map(|path| runtime.block_on(send(router.clone(), request("GET", path))).1).collect();
        let mut open = 0;
        for (prefix, said) in outermost.into_iter().chain(nested.take(4)) {
            let plan = AccessPlan::builder().open_fallback("GET", &prefix);
            // Where something else takes what the fallback would get, the app does not start.
            let Ok(app) = guarded(&TestIssuer::new(), plan, Routes::new().router(router.clone())) else { continue };
            for (path, bare) in all.iter().zip(&bare) {
                let (status, body) = runtime.block_on(send(app.clone(), request("GET", path)));
                open += usize::from(*bare == said);
                let is_let_in = status == 200;
                prop_assert!(!is_let_in || *bare == said, "{}, opened {}: {} {} where axum has {}", path, prefix, status, body, bare);
                prop_assert!(is_let_in || prefix != "/" || *bare != said, "{}: {} {} where axum has {}", path, status, body, bare);
            }
        }
        // A router whose routes take every path says nothing.
        prop_assume!(open > 0);
    }

    /// Routes that hide others' paths (`/a/{x}` and `/a/b`), of which any may have an entry or none, or all have one, so that no gate
    /// is asked. Left out: as above, and what no entry with a pattern can be for.
    #[test]
    fn an_entry_lets_in_at_its_own_pattern_alone_however_often_a_token_comes(
        parts in proptest::collection::vec(part(), 1..60),
        chosen in prop_oneof![proptest::collection::vec(proptest::bool::ANY, 240), Just(vec![true; 240])],
    ) {
        let (router, patterns) = assembled(&parts);
        let issuer = TestIssuer::new();
        let app = |entries: &[&String]| {
            let plan = AccessPlan::builder().role("operator", &[]);
            let plan = entries.iter().fold(plan, |plan, pattern| plan.need("GET", pattern, "role operator"));
            guarded(&issuer, plan, Routes::new().router(router.clone()))
        };
        let mut chosen: Vec<&String> = patterns.iter().zip(chosen).filter_map(|(pattern, is_chosen)| is_chosen.then_some(pattern)).collect();
        chosen.retain(|pattern| app(&[*pattern]).is_ok());
        let app = app(&chosen);
        prop_assume!(app.is_ok());
        let app = app.expect("looked at");
        let token = issuer.caller("ope-0001").role("operator").token();
        let runtime = tokio::runtime::Builder::new_current_thread().build().expect("a runtime");
        let all: BTreeSet<String> = patterns.iter().flat_map(|pattern| paths(pattern)).collect();
        for path in all {
            let (_, bare) = runtime.block_on(send(router.clone(), request("GET", &path)));
            for _ in 0..3 {
                let (status, body) = runtime.block_on(send(app.clone(), issuer.request(&token, "GET", &path)));
                let is_let_in = status == 200;
                let is_chosen = |pattern: &str| chosen.iter().any(|chosen| *chosen == pattern);
                // A nested service lies at three patterns and is told apart by none.
                let service = bare.strip_suffix("/{*rest}").filter(|prefix| patterns.contains(&format!("{prefix}/")));
                let has_entry = is_chosen(&bare)
                    || service.is_some_and(|prefix| is_chosen(prefix) || is_chosen(&format!("{prefix}/")));
                prop_assert!(!is_let_in || has_entry, "{} {} where axum has {}", path, body, bare);
                prop_assert!(is_let_in || !has_entry || service.is_some(), "{} {} where axum has {}", path, status, bare);
                prop_assert!(!is_let_in || body == bare, "{} {} where axum has {}", path, body, bare);
            }
        }
    }
}
