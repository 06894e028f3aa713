//! The endpoints over real HTTP, without registered clients: renewal, sign-out, key set and metadata, and what they answer to a wrong
//! call.

use std::sync::Arc;

use serde_json::json;
use vorsel::endpoints::{Endpoint, Endpoints};
use vorsel::store::{MemoryStore, SessionStore};
use vorsel::{AccessPlan, Guard, KeySet, LiveRevocations, NoOwn, Routes, Sessions, SignIn};

mod common;
#[path = "common/wire.rs"]
mod wire;
use wire::Wire;

use common::{AUDIENCE, House, ISSUER, WINDOW, house};

fn house_in_memory() -> House {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    house(&store)
}

async fn set_up() -> (House, Wire) {
    let house = house_in_memory();
    let wire = Wire::endpoints(&house, |endpoints| endpoints).await;
    (house, wire)
}

async fn sign_in(house: &House) -> vorsel::TokenReply {
    house.sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session")
}

#[tokio::test]
async fn a_renewal_answers_as_rfc_6749_says_and_is_not_kept() {
    let (house, wire) = set_up().await;
    let token = sign_in(&house).await.refresh_token;
    let form = [("grant_type", "refresh_token"), ("client_id", "desk"), ("refresh_token", &token)];
    let reply = wire.post("/oauth/token", &form).await;
    assert_eq!((reply.status, reply.header("cache-control"), reply.header("pragma")), (200, "no-store", "no-cache"));
    assert_eq!((&reply.body["token_type"], &reply.body["expires_in"]), (&json!("Bearer"), &json!(300)));
    assert_eq!(reply.body["scope"], "exposures:read logs:read");
    house.verifier().check(reply.text("access_token"), house.now()).expect("an accepted token");
}

#[tokio::test]
async fn what_is_shown_in_a_header_is_never_overlooked() {
    let (house, wire) = set_up().await;
    let token = sign_in(&house).await.refresh_token;
    let form = [("grant_type", "refresh_token"), ("client_id", "desk"), ("refresh_token", &token)];
    for shown in ["Basic ZGVzazp4", "Bearer abc", "Basic", "Basic !"] {
        let answer = wire.post_with("/oauth/token", ("authorization", shown), &form).await;
        assert_eq!((answer.status, answer.error()), (401, "invalid_client"), "{shown}");
        assert_eq!(
            answer.header("www-authenticate"),
            format!("Basic realm=\"{ISSUER}\", charset=\"UTF-8\""),
            "RFC 6749 section 5.2"
        );
    }
    assert_eq!(wire.post("/oauth/token", &form).await.status, 200, "nothing was spent");
}

#[tokio::test]
async fn a_replay_and_an_ended_session_look_the_same_to_the_client() {
    let (house, wire) = set_up().await;
    let token = sign_in(&house).await.refresh_token;
    let form = [("grant_type", "refresh_token"), ("client_id", "desk"), ("refresh_token", &token)];
    assert_eq!(wire.post("/oauth/token", &form).await.status, 200);
    house.clock.advance(WINDOW);
    for _ in 0..2 {
        assert_eq!(wire.post("/oauth/token", &form).await.body, json!({ "error": "invalid_grant" }));
    }
}

/// A thief who has another client's name ends the session with a token that was spent, and with one that was not does nothing.
#[tokio::test]
async fn a_replay_by_another_client_ends_the_session_and_its_token_alone_does_not() {
    for path in ["/oauth/token", "/oauth/revoke"] {
        let (house, wire) = set_up().await;
        let first = sign_in(&house).await.refresh_token;
        let send = async |client: &str, token: &str| {
            let grant = [("grant_type", "refresh_token"), ("client_id", client)];
            let path = if client == "desk" { "/oauth/token" } else { path };
            wire.post(path, &[&grant[..], &[("refresh_token", token), ("token", token)]].concat()).await
        };
        assert_eq!(send("phone", &first).await.error(), "invalid_grant");
        let second = send("desk", &first).await.text("refresh_token");
        assert_eq!(send("phone", &first).await.error(), "invalid_grant", "within the retry window");
        let third = send("desk", &second).await.text("refresh_token");
        assert!(!third.is_empty(), "the session lives");
        house.clock.advance(WINDOW);
        assert_eq!(send("phone", &first).await.error(), "invalid_grant");
        assert_eq!(send("desk", &third).await.error(), "invalid_grant", "{path}: the replay has ended it");
    }
}

