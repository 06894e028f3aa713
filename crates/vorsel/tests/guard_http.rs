//! What an HTTP client is told, request by request, by a running server: status, challenge, body.

use std::error::Error;
use std::time::Duration;

use async_trait::async_trait;
use axum::routing::{any, delete, get, post};
use reqwest::Client;
use reqwest::header::{HeaderMap, HeaderName, HeaderValue};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use vorsel::testing::TestIssuer;
use vorsel::{
    AccessPlan, ApiKeyHash, ApiKeyOwner, ApiKeys, Caller, Grant, GuardedApp, Lifetime, PredicateAnswer,
    PredicateRequest, Routes, Scopes,
};

#[derive(Debug, Clone, Default, Serialize, Deserialize)]
struct Staff {
    #[serde(default)]
    training: u8,
}

/// One key is known, one makes the look-up fail.
struct Keys;

#[async_trait]
impl ApiKeys<Staff> for Keys {
    async fn owner(&self, hash: &ApiKeyHash) -> Result<Option<ApiKeyOwner<Staff>>, Box<dyn Error + Send + Sync>> {
        if *hash == ApiKeyHash::of("down") {
            return Err("the key store is down".into());
        }
        let grant = Grant { roles: vec!["operator".to_owned()], scopes: Scopes::default(), own: Staff { training: 1 } };
        Ok((*hash == ApiKeyHash::of("known")).then(|| ApiKeyOwner::subject("ope-0002", grant)))
    }
}

async fn owns(caller: Caller<Staff>, request: PredicateRequest) -> PredicateAnswer {
    match request.path("id") {
        Some("exp-500") => Err("the exposures are down".into()),
        id => Ok(id == Some("exp-101") && caller.subject() == "obs-0017" && request.parts.uri.path().ends_with("101")),
    }
}

async fn who(caller: Caller<Staff>) -> String {
    caller.subject().to_owned()
}

async fn maybe_who(caller: Option<Caller<Staff>>) -> String {
    caller.map_or("nobody".to_owned(), |caller| caller.subject().to_owned())
}

/// Takes every handshake, as a web socket's handler would.
async fn live(_: Caller<Staff>) -> impl axum::response::IntoResponse {
    (http::StatusCode::SWITCHING_PROTOCOLS, [("upgrade", "websocket"), ("connection", "upgrade")])
}

fn app(issuer: &TestIssuer) -> GuardedApp {
    let plan = AccessPlan::builder()
        .role("visitor", &[])
        .role("observer", &[])
        .role("operator", &["observer"])
        .role("director", &["operator"])
        .open("GET", "/health")
        .open("POST", "/sign-in")
        .need("GET", "/me", "signed-in")
        .need("POST", "/me", "signed-in")
        .need("GET", "/log", "role observer")
        .need("GET", "/archive", "scope logs:read and not role visitor")
        .need("POST", "/dome", "role operator and scope dome:move and claims.training >= 3")
        .need("GET", "/observers/{observer}", "path.observer == sub or role director")
        .need("DELETE", "/exposures/{id}", "predicate owns or role director")
        .need("PUT", "/people/{person}/roles", "role director and signed-in within 10m")
        .need("POST", "/dome/override", "role operator and acr == \"phr\"")
        .need("POST", "/weather", "credential api-key")
        .need("POST", "/both", "credential bearer and credential api-key")
        .need("GET", "/nested/log", "role director")
        .need("GET", "/any", "signed-in")
        .need("OPTIONS", "/own-options", "signed-in")
        .need("GET", "/live", "signed-in")
        .build()
        .expect("a plan");
    let guard = issuer
        .guard(plan)
        .cookie("night")
        .own_origin("https://api.skarnhill.test")
        .api_keys("x-instrument-key", Keys)
        .predicate("owns", owns);
    Routes::new()
        .route("/health", get(maybe_who))
        .route("/sign-in", post(maybe_who))
        .route("/me", get(who).post(who))
        .route("/log", get(who))
        .route("/archive", get(who))
        .route("/dome", post(who))
        .route("/observers/{id}", get(who))
        .route("/exposures/{id}", delete(who))
        .route("/people/{person}/roles", axum::routing::put(who))
        .route("/dome/override", post(who))
        .route("/weather", post(who))
        .route("/both", post(who))
        .route("/any", any(who))
        .route("/own-options", axum::routing::options(who))
        .route("/live", get(live))
        .nest("/nested", Routes::new().route("/log", get(who)))
        .guard(guard.build().expect("a guard"))
        .expect("the routes of the plan")
}

