//! A guard around an axum router as teams have them: nested, merged, with a state, a fallback, files, sockets, layers.

use std::convert::Infallible;
use std::future::ready;
use std::net::SocketAddr;
use std::time::Duration;

use axum::Router;
use axum::body::Body;
use axum::extract::ws::{Message, WebSocketUpgrade};
use axum::extract::{ConnectInfo, Path, State};
use axum::middleware::map_request;
use axum::response::sse::{Event, Sse};
use axum::routing::{any, get, post};
use futures_util::{StreamExt, stream};
use http::header::{ACCESS_CONTROL_ALLOW_ORIGIN, ALLOW, AUTHORIZATION, CONTENT_ENCODING, ORIGIN};

use http::{Method, Request, StatusCode, Uri};
use http_body_util::BodyExt;
use tokio::net::TcpListener;
use tokio_tungstenite::tungstenite::client::IntoClientRequest;
use tower::ServiceExt;
use tower_http::compression::CompressionLayer;
use tower_http::cors::CorsLayer;
use tower_http::normalize_path::NormalizePathLayer;
use tower_http::services::ServeDir;
use tower_http::timeout::TimeoutLayer;
use tower_http::trace::TraceLayer;
use vorsel::testing::TestIssuer;
use vorsel::{AccessPlan, Caller, GuardedApp, NoOwn, PlanBuilder, Routes, RoutesError, StopCode};

#[path = "common/lines.rs"]
mod lines;
use lines::Lines;

fn plan() -> PlanBuilder {
    AccessPlan::builder().role("operator", &[])
}

fn guarded(issuer: &TestIssuer, plan: PlanBuilder, router: Router) -> Result<GuardedApp, RoutesError> {
    issuer.guard::<NoOwn>(plan.build().expect("a plan")).build().expect("a guard").router(router)
}

fn anonymous(method: &str, path: &str) -> Request<Body> {
    Request::builder().method(method).uri(path).body(Body::empty()).expect("a request")
}

fn operator(issuer: &TestIssuer, method: &str, path: &str) -> Request<Body> {
    issuer.caller("ope-0002").role("operator").request(method, path)
}

async fn send(app: &GuardedApp, request: Request<Body>) -> (StatusCode, String) {
    let response = app.clone().oneshot(request).await.expect("an answer");
    let status = response.status();
    let body = response.into_body().collect().await.expect("a body").to_bytes();
    (status, String::from_utf8_lossy(&body).into_owned())
}

async fn who(caller: Caller) -> String {
    caller.subject().to_owned()
}

#[tokio::test]
async fn nested_and_merged_routers_states_parameters_and_methods_go_by_their_own_entries() {
    let issuer = TestIssuer::new();
    let domes = Router::new()
        .route("/", get(async || "all domes"))
        .route("/{dome}", get(async |Path(dome): Path<String>, State(word): State<&str>| format!("{dome} is {word}")))
        .route("/{dome}/shutter", post(who).get(async || "a slit"));
    let people = Router::new().route("/people/{person}", get(who));
    let inner = Router::new().nest("/domes", domes).merge(people);
    let router = Router::new().nest("/v1", inner).route("/health", get(async || "good")).with_state("shut");
    let plan = plan()
        .open("GET", "/health")
        .open("GET", "/v1/domes")
        .need("GET", "/v1/domes/{name}", "role operator and path.name == \"north\"")
        .need("POST", "/v1/domes/{dome}/shutter", "role operator")
        .need("GET", "/v1/people/{person}", "path.person == sub");
    let app = guarded(&issuer, plan, router).expect("an app");
    for (method, path, stranger, caller, body) in [
        ("GET", "/health", 200, 200, "good"),
        ("HEAD", "/health", 200, 200, ""),
        ("GET", "/v1/domes", 200, 200, "all domes"),
        ("GET", "/v1/domes/north", 401, 200, "north is shut"),
        ("GET", "/v1/domes/south", 401, 403, ""),
        ("POST", "/v1/domes/north/shutter", 401, 200, "ope-0002"),
        // It has a handler and no entry.
        ("GET", "/v1/domes/north/shutter", 401, 403, ""),
        ("GET", "/v1/people/ope-0002", 401, 200, "ope-0002"),
        ("GET", "/v1/people/obs-0017", 401, 403, ""),
        // Nothing is there; only somebody who is known is told so.
        ("GET", "/v2/domes", 401, 404, ""),
        ("GET", "/v1/domes/", 401, 404, ""),
        ("DELETE", "/v1/people/ope-0002", 401, 405, ""),
    ] {
        assert_eq!(send(&app, anonymous(method, path)).await.0, stranger, "{method} {path} by a stranger");
        let (status, text) = send(&app, operator(&issuer, method, path)).await;
        assert_eq!(status, caller, "{method} {path}");
        if status == 200 {
            assert_eq!(text, body, "{method} {path}");
        }
    }
}

