//! Requests a second of axum handlers behind the guard against the same handlers without one, over loopback, each
//! connection with a token of its own that was seen before. `cargo bench -p vorsel --bench guard` prints the ratios.
//!
//! Clients and servers are tasks of one runtime. With threads of their own, the ratio would hang on which thread the
//! system wakes first: a server that is a little slower is interrupted by its clients after more of its answers.

use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::extract::{Path, State};
use axum::routing::get;
use axum::{Json, Router};
use serde::Serialize;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::runtime::Runtime;
use tokio::task::JoinSet;
use vorsel::testing::TestIssuer;
use vorsel::{AccessPlan, Clock, NoOwn, PlanBuilder, Routes, Timestamp};

const CONNECTIONS: usize = 64;
const BATCH: Duration = Duration::from_millis(100);
const PAIRS: usize = 100;

/// The machine's clock, as every guard reads it, set to the time of the issuer for tests.
#[derive(Debug)]
struct Running {
    /// Microseconds.
    ahead: i64,
}

impl Clock for Running {
    fn now(&self) -> Timestamp {
        Timestamp::from_micros(vorsel::now().as_micros() + self.ahead)
    }
}

/// A connection that asks for the same thing again and again.
struct Client {
    stream: TcpStream,
    request: Vec<u8>,
    /// How long the one answer is.
    answer: usize,
}

impl Client {
    async fn connect(port: u16, path: &str, token: &str) -> Self {
        let mut stream = TcpStream::connect(("127.0.0.1", port)).await.expect("a connection");
        stream.set_nodelay(true).expect("no delay");
        let request =
            format!("GET {path} HTTP/1.1\r\nhost: hill\r\nauthorization: Bearer {token}\r\n\r\n").into_bytes();
        stream.write_all(&request).await.expect("sent");
        let mut answer = vec![0; 65_536];
        let length = stream.read(&mut answer).await.expect("an answer");
        let text = String::from_utf8_lossy(&answer[..length]);
        assert!(text.starts_with("HTTP/1.1 200 OK"), "{text}");
        let (head, body) = text.split_once("\r\n\r\n").expect("a head");
        assert!(head.contains(&format!("content-length: {}", body.len())), "the whole answer at once: {text}");
        Self { stream, request, answer: length }
    }

    async fn run(&mut self, until: Instant) -> u32 {
        let (mut count, mut answer) = (0, vec![0; self.answer]);
        while Instant::now() < until {
            self.stream.write_all(&self.request).await.expect("sent");
            self.stream.read_exact(&mut answer).await.expect("an answer of the same length");
            count += 1;
        }
        count
    }
}

async fn listen() -> (u16, TcpListener) {
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    (listener.local_addr().expect("an address").port(), listener)
}

/// Requests a second over one batch, each connection on a task of its own.
async fn rate(clients: &mut Vec<Client>) -> f64 {
    let start = Instant::now();
    let until = start + BATCH;
    let mut running = JoinSet::new();
    for mut client in clients.drain(..) {
        running.spawn(async move { (client.run(until).await, client) });
    }
    let mut total = 0;
    for (count, client) in running.join_all().await {
        total += count;
        clients.push(client);
    }
    f64::from(total) / start.elapsed().as_secs_f64()
}

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

const RULE: &str = "role operator and scope dome:move and claims.training >= 3";

fn plan() -> PlanBuilder {
    let plan = AccessPlan::builder().role("operator", &[]).need("GET", "/dome", RULE);
    plan.need("GET", "/observers/{observer}/exposures", RULE)
}

/// The same routes twice, without a guard and behind one, asked for `path`.
async fn compare(name: &str, path: &str, budget: f64, plan: PlanBuilder, routes: impl Fn() -> Routes) {
    let issuer = TestIssuer::new();
    let clock = Running { ahead: issuer.clock().now().as_micros() - vorsel::now().as_micros() };
    let guard = issuer.guard::<NoOwn>(plan.build().expect("a plan")).clock(Arc::new(clock)).build().expect("a guard");
    let bare: Router = routes().into_unguarded_router();
    let guarded = routes().guard(guard).expect("the plan's routes");
    let ((bare_port, listener), (guarded_port, other)) = (listen().await, listen().await);
    let servers = [
        tokio::spawn(async move { axum::serve(listener, bare).await }),
        tokio::spawn(async move { axum::serve(other, guarded).await }),
    ];
    let (mut bare, mut guarded) = (Vec::new(), Vec::new());
    for number in 0..CONNECTIONS {
        let caller = issuer.caller(&format!("ope-{number:04}")).role("operator").scope("dome:move");
        let token = caller.claim("training", 4).token();
        bare.push(Client::connect(bare_port, path, &token).await);
        guarded.push(Client::connect(guarded_port, path, &token).await);
    }
    let mut pairs = Vec::new();
    for at in 0..PAIRS {
        // In turn and in both orders, so that a busy machine slows both.
        let (without, with) = if at % 2 == 0 {
            let without = rate(&mut bare).await;
            (without, rate(&mut guarded).await)
        } else {
            let with = rate(&mut guarded).await;
            (rate(&mut bare).await, with)
        };
        pairs.push((without, with));
    }
    let without = median(pairs.iter().map(|(without, _)| *without).collect());
    let with = median(pairs.iter().map(|(_, with)| *with).collect());
    let ratio = median(pairs.iter().map(|(without, with)| with / without).collect());
    println!(
        "{name:<22} {without:>8.0}/s without a guard, {with:>8.0}/s behind it, ratio {ratio:.3} (budget {budget})"
    );
    servers.iter().for_each(tokio::task::JoinHandle::abort);
}

#[derive(Clone, Serialize)]
struct Exposure {
    id: String,
    target: String,
    seconds: u32,
    queued_by: String,
}

fn exposures() -> Arc<[Exposure]> {
    let exposure = |number: u32| Exposure {
        id: format!("exp-{number}"),
        target: "M 33, first half".to_owned(),
        seconds: 240,
        queued_by: format!("obs-{:04}", number % 2),
    };
    (100..120).map(exposure).collect()
}

/// Those of one observer, ten of them.
async fn of_observer(State(all): State<Arc<[Exposure]>>, Path(observer): Path<String>) -> Json<Vec<Exposure>> {
    Json(all.iter().filter(|exposure| exposure.queued_by == observer).cloned().collect())
}

fn routes() -> Routes {
    Routes::new()
        .route("/dome", get(async || "shut"))
        .route("/observers/{observer}/exposures", get(of_observer))
        .with_state(exposures())
}

fn main() {
    let runtime = Runtime::new().expect("a runtime");
    runtime.block_on(async {
        let unlisted = || Routes::new().router(routes().into_unguarded_router());
        // Its paths lie beside those of the plan.
        let with_service = || unlisted().router(Router::new().nest_service("/files", get(async || "a file")));
        let (word, records) = ("/dome", "/observers/obs-0001/exposures");
        compare("a word", word, 0.95, plan(), routes).await;
        compare("ten records as JSON", records, 0.95, plan(), routes).await;
        compare("a word, as a router", word, 0.95, plan(), unlisted).await;
        compare("records, as a router", records, 0.95, plan(), unlisted).await;
        let with_files = plan().need("GET", "/files/{*file}", RULE);
        compare("records, beside files", records, 0.95, with_files, with_service).await;
        metrics_exporter_prometheus::PrometheusBuilder::new().install_recorder().expect("a recorder");
        compare("a word, with figures", word, 0.92, plan(), routes).await;
        compare("records, with figures", records, 0.92, plan(), routes).await;
    });
}