/// Each name stands for its token in a row's headers.
fn tokens(issuer: &TestIssuer) -> Vec<(&'static str, String)> {
    let observer = issuer.caller("obs-0017").role("observer").scope("logs:read");
    let director = issuer.caller("dir-0001").role("director").scope("logs:read dome:move").claim("training", 5);
    let short = observer.clone().lifetime(Lifetime::seconds(1)).token();
    issuer.clock().advance(Duration::from_secs(60));
    let good = observer.token();
    let (body, signature) = good.rsplit_once('.').expect("three parts");
    let forged = format!("{body}.{}", signature.chars().rev().collect::<String>());
    vec![
        ("OBSERVER", good.clone()),
        ("OPERATOR", issuer.caller("ope-0002").role("operator").scope("dome:move").claim("training", 4).token()),
        ("TRAINEE", issuer.caller("ope-0009").role("operator").scope("dome:move").claim("training", 2).token()),
        ("STALE", director.clone().signed_in_ago(Duration::from_secs(3_600)).token()),
        ("PHR", issuer.caller("ope-0002").role("operator").acr("phr").token()),
        ("DIRECTOR", director.token()),
        ("VISITOR", issuer.caller("vis-0003").role("visitor").scope("logs:read").token()),
        ("STRANGER", issuer.caller("str-0001").role("stranger").scope("logs:read").token()),
        ("NOROLE", issuer.caller("obs-0001").token()),
        ("MISFIT", issuer.caller("obs-0017").role("observer").claim("training", "two").token()),
        ("ELSEWHERE", observer.audience("https://lab.test").token()),
        ("FORGED", forged),
        ("EXPIRED", short),
        ("FOREIGN", TestIssuer::new().caller("obs-0017").role("director").token()),
    ]
}

const PREFLIGHT: [&str; 2] = ["origin: https://desk.test", "access-control-request-method: POST"];

