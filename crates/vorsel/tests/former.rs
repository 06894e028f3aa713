//! Tokens of before a move: taken beside ours until a date, of our own people, and counted.

use std::sync::Arc;
use std::time::Duration;

use http::Request;
use serde_json::{Value, json};
use vorsel::store::{MemoryStore, SessionStore};
use vorsel::testing::StillClock;
use vorsel::{
    AccessDraft, AccessPlan, AccessTokens, Algorithm, Clock, Expectations, FormerTokens, Guard, Issued, IssuerKeys,
    KeySet, Kind, Lifetime, LiveRevocations, NoOwn, Reading, Secret, SigningKey, Timestamp, Verifier, WhenSilent,
    base64url,
};

const ISSUER: &str = "https://id.skarnhill.test";
const API: &str = "https://api.skarnhill.test";
static NOW: std::sync::LazyLock<Timestamp> = std::sync::LazyLock::new(|| vorsel::now().whole_secs());

/// What the team has signed with so far.
fn secret() -> Vec<u8> {
    (100..132).collect()
}

/// A token as yesterday's library has written it.
fn yesterdays(secret: &[u8], header: &Value, claims: &Value) -> String {
    let key = aws_lc_rs::hmac::Key::new(aws_lc_rs::hmac::HMAC_SHA256, secret);
    let [header, claims] = [header, claims].map(|part| base64url::encode(part.to_string()));
    let signature = aws_lc_rs::hmac::sign(&key, format!("{header}.{claims}").as_bytes());
    format!("{header}.{claims}.{}", base64url::encode(signature.as_ref()))
}

fn claims() -> Value {
    json!({ "sub": "obs-0017", "groups": "crew", "exp": NOW.as_secs() + 90_000 })
}

struct Move {
    guard: Guard<NoOwn>,
    former: FormerTokens<NoOwn>,
    tokens: AccessTokens,
    clock: Arc<StillClock>,
}

async fn moving() -> Move {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let (clock, keys) = (Arc::new(StillClock::at(*NOW)), IssuerKeys::generate().expect("keys"));
    let view = LiveRevocations::follow_by(store.clone(), clock.clone()).await.expect("a view");
    let tokens = AccessTokens::builder(ISSUER, API).keys(keys.access.clone()).store(store).revocations(view.clone());
    let tokens = tokens.clock(clock.clone()).build().expect("tokens");
    let plan = AccessPlan::builder().role("observer", &[]).need("GET", "/observers", "role observer");
    let plan = plan.need("GET", "/own/{who}", "path.who == sub").build().expect("a plan");
    let old = SigningKey::hmac(Algorithm::Hs256, Secret::new(secret())).expect("a secret of the right length");
    let reading = Reading::default().roles_in(&["groups"]).expect("a place").role("crew", "observer");
    let expectations = Expectations::danger_from_anyone_for_anyone(Kind::Plain).require("sub").reading(reading);
    let verifier = Verifier::new(KeySet::new([old.verifying_key()]), expectations);
    let former = FormerTokens::new(verifier, NOW.after(Duration::from_secs(86_400)));
    let ours = Verifier::new(keys.access.current().key_set(), Expectations::access(ISSUER, API));
    let guard = Guard::builder(ours, plan).former(former.clone()).clock(clock.clone());
    let guard = guard.revocations(view, Duration::from_secs(3_600), WhenSilent::GoOn).build().expect("a guard");
    Move { guard, former, tokens, clock }
}

impl Move {
    async fn said(&self, path: &str, token: &str) -> String {
        let request =
            Request::get(path).header("authorization", format!("Bearer {token}")).body(()).expect("a request");
        match self.guard.decide(&request, self.clock.now()).await {
            Ok(Some(caller)) => format!("200 {}", caller.subject()),
            Ok(None) => "200 nobody".to_owned(),
            Err(stop) => format!("{} {}", stop.answer("x").status, stop.code()),
        }
    }
}

#[tokio::test]
async fn yesterdays_tokens_are_taken_beside_ours_until_the_date_and_counted() {
    let hill = moving().await;
    let header = json!({ "alg": "HS256", "typ": "JWT" });
    let old = yesterdays(&secret(), &header, &claims());
    let ours =
        AccessDraft::of("obs-0018").audience(API).client("desk").lasting(Lifetime::minutes(5)).roles(["observer"]);
    let ours = hill.tokens.issue(&ours).expect("a token");
    assert_eq!(hill.said("/observers", &ours).await, "200 obs-0018");
    assert_eq!(hill.former.uses(), 0);
    assert_eq!(hill.said("/observers", &old).await, "200 obs-0017");
    assert_eq!(hill.said("/own/obs-0017", &old).await, "200 obs-0017", "they are our own people");
    assert_eq!(hill.former.uses(), 2);

    let mut admin = claims();
    admin["groups"] = "admin".into();
    let other: Vec<u8> = (0..32).collect();
    for (what, token, code) in [
        ("another secret", yesterdays(&other, &header, &claims()), "401 wrong-kind"),
        ("no algorithm", yesterdays(&secret(), &json!({ "alg": "none" }), &claims()), "401 wrong-kind"),
        ("nobody", yesterdays(&secret(), &header, &json!({ "exp": NOW.as_secs() + 300 })), "401 wrong-kind"),
        ("a role that nobody has named", yesterdays(&secret(), &header, &admin), "401 wrong-kind"),
        (
            "old",
            yesterdays(&secret(), &header, &json!({ "sub": "obs-0017", "exp": NOW.as_secs() - 60 })),
            "401 wrong-kind",
        ),
    ] {
        assert_eq!(hill.said("/observers", &token).await, code, "{what}");
    }
    assert_eq!(hill.former.uses(), 2);

    hill.clock.advance(Duration::from_secs(86_399));
    assert_eq!(hill.said("/observers", &old).await, "200 obs-0017");
    hill.clock.advance(Duration::from_secs(1));
    assert_eq!(hill.said("/observers", &old).await, "401 wrong-kind", "the date");
    assert_eq!(hill.former.uses(), 3);
}

#[tokio::test]
async fn they_are_revoked_as_ours_are() {
    let hill = moving().await;
    let mut issued = claims();
    issued["iat"] = (NOW.as_secs() - 60).into();
    let old = yesterdays(&secret(), &json!({ "alg": "HS256" }), &issued);
    assert_eq!(hill.said("/observers", &old).await, "200 obs-0017");
    hill.tokens.revoke(Issued::To("obs-0017")).await.expect("revoked");
    assert_eq!(hill.said("/observers", &old).await, "401 revoked");
}

#[test]
fn a_secret_shorter_than_its_hash_stays_refused() {
    assert!(SigningKey::hmac(Algorithm::Hs256, Secret::new(secret()[..31].to_vec())).is_err());
}
