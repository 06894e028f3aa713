//! What a signed-in caller has over HTTP: their reach, their sessions, and streams that end with their token.

use std::sync::Arc;
use std::time::Duration;

use axum::routing::get;
use serde_json::json;
use vorsel::endpoints::{Endpoint, Endpoints, own_reach};
use vorsel::store::{MemoryStore, SessionStore, Which};
use vorsel::{AccessPlan, Caller, Guard, GuardedApp, LiveRevocations, NoOwn, Routes, SignIn, TokenReply, WhenSilent};

mod common;
#[path = "common/wire.rs"]
mod wire;
use common::{Entry, House, house};
use wire::{Answer, Wire};

async fn hill() -> (House, Wire, Guard) {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let house = house(&store);
    let view = LiveRevocations::follow_by(store.clone(), house.clock.clone()).await.expect("a view");
    let house = house.set_up(|sessions| sessions.revocations(view.clone()));
    house.book.0.lock().expect("no panic").insert("ope-0002".to_owned(), Entry::Roles(vec!["operator"]));
    let plan = AccessPlan::builder().role("operator", &[]).role("observer", &[]);
    let plan =
        plan.need("GET", "/dome", "role operator").need("PUT", "/roles", "role operator and signed-in within 1m");
    let plan = plan.need("GET", "/observers/{observer}", "path.observer == sub").need("GET", "/reach", "signed-in");
    let plan = plan.need("GET", "/oauth/sessions", "signed-in").need("DELETE", "/oauth/sessions", "signed-in");
    let plan = plan.need("DELETE", "/oauth/sessions/{session}", "signed-in");
    let endpoints = |base: &str| Endpoints::new(house.sessions.clone(), base).with(Endpoint::OwnSessions);
    let to_open = endpoints("https://id.skarnhill.test").to_open().expect("endpoints");
    let plan = to_open.iter().fold(plan, |plan, (method, path)| plan.open(method, path)).build().expect("a plan");
    let guard = Guard::<NoOwn>::builder(house.verifier(), plan.clone()).clock(house.clock.clone());
    let guard = guard.revocations(view, Duration::from_secs(10), WhenSilent::GoOn).build().expect("a guard");
    let app = |base: &str| -> GuardedApp {
        let routes = Routes::new()
            .route("/dome", get(async || "shut"))
            .route("/roles", axum::routing::put(async || "given"))
            .route("/observers/{observer}", get(async || "proposals"))
            .route("/reach", own_reach::<NoOwn, ()>(&plan));
        routes.merge(endpoints(base).routes().expect("endpoints")).guard(guard.clone()).expect("an app")
    };
    let wire = Wire::serve(|base| axum::Router::new().fallback_service(app(base))).await;
    (house, wire, guard)
}

async fn sign_in(house: &House, subject: &str, device: &str) -> TokenReply {
    house.sessions.start(SignIn::new(subject, "desk").device(device)).await.expect("a session")
}

impl Wire {
    async fn call(&self, method: &str, path: &str, token: &str) -> Answer {
        let method = method.parse().expect("a method");
        self.send(self.http.request(method, self.at(path)).bearer_auth(token)).await
    }
}

#[tokio::test]
async fn a_caller_is_told_their_roles_and_reach_and_no_rule() {
    let (house, wire, _) = hill().await;
    let observer = sign_in(&house, "obs-0017", "desk").await.access_token;
    let answer = wire.call("GET", "/reach", &observer).await;
    assert_eq!((answer.status, answer.header("cache-control")), (200, "no-store"));
    assert_eq!(answer.body["roles"], json!(["observer"]));
    let routes = answer.body["routes"].as_array().expect("routes");
    assert!(routes.contains(&json!({ "method": "GET", "path": "/observers/{observer}", "hangs_on": ["path"] })));
    assert!(routes.contains(&json!({ "method": "POST", "path": "/oauth/token" })), "open ones too");
    assert!(!answer.body.to_string().contains("/dome"), "what is not named is no: {}", answer.body);
    house.clock.advance(Duration::from_secs(120));
    let operator = sign_in(&house, "ope-0002", "desk").await.access_token;
    let routes = wire.call("GET", "/reach", &operator).await.body["routes"].clone();
    assert!(routes.as_array().expect("routes").contains(&json!({ "method": "GET", "path": "/dome" })));
    assert_eq!(wire.get("/reach").await.status, 401);
}

#[tokio::test]
async fn somebody_sees_and_ends_their_own_sessions_and_no_others() {
    let (house, wire, _) = hill().await;
    let devices = ["dome terminal", "desk", "phone"];
    let mut mine = Vec::new();
    for device in devices {
        mine.push(sign_in(&house, "obs-0017", device).await);
        house.clock.advance(Duration::from_secs(1));
    }
    let other = sign_in(&house, "ope-0002", "desk").await;
    let listed = async |token: &str| wire.call("GET", "/oauth/sessions", token).await.body["sessions"].clone();
    let sessions = listed(&mine[1].access_token).await;
    let sessions = sessions.as_array().expect("a list");
    assert_eq!(sessions.iter().map(|session| session["device"].as_str()).collect::<Vec<_>>(), devices.map(Some));
    assert_eq!(sessions.iter().filter(|session| session["is_this"] == true).count(), 1);
    assert_eq!((&sessions[1]["is_this"], &sessions[0]["started_at"]), (&json!(true), &json!("2023-11-14T22:13:20Z")));

    let theirs = listed(&other.access_token).await[0]["session"].as_str().expect("an id").to_owned();
    let mine_0 = sessions[0]["session"].as_str().expect("an id");
    let me = mine[1].access_token.as_str();
    for (session, status) in [(theirs.as_str(), 404), ("nonsense", 404), (mine_0, 204), (mine_0, 404)] {
        let path = format!("/oauth/sessions/{session}");
        assert_eq!(wire.call("DELETE", &path, me).await.status, status, "{session}");
    }
    assert_eq!(wire.call("GET", "/reach", &mine[0].access_token).await.status, 401, "it is over");
    assert_eq!(wire.call("GET", "/reach", &other.access_token).await.status, 200);
    assert_eq!(wire.call("DELETE", "/oauth/sessions", me).await.status, 204);
    assert_eq!(listed(me).await.as_array().map(Vec::len), Some(1));
    assert_eq!(wire.call("GET", "/reach", &mine[2].access_token).await.status, 401, "and so are all others");
}

#[tokio::test]
async fn a_stream_hears_when_its_token_does_not_stand_any_more() {
    let (house, _, guard) = hill().await;
    let admitted = async |token: &str| -> Caller {
        let request = http::Request::get("/reach").header("authorization", format!("Bearer {token}"));
        let (parts, ()) = request.body(()).expect("a request").into_parts();
        guard.decide(&parts, guard.now()).await.expect("let in").expect("a caller")
    };
    let reply = sign_in(&house, "obs-0017", "desk").await;
    let caller = admitted(&reply.access_token).await;
    let early = tokio::time::timeout(Duration::from_millis(450), guard.until_over(&caller)).await;
    assert!(early.is_err(), "it stands");
    let session = caller.token_claims().session_id().expect("a session").to_owned();
    let (finding, ended) = tokio::join!(guard.until_over(&caller), house.sessions.end(Which::One(&session)));
    assert_eq!((finding.check.code(), ended.expect("an end")), ("revoked", Some(1)));

    let caller = admitted(&sign_in(&house, "obs-0017", "desk").await.access_token).await;
    let (finding, ()) =
        tokio::join!(guard.until_over(&caller), async { house.clock.advance(Duration::from_secs(310)) });
    assert_eq!(finding.check.code(), "expired");
}