/// The challenge after the realm, which is the same for all; `-` for no challenge.
#[rustfmt::skip]
const TABLE: &[(&str, &[&str], u16, &str)] = &[
    // Open routes: nobody is needed, and a bad credential is left aside.
    ("GET /health", &[], 200, "-"),
    ("HEAD /health", &[], 200, "-"),
    ("GET /health?from=log", &[], 200, "-"),
    ("GET /health", &["authorization: Bearer OBSERVER"], 200, "-"),
    ("GET /health", &["authorization: Bearer EXPIRED"], 200, "-"),
    ("GET /health", &["authorization: Bearer"], 200, "-"),
    ("GET /health", &["x-instrument-key: unknown"], 200, "-"),
    ("GET /health", &["x-instrument-key: down"], 200, "-"),
    ("POST /sign-in", &["authorization: Bearer FORGED"], 200, "-"),
    ("POST /health", &[], 405, "-"),
    ("DELETE /health", &["authorization: Bearer DIRECTOR"], 405, "-"),
    // No credential, or one for somebody else to read: 401 without an error.
    ("GET /me", &[], 401, ""),
    ("GET /log", &[], 401, ""),
    ("HEAD /log", &[], 401, ""),
    ("POST /dome", &[], 401, ""),
    ("GET /log", &["authorization: Basic dTpw"], 401, ""),
    ("GET /log", &["authorization: OBSERVER"], 401, ""),
    ("GET /log", &["cookie: other=OBSERVER"], 401, ""),
    ("GET /log", &["cookie: night="], 401, ""),
    ("GET /log?access_token=OBSERVER", &[], 401, ""),
    // A bad token: 401 invalid_token, whatever is bad about it.
    ("GET /log", &["authorization: Bearer a.b.c"], 401, "error=\"invalid_token\""),
    ("GET /log", &["authorization: Bearer EXPIRED"], 401, "error=\"invalid_token\""),
    ("GET /log", &["authorization: Bearer FORGED"], 401, "error=\"invalid_token\""),
    ("GET /log", &["authorization: Bearer FOREIGN"], 401, "error=\"invalid_token\""),
    ("GET /log", &["authorization: Bearer ELSEWHERE"], 401, "error=\"invalid_token\""),
    ("GET /log", &["authorization: Bearer MISFIT"], 401, "error=\"invalid_token\""),
    ("GET /log", &["cookie: night=EXPIRED"], 401, "error=\"invalid_token\""),
    ("GET /nowhere", &["authorization: Bearer EXPIRED"], 401, "error=\"invalid_token\""),
    // A header that cannot be read: 400.
    ("GET /log", &["authorization: Bearer"], 400, "error=\"invalid_request\""),
    ("GET /log", &["authorization: Bearer Bearer OBSERVER"], 400, "error=\"invalid_request\""),
    ("GET /log", &["authorization: Bearer OBSERVER,"], 400, "error=\"invalid_request\""),
    ("GET /log", &["authorization: Bearer \"OBSERVER\""], 400, "error=\"invalid_request\""),
    ("GET /log", &["authorization: Bearer OBSERVER", "authorization: Bearer OBSERVER"], 400, "error=\"invalid_request\""),
    ("GET /log", &["cookie: night=OBSERVER; night=DIRECTOR"], 400, "error=\"invalid_request\""),
    ("POST /weather", &["x-instrument-key: known", "x-instrument-key: known"], 400, "error=\"invalid_request\""),
    // The scheme is read without case, the path as it was meant.
    ("GET /log", &["authorization: Bearer OBSERVER"], 200, "-"),
    ("GET /log", &["authorization: bearer OBSERVER"], 200, "-"),
    ("GET /log", &["authorization: BEARER   OBSERVER"], 200, "-"),
    ("HEAD /log", &["authorization: Bearer OBSERVER"], 200, "-"),
    ("GET /log", &["authorization: Bearer DIRECTOR"], 200, "-"),
    ("GET /observers/obs%2D0017", &["authorization: Bearer OBSERVER"], 200, "-"),
    // A known caller who may not: 403, never 401 or 404.
    ("GET /log", &["authorization: Bearer NOROLE"], 403, "error=\"insufficient_scope\""),
    ("GET /log", &["authorization: Bearer STRANGER"], 403, "error=\"insufficient_scope\""),
    ("GET /archive", &["authorization: Bearer VISITOR"], 403, "error=\"insufficient_scope\""),
    ("GET /archive", &["authorization: Bearer STRANGER"], 403, "error=\"insufficient_scope\""),
    ("GET /archive", &["authorization: Bearer DIRECTOR"], 200, "-"),
    ("GET /archive", &["authorization: Bearer NOROLE"], 403, "error=\"insufficient_scope\", scope=\"logs:read\""),
    ("POST /dome", &["authorization: Bearer TRAINEE"], 403, "error=\"insufficient_scope\""),
    ("POST /dome", &["authorization: Bearer OPERATOR"], 200, "-"),
    ("GET /observers/obs-0020", &["authorization: Bearer OBSERVER"], 403, "error=\"insufficient_scope\""),
    ("GET /observers/obs-0020", &["authorization: Bearer DIRECTOR"], 200, "-"),
    ("GET /nested/log", &["authorization: Bearer OBSERVER"], 403, "error=\"insufficient_scope\""),
    ("GET /nested/log", &["authorization: Bearer DIRECTOR"], 200, "-"),
    // A fresh or a stronger sign-in where that is all that is missing.
    ("PUT /people/obs-0017/roles", &["authorization: Bearer STALE"], 401, "error=\"insufficient_user_authentication\", max_age=\"600\""),
    ("PUT /people/obs-0017/roles", &["authorization: Bearer DIRECTOR"], 200, "-"),
    ("PUT /people/obs-0017/roles", &["authorization: Bearer OPERATOR"], 403, "error=\"insufficient_scope\""),
    ("POST /dome/override", &["authorization: Bearer OPERATOR"], 401, "error=\"insufficient_user_authentication\", acr_values=\"phr\""),
    ("POST /dome/override", &["authorization: Bearer PHR"], 200, "-"),
    ("POST /dome/override", &["authorization: Bearer OBSERVER"], 403, "error=\"insufficient_scope\""),
    // Nobody has said anything: refused, and no more is told.
    ("GET /nowhere", &[], 401, ""),
    ("GET /nowhere", &["authorization: Bearer DIRECTOR"], 404, "-"),
    ("PATCH /log", &[], 401, ""),
    ("PATCH /log", &["authorization: Bearer DIRECTOR"], 405, "-"),
    ("GET /log/", &["authorization: Bearer DIRECTOR"], 404, "-"),
    ("GET //log", &["authorization: Bearer DIRECTOR"], 404, "-"),
    ("POST /any", &["authorization: Bearer DIRECTOR"], 405, "-"),
    ("DELETE /exposures/%FF", &["authorization: Bearer DIRECTOR"], 400, "-"),
    ("DELETE /exposures/%FF", &[], 401, ""),
    // The app's own check decides, and says when it cannot.
    ("DELETE /exposures/exp-101", &["authorization: Bearer OBSERVER"], 200, "-"),
    ("DELETE /exposures/exp-102", &["authorization: Bearer OBSERVER"], 403, "error=\"insufficient_scope\""),
    ("DELETE /exposures/exp-102", &["authorization: Bearer DIRECTOR"], 200, "-"),
    ("DELETE /exposures/exp-101", &[], 401, ""),
    ("DELETE /exposures/exp-500", &["authorization: Bearer OBSERVER"], 503, "-"),
    ("DELETE /exposures/exp-500", &["authorization: Bearer DIRECTOR"], 200, "-"),
    // Other credentials, alone and together.
    ("POST /weather", &["x-instrument-key: known"], 200, "-"),
    ("POST /weather", &["x-instrument-key: unknown"], 401, ""),
    ("POST /weather", &["x-instrument-key: down"], 503, "-"),
    ("POST /weather", &["authorization: Bearer OPERATOR"], 403, "error=\"insufficient_scope\""),
    ("POST /both", &["authorization: Bearer OPERATOR", "x-instrument-key: known"], 200, "-"),
    ("POST /both", &["x-instrument-key: known"], 403, "error=\"insufficient_scope\""),
    ("POST /both", &["authorization: Bearer DIRECTOR", "x-instrument-key: known"], 400, "error=\"invalid_request\""),
    ("POST /both", &["authorization: Bearer EXPIRED", "x-instrument-key: known"], 401, "error=\"invalid_token\""),
    ("GET /me", &["cookie: night=OBSERVER"], 200, "-"),
    ("GET /me", &["authorization: Bearer OBSERVER", "cookie: night=OBSERVER"], 200, "-"),
    ("GET /me", &["authorization: Bearer OBSERVER", "cookie: night=DIRECTOR"], 400, "error=\"invalid_request\""),
    ("GET /me", &["authorization: Bearer OBSERVER", "cookie: night=EXPIRED"], 401, "error=\"invalid_token\""),
    ("POST /me", &["cookie: night=OBSERVER"], 403, "-"),
    ("POST /me", &["content-type: application/grpc"], 401, ""),
    ("GET /log", &["content-type: application/grpcX"], 401, ""),
    ("POST /me", &["cookie: night=OBSERVER", "sec-fetch-site: cross-site"], 403, "-"),
    ("POST /me", &["cookie: night=OBSERVER", "sec-fetch-site: same-origin"], 200, "-"),
    ("POST /me", &["cookie: night=OBSERVER", "authorization: Bearer OBSERVER"], 200, "-"),
    // Preflights bring no credential and reach no handler; the options of a path are what the caller may do.
    ("OPTIONS /dome", &PREFLIGHT, 204, "-"),
    ("OPTIONS /nowhere", &PREFLIGHT, 204, "-"),
    ("OPTIONS /any", &PREFLIGHT, 204, "-"),
    ("OPTIONS /own-options", &PREFLIGHT, 401, ""),
    ("OPTIONS /own-options", &["authorization: Bearer OBSERVER"], 200, "-"),
    ("OPTIONS /health", &[], 204, "-"),
    ("OPTIONS /log", &[], 401, ""),
    ("OPTIONS /log", &["authorization: Bearer OBSERVER"], 204, "-"),
    ("OPTIONS /log", &["authorization: Bearer NOROLE"], 403, "error=\"insufficient_scope\""),
];

