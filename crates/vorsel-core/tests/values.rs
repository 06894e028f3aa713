//! Values as the standard library and serde know them: read from text, collected, written and read back.

use std::time::{Duration, SystemTime, UNIX_EPOCH};

use proptest::prelude::*;
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use vorsel_core::{
    AccessDraft, Algorithm, Credential, Credentials, Expectations, Issuer, KeySet, Lifetime, Scopes, Secret,
    SigningKey, Timestamp, Verifier,
};

const NOW: Timestamp = Timestamp::from_secs(1_700_000_000);

fn round<T: Serialize + DeserializeOwned>(value: &T) -> (Value, T) {
    let written = serde_json::to_value(value).expect("JSON");
    (written.clone(), serde_json::from_value(written).expect("what was written"))
}

#[test]
fn what_is_written_is_read_back_and_bad_texts_say_what_is_wrong() {
    for algorithm in Algorithm::ALL {
        assert_eq!(round(&algorithm), (json!(algorithm.name()), algorithm));
        assert_eq!(algorithm.name().parse(), Ok(algorithm));
    }
    let scopes = Scopes::of(["dome:move", "logs:read", "dome:move"]).expect("scopes");
    assert_eq!(round(&scopes), (json!("dome:move logs:read"), scopes.clone()));
    assert_eq!("dome:move logs:read".parse(), Ok(scopes));
    assert_eq!(round(&Lifetime::minutes(5)), (json!(300), Lifetime::minutes(5)));
    for kind in Credential::ALL {
        assert_eq!(kind.name().parse(), Ok(kind));
    }
    let kinds: Credentials = [Credential::Cookie, Credential::ApiKey].into_iter().collect();
    assert_eq!(kinds.iter().collect::<Vec<_>>(), [Credential::Cookie, Credential::ApiKey]);
    for (wrong, error) in [
        ("none".parse::<Algorithm>().expect_err("unsigned").to_string(), "such as EdDSA or ES256, but found \"none\""),
        ("a  b".parse::<Scopes>().expect_err("two spaces").to_string(), "one space between them, but found \"a  b\""),
        (Scopes::of(["a", ""]).expect_err("an empty one").to_string(), "but found \"a \""),
        (
            "badge".parse::<Credential>().expect_err("a badge").to_string(),
            "bearer, cookie, api-key or ticket, but found \"badge\"",
        ),
        (serde_json::from_str::<Lifetime>("0").expect_err("none").to_string(), "from 1 to 316224000 seconds"),
        (serde_json::from_str::<Algorithm>("\"RS1\"").expect_err("old").to_string(), "but found \"RS1\""),
        (serde_json::from_str::<Scopes>("\"\u{e9}\"").expect_err("not ASCII").to_string(), "visible ASCII"),
        ("{}".parse::<KeySet>().expect_err("no key").to_string(), "cannot be used"),
    ] {
        assert!(wrong.contains(error), "{wrong}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    /// Within the years that a double tells microseconds of. Nanoseconds are left out of what is read back.
    #[test]
    fn moments_are_the_same_for_the_standard_library_and_as_numbers(micros in -4_000_000_000_000_000..4_000_000_000_000_000_i64, nanos in 0..1_000_u64) {
        let moment = Timestamp::from_micros(micros);
        let time = SystemTime::from(moment);
        prop_assert_eq!(Timestamp::from(time), moment);
        prop_assert_eq!(Timestamp::from(time + Duration::from_nanos(nanos)), moment, "rounded down");
        prop_assert_eq!(time < UNIX_EPOCH, micros < 0);
        prop_assert_eq!(round(&moment).1, moment);
        prop_assert_eq!(round(&moment.whole_secs()).0, json!(moment.as_secs()));
    }
}

/// PEM does not say which of six algorithms an RSA key is for.
#[test]
fn an_rsa_key_from_pem_serves_the_algorithm_that_is_asked_for() {
    let pem = include_str!("for-tests-alone.pem");
    for algorithm in Algorithm::ALL {
        let (signing, checking) = (SigningKey::from_rsa_pem(pem, algorithm), KeySet::from_rsa_pem(pem, algorithm));
        if !["RS", "PS"].contains(&&algorithm.name()[..2]) {
            let error = signing.expect_err("not RSA").to_string();
            assert!(error.contains("an algorithm of RSA") && checking.is_err(), "{error}");
            continue;
        }
        let (signing, checking) = (signing.expect("a key"), checking.expect("a key"));
        assert_eq!((signing.algorithm(), checking.keys()[0].algorithm()), (algorithm, algorithm));
        let draft = AccessDraft::of("obs-0017").audience("a").client("desk").lasting(Lifetime::minutes(5));
        let token = Issuer::new("i", signing).access(&draft, "t1", NOW).expect("a token");
        Verifier::new(checking, Expectations::access("i", "a")).check(&token, NOW).expect("accepted");
    }
    assert_eq!(SigningKey::from_pem(pem).expect("a key").algorithm(), Algorithm::Rs256);
}

#[test]
fn a_token_may_be_for_several_audiences_and_for_later() {
    let key = SigningKey::hmac(Algorithm::Hs256, Secret::from(std::array::from_fn::<u8, 32, _>(|at| at as u8)))
        .expect("a secret");
    let keys: KeySet = [key.verifying_key()].into_iter().collect();
    let draft = AccessDraft::of("obs-0017").audience("a").client("desk").lasting(Lifetime::minutes(5));
    let issuer = Issuer::new("i", key);
    let later = NOW.after(Duration::from_millis(59_001));
    let token = issuer.access(&draft.clone().also_for("b").not_before(later), "t1", NOW).expect("a token");
    let code = |audience: &str, at: u64| {
        let verifier =
            Verifier::new(keys.clone(), Expectations::access("i", audience).skew(Duration::ZERO).expect("none"));
        let checked = verifier.check(&token, NOW.after(Duration::from_secs(at)));
        checked.map(|checked| checked.claims().audience().count()).map_err(|finding| finding.check.code())
    };
    for (audience, at, expected) in [
        ("a", 60, Ok(2)),
        ("b", 299, Ok(2)),
        ("c", 60, Err("wrong-audience")),
        ("a", 59, Err("not-yet-valid")),
        ("a", 300, Err("expired")),
    ] {
        assert_eq!(code(audience, at), expected, "{audience} {at}");
    }
    assert!(issuer.access(&draft.also_for(""), "t1", NOW).is_err(), "an empty audience");
}
