//! A second service that has no database: it fetches the issuer's keys and follows what the issuer revokes, and so refuses the token of
//! whoever has signed out, without asking anybody about it.
//!
//! `cargo run -p vorsel-examples --example second_service`

use std::error::Error;
use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::Router;
use axum::routing::get;
use tokio::net::TcpListener;
use vorsel::endpoints::{Endpoint, Endpoints};
use vorsel::store::MemoryStore;
use vorsel::{
    AccessPlan, Admission, AdmissionError, Caller, Client, ClientSecret, Clients, Grant, Guard, GuardedApp, IssuerKeys,
    LiveRevocations, NoOwn, RemoteIssuer, Routes, Scopes, Sessions, SignIn, WhenSilent,
};

const API: &str = "https://api.skarnhill.test";

struct Observers;

#[async_trait::async_trait]
impl Admission<NoOwn> for Observers {
    async fn admit(&self, _subject: &str, _client: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        Ok(Grant { roles: vec!["observer".to_owned()], scopes: Scopes::default(), own: NoOwn {} })
    }
}

/// Where people sign in. It lets the archive follow what it revokes.
async fn issuer(base: &str, archive: &ClientSecret) -> Result<(Arc<Sessions<NoOwn>>, Router), Box<dyn Error>> {
    let store = Arc::new(MemoryStore::new()); // or the database that the team has
    let clients = Clients::new([Client::public("desk"), Client::with_secret("archive", archive.hash()).may_follow()])?;
    let sessions = Sessions::builder(base, API)
        .keys(IssuerKeys::generate()?)
        .revocations(LiveRevocations::follow(store.clone()).await?)
        .store(store)
        .clients(clients)
        .admission(Arc::new(Observers))
        .build()?;
    let sessions = Arc::new(sessions);
    let endpoints = Endpoints::new(sessions.clone(), base).with(Endpoint::Feed);
    Ok((sessions, endpoints.routes()?.into_unguarded_router()))
}

/// The second service. All that it has of the issuer's is an address and a secret of its own.
async fn archive(issuer: &str, secret: &str) -> Result<GuardedApp, Box<dyn Error>> {
    let remote = RemoteIssuer::builder(issuer, API).follow()?;
    let revoked = remote.feed(format!("{issuer}/oauth/feed")).secret("archive", secret).follow()?;
    // Neither waits for the issuer; until the feed was read, this guard answers 503.
    assert!(remote.ready_within(Duration::from_secs(5)).await && revoked.ready_within(Duration::from_secs(5)).await);
    let plan = AccessPlan::builder().role("observer", &[]).need("GET", "/plates", "role observer").build()?;
    let guard = Guard::<NoOwn>::builder(remote, plan)
        .revocations(revoked, Duration::from_secs(10), WhenSilent::Refuse)
        .build()?;
    let plates = get(async |caller: Caller| format!("plates for {}", caller.subject()));
    Ok(Routes::new().route("/plates", plates).guard(guard)?)
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn Error>> {
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let base = format!("http://{}", listener.local_addr()?);
    let secret = ClientSecret::generate()?;
    let (sessions, router) = issuer(&base, &secret).await?;
    tokio::spawn(async move { axum::serve(listener, router).await });

    let archive = archive(&base, secret.reveal()).await?;
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let plates = format!("http://{}/plates", listener.local_addr()?);
    tokio::spawn(async move { axum::serve(listener, archive).await });

    let tokens = sessions.start(SignIn::new("obs-0017", "desk")).await?;
    let http = reqwest::Client::builder().no_proxy().build()?;
    let status = async || -> Result<u16, reqwest::Error> {
        Ok(http.get(&plates).bearer_auth(&tokens.access_token).send().await?.status().as_u16())
    };
    println!("GET /plates with a token: {}", status().await?);
    let signed_out_at = Instant::now();
    sessions.sign_out(&tokens.refresh_token, None).await?;
    while status().await? != 401 {
        assert!(signed_out_at.elapsed() < Duration::from_secs(5), "nobody has told the archive");
    }
    println!("after the sign-out at the issuer: 401, noticed after {} ms", signed_out_at.elapsed().as_millis());
    Ok(())
}