#[tokio::test]
async fn an_open_fallback_opens_the_fallback_and_nothing_else() {
    let issuer = TestIssuer::new();
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::create_dir(folder.path().join("assets")).expect("a folder");
    std::fs::write(folder.path().join("index.html"), "the page").expect("a file");
    std::fs::write(folder.path().join("assets/style.css"), "the style").expect("a file");
    let cellar = Router::new().route("/wine", get(async || "wine")).fallback(async || "the cellar's own fallback");
    let router = Router::new()
        .route("/dome", get(who))
        .route("/forgotten", any(async || "forgotten"))
        .route("/forgotten/{id}", get(async || "forgotten"))
        .nest("/cellar", cellar)
        .nest_service("/archive", ServeDir::new(folder.path()))
        .fallback_service(ServeDir::new(folder.path()));
    let plan = plan().need("GET", "/dome", "role operator").open_fallback("GET", "/");
    let app = guarded(&issuer, plan, router).expect("an app");
    for (path, status) in [
        ("/", 200),
        ("/assets/style.css", 200),
        ("/nowhere.css", 404),
        ("/dome", 401),
        ("/dome/", 404),
        ("/forgotten", 401),
        ("/forgotten/7", 401),
        ("/forgotten/7/", 404),
        ("/cellar", 401),
        ("/cellar/wine", 401),
        ("/cellar/beer", 401),
        ("/archive", 401),
        ("/archive/", 401),
        ("/archive/index.html", 401),
        ("/archive/assets/style.css", 401),
        // Encoded, it is another path to axum, and the files are of the same folder.
        ("/%64ome", 404),
        ("//dome", 404),
    ] {
        let (answered, body) = send(&app, anonymous("GET", path)).await;
        assert_eq!(answered, status, "{path}: {body}");
        // Whoever is known comes no further.
        if status == 401 && path != "/dome" {
            assert_eq!(send(&app, operator(&issuer, "GET", path)).await.0, 403, "{path}");
        }
    }
    assert_eq!(send(&app, anonymous("POST", "/nowhere")).await.0, 405, "the entry is for GET");
    assert_eq!(send(&app, anonymous("POST", "/forgotten")).await.0, 405);
}

#[tokio::test]
async fn a_nested_fallback_and_a_nested_service_have_entries_of_their_own() {
    let issuer = TestIssuer::new();
    let router = || {
        let cellar = Router::new().route("/wine", get(async || "wine")).fallback(async || "the cellar's fallback");
        let deep = Router::new().fallback(async || "the deep fallback");
        Router::new()
            .nest("/cellar", cellar.nest("/deep", deep))
            .nest_service("/files/{year}", get(async || "a file"))
            .fallback(async || "the outermost fallback")
    };
    let plan = plan()
        .need("GET", "/cellar/wine", "role operator")
        .open_fallback("GET", "/cellar")
        .open("GET", "/files/{year}/{*file}");
    let app = guarded(&issuer, plan, router()).expect("an app");
    for (path, status) in [
        ("/cellar", 200),
        ("/cellar/beer", 200),
        ("/cellar/beer/old", 200),
        ("/cellar/wine", 401),
        ("/cellar/deep", 401),
        ("/cellar/deep/down", 401),
        ("/elsewhere", 401),
        ("/files/2026/night.txt", 200),
        ("/files/2026", 401),
        ("/files/2026/", 401),
    ] {
        assert_eq!(send(&app, anonymous("GET", path)).await.0, status, "{path}");
    }
    // A route at the bare path hides that the fallback is the outermost one.
    let page = router().route("/{page}", get(async || "a page"));
    let error =
        guarded(&issuer, self::plan().open_fallback("GET", "/{page}"), page).expect_err("no fallback of its own");
    assert!(error.to_string().contains("/{page}/{*fallback} has an entry for a fallback"), "{error}");
    // An entry for a fallback that is not there, or lies further out or in, is none.
    for prefix in ["/files", "/cellar/wine", "/cellar/deep/down", "/nowhere"] {
        let plan = self::plan().open_fallback("GET", prefix);
        let error = guarded(&issuer, plan, router()).expect_err(prefix).to_string();
        assert!(error.contains("but the router has none there"), "{prefix}: {error}");
    }
}

