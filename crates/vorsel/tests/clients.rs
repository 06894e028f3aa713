//! Registered clients over real HTTP: who they are, and what each may have.

use std::sync::Arc;

use async_trait::async_trait;
use base64_simd::STANDARD;
use serde_json::json;
use vorsel::endpoints::{Endpoint, Endpoints};
use vorsel::store::{MemoryStore, SessionStore};
use vorsel::{
    Admission, AdmissionError, Client, ClientGrant, ClientSecret, Clients, Grant, NoOwn, Scopes, SignIn, StartError,
};

mod common;
#[path = "common/signed.rs"]
mod signed;
#[path = "common/wire.rs"]
mod wire;
use common::{AUDIENCE, House, ISSUER, house};
use signed::Pen;
use wire::{Answer, Wire};

const OTHER_AUDIENCE: &str = "https://archive.skarnhill.test";
const ASSERTION: &str = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer";

/// Lets everybody in, machines too.
struct Everybody;

#[async_trait]
impl Admission<NoOwn> for Everybody {
    async fn admit(&self, _: &str, _: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        let scopes = Scopes::parse("exposures:read dome:move logs:read").expect("scopes");
        Ok(Grant { roles: Vec::new(), scopes, own: NoOwn {} })
    }

    async fn admit_client(&self, client_id: &str) -> Result<Grant<NoOwn>, AdmissionError> {
        match client_id {
            "denied" => Err(AdmissionError::Denied { reason: "out of order".to_owned() }),
            _ => self.admit(client_id, client_id).await,
        }
    }
}

/// A house with clients of every kind.
struct Hill {
    house: House,
    wire: Wire,
    secrets: [ClientSecret; 2],
    pen: Pen,
}

fn scopes(text: &str) -> Scopes {
    Scopes::parse(text).expect("scopes")
}

async fn hill() -> Hill {
    let secrets = [(); 2].map(|()| ClientSecret::generate().expect("randomness"));
    let pen = Pen::new();
    let machine = [ClientGrant::ClientCredentials];
    let hash = secrets[0].hash();
    let clients = Clients::new([
        Client::public("desk").scopes(scopes("exposures:read dome:move")),
        Client::with_secret("dome: east", hash)
            .or_secret(secrets[1].hash())
            .grants(machine)
            .scopes(scopes("dome:move exposures:read people:manage"))
            .audience(OTHER_AUDIENCE)
            .may_introspect(),
        Client::with_keys("archive", pen.keys()).grants(machine).scopes(scopes("logs:read")),
        Client::with_secret("denied", hash).grants(machine),
        Client::with_secret("bare", hash).grants(machine),
        Client::with_secret("backend", hash).scopes(scopes("logs:read")),
    ]);
    let clients = clients.expect("clients");
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let house = house(&store).set_up(|sessions| sessions.clients(clients).admission(Arc::new(Everybody)));
    let wire = Wire::endpoints(&house, |endpoints: Endpoints<NoOwn>| endpoints.with(Endpoint::Introspection)).await;
    Hill { house, wire, secrets, pen }
}

fn basic(id: &str, secret: &str) -> String {
    let encode =
        |text: &str| percent_encoding::utf8_percent_encode(text, percent_encoding::NON_ALPHANUMERIC).to_string();
    format!("Basic {}", STANDARD.encode_to_string(format!("{}:{}", encode(id), encode(secret))))
}

impl Hill {
    /// Asks for a token for the client itself.
    async fn ask(&self, header: Option<&str>, form: &[(&str, &str)]) -> Answer {
        let form = [&[("grant_type", "client_credentials")], form].concat();
        match header {
            Some(value) => self.wire.post_with("/oauth/token", ("authorization", value), &form).await,
            None => self.wire.post("/oauth/token", &form).await,
        }
    }

