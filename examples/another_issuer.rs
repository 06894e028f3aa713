//! An API that takes tokens of its own issuer and of another one, whose keys it fetches.
//!
//! `cargo run -p vorsel-examples --example another_issuer`

use std::time::Duration;

use axum::routing::get;
use axum::{Json, Router};
use serde_json::json;
use vorsel::rule::role;
use vorsel::{
    AccessDraft, AccessPlan, Algorithm, Caller, Expectations, Guard, GuardedApp, Issuer, KeySet, Lifetime, NoOwn,
    Reading, RemoteIssuer, Routes, SigningKey, Verifier,
};

type Error = Box<dyn std::error::Error>;

const ISSUER: &str = "https://id.skarnhill.test";
const API: &str = "https://api.skarnhill.test";

async fn who(caller: Caller) -> String {
    format!("{} of {}", caller.subject(), caller.token_claims().issuer().unwrap_or_default())
}

fn app(own: KeySet, lab: RemoteIssuer) -> Result<GuardedApp, Error> {
    let plan = AccessPlan::builder()
        .role("observer", &[])
        .need("GET", "/exposures", role("observer"))
        // Only our own people have proposals here: a subject of the lab is nobody of ours.
        .need("GET", "/observers/{observer}/proposals", "path.observer == sub")
        .build()?;
    let own = Verifier::new(own, Expectations::access(ISSUER, API));
    let guard: Guard<NoOwn> = Guard::builder(own, plan).also(lab).build()?;
    let routes = Routes::new().route("/exposures", get(who)).route("/observers/{observer}/proposals", get(who));
    Ok(routes.guard(guard)?)
}

/// The lab's issuer, as far as others see it: its metadata and its keys.
async fn lab(keys: KeySet) -> Result<String, Error> {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    let issuer = format!("http://{}", listener.local_addr()?);
    let metadata = json!({ "issuer": issuer, "jwks_uri": format!("{issuer}/keys") });
    let router = Router::new()
        .route("/.well-known/oauth-authorization-server", get(async move || Json(metadata)))
        .route("/keys", get(async move || Json(keys.to_public_jwk_set())));
    tokio::spawn(async move { axum::serve(listener, router).await });
    Ok(issuer)
}

fn token(issuer: &str, key: SigningKey, role: &str) -> Result<String, Error> {
    let draft = AccessDraft::of("obs-0017").audience(API).client("desk").lasting(Lifetime::minutes(5)).roles([role]);
    Ok(Issuer::new(issuer, key).access(&draft, &vorsel::random_id()?, vorsel::now())?)
}

#[tokio::main]
async fn main() -> Result<(), Error> {
    let (own, theirs) = (SigningKey::generate(Algorithm::EdDsa)?, SigningKey::generate(Algorithm::Es256)?);
    let lab_issuer = lab(KeySet::new([theirs.verifying_key()])).await?;
    // What the lab calls crew is an observer here.
    let reading = Reading::default().role("crew", "observer");
    let lab = RemoteIssuer::builder(&lab_issuer, API).reading(reading).follow()?;
    assert!(lab.ready_within(Duration::from_secs(5)).await, "{:?}", lab.figures());

    let app = app(KeySet::new([own.verifying_key()]), lab)?;
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    let base = format!("http://{}", listener.local_addr()?);
    tokio::spawn(async move { axum::serve(listener, app).await });

    let ours = token(ISSUER, own, "observer")?;
    let theirs = token(&lab_issuer, theirs, "crew")?;
    let client = reqwest::Client::builder().no_proxy().build()?;
    for (what, path, token, expected) in [
        ("our observer", "/exposures", &ours, 200),
        ("the lab's crew", "/exposures", &theirs, 200),
        ("our observer, their own", "/observers/obs-0017/proposals", &ours, 200),
        ("the lab's obs-0017, ours'", "/observers/obs-0017/proposals", &theirs, 403),
    ] {
        let answer = client.get(format!("{base}{path}")).bearer_auth(token).send().await?;
        let status = answer.status().as_u16();
        println!("{what:<26} GET {path:<30} {status} {}", answer.text().await?.lines().next().unwrap_or_default());
        assert_eq!(status, expected);
    }
    Ok(())
}