#[tokio::test]
async fn what_was_let_in_and_led_elsewhere_is_refused_and_names_no_methods() {
    let (issuer, lines) = (TestIssuer::new(), Lines::default());
    let _logging = lines.collect();
    let router = || Router::new().route("/files/{*path}", get(async || "a file")).route("/files/secret", post(who));
    let app = guarded(&issuer, plan().open("GET", "/files/{*path}"), router()).expect("an app");
    assert_eq!(send(&app, anonymous("GET", "/files/a/b")).await.0, 200);
    let response = app.clone().oneshot(anonymous("GET", "/files/secret")).await.expect("an answer");
    assert_eq!((response.status(), response.headers().get(ALLOW)), (StatusCode::UNAUTHORIZED, None));
    assert_eq!(response.extensions().get(), Some(&StopCode("no-rule")));
    let line = lines.text();
    assert!(
        line.contains("ERROR")
            && line
                .contains("expected an entry for /files/secret in the access plan, but found that of /files/{*path}"),
        "{line}"
    );
}

/// A guard goes by the path that the outermost router saw, a handler by the one that a layer has made of it.
#[tokio::test]
async fn a_path_that_is_rewritten_between_an_outer_router_and_the_guard_leads_to_no_other_handler() {
    let issuer = TestIssuer::new();
    let listed = || {
        Routes::new().route("/log", get(who)).route("/dome", get(async || "the dome")).route("/domes/{dome}", get(who))
    };
    let plan = || {
        let plan = plan().need("GET", "/log", "role operator").need("GET", "/dome", "role nobody");
        plan.role("nobody", &[]).need("GET", "/domes/{dome}", "role operator")
    };
    let apps = [listed(), Routes::new().router(listed().into_unguarded_router())];
    for (app, is_listed) in apps.into_iter().zip([true, false]) {
        let app = app
            .guard(issuer.guard::<NoOwn>(plan().build().expect("a plan")).build().expect("a guard"))
            .expect("an app");
        for (sent, becomes) in [("/log", "/dome"), ("/domes/a", "/dome"), ("/log", "/domes/a")] {
            let rewrite = async move |mut request: Request<Body>| {
                *request.uri_mut() = Uri::from_static(becomes);
                request
            };
            let outer = Router::new().fallback_service(app.clone()).layer(map_request(rewrite));
            // A token that was seen before takes another way through the guard.
            let token = issuer.caller("ope-0002").role("operator").token();
            for again in 0..3 {
                let response =
                    outer.clone().oneshot(issuer.request::<Body>(&token, "GET", sent)).await.expect("an answer");
                assert_eq!(response.status(), 403, "{sent} {becomes} listed {is_listed}, {again}");
            }
        }
    }
}

#[test]
fn an_entry_without_a_handler_in_the_router_is_found_at_the_start() {
    let issuer = TestIssuer::new();
    let router = || {
        Router::new()
            .route("/people/{id}", get(async || -> &str { panic!("no handler runs at the start") }))
            .nest_service("/files", get(async || ""))
            .fallback(async || "")
    };
    for (method, path, problem) in [
        ("GET", "/person", "GET /person has an entry in the access plan, but no handler"),
        ("POST", "/people/{id}", "POST /people/{id} has an entry in the access plan, but no handler"),
        ("GET", "/people/{*id}", "the router has another pattern there: /people/{id}"),
        ("GET", "/people/me", "the router has another pattern there: /people/{id}"),
        ("GET", "/{*rest}", "but no handler; what a fallback gets takes fallback = true"),
        ("GET", "/files/{name}", "the router has another pattern there: /files/{*rest}"),
    ] {
        let error = guarded(&issuer, plan().open(method, path), router()).expect_err(path).to_string();
        assert!(error.contains(problem), "{error}");
    }
    assert!(guarded(&issuer, plan().open("GET", "/people/{person}").open("GET", "/files/{*f}"), router()).is_ok());
}

