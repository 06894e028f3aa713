//! Guards a plain hyper server: the guard is a tower layer around whatever answers.
//!
//! `cargo run -p vorsel-examples --example guard_hyper_service`

use std::convert::Infallible;
use std::error::Error;

use bytes::Bytes;
use http_body_util::Full;
use hyper::body::Incoming;
use hyper::{Request, Response};
use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto;
use hyper_util::service::TowerToHyperService;
use tokio::net::TcpListener;
use tower::service_fn;
use vorsel::{
    AccessDraft, AccessPlan, Algorithm, Caller, Expectations, Guard, Issuer, KeySet, Lifetime, NoOwn, SigningKey,
    Verifier,
};

const ISSUER: &str = "https://id.skarnhill.test";
const API: &str = "https://api.skarnhill.test";

/// Only requests that the guard lets in come here; their caller is in the extensions.
async fn answer(request: Request<Incoming>) -> Result<Response<Full<Bytes>>, Infallible> {
    let subject = request.extensions().get::<Caller>().map_or("nobody", Caller::subject);
    Ok(Response::new(Full::from(format!("the proposals of {subject}"))))
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn Error>> {
    let key = SigningKey::generate(Algorithm::EdDsa)?;
    let verifier = Verifier::new(KeySet::new([key.verifying_key()]), Expectations::access(ISSUER, API));
    let plan = AccessPlan::builder().need("GET", "/observers/{observer}/proposals", "path.observer == sub").build()?;
    let service = Guard::<NoOwn>::new(verifier, plan)?.around(service_fn(answer));

    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let base = format!("http://{}", listener.local_addr()?);
    tokio::spawn(async move {
        while let Ok((connection, _)) = listener.accept().await {
            let service = TowerToHyperService::new(service.clone());
            tokio::spawn(async move {
                let http = auto::Builder::new(TokioExecutor::new());
                let _ = http.serve_connection(TokioIo::new(connection), service).await;
            });
        }
    });

    let draft = AccessDraft::of("obs-0017").audience(API).client("desk").lasting(Lifetime::minutes(5));
    let token = Issuer::new(ISSUER, key).access(&draft, &vorsel::random_id()?, vorsel::now())?;
    let client = reqwest::Client::builder().no_proxy().build()?;
    for (observer, expected) in [("obs-0017", 200), ("obs-0020", 403)] {
        let request = client.get(format!("{base}/observers/{observer}/proposals")).bearer_auth(&token);
        let response = request.send().await?;
        let status = response.status().as_u16();
        println!("GET /observers/{observer}/proposals as obs-0017 → {status} {}", response.text().await?);
        assert_eq!(status, expected);
    }
    Ok(())
}