struct Server {
    base: String,
    client: Client,
    tokens: Vec<(&'static str, String)>,
}

impl Server {
    async fn start() -> Self {
        let issuer = TestIssuer::new();
        let tokens = tokens(&issuer);
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let base = format!("http://{}", listener.local_addr().expect("an address"));
        let app = app(&issuer);
        tokio::spawn(async move { axum::serve(listener, app).await });
        let client =
            Client::builder().no_proxy().redirect(reqwest::redirect::Policy::none()).build().expect("a client");
        Self { base, client, tokens }
    }

    fn filled(&self, text: &str) -> String {
        self.tokens.iter().fold(text.to_owned(), |text, (name, token)| text.replace(name, token))
    }

    async fn send(&self, request: &str, lines: &[&str]) -> reqwest::Response {
        let (method, path) = request.split_once(' ').expect("a method and a path");
        let mut headers = HeaderMap::new();
        for line in lines {
            let (name, value) = line.split_once(": ").unwrap_or((line, ""));
            let name: HeaderName = name.parse().expect("a name");
            headers.append(name, HeaderValue::from_str(&self.filled(value)).expect("a value"));
        }
        let method = method.parse().expect("a method");
        let url = format!("{}{}", self.base, self.filled(path));
        self.client.request(method, url).headers(headers).send().await.expect("an answer")
    }
}

fn header<'r>(response: &'r reqwest::Response, name: &str) -> &'r str {
    response.headers().get(name).map_or("", |value| value.to_str().expect("text"))
}