    /// An assertion of the client that signs.
    fn assertion(&self, change: impl FnOnce(&mut serde_json::Value)) -> String {
        let now = self.house.now().as_micros() / 1_000_000;
        let mut claims = json!({ "iss": "archive", "sub": "archive", "aud": ISSUER, "exp": now + 60, "jti": "one" });
        change(&mut claims);
        self.pen.jwt(&json!({ "alg": "EdDSA" }), &claims)
    }

    async fn ask_signed(&self, token: &str) -> Answer {
        self.ask(None, &[("client_assertion_type", ASSERTION), ("client_assertion", token)]).await
    }
}

#[tokio::test]
async fn a_client_is_who_it_shows_to_be_in_one_way_alone() {
    let hill = hill().await;
    let [first, second] = [0, 1].map(|at| hill.secrets[at].reveal());
    let id = ("client_id", "dome: east");
    let right = basic("dome: east", first);
    for (what, header, form, status, error) in [
        ("by header", Some(right.clone()), vec![], 200, ""),
        ("by header, in another case", Some(right.replace("Basic", "bASIC")), vec![], 200, ""),
        ("by header, named again", Some(right.clone()), vec![id], 200, ""),
        ("by form", None, vec![id, ("client_secret", first)], 200, ""),
        ("by the second secret", None, vec![id, ("client_secret", second)], 200, ""),
        ("by header, another secret", Some(basic("dome: east", "x")), vec![], 401, "invalid_client"),
        ("by header, no secret", Some(basic("dome: east", "")), vec![], 401, "invalid_client"),
        ("by header, nobody", Some(basic("nobody", first)), vec![], 401, "invalid_client"),
        ("by header, one who signs", Some(basic("archive", first)), vec![], 401, "invalid_client"),
        ("by header, one who has no secret", Some(basic("desk", first)), vec![], 401, "invalid_client"),
        ("by header, another one in the form", Some(right.clone()), vec![("client_id", "bare")], 401, "invalid_client"),
        ("a token in the header", Some("Bearer x".to_owned()), vec![id, ("grant", "x")], 401, "invalid_client"),
        ("no base64", Some("Basic ?".to_owned()), vec![], 401, "invalid_client"),
        ("by form, another secret", None, vec![id, ("client_secret", "x")], 400, "invalid_client"),
        ("its name alone", None, vec![id], 400, "invalid_client"),
        ("a secret without a name", None, vec![("client_secret", first)], 400, "invalid_request"),
        ("nothing", None, vec![], 400, "invalid_request"),
        ("twice", Some(right.clone()), vec![("client_secret", first)], 400, "invalid_request"),
        ("a public one", None, vec![("client_id", "desk")], 400, "unauthorized_client"),
        ("one through which people sign in", Some(basic("backend", first)), vec![], 400, "unauthorized_client"),
        ("one that the app does not admit", Some(basic("denied", first)), vec![], 400, "unauthorized_client"),
    ] {
        let answer = hill.ask(header.as_deref(), &form).await;
        assert_eq!((answer.status, answer.error()), (status, error), "{what}");
        assert_eq!(answer.header("www-authenticate").starts_with("Basic realm="), status == 401, "{what}");
    }
}

