//! Introspections and tokens for clients a second, against bare axum handlers that parse the same form and do the bare primitive's work:
//! the hash of the secret, and a look-up or a signature. `cargo bench -p vorsel --bench endpoints` prints the ratios.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use async_trait::async_trait;
use aws_lc_rs::constant_time::verify_slices_are_equal;
use aws_lc_rs::digest::{SHA256, digest};
use aws_lc_rs::rand::fill;
use aws_lc_rs::signature::Ed25519KeyPair;
use axum::extract::State;
use axum::http::StatusCode;
use axum::routing::post;
use axum::{Form, Json, Router};
use serde::Deserialize;
use serde_json::{Value, json};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinSet;
use vorsel::endpoints::{Endpoint, Endpoints};
use vorsel::store::MemoryStore;
use vorsel::{
    Admission, AdmissionError, Client, ClientGrant, ClientSecret, Clients, Grant, IssuerKeys, LiveRevocations, NoOwn,
    Scopes, Sessions, SignIn, base64url,
};

const CONNECTIONS: usize = 64;
const BATCH: Duration = Duration::from_millis(100);
const PAIRS: usize = 100;

struct Everybody;

#[async_trait]
impl Admission<NoOwn> for Everybody {
    async fn admit(&self, _: &str, _: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        let scopes = Scopes::parse("dome:move").expect("scopes");
        Ok(Grant { roles: vec!["operator".to_owned()], scopes, own: NoOwn {} })
    }

    async fn admit_client(&self, client: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        self.admit(client, client).await
    }
}

/// What the bare handlers know.
struct Bare {
    hash: Vec<u8>,
    seen: HashMap<String, Value>,
    key: Ed25519KeyPair,
}

#[derive(Deserialize)]
struct Asked {
    client_secret: String,
    #[serde(default)]
    token: String,
}

fn is_right(bare: &Bare, secret: &str) -> bool {
    verify_slices_are_equal(digest(&SHA256, secret.as_bytes()).as_ref(), &bare.hash).is_ok()
}

async fn introspect(State(bare): State<Arc<Bare>>, Form(asked): Form<Asked>) -> Result<Json<Value>, StatusCode> {
    match bare.seen.get(&asked.token) {
        Some(claims) if is_right(&bare, &asked.client_secret) => Ok(Json(claims.clone())),
        _ => Err(StatusCode::UNAUTHORIZED),
    }
}

async fn token(State(bare): State<Arc<Bare>>, Form(asked): Form<Asked>) -> Result<Json<Value>, StatusCode> {
    if !is_right(&bare, &asked.client_secret) {
        return Err(StatusCode::UNAUTHORIZED);
    }
    let mut id = [0; 16];
    fill(&mut id).expect("randomness");
    let now = vorsel::now().as_micros() / 1_000_000;
    let claims = json!({
        "iss": "https://id.skarnhill.test", "aud": "https://api.skarnhill.test", "sub": "dome", "client_id": "dome",
        "iat": now, "exp": now + 300, "jti": base64url::encode(id), "scope": "dome:move", "roles": ["operator"],
    });
    let header = json!({ "typ": "at+jwt", "alg": "EdDSA", "kid": base64url::encode([7; 32]) });
    let [header, claims] = [header, claims].map(|part| base64url::encode(part.to_string()));
    let signed = format!("{header}.{claims}");
    let token = format!("{signed}.{}", base64url::encode(bare.key.sign(signed.as_bytes())));
    Ok(Json(json!({ "access_token": token, "token_type": "Bearer", "expires_in": 300, "scope": "dome:move" })))
}

/// A connection that asks for the same thing again and again.
struct Wire {
    stream: TcpStream,
    request: Vec<u8>,
    answer: usize,
}

