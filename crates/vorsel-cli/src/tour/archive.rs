//! A second service, in another building: it has no store, and hears from the issuer what is revoked.

use std::time::Duration;

use axum::routing::get;
use tokio::net::TcpListener;
use vorsel::{AccessPlan, Caller, Guard, NoOwn, RemoteIssuer, Routes, Settings, WhenSilent};

use crate::failure::Failure;

/// The archive's secret, which stands in the demo's `clients.toml`.
const SECRET: &str = "aarOfyCLgl0cepfsi_doHjYM7H71jY8HGr0Xu0NEsfc";
/// On this machine the issuer answers at once.
const READY_WITHIN: Duration = Duration::from_secs(10);
const LONGEST_SILENCE: Duration = Duration::from_secs(10);

/// Serves the archive for an issuer that is reached at `base`; says where.
pub(super) async fn open(settings: &Settings, base: &str) -> Result<String, Failure> {
    // The issuer's name leads nowhere on this machine, so that where its keys are has to be said.
    let issuer = RemoteIssuer::builder(&settings.issuer, &settings.audience).keys_at(format!("{base}/oauth/keys"));
    let issuer = issuer.follow()?;
    let revoked = issuer.feed(format!("{base}/oauth/feed")).secret("archive", SECRET).follow()?;
    if !(issuer.ready_within(READY_WITHIN).await && revoked.ready_within(READY_WITHIN).await) {
        return Err(Failure::new("the archive hears nothing of the issuer"));
    }
    let plan = AccessPlan::builder().role("director", &[]).need("GET", "/plates", "role director").build()?;
    let guard = Guard::<NoOwn>::builder(issuer, plan).revocations(revoked, LONGEST_SILENCE, WhenSilent::Refuse);
    let plates = get(async |caller: Caller| format!("plates for {}", caller.subject()));
    let app = Routes::new().route("/plates", plates).guard(guard.build()?)?;
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let address = format!("http://{}", listener.local_addr()?);
    tokio::spawn(async move { axum::serve(listener, app).await });
    Ok(address)
}
