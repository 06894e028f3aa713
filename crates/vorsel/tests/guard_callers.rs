//! Who calls: a person, a client for itself, a person by a client; whatever framework the request comes in, and with keys that
//! are swapped under the running guard.

use std::error::Error;

use async_trait::async_trait;
use http::request::Parts;
use http::{HeaderName, Request};
use vorsel::{
    AccessDraft, AccessPlan, Algorithm, ApiKeyHash, ApiKeyOwner, ApiKeys, Checker, Expectations, Grant, Guard, Issuer,
    Keyring, Lifetime, LiveKeySet, NoOwn, RequestHead, Scopes, SigningKey, Timestamp,
};

const ISSUER: &str = "https://id.skarnhill.test";
const API: &str = "https://api.skarnhill.test";
const NOW: Timestamp = Timestamp::from_secs(1_700_000_000);
const PERSON: (&str, &str) = ("obs-0017", "desk");
const MACHINE: (&str, &str) = ("weather-feed", "weather-feed");

/// The keys are their owners' names: `client dome-controller` and so on.
struct Book;

#[async_trait]
impl ApiKeys<NoOwn> for Book {
    async fn owner(&self, hash: &ApiKeyHash) -> Result<Option<ApiKeyOwner<NoOwn>>, Box<dyn Error + Send + Sync>> {
        let grant = Grant { roles: vec!["operator".to_owned()], scopes: Scopes::default(), own: NoOwn {} };
        let is = |key: &str| *hash == ApiKeyHash::of(key);
        let owners = [
            ("client dome-controller", ApiKeyOwner::client("dome-controller", grant.clone())),
            ("client weather-feed", ApiKeyOwner::client("weather-feed", grant.clone())),
            ("client obs-0017", ApiKeyOwner::client("obs-0017", grant.clone())),
            ("subject obs-0017", ApiKeyOwner::subject("obs-0017", grant.clone())),
            ("subject weather-feed", ApiKeyOwner::subject("weather-feed", grant)),
        ];
        Ok(owners.into_iter().find(|(key, _)| is(key)).map(|(_, owner)| owner))
    }
}

fn key() -> Keyring {
    SigningKey::generate(Algorithm::EdDsa).expect("a key").into()
}

fn draft((subject, client): (&str, &str)) -> AccessDraft {
    AccessDraft::of(subject).audience(API).client(client).lasting(Lifetime::minutes(5))
}

fn token(key: &Keyring, draft: &AccessDraft) -> String {
    Issuer::new(ISSUER, key.clone()).access(draft, "t1", NOW).expect("a token")
}

fn plan() -> AccessPlan {
    AccessPlan::builder()
        .role("operator", &[])
        .need("GET", "/own/{who}", "path.who == sub")
        .need("GET", "/dome", "client dome-controller")
        .need("GET", "/both/{who}", "path.who == sub and client dome-controller and credential api-key")
        .need("GET", "/operators", "role operator")
        .need("GET", "/anybody", "signed-in")
        .build()
        .expect("a plan")
}

fn guard(keys: impl Into<LiveKeySet>) -> Guard<NoOwn> {
    let checker = Checker::new(keys, Expectations::access(ISSUER, API));
    Guard::builder(checker, plan()).api_keys("x-hill-key", Book).build().expect("a guard")
}

/// What the guard says: who gets through, or why nobody does.
async fn said(guard: &Guard<NoOwn>, path: &str, token: Option<&str>, key: Option<&str>) -> String {
    let mut request = Request::get(path);
    if let Some(token) = token {
        request = request.header("authorization", format!("Bearer {token}"));
    }
    if let Some(key) = key {
        request = request.header("x-hill-key", key);
    }
    match guard.decide(&request.body(()).expect("a request"), NOW).await {
        Ok(Some(caller)) => format!("{} key of {}", caller.subject(), caller.key_client().unwrap_or("nobody")),
        Ok(None) => "nobody".to_owned(),
        Err(stop) => stop.code().to_owned(),
    }
}

