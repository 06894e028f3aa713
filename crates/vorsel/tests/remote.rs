//! Other issuers: their keys are fetched within bounds whatever they answer, and their tokens are worth what the app says.

use std::sync::Arc;
use std::time::{Duration, Instant};

use http::Request;
use serde_json::json;
use vorsel::store::{MemoryStore, SessionStore};
use vorsel::{
    AccessPlan, AccessTokens, Algorithm, Caller, Expectations, Guard, Issued, IssuerKeys, KeySet, Lifetime,
    LiveRevocations, NoOwn, Reading, RemoteIssuer, RemoteIssuerBuilder, RemoteIssuerError, RemoteLimits, Routes,
    Verifier, WhenSilent,
};

mod common;
#[path = "common/lab.rs"]
mod lab;
#[path = "common/signed.rs"]
mod signed;
use common::{AUDIENCE, ISSUER};
use lab::{Key, Lab, Mood, key, token_of};
use signed::Pen;

const SOON: Duration = Duration::from_secs(5);

/// Limits that a test can wait for.
fn quick() -> RemoteLimits {
    let mut limits = RemoteLimits::default();
    limits.within = Duration::from_millis(500);
    (limits.least_kept, limits.longest_kept) = (Duration::from_millis(200), Duration::from_millis(400));
    limits.between_unknown = Duration::from_millis(300);
    limits
}

fn followed(lab: &Lab) -> RemoteIssuerBuilder {
    RemoteIssuer::builder(&lab.url, AUDIENCE)
}

fn plan() -> AccessPlan {
    AccessPlan::builder()
        .role("observer", &[])
        .role("visitor", &[])
        .need("GET", "/any", "signed-in")
        .need("GET", "/observers", "role observer")
        .need("GET", "/own/{person}", "path.person == sub")
        .need("GET", "/not-visitors", "not role visitor")
        .need("GET", "/ours", "issuer \"https://id.skarnhill.test\"")
        .build()
        .expect("a plan")
}

/// A guard of our own key and of others.
fn guard(own: &Key, others: &[&RemoteIssuer]) -> Guard<NoOwn> {
    let keys = KeySet::new([own.signing().verifying_key()]);
    let guard = Guard::builder(Verifier::new(keys, Expectations::access(ISSUER, AUDIENCE)), plan());
    others.iter().fold(guard, |guard, other| guard.also((*other).clone())).build().expect("a guard")
}

async fn said(guard: &Guard<NoOwn>, path: &str, token: &str) -> String {
    let request = Request::get(path).header("authorization", format!("Bearer {token}")).body(()).expect("a request");
    match guard.decide(&request, guard.now()).await {
        Ok(Some(caller)) => format!("200 {}", caller.subject()),
        Ok(None) => "200 nobody".to_owned(),
        Err(stop) => format!("{} {}", stop.answer("x").status, stop.code()),
    }
}

