//! Guards a gRPC service: the guard is a layer of a tonic server, and a refusal is a gRPC status.
//!
//! `cargo run -p vorsel-examples --example guard_grpc`

use std::error::Error;

use tokio::net::TcpListener;
use tonic::transport::server::TcpIncoming;
use tonic::transport::{Endpoint, Server};
use tonic::{Code, Request};
use tonic_health::pb::HealthCheckRequest;
use tonic_health::pb::health_client::HealthClient;
use tower_layer::layer_fn;
use vorsel::{
    AccessDraft, AccessPlan, Algorithm, Expectations, Guard, Issuer, KeySet, Lifetime, NoOwn, SigningKey, Verifier,
};

const ISSUER: &str = "https://id.skarnhill.test";
const API: &str = "https://api.skarnhill.test";

#[tokio::main]
async fn main() -> Result<(), Box<dyn Error>> {
    let key = SigningKey::generate(Algorithm::EdDsa)?;
    let verifier = Verifier::new(KeySet::new([key.verifying_key()]), Expectations::access(ISSUER, API));
    // The path of a call is its service and method, and the method is always POST.
    let plan = AccessPlan::builder()
        .role("operator", &[])
        .need("POST", "/grpc.health.v1.Health/Check", "role operator")
        .build()?;
    let guard = Guard::<NoOwn>::new(verifier, plan)?;

    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let address = listener.local_addr()?;
    let (_reporter, health) = tonic_health::server::health_reporter();
    let server = Server::builder().layer(layer_fn(move |service| guard.clone().around(service))).add_service(health);
    tokio::spawn(server.serve_with_incoming(TcpIncoming::from(listener)));

    let issuer = Issuer::new(ISSUER, key);
    let mut client = HealthClient::new(Endpoint::try_from(format!("http://{address}"))?.connect().await?);
    for (role, expected) in
        [(None, Code::Unauthenticated), (Some("visitor"), Code::PermissionDenied), (Some("operator"), Code::Ok)]
    {
        let mut request = Request::new(HealthCheckRequest { service: String::new() });
        if let Some(role) = role {
            let draft =
                AccessDraft::of("ope-0002").audience(API).client("desk").lasting(Lifetime::minutes(5)).roles([role]);
            let token = issuer.access(&draft, &vorsel::random_id()?, vorsel::now())?;
            request.metadata_mut().insert("authorization", format!("Bearer {token}").parse()?);
        }
        let code = client.check(request).await.err().map_or(Code::Ok, |status| status.code());
        println!("Health/Check as {:<9} → {code:?}", role.unwrap_or("nobody"));
        assert_eq!(code, expected);
    }
    Ok(())
}