#[tokio::test]
async fn every_request_gets_its_status_challenge_and_body() {
    let server = Server::start().await;
    assert!(TABLE.len() >= 60, "{} requests", TABLE.len());
    for (request, lines, status, challenge) in TABLE {
        let response = server.send(request, lines).await;
        let challenge = match *challenge {
            "-" => String::new(),
            "" => "Bearer realm=\"https://api.test\"".to_owned(),
            error => format!("Bearer realm=\"https://api.test\", {error}"),
        };
        let seen = (response.status().as_u16(), header(&response, "www-authenticate"));
        assert_eq!(seen, (*status, challenge.as_str()), "{request} {lines:?}");
        if *status == 200 {
            continue;
        }
        assert_eq!(header(&response, "cache-control"), "no-store", "{request} {lines:?}");
        assert!(matches!(status, 204 | 405) || header(&response, "allow").is_empty(), "{request} tells of methods");
        if *status == 204 || request.starts_with("HEAD") {
            assert_eq!(response.text().await.expect("a body"), "", "{request} {lines:?}");
            continue;
        }
        assert_eq!(header(&response, "content-type"), "application/problem+json", "{request} {lines:?}");
        let problem: Value = response.json().await.expect("a problem");
        let title = http::StatusCode::from_u16(*status).ok().and_then(|status| status.canonical_reason());
        assert_eq!(
            (&problem["status"], &problem["type"]),
            (&json!(status), &json!("about:blank")),
            "{request} {lines:?}"
        );
        assert_eq!(problem["title"].as_str(), title, "{request} {lines:?}");
        assert!(problem["detail"].as_str().is_some_and(|detail| detail.ends_with('.')), "{problem}");
        assert_eq!(problem.as_object().map(serde_json::Map::len), Some(4), "nothing else is told: {problem}");
    }
}

