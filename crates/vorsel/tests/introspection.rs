//! Asking an issuer what a token is worth: the library's own endpoint over real HTTP, and one that is slow, down, or answers nonsense.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use axum::Router;
use axum::response::IntoResponse;
use http::{Request, StatusCode};
use serde_json::{Value, json};
use vorsel::endpoints::{Endpoint, Endpoints};
use vorsel::store::{MemoryStore, SessionStore, Which};
use vorsel::testing::StillClock;
use vorsel::{
    AccessPlan, Algorithm, Client, ClientSecret, Clients, Clock, Expectations, Guard, Introspection,
    IntrospectionBuilder, IntrospectionLimits, KeySet, NoOwn, Reading, SignIn, SigningKey, Verifier,
};

mod common;
#[path = "common/wire.rs"]
mod wire;
use common::{AUDIENCE, ISSUER, house};
use wire::Wire;

fn plan() -> AccessPlan {
    let plan = AccessPlan::builder().role("observer", &[]).need("GET", "/any", "signed-in");
    let plan = plan.need("GET", "/observers", "role observer").need("GET", "/own/{who}", "path.who == sub");
    plan.need("GET", "/reads", "scope exposures:read").build().expect("a plan")
}

fn guard(verifier: Verifier, asked: Introspection, clock: Arc<StillClock>) -> Guard<NoOwn> {
    Guard::builder(verifier, plan()).introspect(asked).clock(clock).build().expect("a guard")
}

async fn said(guard: &Guard<NoOwn>, path: &str, token: &str) -> String {
    let request = Request::get(path).header("authorization", format!("Bearer {token}")).body(()).expect("a request");
    match guard.decide(&request, guard.now()).await {
        Ok(Some(caller)) => format!("200 {}", caller.subject()),
        Ok(None) => "200 nobody".to_owned(),
        Err(stop) => format!("{} {}", stop.answer("x").status, stop.code()),
    }
}

/// An issuer that answers as a test says, and counts.
struct Desk {
    url: String,
    asked: Arc<AtomicU64>,
    answer: Arc<Mutex<(u16, String, Duration)>>,
}

impl Desk {
    async fn open(answer: &Value) -> Self {
        let asked = Arc::new(AtomicU64::new(0));
        let says = Arc::new(Mutex::new((200, answer.to_string(), Duration::ZERO)));
        let (count, answer) = (asked.clone(), says.clone());
        let router = Router::new().fallback(async move || {
            count.fetch_add(1, Ordering::Relaxed);
            let (status, body, pause) = answer.lock().expect("no panic").clone();
            tokio::time::sleep(pause).await;
            (StatusCode::from_u16(status).expect("a status"), body).into_response()
        });
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let url = format!("http://{}/introspect", listener.local_addr().expect("an address"));
        tokio::spawn(async move { axum::serve(listener, router).await });
        Self { url, asked, answer: says }
    }

    fn says(&self, status: u16, body: impl ToString, pause: Duration) {
        *self.answer.lock().expect("no panic") = (status, body.to_string(), pause);
    }

    fn asked(&self) -> u64 {
        self.asked.load(Ordering::Relaxed)
    }

    fn builder(&self) -> IntrospectionBuilder {
        Introspection::builder("https://id.lab.skarnhill.test", &self.url, AUDIENCE).secret("archive", "s")
    }
}