#[tokio::test]
async fn revocation_ends_the_session_and_says_nothing_about_strange_tokens() {
    let house = house_in_memory();
    let view = LiveRevocations::follow_by(house.store().clone(), house.clock.clone()).await.expect("a view");
    let house = house.set_up(|sessions| sessions.revocations(view));
    let wire = Wire::endpoints(&house, |endpoints| endpoints).await;
    let reply = sign_in(&house).await;
    let (access, refresh) = (reply.access_token.as_str(), reply.refresh_token.as_str());
    let desk = ("client_id", "desk");
    for (form, status, error) in [
        (vec![desk, ("token", "nonsense")], 200, ""),
        (vec![desk], 400, "invalid_request"),
        (vec![("token", refresh)], 400, "invalid_request"),
        (vec![("client_id", "phone"), ("token", refresh)], 400, "invalid_grant"),
        (vec![("client_id", "phone"), ("token", access)], 400, "invalid_grant"),
        (vec![desk, ("token", access)], 200, ""),
        (vec![desk, ("token", refresh), ("token_type_hint", "access_token")], 200, ""),
        (vec![desk, ("token", refresh)], 200, ""),
    ] {
        let answer = wire.post("/oauth/revoke", &form).await;
        assert_eq!((answer.status, answer.error()), (status, error), "{form:?}");
        assert_eq!(answer.header("cache-control"), "no-store");
    }
    assert!(house.sessions.access_tokens().check(access).is_err(), "the access token was revoked");
    let form = [("grant_type", "refresh_token"), desk, ("refresh_token", refresh)];
    assert_eq!(wire.post("/oauth/token", &form).await.error(), "invalid_grant");
}

#[tokio::test]
async fn an_access_token_that_nobody_would_learn_of_cannot_be_revoked() {
    let (house, wire) = set_up().await;
    let access = sign_in(&house).await.access_token;
    let answer = wire.post("/oauth/revoke", &[("client_id", "desk"), ("token", &access)]).await;
    assert_eq!((answer.status, answer.error()), (400, "unsupported_token_type"), "RFC 7009 section 2.2.1");
}

#[tokio::test]
async fn metadata_lead_to_the_other_endpoints_and_the_keys_check_the_tokens() {
    let (house, wire) = set_up().await;
    let metadata = wire.get("/.well-known/oauth-authorization-server").await;
    let at = |path: &str| wire.at(path);
    assert_eq!(
        metadata.body,
        json!({
            "issuer": ISSUER,
            "token_endpoint": at("/oauth/token"),
            "token_endpoint_auth_methods_supported": ["none"],
            "revocation_endpoint": at("/oauth/revoke"),
            "revocation_endpoint_auth_methods_supported": ["none"],
            "jwks_uri": at("/oauth/keys"),
            "response_types_supported": [],
            "grant_types_supported": ["refresh_token"],
        })
    );
    assert_eq!(metadata.header("cache-control"), "public, max-age=300");
    let keys = wire.get("/oauth/keys").await;
    assert!(keys.header("cache-control").starts_with("public, max-age="));
    let keys = keys.body.to_string();
    assert!(!keys.contains("\"d\""), "only the public half");
    let keys = KeySet::read(&keys).expect("a key set");
    let token = sign_in(&house).await.access_token;
    let expectations = vorsel::Expectations::access(ISSUER, AUDIENCE);
    vorsel::Verifier::new(keys, expectations).check(&token, house.now()).expect("an accepted token");
}

