//! The feed of an issuer over real HTTP: told as RFC 8936 says, and followed by a service that has no store.

use std::collections::BTreeSet;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use axum::Router;
use axum::extract::Request;
use http::StatusCode;
use serde_json::{Value, json};
use tokio::net::{TcpListener, TcpStream};
use tokio::time::sleep;
use tower::ServiceExt;
use vorsel::endpoints::{Endpoint, Endpoints};
use vorsel::store::{MemoryStore, SessionStore, SqliteStore, Which};
use vorsel::testing::StillClock;
use vorsel::{
    AccessDraft, AccessPlan, Algorithm, Client, ClientSecretHash, Clients, Clock, Expectations, FeedEvent, Guard,
    Issued, Issuer, IssuerKeys, KeySet, KeyTimes, Keyring, Lifetime, LiveKeyring, LiveRevocations, NoOwn, RemoteIssuer,
    Revocation, Revoked, Sessions, SignIn, SigningKey, Verifier, WhenSilent,
};

mod common;
#[path = "common/lines.rs"]
mod lines;
#[path = "common/signed.rs"]
mod signed;
#[path = "common/wire.rs"]
mod wire;
use common::{AUDIENCE, Book, Entry, House, ISSUER, START, house};
use signed::Pen;
use wire::{Answer, Wire};

const SECRET: &str = "aarOfyCLgl0cepfsi_doHjYM7H71jY8HGr0Xu0NEsfc";
const ASSERTION: &str = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer";

fn clients(pen: &Pen) -> Clients {
    let hash = ClientSecretHash::of(SECRET);
    let clients = Clients::new([
        Client::public("desk"),
        Client::with_secret("archive", hash).may_follow(),
        Client::with_secret("mirror", hash).may_follow(),
        Client::with_secret("curious", hash),
        Client::with_keys("signer", pen.keys()).may_follow(),
    ]);
    clients.expect("clients")
}

/// An issuer with a feed.
struct Hill {
    house: House,
    wire: Wire,
    pen: Pen,
}

async fn hill_on(store: Arc<dyn SessionStore>) -> Hill {
    let pen = Pen::new();
    let house = house(&store);
    let view = LiveRevocations::follow_by(store.clone(), house.clock.clone()).await.expect("a view");
    let house = house.set_up(|sessions| sessions.clients(clients(&pen)).revocations(view));
    let wire = Wire::endpoints(&house, |endpoints| endpoints.with(Endpoint::Feed)).await;
    Hill { house, wire, pen }
}

async fn hill() -> Hill {
    hill_on(Arc::new(MemoryStore::new())).await
}

impl Hill {
    async fn poll_as(&self, client: &str, body: Value) -> Answer {
        let request = self.wire.http.post(self.wire.at("/oauth/feed")).basic_auth(client, Some(SECRET));
        self.wire.send(request.json(&body)).await
    }

    /// Polls and does not wait.
    async fn poll(&self, mut body: Value) -> (Vec<(String, FeedEvent)>, bool) {
        body["returnImmediately"] = true.into();
        let answer = self.poll_as("archive", body).await;
        assert_eq!(answer.status, 200, "{:?}", answer.body);
        (self.told(&answer, "archive"), answer.body["moreAvailable"].as_bool().expect("whether there is more"))
    }

    /// What an answer tells, each event checked as its recipient does.
    fn told(&self, answer: &Answer, client: &str) -> Vec<(String, FeedEvent)> {
        let verifier = Verifier::new(
            self.house.sessions.keys().access.current().key_set(),
            Expectations::security_event(ISSUER, client),
        );
        let sets = answer.body["sets"].as_object().expect("sets");
        let event = |(id, token): (&String, &Value)| {
            let checked = verifier.check_as::<Value>(token.as_str().expect("a token"), START).expect("an event");
            assert_eq!(checked.claims().id(), Some(id.as_str()));
            assert_eq!(checked.claims().expires_at(), None, "RFC 8417 section 2.2");
            (id.clone(), serde_json::from_value(checked.own()["events"].clone()).expect("an event of the feed"))
        };
        sets.iter().map(event).collect()
    }

    async fn revoke(&self, id: &str) {
        self.house.sessions.access_tokens().revoke_id(id).await.expect("it is revoked");
    }
}

fn names(events: &[(String, FeedEvent)]) -> Vec<String> {
    let name = |entry: &Revocation| match &entry.what {
        Revoked::Token(id) | Revoked::Session(id) => id.clone(),
        other => format!("{other:?}"),
    };
    events.iter().flat_map(|(_, event)| event.entries.iter().map(name)).collect()
}