impl Wire {
    async fn connect(port: u16, path: &str, form: &str) -> Self {
        let mut stream = TcpStream::connect(("127.0.0.1", port)).await.expect("a connection");
        stream.set_nodelay(true).expect("no delay");
        let head = format!(
            "POST {path} HTTP/1.1\r\nhost: hill\r\ncontent-type: application/x-www-form-urlencoded\r\ncontent-length: {}\r\n\r\n",
            form.len()
        );
        let request = [head.as_bytes(), form.as_bytes()].concat();
        stream.write_all(&request).await.expect("sent");
        let mut answer = vec![0; 65_536];
        let length = stream.read(&mut answer).await.expect("an answer");
        let text = String::from_utf8_lossy(&answer[..length]);
        assert!(text.starts_with("HTTP/1.1 200 OK"), "{text}");
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

async fn served(router: Router) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let port = listener.local_addr().expect("an address").port();
    tokio::spawn(async move { axum::serve(listener, router).await });
    port
}

async fn rate(wires: &mut Vec<Wire>) -> f64 {
    let start = Instant::now();
    let mut running = JoinSet::new();
    for mut wire in wires.drain(..) {
        running.spawn(async move { (wire.run(start + BATCH).await, wire) });
    }
    let mut total = 0;
    for (count, wire) in running.join_all().await {
        total += count;
        wires.push(wire);
    }
    f64::from(total) / start.elapsed().as_secs_f64()
}

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

async fn compare(name: &str, ports: [u16; 2], path: &str, form: &str) {
    let (mut bare, mut ours) = (Vec::new(), Vec::new());
    for _ in 0..CONNECTIONS {
        bare.push(Wire::connect(ports[0], path, form).await);
        ours.push(Wire::connect(ports[1], path, form).await);
    }
    let mut pairs = Vec::new();
    for at in 0..PAIRS {
        let pair = if at % 2 == 0 {
            let without = rate(&mut bare).await;
            (without, rate(&mut ours).await)
        } else {
            let with = rate(&mut ours).await;
            (rate(&mut bare).await, with)
        };
        pairs.push(pair);
    }
    let ratio = median(pairs.iter().map(|(without, with)| with / without).collect());
    let [without, with] =
        [median(pairs.iter().map(|pair| pair.0).collect()), median(pairs.iter().map(|pair| pair.1).collect())];
    println!("{name:<44}{without:>10.0}/s{with:>10.0}/s{ratio:>8.3}  (budget 0.9)");
}

fn main() {
    if !std::env::args().any(|argument| argument == "--bench") {
        return;
    }
    tokio::runtime::Runtime::new().expect("a runtime").block_on(measure());
}

async fn measure() {
    let secret = ClientSecret::generate().expect("randomness");
    let dome = Client::with_secret("dome", secret.hash()).grants([ClientGrant::ClientCredentials]).may_introspect();
    let dome = dome.scopes(Scopes::parse("dome:move").expect("scopes"));
    let desk = Client::public("desk").scopes(Scopes::parse("dome:move").expect("scopes"));
    let store = Arc::new(MemoryStore::new());
    let view = LiveRevocations::follow(store.clone()).await.expect("a view");
    let sessions = Sessions::builder("https://id.skarnhill.test", "https://api.skarnhill.test")
        .keys(IssuerKeys::generate().expect("keys"))
        .store(store)
        .revocations(view)
        .clients(Clients::new([dome, desk]).expect("clients"))
        .admission(Arc::new(Everybody));
    let sessions = Arc::new(sessions.build().expect("sessions"));
    let access = sessions.start(SignIn::new("ope-0002", "desk")).await.expect("a session").access_token;
    let endpoints = Endpoints::new(sessions, "https://id.skarnhill.test").with(Endpoint::Introspection);
    let routes = endpoints.introspect_from_view(Duration::from_secs(10)).routes().expect("endpoints");
    let ours = served(routes.into_unguarded_router()).await;

    let form = format!("client_id=dome&client_secret={}&token={access}", secret.reveal());
    let claims = reqwest::Client::new()
        .post(format!("http://127.0.0.1:{ours}/oauth/introspect"))
        .header("content-type", "application/x-www-form-urlencoded")
        .body(form.clone());
    let claims: Value = claims.send().await.expect("an answer").json().await.expect("JSON");
    assert_eq!(claims["active"], true);
    let bare = Arc::new(Bare {
        hash: digest(&SHA256, secret.reveal().as_bytes()).as_ref().to_vec(),
        seen: HashMap::from([(access, claims)]),
        key: Ed25519KeyPair::generate().expect("a key"),
    });
    let router = Router::new().route("/oauth/introspect", post(introspect)).route("/oauth/token", post(token));
    let bare = served(router.with_state(bare)).await;

    println!("{:<44}{:>12}{:>12}{:>8}", "", "bare", "endpoint", "ratio");
    compare("introspection from the view, seen before", [bare, ours], "/oauth/introspect", &form).await;
    let form = format!("grant_type=client_credentials&client_id=dome&client_secret={}", secret.reveal());
    compare("client_credentials", [bare, ours], "/oauth/token", &form).await;
}