#[tokio::test]
async fn an_assertion_is_signed_for_this_issuer_and_good_once() {
    let hill = hill().await;
    let other = Pen::new();
    let now = hill.house.now().as_micros() / 1_000_000;
    let right = hill.assertion(|_| {});
    let endpoint = hill.wire.at("/oauth/token");
    for (what, token, error) in [
        ("right", right.clone(), ""),
        ("again", right.clone(), "invalid_client"),
        ("the same jti with other claims", hill.assertion(|claims| claims["exp"] = json!(now + 61)), "invalid_client"),
        (
            "another jti, for the endpoint",
            hill.assertion(|claims| {
                claims["jti"] = json!("two");
                claims["aud"] = json!([endpoint, "https://elsewhere.test"]);
            }),
            "",
        ),
        ("for somebody else", hill.assertion(|claims| claims["aud"] = json!(AUDIENCE)), "invalid_client"),
        (
            "no audience",
            hill.assertion(|claims| drop(claims.as_object_mut().map(|c| c.remove("aud")))),
            "invalid_client",
        ),
        ("no jti", hill.assertion(|claims| drop(claims.as_object_mut().map(|c| c.remove("jti")))), "invalid_client"),
        ("no end", hill.assertion(|claims| drop(claims.as_object_mut().map(|c| c.remove("exp")))), "invalid_client"),
        ("expired", hill.assertion(|claims| claims["exp"] = json!(now - 60)), "invalid_client"),
        (
            "too long",
            hill.assertion(|claims| {
                claims["jti"] = json!("3");
                claims["exp"] = json!(now + 3_700);
            }),
            "invalid_client",
        ),
        ("another issuer", hill.assertion(|claims| claims["iss"] = json!("dome: east")), "invalid_client"),
        ("another client", hill.assertion(|claims| claims["sub"] = json!("dome: east")), "invalid_client"),
        ("nobody", hill.assertion(|claims| claims["sub"] = json!("nobody")), "invalid_client"),
        ("another key", other.jwt(&json!({ "alg": "EdDSA" }), &json!({ "sub": "archive" })), "invalid_client"),
        ("no token", "nonsense".to_owned(), "invalid_client"),
    ] {
        let answer = hill.ask_signed(&token).await;
        assert_eq!(answer.error(), error, "{what}");
        assert_eq!(answer.status == 200, error.is_empty(), "{what}");
    }
    let fresh = hill.assertion(|claims| claims["jti"] = json!("four"));
    let form = [("client_assertion_type", "urn:something:else"), ("client_assertion", &fresh)];
    assert_eq!(hill.ask(None, &form).await.error(), "invalid_request");
    assert_eq!(hill.ask(None, &form[1..]).await.error(), "invalid_request", "without its type");
    let form = [("client_assertion_type", ASSERTION), ("client_assertion", &fresh), ("client_id", "dome: east")];
    assert_eq!(hill.ask(None, &form).await.error(), "invalid_client", "two names");
    assert_eq!(hill.ask(None, &[&form[..2], &[("client_id", "archive")]].concat()).await.status, 200);
}

#[tokio::test]
async fn a_client_has_the_scopes_and_audiences_that_it_may_have_and_is_its_own_subject() {
    let hill = hill().await;
    let header = basic("dome: east", hill.secrets[0].reveal());
    for (form, scope, error) in [
        // All that it may have, of what the app grants.
        (vec![], "exposures:read dome:move", ""),
        (vec![("scope", "dome:move")], "dome:move", ""),
        (vec![("scope", "dome:move people:manage")], "dome:move", ""),
        (vec![("scope", "logs:read")], "", "invalid_scope"),
        (vec![("scope", "\"")], "", "invalid_scope"),
        (vec![("resource", AUDIENCE)], "exposures:read dome:move", ""),
        (vec![("resource", OTHER_AUDIENCE)], "exposures:read dome:move", ""),
        (vec![("resource", "https://elsewhere.test")], "", "invalid_target"),
    ] {
        let answer = hill.ask(Some(&header), &form).await;
        assert_eq!((answer.error(), answer.text("scope").as_str()), (error, scope), "{form:?}");
        assert_eq!(answer.header("cache-control"), "no-store");
        if error.is_empty() {
            assert!(answer.body.get("refresh_token").is_none(), "RFC 6749 section 4.4.3");
            let audience = form.first().filter(|pair| pair.0 == "resource").map_or(AUDIENCE, |pair| pair.1);
            let keys = hill.house.sessions.keys().access.current().key_set();
            let verifier = vorsel::Verifier::new(keys, vorsel::Expectations::access(ISSUER, audience));
            let checked = verifier.check(answer.text("access_token"), hill.house.now()).expect("an accepted token");
            let claims = checked.claims();
            assert_eq!((claims.subject(), claims.client_id()), (Some("dome: east"), Some("dome: east")));
            assert_eq!(claims.session_id(), None);
        }
    }
    let bare = hill.ask(Some(&basic("bare", hill.secrets[0].reveal())), &[]).await;
    assert_eq!((bare.status, bare.text("scope").as_str()), (200, ""), "no scopes unless they are said");
}

