//! Requests a second through a keeper, against the same client with a fixed token, over loopback.
//! `cargo bench -p vorsel --bench keeper` prints the ratio.

use std::time::{Duration, Instant};

use axum::Router;
use axum::routing::get;
use tokio::task::JoinSet;
use vorsel::{KeptTokens, TokenKeeper};

const CONNECTIONS: usize = 16;
const BATCH: Duration = Duration::from_millis(200);
const PAIRS: usize = 40;

async fn rate<F: Future<Output = ()> + Send>(ask: impl Fn() -> F + Clone + Send + 'static) -> f64 {
    let start = Instant::now();
    let until = start + BATCH;
    let mut running = JoinSet::new();
    for _ in 0..CONNECTIONS {
        let ask = ask.clone();
        running.spawn(async move {
            let mut count = 0_u32;
            while Instant::now() < until {
                ask().await;
                count += 1;
            }
            count
        });
    }
    let total: u32 = running.join_all().await.iter().sum();
    f64::from(total) / start.elapsed().as_secs_f64()
}

#[tokio::main]
async fn main() {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let api = format!("http://{}/", listener.local_addr().expect("an address"));
    tokio::spawn(async move { axum::serve(listener, Router::new().route("/", get(async || "ok"))).await });
    let http = reqwest::Client::builder().no_proxy().build().expect("a client");
    let keeper = TokenKeeper::builder("http://127.0.0.1:9/token", "desk").build().expect("a keeper");
    let token = "x".repeat(600);
    keeper.begin(KeptTokens::new(token.clone(), 100_000, "refresh", vorsel::now())).await;
    let bare = {
        let (http, api) = (http.clone(), api.clone());
        move || {
            let request = http.get(&api).bearer_auth(&token);
            async move {
                assert_eq!(request.send().await.expect("an answer").status(), 200);
            }
        }
    };
    let kept = move || {
        let (keeper, request) = (keeper.clone(), http.get(&api));
        async move {
            assert_eq!(keeper.send(request).await.expect("an answer").status(), 200);
        }
    };
    let mut ratios = Vec::new();
    for _ in 0..PAIRS {
        let (bare, kept) = (rate(bare.clone()).await, rate(kept.clone()).await);
        ratios.push(kept / bare);
    }
    ratios.sort_by(f64::total_cmp);
    println!("through the keeper: {:.3} of the bare client's rate (wanted: at least 0.95)", ratios[PAIRS / 2]);
}
