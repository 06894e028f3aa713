//! Callers for tests: real tokens, really checked; and tokens as no issuer of ours would make them.
#![allow(dead_code, reason = "each test uses its part")]

use std::time::Duration;

use serde_json::{Value, json};
use vorsel_core::{
    AccessDraft, Algorithm, Checked, Expectations, Issuer, KeySet, Lifetime, NoOwn, Object, Scopes, Secret, SigningKey,
    Timestamp, Verifier, base64url,
};

pub(crate) const ISSUER: &str = "https://id.skarnhill.test";
pub(crate) const AUDIENCE: &str = "https://api.skarnhill.test";
pub(crate) const NOW: Timestamp = Timestamp::from_secs(1_700_000_000);

pub(crate) fn secret() -> SigningKey {
    SigningKey::hmac(Algorithm::Hs256, Secret::new((0..32).collect())).expect("a secret").named("hill")
}

pub(crate) fn verifier() -> Verifier {
    let expectations = Expectations::access(ISSUER, AUDIENCE).skew(Duration::ZERO).expect("no skew");
    Verifier::new(KeySet::new([secret().verifying_key()]), expectations)
}

pub(crate) fn header() -> Value {
    json!({ "alg": "HS256", "typ": "at+jwt", "kid": "hill" })
}

pub(crate) fn claims() -> Value {
    json!({
        "iss": ISSUER, "aud": AUDIENCE, "sub": "obs-0017", "client_id": "desk", "jti": "t1",
        "iat": 1_699_999_900, "exp": 1_700_000_100, "roles": ["observer"], "training": 2,
    })
}

/// Signs any two texts with the secret that the verifier trusts, as no issuer of ours would.
pub(crate) fn signed(header: impl AsRef<[u8]>, payload: impl AsRef<[u8]>) -> String {
    let input = format!("{}.{}", base64url::encode(header), base64url::encode(payload));
    let key: Vec<u8> = (0..32).collect();
    let key = aws_lc_rs::hmac::Key::new(aws_lc_rs::hmac::HMAC_SHA256, &key);
    format!("{input}.{}", base64url::encode(aws_lc_rs::hmac::sign(&key, input.as_bytes())))
}

pub(crate) fn with(mut object: Value, member: &str, value: Value) -> String {
    object[member] = value;
    object.to_string()
}

pub(crate) fn without(mut object: Value, member: &str) -> String {
    object.as_object_mut().expect("an object").remove(member);
    object.to_string()
}

/// The codes of the full list, after making sure that the fast path says the same.
pub(crate) fn codes(verifier: &Verifier, token: impl AsRef<[u8]>, now: Timestamp) -> Vec<&'static str> {
    let findings = verifier.examine::<Object>(&token, now);
    let failed: Vec<_> = findings.refused_for().collect();
    match verifier.check_as::<Object>(&token, now) {
        Ok(checked) => assert_eq!(findings.accepted(), Some(&checked)),
        Err(first) => {
            assert!(findings.accepted().is_none());
            assert_eq!(Some(&*first), failed.first().copied(), "the fast path found something else first");
        }
    }
    failed.iter().map(|finding| finding.check.code()).collect()
}

/// A caller whose token was issued and checked, who authenticated five minutes ago.
pub(crate) fn caller(subject: &str, roles: &[&str], scope: &str, own: Value) -> Checked<NoOwn> {
    let key = SigningKey::hmac(Algorithm::Hs256, Secret::new((0..32).collect())).expect("a secret");
    let verifier = Verifier::new(KeySet::new([key.verifying_key()]), Expectations::access("issuer", "audience"));
    let draft = AccessDraft::of(subject)
        .audience("audience")
        .client("desk")
        .lasting(Lifetime::minutes(5))
        .roles(roles.iter().copied())
        .scopes(Scopes::parse(scope).expect("scopes"))
        .session("s1", NOW.before(Duration::from_secs(300)))
        .acr("mfa")
        .own(own);
    let token = Issuer::new("issuer", key).access(&draft, "t1", NOW).expect("a token");
    verifier.check(token, NOW).expect("an accepted token")
}