#[tokio::test]
async fn a_sign_in_is_by_a_registered_client_within_its_scopes_and_never_as_one() {
    let hill = hill().await;
    let start = async |sign_in| hill.house.sessions.start(sign_in).await.map(|reply| reply.scope);
    let as_client = start(SignIn::new("dome: east", "desk")).await.expect_err("RFC 9068 section 5");
    assert!(matches!(as_client, StartError::SubjectIsClient { .. }), "{as_client}");
    for client in ["dome: east", "nobody"] {
        let error = start(SignIn::new("obs-0017", client)).await.expect_err(client);
        assert!(matches!(error, StartError::UnknownClient { .. }), "{error}");
    }
    assert_eq!(start(SignIn::new("obs-0017", "desk")).await.expect("a session"), "exposures:read dome:move");
    let asked = |text| SignIn::new("obs-0017", "desk").scopes(scopes(text));
    assert_eq!(start(asked("dome:move")).await.expect("a session"), "dome:move");
    assert!(matches!(start(asked("dome:move logs:read")).await, Err(StartError::Scopes { .. })));

    let reply = hill.house.sessions.start(asked("dome:move")).await.expect("a session");
    let form = |scope| {
        [
            ("grant_type", "refresh_token"),
            ("client_id", "desk"),
            ("refresh_token", reply.refresh_token.as_str()),
            ("scope", scope),
        ]
    };
    assert_eq!(
        hill.wire.post("/oauth/token", &form("exposures:read")).await.error(),
        "invalid_scope",
        "above its ceiling"
    );
    assert_eq!(hill.wire.post("/oauth/token", &form("dome:move")).await.text("scope"), "dome:move");
}

#[tokio::test]
async fn introspection_tells_what_stands_and_nothing_else() {
    let hill = hill().await;
    let header = basic("dome: east", hill.secrets[0].reveal());
    let ask = async |header: &str, token: &str| {
        let header = ("authorization", header);
        hill.wire.post_with("/oauth/introspect", header, &[("token", token)]).await
    };
    let reply = hill.house.sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session");
    let access = ask(&header, &reply.access_token).await;
    assert_eq!((access.status, access.header("cache-control")), (200, "no-store"));
    let now = hill.house.now().as_micros() / 1_000_000;
    let sid = access.text("sid");
    let jti = access.text("jti");
    assert!(!sid.is_empty() && !jti.is_empty());
    assert_eq!(
        access.body,
        json!({
            "active": true, "token_type": "Bearer", "iss": ISSUER, "aud": AUDIENCE, "sub": "obs-0017",
            "client_id": "desk", "scope": "exposures:read dome:move", "exp": now + 300, "iat": now, "auth_time": now,
            "sid": sid, "jti": jti,
        })
    );
    let refresh = ask(&header, &reply.refresh_token).await;
    assert_eq!((&refresh.body["active"], refresh.text("sid")), (&json!(true), sid.clone()));

    let machine = hill.ask(Some(&header), &[("resource", OTHER_AUDIENCE)]).await.text("access_token");
    assert_eq!(ask(&header, &machine).await.body["aud"], OTHER_AUDIENCE, "an audience of its own");

    let nothing = json!({ "active": false });
    let form = [("grant_type", "refresh_token"), ("client_id", "desk"), ("refresh_token", &reply.refresh_token)];
    let next = hill.wire.post("/oauth/token", &form).await.text("refresh_token");
    assert_eq!(ask(&header, &reply.refresh_token).await.body, nothing, "it was spent");
    assert_eq!(ask(&header, &next).await.body["active"], true, "and asking was no replay");
    for token in ["nonsense", "a.b.c", &next[1..], &reply.access_token[..40]] {
        assert_eq!(ask(&header, token).await.body, nothing, "{token}");
    }
    hill.house.sessions.end(vorsel::store::Which::One(&sid)).await.expect("an end");
    assert_eq!(ask(&header, &next).await.body, nothing);
    assert_eq!(ask(&header, &reply.access_token).await.body, nothing, "its session is over in the store");

    for (client, status, error) in [("bare", 400, "unauthorized_client"), ("nobody", 401, "invalid_client")] {
        let answer = ask(&basic(client, hill.secrets[0].reveal()), &machine).await;
        assert_eq!((answer.status, answer.error()), (status, error), "{client}");
    }
    let form = [("client_id", "desk"), ("token", machine.as_str())];
    assert_eq!(hill.wire.post("/oauth/introspect", &form).await.error(), "unauthorized_client", "a public one");
    hill.house.clock.advance(std::time::Duration::from_secs(310));
    assert_eq!(ask(&header, &machine).await.body, nothing, "expired");
}