#[tokio::test]
async fn what_is_acknowledged_does_not_come_again_and_the_rest_does() {
    let hill = hill().await;
    let nothing = (Vec::new(), false);
    assert_eq!(hill.poll(json!({})).await, nothing);
    hill.revoke("t-1").await;
    let (first, is_more) = hill.poll(json!({ "maxEvents": 1 })).await;
    assert_eq!((names(&first), is_more), (vec!["t-1".to_owned()], false));
    assert!(first[0].1.is_anew, "it is the beginning");
    assert_eq!(hill.poll(json!({})).await.0, first, "not acknowledged");
    hill.revoke("t-2").await;
    let (again, _) = hill.poll(json!({})).await;
    assert_eq!(names(&again), ["t-1", "t-2"]);
    let (second, _) = hill.poll(json!({ "ack": [first[0].0] })).await;
    assert_eq!((names(&second), second[0].1.is_anew), (vec!["t-2".to_owned()], false));
    for ack in [json!([]), json!([first[0].0]), json!(["made up", "", again[0].0])] {
        assert_eq!(hill.poll(json!({ "ack": ack })).await.0, second, "{ack}");
    }
    // Acknowledged without asking for more.
    let (none, is_more) = hill.poll(json!({ "ack": [second[0].0, "x"], "maxEvents": 0 })).await;
    assert_eq!((none.len(), is_more), (0, false));
    hill.revoke("t-3").await;
    assert_eq!(hill.poll(json!({ "maxEvents": 0 })).await, (Vec::new(), true));
    assert_eq!(names(&hill.poll(json!({})).await.0), ["t-3"]);
    let mirror = hill.poll_as("mirror", json!({ "returnImmediately": true })).await;
    assert_eq!(names(&hill.told(&mirror, "mirror")), ["t-1", "t-2", "t-3"], "each has a place of its own");
    let own = |ack: Value| json!({ "ownPlace": true, "ack": ack });
    assert_eq!(names(&hill.poll(own(json!([]))).await.0), ["t-1", "t-2", "t-3"], "or keeps it itself");
    assert_eq!(names(&hill.poll(own(json!([first[0].0]))).await.0), ["t-2", "t-3"]);
    // The issuer has another kind of store now, which can't read the place.
    let of_another_store = vorsel::base64url::encode("twelve bytes1700-0 session 0 5 s-1");
    let (anew, _) = hill.poll(own(json!([of_another_store]))).await;
    assert_eq!((names(&anew), anew[0].1.is_anew), (vec!["t-1".into(), "t-2".into(), "t-3".into()], true));
    assert_eq!(names(&hill.poll(json!({})).await.0), ["t-3"], "and nothing is noted of that");
}

#[tokio::test]
async fn a_place_is_kept_through_a_restart_and_another_feed_is_told_from_its_beginning() {
    let file = tempfile::tempdir().expect("a folder");
    let open = async || SqliteStore::open(file.path().join("hill.db")).await.expect("a store");
    let first = hill_on(Arc::new(open().await)).await;
    first.revoke("t-1").await;
    let (events, _) = first.poll(json!({})).await;
    first.poll(json!({ "ack": [events[0].0], "maxEvents": 0 })).await;
    let second = hill_on(Arc::new(open().await)).await;
    assert_eq!(second.poll(json!({})).await.0, []);
    second.revoke("t-2").await;
    let (events, _) = second.poll(json!({})).await;
    assert_eq!(names(&events), ["t-2"]);
    // As a restored copy lacks the entry behind which the client stands.
    second.poll(json!({ "ack": [events[0].0], "maxEvents": 0 })).await;
    let far = START.after(Duration::from_secs(86_400));
    let purged = second.house.store().purge(far, 100).await.expect("a purge");
    assert_eq!(purged.entries, 2);
    let entry = Revocation { what: Revoked::Token("t-9".to_owned()), until: far };
    second.house.store().revoke(&entry).await.expect("an entry");
    let (events, _) = second.poll(json!({})).await;
    assert!(names(&events) == ["t-9"] && events[0].1.is_anew, "{events:?}");
    // What was purged before its time may be on the feed again by now, since both instances know it.
    let (again, _) = second.poll(json!({ "ack": [events[0].0] })).await;
    assert!(!names(&again).contains(&"t-9".to_owned()), "{again:?}");
}

