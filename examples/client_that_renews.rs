//! A client that keeps its tokens fresh: however many requests come at the moment of expiry, there is one renewal, and nobody notices.
//!
//! `cargo run -p vorsel-examples --example client_that_renews`

use std::error::Error;
use std::sync::Arc;
use std::time::Duration;

use axum::routing::get;
use vorsel::endpoints::Endpoints;
use vorsel::store::MemoryStore;
use vorsel::{
    AccessPlan, Admission, AdmissionError, Caller, Checker, Expectations, Grant, Guard, GuardedApp, IssuerKeys,
    KeeperError, KeptTokens, Lifetime, NoOwn, Routes, Scopes, SendError, Sessions, SignIn, TokenFile, TokenKeeper,
};

struct People;

#[async_trait::async_trait]
impl Admission<NoOwn> for People {
    async fn admit(&self, _subject: &str, _client: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        Ok(Grant { roles: Vec::new(), scopes: Scopes::default(), own: NoOwn {} })
    }
}

/// Sessions whose access tokens last for two seconds.
fn sessions(base: &str, keys: &IssuerKeys) -> Result<Arc<Sessions<NoOwn>>, Box<dyn Error>> {
    let sessions = Sessions::builder(base, base)
        .keys(keys.clone())
        .store(Arc::new(MemoryStore::new()))
        .access_lifetime(Lifetime::seconds(2))
        .admission(Arc::new(People))
        .build()?;
    Ok(Arc::new(sessions))
}

fn app(base: &str, keys: IssuerKeys, sessions: Arc<Sessions<NoOwn>>) -> Result<GuardedApp, Box<dyn Error>> {
    let endpoints = Endpoints::new(sessions, base);
    let plan = AccessPlan::builder().need("GET", "/me", "signed-in");
    let to_open = endpoints.to_open()?;
    let plan = to_open.iter().fold(plan, |plan, (method, path)| plan.open(method, path)).build()?;
    let checker = Checker::new(keys.access, Expectations::access(base, base).skew(Duration::ZERO)?);
    let routes = Routes::new().route("/me", get(async |caller: Caller| caller.subject().to_owned()));
    Ok(routes.merge(endpoints.routes()?).guard(Guard::<NoOwn>::new(checker, plan)?)?)
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn Error>> {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    let base = format!("http://{}", listener.local_addr()?);
    let keys = IssuerKeys::generate()?;
    let sessions = sessions(&base, &keys)?;
    let app = app(&base, keys, sessions.clone())?;
    tokio::spawn(async move { axum::serve(listener, app).await });

    // What a sign-in has answered is kept in a file that only its owner can read, so that it outlives the program.
    let folder = std::env::temp_dir().join(format!("skarn-hill-{}", std::process::id()));
    std::fs::create_dir_all(&folder)?;
    let keeper = TokenKeeper::builder(format!("{base}/oauth/token"), "desk")
        .place(TokenFile::at(folder.join("tokens.json")))
        .build()?;
    let signed_in = sessions.start(SignIn::new("obs-0017", "desk")).await?;
    keeper
        .begin(KeptTokens::new(signed_in.access_token, signed_in.expires_in, signed_in.refresh_token, vorsel::now()))
        .await;

    let http = reqwest::Client::builder().no_proxy().build()?;
    for round in 1..=3 {
        let requests = (0..50).map(|_| {
            let (keeper, request) = (keeper.clone(), http.get(format!("{base}/me")));
            tokio::spawn(async move { keeper.send(request).await.map(|answer| answer.status().as_u16()) })
        });
        let mut good = 0;
        for request in requests.collect::<Vec<_>>() {
            good += u32::from(request.await?? == 200);
        }
        println!("round {round}: {good} of 50 requests answered 200, {} renewals so far", keeper.renewals());
        assert_eq!(good, 50);
        tokio::time::sleep(Duration::from_millis(2_100)).await;
    }

    sessions.end(vorsel::store::Which::OfSubject("obs-0017")).await?;
    match keeper.send(http.get(format!("{base}/me"))).await {
        Err(SendError::Keeper(KeeperError::SignInAgain { reason })) => println!("signed out elsewhere: {reason}"),
        other => panic!("expected to be told to sign in again, but found {other:?}"),
    }
    std::fs::remove_dir_all(folder)?;
    Ok(())
}