#[tokio::test]
async fn a_person_a_client_and_a_person_by_a_client_are_told_apart() {
    let signing = key();
    let guard = guard(signing.clone());
    let (person, machine) = (token(&signing, &draft(PERSON)), token(&signing, &draft(MACHINE)));
    let foreign_looking = token(&signing, &draft(("obs-0017", "obs-0017")));
    for (path, token, key, expected) in [
        ("/own/obs-0017", Some(&person), None, "obs-0017 key of nobody"),
        ("/own/obs-0017", None, Some("subject obs-0017"), "obs-0017 key of nobody"),
        ("/own/obs-0017", Some(&person), Some("subject obs-0017"), "obs-0017 key of nobody"),
        // A client is nobody of ours, whatever its name.
        ("/own/weather-feed", Some(&machine), None, "rule-not-met"),
        ("/own/obs-0017", Some(&foreign_looking), None, "rule-not-met"),
        ("/own/obs-0017", None, Some("client obs-0017"), "rule-not-met"),
        ("/own/obs-0017", Some(&person), Some("client obs-0017"), "obs-0017 key of obs-0017"),
        ("/dome", None, Some("client dome-controller"), "dome-controller key of nobody"),
        ("/dome", Some(&person), Some("client dome-controller"), "obs-0017 key of dome-controller"),
        ("/dome", Some(&person), None, "rule-not-met"),
        ("/dome", None, Some("client weather-feed"), "rule-not-met"),
        ("/both/obs-0017", Some(&person), Some("client dome-controller"), "obs-0017 key of dome-controller"),
        ("/both/obs-0017", Some(&person), Some("client weather-feed"), "rule-not-met"),
        ("/both/obs-0017", None, Some("client dome-controller"), "rule-not-met"),
        // What the key is granted is no grant to the person.
        ("/operators", None, Some("client dome-controller"), "dome-controller key of nobody"),
        ("/operators", Some(&person), Some("client dome-controller"), "rule-not-met"),
        // Two callers at once.
        ("/anybody", Some(&machine), Some("client weather-feed"), "weather-feed key of nobody"),
        ("/anybody", Some(&machine), Some("client dome-controller"), "credentials-disagree"),
        ("/anybody", Some(&machine), Some("subject weather-feed"), "credentials-disagree"),
        ("/anybody", Some(&machine), Some("subject obs-0017"), "credentials-disagree"),
        ("/anybody", Some(&person), Some("subject weather-feed"), "credentials-disagree"),
        ("/anybody", Some(&person), Some("nobody's"), "unknown-api-key"),
    ] {
        let seen = said(&guard, path, token.map(String::as_str), key).await;
        assert_eq!(seen, expected, "{path} {key:?}");
    }
}

#[tokio::test]
async fn a_token_that_is_bound_to_a_key_is_refused_without_a_proof_of_it() {
    let signing = key();
    let guard = guard(signing.clone());
    let bound = token(&signing, &draft(PERSON).bound_to("0ZcOCORZNYy-DWpqq30jZyJGHTN0d2HglBV3uiguA4I"));
    for _ in 0..2 {
        assert_eq!(said(&guard, "/anybody", Some(&bound), None).await, "unproven-key");
    }
}

#[tokio::test]
async fn public_keys_are_swapped_under_a_running_guard() {
    let (old, new) = (key(), key());
    let keys = LiveKeySet::new(old.key_set());
    let guard = guard(keys.clone());
    let tokens = [token(&old, &draft(PERSON)), token(&new, &draft(PERSON))];
    let both = async || {
        [said(&guard, "/anybody", Some(&tokens[0]), None).await, said(&guard, "/anybody", Some(&tokens[1]), None).await]
    };
    let through = "obs-0017 key of nobody";
    assert_eq!(both().await, [through, "unknown-key"]);
    keys.set(old.key_set().and(new.key_set()));
    assert_eq!(both().await, [through, through]);
    // A key that is gone takes the tokens along that were seen before.
    keys.set(new.key_set());
    assert_eq!(both().await, ["unknown-key", through]);
}

/// A request as a framework with types of its own might keep it.
struct Lines(Vec<(&'static str, String)>);

impl RequestHead for Lines {
    fn method(&self) -> &str {
        "GET"
    }

    fn path(&self) -> &str {
        &self.0[0].1
    }

    fn header<'r>(&'r self, name: &HeaderName, each: &mut dyn FnMut(&'r [u8])) {
        self.0.iter().filter(|(known, _)| name == known).for_each(|(_, value)| each(value.as_bytes()));
    }

    fn to_parts(&self) -> Parts {
        let request =
            self.0[1..].iter().fold(Request::get(self.path()), |request, (name, value)| request.header(*name, value));
        request.body(()).expect("a request").into_parts().0
    }
}

#[tokio::test]
async fn a_request_of_another_framework_is_decided_alike() {
    let signing = key();
    let guard = guard(signing.clone());
    let bearer = format!("Bearer {}", token(&signing, &draft(PERSON)));
    let key = "client dome-controller".to_owned();
    for (path, headers, expected) in [
        ("/both/obs-0017", vec![("authorization", bearer.clone()), ("x-hill-key", key)], "passed"),
        ("/both/obs-0017", vec![("authorization", bearer.clone())], "rule-not-met"),
        ("/anybody", vec![("authorization", bearer.clone()), ("authorization", bearer)], "bad-header"),
        ("/cellar", vec![], "no-rule"),
    ] {
        let lines = Lines([vec![(":path", path.to_owned())], headers].concat());
        let alike = guard.decide(&lines.to_parts(), NOW).await.map(drop).map_err(|stop| stop.code());
        let seen = guard.decide(&lines, NOW).await.map(drop).map_err(|stop| stop.code());
        assert_eq!((seen.err().unwrap_or("passed"), alike), (expected, seen), "{path}");
    }
}