#[tokio::test]
async fn a_poll_waits_for_news_and_no_longer_than_it_says() {
    let hill = Arc::new(hill().await);
    let waiting = {
        let hill = hill.clone();
        tokio::spawn(async move {
            let answer = hill.poll_as("archive", json!({})).await;
            (names(&hill.told(&answer, "archive")), Instant::now())
        })
    };
    sleep(Duration::from_millis(300)).await;
    assert!(!waiting.is_finished(), "there is nothing to tell yet");
    let revoked_at = Instant::now();
    hill.revoke("t-1").await;
    let (told, at) = waiting.await.expect("an answer");
    assert_eq!(told, ["t-1"]);
    assert!(at - revoked_at < Duration::from_secs(15), "news are told at once, not at the end of the wait of 20 s");
    let ack = json!({ "ack": [hill.poll(json!({})).await.0[0].0] });
    let request = hill.wire.http.post(hill.wire.at("/oauth/feed")).basic_auth("archive", Some(SECRET));
    let since = Instant::now();
    let answer = hill.wire.send(request.header("prefer", "wait=1").json(&ack)).await;
    assert_eq!(answer.body, json!({ "sets": {}, "moreAvailable": false }));
    assert!(since.elapsed() >= Duration::from_secs(1), "it was kept for as long as the client prefers");
    // A server that stops is not kept by polls.
    let (since, house) = (Instant::now(), hill.house.sessions.clone());
    tokio::spawn(async move {
        sleep(Duration::from_millis(100)).await;
        house.stopping();
    });
    assert_eq!(hill.poll_as("archive", json!({})).await.body["sets"], json!({}));
    assert!(since.elapsed() < Duration::from_secs(15), "the usual wait is one of 20 s");
    // What could not be read comes again, after a pause.
    hill.revoke("t-2").await;
    let event = hill.poll(json!({})).await.0.remove(0).0;
    let since = Instant::now();
    let again =
        hill.poll(json!({ "setErrs": { event.clone(): { "err": "invalid_key", "description": "x\ny" } } })).await;
    assert_eq!(again.0[0].0, event);
    assert!(since.elapsed() >= Duration::from_secs(1));
}

#[tokio::test]
async fn nobody_follows_who_may_not_and_what_is_made_up_harms_nobody() {
    let hill = hill().await;
    hill.revoke("t-1").await;
    let lines = lines::Lines::default();
    let _log = lines.collect();
    let (http, at) = (&hill.wire.http, hill.wire.at("/oauth/feed"));
    let now = json!({ "returnImmediately": true });
    let with = |members: Value| {
        let mut body = now.clone();
        members.as_object().expect("members").iter().for_each(|(name, value)| body[name] = value.clone());
        body
    };
    let post = || http.post(&at);
    let archive = || post().basic_auth("archive", Some(SECRET));
    for (what, request, status, error) in [
        ("nobody", post().json(&now), 401, "invalid_client"),
        ("another secret", post().basic_auth("archive", Some("x")).json(&now), 401, "invalid_client"),
        ("a stranger", post().basic_auth("nobody", Some(SECRET)).json(&now), 401, "invalid_client"),
        ("a token", post().bearer_auth("x").json(&now), 401, "invalid_client"),
        ("a public client", post().json(&with(json!({ "client_id": "desk" }))), 400, "unauthorized_client"),
        ("a name alone", post().json(&with(json!({ "client_id": "archive" }))), 400, "invalid_client"),
        ("one that may not", post().basic_auth("curious", Some(SECRET)).json(&now), 400, "unauthorized_client"),
        ("by members", post().json(&with(json!({ "client_id": "archive", "client_secret": SECRET }))), 200, ""),
        (
            "twice",
            archive().json(&with(json!({ "client_id": "archive", "client_secret": SECRET }))),
            400,
            "invalid_request",
        ),
        ("a form", archive().form(&[("maxEvents", "1")]), 400, "invalid_request"),
        ("no JSON", archive().header("content-type", "application/json").body("{"), 400, "invalid_request"),
        ("too much", archive().json(&with(json!({ "ack": ["x".repeat(40_000)] }))), 400, "invalid_request"),
        ("deep", archive().header("content-type", "application/json").body("[".repeat(30_000)), 400, "invalid_request"),
        (
            "two own places",
            archive().json(&with(json!({ "ownPlace": true, "ack": ["a", "b"] }))),
            400,
            "invalid_request",
        ),
        (
            "a place of nowhere",
            archive().json(&with(json!({ "ownPlace": true, "ack": ["?"] }))),
            400,
            "invalid_request",
        ),
        ("many acks", archive().json(&with(json!({ "ack": vec!["AAAA"; 500] }))), 200, ""),
        ("more acks", archive().json(&with(json!({ "ack": vec!["AAAA"; 4_000] }))), 400, "invalid_request"),
    ] {
        let answer = hill.wire.send(request).await;
        assert_eq!((answer.status, answer.error()), (status, error), "{what}: {:?}", answer.body);
        let challenges = answer.headers.contains_key("www-authenticate");
        assert_eq!(challenges, status == 401, "{what}");
        assert!(answer.header("cache-control").contains("no-store"), "{what}");
    }
    let get = hill.wire.get("/oauth/feed").await;
    assert_eq!(get.status, 405);
    assert!(!lines.text().contains(SECRET), "{}", lines.text());
    let metadata = hill.wire.get("/.well-known/oauth-authorization-server").await.body;
    assert_eq!(metadata["revocation_feed_endpoint"], at.as_str());
    let methods = json!(["client_secret_basic", "client_secret_post", "private_key_jwt"]);
    assert_eq!(metadata["revocation_feed_endpoint_auth_methods_supported"], methods);
}