#[tokio::test]
async fn the_options_of_a_path_are_what_the_caller_may_do() {
    let server = Server::start().await;
    for (request, lines, allow) in [
        ("OPTIONS /health", &[][..], "GET, HEAD, OPTIONS"),
        ("OPTIONS /me", &["authorization: Bearer OBSERVER"], "GET, HEAD, POST, OPTIONS"),
        ("OPTIONS /dome", &PREFLIGHT, ""),
        ("POST /health", &[], "GET, HEAD, OPTIONS"),
    ] {
        assert_eq!(header(&server.send(request, lines).await, "allow"), allow, "{request}");
    }
}

#[tokio::test]
async fn the_handler_knows_who_calls_whatever_the_credential() {
    let server = Server::start().await;
    for (request, lines, who) in [
        ("GET /health", &[][..], "nobody"),
        ("GET /health", &["authorization: Bearer EXPIRED"], "nobody"),
        ("GET /health", &["cookie: night=OBSERVER"], "obs-0017"),
        ("GET /health", &["x-instrument-key: known"], "ope-0002"),
        ("GET /me", &["authorization: Bearer DIRECTOR"], "dir-0001"),
        ("POST /weather", &["x-instrument-key: known"], "ope-0002"),
        ("GET /log", &["x-instrument-key: known"], "ope-0002"),
    ] {
        assert_eq!(server.send(request, lines).await.text().await.expect("a body"), who, "{request} {lines:?}");
    }
}

/// A browser lets any page open a web socket to us and sends our cookie along.
#[tokio::test]
async fn a_page_of_another_site_opens_no_web_socket_as_the_reader() {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    let server = Server::start().await;
    let host = server.base.trim_start_matches("http://");
    for (lines, status) in [
        (&["cookie: night=OBSERVER", "origin: https://elsewhere.test"][..], "403"),
        (&["cookie: night=OBSERVER", "sec-fetch-site: cross-site", "origin: https://elsewhere.test"], "403"),
        (&["cookie: night=OBSERVER"], "403"),
        (&["cookie: night=OBSERVER", "origin: https://api.skarnhill.test"], "101"),
        (&["cookie: night=OBSERVER", "origin: http://api.skarnhill.test"], "403"),
        (&["authorization: Bearer OBSERVER", "origin: https://elsewhere.test"], "101"),
        (&[], "401"),
    ] {
        let handshake = "upgrade: websocket\r\nconnection: upgrade\r\nsec-websocket-version: 13";
        let lines = server.filled(&lines.join("\r\n"));
        let request = format!("GET /live HTTP/1.1\r\nhost: {host}\r\n{handshake}\r\n{lines}\r\n\r\n")
            .replace("\r\n\r\n\r\n", "\r\n\r\n");
        let mut connection = tokio::net::TcpStream::connect(host).await.expect("a connection");
        connection.write_all(request.as_bytes()).await.expect("sent");
        let mut answer = [0; 12];
        connection.read_exact(&mut answer).await.expect("an answer");
        assert_eq!(std::str::from_utf8(&answer[9..]), Ok(status), "{lines}");
    }
}

#[tokio::test]
async fn what_a_cookie_or_a_key_lets_in_is_kept_from_shared_caches() {
    let server = Server::start().await;
    for (request, lines, kept) in [
        ("GET /me", &["cookie: night=OBSERVER"][..], "private"),
        ("GET /log", &["x-instrument-key: known"], "private"),
        ("GET /health", &["cookie: night=OBSERVER"], "private"),
        // RFC 9111 section 3.5: a shared cache knows this header.
        ("GET /me", &["authorization: Bearer OBSERVER"], ""),
        ("GET /health", &[], ""),
        ("GET /me", &["cookie: night=EXPIRED"], "no-store"),
    ] {
        let response = server.send(request, lines).await;
        let found = response.headers().get("cache-control").map_or("", |value| value.to_str().expect("text"));
        assert_eq!(found, kept, "{request} {lines:?}");
    }
}
