//! The signed examples of the standards.

use vorsel_core::{Check, Expectations, KeySet, NoOwn, Object, SigningKey, Timestamp, Verifier, VerifyingKey};

const RFC_7515_A_1_KEY: &str = r#"{"kty":"oct",
    "k":"AyM1SysPpbyDfgZld3umj1qzKObwVMkoqQ-EstJQLr_T-1qS0gZH75aKtMN3Yj0iPS4hcgUuTwjAzZr1Z9CAow"}"#;
const RFC_7515_A_1: &str = "eyJ0eXAiOiJKV1QiLA0KICJhbGciOiJIUzI1NiJ9.\
    eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVlfQ.\
    dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk";
const RFC_7515_A_3_KEY: &str = r#"{"kty":"EC","crv":"P-256","x":"f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU",
    "y":"x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0","d":"jpsQnnGQmL-YBIffH1136cspYG6-0iY7X1fCE9-E9LI"}"#;
const RFC_7515_A_3: &str = "eyJhbGciOiJFUzI1NiJ9.\
    eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVlfQ.\
    DtEhU3ljbEg8L38VWAfUAqOyKAM6-Xx-F4GawxaepmXFCgfTjDxw5djxLa8ISlSApmWQxfKTUJqPP3-Kg6NU1Q";
const RFC_8037_KEY: &str = r#"{"kty":"OKP","crv":"Ed25519","d":"nWGxne_9WmC6hEr0kuwsxERJxWl7MmkZcDusAxyuf2A",
    "x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}"#;
const RFC_8037_A_4: &str = "eyJhbGciOiJFZERTQSJ9.RXhhbXBsZSBvZiBFZDI1NTE5IHNpZ25pbmc.\
    hgyY0il_MGCjP0JzlnLWG1PPOt7-09PGcvMg3AIbQR6dWbhijcNR4ki4iylGjg5BhVsPt9g7sVvpAr_MuM0KAg";

const EXPIRES: i64 = 1_300_819_380;

#[test]
fn rfc_7515_appendix_a_1_and_a_3_are_accepted_until_they_expire() {
    for (key, token) in [(RFC_7515_A_1_KEY, RFC_7515_A_1), (RFC_7515_A_3_KEY, RFC_7515_A_3)] {
        let keys = KeySet::read(key).expect("the example's key");
        let expectations = Expectations::plain("joe").skew(std::time::Duration::ZERO).expect("no skew");
        let verifier = Verifier::new(keys, expectations);
        let checked = verifier.check::<Object>(token, Timestamp::from_secs(EXPIRES - 1)).expect("an accepted token");
        assert_eq!(checked.own()["http://example.com/is_root"], true);
        let late = verifier.check::<NoOwn>(token, Timestamp::from_secs(EXPIRES)).expect_err("an expired token");
        assert_eq!(late.check, Check::Expiration);
    }
}

#[test]
fn rfc_8037_appendix_a_4_signature_holds() {
    let verifier = Verifier::new(KeySet::read(RFC_8037_KEY).expect("the key"), Expectations::plain("joe"));
    let findings = verifier.examine::<NoOwn>(RFC_8037_A_4, Timestamp::from_secs(0));
    let held = |check| findings.iter().find(|finding| finding.check == check).map(|finding| finding.held);
    assert_eq!(held(Check::Signature), Some(true));
    assert_eq!(held(Check::ClaimsForm), Some(false), "the example signs a text that is no claims");
}

#[test]
fn rfc_8037_appendix_a_3_thumbprint_is_the_key_id() {
    let key = VerifyingKey::from_jwk(RFC_8037_KEY).expect("the key");
    assert_eq!(key.key_id(), "kPrK_qmxVWaYVA9wwBF6Iuo3vVzz7TxHCTwXBygrS4k");
}

#[test]
fn private_keys_survive_a_round_trip_as_jwk() {
    for text in [RFC_7515_A_1_KEY, RFC_7515_A_3_KEY, RFC_8037_KEY] {
        let key = SigningKey::from_jwk(text).expect("the example's key");
        let again = SigningKey::from_jwk(&key.to_private_jwk().expect("a JWK")).expect("our own JWK");
        assert_eq!((again.algorithm(), again.key_id()), (key.algorithm(), key.key_id()));
    }
}
