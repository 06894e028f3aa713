//! Figures for Prometheus: the exporter is installed before the guard is built, and a route of its own shows what it has.

use axum::Router;
use axum::routing::get;
use metrics_exporter_prometheus::PrometheusBuilder;
use tokio::net::TcpListener;
use vorsel::testing::TestIssuer;
use vorsel::{AccessPlan, NoOwn};

#[tokio::main]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let figures = PrometheusBuilder::new().install_recorder()?;
    let issuer = TestIssuer::new();
    let plan = AccessPlan::builder()
        .role("operator", &[])
        .need("GET", "/dome", "role operator")
        .need("GET", "/figures", "client prometheus")
        .build()?;
    let router =
        Router::new().route("/dome", get(async || "shut")).route("/figures", get(async move || figures.render()));
    let app = issuer.guard::<NoOwn>(plan).build()?.router(router)?;
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let url = format!("http://{}", listener.local_addr()?);
    tokio::spawn(async move { axum::serve(listener, app).await });

    let client = reqwest::Client::new();
    for token in [issuer.caller("ope-0002").role("operator").token(), issuer.caller("vis-0003").token()] {
        for _ in 0..3 {
            client.get(format!("{url}/dome")).bearer_auth(&token).send().await?;
        }
    }
    // In an app whoever collects the figures has a token or an API key of its own.
    let scraped =
        client.get(format!("{url}/figures")).bearer_auth(issuer.caller("prometheus").client("prometheus").token());
    let text = scraped.send().await?.text().await?;
    text.lines()
        .filter(|line| line.starts_with("vorsel_decisions") || line.starts_with("vorsel_checks"))
        .for_each(|line| println!("{line}"));
    Ok(())
}
