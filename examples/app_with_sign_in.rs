//! An app with sign-in, renewal, sign-out and revocation for a page in a browser, and three guarded routes. With an address as its argument
//! it serves until it is stopped: `cargo run -p vorsel-examples --example app_with_sign_in -- 127.0.0.1:8080`.

use std::error::Error;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use axum::routing::{get, post};
use vorsel::endpoints::{Browser, Endpoints, Known, PasswordSignIn};
use vorsel::store::MemoryStore;
use vorsel::{
    AccessPlan, Admission, AdmissionError, Caller, Checker, Client, Clients, Expectations, Grant, Guard, GuardedApp,
    IssuerKeys, LiveRevocations, NoOwn, Routes, Scopes, Sessions, WhenSilent, hash_password,
};

/// Who may come in, and what they may do: asked at each sign-in and at each renewal.
struct People;

#[async_trait::async_trait]
impl Admission<NoOwn> for People {
    async fn admit(&self, subject: &str, _client: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        let roles = if subject == "ope-0002" { vec!["operator".to_owned()] } else { Vec::new() };
        Ok(Grant { roles, scopes: Scopes::default(), own: NoOwn {} })
    }
}

pub(crate) async fn app(base: &str) -> Result<GuardedApp, Box<dyn Error>> {
    // In a real app the hashes stand in its database, and keys and sessions last: Settings::load("vorsel.toml")?.open().
    let hash = hash_password("hill-ope-0002")?;
    let sign_in = PasswordSignIn::new(move |typed: String| {
        let known = (typed == "ope-0002").then(|| Known::new("ope-0002", &hash));
        async { Ok(known) }
    });
    let (keys, store) = (IssuerKeys::generate()?, Arc::new(MemoryStore::new()));
    let revocations = LiveRevocations::follow(store.clone()).await?;
    let sessions = Sessions::builder(base, base)
        .keys(keys.clone())
        .store(store)
        .revocations(revocations.clone())
        .clients(Clients::new([Client::public("page")])?)
        .admission(Arc::new(People))
        .build()?;
    let browser = Browser::new(base, ["page"]).danger_http_on_this_machine(); // with https: without this
    let endpoints = Endpoints::new(Arc::new(sessions), base).sign_in(sign_in).browser(browser);

    let plan = AccessPlan::builder()
        .role("operator", &[])
        .need("GET", "/me", "signed-in")
        .need("GET", "/dome", "role operator")
        .need("POST", "/dome", "role operator and signed-in within 10m");
    let to_open = endpoints.to_open()?;
    let plan = to_open.iter().fold(plan, |plan, (method, path)| plan.open(method, path)).build()?;
    let checker = Checker::new(keys.access, Expectations::access(base, base));
    let guard = Guard::<NoOwn>::builder(checker, plan);
    let guard = guard.revocations(revocations, Duration::from_secs(10), WhenSilent::GoOn).build()?;
    let routes = Routes::new()
        .route("/me", get(async |caller: Caller| caller.subject().to_owned()))
        .route("/dome", get(async || "shut").merge(post(async || "moving")));
    Ok(routes.merge(endpoints.routes()?).guard(guard)?)
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn Error>> {
    let address = std::env::args().nth(1);
    let listener = tokio::net::TcpListener::bind(address.as_deref().unwrap_or("127.0.0.1:0")).await?;
    let base = format!("http://{}", listener.local_addr()?);
    let app = app(&base).await?;
    if address.is_none() {
        println!("The app is set up; with an address as its argument it serves.");
        return Ok(());
    }
    println!("listening on {base}");
    axum::serve(listener, app.into_make_service_with_connect_info::<SocketAddr>()).await?;
    Ok(())
}
