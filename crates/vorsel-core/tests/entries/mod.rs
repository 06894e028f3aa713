//! What the fuzzer calls: one function for each reader, with the promises that must hold for any bytes. The fuzz targets
//! and the test `seeds` include this file.

use aws_lc_rs::hmac;
use serde_json::Value;
use vorsel_core::rule::Rule;
use vorsel_core::{
    Access, AccessPlan, Algorithm, Expectations, KeySet, Object, Secret, SigningKey, Timestamp, UncheckedToken,
    Verdict, Verifier, VerifyingKey, base64url,
};

pub(crate) const ISSUER: &str = "https://id.skarnhill.test";
pub(crate) const AUDIENCE: &str = "https://api.skarnhill.test";
pub(crate) const NOW: Timestamp = Timestamp::from_secs(1_700_000_000);
const HEADER: &str = r#"{"alg":"HS256","typ":"at+jwt","kid":"hill"}"#;
const CLAIMS: &str = r#"{"iss":"https://id.skarnhill.test","aud":"https://api.skarnhill.test","sub":"obs-0017","client_id":"desk","jti":"t1","iat":1699999900,"exp":1700000100}"#;

fn secret() -> Vec<u8> {
    (0..32).collect()
}

pub(crate) fn verifier() -> Verifier {
    let key = SigningKey::hmac(Algorithm::Hs256, Secret::new(secret())).expect("a secret").named("hill");
    Verifier::new(KeySet::new([key.verifying_key()]), Expectations::access(ISSUER, AUDIENCE))
}

/// Signs any two byte strings as no issuer of ours would.
pub(crate) fn signed(header: &[u8], payload: &[u8]) -> String {
    let input = format!("{}.{}", base64url::encode(header), base64url::encode(payload));
    let key = hmac::Key::new(hmac::HMAC_SHA256, &secret());
    format!("{input}.{}", base64url::encode(hmac::sign(&key, input.as_bytes())))
}

/// The fast path and the full list agree on the verdict, on the first failure and on the claims. Whether accepted.
fn agrees(token: &[u8]) -> bool {
    let verifier = verifier();
    let findings = verifier.examine::<Object>(token, NOW);
    match verifier.check_as::<Object>(token, NOW) {
        Ok(checked) => assert_eq!(findings.accepted(), Some(&checked)),
        Err(first) => {
            assert!(findings.accepted().is_none());
            assert_eq!(findings.refused_for().next(), Some(&*first));
            assert!(!first.to_string().contains('\n'), "a finding is one line");
        }
    }
    findings.accepted().is_some()
}

/// Any bytes as a token.
pub(crate) fn token(bytes: &[u8]) {
    let accepted = agrees(bytes);
    let unchecked = UncheckedToken::read(bytes);
    if accepted {
        let unchecked = unchecked.expect("what is accepted can be looked at");
        assert_eq!(unchecked.claim("iss").and_then(Value::as_str), Some(ISSUER));
        // One token has one spelling.
        let text = std::str::from_utf8(bytes).expect("base64url is ASCII");
        let spelled: Vec<_> =
            text.split('.').map(|part| base64url::encode(base64url::decode(part).expect("base64url"))).collect();
        assert_eq!(spelled.join("."), text);
    }
}

/// Any bytes as a header that is signed.
pub(crate) fn header(bytes: &[u8]) {
    if agrees(signed(bytes, CLAIMS.as_bytes()).as_bytes()) {
        let header: Object = serde_json::from_slice(bytes).expect("what is accepted is JSON");
        assert_eq!(header.get("alg"), Some(&Value::from("HS256")));
        assert!(header.get("kid").is_none_or(|kid| kid == "hill"));
        assert!(!header.contains_key("crit"));
    }
}

/// Any bytes as claims that are signed: what is accepted, another reader reads alike.
pub(crate) fn claims(bytes: &[u8]) {
    let token = signed(HEADER.as_bytes(), bytes);
    if agrees(token.as_bytes()) {
        let other: Object = serde_json::from_slice(bytes).expect("what is accepted is JSON");
        let checked = verifier().check_as::<Object>(&token, NOW).expect("accepted");
        let claims = checked.claims();
        for (name, value) in [
            ("iss", claims.issuer()),
            ("sub", claims.subject()),
            ("client_id", claims.client_id()),
            ("jti", claims.id()),
            ("sid", claims.session_id()),
        ] {
            assert_eq!(other.get(name).and_then(Value::as_str), value, "{name}");
        }
        assert!(checked.own().iter().all(|(name, value)| other.get(name) == Some(value)));
        let scopes: Vec<_> = claims.scopes().collect();
        assert_eq!(other.get("scope").and_then(Value::as_str).unwrap_or_default(), scopes.join(" "));
    }
}

/// Any bytes as a JWK, a JWK Set or PEM: what is read and written again is the same key.
pub(crate) fn key(bytes: &[u8]) {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    for key in KeySet::read(text).iter().flat_map(|set| set.keys()) {
        if let Some(public) = key.to_public_jwk() {
            let again = VerifyingKey::from_jwk(&Value::Object(public).to_string()).expect("what was written is read");
            assert_eq!((again.key_id(), again.algorithm()), (key.key_id(), key.algorithm()));
        }
    }
    for key in [SigningKey::from_jwk(text), SigningKey::from_pem(text)].into_iter().flatten() {
        let written = key.to_private_jwk().expect("a JWK");
        let again = SigningKey::from_jwk(&written).expect("what was written is read");
        assert_eq!((again.key_id(), again.algorithm()), (key.key_id(), key.algorithm()));
    }
}

/// The text of an access plan. Mistakes have places in the text; a plan that loads prints rules that read back, is the same
/// as itself, and every example it gives bears its answer out.
pub(crate) fn plan(bytes: &[u8]) {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let plan = match AccessPlan::read(text, "access.toml") {
        Ok(plan) => plan,
        Err(error) => {
            assert!(!error.mistakes().is_empty() && !error.to_string().is_empty());
            for place in error.mistakes().iter().filter_map(|mistake| mistake.place) {
                assert!((1..=text.matches('\n').count() + 1).contains(&place.line), "{place:?}");
            }
            return;
        }
    };
    for route in plan.routes() {
        if let Access::Need(rule) = route.access() {
            assert_eq!(Rule::parse(&rule.to_string()).as_ref(), Ok(rule), "{rule}");
        }
        drop(plan.decide(route.method(), route.path(), None, NOW));
    }
    assert_eq!(plan.compare(&plan), []);
    let nothing = AccessPlan::builder().open("TRACE", "/nothing-at-all").build().expect("a plan");
    for change in nothing.compare(&plan) {
        for gained in change.gains {
            let caller = gained.witness.caller(NOW);
            let verdict = plan.why(gained.witness.method(), gained.witness.path(), caller.as_ref(), NOW).verdict;
            assert!(matches!(verdict, Verdict::Open | Verdict::Allowed), "{}: {verdict:?}", gained.witness);
        }
    }
    assert!(plan.table().rows.len() == plan.routes().len());
}