#[tokio::test]
async fn metadata_tell_how_registered_clients_show_who_they_are() {
    let hill = hill().await;
    let metadata = hill.wire.get("/.well-known/oauth-authorization-server").await.body;
    assert_eq!(metadata["grant_types_supported"], json!(["refresh_token", "client_credentials"]));
    let ways = json!(["none", "client_secret_basic", "client_secret_post", "private_key_jwt"]);
    assert_eq!(metadata["token_endpoint_auth_methods_supported"], ways);
    assert_eq!(metadata["introspection_endpoint_auth_methods_supported"], json!(ways.as_array().expect("ways")[1..]));
    let algorithms = metadata["token_endpoint_auth_signing_alg_values_supported"].as_array().expect("algorithms");
    assert!(algorithms.contains(&json!("EdDSA")) && !algorithms.contains(&json!("HS256")), "{algorithms:?}");
}

#[tokio::test]
async fn a_one_purpose_token_is_good_once_for_what_it_is_for_and_is_no_access_token() {
    let hill = hill().await;
    let sessions = &hill.house.sessions;
    let purpose = vorsel::Purpose { name: "reset-password", subject: "obs-0017", bound_to: "hash-1" };
    let lasting = vorsel::Lifetime::minutes(15);
    let token = sessions.one_purpose(purpose, lasting).expect("a token");
    assert!(sessions.one_purpose(purpose, vorsel::Lifetime::minutes(61)).is_err(), "minutes");
    assert!(sessions.access_tokens().check(&token).is_err());
    let form = [("grant_type", "refresh_token"), ("client_id", "desk"), ("refresh_token", token.as_str())];
    assert_eq!(hill.wire.post("/oauth/token", &form).await.error(), "invalid_grant");
    let header = basic("dome: east", hill.secrets[0].reveal());
    let asked = hill.wire.post_with("/oauth/introspect", ("authorization", &header), &[("token", &token)]).await;
    assert_eq!(asked.body, json!({ "active": false }));
    let access = sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session").access_token;
    assert!(sessions.purpose_shown(&access, "reset-password").is_err());

    let shown = || sessions.purpose_shown(&token, "reset-password").expect("it is good");
    assert!(sessions.purpose_shown(&token, "confirm-address").is_err());
    let changed = sessions.redeem(shown(), "hash-2").await.expect_err("another password").to_string();
    assert_eq!(changed, "the one-purpose token of \"obs-0017\" is bound to something else");
    assert_eq!(sessions.redeem(shown(), "hash-1").await.expect("used"), "obs-0017");
    assert!(matches!(sessions.redeem(shown(), "hash-1").await, Err(vorsel::RedeemError::Used { .. })));
    hill.house.clock.advance(std::time::Duration::from_secs(1_000));
    assert!(sessions.purpose_shown(&token, "reset-password").is_err(), "expired");
}
