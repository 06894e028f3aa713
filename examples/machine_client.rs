//! A program that calls an API for itself: it shows a secret, gets tokens of its own, and asks for the next one in time.
//!
//! `cargo run -p vorsel-examples --example machine_client`

use std::error::Error;
use std::sync::Arc;

use axum::routing::get;
use vorsel::endpoints::Endpoints;
use vorsel::store::MemoryStore;
use vorsel::{
    AccessPlan, Admission, AdmissionError, Caller, Checker, Client, ClientGrant, ClientSecret, Clients, Expectations,
    Grant, Guard, GuardedApp, IssuerKeys, NoOwn, Routes, Scopes, Sessions, TokenKeeper,
};

struct Programs;

#[async_trait::async_trait]
impl Admission<NoOwn> for Programs {
    async fn admit(&self, _subject: &str, _client: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        Err(AdmissionError::Denied { reason: "nobody signs in here".to_owned() })
    }

    /// What a registered client may do for itself.
    async fn admit_client(&self, _client: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        let scopes = Scopes::parse("dome:move").map_err(|error| AdmissionError::Unavailable(error.into()))?;
        Ok(Grant { roles: Vec::new(), scopes, own: NoOwn {} })
    }
}

fn app(base: &str, secret: &ClientSecret) -> Result<GuardedApp, Box<dyn Error>> {
    // Kept is the hash alone; in an app it stands in clients.toml or in a table.
    let controller = Client::with_secret("dome-controller", secret.hash())
        .grants([ClientGrant::ClientCredentials])
        .scopes(Scopes::parse("dome:move")?);
    let keys = IssuerKeys::generate()?;
    let sessions = Sessions::builder(base, base)
        .keys(keys.clone())
        .store(Arc::new(MemoryStore::new()))
        .clients(Clients::new([controller])?)
        .admission(Arc::new(Programs))
        .build()?;
    let endpoints = Endpoints::new(Arc::new(sessions), base);
    let plan = AccessPlan::builder().need("GET", "/dome", "scope dome:move and client dome-controller");
    let to_open = endpoints.to_open()?;
    let plan = to_open.iter().fold(plan, |plan, (method, path)| plan.open(method, path)).build()?;
    let checker = Checker::new(keys.access, Expectations::access(base, base));
    let routes = Routes::new().route("/dome", get(async |caller: Caller| format!("moved by {}", caller.subject())));
    Ok(routes.merge(endpoints.routes()?).guard(Guard::<NoOwn>::new(checker, plan)?)?)
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn Error>> {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    let base = format!("http://{}", listener.local_addr()?);
    let secret = ClientSecret::generate()?;
    let app = app(&base, &secret)?;
    tokio::spawn(async move { axum::serve(listener, app).await });

    let http = reqwest::Client::builder().no_proxy().build()?;
    let keeper = TokenKeeper::builder(format!("{base}/oauth/token"), "dome-controller")
        .secret(secret.reveal())
        .for_itself("dome:move")
        .build()?;
    for _ in 0..3 {
        let answer = keeper.send(http.get(format!("{base}/dome"))).await?;
        println!("{} {}", answer.status().as_u16(), answer.text().await?);
    }
    assert_eq!(keeper.renewals(), 1, "one token for all three");

    let wrong = TokenKeeper::builder(format!("{base}/oauth/token"), "dome-controller")
        .secret("guessed")
        .for_itself("")
        .build()?;
    println!("with a wrong secret: {}", wrong.token().await.expect_err("it is refused"));
    Ok(())
}
