//! The signed examples of the standards. RFC 7638's is beside the thumbprints.

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
const RFC_7515_A_2_KEY: &str = r#"{"kty":"RSA","e":"AQAB",
    "n":"ofgWCuLjybRlzo0tZWJjNiuSfb4p4fAkd_wWJcyQoTbji9k0l8W26mPddxHmfHQp-Vaw-4qPCJrcS2mJPMEzP1Pt0Bm4d4QlL-yRT-SFd2lZS-pCgNMsD1W_YpRPEwOWvG6b32690r2jZ47soMZo9wGzjb_7OMg0LOL-bSf63kpaSHSXndS5z5rexMdbBYUsLA9e-KXBdQOS-UTo7WTBEMa2R2CapHg665xsmtdVMTBQY4uDZlxvb3qCo5ZwKh9kG4LT6_I5IhlJH7aGhyxXFvUK-DWNmoudF8NAco9_h9iaGNj8q2ethFkMLs91kzk2PAcDTW9gb54h4FRWyuXpoQ"}"#;
const RFC_7515_A_2: &str = "eyJhbGciOiJSUzI1NiJ9.\
    eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVlfQ.\
    cC4hiUPoj9Eetdgtv3hF80EGrhuB__dzERat0XF9g2VtQgr9PJbu3XOiZj5RZmh7AAuHIm4Bh-0Qc_lF5YKt_O8W2Fp5jujGbds9uJdbF9CUAr7t1dn\
    ZcAcQjbKBYNX4BAynRFdiuB--f_nZLgrnbyTyWzO75vRK5h6xBArLIARNPvkSjtQBMHlb1L07Qe7K0GarZRmB_eSN9383LcOLn6_dO--xi12jzDwusC-\
    eOkHWEsqtFZESc6BfI7noOPqvhJ1phCnvWh6IeYI2w9QOYEUipUTI8np6LbgGY9Fs98rqVt5AXLIhWkWywlVmtVrBp0igcN_IoypGlUPQGe77Rw";
const RFC_7515_A_4_KEY: &str = r#"{"kty":"EC","crv":"P-521",
    "x":"AekpBQ8ST8a8VcfVOTNl353vSrDCLLJXmPk06wTjxrrjcBpXp5EOnYG_NjFZ6OvLFV1jSfS9tsz4qUxcWceqwQGk",
    "y":"ADSmRA43Z1DSNx_RvcLI87cdL07l6jQyyBXMoxVg_l2Th-x3S1WDhjDly79ajL4Kkd0AZMaZmh9ubmf63e3kyMj2",
    "d":"AY5pb7A0UFiB3RELSD64fTLOSV_jazdF7fLYyuTw8lOfRhWg6Y6rUrPAxerEzgdRhajnu0ferB0d53vM9mE15j2C"}"#;
const RFC_7515_A_4: &str = "eyJhbGciOiJFUzUxMiJ9.UGF5bG9hZA.\
    AdwMgeerwtHoh-l192l60hp9wAHZFVJbLfD_UxMi70cwnZOYaRI1bKPWROc-mZZqwqT2SI-KGDKB34XO0aw_7XdtAG8GaSwFKdCAPZgoXD2YBJZCPEX3\
    xKpRwcdOO8KpEHwJjyqOgzDO7iKvU8vcnwNrmxYbSW9ERBXukOXolLzeO_Jn";
/// Not secured at all.
const RFC_7515_A_5: &str = "eyJhbGciOiJub25lIn0.\
    eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVlfQ.";
/// The signature of A.3 in the JSON serialization.
const RFC_7515_A_7: &str = r#"{"payload":
    "eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVlfQ",
    "protected":"eyJhbGciOiJFUzI1NiJ9","header":{"kid":"e9bc097a-ce51-4036-9562-d2ade882db0d"},
    "signature":"DtEhU3ljbEg8L38VWAfUAqOyKAM6-Xx-F4GawxaepmXFCgfTjDxw5djxLa8ISlSApmWQxfKTUJqPP3-Kg6NU1Q"}"#;