async fn soon(what: &str, mut holds: impl AsyncFnMut() -> bool) {
    let until = Instant::now() + SOON;
    while !holds().await {
        assert!(Instant::now() < until, "not in time: {what}");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

/// Whether an issuer of this mood is ready, and that it comes back when the mood is over.
async fn answers_so(mood: Mood, is_ready: bool, reason: &str) {
    let own = key("own");
    let (signing, lab) = (key("k1"), Lab::open(&[]).await);
    lab.publishes(&[&signing]);
    lab.becomes(mood.clone());
    // Long enough for what is too large to come, on a busy machine too.
    let mut limits = quick();
    limits.within = Duration::from_millis(1_500);
    let remote = followed(&lab).limits(limits).follow().expect("an issuer to follow");
    let guard = guard(&own, &[&remote]);
    assert_eq!(remote.ready_within(Duration::from_secs(2)).await, is_ready, "{mood:?}");
    let expected = match (is_ready, &mood) {
        (true, _) => "200 obs-0017",
        // It has answered, and has no key that anybody could go by.
        (false, Mood::SharedSecret) => "401 unknown-key",
        (false, _) => "503 unanswered",
    };
    assert_eq!(said(&guard, "/any", &lab.token(&signing, "obs-0017", &[])).await, expected, "{mood:?}");
    assert_eq!(said(&guard, "/any", &token_of(ISSUER, &own, "obs-0017", &[])).await, "200 obs-0017", "ours");
    if !is_ready {
        let failure = remote.figures().failure.unwrap_or_default();
        assert!(failure.contains(reason), "{mood:?}: {failure}");
        assert!(lab.bytes() < 16 * 1024 * 1024, "{} bytes", lab.bytes());
        assert!(lab.fetches() <= 8, "{mood:?}: {} fetches", lab.fetches());
        // It is found again when it is well.
        lab.becomes(Mood::Good);
        let limit = Duration::from_secs(10);
        assert!(remote.ready_within(limit).await, "{mood:?}: {:?}", remote.figures());
    }
}

/// Whatever is said first: other expectations take nothing away that was narrowed down.
#[tokio::test(flavor = "multi_thread")]
async fn other_expectations_keep_what_the_builder_was_told() {
    let (own, signing, lab) = (key("own"), key("k1"), Lab::open(&[]).await);
    lab.publishes(&[&signing]);
    let token = lab.token(&signing, "obs-0017", &["astronomers"]);
    let expectations = || Expectations::access("https://elsewhere.skarnhill.test", AUDIENCE);
    let ours = || Reading::default().role("astronomers", "observer");
    let used = [signing.signing().algorithm()];
    for (builder, expected) in [
        (followed(&lab).reading(ours()).expectations(expectations()), "200 obs-0017"),
        (followed(&lab).expectations(expectations()).reading(ours()), "200 obs-0017"),
        (followed(&lab).reading(ours()).algorithms(used).expectations(expectations()), "200 obs-0017"),
        (
            followed(&lab).reading(ours()).algorithms([Algorithm::Ps512]).expectations(expectations()),
            "401 algorithm-not-allowed",
        ),
    ] {
        let remote = builder.limits(quick()).follow().expect("an issuer to follow");
        assert!(remote.ready_within(SOON).await);
        assert_eq!(said(&guard(&own, &[&remote]), "/observers", &token).await, expected);
    }
    let large = followed(&lab).skew(Duration::from_secs(301)).follow();
    assert!(matches!(large, Err(RemoteIssuerError::Skew(_))), "{large:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_an_issuer_answers_has_an_end_and_is_told() {
    let moods = [
        (Mood::Good, true, ""),
        (Mood::Slow(Duration::from_millis(100)), true, ""),
        (Mood::RedirectingAtHome, true, ""),
        (Mood::Slow(Duration::from_secs(60)), false, "cannot fetch"),
        (Mood::Failing, false, "but found 500"),
        (Mood::Huge, false, "bytes from"),
        (Mood::Endless, false, "bytes from"),
        (Mood::Redirecting, false, "but found 307"),
        (Mood::Lying, false, "but found that of \"https://id.skarnhill.test\""),
        (Mood::Html, false, "but found text/html"),
        (Mood::Nonsense, false, "missing field"),
        (Mood::SharedSecret, false, ""),
    ];
    futures_util::future::join_all(moods.map(|(mood, is_ready, reason)| answers_so(mood, is_ready, reason))).await;
    let gone = RemoteIssuer::builder("http://127.0.0.1:9", AUDIENCE).limits(quick()).follow().expect("an address");
    assert!(!gone.ready_within(Duration::from_millis(200)).await);
    for wrong in ["http://id.lab.skarnhill.test", "id.lab.skarnhill.test", ""] {
        assert!(RemoteIssuer::builder(wrong, AUDIENCE).follow().is_err(), "{wrong}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn keys_are_followed_through_rolls_and_outages_for_the_stated_times() {
    let (own, one, two) = (key("own"), key("k1"), key("k2"));
    let lab = Lab::open(&[&one]).await;
    let mut limits = quick();
    limits.through_outage = Duration::from_secs(2);
    let remote = followed(&lab).limits(limits).follow().expect("an issuer");
    assert!(remote.ready_within(SOON).await);
    let guard = guard(&own, &[&remote]);
    let (old, new) = (lab.token(&one, "obs-0017", &[]), lab.token(&two, "obs-0017", &[]));
    assert_eq!(said(&guard, "/any", &old).await, "200 obs-0017");

    // A key that nobody has heard of is looked for at once.
    tokio::time::sleep(limits.between_unknown).await;
    lab.publishes(&[&one, &two]);
    assert_eq!(said(&guard, "/any", &new).await, "200 obs-0017");
    // One that the set no longer has stops working, also for those who were let in before.
    lab.publishes(&[&two]);
    soon("the old key is gone", async || said(&guard, "/any", &old).await == "401 unknown-key").await;
    assert_eq!(said(&guard, "/any", &new).await, "200 obs-0017");
    // An old set that comes back is what the issuer says; the new one is found again.
    lab.publishes(&[&one]);
    soon("the old set", async || said(&guard, "/any", &old).await == "200 obs-0017").await;
    lab.publishes(&[&two]);
    soon("the new set", async || said(&guard, "/any", &new).await == "200 obs-0017").await;

    lab.becomes(Mood::Failing);
    tokio::time::sleep(Duration::from_millis(1_000)).await;
    assert_eq!(said(&guard, "/any", &new).await, "200 obs-0017", "it is kept through an outage");
    assert!(remote.figures().failure.is_some());
    soon("but not for ever", async || said(&guard, "/any", &new).await == "503 unanswered").await;
    lab.becomes(Mood::Good);
    soon("it is back", async || said(&guard, "/any", &new).await == "200 obs-0017").await;
    // Keys that are taken back are none, and that is an answer.
    lab.publishes(&[]);
    soon("taken back", async || said(&guard, "/any", &new).await == "401 unknown-key").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn made_up_key_ids_are_no_cannon() {
    let (own, signing) = (key("own"), key("k1"));
    let lab = Lab::open(&[&signing]).await;
    // With the limits that apps have if they set none.
    let remote = followed(&lab).follow().expect("an issuer");
    assert!(remote.ready_within(SOON).await);
    let keys = KeySet::new([own.signing().verifying_key()]);
    let plan = AccessPlan::builder().need("GET", "/any", "signed-in").build().expect("a plan");
    let own = Verifier::new(keys, Expectations::access(ISSUER, AUDIENCE));
    let guard = Guard::<NoOwn>::builder(own, plan).also(remote).build().expect("a guard");
    let routes = Routes::new().route("/any", axum::routing::get(async |caller: Caller| caller.subject().to_owned()));
    let app = routes.guard(guard).expect("an app");
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let at = format!("http://{}/any", listener.local_addr().expect("an address"));
    tokio::spawn(async move { axum::serve(listener, app).await });
    let asked = async |http: &reqwest::Client, at: &str, token: &str| {
        let answer = http.get(at).bearer_auth(token).send().await.expect("an answer");
        let challenge = answer.headers().get("www-authenticate").map(|value| value.to_str().expect("text").to_owned());
        (answer.status().as_u16(), challenge.is_some_and(|text| text.contains("invalid_token")))
    };
    let before = lab.fetches();
    let flood = (0..64).map(|connection| {
        let (at, url) = (at.clone(), lab.url.clone());
        tokio::spawn(async move {
            // One request after the other goes by the one connection of each.
            let http = reqwest::Client::builder().no_proxy().build().expect("a client");
            let made_up = key("made-up");
            let token = token_of(&url, &made_up, "obs-0017", &[]);
            let (header, rest) = token.split_once('.').expect("segments");
            let text = String::from_utf8(vorsel::base64url::decode(header).expect("base64")).expect("text");
            for count in 0..157 {
                let header =
                    vorsel::base64url::encode(text.replace("made-up", &format!("made-up-{connection}-{count}")));
                let answer = asked(&http, &at, &format!("{header}.{rest}")).await;
                assert_eq!(answer, (401, true));
            }
        })
    });
    let begun = Instant::now();
    for connection in flood.collect::<Vec<_>>() {
        connection.await.expect("no panic");
    }
    let allowed = 1 + begun.elapsed().as_secs() / 30;
    assert!(lab.fetches() - before <= allowed, "{} fetches for 10,048 made-up keys", lab.fetches() - before);
    let http = reqwest::Client::builder().no_proxy().build().expect("a client");
    assert_eq!(asked(&http, &at, &lab.token(&signing, "obs-0017", &[])).await, (200, false));
}

#[tokio::test(flavor = "multi_thread")]
async fn caching_headers_count_within_bounds() {
    let signing = key("k1");
    for (caching, least, most) in [("max-age=86400", 2, 5), ("max-age=0", 3, 8), ("no-store", 3, 8), ("", 2, 5)] {
        let lab = Lab::open(&[&signing]).await;
        lab.says(caching);
        let remote = followed(&lab).limits(quick()).follow().expect("an issuer");
        tokio::time::sleep(Duration::from_millis(1_200)).await;
        let fetches = lab.fetches();
        assert!((least..=most).contains(&fetches), "{caching:?}: {fetches} fetches in 1.2 s");
        assert!(remote.figures().fetches >= fetches && remote.figures().fetched_ago.is_some());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_hostile_issuer_passes_for_nobody_else() {
    let (own, lab_key, evil) = (key("k1"), key("k1"), key("k1"));
    let (lab, hostile) = (Lab::open(&[&lab_key]).await, Lab::open(&[&evil]).await);
    let [lab_remote, hostile_remote] = [&lab, &hostile].map(|lab| followed(lab).follow().expect("an issuer"));
    assert!(lab_remote.ready_within(SOON).await && hostile_remote.ready_within(SOON).await);
    let guard = guard(&own, &[&lab_remote, &hostile_remote]);
    assert_eq!(said(&guard, "/any", &hostile.token(&evil, "obs-0017", &[])).await, "200 obs-0017", "its own people");
    assert_eq!(said(&guard, "/own/obs-0017", &token_of(ISSUER, &own, "obs-0017", &[])).await, "200 obs-0017");

    let (mut attempts, names) = (0, [ISSUER, lab.url.as_str()]);
    let pads =
        |name: &str| [name.to_owned(), format!("{name}/"), name.to_uppercase(), format!(" {name}"), format!("{name}#")];
    for name in names {
        for said_name in pads(name) {
            for path in ["/any", "/own/obs-0017", "/ours", "/observers"] {
                let token = token_of(&said_name, &evil, "obs-0017", &["observer"]);
                let answer = said(&guard, path, &token).await;
                assert!(answer.starts_with("401 "), "{said_name:?} {path}: {answer}");
                attempts += 1;
            }
        }
    }
    // Two issuers in one token, another's header, and the issuer where another one reads it.
    let forged = |payload: &str| {
        let token = hostile.token(&evil, "obs-0017", &[]);
        let (header, rest) = token.split_once('.').expect("segments");
        let (_, signature) = rest.split_once('.').expect("segments");
        format!("{header}.{}.{signature}", vorsel::base64url::encode(payload))
    };
    for payload in [
        json!({ "iss": [ISSUER, hostile.url] }).to_string(),
        format!("{{\"iss\":{:?},\"iss\":{:?},\"sub\":\"obs-0017\"}}", hostile.url, ISSUER),
        format!("{{\"iss\":{:?},\"\\u0069ss\":{:?}}}", ISSUER, hostile.url),
        json!({ "sub": "obs-0017" }).to_string(),
        "not JSON".to_owned(),
    ] {
        assert!(said(&guard, "/any", &forged(&payload)).await.starts_with("401 "), "{payload}");
        attempts += 1;
    }
    // What it may do: its own people come in, and are nobody of ours.
    for path in ["/own/obs-0017", "/ours"] {
        assert_eq!(said(&guard, path, &hostile.token(&evil, "obs-0017", &["observer"])).await, "403 rule-not-met");
        attempts += 1;
    }
    assert!(attempts >= 30, "{attempts} attempts");
}

#[tokio::test(flavor = "multi_thread")]
async fn their_names_become_ours_and_unknown_ones_are_refused_or_lose() {
    let (own, signing) = (key("own"), key("k1"));
    let lab = Lab::open(&[&signing]).await;
    let strict = Reading::default().role("crew", "observer").role("guest", "visitor");
    for (reading, roles, path, expected) in [
        (strict.clone(), &["crew"][..], "/observers", "200 obs-0017"),
        (strict.clone(), &["guest"], "/observers", "403 rule-not-met"),
        (strict.clone(), &["crew"], "/not-visitors", "200 obs-0017"),
        (strict.clone(), &["guest"], "/not-visitors", "403 rule-not-met"),
        (strict.clone(), &["crew", "unheard-of"], "/observers", "401 malformed"),
        (strict.clone().drop_others(), &["crew", "unheard-of"], "/observers", "200 obs-0017"),
        (strict.clone().drop_others(), &["crew", "unheard-of"], "/not-visitors", "403 rule-not-met"),
        (strict.drop_others(), &["observer"], "/observers", "403 rule-not-met"),
    ] {
        let remote = followed(&lab).reading(reading).follow().expect("an issuer");
        assert!(remote.ready_within(SOON).await);
        let guard = guard(&own, &[&remote]);
        assert_eq!(said(&guard, path, &lab.token(&signing, "obs-0017", roles)).await, expected, "{roles:?} {path}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn any_jwt_is_an_access_token_only_where_that_is_said_and_only_if_it_is_no_other() {
    let (own, pen) = (key("own"), Pen::new());
    let lab = Lab::open(&[]).await;
    lab.publishes_text(
        json!({ "keys": [serde_json::to_value(pen.keys().to_public_jwk_set()["keys"][0].clone()).expect("JSON")] }),
    );
    let strict = followed(&lab).follow().expect("an issuer");
    let loose = Expectations::access_in_any_jwt("", AUDIENCE);
    let loose =
        followed(&lab).expectations(loose).reading(Reading::default().text_or_list()).follow().expect("an issuer");
    assert!(strict.ready_within(SOON).await && loose.ready_within(SOON).await);
    let [strict, loose] = [guard(&own, &[&strict]), guard(&own, &[&loose])];
    let claims = |more: serde_json::Value| {
        let mut claims =
            json!({ "iss": lab.url, "sub": "obs-0017", "aud": AUDIENCE, "exp": vorsel::now().as_secs() + 300 });
        claims.as_object_mut().expect("an object").extend(more.as_object().expect("an object").clone());
        claims
    };
    for (typ, more, by_strict, by_loose) in [
        (Some("JWT"), json!({}), "401 wrong-kind", "200 obs-0017"),
        (None, json!({ "scope": ["a", "b"], "roles": "observer" }), "401 wrong-kind", "200 obs-0017"),
        (Some("at+jwt"), json!({}), "401 missing-claim", "200 obs-0017"),
        (Some("refresh+jwt"), json!({}), "401 wrong-kind", "401 wrong-kind"),
        (None, json!({ "nonce": "n" }), "401 wrong-kind", "401 wrong-kind"),
        (None, json!({ "at_hash": "h" }), "401 wrong-kind", "401 wrong-kind"),
        (Some("JWT"), json!({ "c_hash": "h" }), "401 wrong-kind", "401 wrong-kind"),
        (None, json!({ "aud": "lab-desk" }), "401 wrong-kind", "401 wrong-audience"),
        (None, json!({ "exp": 1 }), "401 wrong-kind", "401 expired"),
    ] {
        let mut header = json!({ "alg": "EdDSA" });
        if let Some(typ) = typ {
            header["typ"] = typ.into();
        }
        let token = pen.jwt(&header, &claims(more.clone()));
        assert_eq!(said(&strict, "/any", &token).await, by_strict, "strict: {typ:?} {more}");
        assert_eq!(said(&loose, "/any", &token).await, by_loose, "loose: {typ:?} {more}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_revoked_of_our_people_says_nothing_of_theirs() {
    let (own, signing) = (key("own"), key("k1"));
    let lab = Lab::open(&[&signing]).await;
    let remote = followed(&lab).follow().expect("an issuer");
    assert!(remote.ready_within(SOON).await);
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let view = LiveRevocations::follow(store.clone()).await.expect("a view");
    let keys = KeySet::new([own.signing().verifying_key()]);
    let guard = Guard::builder(Verifier::new(keys, Expectations::access(ISSUER, AUDIENCE)), plan()).also(remote);
    let guard = guard.revocations(view.clone(), Duration::from_secs(10), WhenSilent::GoOn).build().expect("a guard");
    let tokens = AccessTokens::builder(ISSUER, AUDIENCE).keys(IssuerKeys::generate().expect("keys").access);
    let tokens = tokens.store(store).revocations(view).build().expect("tokens");
    let (ours, theirs) = (token_of(ISSUER, &own, "obs-0017", &[]), lab.token(&signing, "obs-0017", &[]));
    let other = lab.token(&signing, "obs-0018", &[]);
    tokens.revoke(Issued::To("obs-0017")).await.expect("revoked");
    assert_eq!(said(&guard, "/any", &ours).await, "401 revoked");
    assert_eq!(said(&guard, "/any", &theirs).await, "200 obs-0017");
    tokens.revoke_of(&lab.url, Issued::To("obs-0017"), Lifetime::minutes(60)).await.expect("revoked");
    assert_eq!(said(&guard, "/any", &theirs).await, "401 revoked");
    assert_eq!(said(&guard, "/any", &other).await, "200 obs-0018");
    tokens.revoke_of(&lab.url, Issued::ToAnybody, Lifetime::minutes(60)).await.expect("revoked");
    assert_eq!(said(&guard, "/any", &other).await, "401 revoked");
}

#[tokio::test]
async fn one_issuer_has_one_checker() {
    let own = key("own");
    let lab = Lab::open(&[&own]).await;
    let [one, other] = [0, 1].map(|_| followed(&lab).follow().expect("an issuer"));
    let verifier = || Verifier::new(KeySet::default(), Expectations::access(ISSUER, AUDIENCE));
    let ours = Verifier::new(KeySet::default(), Expectations::access(ISSUER, AUDIENCE));
    for (what, guard) in [
        ("twice", Guard::<NoOwn>::builder(verifier(), plan()).also(one.clone()).also(other)),
        ("ours", Guard::builder(verifier(), plan()).also(ours)),
    ] {
        let problems = guard.build().expect_err(what);
        assert!(problems.to_string().contains("one checker for each issuer"), "{problems}");
    }
    assert!(Guard::<NoOwn>::new(one, plan()).is_ok(), "an API that has no issuer of its own");
}