fn nobody_else() -> Verifier {
    Verifier::new(KeySet::default(), Expectations::access(ISSUER, AUDIENCE))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sign_out_is_noticed_by_whoever_asks_and_not_by_whoever_does_not() {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let (secret, key) =
        (ClientSecret::generate().expect("randomness"), SigningKey::generate(Algorithm::EdDsa).expect("a key"));
    let clients = [
        Client::public("desk"),
        Client::with_secret("archive", secret.hash()).may_introspect(),
        Client::with_keys("signer", KeySet::new([key.verifying_key()])).may_introspect(),
    ];
    let house = house(&store).set_up(|sessions| sessions.clients(Clients::new(clients).expect("clients")));
    let wire = Wire::endpoints(&house, |endpoints: Endpoints<NoOwn>| endpoints.with(Endpoint::Introspection)).await;
    let at = wire.at("/oauth/introspect");
    let asked = || Introspection::builder(ISSUER, &at, AUDIENCE).jwts_too();
    let mut limits = IntrospectionLimits::default();
    limits.kept = Duration::from_secs(1);
    let by_secret = asked().secret("archive", secret.reveal()).limits(limits).build().expect("an issuer");
    let by_key = asked().key("signer", key).limits(limits).build().expect("an issuer");
    let wrong = asked().secret("archive", "wrong").build().expect("an issuer");
    // An assertion is of the machine's time.
    house
        .clock
        .advance(Duration::from_secs(u64::try_from(vorsel::now().as_secs() - house.now().as_secs()).expect("later")));
    let [by_secret, by_key, wrong] =
        [by_secret, by_key, wrong].map(|it| guard(house.verifier(), it, house.clock.clone()));
    let local = Guard::<NoOwn>::builder(house.verifier(), plan()).clock(house.clock.clone()).build().expect("a guard");

    let reply = house.sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session");
    let token = reply.access_token.as_str();
    for guard in [&by_secret, &by_key, &local] {
        assert_eq!(said(guard, "/observers", token).await, "200 obs-0017");
        assert_eq!(said(guard, "/own/obs-0017", token).await, "200 obs-0017", "our own people");
        assert!(
            said(guard, "/any", &reply.refresh_token).await.starts_with("401 "),
            "a refresh token is no access token"
        );
    }
    assert_eq!(said(&wrong, "/any", token).await, "503 unanswered");
    let checked = house.sessions.access_tokens().check(token).expect("a token");
    house.sessions.end(Which::One(checked.claims().session_id().expect("a session"))).await.expect("ended");
    assert_eq!(said(&by_secret, "/any", token).await, "200 obs-0017", "for as long as the answer is kept");
    house.clock.advance(Duration::from_secs(1));
    assert_eq!(said(&by_secret, "/any", token).await, "401 revoked");
    assert_eq!(said(&by_key, "/any", token).await, "401 revoked");
    assert_eq!(said(&local, "/any", token).await, "200 obs-0017", "it goes by the token alone");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_answer_is_held_against_what_a_token_is() {
    let clock = Arc::new(StillClock::at(vorsel::now()));
    let end = clock.now().as_secs() + 300;
    let good = || json!({ "active": true, "sub": "lab-7", "aud": AUDIENCE, "exp": end, "scope": "exposures:read" });
    let with = |more: Value| {
        let mut answer = good();
        answer.as_object_mut().expect("an object").extend(more.as_object().expect("an object").clone());
        answer.to_string()
    };
    let without = |name: &str| {
        let mut answer = good();
        answer.as_object_mut().expect("an object").remove(name);
        answer.to_string()
    };
    for (path, answer, expected) in [
        ("/any", with(json!({})), "200 lab-7"),
        ("/reads", with(json!({})), "200 lab-7"),
        ("/own/lab-7", with(json!({})), "403 rule-not-met"),
        ("/observers", with(json!({ "hill": { "roles": "crew" } })), "200 lab-7"),
        ("/any", with(json!({ "token_type": "bearer" })), "200 lab-7"),
        ("/any", with(json!({ "token_type": "mac" })), "401 wrong-kind"),
        ("/any", with(json!({ "token_type": 7 })), "401 wrong-kind"),
        ("/any", with(json!({ "aud": ["x", AUDIENCE] })), "200 lab-7"),
        ("/any", with(json!({ "aud": "https://id.lab.skarnhill.test" })), "401 wrong-audience"),
        ("/any", without("aud"), "401 missing-claim"),
        ("/any", without("sub"), "401 missing-claim"),
        ("/any", with(json!({ "exp": end - 400 })), "401 expired"),
        ("/any", with(json!({ "iss": ISSUER })), "401 wrong-issuer"),
        ("/any", with(json!({ "cnf": { "jkt": "x" } })), "401 unproven-key"),
        ("/any", with(json!({ "nonce": "n" })), "401 wrong-kind"),
        ("/any", json!({ "active": false }).to_string(), "401 revoked"),
        ("/any", json!({ "active": false, "sub": "lab-7" }).to_string(), "401 revoked"),
        ("/any", json!({ "active": "true", "sub": "lab-7" }).to_string(), "503 unanswered"),
        ("/any", json!({ "sub": "lab-7" }).to_string(), "503 unanswered"),
        (
            "/any",
            format!("{{\"active\":false,\"active\":true,\"sub\":\"lab-7\",\"aud\":{AUDIENCE:?},\"exp\":{end}}}"),
            "503 unanswered",
        ),
        ("/any", "<html>".to_owned(), "503 unanswered"),
        ("/any", "x".repeat(70_000), "503 unanswered"),
    ] {
        let desk = Desk::open(&json!({})).await;
        desk.says(200, &answer, Duration::ZERO);
        let reading = Reading::default().roles_in(&["hill", "roles"]).expect("a place").role("crew", "observer");
        let guard = guard(nobody_else(), desk.builder().reading(reading).build().expect("an issuer"), clock.clone());
        assert_eq!(said(&guard, path, "opaque").await, expected, "{path} {answer:.200}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn only_what_cannot_be_told_here_is_asked_and_once() {
    let clock = Arc::new(StillClock::at(vorsel::now()));
    let good = json!({ "active": true, "sub": "lab-7", "aud": AUDIENCE, "exp": clock.now().as_secs() + 300 });
    let desk = Desk::open(&good).await;
    desk.says(200, &good, Duration::from_millis(50));
    let asking = guard(nobody_else(), desk.builder().build().expect("an issuer"), clock.clone());
    let many = (0..200).map(|_| {
        tokio::spawn({
            let guard = asking.clone();
            async move { said(&guard, "/any", "opaque").await }
        })
    });
    for answer in many.collect::<Vec<_>>() {
        assert_eq!(answer.await.expect("no panic"), "200 lab-7");
    }
    assert_eq!(desk.asked(), 1, "one question for all");
    for jwt in ["a.b.c", "eyJhbGciOiJFZERTQSJ9.e30.AAAA"] {
        assert!(said(&asking, "/any", jwt).await.starts_with("401 "));
    }
    assert_eq!(desk.asked(), 1, "what is a JWT does not leave the process");
    // An answer is kept for a while; what is not active for a shorter one.
    clock.advance(Duration::from_secs(29));
    assert_eq!(said(&asking, "/any", "opaque").await, "200 lab-7");
    assert_eq!(desk.asked(), 1);
    desk.says(200, json!({ "active": false }), Duration::ZERO);
    clock.advance(Duration::from_secs(1));
    assert_eq!(said(&asking, "/any", "opaque").await, "401 revoked");
    clock.advance(Duration::from_secs(4));
    assert_eq!(said(&asking, "/any", "opaque").await, "401 revoked");
    assert_eq!(desk.asked(), 2);
    clock.advance(Duration::from_secs(1));
    assert_eq!(said(&asking, "/any", "opaque").await, "401 revoked");
    assert_eq!(desk.asked(), 3);
    // Never beyond its own end.
    let mut limits = IntrospectionLimits::default();
    limits.kept = Duration::from_secs(3_600);
    desk.says(200, &good, Duration::ZERO);
    let patient = guard(nobody_else(), desk.builder().limits(limits).build().expect("an issuer"), clock.clone());
    assert_eq!(said(&patient, "/any", "other").await, "200 lab-7");
    clock.advance(Duration::from_secs(300));
    assert_eq!(said(&patient, "/any", "other").await, "401 expired");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_issuer_that_is_down_is_answered_as_the_app_says() {
    let clock = Arc::new(StillClock::at(vorsel::now()));
    let good = json!({ "active": true, "sub": "lab-7", "aud": AUDIENCE, "exp": clock.now().as_secs() + 600 });
    for (through_outage, later, expected) in [
        (0, 10, "200 lab-7"),
        (0, 31, "503 unanswered"),
        (60, 31, "200 lab-7"),
        (60, 91, "503 unanswered"),
        (6_000, 601, "503 unanswered"),
    ] {
        let clock = Arc::new(StillClock::at(clock.now()));
        let desk = Desk::open(&good).await;
        let mut limits = IntrospectionLimits::default();
        limits.through_outage = Duration::from_secs(through_outage);
        let guard = guard(nobody_else(), desk.builder().limits(limits).build().expect("an issuer"), clock.clone());
        assert_eq!(said(&guard, "/any", "opaque").await, "200 lab-7");
        desk.says(500, "", Duration::ZERO);
        clock.advance(Duration::from_secs(later));
        assert_eq!(said(&guard, "/any", "opaque").await, expected, "{through_outage} s, after {later} s");
        assert_eq!(said(&guard, "/any", "never-seen").await, "503 unanswered");
    }
    // A slow one holds no more than so many requests up, and none for longer than so long.
    let desk = Desk::open(&good).await;
    desk.says(200, &good, Duration::from_secs(60));
    let mut limits = IntrospectionLimits::default();
    (limits.within, limits.under_way) = (Duration::from_millis(300), 8);
    let guard = guard(nobody_else(), desk.builder().limits(limits).build().expect("an issuer"), clock);
    let begun = std::time::Instant::now();
    let many = (0..500).map(|at| {
        tokio::spawn({
            let guard = guard.clone();
            async move { said(&guard, "/any", &format!("t{at}")).await }
        })
    });
    for answer in many.collect::<Vec<_>>() {
        assert_eq!(answer.await.expect("no panic"), "503 unanswered");
    }
    assert!(begun.elapsed() < Duration::from_secs(30) && desk.asked() <= 64, "{} questions", desk.asked());
}

#[test]
fn what_cannot_work_is_refused_when_it_is_set_up() {
    let at = |endpoint: &str| Introspection::builder("https://id.lab.skarnhill.test", endpoint, AUDIENCE);
    assert!(at("https://id.lab.skarnhill.test/introspect").build().is_err(), "no client");
    assert!(at("http://id.lab.skarnhill.test/introspect").secret("archive", "s").build().is_err(), "no https");
    let asked = || at("https://id.lab.skarnhill.test/introspect").secret("archive", "s");
    assert!(!format!("{:?}", asked().build().expect("it works")).contains("\"s\""));
    let two = Guard::<NoOwn>::builder(nobody_else(), plan());
    let two = [0, 1].into_iter().fold(two, |guard, _| guard.introspect(asked().build().expect("it works")));
    assert!(two.build().expect_err("two").to_string().contains("one issuer to ask"));
}