const RFC_8037_KEY: &str = r#"{"kty":"OKP","crv":"Ed25519","d":"nWGxne_9WmC6hEr0kuwsxERJxWl7MmkZcDusAxyuf2A",
    "x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}"#;
const RFC_8037_A_4: &str = "eyJhbGciOiJFZERTQSJ9.RXhhbXBsZSBvZiBFZDI1NTE5IHNpZ25pbmc.\
    hgyY0il_MGCjP0JzlnLWG1PPOt7-09PGcvMg3AIbQR6dWbhijcNR4ki4iylGjg5BhVsPt9g7sVvpAr_MuM0KAg";

const EXPIRES: i64 = 1_300_819_380;

#[test]
fn rfc_7515_appendix_a_1_to_a_3_are_accepted_until_they_expire() {
    for (key, token) in
        [(RFC_7515_A_1_KEY, RFC_7515_A_1), (RFC_7515_A_2_KEY, RFC_7515_A_2), (RFC_7515_A_3_KEY, RFC_7515_A_3)]
    {
        let keys = KeySet::read(key).expect("the example's key");
        let expectations = Expectations::plain("joe").skew(std::time::Duration::ZERO).expect("no skew");
        let verifier = Verifier::new(keys, expectations);
        let checked = verifier.check_as::<Object>(token, Timestamp::from_secs(EXPIRES - 1)).expect("an accepted token");
        assert_eq!(checked.own()["http://example.com/is_root"], true);
        let late = verifier.check(token, Timestamp::from_secs(EXPIRES)).expect_err("an expired token");
        assert_eq!(late.check, Check::Expiration);
    }
}

#[test]
fn rfc_7515_appendix_a_4_and_rfc_8037_appendix_a_4_signatures_hold() {
    for (key, token) in [(RFC_7515_A_4_KEY, RFC_7515_A_4), (RFC_8037_KEY, RFC_8037_A_4)] {
        let verifier = Verifier::new(KeySet::read(key).expect("the key"), Expectations::plain("joe"));
        let findings = verifier.examine::<NoOwn>(token, Timestamp::from_secs(0));
        let held = |check| findings.iter().find(|finding| finding.check == check).map(|finding| finding.held);
        assert_eq!(held(Check::Signature), Some(true));
        assert_eq!(held(Check::ClaimsForm), Some(false), "the example signs a text that is no claims");
    }
}

#[test]
fn rfc_7515_appendix_a_5_and_a_7_are_refused() {
    let verifier = Verifier::new(KeySet::read(RFC_7515_A_3_KEY).expect("the key"), Expectations::plain("joe"));
    let check = |token| verifier.check(token, Timestamp::from_secs(0)).expect_err("refused");
    assert_eq!(check(RFC_7515_A_5).check, Check::Algorithm);
    assert_eq!(check(RFC_7515_A_7).to_string().split(':').next(), Some("malformed"));
}

#[test]
fn rfc_8037_appendix_a_3_thumbprint_is_the_key_id() {
    let key = VerifyingKey::from_jwk(RFC_8037_KEY).expect("the key");
    assert_eq!(key.key_id(), "kPrK_qmxVWaYVA9wwBF6Iuo3vVzz7TxHCTwXBygrS4k");
}

#[test]
fn private_keys_survive_a_round_trip_as_jwk() {
    for text in [RFC_7515_A_1_KEY, RFC_7515_A_3_KEY, RFC_7515_A_4_KEY, RFC_8037_KEY] {
        let key = SigningKey::from_jwk(text).expect("the example's key");
        let again = SigningKey::from_jwk(&key.to_private_jwk().expect("a JWK")).expect("our own JWK");
        assert_eq!((again.algorithm(), again.key_id()), (key.algorithm(), key.key_id()));
    }
}
