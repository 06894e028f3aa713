//! The client's side: one renewal for however many wait, one repetition, typed errors, no loop; against the library's own endpoints, and against
//! an issuer that is slow, down, or answers nonsense.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use axum::Router;
use axum::response::IntoResponse;
use axum::routing::{get, post};
use bytes::Bytes;
use http::StatusCode;
use http_body_util::Full;
use serde_json::json;
use tokio::sync::Semaphore;
use tower::{Layer, ServiceExt};
use vorsel::endpoints::Endpoints;
use vorsel::store::{MemoryStore, SessionStore, Which};
use vorsel::testing::StillClock;
use vorsel::{
    AccessPlan, Admission, AdmissionError, Algorithm, Client, ClientGrant, ClientSecret, Clients, Clock, Grant, Guard,
    Issued, KeeperError, KeeperLayer, KeptTokens, KeySet, LiveRevocations, NoOwn, Routes, Scopes, SendError, SignIn,
    SigningKey, TokenFile, TokenKeeper, TokenPlace, WhenSilent,
};

mod common;
#[path = "common/wire.rs"]
mod wire;
use common::{House, house};
use wire::Wire;

/// An API with sessions, and how often its token endpoint was asked.
struct Hill {
    house: House,
    wire: Wire,
    asked: Arc<AtomicU64>,
}

async fn hill() -> Hill {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let house = house(&store);
    let view = LiveRevocations::follow_by(store.clone(), house.clock.clone()).await.expect("a view");
    let house = house.set_up(|sessions| sessions.revocations(view.clone()));
    let plan = AccessPlan::builder().role("observer", &[]).role("operator", &[]);
    let plan = plan.need("GET", "/me", "role observer").need("POST", "/echo", "signed-in");
    let plan = plan.need("GET", "/dome", "role operator").need("GET", "/fresh", "signed-in within 1m");
    let endpoints = |base: &str| Endpoints::new(house.sessions.clone(), base);
    let to_open = endpoints("https://id.skarnhill.test").to_open().expect("endpoints");
    let plan = to_open.iter().fold(plan, |plan, (method, path)| plan.open(method, path)).build().expect("a plan");
    let guard = Guard::<NoOwn>::builder(house.verifier(), plan).clock(house.clock.clone());
    let guard = guard.revocations(view, Duration::from_secs(10), WhenSilent::GoOn).build().expect("a guard");
    let asked = Arc::new(AtomicU64::new(0));
    let count = asked.clone();
    let wire = Wire::serve(|base| {
        let ok = async || "ok";
        let routes = Routes::new().route("/me", get(ok)).route("/dome", get(ok)).route("/fresh", get(ok));
        let routes = routes.route("/echo", post(async |body: String| body));
        let app = routes.merge(endpoints(base).routes().expect("endpoints")).guard(guard).expect("an app");
        Router::new().fallback_service(app).layer(axum::middleware::from_fn(
            move |request: axum::extract::Request, next: axum::middleware::Next| {
                if request.uri().path() == "/oauth/token" {
                    count.fetch_add(1, Ordering::Relaxed);
                }
                next.run(request)
            },
        ))
    });
    Hill { wire: wire.await, house, asked }
}

impl Hill {
    async fn signed_in(&self) -> KeptTokens {
        let reply = self.house.sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session");
        KeptTokens::new(reply.access_token, reply.expires_in, reply.refresh_token, self.house.now())
    }

    async fn keeper(&self) -> TokenKeeper {
        let keeper = TokenKeeper::builder(self.wire.at("/oauth/token"), "desk").clock(self.house.clock.clone());
        let keeper = keeper.build().expect("a keeper");
        keeper.begin(self.signed_in().await).await;
        keeper
    }

    fn asked(&self) -> u64 {
        self.asked.load(Ordering::Relaxed)
    }