#[tokio::test]
async fn a_client_may_sign_who_it_is() {
    let hill = hill().await;
    hill.revoke("t-1").await;
    let assertion = |id: &str, audience: &str| {
        let exp = START.as_secs() + 60;
        let claims = json!({ "iss": "signer", "sub": "signer", "aud": audience, "exp": exp, "jti": id });
        json!({
            "returnImmediately": true, "client_assertion_type": ASSERTION,
            "client_assertion": hill.pen.jwt(&json!({ "alg": "EdDSA" }), &claims),
        })
    };
    let poll = async |body: &Value| hill.wire.send(hill.wire.http.post(hill.wire.at("/oauth/feed")).json(body)).await;
    let body = assertion("one", &hill.wire.at("/oauth/feed"));
    let answer = poll(&body).await;
    assert_eq!(names(&hill.told(&answer, "signer")), ["t-1"]);
    assert_eq!(poll(&body).await.error(), "invalid_client", "an assertion is good once");
    assert_eq!(poll(&assertion("two", "https://elsewhere.test")).await.error(), "invalid_client");
}

#[tokio::test]
async fn names_as_long_as_they_come_are_told_in_smaller_stretches() {
    let hill = hill().await;
    let until = START.after(Duration::from_secs(600));
    for number in 0..150 {
        let what = Revoked::IssuedTo { subject: format!("{number}-{}", "x".repeat(20_000)), up_to: START };
        hill.house.store().revoke(&Revocation { what, until }).await.expect("an entry");
    }
    let (mut told, mut ack) = (Vec::new(), json!([]));
    loop {
        let (events, is_more) = hill.poll(json!({ "ack": ack })).await;
        assert_eq!(events.len(), 1);
        told.extend(names(&events));
        ack = json!([events[0].0]);
        if !is_more {
            break;
        }
    }
    assert_eq!(told.len(), 150);
    assert_eq!(told.iter().collect::<BTreeSet<_>>().len(), 150);
}

/// A way to the issuer that can be cut.
struct Cable {
    address: SocketAddr,
    is_cut: Arc<AtomicBool>,
    /// Connections of before this count carry nothing any more, and do not end.
    dead_before: Arc<AtomicUsize>,
    connections: Arc<AtomicUsize>,
}

impl Cable {
    async fn to(far: String) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let (address, is_cut) = (listener.local_addr().expect("an address"), Arc::new(AtomicBool::new(false)));
        let (dead_before, connections) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
        let (cut, dead, count) = (is_cut.clone(), dead_before.clone(), connections.clone());
        tokio::spawn(async move {
            while let Ok((mut near, _)) = listener.accept().await {
                let (cut, dead, far) = (cut.clone(), dead.clone(), far.clone());
                let number = count.fetch_add(1, Ordering::Relaxed);
                tokio::spawn(async move {
                    let silenced = async {
                        while number >= dead.load(Ordering::Relaxed) {
                            sleep(Duration::from_millis(5)).await;
                        }
                    };
                    let broken = async {
                        while !cut.load(Ordering::Relaxed) {
                            sleep(Duration::from_millis(5)).await;
                        }
                    };
                    let carried = async {
                        if let Ok(mut far) = TcpStream::connect(far).await {
                            let _ = tokio::io::copy_bidirectional(&mut near, &mut far).await;
                        }
                    };
                    tokio::select! {
                        () = carried => return,
                        () = broken => return,
                        () = silenced => {}
                    }
                    sleep(Duration::from_secs(120)).await;
                    drop(near);
                });
            }
        });
        Self { address, is_cut, dead_before, connections }
    }

    /// What is connected now falls silent without an end.
    fn falls_silent(&self) {
        self.dead_before.store(self.connections.load(Ordering::Relaxed), Ordering::Relaxed);
    }

    fn cut(&self, is_cut: bool) {
        self.is_cut.store(is_cut, Ordering::Relaxed);
    }
}

/// An issuer whose store may be another one from one moment to the next, and a service without it at the end of a cable.
struct Site {
    keys: IssuerKeys,
    clock: Arc<StillClock>,
    sessions: Arc<Sessions<NoOwn>>,
    router: Arc<std::sync::Mutex<Router>>,
    cable: Cable,
    view: LiveRevocations,
    guard: Guard<NoOwn>,
}