#[tokio::test]
async fn layers_on_both_sides_see_what_they_should() {
    let issuer = TestIssuer::new();
    let origin = "https://desk.skarnhill.test";
    let long = "a long line of the night log ".repeat(99);
    let router = Router::new()
        .route("/log", get(move || async move { long }))
        .route("/slow", get(async || tokio::time::sleep(Duration::from_secs(60)).await))
        .layer(TimeoutLayer::with_status_code(StatusCode::GATEWAY_TIMEOUT, Duration::from_millis(20)))
        .layer(CompressionLayer::new());
    let plan = plan().need("GET", "/log", "role operator").open("GET", "/slow");
    let app = guarded(&issuer, plan, router).expect("an app");
    let app = app
        .layer(CorsLayer::new().allow_origin([origin.parse().expect("an origin")]).allow_methods([Method::GET]))
        .layer(TraceLayer::new_for_http())
        .layer(NormalizePathLayer::trim_trailing_slash());
    let with = |mut request: Request<Body>| {
        request.headers_mut().insert(ORIGIN, origin.parse().expect("a value"));
        request.headers_mut().insert("accept-encoding", "gzip".parse().expect("a value"));
        request
    };
    // A page may read the refusal.
    let response = app.clone().oneshot(with(anonymous("GET", "/log"))).await.expect("an answer");
    assert_eq!(response.status(), StatusCode::UNAUTHORIZED);
    assert!(response.headers().contains_key(ACCESS_CONTROL_ALLOW_ORIGIN));
    assert!(response.extensions().get::<StopCode>().is_some(), "the app's own layers see the code");
    let response = app.clone().oneshot(with(operator(&issuer, "GET", "/log"))).await.expect("an answer");
    assert_eq!(
        (response.status(), &response.headers()[CONTENT_ENCODING]),
        (StatusCode::OK, &"gzip".parse().expect(""))
    );
    assert_eq!(send(&app, anonymous("GET", "/slow")).await.0, StatusCode::GATEWAY_TIMEOUT);
    // A layer around the guard that rewrites the path has the guard go by the new one, as the handlers do.
    assert_eq!(send(&app, operator(&issuer, "GET", "/log/")).await.0, StatusCode::OK);
    assert_eq!(send(&app, anonymous("GET", "/log/")).await.0, StatusCode::UNAUTHORIZED);
    let mut preflight = with(anonymous("OPTIONS", "/log"));
    preflight.headers_mut().insert("access-control-request-method", "GET".parse().expect("a value"));
    assert_eq!(send(&app, preflight).await.0, StatusCode::OK);
}

#[tokio::test]
async fn sockets_event_streams_and_the_clients_address_work_over_a_real_connection() {
    let issuer = TestIssuer::new();
    let socket = async |caller: Caller, upgrade: WebSocketUpgrade| {
        upgrade.on_upgrade(async move |mut socket| {
            let _ = socket.send(Message::Text(caller.subject().into())).await;
        })
    };
    let opens = || Ok::<_, Infallible>(Event::default().data("dome opens"));
    let events = async move || Sse::new(stream::once(ready(opens())));
    let router = Router::new()
        .route("/socket", any(socket))
        .route("/events", get(events))
        .route("/address", get(async |ConnectInfo(address): ConnectInfo<SocketAddr>| address.ip().to_string()));
    let plan = plan().need("GET", "/socket", "role operator").need("GET", "/events", "role operator");
    let app = guarded(&issuer, plan.open("GET", "/address"), router).expect("an app");
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let address = listener.local_addr().expect("an address");
    let app = app.into_make_service_with_connect_info::<SocketAddr>();
    let serving = tokio::spawn(async move { axum::serve(listener, app).await });

    let token = issuer.caller("ope-0002").role("operator").token();
    let request = |with_token: bool| {
        let mut request = format!("ws://{address}/socket").into_client_request().expect("a request");
        if with_token {
            request.headers_mut().insert(AUTHORIZATION, format!("Bearer {token}").parse().expect("a header"));
        }
        request
    };
    assert!(tokio_tungstenite::connect_async(request(false)).await.is_err(), "nobody is let in without a token");
    let (mut socket, _) = tokio_tungstenite::connect_async(request(true)).await.expect("a socket");
    let message = socket.next().await.expect("a message").expect("a message");
    assert_eq!(message.into_text().expect("text"), "ope-0002");

    let client = reqwest::Client::new();
    let url = |path: &str| format!("http://{address}{path}");
    assert_eq!(client.get(url("/events")).send().await.expect("an answer").status(), 401);
    let stream = client.get(url("/events")).bearer_auth(&token).send().await.expect("an answer");
    assert_eq!(stream.text().await.expect("a stream"), "data: dome opens\n\n");
    assert_eq!(client.get(url("/address")).send().await.expect("an answer").text().await.expect("text"), "127.0.0.1");
    serving.abort();
}
