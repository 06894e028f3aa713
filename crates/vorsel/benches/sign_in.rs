//! Whether a stranger can tell an unknown subject from a wrong password by the time of the answer: 500 of each in turn, over HTTP, the
//! throttle off. `cargo bench -p vorsel --features password --bench sign_in` prints both medians, their ratio (within 3 %) and the
//! probability of a rank test that they are from one distribution (0.01 at least).

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use async_trait::async_trait;
use serde_json::json;
use vorsel::endpoints::{Endpoints, Known, PasswordSignIn};
use vorsel::store::MemoryStore;
use vorsel::{
    Admission, AdmissionError, Budget, Grant, IssuerKeys, MemoryThrottle, NoOwn, Scopes, Sessions, ThrottleLimits,
    hash_password,
};

const EACH: usize = 500;

struct Nobody;

#[async_trait]
impl Admission<NoOwn> for Nobody {
    async fn admit(&self, _: &str, _: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        Ok(Grant { roles: Vec::new(), scopes: Scopes::default(), own: NoOwn {} })
    }
}

fn main() {
    if std::env::args().any(|argument| argument == "--bench") {
        tokio::runtime::Runtime::new().expect("a runtime").block_on(measure());
    }
}

async fn measure() {
    let hash = hash_password("a dome in the rain").expect("a hash");
    let sign_in = PasswordSignIn::new(move |typed: String| {
        let known = (typed == "obs-0017").then(|| Known::new("obs-0017", &hash));
        async { Ok(known) }
    });
    let off = Budget::new(1_000_000, Duration::from_secs(1));
    let limits = ThrottleLimits { subject: off, address: off, client: off, known: off, most: 65_536 };
    let sessions = Sessions::builder("https://id.skarnhill.test", "https://api.skarnhill.test")
        .keys(IssuerKeys::generate().expect("keys"))
        .store(Arc::new(MemoryStore::new()))
        .admission(Arc::new(Nobody));
    let endpoints = Endpoints::new(Arc::new(sessions.build().expect("sessions")), "https://id.skarnhill.test");
    let endpoints = endpoints.sign_in(sign_in).throttle(MemoryThrottle::with(limits).expect("randomness"));
    let routes = endpoints.routes().expect("endpoints").into_unguarded_router();
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let url = format!("http://{}/oauth/sign-in", listener.local_addr().expect("an address"));
    let service = routes.into_make_service_with_connect_info::<SocketAddr>();
    tokio::spawn(async move { axum::serve(listener, service).await });
    let client = reqwest::Client::builder().no_proxy().build().expect("a client");
    let ask = async |subject: &str| {
        let body = json!({ "client_id": "desk", "subject": subject, "password": "a guess" });
        let since = Instant::now();
        let answer = client.post(&url).json(&body).send().await.expect("an answer");
        assert_eq!(answer.status(), 400);
        let _ = answer.bytes().await.expect("a body");
        since.elapsed().as_secs_f64() * 1e3
    };
    for _ in 0..20 {
        ask("obs-0017").await;
    }
    let (mut wrong, mut unknown) = (Vec::new(), Vec::new());
    for number in 0..EACH {
        // As long as the known one, each of them new.
        let nobody = format!("obs-{:04}", 1_000 + number);
        if number % 2 == 0 {
            wrong.push(ask("obs-0017").await);
            unknown.push(ask(&nobody).await);
        } else {
            unknown.push(ask(&nobody).await);
            wrong.push(ask("obs-0017").await);
        }
    }
    let [of_wrong, of_unknown] = [median(&wrong), median(&unknown)];
    println!(
        "wrong password {of_wrong:.3} ms, unknown subject {of_unknown:.3} ms, ratio {:.4} (0.97 to 1.03); rank test p = {:.3} (0.01 or more)",
        of_unknown / of_wrong,
        rank_test(&wrong, &unknown)
    );
}

fn median(values: &[f64]) -> f64 {
    let mut values = values.to_vec();
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// Mann and Whitney's, two-sided, by its normal approximation; times are hardly ever equal.
fn rank_test(one: &[f64], other: &[f64]) -> f64 {
    let greater = one.iter().map(|a| other.iter().filter(|b| a > b).count()).sum::<usize>() as f64;
    let (n, m) = (one.len() as f64, other.len() as f64);
    let z = (greater - n * m / 2.0) / (n * m * (n + m + 1.0) / 12.0).sqrt();
    // Abramowitz and Stegun 26.2.17.
    let t = 1.0 / (1.0 + 0.231_641_9 * z.abs());
    let density = (-z * z / 2.0).exp() / std::f64::consts::TAU.sqrt();
    let tail = density
        * t
        * (0.319_381_53 + t * (-0.356_563_782 + t * (1.781_477_937 + t * (-1.821_255_978 + t * 1.330_274_429))));
    2.0 * tail
}