/// What is served for this store.
async fn issuing(
    keys: &IssuerKeys,
    clock: &Arc<StillClock>,
    store: Arc<dyn SessionStore>,
) -> (Arc<Sessions<NoOwn>>, Router) {
    let book = Arc::new(Book::default());
    book.0.lock().expect("no panic").insert("obs-0017".to_owned(), Entry::Roles(vec!["observer"]));
    let view = LiveRevocations::follow_by(store.clone(), clock.clone()).await.expect("a view");
    let sessions = Sessions::builder(ISSUER, AUDIENCE).keys(keys.clone()).store(store).admission(book);
    let sessions = sessions.clock(clock.clone()).clients(clients(&Pen::new())).revocations(view).build();
    let sessions = Arc::new(sessions.expect("sessions"));
    let endpoints = Endpoints::new(sessions.clone(), "http://127.0.0.1:1").with(Endpoint::Feed);
    (sessions, endpoints.routes().expect("routes").into_unguarded_router())
}

async fn said(guard: &Guard<NoOwn>, method: &str, token: &str) -> String {
    let request =
        http::Request::builder().method(method).uri("/dome").header("authorization", format!("Bearer {token}"));
    match guard.decide(&request.body(()).expect("a request"), guard.now()).await {
        Ok(_) => "200".to_owned(),
        Err(stop) => format!("{} {}", stop.answer("x").status, stop.code()),
    }
}

/// How long until the service refuses a token for its revocation.
async fn refused_after(guard: &Guard<NoOwn>, token: &str) -> Duration {
    let since = Instant::now();
    while said(guard, "GET", token).await != "401 revoked" {
        assert!(since.elapsed() < Duration::from_secs(20), "still {}", said(guard, "GET", token).await);
        sleep(Duration::from_millis(1)).await;
    }
    since.elapsed()
}

impl Site {
    async fn open(store: Arc<dyn SessionStore>) -> Self {
        // Keys that may be rolled within a few minutes.
        let times = KeyTimes { cache_time: Duration::from_secs(60), ..KeyTimes::default() };
        let key = SigningKey::generate(Algorithm::EdDsa).expect("a key");
        let access = LiveKeyring::from(Keyring::new(key, times, START));
        let refresh = SigningKey::generate(Algorithm::Hs256).expect("a key").into();
        let keys = IssuerKeys { access, refresh };
        let clock = Arc::new(StillClock::at(START));
        let (sessions, router) = issuing(&keys, &clock, store).await;
        let router = Arc::new(std::sync::Mutex::new(router));
        let current = router.clone();
        let outer = Router::new().fallback(move |request: Request| {
            let router = current.lock().expect("no panic").clone();
            async move { router.oneshot(request).await.expect("an answer") }
        });
        let wire = Wire::serve(|_| outer).await;
        let cable = Cable::to(wire.base.replace("http://", "")).await;
        let at = |path: &str| format!("http://{}{path}", cable.address);
        let issuer = RemoteIssuer::builder(ISSUER, AUDIENCE).keys_at(at("/oauth/keys")).follow().expect("an issuer");
        let feed = issuer.feed(at("/oauth/feed")).secret("archive", SECRET).clock(clock.clone());
        let view = feed.follow().expect("a view");
        assert!(issuer.ready_within(Duration::from_secs(5)).await && view.ready_within(Duration::from_secs(5)).await);
        let plan = AccessPlan::builder().role("observer", &[]).predicates(&["revocations-current"]);
        let plan = plan.need("GET", "/dome", "role observer");
        let plan = plan.need("POST", "/dome", "role observer and predicate revocations-current").build();
        let guard = Guard::builder(issuer, plan.expect("a plan"));
        let guard = guard.revocations(view.clone(), Duration::from_secs(10), WhenSilent::GoOn).clock(clock.clone());
        let guard = guard.build().expect("a guard");
        Self { keys, clock, sessions, router, cable, view, guard }
    }

    /// Another store is in the place of the one that there was.
    async fn restored(&mut self, store: Arc<dyn SessionStore>) {
        let (sessions, router) = issuing(&self.keys, &self.clock, store).await;
        self.sessions = sessions;
        *self.router.lock().expect("no panic") = router;
    }

