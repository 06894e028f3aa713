//! Guards the routes of an axum app by role: closed by default, open only where the word is written.
//!
//! `cargo run -p vorsel-examples --example guard_axum_routes`

use axum::routing::get;
use vorsel::rule::role;
use vorsel::{
    AccessDraft, AccessPlan, Algorithm, Caller, Expectations, Guard, GuardedApp, Issuer, KeySet, Lifetime, Routes,
    SigningKey, Verifier,
};

const ISSUER: &str = "https://id.skarnhill.test";
const API: &str = "https://api.skarnhill.test";

/// The app's own claims. A token whose claims do not fit is refused before the handler runs.
#[derive(serde::Serialize, serde::Deserialize)]
struct Staff {
    training: u8,
}

async fn dome(caller: Caller<Staff>) -> String {
    format!("{} (training {}) may see the dome", caller.subject(), caller.own().training)
}

fn app(keys: KeySet) -> Result<GuardedApp, Box<dyn std::error::Error>> {
    let plan = AccessPlan::builder()
        .role("operator", &[])
        .role("director", &["operator"])
        .open("GET", "/health")
        .need("GET", "/dome", role("operator"))
        .build()?;
    let guard = Guard::<Staff>::new(Verifier::new(keys, Expectations::access(ISSUER, API)), plan)?;
    let routes = Routes::new().route("/health", get(async || "good")).route("/dome", get(dome));
    Ok(routes.guard(guard)?)
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let key = SigningKey::generate(Algorithm::EdDsa)?;
    let app = app(KeySet::new([key.verifying_key()]))?;
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    let base = format!("http://{}", listener.local_addr()?);
    tokio::spawn(async move { axum::serve(listener, app).await });

    let issuer = Issuer::new(ISSUER, key);
    let token = |role: &str| {
        let draft =
            AccessDraft::of("dir-0001").audience(API).client("desk").lasting(Lifetime::minutes(5)).roles([role]);
        issuer
            .access(&draft.own(Staff { training: 5 }), &vorsel::random_id()?, vorsel::now())
            .map_err(Box::<dyn std::error::Error>::from)
    };
    let client = reqwest::Client::builder().no_proxy().build()?;
    for (path, role, expected) in [
        ("/health", None, 200),
        ("/dome", None, 401),
        ("/dome", Some("observer"), 403),
        ("/dome", Some("director"), 200),
        ("/cellar", Some("director"), 404),
    ] {
        let request = client.get(format!("{base}{path}"));
        let response = match role {
            Some(role) => request.bearer_auth(token(role)?),
            None => request,
        };
        let response = response.send().await?;
        let status = response.status().as_u16();
        println!("GET {path:<8} as {:<9} → {status} {}", role.unwrap_or("nobody"), response.text().await?);
        assert_eq!(status, expected);
    }
    Ok(())
}