#[tokio::test]
async fn metadata_lies_where_the_standards_have_it_and_a_challenge_leads_there() {
    let book = house_in_memory();
    let (issuer, audience) = ("https://id.skarnhill.test/hill/", "https://api.skarnhill.test/hill");
    let sessions = Sessions::builder(issuer, audience).keys(book.sessions.keys().clone()).store(book.store().clone());
    let plan = AccessPlan::builder().scopes(&["dome:move"]).need("GET", "/dome", "scope dome:move");
    let open = ["/.well-known/oauth-protected-resource/hill", "/.well-known/oauth-authorization-server/hill", "/keys"];
    let plan = open.iter().fold(plan, |plan, path| plan.open("GET", path)).open("GET", "/me").build().expect("a plan");
    let sessions = sessions.admission(book.book.clone()).roles_of(&plan).build().expect("sessions");
    let address = vorsel::endpoints::resource_metadata_address(audience).expect("an address");
    let guard = Guard::<NoOwn>::builder(book.verifier(), plan).resource_metadata(&address).build().expect("a guard");
    let endpoints = Endpoints::new(Arc::new(sessions), "https://id.skarnhill.test/")
        .prefix("/")
        .with(Endpoint::ResourceMetadata)
        .without(Endpoint::Token)
        .without(Endpoint::Revocation);
    let app = Routes::new()
        .route("/dome", axum::routing::get(async || "shut"))
        .route("/me", axum::routing::get(async |caller: vorsel::Caller| caller.subject().to_owned()))
        .merge(endpoints.routes().expect("endpoints"))
        .guard(guard)
        .expect("an app");
    let wire = Wire::serve(|_| axum::Router::new().fallback_service(app)).await;
    for path in ["/dome", "/me"] {
        let refused = wire.get(path).await;
        let challenge = refused.header("www-authenticate");
        assert!(challenge.contains(&format!("resource_metadata=\"{address}\"")), "{path}: {challenge}");
    }
    let resource = wire.get("/.well-known/oauth-protected-resource/hill").await.body;
    assert_eq!(
        resource,
        json!({
            "resource": audience,
            "authorization_servers": [issuer],
            "bearer_methods_supported": ["header"],
            "scopes_supported": ["dome:move"],
        })
    );
    let metadata = wire.get("/.well-known/oauth-authorization-server/hill").await.body;
    assert_eq!((&metadata["issuer"], &metadata["token_endpoint"]), (&json!(issuer), &json!(null)));
    assert_eq!(metadata["jwks_uri"], "https://id.skarnhill.test/keys");
}

#[test]
fn what_cannot_be_served_is_refused_at_the_start_with_every_reason() {
    let runtime = tokio::runtime::Runtime::new().expect("a runtime");
    let _entered = runtime.enter();
    let house = house_in_memory();
    let problems = |base: &str, change: &dyn Fn(Endpoints<NoOwn>) -> Endpoints<NoOwn>| {
        let routes = change(Endpoints::new(house.sessions.clone(), base)).routes::<()>();
        routes.map_or_else(|error| error.problems().to_vec(), |_| Vec::new())
    };
    let same = |endpoints| endpoints;
    for (base, count) in [
        ("https://id.skarnhill.test", 0),
        ("https://id.skarnhill.test:8443/hill", 0),
        ("http://127.0.0.1:8080", 0),
        ("http://[::1]:8080", 0),
        ("http://id.skarnhill.test", 1),
        ("https://elsewhere.test", 1),
        ("https://id.skarnhill.test?x", 1),
        ("https://id.skarnhill.test#x", 1),
        ("nonsense", 1),
    ] {
        assert_eq!(problems(base, &same).len(), count, "{base}: {:?}", problems(base, &same));
    }
    let base = "https://id.skarnhill.test";
    assert_eq!(problems(base, &|endpoints| endpoints.with(Endpoint::Introspection)).len(), 1);
    assert_eq!(problems(base, &|endpoints| endpoints.introspect_from_view(WINDOW)).len(), 1);
    assert_eq!(problems(base, &|endpoints| endpoints.at(Endpoint::Token, "/renew")).len(), 0);
    assert_eq!(problems(base, &|endpoints| endpoints.at(Endpoint::Token, "renew")).len(), 1);
    assert_eq!(problems(base, &|endpoints| endpoints.at(Endpoint::Metadata, "/metadata")).len(), 1);
    assert_eq!(problems("http://x", &|endpoints| endpoints.with(Endpoint::Introspection)).len(), 2, "every reason");
    let plan = AccessPlan::builder().open("POST", "/v1/oauth/token").build().expect("a plan");
    let guard = Guard::<NoOwn>::new(house.verifier(), plan).expect("a guard");
    let endpoints = Endpoints::new(house.sessions.clone(), base).routes().expect("endpoints");
    let error = Routes::new().nest("/v1", endpoints).guard(guard).expect_err("nested");
    assert!(error.to_string().contains("can't be nested under \"/v1\""), "{error}");
}
