//! An app with thirty routes, two nested routers, a fallback and a folder of files, guarded as a whole. It serves one round of
//! requests and ends; with `serve` as its argument it goes on.

use std::net::SocketAddr;

use axum::Router;
use axum::extract::{ConnectInfo, Path};
use axum::routing::{delete, get, post};
use tokio::net::TcpListener;
use tower_http::services::ServeDir;
use tower_http::trace::TraceLayer;
use vorsel::testing::TestIssuer;
use vorsel::{AccessPlan, Caller, GuardedApp, NoOwn};

async fn word() -> &'static str {
    "here"
}

async fn named(Path(name): Path<String>) -> String {
    name
}

async fn who(caller: Caller) -> String {
    caller.subject().to_owned()
}

/// The domes, for operators.
fn domes() -> Router {
    Router::new()
        .route("/", get(word))
        .route("/{dome}", get(named).put(named))
        .route("/{dome}/shutter", get(named).post(named))
        .route("/{dome}/lamps", get(named).post(named).delete(named))
        .route("/{dome}/azimuth", get(named).post(named))
        .route("/{dome}/weather", get(named))
}

/// The night log, for observers.
fn log() -> Router {
    Router::new()
        .route("/", get(word).post(who))
        .route("/{night}", get(named))
        .route(
            "/{night}/lines/{line}",
            delete(async |Path((night, line)): Path<(String, String)>| format!("{night}/{line}")),
        )
        .fallback(async || "no such page of the log")
}

fn router(files: &std::path::Path) -> Router {
    Router::new()
        .route("/health", get(word))
        .route("/me", get(who))
        .route("/address", get(async |ConnectInfo(address): ConnectInfo<SocketAddr>| address.ip().to_string()))
        .route("/exposures", get(word).post(who))
        .route("/exposures/{id}", get(named).delete(named))
        .route("/people/{person}", get(named))
        .route("/people/{person}/roles", get(named).put(named))
        .route("/weather", get(word).post(who))
        .route("/alarm", post(who))
        .nest("/domes", domes())
        .nest("/log", log())
        .nest_service("/archive", ServeDir::new(files))
        .fallback_service(ServeDir::new(files))
}

/// One entry for each method and path; a fallback and the files of the archive have their own.
fn plan() -> Result<AccessPlan, vorsel::PlanError> {
    let mut plan = AccessPlan::builder()
        .role("observer", &[])
        .role("operator", &["observer"])
        .role("director", &["operator"])
        .policy("crew", "role operator and scope dome:move")
        .open("GET", "/health")
        .open_fallback("GET", "/") // the site's own files, and nothing else
        .need("GET", "/me", "signed-in")
        .need("GET", "/address", "signed-in")
        .need("GET", "/people/{person}", "path.person == sub or role director")
        .need("GET", "/people/{person}/roles", "role director")
        .need("PUT", "/people/{person}/roles", "role director and signed-in within 10m")
        .need("POST", "/alarm", "signed-in")
        .need("GET", "/archive/{*file}", "role observer")
        .need_fallback("GET", "/log", "role observer")
        .need("DELETE", "/log/{night}/lines/{line}", "role director")
        .need("DELETE", "/domes/{dome}/lamps", "role director");
    for (method, path) in [
        ("GET", "/exposures"),
        ("POST", "/exposures"),
        ("GET", "/exposures/{id}"),
        ("DELETE", "/exposures/{id}"),
        ("GET", "/weather"),
        ("POST", "/weather"),
        ("GET", "/log"),
        ("POST", "/log"),
        ("GET", "/log/{night}"),
        ("GET", "/domes"),
        ("GET", "/domes/{dome}"),
        ("GET", "/domes/{dome}/shutter"),
        ("GET", "/domes/{dome}/lamps"),
        ("GET", "/domes/{dome}/azimuth"),
        ("GET", "/domes/{dome}/weather"),
    ] {
        plan = plan.need(method, path, "role observer");
    }
    for path in ["/domes/{dome}/shutter", "/domes/{dome}/lamps", "/domes/{dome}/azimuth"] {
        plan = plan.need("POST", path, "policy crew");
    }
    plan.need("PUT", "/domes/{dome}", "policy crew").build()
}

fn app(issuer: &TestIssuer, files: &std::path::Path) -> Result<GuardedApp, Box<dyn std::error::Error>> {
    let guard = issuer.guard::<NoOwn>(plan()?).build()?;
    Ok(guard.router(router(files))?.layer(TraceLayer::new_for_http()))
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    tracing_subscriber::fmt().with_writer(std::io::stderr).init();
    let files = tempfile::tempdir()?;
    std::fs::write(files.path().join("index.html"), "Skarn Hill\n")?;
    std::fs::write(files.path().join("notes.txt"), "clouds at 23:50\n")?;
    let issuer = TestIssuer::new(); // in an app of your own: Settings, or a Checker with the issuer's keys
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let address = listener.local_addr()?;
    let app = app(&issuer, files.path())?.into_make_service_with_connect_info::<SocketAddr>();
    let server = tokio::spawn(async move { axum::serve(listener, app).await });

    let operator = issuer.caller("ope-0002").role("operator").scope("dome:move").token();
    let client = reqwest::Client::new();
    for (method, path) in [
        ("GET", "/"),
        ("GET", "/notes.txt"),
        ("GET", "/archive/notes.txt"),
        ("GET", "/domes/north"),
        ("POST", "/domes/north/shutter"),
        ("DELETE", "/domes/north/lamps"),
        ("GET", "/log/no/such/page"),
        ("GET", "/address"),
    ] {
        let url = format!("http://{address}{path}");
        let request = || client.request(method.parse().unwrap_or_default(), &url);
        let stranger = request().send().await?.status().as_u16();
        let caller = request().bearer_auth(&operator).send().await?.status().as_u16();
        println!("{method:<6} {path:<24} a stranger {stranger}, an operator {caller}");
    }
    if std::env::args().nth(1).as_deref() == Some("serve") {
        println!("listening on http://{address}; a token of an operator:\n{operator}");
        server.await??;
    }
    Ok(())
}
