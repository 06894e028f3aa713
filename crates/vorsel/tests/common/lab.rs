//! A stand-in for another issuer, which publishes what a test tells it to, and counts who asks.
#![allow(dead_code, reason = "each test uses its part")]

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use axum::Router;
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::{StatusCode, Uri, header};
use axum::response::{IntoResponse, Redirect, Response};
use futures_util::stream;
use serde_json::{Value, json};
use tokio::net::TcpListener;
use tokio::task::JoinHandle;
use vorsel::{AccessDraft, Algorithm, Issuer, KeySet, Lifetime, SigningKey, now};

/// How it behaves.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Mood {
    Good,
    Slow(Duration),
    Failing,
    Huge,
    Endless,
    /// To the same port under another name.
    Redirecting,
    RedirectingAtHome,
    Lying,
    Html,
    Nonsense,
    SharedSecret,
}

pub(crate) struct Lab {
    pub(crate) url: String,
    shared: Arc<Shared>,
    server: JoinHandle<()>,
}

struct Shared {
    url: String,
    mood: Mutex<Mood>,
    keys: Mutex<Value>,
    caching: Mutex<Option<String>>,
    metadata: AtomicU64,
    fetches: AtomicU64,
    /// Bytes handed out by an endless answer.
    bytes: Arc<AtomicU64>,
}

impl Drop for Lab {
    fn drop(&mut self) {
        self.server.abort();
    }
}

/// A key by its private JWK.
pub(crate) struct Key(String);

/// A key with this ID.
pub(crate) fn key(kid: &str) -> Key {
    let key = SigningKey::generate(Algorithm::EdDsa).expect("a key");
    let mut jwk: Value = serde_json::from_str(&key.to_private_jwk().expect("a key that can be kept")).expect("JSON");
    jwk["kid"] = kid.into();
    Key(jwk.to_string())
}

impl Key {
    pub(crate) fn signing(&self) -> SigningKey {
        SigningKey::from_jwk(&self.0).expect("a key")
    }
}

pub(crate) fn set(keys: &[&Key]) -> Value {
    Value::Object(KeySet::new(keys.iter().map(|key| key.signing().verifying_key())).to_public_jwk_set())
}

impl Lab {
    pub(crate) async fn open(keys: &[&Key]) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let url = format!("http://{}", listener.local_addr().expect("an address"));
        let shared = Arc::new(Shared {
            url: url.clone(),
            mood: Mutex::new(Mood::Good),
            keys: Mutex::new(set(keys)),
            caching: Mutex::new(None),
            metadata: AtomicU64::new(0),
            fetches: AtomicU64::new(0),
            bytes: Arc::default(),
        });
        let router = Router::new().fallback(answer).with_state(shared.clone());
        let server = tokio::spawn(async move { axum::serve(listener, router).await.expect("it serves") });
        Self { url, shared, server }
    }

    pub(crate) fn becomes(&self, mood: Mood) {
        *self.shared.mood.lock().expect("no panic") = mood;
    }

    pub(crate) fn publishes(&self, keys: &[&Key]) {
        *self.shared.keys.lock().expect("no panic") = set(keys);
    }

    pub(crate) fn publishes_text(&self, keys: Value) {
        *self.shared.keys.lock().expect("no panic") = keys;
    }

    pub(crate) fn says(&self, caching: &str) {
        *self.shared.caching.lock().expect("no panic") = Some(caching.to_owned());
    }

    /// How often its keys were asked for.
    pub(crate) fn fetches(&self) -> u64 {
        self.shared.fetches.load(Ordering::Relaxed)
    }

    pub(crate) fn bytes(&self) -> u64 {
        self.shared.bytes.load(Ordering::Relaxed)
    }

    /// An access token of its own.
    pub(crate) fn token(&self, key: &Key, subject: &str, roles: &[&str]) -> String {
        token_of(&self.url, key, subject, roles)
    }
}

pub(crate) fn token_of(issuer: &str, key: &Key, subject: &str, roles: &[&str]) -> String {
    let draft = AccessDraft::of(subject).audience("https://api.skarnhill.test").client("lab-desk");
    let draft = draft.lasting(Lifetime::minutes(5)).roles(roles.iter().map(|role| (*role).to_owned()));
    Issuer::new(issuer, key.signing()).access(&draft, &format!("{subject}-{}", roles.len()), now()).expect("a token")
}

async fn answer(State(shared): State<Arc<Shared>>, uri: Uri) -> Response {
    let is_metadata = uri.path().contains(".well-known");
    let count = if is_metadata { &shared.metadata } else { &shared.fetches };
    count.fetch_add(1, Ordering::Relaxed);
    let mood = shared.mood.lock().expect("no panic").clone();
    let caching = shared.caching.lock().expect("no panic").clone();
    let keys = shared.keys.lock().expect("no panic").clone();
    let issuer = if mood == Mood::Lying { "https://id.skarnhill.test" } else { &shared.url };
    let metadata = json!({ "issuer": issuer, "jwks_uri": format!("{}/keys", shared.url) });
    let good = if is_metadata { metadata } else { keys };
    let good = (
        [(header::CACHE_CONTROL, caching.unwrap_or_default()), (header::CONTENT_TYPE, "application/json".to_owned())],
        good.to_string(),
    );
    match mood {
        Mood::Good | Mood::Lying => good.into_response(),
        Mood::Slow(span) => {
            tokio::time::sleep(span).await;
            good.into_response()
        }
        Mood::Failing => StatusCode::INTERNAL_SERVER_ERROR.into_response(),
        Mood::Huge => format!("{{\"keys\":[{}]}}", vec!["{}"; 1_000_000].join(",")).into_response(),
        Mood::Endless => {
            let bytes = shared.bytes.clone();
            let chunks = stream::repeat_with(move || {
                bytes.fetch_add(4_096, Ordering::Relaxed);
                Ok::<_, std::convert::Infallible>(Bytes::from_static(&[b' '; 4_096]))
            });
            Body::from_stream(chunks).into_response()
        }
        Mood::Redirecting => {
            Redirect::temporary(&format!("{}{}", shared.url.replace("127.0.0.1", "localhost"), uri.path()))
                .into_response()
        }
        Mood::RedirectingAtHome if uri.query().is_some() => good.into_response(),
        Mood::RedirectingAtHome => Redirect::temporary(&format!("{}?again", uri.path())).into_response(),
        Mood::Html => ([(header::CONTENT_TYPE, "text/html")], "<!doctype html><p>Sign in</p>").into_response(),
        Mood::Nonsense => "{\"keys\": 7}".into_response(),
        Mood::SharedSecret => {
            let secret = json!({ "keys": [{ "kty": "oct", "alg": "HS256", "kid": "s", "k": "P2tLCm-xD5ErNw2W3QJ6K4QTFLhf5nkiDk1il3tfCEU" }] });
            if is_metadata { good.into_response() } else { secret.to_string().into_response() }
        }
    }
}