    async fn sign_in(&self) -> (String, String) {
        let reply = self.sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session");
        (reply.access_token, reply.refresh_token)
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_without_the_store_notices_whatever_is_revoked() {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    for number in 0..12_000 {
        let what = Revoked::Token(format!("old-{number}"));
        let until = START.after(Duration::from_secs(600));
        store.revoke(&Revocation { what, until }).await.expect("an entry");
    }
    let site = Site::open(store).await;
    assert_eq!(site.view.known().len(), 12_000, "the whole state at first contact");
    let access = site.sessions.access_tokens();
    for how in ["signed out", "by id", "by subject", "by session", "all", "all sessions"] {
        let (token, refresh) = site.sign_in().await;
        assert_eq!(said(&site.guard, "GET", &token).await, "200", "{how}");
        site.clock.advance(Duration::from_secs(2));
        let checked = access.check(&token).expect("it is good");
        let (id, session) = (checked.claims().id(), checked.claims().session_id().expect("a session"));
        match how {
            "signed out" => site.sessions.sign_out(&refresh, None).await.expect("signed out"),
            "by id" => access.revoke_id(id.expect("a jti")).await.expect("revoked"),
            "by subject" => access.revoke(Issued::To("obs-0017")).await.expect("revoked"),
            "by session" => access.revoke(Issued::InSession(session)).await.expect("revoked"),
            "all" => access.revoke(Issued::ToAnybody).await.expect("revoked"),
            _ => site.sessions.end(Which::StartedBefore(site.clock.now())).await.map(drop).expect("ended"),
        }
        let took = refused_after(&site.guard, &token).await;
        assert!(took < Duration::from_secs(2), "{how}: noticed after {took:?}, not by a poll that was kept waiting");
        site.clock.advance(Duration::from_secs(5));
    }
    assert_eq!(site.view.figures().epochs, 0);
}

/// With every setting as it usually is.
#[tokio::test(flavor = "multi_thread")]
async fn after_thirty_seconds_without_the_issuer_nothing_is_missed_across_a_key_roll_and_an_epoch() {
    let mut site = Site::open(Arc::new(MemoryStore::new())).await;
    let (before, _) = site.sign_in().await;
    let (signed_out, refresh) = site.sign_in().await;
    let (lost, lost_refresh) = site.sign_in().await;
    let (stands, _) = site.sign_in().await;
    // What only the feed of before has.
    let id = site.sessions.access_tokens().check(&before).expect("good").claims().id().expect("a jti").to_owned();
    site.sessions.access_tokens().revoke_id(&id).await.expect("revoked");
    refused_after(&site.guard, &before).await;
    let cut_at = Instant::now();
    site.cable.cut(true);
    sleep(Duration::from_millis(100)).await;
    site.sessions.sign_out(&refresh, None).await.expect("signed out");
    // A key roll, waited for until the new key signs.
    let next = SigningKey::generate(Algorithm::EdDsa).expect("a key");
    let now = site.clock.now();
    let signs_from = site.keys.access.change(|ring| ring.roll(next, now)).expect("a roll");
    site.clock.advance(Duration::from_secs(1) + signs_from.distance(now));
    // A restored copy, in which the token of before is not revoked; what has ended since goes on its feed.
    let copy: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let sessions = [&signed_out, &lost].map(|token| {
        let checked = site.sessions.access_tokens().check(token);
        checked.map(|checked| checked.claims().session_id().expect("a session").to_owned())
    });
    drop(lost_refresh);
    let until = site.clock.now().after(Duration::from_secs(600));
    site.restored(copy.clone()).await;
    for session in [sessions[1].clone().expect("it stood"), "s-9".to_owned()] {
        copy.revoke(&Revocation { what: Revoked::Session(session), until }).await.expect("an entry");
    }
    let id_of_signed_out = Verifier::new(site.keys.access.current().key_set(), Expectations::access(ISSUER, AUDIENCE));
    let checked = id_of_signed_out.check(&signed_out, site.clock.now()).expect("it has not expired");
    let what = Revoked::Session(checked.claims().session_id().expect("a session").to_owned());
    copy.revoke(&Revocation { what, until }).await.expect("an entry");
    let (afterwards, _) = site.sign_in().await;
    sleep(Duration::from_secs(11)).await;
    assert_eq!(said(&site.guard, "GET", &signed_out).await, "200", "nobody can know, and this route goes on");
    assert_eq!(said(&site.guard, "POST", &stands).await, "503 unanswered", "this one wants to be sure");
    sleep(Duration::from_secs(30).saturating_sub(cut_at.elapsed())).await;
    site.cable.cut(false);
    let since = Instant::now();
    for token in [&signed_out, &lost] {
        refused_after(&site.guard, token).await;
    }
    println!("after an outage of 30 s the view was complete {:.1?} later", since.elapsed());
    assert_eq!(
        said(&site.guard, "GET", &before).await,
        "401 revoked",
        "what another feed lacks counts until its time is over"
    );
    assert_eq!(site.view.figures().epochs, 1);
    assert_eq!(said(&site.guard, "POST", &stands).await, "200");
    assert_eq!(said(&site.guard, "POST", &afterwards).await, "200", "a token of the new key");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_connection_that_has_died_without_a_word_is_not_waited_for() {
    let site = Site::open(Arc::new(MemoryStore::new())).await;
    let (token, refresh) = site.sign_in().await;
    site.cable.falls_silent();
    sleep(Duration::from_millis(50)).await;
    site.sessions.sign_out(&refresh, None).await.expect("signed out");
    let took = refused_after(&site.guard, &token).await;
    println!("noticed {took:.1?} after the connection had fallen silent");
    assert!(took < Duration::from_secs(10), "a guard with the usual settings would have been silent for too long");
}

/// A service with an issuer of its own takes another team's tokens, too.
#[tokio::test(flavor = "multi_thread")]
async fn what_another_issuer_revokes_counts_for_its_own_tokens_alone() {
    let site = Site::open(Arc::new(MemoryStore::new())).await;
    let (theirs, refresh) = site.sign_in().await;
    let session = site.sessions.access_tokens().check(&theirs).expect("good");
    let session = session.claims().session_id().expect("a session").to_owned();
    let key = SigningKey::generate(Algorithm::EdDsa).expect("a key");
    let own =
        Verifier::new(KeySet::new([key.verifying_key()]), Expectations::access("https://own.skarnhill.test", AUDIENCE));
    let draft = AccessDraft::of("obs-0017").audience(AUDIENCE).client("desk").lasting(Lifetime::minutes(30));
    let draft = draft.roles(["observer"]).session(&session, site.clock.now());
    let ours = Issuer::new("https://own.skarnhill.test", key).access(&draft, "t-1", site.clock.now()).expect("a token");
    let issuer = RemoteIssuer::builder(ISSUER, AUDIENCE).keys_at(format!("http://{}/oauth/keys", site.cable.address));
    let issuer = issuer.follow().expect("an issuer");
    assert!(issuer.ready_within(Duration::from_secs(5)).await);
    let plan = AccessPlan::builder().role("observer", &[]).predicates(&["revocations-current"]);
    let plan = plan.need("GET", "/dome", "role observer");
    let plan = plan.need("POST", "/dome", "role observer and predicate revocations-current").build().expect("a plan");
    let guard = |of: &str, longest: Duration, when| {
        let guard = Guard::<NoOwn>::builder(own.clone(), plan.clone()).also(issuer.clone());
        guard.revocations_of(of, site.view.clone(), longest, when).clock(site.clock.clone()).build()
    };
    let problem =
        guard("https://nobody.skarnhill.test", Duration::from_secs(10), WhenSilent::GoOn).expect_err("unknown");
    assert!(problem.to_string().contains("\"https://nobody.skarnhill.test\""), "{problem}");
    let usual = guard(ISSUER, Duration::from_secs(10), WhenSilent::Refuse).expect("a guard");
    for token in [&ours, &theirs] {
        assert_eq!((said(&usual, "GET", token).await, said(&usual, "POST", token).await), ("200".into(), "200".into()));
    }
    site.sessions.sign_out(&refresh, None).await.expect("signed out");
    refused_after(&usual, &theirs).await;
    assert_eq!(said(&usual, "GET", &ours).await, "200", "its session only has the same name");
    let (another, _) = site.sign_in().await;
    for (when, method, expected) in [
        (WhenSilent::Refuse, "GET", "503 unanswered"),
        (WhenSilent::GoOn, "GET", "200"),
        (WhenSilent::GoOn, "POST", "503 unanswered"),
    ] {
        let silent = guard(ISSUER, Duration::ZERO, when).expect("a guard");
        assert_eq!(said(&silent, method, &another).await, expected, "{when:?}");
        assert_eq!(said(&silent, method, &ours).await, "200", "{when:?}: our tokens are not that issuer's");
    }
}

#[tokio::test]
async fn a_view_without_its_issuer_knows_that_it_knows_nothing() {
    let issuer =
        RemoteIssuer::builder(ISSUER, AUDIENCE).keys_at("http://127.0.0.1:1/keys").follow().expect("an issuer");
    let feed = |endpoint: &str| issuer.feed(endpoint);
    let view = feed("http://127.0.0.1:1/feed").secret("archive", SECRET).follow().expect("a view");
    assert!(!view.ready_within(Duration::from_millis(200)).await);
    assert_eq!(view.silent_for(), Duration::MAX);
    assert!(view.catch_up().await.expect_err("nobody is there").is_retryable());
    for (builder, expected) in [
        (feed("http://127.0.0.1:1/feed"), "expected a client that may follow"),
        (feed("http://id.skarnhill.test/feed").secret("a", "b"), "expected an https address"),
    ] {
        let error = builder.follow().expect_err("it can't be set up");
        assert!(error.to_string().starts_with(expected), "{error}");
    }
}

/// An issuer that says what it likes; only what it has signed for this client counts.
#[tokio::test]
async fn what_the_issuer_has_not_signed_for_this_client_is_not_believed() {
    let pen = Pen::new();
    let answers: Arc<std::sync::Mutex<(u16, Value)>> = Arc::new(std::sync::Mutex::new((200, json!({ "sets": {} }))));
    let asked: Arc<std::sync::Mutex<Vec<Value>>> = Arc::default();
    let (says, hears) = (answers.clone(), asked.clone());
    let set: Value = {
        let keys = pen.keys();
        serde_json::to_value(keys.to_public_jwk_set()).expect("JSON")
    };
    let router = Router::new().route("/keys", axum::routing::get(async move || axum::Json(set))).route(
        "/feed",
        axum::routing::post(async move |body: axum::Json<Value>| {
            hears.lock().expect("no panic").push(body.0);
            let (status, body) = says.lock().expect("no panic").clone();
            (StatusCode::from_u16(status).expect("a status"), axum::Json(body))
        }),
    );
    let wire = Wire::serve(|_| router).await;
    let issuer = RemoteIssuer::builder(ISSUER, AUDIENCE).keys_at(wire.at("/keys")).follow().expect("an issuer");
    assert!(issuer.ready_within(Duration::from_secs(5)).await);
    let view = issuer.feed(wire.at("/feed")).secret("archive", SECRET).follow().expect("a view");
    assert!(view.ready_within(Duration::from_secs(5)).await, "an answer without events is one");
    let claims = |change: &dyn Fn(&mut Value)| {
        let stretch = json!({ "entries": [{ "session": "s-1", "until": 9_000_000_000_i64 }] });
        let mut claims = json!({
            "iss": ISSUER, "aud": "archive", "iat": START.as_secs(), "jti": "e-1",
            "events": { FeedEvent::URI: stretch },
        });
        change(&mut claims);
        claims
    };
    let header = json!({ "alg": "EdDSA", "typ": "secevent+jwt" });
    let usual = |_: &mut Value| {};
    let event = |header: &Value, claims: &Value| json!({ "sets": { "e-1": pen.jwt(header, claims) } });
    let stranger = Pen::new().jwt(&header, &claims(&usual));
    let many = json!({ "sets": { "e-1": "x", "e-2": "y" } });
    for (what, status, body) in [
        ("an error", 503, json!({})),
        ("a refusal", 401, json!({ "error": "invalid_client" })),
        ("something else", 200, json!([])),
        ("no sets", 200, json!({})),
        ("more of nothing", 200, json!({ "sets": {}, "moreAvailable": true })),
        ("several", 200, many),
        ("no token", 200, json!({ "sets": { "e-1": "x" } })),
        ("a stranger's", 200, json!({ "sets": { "e-1": stranger } })),
        ("another kind", 200, event(&json!({ "alg": "EdDSA", "typ": "at+jwt" }), &claims(&usual))),
        ("no kind", 200, event(&json!({ "alg": "EdDSA" }), &claims(&usual))),
        ("another client's", 200, event(&header, &claims(&|it| it["aud"] = "mirror".into()))),
        ("another issuer's", 200, event(&header, &claims(&|it| it["iss"] = "https://id.lab.skarnhill.test".into()))),
        ("told under another id", 200, event(&header, &claims(&|it| it["jti"] = "e-2".into()))),
        ("another event", 200, event(&header, &claims(&|it| it["events"] = json!({ "urn:other": {} })))),
        (
            "an entry of another kind",
            200,
            event(&header, &claims(&|it| it["events"][FeedEvent::URI]["entries"] = json!([{ "device": "d" }]))),
        ),
        ("from the future", 200, event(&header, &claims(&|it| it["iat"] = 9_000_000_000_i64.into()))),
        ("too much", 200, json!({ "sets": { "e-1": "x".repeat(3 * 1024 * 1024) } })),
    ] {
        *answers.lock().expect("no panic") = (status, body);
        assert!(view.catch_up().await.is_err(), "{what}");
        assert_eq!(view.known().len(), 0, "{what}");
    }
    let told = asked.lock().expect("no panic").iter().filter(|body| body["setErrs"]["e-1"]["err"].is_string()).count();
    assert!(told > 5, "the issuer learns what could not be read");
    *answers.lock().expect("no panic") = (200, event(&header, &claims(&usual)));
    view.catch_up().await.expect("it is read");
    assert_eq!(view.known().len(), 1);
    *answers.lock().expect("no panic") = (200, json!({ "sets": {} }));
    view.catch_up().await.expect("it is read");
    let last = asked.lock().expect("no panic").pop().expect("a poll");
    assert_eq!((&last["ack"], &last["ownPlace"], &last["maxEvents"]), (&json!(["e-1"]), &json!(true), &json!(1)));
}