    async fn get(&self, keeper: &TokenKeeper, path: &str) -> Result<u16, String> {
        let sent = keeper.send(self.wire.http.get(self.wire.at(path))).await;
        sent.map(|answer| answer.status().as_u16()).map_err(|error| error.to_string())
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_thousand_requests_at_the_moment_of_expiry_make_one_renewal() {
    let hill = Arc::new(hill().await);
    let keeper = hill.keeper().await;
    assert_eq!(hill.get(&keeper, "/me").await, Ok(200));
    assert_eq!(hill.asked(), 0);
    hill.house.clock.advance(Duration::from_secs(301));
    let requests = (0..1_000).map(|_| {
        let (hill, keeper) = (hill.clone(), keeper.clone());
        tokio::spawn(async move { hill.get(&keeper, "/me").await })
    });
    for request in requests.collect::<Vec<_>>() {
        assert_eq!(request.await.expect("no panic"), Ok(200));
    }
    assert_eq!((hill.asked(), keeper.renewals()), (1, 1));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_is_renewed_ahead_of_expiry_and_nobody_waits() {
    let hill = hill().await;
    let keeper = hill.keeper().await;
    hill.house.clock.advance(Duration::from_secs(235));
    assert_eq!(hill.get(&keeper, "/me").await, Ok(200));
    assert_eq!(hill.asked(), 0, "the first four fifths of its life");
    hill.house.clock.advance(Duration::from_secs(40));
    let before = keeper.token().await.expect("a token");
    for _ in 0..200 {
        if *keeper.token().await.expect("a token") != *before {
            break;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    assert_ne!(*keeper.token().await.expect("a token"), *before);
    assert_eq!(hill.asked(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_refused_token_is_renewed_and_the_request_repeated_once() {
    let hill = hill().await;
    let keeper = hill.keeper().await;
    hill.house.clock.advance(Duration::from_secs(1));
    hill.house.sessions.access_tokens().revoke(Issued::To("obs-0017")).await.expect("revoked");
    hill.house.clock.advance(Duration::from_secs(2));
    assert_eq!(hill.get(&keeper, "/me").await, Ok(200));
    assert_eq!(hill.asked(), 1);
    // Another 401 is none that a renewal would help with, and a 403 is an answer.
    hill.house.clock.advance(Duration::from_secs(100));
    let stale = hill.get(&keeper, "/fresh").await.expect_err("an old sign-in");
    assert!(stale.contains("insufficient_user_authentication"), "{stale}");
    assert_eq!(hill.get(&keeper, "/dome").await, Ok(403));
    assert_eq!(hill.asked(), 1);
    // The session is over: one question, and then none.
    let token = keeper.token().await.expect("a token");
    let session = hill.house.sessions.access_tokens().check(&token).expect("a token");
    hill.house.sessions.end(Which::One(session.claims().session_id().expect("a session"))).await.expect("ended");
    for _ in 0..5 {
        let sent = keeper.send(hill.wire.http.get(hill.wire.at("/me"))).await;
        assert!(matches!(sent, Err(SendError::Keeper(KeeperError::SignInAgain { .. }))), "{sent:?}");
    }
    assert_eq!(hill.asked(), 2);
    keeper.begin(hill.signed_in().await).await;
    assert_eq!(hill.get(&keeper, "/me").await, Ok(200));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_body_that_cannot_be_repeated_is_not() {
    let hill = hill().await;
    let keeper = hill.keeper().await;
    let revoke = async || {
        hill.house.clock.advance(Duration::from_secs(2));
        hill.house.sessions.access_tokens().revoke(Issued::To("obs-0017")).await.expect("revoked");
        hill.house.clock.advance(Duration::from_secs(2));
    };
    let echo = || hill.wire.http.post(hill.wire.at("/echo"));
    revoke().await;
    let answer = keeper.send(echo().body("again")).await.expect("an answer");
    assert_eq!(answer.text().await.expect("text"), "again");
    revoke().await;
    let chunk =
        futures_util::stream::iter([Ok::<_, std::io::Error>(http_body::Frame::data(Bytes::from_static(b"once")))]);
    let stream = reqwest::Body::wrap(http_body_util::StreamBody::new(chunk));
    let sent = keeper.send(echo().body(stream)).await;
    assert!(matches!(sent, Err(SendError::NotRepeated)), "{sent:?}");
    let answer = keeper.send(echo().body("anew")).await.expect("it is renewed already");
    assert_eq!((answer.status().as_u16(), hill.asked()), (200, 2));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_layer_does_the_same_for_any_service() {
    let hill = hill().await;
    let keeper = hill.keeper().await;
    let (http, base) = (hill.wire.http.clone(), hill.wire.base.clone());
    let service = tower::service_fn(move |request: http::Request<Full<Bytes>>| {
        let (http, base) = (http.clone(), base.clone());
        async move {
            let (parts, body) = request.into_parts();
            let bytes = http_body_util::BodyExt::collect(body).await.expect("bytes").to_bytes();
            let sent = http.request(parts.method, format!("{base}{}", parts.uri)).headers(parts.headers).body(bytes);
            let answer = sent.send().await?;
            Ok::<_, reqwest::Error>(http::Response::from(answer))
        }
    });
    let service = KeeperLayer::new(keeper.clone()).layer(service);
    let call = async |path: &str| {
        let request = http::Request::get(path).body(Full::<Bytes>::default()).expect("a request");
        service.clone().oneshot(request).await.map(|answer| answer.status().as_u16())
    };
    assert_eq!(call("/me").await.expect("an answer"), 200);
    hill.house.clock.advance(Duration::from_secs(1));
    hill.house.sessions.access_tokens().revoke(Issued::To("obs-0017")).await.expect("revoked");
    hill.house.clock.advance(Duration::from_secs(2));
    assert_eq!(call("/me").await.expect("an answer"), 200);
    assert_eq!((hill.asked(), keeper.renewals()), (1, 1));
    hill.house.clock.advance(Duration::from_secs(100));
    assert!(matches!(call("/fresh").await, Err(SendError::Unauthorized { .. })));
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_began_a_renewal_may_go_away() {
    let hill = hill().await;
    let keeper = hill.keeper().await;
    hill.house.clock.advance(Duration::from_secs(301));
    let begun = tokio::spawn({
        let keeper = keeper.clone();
        async move { keeper.token().await }
    });
    while keeper.renewals() == 0 {
        tokio::task::yield_now().await;
    }
    begun.abort();
    assert!(keeper.token().await.is_ok());
    assert_eq!((hill.asked(), keeper.renewals()), (1, 1));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_renewal_of_before_says_nothing_of_a_new_beginning() {
    let folder = tempfile::tempdir().expect("a folder");
    for (status, body) in
        [(400, r#"{"error":"invalid_grant"}"#), (200, r#"{"access_token":"late","token_type":"Bearer"}"#)]
    {
        for begins in [true, false] {
            let (url, asked, held_back) = held_issuer(status, body).await;
            let path = folder.path().join("tokens.json");
            let keeper = TokenKeeper::builder(url, "desk").place(TokenFile::at(&path)).build().expect("a keeper");
            keeper.begin(KeptTokens::new("old", 0, "refresh", vorsel::now())).await;
            let waiting = tokio::spawn({
                let keeper = keeper.clone();
                async move { keeper.token().await }
            });
            while asked.load(Ordering::Relaxed) == 0 {
                tokio::time::sleep(Duration::from_millis(5)).await;
            }
            if begins {
                keeper.begin(KeptTokens::new("new", 300, "refresh-2", vorsel::now())).await;
                held_back.add_permits(1);
                assert_eq!(waiting.await.expect("no panic").as_deref(), Ok("new"));
                assert_eq!(keeper.token().await.as_deref(), Ok("new"));
            } else {
                keeper.forget().await;
                held_back.add_permits(1);
                assert!(matches!(waiting.await.expect("no panic"), Err(KeeperError::SignInAgain { .. })));
                assert!(matches!(keeper.token().await, Err(KeeperError::SignInAgain { .. })));
            }
            let kept = TokenFile::at(&path).load().await.expect("it can be read");
            assert_eq!(kept.map(|kept| kept.access_token), begins.then(|| "new".to_owned()));
        }
    }
}

/// An issuer that answers so after a while, and counts.
async fn issuer(status: u16, body: &'static str, slow: Duration) -> (String, Arc<AtomicU64>) {
    let (address, asked, held_back) = held_issuer(status, body).await;
    tokio::spawn(async move {
        tokio::time::sleep(slow).await;
        held_back.add_permits(Semaphore::MAX_PERMITS);
    });
    (address, asked)
}

/// An issuer that answers so once it may, and counts.
async fn held_issuer(status: u16, body: &'static str) -> (String, Arc<AtomicU64>, Arc<Semaphore>) {
    let (asked, held_back) = (Arc::new(AtomicU64::new(0)), Arc::new(Semaphore::new(0)));
    let (count, answers) = (asked.clone(), held_back.clone());
    let router = Router::new().fallback(async move || {
        count.fetch_add(1, Ordering::Relaxed);
        let _may = answers.acquire().await;
        (StatusCode::from_u16(status).expect("a status"), [("retry-after", "7")], body).into_response()
    });
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let address = format!("http://{}/token", listener.local_addr().expect("an address"));
    tokio::spawn(async move { axum::serve(listener, router).await });
    (address, asked, held_back)
}

#[tokio::test(flavor = "multi_thread")]
async fn what_an_issuer_can_do_wrong_is_a_typed_error_and_asked_once() {
    let huge: &'static str = Box::leak("x".repeat(200_000).into_boxed_str());
    let slow = Duration::from_secs(30);
    for (status, body, pause, expected) in [
        (500, "", Duration::ZERO, "Unavailable"),
        (503, "", Duration::ZERO, "Unavailable"),
        (429, "", Duration::ZERO, "Unavailable"),
        (200, "", slow, "Unavailable"),
        (200, "<html>", Duration::ZERO, "Garbled"),
        (200, r#"{"access_token":"a"}"#, Duration::ZERO, "Garbled"),
        (200, r#"{"access_token":"a b","token_type":"Bearer"}"#, Duration::ZERO, "Garbled"),
        (200, r#"{"access_token":"a","token_type":"mac"}"#, Duration::ZERO, "Garbled"),
        (200, huge, Duration::ZERO, "Garbled"),
        (302, "", Duration::ZERO, "Garbled"),
        (400, "nonsense", Duration::ZERO, "Garbled"),
        (400, r#"{"error":"invalid_grant"}"#, Duration::ZERO, "SignInAgain"),
        (400, r#"{"error":"invalid_client"}"#, Duration::ZERO, "Refused"),
        (401, r#"{"error":"invalid_client"}"#, Duration::ZERO, "Refused"),
    ] {
        let (url, asked) = issuer(status, body, pause).await;
        let clock = Arc::new(StillClock::at(vorsel::now()));
        // A machine that stands still for a moment is not an issuer that does.
        let limit = if pause.is_zero() { Duration::from_secs(20) } else { Duration::from_millis(300) };
        let keeper = TokenKeeper::builder(url, "desk").clock(clock.clone()).within(limit);
        let keeper = keeper.build().expect("a keeper");
        keeper.begin(KeptTokens::new("good", 300, "refresh", clock.now())).await;
        assert_eq!(&*keeper.token().await.expect("it is still good"), "good");
        clock.advance(Duration::from_secs(301));
        let begun = Instant::now();
        let waiting = (0..100).map(|_| {
            tokio::spawn({
                let keeper = keeper.clone();
                async move { keeper.token().await }
            })
        });
        for waiting in waiting.collect::<Vec<_>>() {
            let error = waiting.await.expect("no panic").expect_err("nothing to be had");
            assert!(format!("{error:?}").starts_with(expected), "{status} {body:.40}: {error:?}");
        }
        assert!(begun.elapsed() < Duration::from_secs(30));
        assert_eq!(asked.load(Ordering::Relaxed), 1, "{status} {body:.40}");
    }
    let gone = TokenKeeper::builder("http://127.0.0.1:9/token", "desk").build().expect("a keeper");
    gone.begin(KeptTokens::new("old", 0, "refresh", vorsel::now())).await;
    assert!(matches!(gone.token().await, Err(KeeperError::Unavailable { .. })));
    let nobody = TokenKeeper::builder("http://127.0.0.1:9/token", "desk").build().expect("a keeper");
    assert!(matches!(nobody.token().await, Err(KeeperError::SignInAgain { .. })));
    assert!(TokenKeeper::builder("http://id.skarnhill.test/token", "desk").build().is_err());
    assert!(
        TokenKeeper::builder("https://id.skarnhill.test/token", "desk").for_itself("").build().is_err(),
        "no secret"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_client_for_itself_shows_a_secret_or_signs() {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let (secret, key) =
        (ClientSecret::generate().expect("randomness"), SigningKey::generate(Algorithm::EdDsa).expect("a key"));
    let clients = [
        Client::with_secret("dome: east", secret.hash()).grants([ClientGrant::ClientCredentials]),
        Client::with_keys("signer", KeySet::new([key.verifying_key()])).grants([ClientGrant::ClientCredentials]),
    ];
    let clients = Clients::new(clients).expect("clients");
    let house = house(&store).set_up(|sessions| sessions.clients(clients).admission(Arc::new(Machines)));
    // An assertion is of the machine's time.
    house
        .clock
        .advance(Duration::from_secs(u64::try_from(vorsel::now().as_secs() - house.now().as_secs()).expect("later")));
    let wire = Wire::endpoints(&house, |endpoints| endpoints).await;
    let keeper = |client: &str| TokenKeeper::builder(wire.at("/oauth/token"), client).for_itself("");
    let [by_secret, by_key] = [keeper("dome: east").secret(secret.reveal()), keeper("signer").key(key)];
    for (what, keeper, is_good) in [
        ("a secret", by_secret, true),
        ("a key", by_key, true),
        ("another secret", keeper("dome: east").secret("x"), false),
        ("another key", keeper("signer").key(SigningKey::generate(Algorithm::EdDsa).expect("a key")), false),
    ] {
        let token = keeper.build().expect("a keeper").token().await;
        assert_eq!(token.is_ok(), is_good, "{what}: {token:?}");
        assert!(
            is_good || matches!(&token, Err(KeeperError::Refused { code, .. }) if code == "invalid_client"),
            "{what}"
        );
    }
}

struct Machines;

#[async_trait::async_trait]
impl Admission<NoOwn> for Machines {
    async fn admit(&self, _: &str, _: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        Err(AdmissionError::Denied { reason: "nobody signs in".to_owned() })
    }

    async fn admit_client(&self, _: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        Ok(Grant { roles: Vec::new(), scopes: Scopes::default(), own: NoOwn {} })
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_api_that_takes_no_token_at_all_is_no_loop() {
    let (issuer, asked) =
        issuer(200, r#"{"access_token":"a","token_type":"Bearer","expires_in":300}"#, Duration::ZERO).await;
    let refusing = Router::new().fallback(async || {
        (StatusCode::UNAUTHORIZED, [("www-authenticate", "Bearer realm=\"x\", error=\"invalid_token\"")])
    });
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let api = format!("http://{}/", listener.local_addr().expect("an address"));
    tokio::spawn(async move { axum::serve(listener, refusing).await });
    let keeper =
        TokenKeeper::builder(issuer, "dome-controller").secret("s").for_itself("dome:move").build().expect("a keeper");
    let http = reqwest::Client::builder().no_proxy().build().expect("a client");
    for _ in 0..20 {
        let sent = keeper.send(http.get(&api)).await;
        assert!(
            matches!(&sent, Err(SendError::Unauthorized { challenge }) if challenge.contains("invalid_token")),
            "{sent:?}"
        );
    }
    assert!(asked.load(Ordering::Relaxed) <= 3, "{} tokens asked for", asked.load(Ordering::Relaxed));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pair_outlives_the_process_in_a_file_for_its_owner_alone() {
    use std::os::unix::fs::PermissionsExt;
    let (hill, folder) = (hill().await, tempfile::tempdir().expect("a folder"));
    let path = folder.path().join("tokens.json");
    let keeper = || {
        let keeper = TokenKeeper::builder(hill.wire.at("/oauth/token"), "desk").clock(hill.house.clock.clone());
        keeper.place(TokenFile::at(&path)).build().expect("a keeper")
    };
    assert!(matches!(keeper().token().await, Err(KeeperError::SignInAgain { .. })), "nothing is there yet");
    keeper().begin(hill.signed_in().await).await;
    let mode = |path: &std::path::Path| std::fs::metadata(path).expect("a file").permissions().mode() & 0o777;
    assert_eq!(mode(&path), 0o600);
    hill.house.clock.advance(Duration::from_secs(301));
    let first = keeper().token().await.expect("renewed by what was kept");
    hill.house.clock.advance(Duration::from_secs(20));
    // The successor was kept before it was used: the spent one is not shown again.
    assert_eq!(*keeper().token().await.expect("kept"), *first);
    assert_eq!(hill.asked(), 1);
    std::fs::set_permissions(&path, PermissionsExt::from_mode(0o644)).expect("permissions");
    assert!(matches!(keeper().token().await, Err(KeeperError::Place { reason }) if reason.contains("600")));
    std::fs::set_permissions(&path, PermissionsExt::from_mode(0o600)).expect("permissions");
    std::fs::write(&path, "nonsense").expect("written");
    assert!(matches!(keeper().token().await, Err(KeeperError::Place { .. })));
    TokenFile::at(&path).keep(None).await.expect("forgotten");
    assert!(!path.exists() && TokenFile::at(&path).load().await.expect("nothing").is_none());
    let tokens = hill.signed_in().await;
    assert!(!format!("{tokens:?}").contains(&tokens.access_token) && json!(tokens)["refresh_token"].is_string());
}
