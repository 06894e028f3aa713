//! Requests a second of an axum handler behind the guard against the same handler without one, over loopback, each
//! connection with a token of its own that was seen before. `cargo bench -p vorsel --bench guard` prints the ratio.

use std::time::{Duration, Instant};

use axum::Router;
use axum::routing::get;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::runtime::Runtime;
use tokio::task::JoinSet;
use vorsel::testing::TestIssuer;
use vorsel::{AccessPlan, NoOwn, Routes};

const CONNECTIONS: usize = 64;
const BATCH: Duration = Duration::from_millis(100);
const PAIRS: usize = 100;

/// A connection that asks for the same thing again and again.
struct Client {
    stream: TcpStream,
    request: Vec<u8>,
    /// How long the one answer is.
    answer: usize,
}

impl Client {
    async fn connect(port: u16, token: &str) -> Self {
        let mut stream = TcpStream::connect(("127.0.0.1", port)).await.expect("a connection");
        stream.set_nodelay(true).expect("no delay");
        let request = format!("GET /dome HTTP/1.1\r\nhost: hill\r\nauthorization: Bearer {token}\r\n\r\n").into_bytes();
        stream.write_all(&request).await.expect("sent");
        let mut answer = vec![0; 4_096];
        let mut length = 0;
        while !answer[..length].ends_with(b"shut") {
            length += stream.read(&mut answer[length..]).await.expect("an answer");
        }
        assert!(answer.starts_with(b"HTTP/1.1 200 OK"), "{}", String::from_utf8_lossy(&answer[..length]));
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

fn main() {
    let (server, client) = (Runtime::new().expect("a runtime"), Runtime::new().expect("a runtime"));
    let issuer = TestIssuer::new();
    let plan = AccessPlan::builder().role("operator", &[]).need(
        "GET",
        "/dome",
        "role operator and scope dome:move and claims.training >= 3",
    );
    let guard = issuer.guard::<NoOwn>(plan.build().expect("a plan")).build().expect("a guard");
    let token = |number: usize| {
        let caller = issuer.caller(&format!("ope-{number:04}")).role("operator").scope("dome:move");
        caller.claim("training", 4).token()
    };
    let routes = || Routes::new().route("/dome", get(async || "shut"));
    let ports = server.block_on(async {
        let bare: Router = routes().into_unguarded_router();
        let guarded = routes().guard(guard).expect("the plan's routes");
        let ((first, listener), (second, other)) = (listen().await, listen().await);
        tokio::spawn(async move { axum::serve(listener, bare).await });
        tokio::spawn(async move { axum::serve(other, guarded).await });
        (first, second)
    });
    client.block_on(async {
        let mut bare = Vec::new();
        let mut guarded = Vec::new();
        for number in 0..CONNECTIONS {
            let token = token(number);
            bare.push(Client::connect(ports.0, &token).await);
            guarded.push(Client::connect(ports.1, &token).await);
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
        println!("requests a second (budget 0.95): without a guard {without:.0}, behind the guard {with:.0}, ratio {ratio:.3}");
    });
}
